"""What people say that they saw, which beliefs would give it, and what to look at next."""

import pytest

from portolan.evidence.outcome import DETAILS, Detail, Kind
from portolan.formats.estate_file import patched
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.observing.next_check import further_places, next_check
from portolan.observing.observation import SAID, ContradictionError, UnknownSeenError, agreed, of, read
from portolan.observing.suspects import MOST_TRIED, doubt, is_of
from tests.conftest import OFFICE, STORIES, loaded

VISIT = "https://visit.kestrel-ridge.example/"
HEALTHY = OFFICE.replace("    masquerade: [line]\n", "    masquerade: [line]\n    hairpin: full\n")

SAYINGS = [
    ("time-out", Kind.CONNECT_ERROR, Detail.TIMED_OUT),
    ("Timed Out", Kind.CONNECT_ERROR, Detail.TIMED_OUT),
    ("hangs", Kind.CONNECT_ERROR, Detail.STALLED),
    ("refused", Kind.CONNECT_ERROR, Detail.REFUSED),
    ("no such name", Kind.NAME_ERROR, Detail.NO_SUCH_NAME),
    ("no-such-name", Kind.NAME_ERROR, Detail.NO_SUCH_NAME),
    ("resolver fails", Kind.NAME_ERROR, Detail.RESOLVER_TIMEOUT),
    ("certificate", Kind.TLS_ERROR, Detail.EXPIRED),
    ("redirects without end", Kind.REDIRECT_ERROR, Detail.LOOP),
    ("curl 6", Kind.NAME_ERROR, None),
    ("curl: (28) Connection timed out after 10001 milliseconds", Kind.CONNECT_ERROR, Detail.TIMED_OUT),
    ("curl: (7) Failed to connect: Connection refused", Kind.CONNECT_ERROR, Detail.REFUSED),
    ("curl: (60) SSL certificate problem: certificate has expired", Kind.TLS_ERROR, Detail.EXPIRED),
    ("net::ERR_CERT_COMMON_NAME_INVALID", Kind.TLS_ERROR, Detail.NAME_MISMATCH),
    ("DNS_PROBE_FINISHED_NXDOMAIN", Kind.NAME_ERROR, Detail.NO_SUCH_NAME),
    ("ERR_TOO_MANY_REDIRECTS", Kind.REDIRECT_ERROR, Detail.TOO_MANY),
    ("SEC_ERROR_UNKNOWN_ISSUER", Kind.TLS_ERROR, Detail.INCOMPLETE_CHAIN),
    ("404", Kind.HTTP_ERROR, None),
    ("HTTP 502", Kind.HTTP_ERROR, None),
    ("status 200", Kind.SERVED, None),
]


@pytest.mark.parametrize(("words", "kind", "detail"), SAYINGS)
def test_what_people_say(words, kind, detail):
    """Each means an end that an outcome can have."""
    assert (kind, detail) in read(words).endings


def test_every_detail_and_every_word_of_the_help_is_known():
    """Whatever an outcome says can be said back."""
    for details in DETAILS.values():
        for detail in details:
            assert any(detail == each for _, each in read(str(detail)).endings), detail
    for words in SAID:
        assert read(words.replace("SITE/PATH", "visit/index.html"))


@pytest.mark.parametrize(
    ("words", "near"),
    [("refussed", "refused"), ("time out!", "time out"), ("ERR_CONECTION_REFUSED", "ERR_CONNECTION_REFUSED"), ("curl 99", "28")],
)  # fmt: skip
def test_unknown_words_name_what_is_near(words, near):
    """And nothing is guessed."""
    with pytest.raises(UnknownSeenError) as caught:
        read(words)
    assert near in caught.value.hint


def test_contradictions():
    """Two ends that one visitor cannot meet at once."""
    agreed("office", [read("200"), read("plain")])
    with pytest.raises(ContradictionError, match="'200' and 'time-out' contradict"):
        agreed("office", [read("200"), read("time-out")])
    with pytest.raises(ContradictionError):
        agreed("office", [read("404"), read("502")])


def suspected(text, *told, checked=(), url=VISIT, most=MOST_TRIED):
    """What may be wrong in an estate for what is seen."""
    held = loaded(text)
    world = World(held.estate, held.estate.at)
    sights = [(world.estate.vantages[name], tuple(map(read, words))) for name, *words in told]
    places = further_places(world, [name for name, *_ in told])
    world = world.with_vantages(*(each for each in places if each.name not in world.estate.vantages))
    found = doubt(world, url, sights, lambda patch: patched(held, patch).estate, most, checked)
    return found, places


#: What is seen from the street and the office, and a belief that gives it.
SEEN = [
    ("no such name", "no such name", "zones.kestrel-ridge.example.records.0"),
    ("refused", "refused", "routers.gateway.forwards.1"),
    ("expired", "expired", "certificates.visit"),
    ("404", "404", "hosts.orion.services.web.sites.visit"),
    ("time-out", "200", "routers.gateway.interfaces.line"),
    ("not tls", "not tls", "hosts.orion.services.web.listens.1"),
    ("wrong page", "wrong page", "hosts.orion.services.web.sites.visit"),
]


