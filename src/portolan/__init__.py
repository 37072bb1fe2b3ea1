"""Portolan works out what a visitor to a published website gets, and why.

For programs: `portolan.load("observatory")`, then `.follow(url, "street")`, `.explain(url, "street")` and `.check()`.
"""

# As type checkers read it; importing `typing` here would take longer than all else until signals are minded.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from portolan.public import Described


def load(path: str) -> "Described":
    """The estate in a folder or a file, ready for questions.

    Raises EstateError with every problem of the input, and UsageError where there is no estate.
    """
    from portolan.public import described

    return described(path)
