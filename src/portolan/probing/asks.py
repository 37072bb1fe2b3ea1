"""The questions themselves: a name, a connection, a handshake, a request; each read-only and within its time."""

import http.client
import select
import socket
import ssl
import time
from collections.abc import Callable
from datetime import datetime
from typing import Any

from portolan.estate.base import IPAddress
from portolan.estate.url import Url
from portolan.evidence.outcome import Detail
from portolan.probing.plan import CONNECT_LIMIT, QUESTION_LIMIT, Server, address_of
from portolan.source.value import Value
from portolan.tls.verify import covers
from portolan.version import VERSION


class Named(Value, frozen=True):
    """What a server answers for a name: addresses, or in `detail` why there are none."""

    server: Server
    addresses: tuple[IPAddress, ...]
    detail: Detail | None
    words: str = ""


class Connected(Value, frozen=True):
    """A TCP connection: open (`detail` is None) or not, after how many seconds."""

    address: IPAddress
    port: int
    detail: Detail | None
    seconds: float
    words: str = ""


class Shown(Value, frozen=True):
    """A handshake: the chain that was sent, also where it fails; what is wrong with it, and the version of TLS."""

    address: IPAddress
    detail: Detail | None
    version: str | None
    chain: tuple[str, ...]
    names: tuple[str, ...]
    until: datetime | None
    words: str = ""


class Answered(Value, frozen=True):
    """A response: its status and where it sends on to; or in `detail` what came in its place."""

    status: int | None
    location: str | None
    server: str | None
    detail: Detail | None
    seconds: float
    words: str = ""


# -- names -------------------------------------------------------------------------------------------------------------


def look_up(server: Server, host: str) -> Named:
    """Asks one server, or this machine's own way, for both families."""
    return _own(server, host) if server.address is None else _asked(server, host)


#: What the system says where a name has no address, and where whoever it asks fails (getaddrinfo(3)).
_FAILS = {
    socket.EAI_NONAME: Detail.NO_SUCH_NAME,
    socket.EAI_AGAIN: Detail.RESOLVER_TIMEOUT,
    socket.EAI_FAIL: Detail.RESOLVER_FAILURE,
}
if hasattr(socket, "EAI_NODATA"):
    _FAILS[socket.EAI_NODATA] = Detail.NO_ADDRESS


def _own(server: Server, host: str) -> Named:
    try:
        found = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        number = error.errno if isinstance(error, socket.gaierror) else socket.EAI_NONAME
        return Named(server, (), _FAILS.get(number or 0, Detail.RESOLVER_FAILURE), str(error))
    addresses = [address_of(str(each[4][0])) for each in found]
    return Named(server, tuple(dict.fromkeys(each for each in addresses if each is not None)), None)


def _asked(server: Server, host: str) -> Named:
    import dns.exception
    import dns.message
    import dns.query
    import dns.rcode
    import dns.rdatatype

    found: list[IPAddress] = []
    code = dns.rcode.NOERROR
    for kind in ("A", "AAAA"):
        try:
            asked = dns.message.make_query(host, kind)
            answer, _ = dns.query.udp_with_fallback(asked, str(server.address), timeout=QUESTION_LIMIT)
        except dns.exception.Timeout:
            return Named(server, (), Detail.RESOLVER_TIMEOUT, f"no answer within {QUESTION_LIMIT:.0f} s")
        except (dns.exception.DNSException, OSError, ValueError) as error:
            return Named(server, (), Detail.RESOLVER_FAILURE, str(error))
        code = answer.rcode()
        if code != dns.rcode.NOERROR:
            break
        for each in answer.answer:
            if each.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
                found += [held for held in (address_of(item.address) for item in each) if held is not None]
    if found:
        return Named(server, tuple(found), None)
    detail = {
        dns.rcode.NOERROR: Detail.NO_ADDRESS,
        dns.rcode.NXDOMAIN: Detail.NO_SUCH_NAME,
        dns.rcode.REFUSED: Detail.REFUSED,
    }.get(code, Detail.RESOLVER_FAILURE)
    return Named(server, (), detail, dns.rcode.to_text(code))


# -- connections -------------------------------------------------------------------------------------------------------


def connect(address: IPAddress, port: int, limit: float = CONNECT_LIMIT) -> Connected:
    """Connects, and closes at once."""
    held, result = _open(address, port, limit)
    if held is not None:
        held.close()
    return result


def _open(address: IPAddress, port: int, limit: float) -> tuple[socket.socket | None, Connected]:
    start = time.monotonic()
    held = socket.socket(socket.AF_INET6 if address.version == 6 else socket.AF_INET, socket.SOCK_STREAM)
    held.settimeout(limit)
    detail: Detail | None = None
    words = ""
    try:
        held.connect((str(address), port))
    except TimeoutError:
        detail, words = Detail.TIMED_OUT, f"nothing within {limit:.0f} s"
    except ConnectionRefusedError as error:
        detail, words = Detail.REFUSED, error.strerror or ""
    except ConnectionResetError as error:
        detail, words = Detail.RESET, error.strerror or ""
    except OSError as error:
        detail, words = Detail.UNREACHABLE, error.strerror or str(error)
    if detail is not None:
        held.close()
    return held if detail is None else None, Connected(address, port, detail, round(time.monotonic() - start, 3), words)


