"""Forty configurations as people write them, run for real by nginx and Apache httpd, and held against what is read from them.

    python -m conformance.as_written [nginx|apache]

Each runs as it stands (its ports and folders moved to where nobody else is), and twice more with a usual mistake: a folder that
is written otherwise than it lies there, and a name with a slip. What rests on a line that could not be kept, or on a program
behind that nobody runs here, is counted apart.
"""

import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from conformance.transcribed import NOW, agree, estate_of, foretold, listening, really, started
from conformance.unread import configurations
from portolan.journey.world import World

PLAIN, SECURE = 18080, 18443
FOLDERS = ("visit", "times", "dome", "wiki", "news", "app", "errors", "huts", "challenges", "files")
FILES = (
    "index.html", "a.html", "404.html", "maintenance.html", "img/dome.png", "img/index.html", "docs/plan.html", "assets/a.css", "x.js", "inner/x.html",
    "admin/x.html", "2019/x.html", "private/x.html", ".git/config", ".well-known/acme-challenge/token", "robots.txt", "live/x.html",
)  # fmt: skip
PATHS = ("/", "/index.html", "/a", "/a.html", "/nothing", "/img", "/img/", "/img/dome.png", "/docs/", "/docs/plan.html?x=1", "/assets/a.css", "/x.js", "/inner/x.html",
         "/admin/x.html", "/2019/x.html", "/private/x.html", "/.git/config", "/.well-known/acme-challenge/token", "/.well-known/acme-challenge/gone", "/robots.txt",
         "/live/x", "/api/v1", "/wiki/", "/files", "/files/a.html", "/old", "/healthz", "/maintenance.html", "/login", "/favicon.ico")  # fmt: skip
SAID: tuple[tuple[str, dict[str, str]], ...] = (
    ("GET", {}),
    ("POST", {}),
    ("PUT", {}),
    ("GET", {"User-Agent": "a badbot"}),
)
NGINX = (
    "pid {root}/pid; error_log {root}/log/e; events {{}}\nhttp {{ access_log off; types {{ text/html html; text/css css; image/png png; }}\n"
    "limit_req_zone $binary_remote_addr zone=one:1m rate=1000r/s;\ninclude site; }}\n"
)
APACHE = (
    "ServerRoot {root}/etc/apache2\nPidFile {root}/pid\nErrorLog {root}/log/e\nServerName machine.example\nListen 18080\nListen 18443\nDefine APACHE_LOG_DIR {root}/log\n"
    "{modules}TypesConfig /etc/mime.types\nUser www-data\nGroup www-data\n"
    "<Directory />\nOptions FollowSymLinks\nRequire all denied\n</Directory>\n<Directory {root}/srv>\nOptions Indexes FollowSymLinks\nRequire all granted\n</Directory>\nInclude site\n"
)
MODULES = (
    "mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "authz_host", "auth_basic", "alias", "dir", "autoindex", "mime", "env", "setenvif", "headers",
    "rewrite", "ssl", "expires", "proxy", "proxy_http", "proxy_fcgi", "proxy_wstunnel", "proxy_balancer", "lbmethod_byrequests", "slotmem_shm", "vhost_alias", "socache_shmcb",
)  # fmt: skip


def _own() -> tuple[str, str]:
    """A certificate that signs itself, and its key."""
    from datetime import timedelta

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    key, name = ec.generate_private_key(ec.SECP256R1()), x509.Name([])
    builder = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    builder = builder.serial_number(1).not_valid_before(NOW - timedelta(1)).not_valid_after(NOW + timedelta(365))
    pem = builder.sign(key, hashes.SHA256()).public_bytes(Encoding.PEM).decode()
    return pem, key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


CERTIFICATE = _own()


def moved(text: str, root: Path) -> str:
    """A configuration where nobody else is."""
    text = re.sub(r"listen \[::\]:[^;]*;", "", text)
    text = re.sub(r"\blisten 80\b", f"listen {PLAIN}", re.sub(r"\blisten 443\b", f"listen {SECURE}", text))
    text = text.replace("*:80>", f"*:{PLAIN}>").replace("*:443>", f"*:{SECURE}>")
    text = re.sub(r"ssl_dhparam [^;]*;", "", text)
    # Nothing leaves this machine: members of pools stand at ports of it where nobody listens.
    text = re.sub(r"10\.20\.0\.1([0-9]):8080", r"127.0.0.1:1907\1", text)
    return re.sub(r"(?<![\w.])/(?=(?:srv|etc|run)/|var/log)", f"{root}/", text)


