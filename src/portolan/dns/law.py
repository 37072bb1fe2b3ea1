"""Addresses by which the internet is asked where nobody describes who answers there."""

from ipaddress import IPv4Address, IPv6Address

#: Where ordinary resolvers are thought to be, by IP version: benchmarking ranges (RFC 2544, RFC 5180), which no visitor uses.
ORDINARY_RESOLVERS = (IPv4Address("198.18.0.53"), IPv6Address("2001:2::53"))
#: Some address of the internet that nobody has (RFC 2544): to see by which address a box is seen there.
SOMEWHERE = IPv4Address("198.18.0.1")
