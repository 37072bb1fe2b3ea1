"""What curl and a browser make of the same chain, and who is told of both."""

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID

from portolan.estate.places import anybody
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.turns import turns
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, swap
from tests.tls.test_chains import DAY, DECLARED, HOST, LEAF, MIDDLE, NOW, ROOT, made

URL = f"https://{HOST}/"


def issuer_at(address):
    """The extension that says where the issuer's certificate is."""
    where = x509.AccessDescription(
        AuthorityInformationAccessOID.CA_ISSUERS, x509.UniformResourceIdentifier(f"http://{address}")
    )
    return x509.AuthorityInformationAccess([where]), False


ANY = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE]), False
LARGE = ec.generate_private_key(ec.SECP521R1())
ELSEWHERE, HERE = (
    made("leaf", "Middle", issuer_at("letters.example/middle.crt")),
    made("leaf", "Middle", issuer_at(f"{HOST}/index.html")),
)
NOWHERE = made("leaf", "Middle", issuer_at("gone.kestrel-ridge.example/middle.crt"))

#: What is sent, the authorities that the estate knows, and what curl and Chromium come to.
BOTH = {
    "the issuer at a place that nobody describes": (ELSEWHERE, "", "incomplete-chain", "served"),
    "the issuer at a place that answers": (HERE, "", "incomplete-chain", "served"),
    "the issuer at a page that is not there": (
        made("leaf", "Middle", issuer_at(f"{HOST}/x")),
        "",
        "incomplete-chain",
        "incomplete-chain",
    ),
    "the issuer at a name that is not there": (NOWHERE, "", "incomplete-chain", "incomplete-chain"),
    "an issuer of the estate that can be fetched": (ELSEWHERE, ROOT + MIDDLE, "incomplete-chain", "served"),
    "every purpose in one": (made("leaf", "Middle", ANY) + MIDDLE, ROOT, "other", "served"),
    "a key that browsers do not take": (
        made("leaf", "Middle", key=LARGE) + MIDDLE,
        ROOT,
        "served",
        "no-common-version",
    ),
    "over, and for another name": (
        made("leaf", "Middle", names=("else.example",), until=NOW - DAY) + MIDDLE,
        ROOT,
        "expired",
        "name-mismatch",
    ),
    "a star above a public suffix": (
        made("leaf", "Middle", names=("*.co.uk",)) + MIDDLE,
        ROOT,
        "served",
        "name-mismatch",
    ),
    "as usual": (LEAF + MIDDLE, ROOT, "served", "served"),
}


def world_of(pem, authorities, host=HOST):
    """The office with a chain, asked from the internet."""
    known = {f"known{number}": each for number, each in enumerate(authorities.split("\n\n"))} if authorities else {}
    parts = [f"{name}: {{file: {name}.pem, public: {str(each is not MIDDLE).lower()}}}" for name, each in known.items()]
    text = swap(
        OFFICE,
        (DECLARED, "  visit: {file: visit.pem}\n" + (f"authorities: {{{', '.join(parts)}}}\n" if parts else "")),
        ("names: [visit.kestrel-ridge.example]", f"names: [{HOST}, {host}]" if host != HOST else f"names: [{HOST}]"),
    )
    if host != HOST:
        text = swap(text, ("zones:\n", f"zones:\n  co.uk: {{records: ['{host}. 3600 A 203.0.113.40']}}\n"))
    files = {"estate.yaml": text, "visit.pem": pem} | {f"{name}.pem": each for name, each in known.items()}
    estate = load(MemoryFiles(files), "estate.yaml").estate
    return World(estate, estate.at)


@pytest.mark.parametrize("what", BOTH)
def test_curl_and_a_browser(what):
    """Each by its own rules; whoever asks from the internet is told of both."""
    pem, authorities, by_curl, by_browser = BOTH[what]
    host = "kestrel.co.uk" if "suffix" in what else HOST
    authorities = "\n\n".join(
        filter(None, (ROOT if ROOT in authorities else "", MIDDLE if MIDDLE in authorities else ""))
    )
    somebody = anybody()
    world = world_of(pem, authorities, host).with_vantages(somebody)
    found = visit(world, f"https://{host}/", somebody)
    others = turns(world, found, None)
    assert (found.outcome.detail or "served") == by_curl
    seen = [others[0].visit.outcome.detail or "served"] if others else [found.outcome.detail or "served"]
    same_end = (by_curl == "served") == (by_browser == "served")
    assert bool(others) != same_end
    if not same_end:
        assert seen == [by_browser]
        assert bool(others[0].misses) == (by_browser != "served")


def test_only_anybody_on_the_internet_is_both():
    """A vantage that is written is the client that it says, curl where it says nothing."""
    world = world_of(ELSEWHERE, "")
    street = world.estate.vantages["street"]
    assert turns(world, visit(world, URL, street), None) == ()
