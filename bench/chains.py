"""An estate with many certificates below one intermediate, each of which is verified for the first time."""

from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import NameOID

NAME = "visit.kestrel-ridge.example"
_NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
_Key = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey


def many_chains(count: int, elliptic: bool) -> dict[str, str]:
    """The files of the estate, `estate.yaml` among them."""
    root, middle, leaf = (_key(elliptic) for _ in range(3))
    between = _pem("Observatory Middle", middle, "Observatory Root", root, authority=True)
    files = {"root.pem": _pem("Observatory Root", root, "Observatory Root", root, authority=True)}
    lines = ["portolan: 1", f"at: {_NOW.isoformat()}", "authorities:", "  house: {file: root.pem}", "certificates:"]
    for number in range(count):
        files[f"{number}.pem"] = _pem(f"leaf {number}", leaf, "Observatory Middle", middle, authority=False) + between
        lines.append(f"  c{number}: {{file: {number}.pem}}")
    lines += ["vantages:", "  street: {network: internet, address: 198.51.100.7, trusts: [house]}", ""]
    return files | {"estate.yaml": "\n".join(lines)}


def _key(elliptic: bool) -> _Key:
    return ec.generate_private_key(ec.SECP256R1()) if elliptic else rsa.generate_private_key(65537, 2048)


def _pem(subject: str, key: _Key, issuer: str, by: _Key, authority: bool) -> str:
    named, above = (x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, each)]) for each in (subject, issuer))
    builder = x509.CertificateBuilder().subject_name(named).issuer_name(above).public_key(key.public_key())
    builder = builder.serial_number(x509.random_serial_number())
    builder = builder.not_valid_before(_NOW - timedelta(days=1)).not_valid_after(_NOW + timedelta(days=80))
    builder = builder.add_extension(x509.BasicConstraints(authority, None), True)
    if not authority:
        builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(NAME)]), False)
    return builder.sign(by, hashes.SHA256()).public_bytes(Encoding.PEM).decode()
