"""Chains as real servers send them, each with its verdict, its code and its smallest remedy."""

import datetime

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from portolan.diagnosis.lint import lint
from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed, load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, swap

NOW = datetime.datetime(2026, 3, 14, 20)
DAY = datetime.timedelta(days=1)
HOST = "visit.kestrel-ridge.example"
DECLARED = '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01}\n'
KEYS = {name: ec.generate_private_key(ec.SECP256R1()) for name in ("Root", "Middle", "Other", "leaf")}
SHORT = rsa.generate_private_key(65537, 1024)


def named(text):
    """A name of one part."""
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def made(subject, issuer, *extensions, until=NOW + 90 * DAY, key=None, names=(HOST,), called=None):
    """A certificate in PEM; an authority's where it is no leaf."""
    authority = subject != "leaf"
    public = (key or KEYS[subject]).public_key()
    builder = (
        x509.CertificateBuilder()
        .subject_name(named(HOST if subject == "leaf" else subject))
        .issuer_name(named(called or issuer))
    )
    builder = (
        builder.serial_number(x509.random_serial_number())
        .public_key(public)
        .not_valid_before(NOW - 30 * DAY)
        .not_valid_after(until)
    )
    builder = builder.add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
    if names and not authority:
        builder = builder.add_extension(
            x509.SubjectAlternativeName([x509.DNSName(each) for each in names]), critical=False
        )
    for each, critical in extensions:
        builder = builder.add_extension(each, critical)
    return builder.sign(KEYS[issuer], hashes.SHA256()).public_bytes(Encoding.PEM).decode()


ROOT, MIDDLE = made("Root", "Root"), made("Middle", "Root")
LEAF = made("leaf", "Middle")
CLIENTS = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH])
BOUND = x509.NameConstraints([x509.DNSName("corp.example")], None)
ODD = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3.4.5"), b"\x05\x00")

#: What is sent, what the estate knows of authorities, and the code; nothing where the visitor gets the page.
CHAINS = {
    "whole, no authority described": (LEAF + MIDDLE, "", None),
    "whole, another root described": (LEAF + MIDDLE, made("Other", "Other"), None),
    "the leaf alone, no authority described": (LEAF, "", "cert-chain-incomplete"),
    "another's intermediate behind it": (LEAF + made("Other", "Root"), "", "cert-chain-foreign"),
    "the intermediate is over": (LEAF + made("Middle", "Root", until=NOW - DAY), ROOT, "cert-chain-expired"),
    "an expired twin beside the renewed one": (LEAF + made("Middle", "Root", until=NOW - DAY) + MIDDLE, ROOT, None),
    "an intermediate for clients": (LEAF + made("Middle", "Root", (CLIENTS, False)), ROOT, "cert-use"),
    "an extension that nobody knows": (made("leaf", "Middle", (ODD, True)) + MIDDLE, ROOT, "cert-use"),
    "an authority of another domain": (LEAF + made("Middle", "Root", (BOUND, True)), ROOT, "cert-constraint"),
    "a short key": (made("leaf", "Middle", key=SHORT) + MIDDLE, ROOT, "cert-weak"),
    "the issuer written otherwise": (made("leaf", "Middle", called="MIDDLE") + MIDDLE, ROOT, None),
    "two roots in one file": (LEAF + MIDDLE, made("Other", "Other") + ROOT, None),
    "the lower of two left out": (made("leaf", "Other") + MIDDLE, ROOT + made("Other", "Middle"), "cert-chain-incomplete"),
    "a common name alone": (made("leaf", "Middle", names=()) + MIDDLE, ROOT, None),
    "a star below one label": (made("leaf", "Middle", names=("*.example",)) + MIDDLE, ROOT, "cert-name"),
}  # fmt: skip


@pytest.mark.parametrize("what", CHAINS)
def test_a_chain_has_its_verdict_and_its_code(what):
    """As curl takes it; where it fails, the first remedy, applied, brings the page."""
    pem, authority, code = CHAINS[what]
    text = swap(
        OFFICE,
        (
            DECLARED,
            "  visit: {file: visit.pem}\n" + ("authorities:\n  Known: {file: known.pem}\n" if authority else ""),
        ),
    )
    held = load(MemoryFiles({"estate.yaml": text, "visit.pem": pem, "known.pem": authority}), "estate.yaml")
    world = World(held.estate, held.estate.at)
    found = explain(
        world,
        f"https://{HOST}/",
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )
    assert [each.code for each in found.causes] == ([] if code is None else [code])
    if code is None:
        assert found.visit.outcome.page == "visit/index.html"
    else:
        assert found.after is not None
        assert found.after.outcome.page == "visit/index.html"


def test_a_common_name_alone_is_nothing_to_a_browser():
    """Chromium looks at alternative names only."""
    pem = made("leaf", "Middle", names=()) + MIDDLE
    text = swap(
        OFFICE,
        (DECLARED, "  visit: {file: visit.pem}\n"),
        ("address: 198.51.100.77,", "address: 198.51.100.77, like: chromium,"),
    )
    held = load(MemoryFiles({"estate.yaml": text, "visit.pem": pem}), "estate.yaml")
    world = World(held.estate, held.estate.at)
    found = explain(
        world,
        f"https://{HOST}/",
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )
    assert [each.code for each in found.causes] == ["cert-name"]


def explained(pem, key):
    """What is said of a certificate in a file with its key in another."""
    text = swap(OFFICE, (DECLARED, "  visit: {file: visit.pem, key: visit.key}\n"))
    held = load(MemoryFiles({"estate.yaml": text, "visit.pem": pem, "visit.key": key}), "estate.yaml")
    world = World(held.estate, held.estate.at)
    return explain(
        world,
        f"https://{HOST}/",
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )


def secret(password=None):
    """The leaf's key."""
    lock = BestAvailableEncryption(password) if password else NoEncryption()
    return KEYS["leaf"].private_bytes(Encoding.PEM, PrivateFormat.PKCS8, lock).decode()


def test_the_file_of_another_site_beside_the_key():
    """The pair is installed; no other name is put on the certificate of the other site."""
    pem = made("leaf", "Middle", names=("shop.kestrel-ridge.example",), key=KEYS["Middle"]) + MIDDLE
    found = explained(pem, secret())
    assert [each.code for each in found.causes] == ["cert-key-differs"]
    assert "is that of shop.kestrel-ridge.example" in found.remedies[0].text
    assert found.after.outcome.page == "visit/index.html"


#: A file as it is written, its key, and the code; nothing where servers start with it (measured: nginx, Apache httpd).
FILES = {
    "with a byte order mark and lines of Windows": ("\ufeff" + (LEAF + MIDDLE).replace("\n", "\r\n"), secret(), None),
    "with words around": ("Subject: visit\n" + LEAF + "\nissuer\n\n" + MIDDLE, secret(), None),
    "run together": (LEAF.rstrip("\n") + MIDDLE, secret(), "cert-file"),
    "a blank line in a block": (LEAF.replace("\n", "\n\n", 2) + MIDDLE, secret(), "cert-file"),
    "a key behind a password": (LEAF + MIDDLE, secret(b"dome"), "cert-file"),
    "its issuer first": (MIDDLE + LEAF, secret(), "cert-order"),
}  # fmt: skip


@pytest.mark.parametrize("what", FILES)
def test_files_as_servers_read_them(what):
    """What a server does not read is a service that does not start, with its smallest remedy."""
    pem, key, code = FILES[what]
    found = explained(pem, key)
    assert [each.code for each in found.causes] == ([] if code is None else [code])
    if code is not None:
        assert found.after.outcome.page == "visit/index.html"


@pytest.mark.parametrize(
    ("record", "told"),
    [
        ('128 tbs "x"', "is critical"),
        ('0 issue ";"', "allow nobody"),
        ('0 issue "letters.example"', ""),
        ('128 iodef "mailto:x@a.example"', ""),
    ],
)
def test_what_forbids_the_next_certificate(record, told):
    """RFC 8659 section 4: what is critical and not known forbids all, and so does an empty name; of PEM certificates too."""
    text = swap(
        OFFICE,
        (DECLARED, "  visit: {file: visit.pem}\n"),
        ("      - visit 3600 A 203.0.113.40\n", f"      - visit 3600 A 203.0.113.40\n      - '@ 3600 CAA {record}'\n"),
    )
    held = load(MemoryFiles({"estate.yaml": text, "visit.pem": LEAF + MIDDLE}), "estate.yaml")
    found = [each.text for each in lint(World(held.estate, held.estate.at)) if each.code == "name-caa-forbids"]
    assert bool(found) == bool(told)
    assert all(told in each for each in found)


@pytest.mark.parametrize(
    ("saved", "program", "told"),
    [
        (LEAF[:200], "nginx", "nginx keeps what it has at a reload"),
        (LEAF[:200], "apache", "ends at a graceful reload"),
        (LEAF + MIDDLE, "nginx", None),
        (MIDDLE + LEAF, "nginx", "its key does not belong to it"),
    ],
)
def test_what_is_saved_and_cannot_be_read(saved, program, told):
    """A warning before the reload, with what the program makes of it."""
    facts = "file: visit.pem, key: visit.key, saved: {file: new.pem, key: visit.key}"
    text = swap(OFFICE, (DECLARED, f"  visit: {{{facts}}}\n"), ("program: nginx", f"program: {program}"))
    files = {"estate.yaml": text, "visit.pem": LEAF + MIDDLE, "new.pem": saved, "visit.key": secret()}
    held = load(MemoryFiles(files), "estate.yaml")
    found = [each.text for each in lint(World(held.estate, held.estate.at)) if each.code == "cert-file"]
    assert bool(found) == (told is not None)
    assert told is None or told in found[0]


def test_a_short_key_is_looked_at_before_its_issuer():
    """OpenSSL looks at the leaf's key before anybody asks who signed it; at a server that shows such a key."""
    pem = made("leaf", "Other", key=SHORT)
    text = swap(OFFICE, (DECLARED, "  visit: {file: visit.pem}\n"), ("program: nginx", "program: {missing: 404}"))
    held = load(MemoryFiles({"estate.yaml": text, "visit.pem": pem}), "estate.yaml")
    found = visit(World(held.estate, held.estate.at), f"https://{HOST}/", held.estate.vantages["street"])
    assert found.stop.kind == "wrong-use"
    assert "its RSA key has 1024 bits" in found.stop.text
