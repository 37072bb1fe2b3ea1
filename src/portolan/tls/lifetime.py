"""When a certificate should have been renewed."""

from datetime import datetime, timedelta

#: The most that is left when it is late.
SOON = timedelta(days=21)
_SHORT = timedelta(days=10)


def late(starts: datetime | None, until: datetime) -> timedelta:
    """What of its life is left when a renewal should have run: a third, or half of one that lives under ten days."""
    if starts is None:
        return SOON
    life = until - starts
    return min(SOON, life / 2 if life < _SHORT else life / 3)
