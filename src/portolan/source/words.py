"""Words with how often they stand somewhere, and which of them may be a slip of a text: few are looked at, however many there are."""

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable

#: So few words are all near; of more, so many to each side in each order.
_FEW, _BESIDE = 60, 15


class Words(Counter[str]):
    """Counted words. Not to be changed while `near` is iterated."""

    _orders: tuple[list[str], list[str]] | None = None

    def near(self, text: str, sign: str) -> Iterable[str]:
        """Those that a slip of a text may have meant.

        A slip of one letter leaves the beginning or the end as it is, so that what was meant stands beside the text in the order of
        letters, forwards or backwards, or nearly so. What the text begins or ends with, cut at a sign, belongs to them.
        """
        if len(self) <= _FEW:
            return tuple(self)
        if self._orders is None or len(self._orders[0]) != len(self):
            self._orders = sorted(self), sorted(word[::-1] for word in self)
        forwards, backwards = self._orders
        found = dict.fromkeys(_around(forwards, text))
        found.update(dict.fromkeys(word[::-1] for word in _around(backwards, text[::-1])))
        parts = text.split(sign)
        for at in range(1, len(parts)):
            found.update(dict.fromkeys(each for each in (sign.join(parts[at:]), sign.join(parts[:at])) if each in self))
        return tuple(found)


def _around(ordered: list[str], text: str) -> list[str]:
    at = bisect_left(ordered, text)
    return ordered[max(0, at - _BESIDE) : at + _BESIDE]
