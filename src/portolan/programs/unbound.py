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
    #: It takes a name server's name that is an alias, any number of records, and answers without records where all servers of a
    #: zone hold the zone above alone, or a resolver that it passes on to refers it elsewhere.
    server_may_be_alias = True
    most_records: int | None = None
    referred_is_empty = True
    asks_cookies = False
    #: val-sig-skew-min, val-sig-skew-max (unbound.conf(5)).
    signature_slack = (3600, 86400)
    #: Names that it answers by itself with "no such name" (RFC 6761 and RFC 7686 beside the local ones).
    empty_zones = LOCAL_ZONES | {"test", "invalid", "onion"}


UNBOUND = Unbound()
