"""The client driver: curl, and what its words mean."""

import json
from typing import Any, NamedTuple

from portolan.estate.vantage import Vantage
from portolan.rehearsal.plan import BASE, Probe

#: Seconds; ICMP errors that arrive inside connect() may take one second to be noticed.
CONNECT_LIMIT, WHOLE_LIMIT = 3, 12


class Observed(NamedTuple):
    """What a real client got, in Portolan's words. `words` are the client's own."""

    kind: str
    detail: str | None
    status: int | None
    page: str | None
    final_url: str | None
    words: str


_CONNECT = (
    ("Connection refused", "refused"),
    ("No route to host", "unreachable"),
    ("Network is unreachable", "unreachable"),
    ("Permission denied", "unreachable"),
    ("Protocol not available", "unreachable"),
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


def probe(space: str, url: str, vantage: Vantage, trust: str, mounts: list[list[str]]) -> Probe:
    """One question by curl."""
    command = ["curl", "-v", "-s", "-L", "--max-redirs", str(vantage.redirect_limit), "--proto", "=http,https", "--proto-redir", "=http,https",
               "--connect-timeout", str(CONNECT_LIMIT), "-m", str(WHOLE_LIMIT), "--cacert", f"{BASE}/{trust}", "--noproxy", "*",
               "-w", "\n%{json}", "--globoff", url]  # fmt: skip
    return Probe(space, command, mounts)


def observed(result: dict[str, Any]) -> Observed:
    """What curl's result says."""
    body, _, tail = str(result["out"]).rpartition("\n")
    try:
        facts = json.loads(tail)
    except ValueError:
        return Observed("client-failed", None, None, None, None, str(result["err"])[-400:])
    words = str(result["err"])
    code, status, url = int(facts["exitcode"]), int(facts["http_code"]), str(facts["url_effective"])
    message = str(facts.get("errormsg") or "")
    told = f"curl {code} {message}".strip()
    if code == 0:
        if 200 <= status < 300:
            return Observed("served", None, status, body or None, url, told)
        return Observed("http-error", None, status, None, url, f"status {status}")
    if code == 6:
        return Observed("name-error", None, None, None, url, told)
    if code == 28 and "Resolving timed out" in message:
        return Observed("name-error", "resolver-timeout", None, None, url, told)
    if code in (7, 28):
        return Observed("connect-error", _connect_detail(code, words), None, None, url, told)
    if code in (35, 60):
        detail = (
            next((word for text, word in _VERIFY if text in message or text in words), "other")
            if code == 60
            else "not-tls"
        )
        return Observed("tls-error", detail, None, None, url, told)
    if code == 47:
        return Observed("redirect-error", "too-many", status, None, url, told)
    if code in (1, 3) and "HTTP/0.9" not in message:
        return Observed("redirect-error", "bad-target", status, None, url, told)
    return Observed("protocol-error", "empty" if code == 52 else "garbled", None, None, url, told)


_FAILED = ("failed:", "connect fail", "timed out", "timeout")


def _connect_detail(code: int, words: str) -> str:
    """The attempt that counts: silence when any attempt met it, else the last one's error."""
    found = [
        word
        for line in words.split("\n")
        if any(sign in line for sign in _FAILED)
        for text, word in _CONNECT
        if text in line
    ]
    if code == 28 or "timed-out" in found:
        return "timed-out"
    return found[-1] if found else "timed-out"
