"""Renewals held against a real authority's software (pebble): the same challenges, answered by real servers on loopback.

Usage: python -m conformance.renewals
   A world is a server's configuration and an estate that says the same; every way to prove the name is asked of both.
   Names are led to loopback by the authority's own test resolver, so that what is compared begins at port 80 and 443's stand-ins.
"""

import base64
import contextlib
import hashlib
import json
import shutil
import ssl
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature

from conformance.certificate_files import KEY, WHOLE
from conformance.loopback import NOW, free_port, is_up, one_server
from portolan.diagnosis.renewals import renewals
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World

NAME = "visit.kestrel-ridge.example"
FOLDER = "/.well-known/acme-challenge/"

#: By world: what is in nginx's server for port 80 beside its root, and what is in the estate's site.
WORLDS = {
    "plain": ("", ""),
    "all to https": (
        "return 301 https://$host:{tls}$request_uri;",
        "redirects: [{when: {scheme: http}, to: 'https://{host}{path}{query}'}]",
    ),
    "to another port": (
        "return 301 http://$host:9{port}$request_uri;",
        "redirects: [{when: {scheme: http}, to: 'http://{host}:8123{path}{query}'}]",
    ),
    "kept out": ("deny all;", "access: {nobody: true}"),
    "behind a password": ('auth_basic dome; auth_basic_user_file {folder}/none;', "access: {password: true}"),
    "hidden files refused": (
        r"location ~ /\. { return 403; }",
        "sections: [{pattern: '/[.]', answer: 403}]",
    ),
    "hidden files refused, challenges let through": (
        r"location ^~ /.well-known/ { } location ~ /\. { return 403; }",
        "sections: [{path: /.well-known/, first: true}, {pattern: '/[.]', answer: 403}]",
    ),
    "a page for all else": ("try_files $uri $uri/ /app.html;", "fallback: app.html"),
    "everything answered": ("return 410;", "answer: 410"),
    "a program behind": ("location / { proxy_pass http://127.0.0.1:9; }", "upstream: 'http://127.0.0.1:9'"),
    "a circle": ("return 301 http://$host:{port}/x;", "redirects: [{to: '/x'}]"),
}  # fmt: skip

NGINX = """\
daemon off; pid {folder}/nginx.pid; error_log stderr crit; events {{}}
http {{ access_log off; client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
  uwsgi_temp_path {folder}; scgi_temp_path {folder};
  server {{ listen 127.0.0.1:{port}; server_name {name} *.{name}; root {folder}/www; {inside} }}
  server {{ listen 127.0.0.1:{tls} ssl; server_name {name} *.{name}; root {folder}/www;
    ssl_certificate {folder}/visit.pem; ssl_certificate_key {folder}/visit.key; }} }}
"""
ESTATE = one_server(
    f"""
        program: nginx
        listens: [80, 443 tls]
        sites:
          plain:
            names: [{NAME}]
            listens: ["80"]
            files: [app.html]
            INSIDE
          secure: {{names: [{NAME}], listens: ["443"], certificate: visit, files: [app.html]}}""",
    f"certificates: {{visit: {{names: [{NAME}]}}}}\n"
    'zones: {kestrel-ridge.example: {records: ["@ 60 SOA ns keeper 1 2 3 4 5", "@ 60 NS ns", "ns 60 A 203.0.113.53", '
    '"visit 60 A 203.0.113.40"]}}\n',
)


def ours(inside: str) -> dict[str, bool]:
    """What Portolan says of each way."""
    text = ESTATE.replace("            INSIDE\n", f"            {inside}\n" if inside else "")
    if inside.startswith(("upstream", "answer")):
        text = text.replace("            files: [app.html]\n", "", 1)
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    (found,) = renewals(World(estate, NOW))
    return {each.way: each.why is None for each in found.challenges}


