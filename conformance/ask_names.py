"""Asks a resolver for the addresses of names, as a program that uses the standard library only.

Usage: ask_names.py FILE ADDRESS; the file holds a name a line, the answer is a JSON list of (outcome, addresses).
"""

import json
import re
import socket
import struct
import sys
from concurrent.futures import ThreadPoolExecutor

_CODES = {0: "NOERROR", 2: "SERVFAIL", 3: "NXDOMAIN", 5: "REFUSED", 6: "YXDOMAIN"}
_KINDS = {"A": (1, socket.AF_INET), "AAAA": (28, socket.AF_INET6)}


def label(text: str) -> bytes:
    """A label as it goes over the wire, its `\\DDD` resolved (RFC 1035 sections 3.1 and 5.1)."""
    octets = re.sub(rb"\\([0-9]{3})", lambda match: bytes([int(match[1])]), text.encode("ascii"))
    return bytes([len(octets)]) + octets


def wire(name: str, kind: int, number: int) -> bytes:
    """A question with recursion desired (RFC 1035 section 4.1)."""
    labels = b"".join(map(label, name.split("."))) + b"\0"
    return struct.pack(">6H", number, 0x0100, 1, 0, 0, 0) + labels + struct.pack(">2H", kind, 1)


def behind_name(data: bytes, at: int) -> int:
    """Where a name ends, compressed or not (RFC 1035 section 4.1.4)."""
    while data[at]:
        if data[at] >= 0xC0:
            return at + 2
        at += data[at] + 1
    return at + 1


def addresses(data: bytes, kind: int, family: int) -> list[str]:
    """The addresses of an answer section."""
    _, _, questions, answers, _, _ = struct.unpack(">6H", data[:12])
    at = 12
    for _ in range(questions):
        at = behind_name(data, at) + 4
    found = []
    for _ in range(answers):
        at = behind_name(data, at)
        held, _, _, size = struct.unpack(">2HIH", data[at : at + 10])
        if held == kind:
            found.append(socket.inet_ntop(family, data[at + 10 : at + 10 + size]))
        at += 10 + size
    return found


def by_tcp(question: bytes, server: str) -> bytes:
    """The same question over TCP, where an answer was cut off (RFC 7766 section 8)."""
    with socket.create_connection((server, 53), 9) as asking:
        asking.sendall(struct.pack(">H", len(question)) + question)
        file = asking.makefile("rb")
        (size,) = struct.unpack(">H", file.read(2))
        return file.read(size)


def asked(name: str, server: str) -> tuple[str, list[str]]:
    """The outcome for a name, over both kinds of address."""
    found: list[str] = []
    codes = set()
    with socket.socket(socket.AF_INET6 if ":" in server else socket.AF_INET, socket.SOCK_DGRAM) as asking:
        asking.settimeout(9)
        asking.connect((server, 53))
        for kind, family in _KINDS.values():
            try:
                asking.send(wire(name, kind, kind))
                data = asking.recv(65535)
                while data[:2] != kind.to_bytes(2, "big"):
                    data = asking.recv(65535)
            except OSError:
                return "resolver-timeout", []
            if data[2] & 2:
                data = by_tcp(wire(name, kind, kind), server)
            codes.add(_CODES.get(data[3] & 15, str(data[3] & 15)))
            found += addresses(data, kind, family)
    if found:
        return "addresses", sorted(set(found))
    if codes & {"SERVFAIL", "YXDOMAIN"}:
        return "resolver-failure", []
    if codes == {"NXDOMAIN"}:
        return "no-such-name", []
    return "no-address" if codes <= {"NOERROR", "NXDOMAIN"} else str(sorted(codes)), []


if __name__ == "__main__":
    path, resolver = sys.argv[1:]
    with open(path, encoding="ascii") as file:
        names = file.read().split("\n")
    with ThreadPoolExecutor(24) as pool:
        print(json.dumps(list(pool.map(lambda name: asked(name, resolver), names))))
