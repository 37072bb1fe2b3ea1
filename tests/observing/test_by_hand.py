"""Checks by hand, what a working answer rests on, several places, letters; the lines themselves are run in conformance.by_hand."""

import re

import pytest

from portolan.diagnosis.others import must_be_asked, runs
from portolan.diagnosis.search import explain
from portolan.evidence.outcome import DETAILS, Detail, Outcome
from portolan.formats.estate_file import patched
from portolan.journey.question import question
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.observing.by_hand import browser_words, by_hand
from portolan.observing.letter import letter
from portolan.observing.observation import read
from portolan.observing.rests_on import rests_on
from portolan.surveying.several import every_place, several
from tests.conftest import OFFICE, loaded, swap
from tests.diagnosis.test_every_fault import CERT, F443, FILES, REC, VISIT

#: A change of the office, and what the last of the visitor's own commands prints then.
PRINTS = [
    ([], "answer 200"),
    ([(REC, "")], None),
    ([(F443, "")], "Connection refused"),
    ([(CERT, CERT.replace("2026-06-01", "2026-03-01"))], "certificate has expired"),
    ([(CERT, CERT.replace("*.", "x."))], "no alternative certificate subject name matches"),
    ([(FILES, "files: [tonight.html]")], "answer 403"),
]


@pytest.mark.parametrize(("changes", "prints"), PRINTS)
def test_the_last_command_prints_what_stops_the_visit(changes, prints):
    """And those before it what went well; where a name is not found, nothing is printed."""
    held = loaded(swap(OFFICE, *changes))
    world = World(held.estate, held.estate.at)
    told = by_hand(world, visit(world, VISIT, world.estate.vantages["street"]))
    visitors = [each for each in told.checks if not each.inner]
    assert (visitors[-1].prints[0] if visitors[-1].prints else None) == prints
    assert visitors[-1].holds(f"* {prints}, it says" if prints else "\n")
    assert not visitors[-1].holds("something else")
    assert told.browser
    assert "ping" in told.ping.says


def test_a_machine_behind_is_looked_at_too():
    """Its listener, and the log's line with who asked."""
    held = loaded(OFFICE)
    world = World(held.estate, held.estate.at)
    told = by_hand(world, visit(world, VISIT, world.estate.vantages["street"]))
    (listening,) = [each for each in told.checks if each.inner]
    assert (listening.on, listening.command, listening.prints) == ("orion", "ss -Hltn 'sport = :443'", (":443 ",))
    (log,) = told.logs
    assert (log.on, log.file) == ("orion", "/var/log/nginx/access.log")
    assert log.line == '198.51.100.77 ... "GET / HTTP/..." 200'
    assert log.holds('198.51.100.77 - - [02/Dec/2026:04:00:00 +0000] "GET / HTTP/2.0" 200 9 "-" "curl"')
    assert not log.holds('198.51.100.7 - - [02/Dec/2026:04:00:00 +0000] "GET / HTTP/2.0" 200 9 "-" "curl"')


def test_what_a_working_answer_rests_on():
    """Each fact alone: without it the visitor gets something else."""
    held = loaded(OFFICE)
    world = World(held.estate, held.estate.at)
    asked = question(world, VISIT, "street")
    found = rests_on(asked, asked.answer(), lambda patch: patched(held, patch).estate)
    named = [each.fact.object for each in found.holds]
    assert "zones.kestrel-ridge.example.records.0" in named
    assert "routers.gateway.forwards.1" in named
    assert "routers.gateway.forwards.0" not in named
    assert found.tried > len(named)
    broken = loaded(swap(OFFICE, (F443, "")))
    lost = question(World(broken.estate, broken.estate.at), VISIT, "street")
    assert rests_on(lost, lost.answer(), lambda patch: patched(broken, patch).estate).tried == 0


def test_several_places_and_where_they_part():
    """Met from one and missed from another: the leg that differs is named."""
    held = loaded(OFFICE)
    world = World(held.estate, held.estate.at)
    found = several(world, VISIT, ["street", "office"])
    assert [bool(each.missed) for each in found.places] == [False, True]
    assert found.parting is not None
    assert found.parting.parting.leg == "connect"
    assert every_place(world) == ("street", "office", "internet")


def test_whose_a_change_is():
    """What is said closest to a thing counts; nothing said is one's own."""
    held = loaded(OFFICE.replace("  orion:\n", "  orion:\n    run_by: the hosting company\n").replace(
        "      web:\n", "      web:\n        run_by: a colleague\n"))  # fmt: skip
    assert runs(held.estate, ("hosts", "orion", "interfaces")) == "the hosting company"
    assert runs(held.estate, ("hosts", "orion", "services", "web", "listens", 0)) == "a colleague"
    assert runs(held.estate, ("routers", "gateway", "forwards")) is None


def test_a_letter_asks_for_what_is_proven():
    """To whom, what for, why, and the same command before and after."""
    text = swap(OFFICE, (F443, "")).replace("  gateway:\n", "  gateway:\n    run_by: the provider of the line\n")
    held = loaded(text)
    world = World(held.estate, held.estate.at)
    found = explain(world, VISIT, world.estate.vantages["street"], lambda patch: patched(held, patch).estate)
    remedy = found.remedies[0]
    assert must_be_asked(held.estate, remedy) == ("the provider of the line",)
    told = letter(world, found, remedy, patched(held, remedy.patch).estate)
    assert told.to == "the provider of the line"
    assert told.before.command == told.after.command
    assert told.before.prints == ("Connection refused",)
    assert told.after.prints == ("Connected to 203.0.113.40",)


def test_what_a_browser_shows_is_understood_again():
    """Whoever types its code says what the visitor got."""
    for kind, details in DETAILS.items():
        for detail in details:
            shown = browser_words(Outcome(kind, detail, None, None, VISIT, True, None))
            if detail is Detail.NO_TARGET:
                assert "often nothing" in shown
                continue
            code = re.search(r"\(([A-Z_]+)", shown)[1]
            assert {detail, None} & {each for _, each in read(code).endings}, (detail, code)
