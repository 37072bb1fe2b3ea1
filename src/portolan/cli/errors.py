"""Errors of the command line itself."""


class UsageError(Exception):
    """The command line is wrong; one message, and the next thing to do."""

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint
