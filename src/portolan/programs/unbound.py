"""Unbound, as installed (measured)."""


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
    #: Names that it answers by itself with "no such name" (RFC 6303, 6761, 7686, 8375).
    empty_zones = frozenset(
        (
            "test",
            "invalid",
            "onion",
            "home.arpa",
            "127.in-addr.arpa",
            "10.in-addr.arpa",
            "168.192.in-addr.arpa",
            "254.169.in-addr.arpa",
            *(f"{number}.172.in-addr.arpa" for number in range(16, 32)),
            "2.0.192.in-addr.arpa",
            "100.51.198.in-addr.arpa",
            "113.0.203.in-addr.arpa",
            "255.255.255.255.in-addr.arpa",
            "0.in-addr.arpa",
            "d.f.ip6.arpa",
            "8.e.f.ip6.arpa",
            "9.e.f.ip6.arpa",
            "a.e.f.ip6.arpa",
            "b.e.f.ip6.arpa",
            "8.b.d.0.1.0.0.2.ip6.arpa",
        )
    )


UNBOUND = Unbound()
