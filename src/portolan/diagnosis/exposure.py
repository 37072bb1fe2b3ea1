"""What a change lays open, computed from the worlds before and after it: nobody who proposes a change says how safe it is.

Looked at: who can newly connect to what, pages that newly come without encryption, legs that are no longer encrypted or
verified, what can newly be read, refusals that somebody set on purpose, and whom visitors newly trust. A vantage on the
internet stands for everybody there, unless the expectation is for some only; one on a segment for itself. Beside the estate's
vantages ask a stranger on the internet, one from each range that a rule names, and a neighbour on each segment. What works
again because a box, a service or a route does, was let in all the time, and lays nothing open (policy.py).
"""

from portolan.diagnosis.exposure_edge import bucket_gains, edge_gains, objects_told
from portolan.diagnosis.exposure_pages import forcing_gains, leg_gains, listener_gains, page_gains
from portolan.diagnosis.exposure_reach import REACHES, reach_gains
from portolan.diagnosis.exposure_sites import grant_gains, site_gains, trust_gains
from portolan.diagnosis.gains import GRADES, Asked, Gain
from portolan.diagnosis.policy import PLAINNESS, with_policy_of
from portolan.diagnosis.proposal import Safety
from portolan.estate.estate import Estate
from portolan.journey.expectation import misses
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value


class Exposure(Value, frozen=True):
    """All that a change lays open; `whole` says whether everything was looked at."""

    gains: tuple[Gain, ...]
    whole: bool = True

    @property
    def closed(self) -> bool:
        """Whether a refusal that is meant is lifted."""
        return any(gain.closed for gain in self.gains)

    @property
    def safety(self) -> Safety:
        """The class by itself; a smaller form of the same change may make it `weakens`."""
        if any(gain.grade == "more" for gain in self.gains):
            return Safety.WEAKENS
        return Safety.OPENS if self.gains or not self.whole else Safety.SAFE

    @property
    def told(self) -> tuple[str, ...]:
        """What is laid open in words, those who gain the same in one sentence."""
        found: dict[str, list[str]] = {}
        objects = objects_told(self.gains)
        for gain in self.gains:
            text = objects.get(gain.key, gain.text)
            found.setdefault(text, []).append(gain.key[1])
        return tuple(f"{', '.join(who)}{text}" if text.startswith(REACHES) else text for text, who in found.items())

    def eased(self, other: "Exposure") -> "Exposure":
        """The same change, where another expectation is missed too and is met by it: what that one needs is no more than is needed."""
        known = {gain.key: gain for gain in other.gains}
        pairs = [(gain, known.get(gain.key, gain)) for gain in self.gains]
        gains = (
            one.but(grade=min(one.grade, twin.grade, key=GRADES.index), closed=one.closed or twin.closed)
            for one, twin in pairs
        )
        return Exposure(tuple(gains), self.whole and other.whole)

    @property
    def beside(self) -> frozenset[tuple[str, ...]]:
        """What comes with it beyond what is expected."""
        return frozenset(gain.key for gain in self.gains if gain.grade != "needed")


def exposure(before: World, after: World, asked: Asked, seen: Visit) -> Exposure:
    """What a change of the world lays open; `seen` is what the visitor gets after it."""
    gains: list[Gain] = []
    whole = True
    one, other = before.estate, after.estate
    wanted = asked.expectation
    if wanted is not None and "closed" in wanted.marks and not misses(wanted, seen):
        # The visitor is refused as is expected: what leads there lifts nothing.
        asked = asked.but(closed=False)
    policy = with_policy_of(before.stated, after.stated)
    kept = after.changed(policy) if policy is not None else None
    if kept is not None and not _same_boxes(one, other):
        # With no other policy than before nobody gets through who was not let through all the time.
        reached, whole = reach_gains(before, after, kept, asked, seen)
        gains += reached
    gains += besides(before, after, kept, asked, seen)
    return Exposure(tuple({gain.key: gain for gain in reversed(gains)}.values())[::-1], whole)


def besides(before: World, after: World, kept: World | None, asked: Asked, seen: Visit) -> list[Gain]:
    """What a change lays open beside the ways to programs; `kept` is the changed world with the policy of before, None where that is the same."""
    gains: list[Gain] = []
    one, other = before.estate, after.estate
    if kept is not None:
        plainly = with_policy_of(before.stated, after.stated, PLAINNESS)
        if "takes-payments" in asked.marks:
            gains += page_gains(before, after, kept, asked)
        elif plainly is not None:
            gains += page_gains(before, after, after.changed(plainly), asked)
        gains += site_gains(one, other, asked, seen)
        gains += forcing_gains(before, after, asked)
    gains += listener_gains(one, other)
    gains += grant_gains(one, other, seen)
    gains += leg_gains(before, after, kept, asked, seen)
    gains += bucket_gains(one, other, asked, seen)
    gains += edge_gains(before, after, asked, seen)
    gains += trust_gains(one, other, asked)
    return gains


def _same_boxes(one: Estate, other: Estate) -> bool:
    """Whether nothing differs that carries or takes packets."""
    return all(
        len(left) == len(right) and all(right.get(name) is each for name, each in left.items())
        for left, right in (
            (one.routers, other.routers),
            (one.hosts, other.hosts),
            (one.groups, other.groups),
            (one.networks, other.networks),
        )
    )
