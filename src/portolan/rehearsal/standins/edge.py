"""Plays a rented edge, by the facts that are handed to it: the paper's table "Caching edge"."""

import contextlib
import re
import socket
import ssl
import sys
import threading
import time
from email.utils import parsedate_to_datetime
from itertools import product
from typing import Any
from urllib.parse import unquote

from portolan.rehearsal.standins.wire import MOST_BYTES, PASSED, SIGNED, Asked, Given, facts_of, loaded, serve

#: The fields of an answer that decide something.
_KEPT = frozenset(("location", "cache-control", "set-cookie", "expires", "age"))
CONNECT_LIMIT, ANSWER_LIMIT = 2.0, 3.0
_HOP = frozenset(
    ("connection", "keep-alive", "proxy-connection", "te", "trailer", "upgrade", "transfer-encoding", "host")
)


class FailedError(Exception):
    """The origin gave nothing; the word says how."""


class Edge:
    """A rented edge: paper's table "Caching edge"."""

    def __init__(self, facts: dict[str, Any]) -> None:
        self.facts = facts
        #: What it holds, by visit (each question is a visit of its own) and key.
        self.held: dict[tuple[str, ...], Given] = {}
        #: Keys of which a write cleared what it is said to hold.
        self.cleared: set[tuple[str, ...]] = set()
        self.lock = threading.Lock()
        #: As it is for some paths, the first that fits.
        self.parts = [(each["path"], Edge({**facts, **each})) for each in facts.pop("by_path", ())]

    def at(self, path: str) -> "Edge":
        """As it is for a path."""
        fits = (
            edge for start, edge in self.parts if path == start or (start[-1] == "*" and path.startswith(start[:-1]))
        )
        return next(fits, self)

    def told(self, host: str) -> bool:
        """Whether it was told a name."""
        if host in self.facts["held_by_others"]:
            return False
        for name in self.facts["names"]:
            if name == host or (name.startswith("*.") and host.endswith(name[1:]) and len(host) > len(name) - 1):
                return True
            if name.startswith(".") and (host == name[1:] or host.endswith(name)):
                return True
            if name.endswith(".*") and host.startswith(name[:-1]) and len(host) > len(name) - 1:
                return True
        return False

    def contexts(self) -> ssl.SSLContext:
        """TLS by name: its own certificate, its provider's, or no handshake."""

        provider = loaded(self.facts["provider"])
        own = loaded(self.facts["certificate"]) if self.facts["certificate"] else provider

        def chosen(connection: Any, name: str | None, _context: Any) -> int | None:
            host = (name or "").lower().rstrip(".")
            if name is None:
                connection.context = own
            elif self.told(host):
                connection.context = provider if host == self.facts["canonical"] else own
            elif self.facts["unknown_in_tls"] == "rejected":
                return int(ssl.ALERT_DESCRIPTION_UNRECOGNIZED_NAME)
            return None

        provider.sni_callback = chosen
        return provider

    def answer(self, asked: Asked) -> Given:
        """What it says."""
        facts = self.facts
        if not asked.host:
            return Given(400)
        if not self.told(asked.host):
            return Given(facts["refuses_with"])
        if facts["recognises_itself"] and facts["self"] in asked.headers.get(PASSED, "").split(","):
            return Given(502)
        here = self.at(asked.path)
        for stage in facts["order"]:
            turned = {"filter": here.filtered, "plain": here.plain, "method": here.method}[stage](asked)
            if turned is not None:
                return turned
        path = asked.path
        if path == "/" and facts["index_file"]:
            path = "/" + facts["index_file"].lstrip("/")
        given = here.through(asked, path)
        page = facts["error_pages"].get(str(given.status))
        if page is None:
            return given
        shown = self.at(page).through(asked._replace(method="GET", body=b"", target=page), page)
        if not 200 <= shown.status < 300:
            return given
        return Given(facts["error_pages_say"].get(str(given.status), given.status), shown.body)

    def filtered(self, asked: Asked) -> Given | None:
        """By where they come from, and what they send."""
        from ipaddress import ip_address, ip_network

        access = self.facts["access"]
        if access is None:
            return None
        source = ip_address(asked.peer)
        inside = [any(source in ip_network(each) for each in access[key]) for key in ("from", "not_from")]
        kept_out = (bool(access["from"]) and not inside[0]) or inside[1]
        lacking = any(asked.headers.get(name, "") != value for name, value in access["headers"].items())
        return Given(403) if kept_out or lacking else None

    def plain(self, asked: Asked) -> Given | None:
        """What plain requests get."""
        if asked.secure or self.facts["plain"] == "serve":
            return None
        if self.facts["plain"] == "refuse":
            return Given(403)
        return Given(self.facts["plain_with"], "", {"Location": f"https://{asked.host}{asked.target}"})

    def method(self, asked: Asked) -> Given | None:
        """Only some methods pass."""
        return None if asked.method in self.facts["methods"] else Given(self.facts["method_refused_with"])

    # -- what is held --

    def through(self, asked: Asked, path: str) -> Given:
        """What is held, or what the origin says."""
        facts = self.facts
        usual = asked.method in ("GET", "HEAD")
        caching = facts["caches"] and usual and "upgrade" not in asked.headers and "authorization" not in asked.headers
        key = (
            asked.headers.get("user-agent", ""),
            *self.key(asked.scheme, asked.host, path, asked.query, asked.headers),
        )
        with self.lock:
            just = self.held.get(key) if caching else None
            cleared = key in self.cleared
        if just is not None:
            return just
        old = self.stated(key[1:]) if caching and not cleared else None
        if old is not None and old[0] == "fresh":
            return old[1]
        if old is not None and facts["after_time"] == "old-first":
            return old[1]
        try:
            given = self.ask(asked, path)
        except FailedError as failed:
            if old is not None and facts["after_time"] == "old-on-error":
                return old[1]
            return Given(facts["statuses"][str(failed)])
        if old is not None and facts["after_time"] == "old-on-error" and given.status >= 500:
            return old[1]
        if facts["writes_clear"] and asked.method not in ("GET", "HEAD", "OPTIONS", "TRACE") and given.status < 400:
            with self.lock:
                self.held.pop(key, None)
                self.cleared.add(key)
        if caching and self.lifetime(given) > 0:
            with self.lock:
                self.held[key] = given
        return given

    def key(self, scheme: str, host: str, path: str, query: str, headers: dict[str, str]) -> tuple[str, ...]:
        """What an answer is known by."""
        clean = re.sub("/+", "/", unquote(path))
        parts = {"scheme": scheme, "name": host, "path": path, "normal-path": clean, "query": query}
        found = [parts[each] if each in self.facts["key"] else "" for each in parts]
        return (*found, *(headers.get(each, "") for each in self.facts["key_headers"]))

    def stated(self, key: tuple[str, ...]) -> tuple[str, Given] | None:
        """What it is said to hold, and whether its time is over."""
        for held in [*({"url": each, "gone": True} for each in self.facts["purged"]), *self.facts["holds"]]:
            if held["url"] == "*":
                return None
            scheme, _, rest = held["url"].partition("://")
            host, slash, target = rest.partition("/")
            path, mark, query = (slash + target).partition("?")
            own = self.key(scheme, host.partition(":")[0].lower(), path.rstrip("*") or "/", mark + query, {})
            parts = key[: len(own)] if not self.facts["key_headers"] else key
            fits = own == parts if not held["url"].endswith("*") else _starts(own, parts)
            if not fits:
                continue
            if "gone" in held:
                return None
            given = Given(held["status"], held["page"] or "", {"Location": held["to"]} if held["to"] else {})
            seconds = held["keeps"] if held["keeps"] is not None else self.lifetime(given)
            if seconds <= 0:
                return None
            over = held["age"] - seconds
            if over < 0:
                return "fresh", given
            usable = self.facts["after_time"] != "asks" and (
                self.facts["old_for"] is None or over <= self.facts["old_for"]
            )
            return ("old", given) if usable else None
        return None

    def lifetime(self, given: Given) -> int:
        """How long an answer is held."""
        fields = {name.lower(): value for name, value in given.headers.items()}
        if "set-cookie" in fields and not self.facts["holds_cookies"]:
            return 0
        said = fields.get("cache-control", "").lower() if self.facts["obeys_origin"] else ""
        if re.search(r"\b(no-store|no-cache|private)\b", said):
            return 0
        stated = re.search(r"s-maxage=\"?([0-9]+)", said) or re.search(r"(?<!s-)max-age=\"?([0-9]+)", said)
        age = int(fields.get("age", "0")) if self.facts["counts_age"] else 0
        if stated:
            return int(stated[1]) - age
        if "expires" in fields and self.facts["obeys_origin"]:
            return int(parsedate_to_datetime(fields["expires"]).timestamp() - time.time()) - age
        usual = self.facts["keeps"].get(str(given.status))
        return int(usual) if usual is not None else 10 if given.status >= 400 else 0

    # -- the origin --

    def ask(self, asked: Asked, path: str) -> Given:
        """What the origin says; from each range in turn, and the worst of it, since any of them may be whose turn it is.

        So with the addresses of the origin, where it does not go on from one to the next.
        """
        worst: Given | None = None
        addresses = self.addresses(asked)
        each_alone = not self.facts["origin"]["tries_all"]
        for source, only in product(
            self.facts["sources"] or [None], [[each] for each in addresses] if each_alone else [addresses]
        ):
            given = self.ask_from(asked, path, source, only)
            kept_out = given.status in (401, 403) and worst is not None and worst.status < 400
            worst = given if worst is None or kept_out else worst
        if worst is None:
            raise FailedError("refused")
        return worst

    def addresses(self, asked: Asked) -> list[str]:
        """Whom it may ask."""
        origin = self.facts["origin"]
        if origin["scheme"]:
            raise FailedError("unknown_name")
        return self.records(asked.host) if origin["recorded"] else self.lookup(origin["name"] or asked.host, 80)

    def ask_from(self, asked: Asked, path: str, source: list[str] | None, addresses: list[str]) -> Given:
        """One exchange."""
        origin = self.facts["origin"]
        name = origin["name"] or asked.host
        secure = origin["leg"] != "plain"
        port = origin["port"] or (443 if secure else 80)
        usual = 443 if secure else 80
        shown = f"[{name}]" if ":" in name else name
        own = shown if port == usual else f"{shown}:{port}"
        host = {"own": own, "kept": asked.host}.get(origin["host"], origin["host"])
        connection = self.connect(addresses, port, source)
        with connection:
            if secure:
                connection = self.encrypted(connection, re.sub(r":[0-9]+$", "", host) if host != own else name)
            target = joined(origin["path"] + origin["prefix"], path, origin["joins"]) + asked.query
            return self.exchange(connection, asked, target, host)

    def records(self, host: str) -> list[str]:
        """The record's own addresses, where it is switched on at one."""
        for name, held in self.facts["records"].items():
            if name == host or (name.startswith("*.") and host.endswith(name[1:])):
                if held["alias"]:
                    return self.lookup(held["alias"], 80)
                return [str(each) for each in held["addresses"]]
        raise FailedError("unknown_name")

    @staticmethod
    def lookup(name: str, port: int) -> list[str]:
        try:
            found = socket.getaddrinfo(name, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError):
            raise FailedError("unknown_name") from None
        return list(dict.fromkeys(str(each[4][0]) for each in found))

    def connect(self, addresses: list[str], port: int, source: list[str] | None) -> socket.socket:
        """To the first address that takes it."""
        last = "refused"
        for address in addresses:
            family = socket.AF_INET6 if ":" in address else socket.AF_INET
            connection = socket.socket(family, socket.SOCK_STREAM)
            connection.settimeout(CONNECT_LIMIT)
            try:
                own = [each for each in source or () if (":" in each) == (":" in address)]
                if own:
                    connection.bind((own[0], 0))
                connection.connect((address, port))
            except OSError as error:
                connection.close()
                refused = isinstance(error, ConnectionRefusedError | ConnectionResetError)
                last = "refused" if refused else "no_connect"
                continue
            connection.settimeout(ANSWER_LIMIT)
            return connection
        raise FailedError(last)

    def encrypted(self, connection: socket.socket, name: str) -> Any:
        """The leg by its policy: encrypted unchecked, or verified for the name that is sent."""
        origin = self.facts["origin"]
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        if origin["leg"] == "verified":
            context.verify_mode = ssl.CERT_REQUIRED
            context.check_hostname = True
            with contextlib.suppress(ssl.SSLError):
                context.load_verify_locations(origin["trust"])
        bare = name.strip("[]")
        try:
            literal = bool(re.fullmatch(r"[0-9.]+|.*:.*", bare))
            bare = origin["says_name"] if isinstance(origin["says_name"], str) else bare
            literal = literal and not isinstance(origin["says_name"], str)
            told = bare if origin["says_name"] and (not literal or origin["leg"] == "verified") else None
            if told is None and origin["leg"] == "verified":
                context.check_hostname = False
            return context.wrap_socket(connection, server_hostname=told)
        except (OSError, ValueError):
            raise FailedError("handshake") from None

    def exchange(self, connection: Any, asked: Asked, target: str, host: str) -> Given:
        """Request and response, read to their end."""
        facts = self.facts
        headers = {name: value for name, value in asked.headers.items() if name not in _HOP and name != SIGNED}
        if "forwarded" in (facts["scheme_header"], facts["address_header"]):
            peer = f'"[{asked.peer}]"' if ":" in asked.peer else asked.peer
            said = [f"for={peer}"] if facts["address_header"] == "forwarded" else []
            said += [f"proto={asked.scheme}"] if facts["scheme_header"] == "forwarded" else []
            headers["forwarded"] = ", ".join(filter(None, (headers.get("forwarded"), ";".join(said))))
        if facts["scheme_header"] not in ("", "forwarded"):
            headers[facts["scheme_header"]] = asked.scheme
        if facts["address_header"] not in ("", "forwarded"):
            held = headers.get(facts["address_header"])
            headers[facts["address_header"]] = f"{held}, {asked.peer}" if held else asked.peer
        headers.update(facts["origin"]["sends"])
        if facts["origin"]["signs"]:
            headers[SIGNED] = facts["name"]
        headers[PASSED] = ",".join(filter(None, (headers.get(PASSED), facts["self"])))
        upgrade = facts["upgrades"] and asked.headers.get("upgrade")
        hop = [f"Upgrade: {upgrade}", "Connection: Upgrade"] if upgrade else ["Connection: close"]
        lines = [f"{asked.method} {target} HTTP/1.1", f"Host: {host}", *hop]
        lines += [f"{name}: {value}" for name, value in headers.items()]
        raw = b""
        try:
            connection.sendall("\r\n".join([*lines, "", ""]).encode("latin-1", "replace") + asked.body)
            while part := connection.recv(65536):
                raw += part
                if len(raw) > MOST_BYTES:
                    raise FailedError("garbled")
        except TimeoutError:
            raise FailedError("no_answer") from None
        except OSError:
            if not raw:
                raise FailedError("garbled") from None
        return parsed(raw, asked.method)


