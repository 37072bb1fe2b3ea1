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
    #: It takes no name server's name that is an alias (RFC 2181 section 10.3), no more records of a type (max-records-per-type),
    #: and fails where it is referred to where it came from.
    server_may_be_alias = False
    most_records: int | None = 100
    referred_is_empty = False
    asks_cookies = True
    signature_slack = (0, 0)
    #: Names that it answers by itself with "no such name": its empty zones; of the shared addresses (RFC 6598) too.
    empty_zones = LOCAL_ZONES | {f"{number}.100.in-addr.arpa" for number in range(64, 128)}


NAMED = Named()
