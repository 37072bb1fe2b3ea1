"""The first client driver: curl, and what its words mean."""

import json
import re
from typing import Any

from portolan.estate.client import OPENS, SWITCHING
from portolan.estate.url import SOCKETS
from portolan.rehearsal.client import Asking, Client, Observed
from portolan.rehearsal.plan import BASE, Probe
from portolan.rehearsal.web_common import PASSWORD, VISITOR

#: Seconds; ICMP errors that arrive inside connect() may take one second to be noticed.
CONNECT_LIMIT, WHOLE_LIMIT = 3, 12


_CONNECT = (
    ("Connection refused", "refused"),
    ("No route to host", "unreachable"),
    ("Network is unreachable", "unreachable"),
    ("Permission denied", "unreachable"),
    ("Protocol not available", "unreachable"),
    ("Invalid argument", "unreachable"),  # a blackhole route of the visitor's own
    ("Connection reset by peer", "reset"),
    ("Connection timed out", "timed-out"),
    ("Connection timeout", "timed-out"),
)
_VERIFY = (
    ("certificate has expired", "expired"),
    ("certificate is not yet valid", "not-yet-valid"),
    ("self-signed certificate in certificate chain", "unknown-issuer"),
    ("self-signed certificate", "self-signed"),
    ("self signed certificate", "self-signed"),
    ("unable to get local issuer certificate", "unknown-issuer"),
    ("unable to get issuer certificate", "unknown-issuer"),
    ("no alternative certificate subject name matches", "name-mismatch"),
    ("does not match target host name", "name-mismatch"),
    ("unsuitable certificate purpose", "other"),
    ("unsupported certificate purpose", "other"),
    ("invalid CA certificate", "other"),
)


def _probes(asking: Asking) -> list[Probe]:
    limit = str(asking.vantage.most_redirects)
    command = [
        "curl",
        "-v",
        "-s",
        "-L",
        "--max-redirs",
        limit,
        "--proto",
        "=http,https",
        "--proto-redir",
        "=http,https",
        "--connect-timeout",
        str(CONNECT_LIMIT),
        "-m",
        str(WHOLE_LIMIT),
        "--cacert",
        f"{BASE}/{asking.trust}",
        "--noproxy",
        "*",
        "-w",
        "\n%{url_effective}\n%{json}",
        "--globoff",
    ]
    command += _said(asking)
    # Each question is a visit of its own: edges hold nothing of one for another.
    visits = [
        [] if "user-agent" in asking.vantage.headers else ["-A", f"visit-{asking.space}-{number}"]
        for number in range(len(asking.urls))
    ]
    return [
        Probe(asking.space, [*command, *visit, *_asked(url)], asking.mounts, clock=asking.clock)
        for url, visit in zip(asking.urls, visits, strict=True)
    ]


def _asked(url: str) -> list[str]:
    """The address; a websocket is asked for as a browser does it, which follows no redirects."""
    scheme, colon, rest = url.partition(":")
    if scheme.lower() not in SOCKETS.values():
        return ["--url", url]
    fields = [word for name, value in OPENS.items() for word in ("-H", f"{name}: {value}")]
    return ["--no-location", *fields, "--url", f"{'https' if scheme.lower() == 'wss' else 'http'}{colon}{rest}"]


def _said(asking: Asking) -> list[str]:
    """What the visitor says with its requests."""
    vantage = asking.vantage
    words: list[str] = []
    if vantage.http == "1.0":
        words.append("--http1.0")
    if vantage.tls_versions:
        held = sorted(vantage.tls_versions)
        words += [f"--tlsv{held[0]}", "--tls-max", held[-1]]
    if vantage.says_host is not None:
        said = vantage.says_host
        words += ["-H", "Host:" if said == "none" else f"Host: {said}" if said else "Host;"]
    for name, value in vantage.headers.items():
        words += ["-H", f"{name}: {value}" if value else f"{name};"]
    if vantage.knows_password:
        words += ["-u", f"{VISITOR}:{PASSWORD}"]
    if asking.body is not None:
        words += ["-H", "Expect:", "-H", "Content-Type: text/plain", "--data-binary", f"@{BASE}/{asking.body}"]
    if vantage.method == "HEAD":
        words.append("-I")
    elif vantage.method == "POST":
        words += [] if asking.body is not None else ["--data-binary", ""]
    elif vantage.method != "GET" or asking.body is not None:
        words += ["-X", vantage.method]
    return words


