"""The small interface for programs: an estate, questions to it, typed results."""

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from portolan.cli.question import load_path
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.formats.estate_file import Loaded, patched
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World

if TYPE_CHECKING:  # loaded when somebody asks for them
    from portolan.diagnosis.asking import Answers
    from portolan.diagnosis.trial import Explanation


class Described(NamedTuple):
    """An estate as it was loaded. Every method answers anew; nothing is remembered between them."""

    loaded: Loaded

    @property
    def estate(self) -> Estate:
        """The estate's values."""
        return self.loaded.estate

    def changed(self, patch: list[dict[str, Any]]) -> "Described":
        """The estate with a JSON Patch applied (RFC 6902). Raises EstateError."""
        return Described(patched(self.loaded, patch))

    def follow(
        self, url: str, vantage: str, at: datetime | None = None, after_reboot: Iterable[str] | None = ()
    ) -> Visit:
        """What a visitor gets who asks for a URL. `at` is a moment with its zone; `after_reboot` names machines (None: all).

        Raises BadUrlError where the URL is none, and KeyError for an unknown vantage.
        """
        return visit(self._world(at, after_reboot), url, self._vantage(vantage))

    def explain(
        self, url: str, vantage: str, at: datetime | None = None, after_reboot: Iterable[str] | None = ()
    ) -> "Explanation":
        """Why a visitor does not get what is expected, and the remedies, proven. Raises as `follow` does."""
        from portolan.diagnosis.search import explain

        world = self._world(at, after_reboot)
        return explain(world, url, self._vantage(vantage), lambda patch: self.changed(patch).estate)

    def check(self, at: datetime | None = None) -> "Answers":
        """Every expectation asked from every vantage that it is for; the missed ones grouped by their first cause."""
        from portolan.diagnosis.asking import answers

        return answers(self._world(at, ()), lambda patch: self.changed(patch).estate)

    def _world(self, at: datetime | None, after_reboot: Iterable[str] | None) -> World:
        moment = at or self.estate.at or datetime.now(UTC).replace(microsecond=0)
        return World(self.estate, moment, None, None if after_reboot is None else frozenset(after_reboot))

    def _vantage(self, name: str) -> Vantage:
        return self.estate.vantages[name]


def described(path: str) -> Described:
    """The estate in a folder or a file. Raises EstateError or UsageError."""
    return Described(load_path(path))
