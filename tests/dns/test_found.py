"""Estates about names on which real systems contradicted earlier versions: each answered as the real thing does."""

import shutil
from pathlib import Path

import pytest

import portolan
from portolan.estate.url import BadUrlError

FOUND = Path(__file__).parent.parent / "found" / "names"

ANSWERS = [
    ("circular-delegation", "http://www.a.example/", "name-error resolver-failure", None),
    ("circular-delegation", "http://www.b.example/", "name-error resolver-failure", None),
    ("delegated-to-nowhere", "http://www.a.example/", "name-error resolver-failure", None),
    ("delegated-to-nowhere", "http://www.b.example/", "served", "192.0.2.1"),
    ("apex-ns-without-address", "http://www.a.example/", "served", "192.0.2.1"),
    ("parent-and-child-on-one-server", "http://www.sub.a.example/", "served", "192.0.2.1"),
    ("include-ttl", "http://www.k.example/", "served", "192.0.2.1"),
    ("escaped-names", "http://www.k.example/", "served", "192.0.2.1"),
    ("aaaa-cached-longer", "http://www.k.example/", "connect-error timed-out", "2001:db8::9"),
    ("dname-cache", "http://www.old.k.example/", "connect-error timed-out", "192.0.2.9"),
    ("rfc3597-crash", "http://w.k.example/", "connect-error timed-out", "192.0.2.7"),
    ("generate", "http://h2.k.example/", "connect-error timed-out", "192.0.2.2"),
    ("empty-wildcard", "http://q.ent.k.example/", "name-error no-address", None),
    ("unknown-ds-algorithm.json", "http://www.example.com/", "served", "198.51.100.2"),
    ("home-arpa.json", "http://www.office.home.arpa/", "name-error no-such-name", None),
    ("cname-beside-key.yaml", "http://ok.k.example/", "served", "203.0.113.5"),
    ("dname-apex-own-server.yaml", "http://www.old.example/", "name-error resolver-failure", None),
    *(
        ("dnssec-one-name", f"http://{name}.example/", "name-error resolver-failure", None)
        for name in ("new.addn", "www.mis", "www.data", "www.fut", "www.un2")
    ),
    ("forward-to-name-server.yaml", "http://al.corp.example/", "served", "203.0.113.4"),
    ("forward-to-name-server.yaml", "http://www.sub.corp.example/", "served", "203.0.113.3"),
    ("https-record-target-and-port.yaml", "http://other.k.example/", "served", "203.0.113.2"),
    ("https-record-target-and-port.yaml", "http://port.k.example/", "served", "203.0.113.1"),
    ("lame-parent-unbound.yaml", "http://www.sub.l.example/", "name-error no-address", None),
    ("named-check-names-exceptions.yaml", "http://ok.k.example/", "served", "203.0.113.5"),
    ("named-more-than-100", "http://ok.k.example/", "name-error resolver-failure", None),
    ("nsd-quoted-include", "http://www.k.example/", "name-error resolver-failure", None),
    ("tcp-53-blocked.yaml", "http://big.k.example/", "name-error resolver-failure", None),
    ("ula-before-ipv4.yaml", "http://inside.k.example/", "served", "fd00:1::10"),
]


def asked(path: Path, url: str) -> tuple[str, str | None]:
    """The outcome in two words, and the address that was tried last, for the first visitor of an estate."""
    view = portolan.load(path)
    found = view.follow(url, next(iter(view.estate.vantages)))
    words = " ".join(str(each) for each in (found.outcome.kind, found.outcome.detail) if each)
    connection = found.exchanges[-1].connection
    return words, str(connection.address) if connection is not None else None


@pytest.mark.parametrize(("estate", "url", "outcome", "address"), ANSWERS)
def test_as_the_real_thing(estate, url, outcome, address):
    """The outcome, and the address that was asked last."""
    words, tried = asked(FOUND / estate, url)
    assert (words, tried) == (outcome, address)


def test_a_label_has_63_octets():
    """RFC 1035 section 2.3.4; a hyphen at a label's end is asked for, and so is a symbol."""
    view = portolan.load(FOUND / "label-of-64.yaml")
    with pytest.raises(BadUrlError, match="no host name"):
        view.follow(f"http://{'a' * 64}.k.example/", "street")
    for name in ("a" * 63, "a-", "\U0001f52d"):
        assert view.follow(f"http://{name}.k.example/", "street").outcome.kind == "served"


@pytest.mark.parametrize(
    ("program", "outcome"), [("named", "name-error resolver-failure"), ("nsd", "served"), ("knot", "served")]
)
def test_what_a_program_refuses_to_load(tmp_path, program, outcome):
    """An NS record at the apex without an address: named refuses the zone, the others load it."""
    shutil.copytree(FOUND / "apex-ns-without-address", tmp_path / "e")
    file = tmp_path / "e" / "estate.yaml"
    file.write_text(file.read_text().replace("kind: name-server,", f"kind: name-server, program: {program},"))
    assert asked(tmp_path / "e", "http://www.a.example/")[0] == outcome


@pytest.mark.parametrize(
    ("line", "outcome"),
    [("TYPE1 \\\\# 4 CB007105", "served"), ("TYPE5 ok", "served"), ("HTTPS 0 . alpn=h2", "name-error no-address")],
)
def test_types_by_number_and_what_means_nothing(tmp_path, line, outcome):
    """RFC 3597 section 5; RFC 9460 section 2.4.2: named, NSD and Knot DNS load all of them."""
    text = (FOUND / "cname-beside-key.yaml").read_text().replace('"al 60 CNAME ok"', f'"al 60 {line}"')
    (tmp_path / "estate.yaml").write_text(text.replace(', "al 60 KEY 256 3 13 AwEAAcc="', ""))
    assert asked(tmp_path, "http://al.k.example/")[0] == outcome
