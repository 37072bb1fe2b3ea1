"""The URL that was typed, and the place: their errors are the user's, in one line."""

from collections.abc import Iterator
from contextlib import contextmanager

from portolan.cli.errors import UsageError
from portolan.estate.url import BadUrlError
from portolan.journey.question import UnknownPlaceError


@contextmanager
def asked() -> Iterator[None]:
    """Turns a bad URL, and an unknown place, into a usage error."""
    try:
        yield
    except BadUrlError as error:
        message, _, hint = str(error).partition(". ")
        raise UsageError(message, hint) from None
    except UnknownPlaceError as error:
        raise UsageError(str(error), error.hint) from None
