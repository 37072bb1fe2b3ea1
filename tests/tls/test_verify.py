"""Certificates: which one shows, and what the visitor makes of it; PEM chains are made here by the library."""

import itertools
import shutil
import subprocess
from datetime import timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from portolan.tls.verify import covers
from tests.conftest import NOW, OFFICE, ask, got, swap

DAY = timedelta(days=1)


class Maker:
    """Makes certificates that sign each other."""

    def __init__(self) -> None:
        self.keys = {name: ec.generate_private_key(ec.SECP256R1()) for name in ("root", "middle", "leaf", "stranger")}

    def make(
        self,
        subject,
        issuer,
        *names,
        starts=NOW - DAY,
        until=NOW + 90 * DAY,
        ca=False,
        usage=ExtendedKeyUsageOID.SERVER_AUTH,
        below=None,
        may=None,
    ):
        """One certificate as PEM."""

        def named(text: str) -> x509.Name:
            return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])

        builder = (x509.CertificateBuilder().subject_name(named(subject)).issuer_name(named(issuer)).serial_number(7)
                   .public_key(self.keys[subject].public_key()).not_valid_before(starts).not_valid_after(until)
                   .add_extension(x509.BasicConstraints(ca=ca, path_length=below), critical=True))  # fmt: skip
        if names:
            builder = builder.add_extension(
                x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), critical=False
            )
            builder = builder.add_extension(x509.ExtendedKeyUsage([usage]), critical=False)
        if may is not None:
            kinds = ("digital_signature", "content_commitment", "key_encipherment", "data_encipherment", "key_agreement",
                     "key_cert_sign", "crl_sign", "encipher_only", "decipher_only")  # fmt: skip
            builder = builder.add_extension(x509.KeyUsage(**{kind: kind in may for kind in kinds}), critical=True)
        return builder.sign(self.keys[issuer], hashes.SHA256()).public_bytes(Encoding.PEM).decode()

    def key(self, name):
        """A private key as PEM."""
        return self.keys[name].private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


MAKER = Maker()
ROOT = MAKER.make("root", "root", ca=True, until=NOW + 900 * DAY)
MIDDLE = MAKER.make("middle", "root", ca=True, until=NOW + 900 * DAY)
NAME = "visit.kestrel-ridge.example"
DECLARED = '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01}\n'
PEM = swap(
    OFFICE,
    (DECLARED, "  visit: {file: visit.pem}\nauthorities:\n  Root: {file: root.pem}\n  Middle: {file: middle.pem}\n"),
)
PEM_ROOT = swap(OFFICE, (DECLARED, "  visit: {file: visit.pem}\nauthorities:\n  Root: {file: root.pem}\n"))


def answer(pem: str, text: str = PEM, **more: str) -> str:
    """What the visitor gets with a PEM chain."""
    return got(ask(text, **{"visit.pem": pem, "root.pem": ROOT, "middle.pem": MIDDLE, **more}))


@pytest.mark.parametrize(
    ("pem", "expected"),
    [
        (lambda: MAKER.make("leaf", "middle", NAME) + MIDDLE, "visit/index.html"),
        (lambda: MAKER.make("leaf", "middle", NAME) + MIDDLE + ROOT, "visit/index.html"),
        (lambda: MAKER.make("leaf", "middle", NAME), "incomplete-chain"),
        (lambda: MAKER.make("leaf", "root", NAME), "visit/index.html"),
        (lambda: MAKER.make("leaf", "leaf", NAME), "self-signed"),
        (lambda: MAKER.make("leaf", "stranger", NAME), "unknown-issuer"),
        (lambda: MAKER.make("leaf", "stranger", NAME) + MAKER.make("stranger", "stranger", ca=True), "unknown-issuer"),
        (lambda: MAKER.make("leaf", "middle", NAME, until=NOW - timedelta(hours=1)) + MIDDLE, "expired"),
        (lambda: MAKER.make("leaf", "middle", NAME, starts=NOW + DAY) + MIDDLE, "not-yet-valid"),
        (lambda: MAKER.make("leaf", "middle", "else.example") + MIDDLE, "name-mismatch"),
        (lambda: MAKER.make("leaf", "middle", "else.example", until=NOW - timedelta(hours=1)) + MIDDLE, "expired"),
        (lambda: MAKER.make("leaf", "middle", "*.kestrel-ridge.example") + MIDDLE, "visit/index.html"),
        (lambda: MAKER.make("leaf", "middle", NAME, usage=ExtendedKeyUsageOID.CLIENT_AUTH) + MIDDLE, "other"),
    ],
)  # fmt: skip
def test_pem_chains(pem, expected):
    """Each result of the visitor's checks, in their order."""
    assert answer(pem()) == expected


