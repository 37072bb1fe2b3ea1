"""Prepared rules find exactly what a plain scan finds: the first that matches (nf_tables evaluates rules in order)."""

from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

from hypothesis import given
from hypothesis import strategies as st

from portolan.estate.base import PortRange
from portolan.estate.filter import FilterRule
from portolan.net.packet import Packet
from portolan.net.rules import FEW, Circumstances, Rules, Stretch, matches

#: Few values, so that rules and packets meet often, at edges above all.
V4 = [
    IPv4Network(text)
    for text in (
        "0.0.0.0/0",
        "10.0.0.0/8",
        "10.20.0.0/16",
        "10.20.0.0/24",
        "10.20.0.15/32",
        "10.20.0.128/25",
        "198.51.100.77/32",
    )
]
V6 = [IPv6Network(text) for text in ("::/0", "2001:db8::/32", "2001:db8:20::/64", "2001:db8:20::15/128")]
EDGES = (0, 1, 79, 80, 81, 442, 443, 444, 1023, 1024, 65534, 65535)
NETS = st.lists(st.sampled_from([*V4, *V6]), max_size=3, unique=True).map(tuple)
PORTS = st.lists(
    st.tuples(st.sampled_from(EDGES), st.sampled_from(EDGES)).map(lambda ends: PortRange(min(ends), max(ends))),
    max_size=3,
).map(tuple)
MESSAGES = ("neighbour-solicitation", "destination-unreachable")
STATES = ("untracked", "new", "established", "related", "invalid")


@st.composite
def rules(draw):
    """One rule without a jump."""
    protocol = draw(st.sampled_from(("tcp", "udp", "icmp", "any")))
    ports = protocol in ("tcp", "udp")
    word = draw(st.sampled_from(("allow", "drop", "reject", "back")))
    return FilterRule(
        **{word: protocol}, sources=draw(NETS), destinations=draw(NETS), ports=draw(PORTS) if ports else (),
        source_ports=draw(PORTS) if ports and draw(st.booleans()) else (),
        entering=draw(st.sampled_from(((), (), ("line",), ("line", "dome")))), leaving=draw(st.sampled_from(((), (), ("dome",)))),
        state=draw(st.sampled_from(((), (), ("new",), ("established", "related")))), forwarded=draw(st.sampled_from((None, None, True, False))),
        not_sources=draw(st.one_of(st.just(()), NETS)), not_destinations=draw(st.one_of(st.just(()), NETS)),
        not_ports=draw(PORTS) if ports and draw(st.booleans()) else (), not_source_ports=draw(PORTS) if ports and draw(st.booleans()) else (),
        not_entering=draw(st.sampled_from(((), (), ("line",)))), not_state=draw(st.sampled_from(((), (), ("new",)))),
        icmp_types=draw(st.sampled_from(((), MESSAGES[:1], MESSAGES))) if protocol == "icmp" else (),
    )  # fmt: skip


@st.composite
def asked(draw):
    """A packet at a box."""
    v6 = draw(st.booleans())
    nets = st.sampled_from(V6 if v6 else V4)
    kind = IPv6Address if v6 else IPv4Address
    offset = st.integers(0, 200)
    src, dst = (
        kind(min(int(draw(nets).network_address) + draw(offset), int(kind("ff::" if v6 else "223.0.0.0"))))
        for _ in range(2)
    )
    packet = Packet(draw(st.sampled_from(("tcp", "udp", "icmp"))), src, draw(st.sampled_from(EDGES)), dst, draw(st.sampled_from(EDGES)),
                    draw(st.sampled_from(STATES)))  # fmt: skip
    packet.message = draw(st.sampled_from((None, *MESSAGES))) if packet.protocol == "icmp" else None
    names = st.sampled_from((None, "line", "dome"))
    return packet, Circumstances(draw(names), draw(names), draw(st.booleans()))


@given(st.lists(rules(), min_size=FEW + 1, max_size=60), st.lists(asked(), min_size=1, max_size=8))
def test_the_first_rule_that_matches_is_found(held, packets):
    """Whatever the rules differ in."""
    prepared = Stretch(held)
    for packet, at in packets:
        assert prepared.first(packet, at) is next((rule for rule in held if matches(rule, packet, at)), None)


@given(rules(), st.lists(asked(), min_size=1, max_size=8))
def test_many_like_it_and_one_that_matches(rule, packets):
    """Hundreds of rules with one source, as in a list of blocked ports, and the one in question among them."""
    many = [FilterRule(drop="tcp", ports=(PortRange(port, port),), sources=(V4[1],)) for port in range(2000, 2400)]
    held = [*many[:200], rule, *many[200:]]
    for packet, at in packets:
        assert Stretch(held).first(packet, at) is next((each for each in held if matches(each, packet, at)), None)


def test_jumps_cut_the_rules():
    """A stretch on either side."""
    plain = FilterRule(allow="tcp")
    parts = Rules([plain, FilterRule(jump="x"), plain, plain]).parts
    assert [type(part).__name__ for part in parts] == ["Stretch", "FilterRule", "Stretch"]
