"""The words of iptables' rules and what the estate calls the same; options of one meaning stand on one line."""


def _table(text: str) -> dict[str, str]:
    """Each word before the sign with the meaning behind it."""
    pairs = (line.partition(" = ") for line in text.strip().splitlines())
    return {word: meaning.strip() for words, _, meaning in pairs for word in words.split()}


ANSWERS = _table("""
icmp-port-unreachable icmp6-port-unreachable port-unreach = port-unreachable
icmp-host-unreachable icmp6-addr-unreachable addr-unreach = host-unreachable
icmp-net-unreachable icmp6-no-route no-route = net-unreachable
icmp-proto-unreachable = protocol-unreachable
icmp-host-prohibited = host-prohibited
icmp-net-prohibited = net-prohibited
icmp-admin-prohibited icmp6-adm-prohibited adm-prohibited = admin-prohibited
tcp-reset = tcp-reset
icmp6-policy-fail = policy-fail
""")
#: Kinds of ICMP (RFC 792) and ICMPv6 (RFC 4443, RFC 4861), by number or name.
ICMP = _table("""
8 echo-request = echo-request
0 echo-reply = echo-reply
3 destination-unreachable = destination-unreachable
11 time-exceeded = time-exceeded
12 parameter-problem = parameter-problem
""")
ICMP6 = _table("""
128 echo-request = echo-request
129 echo-reply = echo-reply
1 destination-unreachable = destination-unreachable
2 packet-too-big = packet-too-big
3 time-exceeded = time-exceeded
4 parameter-problem = parameter-problem
133 router-solicitation = router-solicitation
134 router-advertisement = router-advertisement
135 neighbour-solicitation neighbor-solicitation = neighbour-solicitation
136 neighbour-advertisement neighbor-advertisement = neighbour-advertisement
""")
#: What a rule asks, by option.
ASKED = _table("""
-s --source --src-range = from
-d --destination --dst-range = to
-i --in-interface = in
-o --out-interface = out
-p --protocol = protocol
--dport --destination-port --dports = ports
--sport --source-port --sports = source_ports
--ctstate --state = state
--icmp-type --icmpv6-type = icmp
--dst-type = to_own
--src-type = from_own
--match-set = set
--ctorigdstport = origin
""")
PROTOCOLS = _table("""
tcp 6 = tcp
udp 17 = udp
icmp 1 ipv6-icmp icmpv6 58 = icmp
all 0 = any
""")
#: Options of targets whose value counts, and those without a value.
WITH_VALUE = frozenset(
    ["--reject-with", "--to-destination", "--to-source", "--to-ports", "--comment", "--log-prefix", "--log-level"]
)
ALONE = frozenset(
    [
        "--random",
        "--random-fully",
        "--persistent",
        "--log-uid",
        "--log-tcp-options",
        "--log-ip-options",
        "--log-macdecode",
        "--log-tcp-sequence",
    ]
)
#: Targets that let a packet go on as it is.
SILENT = frozenset(
    [
        "LOG",
        "NFLOG",
        "ULOG",
        "MARK",
        "CONNMARK",
        "TRACE",
        "NOTRACK",
        "CHECKSUM",
        "TCPMSS",
        "CT",
        "TOS",
        "DSCP",
        "CLASSIFY",
    ]
)
#: Matches that only carry other options, or that the reader knows.
PLAIN_MODULES = frozenset(
    ["tcp", "udp", "comment", "state", "conntrack", "multiport", "icmp", "icmp6", "addrtype", "iprange"]
)
