"""The small interface for programs: an estate, questions to it, typed results."""

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from portolan.cli.question import load_path
from portolan.estate.estate import Estate
from portolan.formats.estate_file import Loaded, patched
from portolan.journey.question import question
from portolan.journey.visit import Visit
from portolan.journey.world import World

if TYPE_CHECKING:  # loaded when somebody asks for them
    from portolan.diagnosis.asking import Answers
    from portolan.diagnosis.trial import Explanation
    from portolan.surveying.compared import Compared
    from portolan.surveying.exposed import Exposed
    from portolan.surveying.survey import Survey

#: Worlds of so many moments and boots are kept.
_MOST_WORLDS = 8


class Described:
    """An estate as it was loaded, asked as often as you like: what was worked out for one question serves the next."""

    def __init__(self, loaded: Loaded) -> None:
        self.loaded = loaded
        self._worlds: dict[object, World] = {}

    @property
    def estate(self) -> Estate:
        """The estate's values."""
        return self.loaded.estate

    def changed(self, patch: list[dict[str, Any]]) -> "Described":
        """The estate with a JSON Patch applied (RFC 6902). Raises EstateError."""
        return Described(patched(self.loaded, patch))

    def follow(
        self, url: str, vantage: str | None = None, at: datetime | None = None, after_reboot: Iterable[str] | None = ()
    ) -> Visit:
        """What a visitor gets who asks for a URL from a vantage, a machine, `near:` a network, or the `internet`.

        `at` is a moment with its zone; `after_reboot` names machines (None: all). Without a vantage it is the default, the only
        one, or the internet. Raises BadUrlError where the URL is none, and UnknownPlaceError (a LookupError) for an unknown place.
        """
        return question(self._world(at, after_reboot), url, vantage).answer()

    def explain(
        self, url: str, vantage: str | None = None, at: datetime | None = None, after_reboot: Iterable[str] | None = ()
    ) -> "Explanation":
        """Why a visitor does not get what is expected, and the remedies, proven. Raises as `follow` does."""
        from portolan.diagnosis.search import explain

        posed = question(self._world(at, after_reboot), url, vantage)
        return explain(posed.world, posed.url, posed.vantage, self._apply)

    def check(self, at: datetime | None = None) -> "Answers":
        """Every expectation asked from every vantage that it is for; the missed ones grouped by their first cause."""
        from portolan.diagnosis.asking import answers

        return answers(self._world(at, ()), self._apply)

    def survey(self, at: datetime | None = None, vantages: Iterable[str] = (), only: str | None = None) -> "Survey":
        """Every expectation from every vantage, in this process: met or missed, by cause.

        `vantages` are those to ask from, and `only` a pattern that addresses or host names fit. Raises UnknownPlaceError.
        """
        from portolan.surveying.survey import CHUNK, chunk, collected, questions, standing

        world, people = standing(self._world(at, ()), tuple(vantages))
        asked = questions(world, people, only)
        chunks = (chunk(world, asked, first) for first in range(0, len(asked), CHUNK))
        return collected(world, asked, chunks, self._apply)

    def compare(self, other: "Described", at: datetime | None = None) -> "Compared":
        """What differs for visitors between this estate and another one, at one moment; who gains and loses access."""
        from portolan.surveying.compared import compared

        moment = at or other.estate.at or self.estate.at
        return compared(self._world(moment, ()), other._world(moment, ()))

    def exposed(self, target: str | None = None, port: int | None = None, at: datetime | None = None) -> "Exposed":
        """Who gets through to a machine, an address, or anything. Raises UnknownTargetError (a LookupError)."""
        from portolan.surveying.exposed import exposed

        return exposed(self._world(at, ()), target, port)

    def _world(self, at: datetime | None, after_reboot: Iterable[str] | None) -> World:
        moment = at or self.estate.at or datetime.now(UTC).replace(microsecond=0)
        booted = None if after_reboot is None else frozenset(after_reboot)
        world = self._worlds.get((moment, booted))
        if world is None:
            while len(self._worlds) >= _MOST_WORLDS:
                del self._worlds[next(iter(self._worlds))]
            world = self._worlds[moment, booted] = World(self.estate, moment, None, booted)
        return world

    def _apply(self, patch: list[dict[str, Any]]) -> Estate:
        return patched(self.loaded, patch).estate


def described(path: str) -> Described:
    """The estate in a folder or a file. Raises EstateError or UsageError."""
    return Described(load_path(path))
