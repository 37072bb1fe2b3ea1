"""The order of addresses (RFC 6724 section 10.2's kind of examples)."""

from ipaddress import ip_address

import pytest

from portolan.dns.order import ordered


@pytest.mark.parametrize(
    ("sources", "targets", "expected"),
    [
        (["2001:db8:7::7", "198.51.100.7"], ["203.0.113.1", "2001:db8:9::9"], ["2001:db8:9::9", "203.0.113.1"]),
        (["198.51.100.7"], ["2001:db8:9::9", "203.0.113.1"], ["203.0.113.1", "2001:db8:9::9"]),
        (["2001:db8:7::7"], ["203.0.113.1", "2001:db8:9::9"], ["2001:db8:9::9", "203.0.113.1"]),
        (["fd00::7", "10.0.0.7"], ["2001:db8:9::9", "203.0.113.1"], ["203.0.113.1", "2001:db8:9::9"]),
        (["fd00::7", "10.0.0.7"], ["10.0.0.9", "fd00::9"], ["fd00::9", "10.0.0.9"]),
        (["2002:a00::7", "10.0.0.7"], ["10.0.0.9", "2002:a00::9"], ["2002:a00::9", "10.0.0.9"]),
        (["198.51.100.7"], ["203.0.113.2", "203.0.113.1"], ["203.0.113.2", "203.0.113.1"]),
        ([], ["203.0.113.2", "2001:db8::1"], ["203.0.113.2", "2001:db8::1"]),
    ],
)
def test_order(sources, targets, expected):
    """Reachable first, then scope, label and precedence; else as the resolver gave them."""
    held = [ip_address(each) for each in targets]
    own = {address.version: address for address in map(ip_address, sources)}
    order = ordered(held, lambda target: own.get(target.version))
    assert sorted(order) == list(range(len(held)))
    if sources:
        assert [str(held[index]) for index in order] == expected
