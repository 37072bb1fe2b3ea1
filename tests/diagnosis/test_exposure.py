"""What changes lay open is computed from the worlds before and after; the class follows, and what may be handed out."""

import json
from ipaddress import ip_network
from pathlib import Path

import pytest

from portolan.diagnosis.exposure import Asked, exposure
from portolan.diagnosis.gains import widened
from portolan.diagnosis.passing import passed_to
from portolan.diagnosis.search import explain
from portolan.diagnosis.trial import Explanation
from portolan.estate.site import Access
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.expectation import expectation_for
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap, world

FOUND = Path(__file__).parent.parent / "found" / "diagnosis"
VISIT = "https://visit.kestrel-ridge.example/"
PLAIN = "http://visit.kestrel-ridge.example/"
FORWARD = "      - {on: line, tcp: 443, to: 10.20.0.15}\n"
FIRST = "      - {on: line, tcp: 80, to: 10.20.0.15}\n"
FILES = "files: [index.html, tonight.html, img/dome.jpg]"
NAMES = "            names: [visit.kestrel-ridge.example]\n"
HOST = "{dome: {address: 10.20.0.15}}"
SECURE = f'{FILES}\n            redirects: [{{when: {{scheme: http}}, to: "https://{{host}}{{path}}{{query}}"}}]'
HOUSE = ("certificates:", "authorities: {house: {public: false}}\ncertificates:")
NARROW = ("address: 10.20.0.50}", "address: 10.20.0.50}\n  lab: {network: internet, address: 192.0.2.200}")


def filtered(rules: str) -> str:
    """A filter at orion that drops all but what the rules allow."""
    return f"{HOST}\n    filter: {{inbound: {{default: drop, rules: [{rules}]}}}}"


def between(before: str, after: str, url: str = VISIT, vantage: str = "street"):
    """What lies between two estates for a question."""
    worlds = [World(held.estate, held.estate.at) for held in (loaded(before), loaded(after))]
    expectation = expectation_for(worlds[0].estate, url, worlds[0].estate.vantages[vantage])
    asked = Asked(
        url, worlds[0].estate.vantages[vantage], expectation, frozenset(expectation.marks if expectation else ())
    )
    return exposure(*worlds, asked, visit(worlds[1], url, worlds[1].estate.vantages[vantage]))


#: Facts of the estate before and after, the question, the class, and words of what is said.
CHANGES = {
    "a certificate that is valid": ([], [("until: 2026-06-01", "until: 2027-06-01")], VISIT, "street", "safe", ()),
    "a file that was missing": ([(FILES, SECURE.replace("index.html, ", ""))], [(FILES, SECURE)], VISIT, "street", "safe", ()),
    "the narrower of two rules": (
        [(HOST, filtered("{allow: tcp, ports: '1-65535'}"))], [(HOST, filtered("{allow: tcp, ports: [80, 443]}"))], VISIT, "street", "safe", ()),
    "a forward": ([(FORWARD, "")], [], VISIT, "street", "opens", ("anybody on the internet can newly reach web on orion at 203.0.113.40 port 443",)),
    "a forward for one source": (
        [(FORWARD, "")], [(FORWARD, FORWARD.replace("to:", "from: 198.51.100.0/24, to:"))], VISIT, "street", "opens", ("anybody in 198.51.100.0/24",)),
    "a forward of every port, to everything that listens": (
        [(FIRST + FORWARD, ""), ("      web:\n", "      base: {kind: other, listens: [5432]}\n      web:\n")],
        [(FIRST + FORWARD, "      - {on: line, tcp: '1-65535', to: 10.20.0.15}\n"), ("      web:\n", "      base: {kind: other, listens: [5432]}\n      web:\n")],
        VISIT, "street", "weakens", ("base on orion", "port 5432")),
    "a filter that lets one port in": (
        [(HOST, filtered(""))], [(HOST, filtered("{allow: tcp, ports: 443}"))], VISIT, "street", "opens", ("port 443",)),
    "a filter that lets all of it in": (
        [(HOST, filtered("")), ("      web:\n", "      keys: {kind: other, listens: [22]}\n      web:\n")],
        [(HOST, filtered("{allow: any}")), ("      web:\n", "      keys: {kind: other, listens: [22]}\n      web:\n")], VISIT, "office", "weakens", ("port 22",)),
    "the expectation names one vantage, the world comes with it": (
        [NARROW, (FORWARD, FORWARD.replace("to:", "from: 198.51.100.77, to:"))], [NARROW], VISIT, "street", "opens", ("lab",)),
    "a redirect to https away": (
        [(FILES, SECURE)], [], PLAIN, "street", "weakens", ("without encryption, where the way was encrypted before",)),
    "a listener that no longer speaks TLS": ([], [("443 tls", "443")], PLAIN, "street", "weakens", ("no longer encrypts", )),
    "a page that newly comes plain": ([("[80, 443 tls]", "[443 tls]"), (FIRST, "")], [], PLAIN, "street", "opens", ("without encryption",)),
    "the same, where it is expected secure": (
        [("[80, 443 tls]", "[443 tls]"), (FIRST, ""), (VISIT, PLAIN), ("from: street, page", "from: street, secure: true, page")],
        [(VISIT, PLAIN), ("from: street, page", "from: street, secure: true, page")], PLAIN, "street", "weakens", ("without encryption",)),
    "the same, where payments are taken": (
        [("[80, 443 tls]", "[443 tls]"), (FIRST, ""), (VISIT, PLAIN), ("from: street, page", "from: street, marks: [takes-payments], page")],
        [(VISIT, PLAIN), ("from: street, page", "from: street, marks: [takes-payments], page")], PLAIN, "street", "weakens", ("without encryption",)),
    "a listing": ([(FILES, "files: [tonight.html]")], [(FILES, "files: [tonight.html]\n            listing: true")], VISIT, "street", "weakens", ("can read what its folders hold",)),
    "a refusal lifted": ([(FILES, "answer: 403")], [], VISIT, "street", "opens", ("no longer answers 403",)),
    "a refusal lifted at a site that was not asked": (
        [("            files: [index.html]\n", "            answer: 410\n")], [], VISIT, "street", "weakens", ("other no longer answers 410",)),
    "a root trusted by who asks": ([HOUSE], [HOUSE, ("default: true", "default: true, trusts: [house]")], VISIT, "street", "opens", ("street newly trusts whatever house issues",)),
    "a root trusted by others": ([HOUSE], [HOUSE, ("10.20.0.50}", "10.20.0.50, trusts: [house]}")], VISIT, "street", "weakens", ("office newly trusts",)),
    "a root that everybody trusts": ([HOUSE], [(HOUSE[0], HOUSE[1].replace("false", "true"))], VISIT, "street", "weakens", ("every visitor newly trusts",)),
    "signatures that nobody checks": (
        [("    records:\n", "    keys: [spring]\n    ds: [spring]\n    records:\n")], [("    records:\n", "    keys: [spring]\n    records:\n")],
        VISIT, "street", "weakens", ("nobody checks the signatures",)),
}  # fmt: skip


