"""The smallest estates that show the faults of certificates' files, with files made for them: src/portolan/faults/cert-*.yaml.

    python scripts/make_certificate_examples.py [CODE ...]

Keys are made anew each time, for nobody but these examples. The words of a page stay as they are.
"""

import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

sys.path.insert(0, str(Path(__file__).parent.parent))

from portolan.formats.yaml_nodes import compose, plain_data
from scripts.make_fault_examples import PAGES, write

NAME = "visit.kestrel-ridge.example"
NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
KEYS = {name: ec.generate_private_key(ec.SECP256R1()) for name in ("Root", "Middle", "Other", NAME, "old")}
CLIENTS = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH])
BIRDS = x509.NameConstraints([x509.DNSName("birds.example")], None)

ESTATE = """portolan: 1
at: 2026-03-14T20:00:00Z
hosts:
  orion:
    interfaces: {line: {network: internet, address: 203.0.113.40}}
    services: {web: {program: nginx, listens: [443 tls], sites: {visit: {certificate: visit}}}}
certificates:
  visit: {file: visit.pem}
authorities:
  Root: {file: root.pem}
zones:
  kestrel-ridge.example:
    records:
      - visit 3600 A 203.0.113.40
vantages:
  street: {network: internet, address: 198.51.100.77}
expected:
  - {url: https://visit.kestrel-ridge.example/, from: street, page: visit/index.html}
"""


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def pem(
    subject: str, issuer: str, *extensions: x509.ExtensionType, key: rsa.RSAPrivateKey | None = None, days: int = 90
) -> str:
    """A certificate; an authority's where it is not the server's. It ends some days after the estate's moment."""
    server = subject == NAME
    builder = x509.CertificateBuilder().subject_name(_name(subject)).issuer_name(_name(issuer))
    builder = builder.public_key((key or KEYS[subject]).public_key()).serial_number(x509.random_serial_number())
    builder = builder.not_valid_before(NOW - timedelta(days=300)).not_valid_after(NOW + timedelta(days=days))
    builder = builder.add_extension(x509.BasicConstraints(not server, None), critical=True)
    if server:
        builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(NAME)]), critical=False)
    for extension in extensions:
        builder = builder.add_extension(extension, critical=isinstance(extension, x509.NameConstraints))
    return builder.sign(KEYS[issuer], hashes.SHA256()).public_bytes(Encoding.PEM).decode()


def key_of(name: str) -> str:
    """A private key's file."""
    return KEYS[name].private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


LEAF, MIDDLE, ROOT = pem(NAME, "Middle"), pem("Middle", "Root"), pem("Root", "Root")
_LEAF, _MIDDLE = "the server's certificate", "that of the authority which signed it"
_ROOT = {"root.pem": ("the authority that visitors trust", ROOT)}
_RIGHT = {"right.pem": (f"{_LEAF}, then {_MIDDLE}", LEAF + MIDDLE)}
_KEY = {"visit.key": ("its key", key_of(NAME))}

#: By code: what the bad file holds; the lines of the certificate, bad and good; the files beside.
EXAMPLES: dict[str, tuple[tuple[str, str], str, str, dict[str, tuple[str, str]]]] = {
    "cert-chain-expired": (
        (f"{_LEAF}, then {_MIDDLE}, which is over", LEAF + pem("Middle", "Root", days=-1)),
        "file: visit.pem",
        "file: right.pem",
        _RIGHT,
    ),
    "cert-chain-foreign": (
        (f"{_LEAF}, then that of another authority", LEAF + pem("Other", "Root")),
        "file: visit.pem",
        "file: right.pem",
        _RIGHT,
    ),
    "cert-use": (
        (f"{_LEAF}, which is for clients, then {_MIDDLE}", pem(NAME, "Middle", CLIENTS) + MIDDLE),
        "file: visit.pem",
        "file: right.pem",
        _RIGHT,
    ),
    "cert-constraint": (
        (f"{_LEAF}, then {_MIDDLE}, which may sign for birds.example only", LEAF + pem("Middle", "Root", BIRDS)),
        "file: visit.pem",
        "file: right.pem",
        _RIGHT,
    ),
    "cert-weak": (
        (
            f"{_LEAF} with a key of 1,024 bits, then {_MIDDLE}",
            pem(NAME, "Middle", key=rsa.generate_private_key(65537, 1024)) + MIDDLE,
        ),
        "file: visit.pem",
        "file: right.pem",
        _RIGHT,
    ),
    "cert-key-differs": (
        (f"{_LEAF}, then {_MIDDLE}", LEAF + MIDDLE),
        "file: visit.pem, key: old.key",
        "file: visit.pem, key: visit.key",
        {"old.key": ("the key of the certificate before", key_of("old")), **_KEY},
    ),
    "cert-order": (
        (f"the certificate of the authority, then {_LEAF}", MIDDLE + LEAF),
        "file: visit.pem, key: visit.key",
        "file: right.pem, key: visit.key",
        _RIGHT | _KEY,
    ),
    "cert-file": (
        (f"{_LEAF} and {_MIDDLE}, run together on one line", LEAF.rstrip("\n") + MIDDLE),
        "file: visit.pem, key: visit.key",
        "file: right.pem, key: visit.key",
        _RIGHT | _KEY,
    ),
}


def main() -> int:
    """Writes the files of the pages."""
    for code, (held, bad, good, beside) in EXAMPLES.items():
        if sys.argv[1:] and code not in sys.argv[1:]:
            continue
        path = PAGES / f"{code}.yaml"
        said = plain_data(compose(path.name, path.read_bytes()))
        files = {
            name: {"holds": holds, "text": text}
            for name, (holds, text) in {"visit.pem": held, **beside, **_ROOT}.items()
        }
        line = "  visit: {file: visit.pem}\n"
        texts = {key: ESTATE.replace(line, f"  visit: {{{facts}}}\n") for key, facts in (("bad", bad), ("good", good))}
        write(path, {**said, "ask": f"https://{NAME}/", "from": "street", **texts, "files": files})
    return 0


if __name__ == "__main__":
    sys.exit(main())
