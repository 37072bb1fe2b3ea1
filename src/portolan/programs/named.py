"""BIND's named as a resolver, as installed (measured)."""

from portolan.programs.local_zones import LOCAL_ZONES


class Named:
    """The resolver side of named 9.18."""

    name = "named"
    #: It gives up behind so many aliases.
    most_aliases = 16
    fails_on_endless = True
    #: max-cache-ttl, max-ncache-ttl.
    longest_kept = 604800
    longest_absence = 10800
    absence_is_of_names = True
    #: dnssec-validation auto.
    validates = True
    #: Names that it answers by itself with "no such name": its empty zones; of the shared addresses (RFC 6598) too.
    empty_zones = LOCAL_ZONES | {f"{number}.100.in-addr.arpa" for number in range(64, 128)}


NAMED = Named()