def _observed(result: dict[str, Any]) -> list[Observed]:
    rest, _, tail = str(result["out"]).rpartition("\n")
    # The URL by itself: inside the JSON, letters beyond ASCII come out wrong.
    body, _, url = rest.rpartition("\n")
    try:
        facts = json.loads(tail)
    except ValueError:
        return [Observed("client-failed", (), None, None, None, str(result["err"])[-400:])]
    head = bool(re.match(r"HTTP/[0-9.]+ [0-9]{3}", body)) and "\n> HEAD " in str(result["err"])
    return [_read(facts, url, "" if head else body, str(result["err"]))]


def _read(facts: dict[str, Any], url: str, body: str, words: str) -> Observed:
    code, status = int(facts["exitcode"]), int(facts["http_code"])
    message = str(facts.get("errormsg") or "")
    told = f"curl {code} {message}".strip()

    def failed(kind: str, *details: str) -> Observed:
        return Observed(kind, details, status if kind == "redirect-error" else None, None, url, told)

    if "\n> upgrade: websocket" in words.lower() and status:
        # A websocket is opened, or it is not; what comes behind is nobody's concern here.
        kind = "served" if status == SWITCHING else "http-error"
        return Observed(kind, (), status, None, f"ws{url.removeprefix('http')}", f"status {status}")
    if code == 0 and 200 <= status < 300:
        return Observed("served", (), status, body.rstrip("\n") or None, url, told)
    if code == 0:
        return Observed("http-error", (), status, None, url, f"status {status}")
    if code == 6:
        return failed("name-error")
    if code == 28 and "Resolving timed out" in message:
        return failed("name-error", "resolver-timeout")
    if code == 28 and ("Operation timed out" in message or "SSL connection timeout" in message):
        return failed("connect-error", "stalled")
    if code in (35, 55, 56) and "reset by peer" in f"{message} {words[-400:]}":
        return failed("connect-error", "cut-off")
    if code in (7, 28):
        detail = _connect_detail(code, words)
        # A reset that is as fast as the client's own look at its connection counts as one of the attempt.
        return failed("connect-error", *((detail, "cut-off") if detail == "reset" else (detail,)))
    if code == 60:
        detail = next((word for text, word in _VERIFY if text in message or text in words), "other")
        # A missing intermediate and an unknown root sound the same.
        return failed("tls-error", *((detail, "incomplete-chain") if detail == "unknown-issuer" else (detail,)))
    alerts = f"{message} {words}"
    if code in (35, 56) and ("certificate required" in alerts or "bad certificate" in alerts):
        return failed("tls-error", "client-certificate")
    if code == 35 and any(
        each in alerts for each in ("protocol version", "unsupported protocol", "no protocols available")
    ):
        return failed("tls-error", "no-common-version")
    if code == 35 and "handshake failure" in alerts:
        # What an old version of TLS says in all three.
        return failed("tls-error", "client-certificate", "no-common-version", "other")
    if code == 35:
        return failed("tls-error", "other" if "unrecognized name" in alerts else "not-tls")
    if code == 47:
        return failed("redirect-error", "too-many")
    if code in (1, 3) and "HTTP/0.9" not in message:
        return failed("redirect-error", "bad-target")
    return failed("protocol-error", {52: "empty", 18: "broken-off"}.get(code, "garbled"))


_FAILED = ("failed:", "connect fail", "timed out", "timeout")


def _connect_detail(code: int, words: str) -> str:
    """The client's last word: silence when its time was over, else the error of the attempt that it made last."""
    found = [
        word
        for line in words.split("\n")
        if any(sign in line for sign in _FAILED)
        for text, word in _CONNECT
        if text in line
    ]
    return found[-1] if found and code != 28 else "timed-out"


DRIVER = Client("curl", {"curl": "curl"}, _probes, _observed)
