"""The URL that was typed: its errors are the user's, in one line."""

from collections.abc import Iterator
from contextlib import contextmanager

from portolan.cli.errors import UsageError
from portolan.estate.url import BadUrlError


@contextmanager
def asked() -> Iterator[None]:
    """Turns a bad URL into a usage error."""
    try:
        yield
    except BadUrlError as error:
        message, _, hint = str(error).partition(". ")
        raise UsageError(message, hint) from None
