"""Constants that standards and resolvers as installed fix for names."""

from ipaddress import IPv4Address, IPv6Address

#: Names that resolvers as installed answer by themselves with "no such name" (measured on Unbound; RFC 6303, 6761, 7686, 8375).
EMPTY_ZONES = frozenset(
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
#: How many aliases a resolver follows, as the resolver that rehearsals use does.
MOST_ALIASES = 11
#: Where ordinary resolvers are thought to be, by IP version: benchmarking ranges (RFC 2544, RFC 5180), which no visitor uses.
ORDINARY_RESOLVERS = (IPv4Address("198.18.0.53"), IPv6Address("2001:2::53"))
#: Some address of the internet that nobody has (RFC 2544): to see by which address a box is seen there.
SOMEWHERE = IPv4Address("198.18.0.1")
