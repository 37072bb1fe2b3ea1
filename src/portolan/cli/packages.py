"""Loads the two largest packages without the parts of them that nothing here uses: a seventh of a whole run."""

import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager

#: What YAML's own reader takes for no text, as it writes it; and the same, by what it leaves out, which is made ready at once.
NOT_PRINTABLE = "[^\x09\x0a\x0d\x20-\x7e\x85\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]"
SHORTER = "[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x84\x86-\x9f\ud800-\udfff\ufffe\uffff]"


def load_packages() -> None:
    """Loads the package that makes values and the one that reads YAML."""
    if "msgspec" not in sys.modules and "typing_extensions" not in sys.modules:
        with _not_to_be_had("typing_extensions"):
            # It looks there for what `typing` has since Python 3.11.
            import msgspec  # noqa: F401
    if "yaml" not in sys.modules:
        with _made_ready_sooner():
            import yaml  # noqa: F401


@contextmanager
def _not_to_be_had(name: str) -> Iterator[None]:
    sys.modules[name] = None  # type: ignore[assignment]  # "not to be had", as the import system has it
    try:
        yield
    finally:
        del sys.modules[name]


@contextmanager
def _made_ready_sooner() -> Iterator[None]:
    """Where one pattern over all of Unicode is asked for, its shorter form is made ready."""
    compiled = re.compile

    def sooner(pattern: str, flags: int = 0) -> "re.Pattern[str]":
        return compiled(SHORTER if pattern == NOT_PRINTABLE else pattern, flags)

    re.compile = sooner  # type: ignore[assignment]
    try:
        yield
    finally:
        re.compile = compiled
