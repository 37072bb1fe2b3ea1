"""Visits URLs with Chromium over its DevTools pipe, one new context a URL, as a program that uses the standard library only.

Usage: browse.py WITHOUT HOME TRUST URL...   WITHOUT names a feature of the browser that is switched off, or none.
   Writes a JSON list: url, status, page, error and seconds of each visit.
"""

import base64
import json
import os
import select
import subprocess
import sys
import time
from typing import Any

#: The program itself: the distribution's starting script wants files of /etc that are not there.
_PROGRAM = next(
    (
        each
        for each in ("/usr/lib/chromium/chromium", "/usr/lib/chromium-browser/chromium-browser")
        if os.path.exists(each)
    ),
    "chromium",
)
_OPTIONS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--remote-debugging-pipe",
    "--no-first-run",
    "--no-default-browser-check",
    "--no-proxy-server",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-extensions",
    "--metrics-recording-only",
    "--disable-breakpad",
)
#: A plain URL is asked plainly, and an answer is not replaced by a page of the browser's own.
_FEATURES = "--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable,OptimizationHints,MediaRouter,Translate,DialMediaRouteProvider"
#: Seconds for one visit, and for the browser to answer at all.
_VISIT_LIMIT, _START_LIMIT = 20.0, 60.0


class Browser:
    """A running browser and the messages of its pipe."""

    def __init__(self, home: str, without: str) -> None:
        read_end, self.write = os.pipe()
        self.read, write_end = os.pipe()
        self.buffer = b""
        self.number = 0
        self.events: list[dict[str, Any]] = []

        def hand_over() -> None:
            # Both ends may be 3 or 4 already: move them out of the way first.
            first, second = os.dup2(read_end, 20), os.dup2(write_end, 21)
            os.dup2(first, 3)
            os.dup2(second, 4)

        log = os.open(f"{home}/browser.log", os.O_CREAT | os.O_WRONLY)
        self.process = subprocess.Popen(
            [_PROGRAM, *_OPTIONS, f"{_FEATURES},{without}", f"--user-data-dir={home}/data", "about:blank"],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            preexec_fn=hand_over,
            close_fds=False,
            env={**os.environ, "HOME": home, "XDG_CONFIG_HOME": home, "XDG_CACHE_HOME": home},
        )
        os.close(read_end)
        os.close(write_end)

    def call(self, method: str, limit: float, session: str | None = None, **params: Any) -> dict[str, Any]:
        """A command's result; raises TimeoutError and, when the browser refuses, ValueError."""
        self.number += 1
        message = {"id": self.number, "method": method, "params": params, **({"sessionId": session} if session else {})}
        os.write(self.write, json.dumps(message).encode() + b"\0")
        end = time.monotonic() + limit
        while True:
            answer = self.next(end)
            if answer.get("id") == self.number:
                if "error" in answer:
                    raise ValueError(str(answer["error"].get("message")))
                result: dict[str, Any] = answer["result"]
                return result
            if "method" in answer:
                self.events.append(answer)

    def next(self, end: float) -> dict[str, Any]:
        """The next message before a moment; raises TimeoutError."""
        while b"\0" not in self.buffer:
            left = end - time.monotonic()
            if left <= 0 or not select.select([self.read], [], [], left)[0]:
                raise TimeoutError
            more = os.read(self.read, 1 << 16)
            if not more:
                raise TimeoutError
            self.buffer += more
        text, _, self.buffer = self.buffer.partition(b"\0")
        message: dict[str, Any] = json.loads(text)
        return message


def visit(browser: Browser, url: str) -> dict[str, Any]:
    """One URL in a context of its own."""
    context = browser.call("Target.createBrowserContext", _START_LIMIT)["browserContextId"]
    target = browser.call("Target.createTarget", _START_LIMIT, url="about:blank", browserContextId=context)["targetId"]
    session = browser.call("Target.attachToTarget", _START_LIMIT, targetId=target, flatten=True)["sessionId"]
    browser.call("Network.enable", _START_LIMIT, session)
    browser.call("Page.enable", _START_LIMIT, session)
    browser.events.clear()
    begun = time.monotonic()
    found: dict[str, Any] = {"url": url, "status": None, "page": None, "error": None}
    try:
        done = browser.call("Page.navigate", _VISIT_LIMIT, session, url=url)
        found["error"] = done.get("errorText") or None
    except TimeoutError:
        found["error"] = "no answer in time"
    found["seconds"] = time.monotonic() - begun
    for event in browser.events:
        params = event.get("params", {})
        if event["method"] == "Network.requestWillBeSent" and params.get("type") == "Document":
            found["url"] = params["request"]["url"]
        if event["method"] == "Network.responseReceived" and params.get("type") == "Document":
            found["status"], found["url"] = params["response"]["status"], params["response"]["url"]
            if found["error"] is None:
                found["page"] = body(browser, session, params["requestId"])
    browser.call("Target.disposeBrowserContext", _START_LIMIT, browserContextId=context)
    return found


def body(browser: Browser, session: str, request: str) -> str | None:
    """What was sent, once it is there in full."""
    for _ in range(50):
        try:
            got = browser.call("Network.getResponseBody", _START_LIMIT, session, requestId=request)
            text = str(got["body"])
            return base64.b64decode(text).decode("utf-8", "replace") if got["base64Encoded"] else text
        except ValueError:
            time.sleep(0.02)
    return None


def main() -> int:
    """Makes a store of trusted roots, visits every URL, writes what was seen."""
    without, home, trust, *urls = sys.argv[1:]
    store = f"{home}/.pki/nssdb"
    os.makedirs(store)
    subprocess.run(["certutil", "-N", "--empty-password", "-d", f"sql:{store}"], check=False, capture_output=True)
    with open(trust, encoding="ascii") as file:
        roots = [part + "-----END CERTIFICATE-----\n" for part in file.read().split("-----END CERTIFICATE-----")[:-1]]
    for number, pem in enumerate(roots):
        subprocess.run(
            ["certutil", "-A", "-n", f"root{number}", "-t", "C,,", "-d", f"sql:{store}"],
            input=pem.encode(),
            check=False,
            capture_output=True,
        )
    browser = Browser(home, without)
    found = []
    try:
        for url in urls:
            found.append(visit(browser, url))
    except (TimeoutError, ValueError, OSError) as error:
        found += [
            {"url": url, "status": None, "page": None, "seconds": 0.0, "error": f"the browser failed: {error!r}"}
            for url in urls[len(found) :]
        ]
    finally:
        browser.process.kill()
    json.dump(found, sys.stdout)
    return 0


if __name__ == "__main__":
    sys.exit(main())