@pytest.mark.parametrize("name", CHANGES)
def test_the_class_follows_from_what_is_laid_open(name):
    """Each change has its class and says what it opens; undone, it opens nothing of the same."""
    before, after, url, vantage, safety, words = CHANGES[name]
    texts = swap(OFFICE, *before), swap(OFFICE, *after)
    found = between(*texts, url, vantage)
    told = "\n".join(found.told)
    assert (found.safety, [word for word in words if word not in told]) == (safety, [])
    assert between(texts[0], texts[0], url, vantage).gains == ()
    back = between(texts[1], texts[0], url, vantage)
    assert {gain.key for gain in back.gains}.isdisjoint(gain.key for gain in found.gains)


def test_too_large_to_compare_is_never_called_safe(monkeypatch):
    """Where not everybody was asked, the class says so."""
    monkeypatch.setattr("portolan.diagnosis.exposure_reach.MOST_REACH", 3)
    texts = [swap(OFFICE, (HOST, filtered(f"{{allow: tcp, ports: {ports}}}"))) for ports in ("'1-65535'", "[80, 443]")]
    found = between(*texts)
    assert (found.whole, found.safety) == (False, "opens")


def mended(text: str, url: str, vantage: str = "street") -> Explanation:
    """An estate's explanation."""
    held = loaded(text)
    return explain(World(held.estate, held.estate.at), url, held.estate.vantages[vantage],
                   lambda patch: changed(held, patch_operations(patch)).estate)  # fmt: skip


@pytest.mark.parametrize(
    ("name", "url", "vantage"),
    [
        ("s16-near-payments-one-rule", "https://shop.clockhouse.example/", "street"),
        ("s16-near-payments-one-rule", "http://shop.clockhouse.example/", "street"),
        ("loop", "https://pay.skerry.example/", "street"),
        ("loop", "http://pay.skerry.example/", "street"),
    ],
)
def test_a_redirect_that_lost_its_condition_gets_it_back(name, url, vantage):
    """Never does it go away where payments are taken: the page comes by https still."""
    found = mended((FOUND / f"{name}.yaml").read_text(), url, vantage)
    assert found.best is not None
    assert {operation["op"] for operation in found.best.patch} == {"add"}
    assert found.best.patch[0]["path"].endswith("/when")
    assert found.best.patch[0]["value"] == {"scheme": "http"}
    assert found.best.safety == "safe"
    assert found.after.outcome.secure
    assert all(each.safety != "weakens" for each in found.remedies)


def test_a_secure_site_that_sends_to_its_plain_one_no_longer_does():
    """Of two sites that send to each other, the secure one is wrong: without its rule the page comes by https."""
    found = mended(
        (FOUND / "s16-near-payments-two-rules.yaml").read_text(), "https://shop.clockhouse.example/", "street"
    )
    assert found.best.patch == [{"op": "remove", "path": "/hosts/tower/services/web/sites/s/redirects/0"}]
    assert (found.best.safety, found.after.outcome.secure) == ("safe", True)


