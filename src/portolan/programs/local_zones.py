"""Names that resolvers answer by themselves, measured on those that have programs here."""

#: Reverse zones of addresses that nobody has in public (RFC 6303 section 4), and the home's own domain (RFC 8375).
LOCAL_ZONES = frozenset(
    (
        "home.arpa",
        "0.in-addr.arpa",
        "10.in-addr.arpa",
        "127.in-addr.arpa",
        "254.169.in-addr.arpa",
        *(f"{number}.172.in-addr.arpa" for number in range(16, 32)),
        "168.192.in-addr.arpa",
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