def mistaken(text: str) -> Iterator[tuple[str, str]]:
    """As it is written, and with a usual mistake."""
    yield "as written", text
    yield "a folder written otherwise", re.sub(r"((?:DocumentRoot|root) /srv/)([a-z])([a-z])", r"\1\3\2", text)
    yield "a slip in a name", re.sub(r"(server_name |ServerName )([a-z])", r"\1\2\2", text)


def laid_out(program: str, text: str, root: Path) -> str:
    """Writes what the program needs; the main file's path."""
    for folder in FOLDERS:
        for file in FILES:
            path = root / "srv" / folder / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(f"{folder}/{file}")
    for name in re.findall(rf"{root}(/etc/\S+?\.(?:pem|key))", text):
        path = root / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(CERTIFICATE[1 if "key" in path.name else 0])
    for name in re.findall(rf"{root}(/etc/[a-z0-9]+/(?:observers|office))", text):
        path = root / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("keeper:$apr1$x$y\n")
    home = root / "etc" / ("nginx" if program == "nginx" else "apache2")
    for each in (root / "log", root / "var/log/nginx", home):
        each.mkdir(parents=True, exist_ok=True)
    if program == "nginx":
        for each in ("proxy_params", "fastcgi_params", "fastcgi.conf", "snippets"):
            source = Path("/etc/nginx") / each
            copy = shutil.copytree if source.is_dir() else shutil.copy
            copy(source, home / each)
    modules = "".join(
        f"LoadModule {each}_module /usr/lib/apache2/modules/mod_{each}.so\n"
        for each in MODULES
        if Path(f"/usr/lib/apache2/modules/mod_{each}.so").exists()
    )
    (home / "site").write_text(text)
    main = home / "main.conf"
    main.write_text((NGINX if program == "nginx" else APACHE).format(root=root, modules=modules))
    for each in (root, *root.rglob("*")):
        each.chmod(0o755 if each.is_dir() else 0o644)
    return str(main)


def asked(program: str, title: str, text: str) -> tuple[int, int, list[str]]:
    """How many answers were held against each other, how many stand apart, and what differs."""
    root = Path(tempfile.mkdtemp(prefix="as-written-"))
    root.chmod(0o755)
    different: list[str] = []
    compared = apart = 0
    process: subprocess.Popen[bytes] | str | None = None
    try:
        text = moved(text, root)
        main = laid_out(program, text, root)
        process = started(program, main, root)
        if isinstance(process, str):
            return 0, 0, [f"{program} {title}: does not start: {process.strip()[-300:]}"]
        if not listening(PLAIN):
            return 0, 0, [f"{program} {title}: nothing listens"]
        world = World(estate_of(main, [root / "srv" / each for each in FOLDERS], FILES).estate, NOW)
        names = re.findall(r"(?:server_name|ServerName|ServerAlias) ([^;\n]+)", text)
        hosts = dict.fromkeys(host for each in names for host in each.split() if re.fullmatch(r"[a-z.-]+", host))
        for host in (*hosts, "north.huts.kestrel-ridge.example", "nobody.example"):
            for path in PATHS:
                for method, headers in SAID:
                    said, unread = foretold(world, PLAIN, host, path, method, dict(headers))
                    real = really(PLAIN, host, path, method, dict(headers))
                    if unread or real.status in (502, 503, 504) or said.status in (502, 503, 504):
                        # Where nobody runs what stands behind, both have to say so.
                        apart += real.status == said.status or unread
                        if real.status != said.status and not unread:
                            different.append(
                                f"{program} {title}: {method} {host}{path} real {tuple(real)} said {tuple(said)}"
                            )
                        continue
                    compared += 1
                    if not agree(real, said):
                        different.append(
                            f"{program} {title}: {method} {host}{path} real {tuple(real)} said {tuple(said)}"
                        )
    finally:
        if isinstance(process, subprocess.Popen):
            process.terminate()
            process.wait()
        shutil.rmtree(root, ignore_errors=True)
    return compared, apart, different


def main() -> int:
    """Runs them; 1 where anything differs, does not start or nothing was compared."""
    only = sys.argv[1:] or ["nginx", "apache"]
    compared = apart = runs = 0
    different: list[str] = []
    for program, title, text in configurations():
        for how, changed in mistaken(text) if program in only else ():
            one, other, found = asked(program, f"{title}, {how}", changed)
            compared, apart, runs = compared + one, apart + other, runs + 1
            different += found
    print("\n".join(different[:400]))
    print(f"ran {runs}, compared {compared} answers, {len(different)} differ, apart {apart}")
    return int(bool(different) or compared == 0)


if __name__ == "__main__":
    sys.exit(main())
