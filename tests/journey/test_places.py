"""Places to ask from that nobody wrote, and addresses as people type them."""

from datetime import UTC, datetime

import pytest

from portolan.diagnosis.asking import answers
from portolan.estate.places import free_addresses, held_addresses, unwritten, unwritten_names
from portolan.formats.estate_file import patched
from portolan.journey.question import UnknownPlaceError, question, typed
from portolan.journey.world import World
from portolan.source.problem import EstateError
from tests.conftest import OFFICE, ask, loaded, swap

URL = "http://visit.kestrel-ridge.example/"
NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
#: Nobody is written who could ask.
LONELY = """
portolan: 1
networks: {dome: {subnets: [10.20.0.0/24, "2001:db8:20::/64"]}, bare: {}}
routers:
  gateway:
    interfaces: {line: {network: internet, address: 203.0.113.40}, dome: {address: 10.20.0.1}}
    masquerade: [line]
    forwards: [{on: line, tcp: 80, to: 10.20.0.15}]
hosts:
  orion:
    interfaces: {dome: {address: 10.20.0.15}}
    gateway: 10.20.0.1
    services:
      web: {program: nginx, listens: [80], sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}}
zones: {kestrel-ridge.example: {records: [visit 3600 A 203.0.113.40]}}
expected: [{url: "http://visit.kestrel-ridge.example/", page: visit/index.html}]
"""
PEOPLE = "vantages: {street: {network: internet, address: 198.51.100.77}, office: {network: dome, address: 10.20.0.50}}\nexpected:"


def lonely(*changes: tuple[str, str]) -> World:
    """The world of that estate, changed."""
    return World(loaded(swap(LONELY, *changes)).estate, NOW)


@pytest.mark.parametrize(
    ("name", "url", "kind"),
    [
        ("internet", URL, "served"),
        (None, URL, "served"),
        ("near:dome", URL, "connect-error"),  # nothing turns packets from inside round
        ("near:dome", "http://10.20.0.15/", "served"),
        ("orion", URL, "connect-error"),
        ("orion", "http://127.0.0.1/", "served"),
        ("gateway", "http://10.20.0.15/", "served"),
        ("internet", "http://10.20.0.15/", "connect-error"),
    ],
)
def test_every_machine_a_neighbour_and_the_internet_can_be_asked_from(name, url, kind):
    """Each by its name, as if it were written."""
    asked = question(lonely(), url, name)
    assert asked.vantage.name == (name or "internet")
    assert asked.answer().outcome.kind == kind


def test_what_is_written_with_such_a_name_is_that():
    """A vantage called internet, or as a machine is."""
    written = "vantages: {internet: {network: dome, address: 10.20.0.9}, orion: {network: internet, address: 198.51.100.3}}\nexpected:"
    world = lonely(("expected:", written))
    assert question(world, URL, "internet").vantage.network == "dome"
    assert question(world, URL, "orion").vantage.host is None


@pytest.mark.parametrize(
    ("name", "hint"),
    [
        ("orin", "Did you mean 'orion'?"),
        ("near:dom", "Did you mean 'near:dome'?"),
        ("moon", "Known here: gateway, internet, near:dome, orion."),
    ],
)
def test_an_unknown_place_has_its_near_name(name, hint):
    """Or all of them, where they are few."""
    with pytest.raises(UnknownPlaceError) as raised:
        question(lonely(), URL, name)
    assert raised.value.hint == hint


def test_who_is_asked_for_where_nobody_says():
    """The default, the only one, else the internet, and that is said."""
    several = lonely(("expected:", PEOPLE))
    assert question(several, URL).vantage.name == "internet"
    assert "written are street, office" in question(several, URL).assumed[0]
    one = lonely(("expected:", "vantages: {street: {network: internet, address: 198.51.100.77}}\nexpected:"))
    assert question(one, URL).vantage.name == "street"
    assert question(one, URL).assumed == ()


def test_an_expectation_for_nobody_in_particular():
    """Is for all that are written; where none is, for the internet: and it stays so in every changed world."""
    held = loaded(LONELY)
    found = answers(World(held.estate, NOW), lambda patch: patched(held, patch).estate)
    assert (found.asked, found.groups) == (1, ())
    several = lonely(("expected:", PEOPLE))
    assert answers(several, lambda _: several.stated).asked == 2


