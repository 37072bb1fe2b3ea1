"""Constants that standards and the kernel fix for connections."""

from portolan.evidence.outcome import Detail

#: How Linux turns an ICMP message about a connection into the connection's error (RFC 1122 section 4.2.3.9).
ICMP_RESULT: dict[str, Detail] = {
    "port-unreachable": Detail.REFUSED,
    "host-unreachable": Detail.UNREACHABLE,
    "net-unreachable": Detail.UNREACHABLE,
    "host-prohibited": Detail.UNREACHABLE,
    "net-prohibited": Detail.UNREACHABLE,
    "admin-prohibited": Detail.UNREACHABLE,
    "protocol-unreachable": Detail.UNREACHABLE,
    "policy-fail": Detail.UNREACHABLE,
    "time-exceeded": Detail.UNREACHABLE,
}