def _starts(own: tuple[str, ...], parts: tuple[str, ...]) -> bool:
    """Whether a key begins as another does, part by part, up to the path."""
    scheme, name, path, clean, _ = own[:5]
    return (
        scheme == parts[0]
        and name == parts[1]
        and parts[2].startswith(path if parts[2] else "")
        and parts[3].startswith(clean if parts[3] else "")
    )


def joined(prefix: str, path: str, how: str) -> str:
    """Prefix and path as one."""
    if not prefix:
        return path
    if how == "one-slash":
        return prefix.rstrip("/") + "/" + path.lstrip("/")
    return prefix + (path[1:] if how == "in-place-of-slash" else path)


def parsed(raw: bytes, method: str) -> Given:
    """A response to a method; what is none, has a line that is no field, or breaks off, is garbled."""
    head, blank, body = raw.partition(b"\r\n\r\n")
    first, *lines = head.decode("latin-1").split("\r\n")
    status = re.fullmatch(r"HTTP/1\.[01] ([0-9]{3})( .*)?", first)
    if status is None or not blank or len(head) > 8192 or any(":" not in line for line in lines):
        raise FailedError("garbled")
    headers = {name: value.strip() for name, _, value in (line.partition(":") for line in lines)}
    length = next((value for name, value in headers.items() if name.lower() == "content-length"), "")
    if length.isdecimal() and int(length) > len(body) and method != "HEAD":
        raise FailedError("garbled")
    kept = {name: value for name, value in headers.items() if name.lower() in _KEPT}
    if any(name.lower() == "transfer-encoding" for name in headers):
        whole, rest = b"", body
        while rest:
            size, _, rest = rest.partition(b"\r\n")
            chunk = int(size.split(b";")[0] or b"0", 16)
            whole, rest = whole + rest[:chunk], rest[chunk + 2 :]
            if not chunk:
                break
        body = whole
    return Given(int(status[1]), body.decode("utf-8", "replace"), kept)


def main() -> None:
    """Plays what the facts say, until the stage ends."""
    edge = Edge(facts_of(sys.argv))
    serve(edge.facts, edge.answer, edge.contexts())
    threading.Event().wait()