def test_expectations_name_unwritten_places():
    """Machines, neighbours and the internet; what is none has its near name."""
    named = ("page: visit/index.html}", 'page: visit/index.html, from: [internet, "near:dome", orion]}')
    world = lonely(named)
    assert answers(world, lambda _: world.stated).asked == 3
    with pytest.raises(EstateError, match=r"no vantage is named 'near:done' .* Did you mean 'near:dome'"):
        lonely(("page: visit/index.html}", 'page: visit/index.html, from: ["near:done"]}'))


def test_neighbours_have_addresses_of_nobody():
    """Of each kind that the network has; on one without ranges stands nobody."""
    estate = lonely().estate
    held = held_addresses(estate)
    near = unwritten(estate, "near:dome")
    assert all(each.ip not in held for each in near.address)
    assert {each.ip.version for each in near.address} == {4, 6}
    assert unwritten(estate, "near:bare") is None
    full = estate.networks["dome"].subnets[0]
    assert list(free_addresses(full, frozenset(full))) == []
    assert set(unwritten_names(estate)) == {"internet", "gateway", "orion", "near:dome"}


@pytest.mark.parametrize(
    ("text", "like", "url"),
    [
        ("visit.kestrel-ridge.example", None, "http://visit.kestrel-ridge.example"),
        ("visit.kestrel-ridge.example:8080/a?b", None, "http://visit.kestrel-ridge.example:8080/a?b"),
        ("visit.kestrel-ridge.example/", "chromium", "https://visit.kestrel-ridge.example/"),
        ("https://visit.kestrel-ridge.example/", None, "https://visit.kestrel-ridge.example/"),
        ("ftp://visit.kestrel-ridge.example/", None, "ftp://visit.kestrel-ridge.example/"),
        ("mailto:keeper@kestrel-ridge.example", None, "mailto:keeper@kestrel-ridge.example"),
        ("/tonight", None, "/tonight"),
        ("", None, ""),
    ],
)
def test_an_address_without_a_scheme(text, like, url):
    """Curl asks plainly, a browser securely first; what has a scheme, or is no address, stays as it is."""
    estate = lonely(("expected:", f"vantages: {{street: {{network: internet, address: 198.51.100.77{f', like: {like}' if like else ''}}}}}\nexpected:"))  # fmt: skip
    assert typed(text, estate.estate.vantages["street"])[0] == url


def test_a_page_of_a_name_is_one_of_the_site_that_has_the_name():
    """An expectation that names no page: another site's page is missed where somebody has the name, and is none of our business else."""
    two = "sites: {old: {names: [old.kestrel-ridge.example], files: [index.html]}, visit: {names: [visit.kestrel-ridge.example], enabled: false, files: [index.html]}}"
    bare = (
        ("sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}", two),
        ('expected: [{url: "http://visit.kestrel-ridge.example/", page: visit/index.html}]',
         'expected: [{url: "http://visit.kestrel-ridge.example/"}, {url: "http://other.kestrel-ridge.example/"}]'),
        ("records: [visit 3600 A 203.0.113.40]", "records: [visit 3600 A 203.0.113.40, other 3600 A 203.0.113.40]"),
    )  # fmt: skip
    held = loaded(swap(LONELY, *bare))
    found = answers(World(held.estate, NOW), lambda patch: patched(held, patch).estate)
    (group,) = found.groups
    assert [each.expectation.url for each in group.missed] == ["http://visit.kestrel-ridge.example/"]
    assert group.cause.code == "site-not-enabled"
    assert group.missed[0].misses[0].text == "a page of visit was expected, which has the name"


@pytest.mark.parametrize(
    ("like", "name", "secure"),
    [("chromium", "kestrel.dev", True), ("chromium", "a.kestrel.page", True), ("chromium", "dev.example", False), ("curl", "kestrel.dev", False)],
)  # fmt: skip
def test_browsers_ask_some_domains_securely_only(like, name, secure):
    """Before any packet, and whatever the estate says."""
    text = swap(
        OFFICE,
        (
            "address: 198.51.100.77,",
            f"address: 198.51.100.77, like: {like}, hosts_file: {{lines: [203.0.113.40 {name}]}},",
        ),
    )
    found = ask(text, f"http://{name}/")
    assert (found.exchanges[-1].url.scheme == "https") == secure