class Authority:
    """A running authority, and the account of ours at it (RFC 8555)."""

    def __init__(self, folder: Path, port: int, tls: int) -> None:
        self.listen, self.manage, dns, control = free_port(), free_port(), free_port(), free_port()
        key, pem = folder / "pebble.key", folder / "pebble.pem"
        key.write_bytes(KEY)
        pem.write_bytes(WHOLE)
        held = {"listenAddress": f"127.0.0.1:{self.listen}", "managementListenAddress": f"127.0.0.1:{self.manage}",
                "certificate": str(pem), "privateKey": str(key), "httpPort": port, "tlsPort": tls}  # fmt: skip
        (folder / "pebble.json").write_text(json.dumps({"pebble": held}), "utf-8")
        self.control = f"http://127.0.0.1:{control}"
        quiet = subprocess.DEVNULL
        self.processes = [
            subprocess.Popen(
                ["pebble-challtestsrv", "-dns01", f"127.0.0.1:{dns}", "-http01", "", "-https01", "", "-tlsalpn01", "",
                 "-management", f"127.0.0.1:{control}", "-defaultIPv6", ""],
                stdout=quiet, stderr=quiet,
            ),
            subprocess.Popen(
                ["pebble", "-config", str(folder / "pebble.json"), "-dnsserver", f"127.0.0.1:{dns}"],
                stdout=quiet, stderr=quiet, env={"PEBBLE_VA_NOSLEEP": "1", "PEBBLE_AUTHZREUSE": "0", "PEBBLE_WFE_NONCEREJECT": "0", "PATH": "/usr/bin"},
            ),
        ]  # fmt: skip
        self.trust = ssl.create_default_context()
        self.trust.check_hostname, self.trust.verify_mode = False, ssl.CERT_NONE
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.account: str | None = None
        self.nonce, self.asked = "", 0
        for _ in range(100):
            with contextlib.suppress(OSError):
                with self._open(f"https://127.0.0.1:{self.listen}/dir", None) as answer:
                    self.directory: dict[str, Any] = json.load(answer)
                break
            time.sleep(0.05)
        with self._open(self.directory["newNonce"], None) as answer:
            self.nonce = answer.headers["Replay-Nonce"]
        self.account = self.post(self.directory["newAccount"], {"termsOfServiceAgreed": True})[1]["Location"]

    def _open(self, url: str, data: bytes | None) -> Any:
        asked = urllib.request.Request(url, data, {"Content-Type": "application/jose+json"} if data else {})
        return urllib.request.urlopen(asked, timeout=20, context=self.trust if url.startswith("https") else None)

    def thumbprint(self) -> str:
        """The account's key as challenges name it (RFC 7638)."""
        return _b64(hashlib.sha256(json.dumps(self._jwk(), sort_keys=True, separators=(",", ":")).encode()).digest())

    def _jwk(self) -> dict[str, str]:
        numbers = self.key.public_key().public_numbers()
        return {"crv": "P-256", "kty": "EC", "x": _b64(numbers.x.to_bytes(32)), "y": _b64(numbers.y.to_bytes(32))}

    def post(self, url: str, payload: dict[str, Any] | None) -> tuple[dict[str, Any], Any]:
        """A signed request (RFC 8555 section 6.2); its answer and header fields."""
        head: dict[str, Any] = {"alg": "ES256", "nonce": self.nonce, "url": url}
        head |= {"kid": self.account} if self.account else {"jwk": self._jwk()}
        protected = _b64(json.dumps(head).encode())
        body = "" if payload is None else _b64(json.dumps(payload).encode())
        r, s = decode_dss_signature(self.key.sign(f"{protected}.{body}".encode(), ec.ECDSA(hashes.SHA256())))
        signature = _b64(r.to_bytes(32) + s.to_bytes(32))
        data = json.dumps({"protected": protected, "payload": body, "signature": signature}).encode()
        try:
            with self._open(url, data) as answer:
                self.nonce = answer.headers["Replay-Nonce"]
                return json.load(answer), answer.headers
        except urllib.error.HTTPError as error:
            raise RuntimeError(f"{url}: {error.read().decode()}") from error

    def proves(self, way: str, folder: Path) -> bool:
        """Whether a name is proven in one way, its file or record put where they belong."""
        # A name of its own each time: what was proven once need not be proven again.
        self.asked += 1
        name = f"n{self.asked}.{NAME}"
        order = self.post(self.directory["newOrder"], {"identifiers": [{"type": "dns", "value": name}]})[0]
        where = order["authorizations"][0]
        challenge = next(each for each in self.post(where, None)[0]["challenges"] if each["type"] == way)
        answer = f"{challenge['token']}.{self.thumbprint()}"
        if way == "http-01":
            path = folder / "www" / FOLDER.strip("/")
            path.mkdir(parents=True, exist_ok=True)
            (path / challenge["token"]).write_text(answer, "utf-8")
        if way == "dns-01":
            told = {"host": f"_acme-challenge.{name}.", "value": _b64(hashlib.sha256(answer.encode()).digest())}
            self._open(f"{self.control}/set-txt", json.dumps(told).encode()).close()
        self.post(challenge["url"], {})
        for _ in range(200):
            state = self.post(where, None)[0]["status"]
            if state != "pending":
                return bool(state == "valid")
            time.sleep(0.05)
        raise TimeoutError(way)

    def end(self) -> None:
        """Ends both programs."""
        for each in self.processes:
            each.terminate()
            each.wait(10)


def _b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).decode().rstrip("=")


@contextlib.contextmanager
def served(folder: Path, port: int, tls: int, inside: str) -> Iterator[None]:
    """nginx with a world's server."""
    (folder / "www").mkdir(exist_ok=True)
    (folder / "www" / "app.html").write_text("app", "utf-8")
    (folder / "none").write_text("", "utf-8")
    (folder / "visit.pem").write_bytes(WHOLE)
    (folder / "visit.key").write_bytes(KEY)
    filled = inside.replace("{tls}", str(tls)).replace("{port}", str(port)).replace("{folder}", str(folder))
    text = NGINX.format(folder=folder, port=port, tls=tls, name=NAME, inside=filled)
    (folder / "conf").write_text(text, "utf-8")
    quiet = subprocess.DEVNULL
    process = subprocess.Popen(
        ["nginx", "-p", str(folder), "-c", str(folder / "conf"), "-e", "stderr"], stdout=quiet, stderr=quiet
    )
    try:
        if not is_up(port, process):
            raise RuntimeError("nginx does not start")
        yield
    finally:
        process.terminate()
        process.wait(10)


def main() -> int:
    """Asks both of each world; 1 where they differ, or nothing was compared."""
    if shutil.which("pebble") is None:
        print("compared nothing: pebble is not here; apt-get install pebble")
        return 1
    compared = differ = 0
    with tempfile.TemporaryDirectory() as name:
        folder, port, tls = Path(name), free_port(), free_port()
        folder.chmod(0o755)
        authority = Authority(folder, port, tls)
        try:
            for world, (nginx, site) in WORLDS.items():
                said = ours(site)
                with served(folder, port, tls, nginx):
                    for way in ("http-01", "dns-01", "tls-alpn-01"):
                        compared += 1
                        proven = authority.proves(way, folder)
                        if proven != said[way]:
                            differ += 1
                            print(f"{world}, {way}: said {said[way]}, proven {proven}")
        finally:
            authority.end()
    print(f"compared {compared} challenges in {len(WORLDS)} worlds: {differ} differ")
    return int(differ > 0 or not compared)


if __name__ == "__main__":
    sys.exit(main())