# -- handshakes --------------------------------------------------------------------------------------------------------

#: Errors of a verification (openssl-verification-options(1)) in our words.
_ERRORS = {
    9: Detail.NOT_YET_VALID,
    10: Detail.EXPIRED,
    18: Detail.SELF_SIGNED,
    19: Detail.UNKNOWN_ISSUER,
    2: Detail.UNKNOWN_ISSUER,
    20: Detail.UNKNOWN_ISSUER,
    21: Detail.UNKNOWN_ISSUER,
}


def shake(url: Url, address: IPAddress) -> Shown:
    """Makes a handshake to its end whatever the chain is, and tells what a visitor would say of it."""
    from OpenSSL import SSL

    held, connected = _open(address, url.port, CONNECT_LIMIT)
    if held is None:
        return Shown(address, connected.detail, None, (), (), None, connected.words)
    errors: list[int] = []

    def noted(_conn: Any, _certificate: Any, number: int, _depth: int, _ok: int) -> bool:
        if number:
            errors.append(number)
        return True

    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_default_verify_paths()
    context.set_verify(SSL.VERIFY_PEER, noted)
    context.set_alpn_protos([b"http/1.1"])
    connection = SSL.Connection(context, held)
    if url.literal is None:
        connection.set_tlsext_host_name(url.host.rstrip(".").encode())
    connection.set_connect_state()
    try:
        words = _through(connection.do_handshake, held, SSL)
        if words is not None:
            return Shown(address, _failed(words), None, (), (), None, words)
        return _read(connection, url, address, errors)
    finally:
        held.close()


def _through(step: Callable[[], object], held: socket.socket, library: Any) -> str | None:
    """Carries a step of TLS to its end; in words what went wrong."""
    end = time.monotonic() + CONNECT_LIMIT
    while True:
        try:
            step()
        except library.WantReadError:
            if time.monotonic() > end or not select.select([held], [], [], max(0.0, end - time.monotonic()))[0]:
                return f"nothing within {CONNECT_LIMIT:.0f} s"
        except library.WantWriteError:
            select.select([], [held], [], max(0.0, end - time.monotonic()))
        except library.Error as error:
            parts = error.args[0] if error.args and isinstance(error.args[0], list) else []
            return "; ".join(str(each[-1]) for each in parts) or str(error) or "the handshake breaks off"
        except OSError as error:
            return error.strerror or str(error)
        else:
            return None


def _failed(words: str) -> Detail:
    low = words.lower()
    if "version" in low and "wrong" not in low:
        return Detail.NO_COMMON_VERSION
    if "certificate required" in low or "bad certificate" in low:
        return Detail.CLIENT_CERTIFICATE
    if "handshake failure" in low or "unrecognized name" in low:
        return Detail.OTHER
    return Detail.STALLED if low.startswith("nothing within") else Detail.NOT_TLS


def _read(connection: Any, url: Url, address: IPAddress, errors: list[int]) -> Shown:
    from cryptography import x509

    chain = [each.to_cryptography() for each in connection.get_peer_cert_chain() or ()]
    names: tuple[str, ...] = ()
    until = chain[0].not_valid_after_utc if chain else None
    if chain:
        try:
            held = chain[0].extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            names = (*held.get_values_for_type(x509.DNSName), *map(str, held.get_values_for_type(x509.IPAddress)))
        except (x509.ExtensionNotFound, ValueError):
            names = ()
    detail = next((_ERRORS.get(each, Detail.OTHER) for each in errors), None)
    if detail is None and not any(covers(each.lower(), url.host.rstrip("."), url.literal) for each in names):
        detail = Detail.NAME_MISMATCH
    subjects = tuple(each.subject.rfc4514_string() for each in chain)
    return Shown(address, detail, connection.get_protocol_version_name(), subjects, names, until)


# -- requests ----------------------------------------------------------------------------------------------------------


def request(url: Url, address: IPAddress, limit: float = CONNECT_LIMIT) -> Answered:
    """Asks for a page, as a visitor does who read nothing of it but its head."""
    start = time.monotonic()
    held, connected = _open(address, url.port, limit)
    if held is None:
        return Answered(None, None, None, connected.detail, connected.seconds, connected.words)
    try:
        if url.secure:
            held = ssl.create_default_context().wrap_socket(held, server_hostname=url.host.rstrip("."))
        asked = http.client.HTTPConnection(url.host, url.port, timeout=limit)
        asked.sock = held
        fields = {"User-Agent": f"portolan/{VERSION}", "Accept": "*/*", "Connection": "close"}
        asked.request("GET", f"{url.path}{url.query}", headers=fields)
        answer = asked.getresponse()
        took = round(time.monotonic() - start, 3)
        return Answered(answer.status, answer.getheader("Location"), answer.getheader("Server"), None, took)
    except (http.client.HTTPException, OSError) as error:
        took = round(time.monotonic() - start, 3)
        return Answered(None, None, None, _broken(error), took, str(error) or type(error).__name__)
    finally:
        held.close()


def _broken(error: Exception) -> Detail:
    if isinstance(error, TimeoutError):
        return Detail.STALLED
    if isinstance(error, http.client.RemoteDisconnected):
        return Detail.EMPTY
    if isinstance(error, ConnectionResetError | BrokenPipeError):
        return Detail.CUT_OFF
    return Detail.GARBLED
