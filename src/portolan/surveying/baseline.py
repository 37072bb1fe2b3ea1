"""What changed since an earlier survey: missed by now, mended by now, still missed."""

from collections.abc import Iterable

from portolan.source.value import Value
from portolan.surveying.answered import Answered

#: A question that two surveys have in common: the address and the place it is asked from.
Key = tuple[str, str]


class Since(Value, frozen=True):
    """A survey beside an earlier one. What nobody asked then, or asks now, is only counted."""

    new: tuple[Answered, ...]
    mended: tuple[Key, ...]
    still: tuple[Answered, ...]
    asked_first: int
    asked_no_more: int


class OtherEstateError(ValueError):
    """An earlier survey has no question in common with this one."""


def since(answers: Iterable[Answered], earlier: dict[Key, bool]) -> Since:
    """What changed since `earlier`, which says of each question whether it was met. Raises OtherEstateError.

    Where two expectations are about the same address from the same place, both must be met.
    """
    new, still, met, seen = list[Answered](), list[Answered](), dict[Key, bool](), 0
    for each in answers:
        key = (each.url, each.vantage)
        met[key] = met.get(key, True) and each.met
        if key not in earlier:
            seen += 1
        if not each.met:
            (still if earlier.get(key, True) is False else new).append(each)
    if earlier and met and not earlier.keys() & met.keys():
        raise OtherEstateError(f"none of its {len(earlier):,} questions is asked here")
    mended = tuple(key for key, was in earlier.items() if not was and met.get(key))
    return Since(tuple(new), mended, tuple(still), seen, len(earlier.keys() - met.keys()))
