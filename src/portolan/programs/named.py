"""BIND's named as a resolver, as installed (measured)."""


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
    #: Names that it answers by itself with "no such name" (RFC 6303, RFC 8375): its empty zones.
    empty_zones = frozenset(
        (
            "home.arpa",
            "10.in-addr.arpa",
            *(f"{number}.172.in-addr.arpa" for number in range(16, 32)),
            "168.192.in-addr.arpa",
            *(f"{number}.100.in-addr.arpa" for number in range(64, 128)),
            "0.in-addr.arpa",
            "127.in-addr.arpa",
            "254.169.in-addr.arpa",
            "2.0.192.in-addr.arpa",
            "100.51.198.in-addr.arpa",
            "113.0.203.in-addr.arpa",
            "255.255.255.255.in-addr.arpa",
            "d.f.ip6.arpa",
            "8.e.f.ip6.arpa",
            "9.e.f.ip6.arpa",
            "a.e.f.ip6.arpa",
            "b.e.f.ip6.arpa",
            "8.b.d.0.1.0.0.2.ip6.arpa",
        )
    )


NAMED = Named()
