"""The rules that the sensitivity run breaks are still called as they are written."""

import inspect
from typing import Any
from unittest.mock import _patch

import pytest

from conformance.sensitivity import BREAKS, EDGE_BREAKS

EVERY = BREAKS | EDGE_BREAKS


def _exchanged(name: str) -> tuple[Any, Any]:
    """The real function and the one that stands for it, where a rule is broken by exchanging one."""
    broken: Any = EVERY[name]()
    if not isinstance(broken, _patch):
        return None, None
    # What is not there any more breaks nothing.
    real = None if broken.create else getattr(broken.getter(), broken.attribute)
    return (real, broken.new) if inspect.isroutine(real) and inspect.isroutine(broken.new) else (None, None)


FUNCTIONS = [name for name in EVERY if _exchanged(name)[0] is not None]


def test_most_rules_are_broken_by_exchanging_a_function() -> None:
    assert len(FUNCTIONS) > len(EVERY) // 2


@pytest.mark.parametrize("name", FUNCTIONS)
def test_a_broken_rule_takes_what_the_real_one_takes(name: str) -> None:
    real, other = _exchanged(name)
    taken = [each for each in inspect.signature(real).parameters.values() if each.kind in (0, 1)]
    try:
        inspect.signature(other).bind(*taken)
    except TypeError as error:
        pytest.fail(f"{name}: {error}")
