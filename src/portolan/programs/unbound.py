"""Unbound, as installed (measured)."""

from portolan.programs.local_zones import LOCAL_ZONES


class Unbound:
    """The resolver that stands for ordinary ones too."""

    name = "Unbound"
    #: It gives up behind so many aliases.
    most_aliases = 11
    fails_on_endless = False
    #: cache-max-ttl, cache-max-negative-ttl (unbound.conf(5)).
    longest_kept = 86400
    longest_absence = 3600
    absence_is_of_names = False
    #: With the root's key installed beside it, as the distribution does.
    validates = True
    #: Names that it answers by itself with "no such name" (RFC 6761 and RFC 7686 beside the local ones).
    empty_zones = LOCAL_ZONES | {"test", "invalid", "onion"}


UNBOUND = Unbound()