@pytest.mark.skipif(shutil.which("openssl") is None, reason="needs OpenSSL's own program")
def test_what_certificates_may_be_used_for(tmp_path):
    """How many authorities may stand below one, and what a key may sign: as OpenSSL judges every combination."""
    ways = itertools.product(
        (None, 0, 1),
        (None, 0),
        ((), ("crl_sign",), ("key_cert_sign",)),
        (None, "digital_signature", "key_agreement", "key_cert_sign"),
    )
    seen = set()
    for root_below, below, signs, serves in ways:
        root = MAKER.make("root", "root", ca=True, below=root_below)
        middle = MAKER.make("middle", "root", ca=True, below=below, may=signs or None)
        for chain in ([middle], [MAKER.make("stranger", "middle", ca=True), middle]):
            leaf = MAKER.make("leaf", "middle" if len(chain) == 1 else "stranger", NAME, may=serves and (serves,))
            for name, text in (("root", root), ("chain", "".join(chain)), ("leaf", leaf)):
                (tmp_path / name).write_text(text)
            done = subprocess.run(
                ["openssl", "verify", "-purpose", "sslserver", "-attime", str(int(NOW.timestamp())), "-CAfile", "root", "-untrusted", "chain", "leaf"],
                cwd=tmp_path, capture_output=True, text=True, check=False)  # fmt: skip
            found = answer(leaf + "".join(chain), PEM_ROOT, **{"root.pem": root})
            facts = (root_below, below, signs, serves, len(chain))
            assert (facts, found) == (facts, "visit/index.html" if done.returncode == 0 else "other"), done.stderr
            seen.add(found)
    assert seen == {"visit/index.html", "other"}


def test_an_undescribed_issuer_is_assumed_trusted():
    """Without any authority in the estate, a chain that ends at an unknown issuer is assumed to be an ordinary one."""
    text = swap(OFFICE, (DECLARED, "  visit: {file: visit.pem}\n"))
    found = ask(text, **{"visit.pem": MAKER.make("leaf", "middle", NAME) + MIDDLE})
    assert got(found) == "visit/index.html"
    assert "trust-assumed" in [each.kind for each in found.assumptions]
    # A leaf sent alone: no root signs a server's certificate itself.
    assert got(ask(text, **{"visit.pem": MAKER.make("leaf", "stranger", NAME)})) == "incomplete-chain"
    assert got(ask(text, **{"visit.pem": MAKER.make("leaf", "leaf", NAME)})) == "self-signed"


def test_a_key_of_another_certificate_keeps_the_service_down():
    """nginx and Apache httpd both refuse to start."""
    text = swap(PEM, ("{file: visit.pem}", "{file: visit.pem, key: visit.key}"))
    pem = MAKER.make("leaf", "middle", NAME) + MIDDLE
    assert answer(pem, text, **{"visit.key": MAKER.key("leaf")}) == "visit/index.html"
    assert answer(pem, text, **{"visit.key": MAKER.key("stranger")}) == "refused"


@pytest.mark.parametrize(
    ("declared", "expected"),
    [
        ("{names: [visit.kestrel-ridge.example]}", "visit/index.html"),
        ("{names: [visit.kestrel-ridge.example], issuer: self}", "self-signed"),
        ("{names: [visit.kestrel-ridge.example], issuer: House}", "unknown-issuer"),
        ("{names: [visit.kestrel-ridge.example], issuer: Wide}", "visit/index.html"),
        ("{names: [visit.kestrel-ridge.example], issuer: Between}", "visit/index.html"),
        ("{names: [visit.kestrel-ridge.example], issuer: Between, sends_chain: false}", "incomplete-chain"),
        ("{names: [visit.kestrel-ridge.example], until: 2026-03-14T19:59:59Z}", "expired"),
        ("{names: [visit.kestrel-ridge.example], from: 2026-03-14T20:00:01Z}", "not-yet-valid"),
        ("{names: [kestrel-ridge.example]}", "name-mismatch"),
        ('{names: ["*.example"]}', "name-mismatch"),
    ],
)
def test_declared_certificates(declared, expected):
    """The same results without PEM."""
    text = swap(
        OFFICE,
        (
            DECLARED,
            f"  visit: {declared}\nauthorities:\n  House: {{public: false}}\n  Wide: {{}}\n  Between: {{issued_by: Wide}}\n",
        ),
    )
    assert got(ask(text)) == expected


def test_the_visitors_own_trust_and_clock():
    """An in-house root for those who have it; a clock that is wrong."""
    text = swap(OFFICE, (DECLARED, "  visit: {names: [visit.kestrel-ridge.example], issuer: House, until: 2026-06-01}\n"
                                   "authorities: {House: {public: false}}\n"))  # fmt: skip
    trusting = swap(text, ("address: 198.51.100.77,", "address: 198.51.100.77, trusts: [public, House],"))
    assert (got(ask(text)), got(ask(trusting))) == ("unknown-issuer", "visit/index.html")
    assert got(ask(swap(trusting, ("trusts:", "clock: 2027-01-01, trusts:")))) == "expired"


def test_which_certificate_shows():
    """By server name, else the default site's; nginx borrows the default's, Apache httpd does not start without one."""
    text = swap(
        OFFICE,
        (
            "names: [other.kestrel-ridge.example]\n            certificate: visit",
            "names: [other.kestrel-ridge.example]",
        ),
    )
    found = ask(text, "https://other.kestrel-ridge.example/")
    assert got(found) == "other/index.html"
    assert "shows-others" in [each.kind for each in found.decisions]
    assert (
        got(ask(swap(text, ("program: nginx", "program: apache")), "https://other.kestrel-ridge.example/")) == "refused"
    )
    without = swap(
        OFFICE,
        ("            certificate: visit\n            files: [index.html, ton", "            files: [index.html, ton"),
    )
    assert got(ask(without)) == "refused"
    assert got(ask(OFFICE, "https://203.0.113.40/")) == "name-mismatch"


@pytest.mark.parametrize(
    ("pattern", "host", "covered"),
    [
        ("a.example", "a.example", True), ("A.example", "a.EXAMPLE", True), ("a.example", "a.example.", True),
        ("*.example", "a.example", False), ("*.b.example", "a.b.example", True), ("*.example", "a.b.example", False), ("*.example", "example", False),
        ("a*.example", "ab.example", False), ("*", "example", False), ("a.example", "b.example", False),
    ],
)  # fmt: skip
def test_names_on_certificates(pattern, host, covered):
    """RFC 9525 section 6.3: exact, or a whole left-most label."""
    assert covers(pattern, host, None) is covered


def test_times_are_compared_in_utc():
    """An offset in the estate does not shift validity."""
    text = swap(
        OFFICE,
        ("until: 2026-06-01}", "until: 2026-03-14T22:30:00+02:00}"),
        ("at: 2026-03-14T20:00:00Z", "at: 2026-03-14T20:29:00Z"),
    )
    assert got(ask(text)) == "visit/index.html"
    assert got(ask(swap(text, ("20:29:00", "20:31:00")))) == "expired"
