"""Asks a resolver for the addresses of names: ask_names.py FILE ADDRESS; writes a JSON list of (outcome, addresses)."""

import json
import sys
from pathlib import Path

import dns.exception
import dns.message
import dns.query
import dns.rcode


def asked(name: str, server: str) -> tuple[str, list[str]]:
    """The outcome for a name, over both kinds of address."""
    found: list[str] = []
    codes = set()
    for kind in ("A", "AAAA"):
        try:
            answer = dns.query.udp(dns.message.make_query(name + ".", kind), server, timeout=8)
        except dns.exception.Timeout:
            return "resolver-timeout", []
        codes.add(dns.rcode.to_text(answer.rcode()))
        found += [
            item.to_text() for rrset in answer.answer for item in rrset if dns.rdatatype.to_text(rrset.rdtype) == kind
        ]
    if "SERVFAIL" in codes or "YXDOMAIN" in codes:
        return "resolver-failure", []
    if codes == {"NXDOMAIN"}:
        return "no-such-name", []
    return ("addresses", sorted(set(found))) if found else ("no-address" if codes == {"NOERROR"} else str(codes), [])


if __name__ == "__main__":
    path, resolver = sys.argv[1:]
    print(json.dumps([asked(name, resolver) for name in Path(path).read_text().split("\n")]))
