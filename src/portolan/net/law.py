"""Constants that standards and the kernel fix for connections."""

#: How Linux turns an ICMP message about a connection into the connection's error (RFC 1122 section 4.2.3.9).
ICMP_RESULT = {
    "port-unreachable": "refused",
    "host-unreachable": "unreachable",
    "net-unreachable": "unreachable",
    "host-prohibited": "unreachable",
    "net-prohibited": "unreachable",
    "admin-prohibited": "unreachable",
    "protocol-unreachable": "unreachable",
    "policy-fail": "unreachable",
    "time-exceeded": "unreachable",
}