@pytest.mark.parametrize(("street", "office", "belief"), SEEN)
def test_beliefs_that_give_what_is_seen(street, office, belief):
    """The false one is among them, each gives exactly what is seen everywhere, and none is named twice."""
    found, _ = suspected(HEALTHY, ("street", street), ("office", office))
    assert not found.agrees
    objects = [each.object for each in found.suspects]
    assert any(each.startswith(belief) or belief.startswith(each) for each in objects), objects
    assert len(set(objects)) == len(objects)
    for each in found.suspects:
        for one in each.wrong:
            for sight in found.sights:
                seen = visit(one.world, VISIT, one.world.there(sight.vantage))
                assert sight.fits(seen), (each.object, one.way.text)


def test_what_the_estate_says_is_no_doubt():
    """Then nothing is suspected."""
    found, _ = suspected(HEALTHY, ("street", "200"), ("office", "page visit/index.html"))
    assert found.agrees
    assert found.suspects == ()


def test_who_says_that_it_works_means_the_page():
    """A forward to another machine would give 200, and another page."""
    text = (STORIES / "works-for-me" / "estate.yaml").read_text("utf-8")
    told = (("desk", "old page"), ("reading-room", "200"), ("street", "works"))
    found, _ = suspected(text, *told, url="http://visit.kestrel-ridge.example/")
    assert [each.object for each in found.suspects] == ["vantages.desk"]


def test_the_block_that_nobody_wrote_comes_first():
    """And beside it what no line could say."""
    text = (STORIES / "shut-door" / "estate.yaml").read_text("utf-8")
    found, places = suspected(
        text, ("street", "time-out"), ("office", "200"), url="http://visit.kestrel-ridge.example/"
    )
    assert found.suspects[0].wrong[0].way.text == "its provider lets nobody in at port 80"
    assert any("nobody described" in each.text for each in found.unknown)
    assert next_check(found, places) is not None


def test_what_was_looked_at_narrows_it_down():
    """Right clears a belief and all within it; wrong leaves those within it."""
    first, _ = suspected(HEALTHY, ("street", "refused"), ("office", "refused"))
    assert any(each.object.startswith("routers.gateway.forwards") for each in first.suspects)
    right, _ = suspected(
        HEALTHY, ("street", "refused"), ("office", "refused"), checked=[("routers.gateway.forwards", True)]
    )
    left = {each.object for each in right.suspects}
    assert left
    assert not any(each.startswith("routers.gateway.forwards") for each in left)
    wrong, _ = suspected(
        HEALTHY, ("street", "refused"), ("office", "refused"), checked=[("/routers/gateway/forwards", False)]
    )
    assert {each.object.split(".")[2] for each in wrong.suspects} == {"forwards"}


def test_places_are_named_as_they_are_shown():
    """A record of a master file by its file and line, as seen from the estate's folder."""
    text = HEALTHY.replace("    records:\n      - visit 3600 A 203.0.113.40\n", "    file: zones/one\n    records:\n")
    held = loaded(text, zones__one="@ 60 SOA ns a 1 60 60 60 60\n@ 60 NS ns.old.example.\nvisit 60 A 203.0.113.40\n")
    world = World(held.estate, held.estate.at)
    sights = [(world.estate.vantages["street"], (read("no such name"),))]
    found = doubt(world, VISIT, sights, lambda patch: patched(held, patch).estate, MOST_TRIED)
    (record,) = [each for each in found.suspects if each.belief.span.short == "zones/one:3"]
    assert is_of(record.belief, "zones/one:3")
    assert is_of(record.belief, "one:3")
    assert not is_of(record.belief, "other/one:3")
    assert not is_of(record.belief, "zones/one:2")


def test_more_that_is_told_throws_no_suspect_out_that_fits():
    """What fits all is a subset of what fitted before."""
    one, _ = suspected(HEALTHY, ("street", "time-out"))
    two, _ = suspected(HEALTHY, ("street", "time-out"), ("office", "200"))
    before = {each.object for each in (*one.suspects, *one.in_part)}
    assert {each.object for each in two.suspects} <= before
    assert {each.object for each in one.suspects} <= {each.object for each in (*two.suspects, *two.in_part)}


def test_the_next_check_splits_what_is_left():
    """Its answers leave less than all, and no suspect is in none of them."""
    found, places = suspected(HEALTHY, ("street", "time-out"))
    following = next_check(found, places)
    assert following is not None
    left = [{one.key for one in each.leaves} for each in following.answers]
    assert all(len(each) < len(found.suspects) for each in left)
    assert set().union(*left) == {each.key for each in found.suspects[:24]}


def test_what_an_outcome_looks_like_fits_it():
    """What somebody sees who gets an outcome is seen by who gets the same."""
    held = loaded(HEALTHY)
    world = World(held.estate, held.estate.at)
    for name in ("street", "office"):
        for url in (
            VISIT,
            "http://visit.kestrel-ridge.example/",
            "https://gone.kestrel-ridge.example/",
            "http://203.0.113.99/",
        ):
            found = visit(world, url, world.estate.vantages[name])
            assert of(found.outcome).fits(found, found.outcome)
            assert read(of(found.outcome).words).fits(found, found.outcome)