def test_a_narrow_rule_stands_before_a_wide_one():
    """The rule names the port; the wide one says whom else it lets in, and is not handed out."""
    found = mended((FOUND / "group.yaml").read_text(), "http://192.0.2.10/")
    assert found.best.patch[0]["value"] == {"allow": "tcp", "ports": [80]}
    assert found.best.safety == "opens"
    wide = [each for each in found.remedies if "5432" in " ".join(each.changes)]
    assert wide
    assert {each.safety for each in wide} == {"weakens"}


def test_what_the_visitor_mistyped_changes_no_estate():
    """Plain HTTP typed at a secure port: the advice is what is handed out."""
    found = mended(
        (FOUND / "s15-plain-typed-at-secure-port.yaml").read_text(), "http://clockhouse.example:8443/", "street"
    )
    assert found.best.patch == []
    assert found.best.text.startswith("ask for the https://")


@pytest.mark.parametrize(
    ("marks", "offered"), [("", "opens"), (", marks: [closed]", None), (", marks: [takes-payments]", None)]
)
def test_a_refusal_that_is_meant_is_not_lifted(marks, offered):
    """Without a mark it is exposure and says so; `closed` keeps it, and so do payments: the page would come plain."""
    text = swap(
        (FOUND / "s09-closed-on-purpose.yaml").read_text(),
        ("answer: 403", f"answer: 403, files: [index.html]{marks}"),
    )
    found = mended(text, "http://pendulum.freenames.example/")
    lifting = [each for each in found.remedies if any("/answer" in operation["path"] for operation in each.patch)]
    assert [each.safety for each in lifting[:1]] == ([offered] if offered else [])


def test_patch_text_and_json_hand_out_the_same(program, tmp_path):
    """The patch is empty with its reason where only what weakens would do."""
    bad = swap(OFFICE, ("files: [index.html, tonight.html, img/dome.jpg]", "files: [tonight.html]"))
    (tmp_path / "estate.yaml").write_text(bad)
    patch = json.loads(program("explain", VISIT, "--format", "patch").stdout)
    told = json.loads(program("explain", VISIT, "--format", "json").stdout)
    assert patch == next(each["change"] for each in told["remedies"] if each["safety"] != "weakens")
    (tmp_path / "estate.yaml").write_text((FOUND / "s15-plain-typed-at-secure-port.yaml").read_text())
    empty = program("explain", "http://clockhouse.example:8443/", "--format", "patch")
    assert json.loads(empty.stdout) == []
    assert "the patch is empty: ask for the https:// address" in empty.stderr


@pytest.mark.parametrize(("before", "after", "ranges", "kept_out", "everybody"), [
    ({"sources": ["192.0.2.0/24"]}, {"sources": ["192.0.2.0/24", "198.51.100.0/24"]}, {"198.51.100.0/24"}, set(), False),
    ({"sources": ["192.0.2.0/24"]}, {}, set(), set(), True),
    # Where anybody was let in, ranges only narrow it.
    ({"not_sources": ["192.0.2.7/32"]}, {"sources": ["198.51.100.0/24"], "not_sources": ["192.0.2.7/32"]}, set(), set(), False),
    ({"not_sources": ["192.0.2.7/32"]}, {}, set(), {"192.0.2.7/32"}, False),
    ({"nobody": True}, {"sources": ["198.51.100.0/24"]}, {"198.51.100.0/24"}, set(), False), ({"nobody": True}, {}, set(), set(), True),
    ({"password": True}, {"password": True, "sources": ["198.51.100.0/24"]}, {"198.51.100.0/24"}, set(), False),
])  # fmt: skip
def test_whom_a_rule_of_access_newly_lets_in(before, after, ranges, kept_out, everybody):
    """One reading for sites and edges: ranges more, a refusal by name less, everybody."""

    def rule(facts):
        return Access(
            **{key: tuple(map(ip_network, each)) if isinstance(each, list) else each for key, each in facts.items()}
        )

    found = widened(rule(before), rule(after))
    assert ({*map(str, found.ranges)}, {*map(str, found.kept_out)}, found.everybody) == (ranges, kept_out, everybody)


def test_what_is_worked_out_of_a_world_is_of_that_moment_and_boot():
    """A front that the boot does not start passes nothing on, though the same estate was asked before."""
    text = swap(
        OFFICE, ("            files: [index.html]", "            upstream: http://10.20.0.16:8080"),
        ("certificates:\n", "  vega:\n    interfaces: {dome: {address: 10.20.0.16}}\n    services: {desk: {listens: [8080], after_boot: {state: stopped}}}\ncertificates:\n"),
    )  # fmt: skip
    now = world(text)
    booted = World(now.stated, now.now, now.shared, None)
    assert (len(passed_to(now)), len(passed_to(booted))) == (1, 0)
