"""The second client driver: headless Chromium, one browser a visitor, one new context a URL."""

import json
from typing import Any

from portolan.rehearsal.client import Asking, Client, Observed
from portolan.rehearsal.plan import BASE, Probe

#: Chromium's network errors (net::ERR_...) in our words: kind, and every detail that it can mean.
_ERRORS: dict[str, tuple[str, tuple[str, ...]]] = {
    "NAME_NOT_RESOLVED": ("name-error", ()),
    "NAME_RESOLUTION_FAILED": ("name-error", ()),
    "DNS_TIMED_OUT": ("name-error", ("resolver-timeout",)),
    "CONNECTION_REFUSED": ("connect-error", ("refused",)),
    "CONNECTION_TIMED_OUT": ("connect-error", ("timed-out",)),
    "TIMED_OUT": ("connect-error", ("timed-out", "stalled")),
    "ADDRESS_UNREACHABLE": ("connect-error", ("unreachable",)),
    "INTERNET_DISCONNECTED": ("connect-error", ("unreachable",)),
    "NETWORK_ACCESS_DENIED": ("connect-error", ("unreachable",)),
    "CONNECTION_FAILED": ("connect-error", ("unreachable",)),
    "CERT_DATE_INVALID": ("tls-error", ("expired", "not-yet-valid")),
    "CERT_COMMON_NAME_INVALID": ("tls-error", ("name-mismatch",)),
    "CERT_AUTHORITY_INVALID": ("tls-error", ("unknown-issuer", "self-signed", "incomplete-chain", "other")),
    "CERT_INVALID": ("tls-error", ("other",)),
    "SSL_PROTOCOL_ERROR": ("tls-error", ("not-tls",)),
    "SSL_VERSION_OR_CIPHER_MISMATCH": ("tls-error", ("no-common-version",)),
    "SSL_KEY_USAGE_INCOMPATIBLE": ("tls-error", ("other",)),
    "BAD_SSL_CLIENT_AUTH_CERT": ("tls-error", ("client-certificate",)),
    "SSL_CLIENT_AUTH_CERT_NEEDED": ("tls-error", ("client-certificate",)),
    "TOO_MANY_REDIRECTS": ("redirect-error", ("too-many",)),
    "INVALID_REDIRECT": ("redirect-error", ("bad-target",)),
    "UNSAFE_REDIRECT": ("redirect-error", ("bad-target",)),
    "UNKNOWN_URL_SCHEME": ("redirect-error", ("bad-target",)),
    "CONTENT_LENGTH_MISMATCH": ("protocol-error", ("broken-off",)),
    "INCOMPLETE_CHUNKED_ENCODING": ("protocol-error", ("broken-off",)),
    "EMPTY_RESPONSE": ("protocol-error", ("empty",)),
    "INVALID_HTTP_RESPONSE": ("protocol-error", ("garbled",)),
    "CONNECTION_CLOSED": ("protocol-error", ("empty",)),
    "CONNECTION_RESET": ("connect-error", ("cut-off", "reset")),
    "no answer in time": ("connect-error", ("timed-out", "stalled")),
}


#: Words for a response with a status that is an error.
_ANSWERED = ("ABORTED", "HTTP_RESPONSE_CODE_FAILURE", "INVALID_AUTH_CREDENTIALS")


def _probes(asking: Asking) -> list[Probe]:
    home = f"browser-{asking.trust.removesuffix('.pem')}-{asking.space}"
    features = "UseDnsHttpsSvcb" if asking.vantage.https_records == "ignored" else "none"
    # Its own sandbox is off: it cannot be had inside ours. A browser waits for the kernel's own time-out: two tries, as long
    # as the other client is given.
    command = [
        "python3",
        "-I",
        "-S",
        "/stage/browse.py",
        features,
        f"{BASE}/{home}",
        f"{BASE}/{asking.trust}",
        *asking.urls,
    ]
    return [Probe(asking.space, command, asking.mounts, 60 + 20 * len(asking.urls), home, 1)]


def _observed(result: dict[str, Any]) -> list[Observed]:
    try:
        visits = json.loads(result["out"])
    except ValueError:
        visits = []
    return [_one(each) for each in visits]


def _one(seen: dict[str, Any]) -> Observed:
    status, url, error = seen["status"], seen["url"], seen["error"]
    word = str(error or "").removeprefix("net::ERR_")
    told = f"Chromium {error or status}"
    answered = status is not None and not 300 <= status < 400 and word in _ANSWERED
    if error is None or answered:
        if 200 <= (status or 0) < 300:
            return Observed("served", (), status, seen["page"] or None, url, told)
        return Observed("http-error", (), status, None, url, told)
    if word == "ABORTED":
        # It hands another protocol's address to another program; nothing of it was answered.
        return Observed("redirect-error", ("bad-target",), status, None, url, told)
    kind, details = _ERRORS.get(word, ("client-failed", ()))
    return Observed(kind, details, status if kind == "redirect-error" else None, None, url, told)


DRIVER = Client("chromium", {"chromium": "chromium", "certutil": "libnss3-tools"}, _probes, _observed)
