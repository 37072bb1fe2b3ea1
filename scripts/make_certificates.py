"""Makes the PEM certificates of the shipped stories: one root, one certificate with two intermediates' worth of names.

The private keys are thrown away; nothing here can be used by anybody.
"""

from datetime import UTC, datetime
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

STORIES = Path(__file__).resolve().parent.parent / "src" / "portolan" / "stories"
START, ROOT_END, END = (
    datetime(2026, 1, 10, tzinfo=UTC),
    datetime(2036, 1, 10, tzinfo=UTC),
    datetime(2026, 7, 10, tzinfo=UTC),
)
NAMES = ("visit.kestrel-ridge.example", "www.kestrel-ridge.example", "kestrel-ridge.example")


def named(common: str) -> x509.Name:
    """A subject with a common name only."""
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, common)])


def certificate(
    subject: str,
    issuer: str,
    key: ec.EllipticCurvePrivateKey,
    signer: ec.EllipticCurvePrivateKey,
    end: datetime,
    names: tuple[str, ...] = (),
) -> x509.Certificate:
    """A certificate; an authority's when it has no names."""
    builder = (
        x509.CertificateBuilder()
        .subject_name(named(subject))
        .issuer_name(named(issuer))
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(START)
        .not_valid_after(end)
        .add_extension(x509.BasicConstraints(ca=not names, path_length=None), critical=True)
    )
    if names:
        builder = builder.add_extension(
            x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), critical=False
        )
        builder = builder.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
    return builder.sign(signer, hashes.SHA256())


def main() -> None:
    """Writes the files."""
    root_key, middle_key, leaf_key = (ec.generate_private_key(ec.SECP256R1()) for _ in range(3))
    root = certificate("Ridge Root", "Ridge Root", root_key, root_key, ROOT_END)
    middle = certificate("Ridge Issuing 1", "Ridge Root", middle_key, root_key, ROOT_END)
    leaf = certificate(NAMES[0], "Ridge Issuing 1", leaf_key, middle_key, END, NAMES)
    for story in ("inside-only", "first-light"):
        folder = STORIES / story / "certificates"
        folder.mkdir(exist_ok=True)
        (folder / "visit.pem").write_bytes(leaf.public_bytes(Encoding.PEM) + middle.public_bytes(Encoding.PEM))
        (folder / "ridge-root.pem").write_bytes(root.public_bytes(Encoding.PEM))
        print(f"wrote {folder.name} of {story}")


if __name__ == "__main__":
    main()
