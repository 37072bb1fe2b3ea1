"""A zone from the server that holds it, by zone transfer (RFC 5936), as a master file. Wire format by the DNS library."""

import binascii
import socket
import time
from typing import Any

from portolan.source.value import Value

#: A transfer that takes longer is given up, seconds; so is one that brings more octets, however fast.
LIMIT = 120.0
MOST_OCTETS = 64_000_000
#: How long one message may keep us waiting, seconds.
PATIENCE = 10.0


class TransferError(Exception):
    """The zone was not handed over; says what the server answered, and what to do."""

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(message)
        self.message, self.hint = message, hint


class Key(Value, frozen=True):
    """A transaction key (RFC 8945); its secret is never shown."""

    name: str
    algorithm: str
    secret: bytes


def key_from(text: str) -> Key:
    """A key from a file's text: name, algorithm and secret in base64, separated by spaces. Raises ValueError."""
    fields = text.split()
    if len(fields) != 3:
        raise ValueError("expected one line: NAME ALGORITHM SECRET")
    try:
        return Key(fields[0], fields[1].lower(), binascii.a2b_base64(fields[2], strict_mode=True))
    except binascii.Error:
        raise ValueError("the secret is not base64") from None


def transferred(name: str, server: str, port: int, key: Key | None) -> tuple[str, int]:
    """The zone as master file text with absolute names, and how many records it has. Raises TransferError."""
    import dns.exception
    import dns.name
    import dns.query
    import dns.rcode
    import dns.tsig
    import dns.xfr
    import dns.zone

    where = f"{server} port {port}"
    try:
        origin = dns.name.from_text(name)
        zone = dns.zone.Zone(origin, relativize=False)
        query, serial = dns.xfr.make_query(zone)
        if key is not None:
            query.use_tsig({dns.name.from_text(key.name): dns.tsig.Key(key.name, key.secret, key.algorithm)})
        _receive(zone, query, serial, server, port)
    except dns.xfr.TransferError as error:
        raise TransferError(
            f"{where} answered {dns.rcode.to_text(error.rcode)} for {name}",
            _ADVICE.get(dns.rcode.to_text(error.rcode), "Look at that server's log."),
        ) from None
    except (dns.tsig.PeerError, dns.tsig.BadSignature, dns.tsig.BadTime, NotImplementedError) as error:
        raise TransferError(
            f"{where} does not take the key ({type(error).__name__})",
            "Compare the key's name, algorithm and secret, and both clocks.",
        ) from None
    except ConnectionRefusedError:
        raise TransferError(
            f"{where} refused the connection", "Transfers go over TCP: is the server listening there?"
        ) from None
    except (dns.exception.Timeout, TimeoutError):
        raise TransferError(
            f"{where} did not answer in time", "Ask from a machine that its filter admits, over TCP port 53."
        ) from None
    except EOFError:
        raise TransferError(
            f"{where} hung up without a zone", "It may allow transfers to named addresses or keys only."
        ) from None
    except (dns.exception.DNSException, OSError, ValueError) as error:
        raise TransferError(
            f"no zone came from {where}: {str(error) or type(error).__name__}", "Check the address and the zone's name."
        ) from None
    records = sum(len(rdataset) for _, rdataset in zone.iterate_rdatasets())
    return f"$ORIGIN {origin}\n{zone.to_text(sorted=True, relativize=False, want_comments=False).rstrip()}\n", records


def _receive(zone: Any, query: Any, serial: int | None, server: str, port: int) -> None:
    """Takes a transfer's messages until it is whole (RFC 5936 section 2.2), for so long and so many octets at most."""
    import dns.message
    import dns.xfr

    end = time.monotonic() + LIMIT
    taken = 0
    wire = query.to_wire()
    with (
        socket.create_connection((server, port), PATIENCE) as connection,
        dns.xfr.Inbound(zone, query.question[0].rdtype, serial) as inbound,
    ):
        connection.sendall(len(wire).to_bytes(2, "big") + wire)
        tsig_context = None
        done = False
        while not done:
            size = int.from_bytes(_exactly(connection, 2, end), "big")
            taken += size
            if taken > MOST_OCTETS:
                raise ValueError(f"it sends more than {MOST_OCTETS // 1_000_000} MB")
            message = dns.message.from_wire(
                _exactly(connection, size, end),
                keyring=query.keyring,
                request_mac=query.mac,
                xfr=True,
                origin=zone.from_wire_origin(),
                tsig_ctx=tsig_context,
                multi=True,
                one_rr_per_rrset=False,
            )
            done = inbound.process_message(message)
            tsig_context = message.tsig_ctx
        if query.keyring and not message.had_tsig:
            raise ValueError("the last message is not signed")


def _exactly(connection: socket.socket, size: int, end: float) -> bytes:
    """So many octets; raises TimeoutError, and EOFError where the server hangs up."""
    parts = b""
    while len(parts) < size:
        left = min(PATIENCE, end - time.monotonic())
        if left <= 0:
            raise TimeoutError
        connection.settimeout(left)
        part = connection.recv(size - len(parts))
        if not part:
            raise EOFError
        parts += part
    return parts


_ADVICE = {
    "REFUSED": "It hands the zone to named addresses or keys only: have this machine allowed there, or name a key with --key.",
    "NOTAUTH": "It does not hold that zone, or does not hand it to this machine or key: ask a server that the zone's NS records name, or name a key with --key.",
    "NXDOMAIN": "It knows no such zone: check the name.",
    "SERVFAIL": "It holds the zone and cannot serve it: look at that server's log.",
    "NOTIMP": "It does not do zone transfers.",
}
