"""What is read from a real configuration, held against the real program running that very configuration.

    python -m conformance.transcribed nginx|apache N [--seed S] [--keep DIR]

Each of N worlds is a configuration in the program's own syntax, drawn at random: servers, names, places, redirects, conditions,
programs behind. The program runs it as it stands, on loopback; the reader makes an estate of it; the same questions go to
both. An answer that rests on what could not be kept (`lines-unread`) is counted apart and compared with nobody.
"""

import argparse
import http.client
import random
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Any, NamedTuple

from portolan.estate.vantage import AsIfVantage
from portolan.formats.estate_file import Loaded, load
from portolan.formats.files import MemoryFiles
from portolan.journey.question import place
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.transcribing.assembling import add_web, transcript
from portolan.transcribing.part import Part
from portolan.transcribing.registry import read_web
from portolan.transcribing.text import yaml_text

NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
FIRST_PORT = 18080
NAMES = (
    "visit.kestrel-ridge.example",
    "www.kestrel-ridge.example",
    "book.kestrel-ridge.example",
    "hut7.kestrel-ridge.example",
    "other.example",
)
FOLDERS = ("a", "b", "c")
FILES = (
    "index.html",
    "index.htm",
    "home.html",
    "404.html",
    "app.html",
    "img/dome.png",
    "img/index.html",
    "docs/plan.html",
    "docs/deep/x.css",
    "old.html",
    "empty/.keep",
)
PATHS = ("/", "/index.html", "/nothing", "/img/", "/img", "/img/dome.png", "/docs/", "/docs/plan.html", "/docs/deep/x.css", "/old.html", "/old",
         "/app", "/app/", "/app/x", "/application", "/api/v1?x=1", "/api", "/empty/", "/rooms/12?day=3", "/a.php", "/secret/x", "/404.html")  # fmt: skip


class Said(NamedTuple):
    """What came: status, target and page, as far as they were looked at."""

    status: int
    target: str
    page: str


class Draw:
    """One configuration in the making."""

    def __init__(self, rng: random.Random, root: Path) -> None:
        self.rng, self.root = rng, root

    def one(self, *of: Any) -> Any:
        """One of several."""
        return self.rng.choice(of)

    def may(self, chance: float) -> bool:
        """Whether something is so, this time."""
        return self.rng.random() < chance

    def folder(self) -> str:
        """One of the content's folders."""
        return str(self.root / "srv" / self.one(*FOLDERS))


def nginx(draw: Draw) -> str:
    """A main file, with its sites in files that it includes."""
    ports = [FIRST_PORT + each for each in range(3)]
    servers = []
    for number in range(draw.rng.randint(2, 4)):
        servers.append(_nginx_server(draw, ports, number))
    inner = f"server {{ listen 127.0.0.1:{FIRST_PORT + 9}; root {draw.folder()}; location = /gone {{ return 410; }} }}"
    pool = f"upstream behind {{ server 127.0.0.1:{FIRST_PORT + 9}; }}"
    etc = draw.root / "etc/nginx"
    (etc / "sites-enabled").mkdir(parents=True)
    for number, text in enumerate(servers):
        (etc / f"sites-enabled/{number}").write_text(text + "\n")
    common = draw.one(
        "", "index index.html index.htm;", "error_page 404 /404.html;", "autoindex off; gzip on; # usual\n"
    )
    return (
        f"user root;\nworker_processes 1; pid {draw.root}/pid;\nerror_log {draw.root}/error.log;\nevents {{ worker_connections 128; }}\n"
        f"http {{\n  access_log off; server_names_hash_bucket_size 128;\n  {common}\n  {pool}\n  {inner}\n  include sites-enabled/*;\n}}\n"
    )


def _nginx_server(draw: Draw, ports: list[int], number: int) -> str:
    lines = []
    for port in draw.rng.sample(ports, draw.rng.randint(1, 2)):
        lines.append(
            f"listen {draw.one('', '*:', '0.0.0.0:')}{port}{' default_server' if number == 0 and draw.may(0.3) else ''};"
        )
    names = [draw.one(*NAMES, "*.kestrel-ridge.example", ".kestrel-ridge.example", "visit.*", r"~^hut(?<n>\d+)\.kestrel-ridge\.example$", "_")
             for _ in range(draw.rng.randint(1, 2))]  # fmt: skip
    if not draw.may(0.1):
        lines.append(f"server_name {' '.join(dict.fromkeys(names))};")
    lines.append(f"root {draw.folder()};")
    if draw.may(0.3):
        lines.append(
            draw.one(
                "index home.html;",
                "index index.htm index.html;",
                "autoindex on;",
                "error_page 404 /404.html;",
                "client_max_body_size 1m;",
            )
        )
    if draw.may(0.25):
        lines.append(
            draw.one(
                "return 301 https://$host$request_uri;",
                "return 302 /index.html;",
                "return 404;",
                "if ($host = www.kestrel-ridge.example) { return 301 $scheme://visit.kestrel-ridge.example$request_uri; }",
                "if ($http_x_forwarded_proto = http) { return 301 https://$host$request_uri; }",
                'if ($host ~* "^book\\.kestrel-ridge\\.example$") { return 307 http://other.example/; }',
                "rewrite ^/rooms/([0-9]+)$ /room.html?n=$1 permanent;",
                "rewrite ^/old$ /old.html redirect;",
                "if ($request_uri ~ ^/old) { return 308 /docs/; }",
                "deny all;",
            )
        )
    for _ in range(draw.rng.randint(0, 4)):
        lines.append(_nginx_location(draw))
    seen: set[str] = set()
    kept = []
    for line in lines:
        head = line.partition("{")[0].strip()
        if head.startswith("location") and head in seen:
            continue
        seen.add(head)
        kept.append(line)
    return "server {\n    " + "\n    ".join(kept) + "\n}"


def _nginx_location(draw: Draw) -> str:
    sign, path = draw.one(("", "/"), ("", "/img/"), ("", "/docs"), ("", "/app/"), ("", "/api"), ("= ", "/"), ("= ", "/old.html"), ("^~ ", "/docs/"),
                          ("~ ", r"\.php$"), ("~* ", r"\.(PNG|css)$"), ("~ ", "^/(app|api)/"), ("", "/secret/"), ("= ", "/404.html"))  # fmt: skip
    inside = [
        draw.one(
            "return 403;",
            "return 302 https://other.example$request_uri;",
            "return 200 hello;",
            "return 301 /docs/;",
            "deny all;",
            "allow 127.0.0.1; deny all;",
            "allow 10.0.0.0/8; deny all;",
            "try_files $uri $uri/ =404;",
            "try_files $uri $uri/ /app.html;",
            f"proxy_pass http://127.0.0.1:{FIRST_PORT + 9};",
            f"proxy_pass http://127.0.0.1:{FIRST_PORT + 9}/docs/;"
            if not sign.startswith(("~", "="))
            else "expires 1d;",
            "proxy_pass http://behind; proxy_set_header Host $host;",
            f"root {draw.folder()};",
            f"alias {draw.folder()}{'/' if path.endswith('/') else ''};"
            if not sign.startswith(("~", "="))
            else "add_header X-Frame-Options DENY;",
            "limit_except GET { deny all; }",
            "autoindex on;",
            "index home.html;",
            "error_page 404 /app.html;",
            "rewrite ^/docs/(.*)$ https://docs.example/$1 permanent;",
            "expires 30d; access_log off; add_header Cache-Control public;",
        )
        for _ in range(draw.one(1, 1, 2))
    ]
    kept = list({each.partition(" ")[0]: each for each in inside}.values())
    return f"location {sign}{path} {{ {' '.join(kept)} }}"


def apache(draw: Draw) -> str:
    """A main file as Debian's, with its sites in files that it includes."""
    ports = [FIRST_PORT + each for each in range(2)]
    etc = draw.root / "etc/apache2"
    (etc / "sites-enabled").mkdir(parents=True)
    for number in range(draw.rng.randint(1, 3)):
        (etc / f"sites-enabled/{number}.conf").write_text(_apache_host(draw, ports) + "\n")
    behind = FIRST_PORT + 9
    (etc / "sites-enabled/zz.conf").write_text(
        f"<VirtualHost *:{behind}>\n  ServerName behind.example\n  DocumentRoot {draw.folder()}\n</VirtualHost>\n"
    )
    modules = (
        "mpm_event",
        "authz_core",
        "authz_host",
        "dir",
        "autoindex",
        "mime",
        "alias",
        "rewrite",
        "headers",
        "proxy",
        "proxy_http",
        "allowmethods",
        "authn_core",
        "access_compat",
        "env",
        "setenvif",
        "macro",
    )
    loads = "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in modules)
    listens = "\n".join(f"Listen {port}" for port in (*ports, behind))
    return (
        f"ServerRoot {etc}\n{loads}\nServerName localhost\nPidFile {draw.root}/pid\nErrorLog {draw.root}/error.log\nDefaultRuntimeDir {draw.root}\n"
        f"Mutex file:{draw.root}\nStartServers 1\nKeepAlive Off\nTypesConfig /etc/mime.types\n{listens}\n"
        "<Directory />\n  Options FollowSymLinks\n  AllowOverride None\n  Require all denied\n</Directory>\n"
        f"<Directory {draw.root}/srv>\n  Options {draw.one('Indexes FollowSymLinks', '-Indexes +FollowSymLinks')}\n  AllowOverride None\n  Require all granted\n</Directory>\n"
        '<FilesMatch "^\\.ht">\n  Require all denied\n</FilesMatch>\n'
        "<IfModule mod_dir.c>\n  DirectoryIndex index.html index.htm\n</IfModule>\n<IfModule mod_nothing.c>\n  Redirect / http://never.example/\n</IfModule>\n"
        "IncludeOptional sites-enabled/*.conf\n"
    )


def _apache_host(draw: Draw, ports: list[int]) -> str:
    root = draw.folder()
    lines = [f"ServerName {draw.one(*NAMES)}"]
    if draw.may(0.5):
        lines.append(f"ServerAlias {draw.one(*NAMES, '*.kestrel-ridge.example')}")
    lines.append(f"DocumentRoot {root}")
    for _ in range(draw.rng.randint(0, 4)):
        lines.append(
            draw.one(
                "Redirect permanent / https://other.example/",
                "Redirect /old https://other.example/new",
                "RedirectMatch 302 ^/rooms/([0-9]+)$ /room.html?n=$1",
                "RedirectPermanent /docs/ https://docs.example/",
                "RewriteEngine On\n  RewriteCond %{HTTPS} off\n  RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]",
                "RewriteEngine On\n  RewriteCond %{HTTP_HOST} ^www\\.kestrel-ridge\\.example$ [NC]\n  RewriteRule ^/(.*)$ http://visit.kestrel-ridge.example/$1 [R=302,L]",
                "RewriteEngine On\n  RewriteRule ^/rooms/([0-9]+)$ /room.html?n=$1 [R=307,L]",
                "RewriteEngine On\n  RewriteCond %{HTTP:X-Forwarded-Proto} =http\n  RewriteRule .* https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]",
                f"RewriteEngine On\n  {_rewriting(draw)}",
                f"<Directory {root}{draw.one('', '/docs')}>\n    RewriteEngine On\n    {_rewriting(draw)}\n  </Directory>",
                f"Alias /app {draw.folder()}",
                f"Alias /img/ {draw.folder()}/img/",
                "<Location /secret>\n    Require all denied\n  </Location>",
                "<Location /api>\n    Require ip 10.0.0.0/8\n  </Location>",
                "<Location /docs>\n    Require local\n  </Location>",
                f"ProxyPass /api http://127.0.0.1:{FIRST_PORT + 9}",
                f"ProxyPass /app/ http://127.0.0.1:{FIRST_PORT + 9}/docs/\n  ProxyPassReverse /app/ http://127.0.0.1:{FIRST_PORT + 9}/docs/",
                f"ProxyPass / http://127.0.0.1:{FIRST_PORT + 9}/",
                "ErrorDocument 404 /404.html",
                "DirectoryIndex home.html",
                "FallbackResource /app.html",
                f"<Directory {root}/docs>\n    Require all denied\n  </Directory>",
                f"<Directory {root}/img>\n    Options +Indexes\n    DirectoryIndex disabled\n  </Directory>",
                '<FilesMatch "\\.css$">\n    Require all denied\n  </FilesMatch>',
                "Header set Cache-Control max-age=60",
            )
        )
    kept = list(dict.fromkeys(lines))
    return f"<VirtualHost *:{draw.one(*ports)}>\n  " + "\n  ".join(kept) + "\n</VirtualHost>"


def _rewriting(draw: Draw) -> str:
    """A rule of mod_rewrite in one of the shapes that people write, with up to two conditions of which one may be enough."""
    tests = (
        "%{HTTP_HOST} ^www\\.kestrel-ridge\\.example$",
        "%{HTTPS} off",
        "%{HTTPS} on",
        "%{QUERY_STRING} n=",
        "%{REQUEST_METHOD} GET",
        "%{REQUEST_FILENAME} -f",
        "%{REQUEST_FILENAME} -d",
    )
    lines = []
    for _ in range(draw.rng.randint(0, 2)):
        lines.append(f"RewriteCond {draw.one(*tests)} [{draw.one('OR', 'OR', 'NC')}]")
    pattern = draw.one(
        "^",
        "^(.*)$",
        "^/(.*)$",
        "^/?(.*)$",
        "(.*)",
        "!^/?img",
        "^a|^docs",
        "(^i|^/i)m",
        "html$|css",
        "docs/(.*)",
        "!\\.html$",
    )
    target = draw.one("https://other.example/$1", "https://other.example/?p=$1", "https://other.example/x", "-")
    return "\n  ".join(
        (*lines, f"RewriteRule {pattern} {target} [{draw.one('L', 'R=302,L') if target != '-' else 'F'}]")
    )


DRAWN = {"nginx": (nginx, "etc/nginx/nginx.conf"), "apache": (apache, "etc/apache2/apache2.conf")}


def world_of(program: str, seed: int, root: Path) -> str:
    """Writes a configuration and its content; the main file's path."""
    rng = random.Random(seed)
    for folder in FOLDERS:
        for file in FILES:
            path = root / "srv" / folder / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(f"{folder}/{file}")
    for each in (root, *root.rglob("*")):
        each.chmod(0o755 if each.is_dir() else 0o644)
    drawn, main = DRAWN[program]
    text = drawn(Draw(rng, root))
    (root / main).write_text(text)
    return str(root / main)


def estate_of(main: str, folders: Iterable[Path], files: Iterable[str]) -> Loaded:
    """The estate that the readers make of it, with what lies in its folders: in each the same."""
    gathered, source = read_web(main)
    machine = Part(gathered.service.spot)
    certificates, copies = add_web(machine, gathered, source)
    machine.facts["folders"] = {str(each): {"files": list(files), "rights": {}} for each in folders}
    made = transcript("server", machine, certificates, copies, {})
    documents = {path: yaml_text(document) for path, document in made.documents.items()}
    main_text = f"portolan: 1\ninclude: [{', '.join(documents)}]\n"
    return load(MemoryFiles({"estate.yaml": main_text, **documents, **made.copies}), "estate.yaml")


def started(program: str, main: str, root: Path) -> "subprocess.Popen[bytes] | str":
    """The program with this configuration, or why it does not start."""
    if program == "nginx":
        test, run = ["nginx", "-t", "-c", main], ["nginx", "-c", main, "-g", "daemon off;"]
    else:
        test, run = ["apache2", "-t", "-f", main], ["apache2", "-X", "-f", main]
    checked = subprocess.run(test, capture_output=True, check=False, cwd=root)
    if checked.returncode:
        return checked.stderr.decode("utf-8", "replace")
    return subprocess.Popen(run, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=root)


def listening(port: int) -> bool:
    """Whether somebody takes connections there, within three seconds."""
    for _ in range(60):
        with socket.socket() as probe:
            probe.settimeout(0.5)
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return True
        time.sleep(0.05)
    return False


def really(port: int, host: str, path: str, method: str, headers: dict[str, str]) -> Said:
    """What the program says."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
    try:
        connection.request(method, path, headers={"Host": f"{host}:{port}", "Connection": "close", **headers})
        answer = connection.getresponse()
        body = answer.read(400).decode("latin-1")
        page = body if answer.status == 200 and method == "GET" and len(body) < 60 and "<" not in body else ""
        return Said(answer.status, answer.headers.get("Location", ""), page)
    except (OSError, http.client.HTTPException):
        return Said(0, "", "")
    finally:
        connection.close()


def foretold(world: World, port: int, host: str, path: str, method: str, headers: dict[str, str]) -> tuple[Said, bool]:
    """What the estate says, and whether that rests on what could not be kept."""
    import msgspec

    world, itself, _ = place(world, "server")
    vantage = AsIfVantage.of(itself, (host, ip_address("127.0.0.1")))
    vantage = msgspec.structs.replace(
        vantage, redirect_limit=0, method=method, headers={name.lower(): text for name, text in headers.items()}
    )
    found = visit(world, f"http://{host}:{port}{path}", vantage)
    first = found.exchanges[0]
    decisions = [
        each.kind for exchange in found.exchanges for one in (exchange, *exchange.inner) for each in one.decisions
    ]
    response = first.response
    if response is None:
        return Said(0, "", ""), "lines-unread" in decisions
    page = ""
    if response.status == 200 and response.page:
        page = response.page
    return Said(response.status, response.location or "", page), "lines-unread" in decisions


def agree(real: Said, said: Said) -> bool:
    """Whether both say the same: status, target, and the file that came."""
    if real.status != said.status:
        return False
    if 300 <= real.status < 400 and real.target.replace("%20", " ") != said.target:
        return False
    if real.page and "/" in said.page:
        return said.page.endswith(real.page.partition("/")[2]) or real.page in ("hello",)
    return True


def main() -> int:
    """Draws, runs, asks; 1 where anything differs or nothing was compared."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("program", choices=sorted(DRAWN))
    parser.add_argument("worlds", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", type=int, default=None)
    parser.add_argument("--keep", default=None)
    given = parser.parse_args()
    compared = apart = refused = 0
    different: list[str] = []
    lost: dict[str, int] = {}
    for number in range(given.worlds):
        if given.only is not None and number != given.only:
            continue
        root = Path(given.keep or tempfile.mkdtemp(prefix="transcribed-"))
        root.mkdir(exist_ok=True)
        process = None
        try:
            main_file = world_of(given.program, given.seed * 100_000 + number, root)
            process = started(given.program, main_file, root)
            if isinstance(process, str):
                refused += 1
                if given.only is not None:
                    print(process)
                process = None
                continue
            loaded = estate_of(main_file, [root / "srv" / each for each in FOLDERS], (*FILES[:-1], "empty/"))
            for service in next(iter(loaded.estate.hosts.values())).services.values():
                for each in [
                    line
                    for site in service.sites.values()
                    for line in (*site.unread, *(one for section in site.sections for one in section.unread))
                ]:  # type: ignore[union-attr]
                    word = each.split(" ")[1] if " " in each else each
                    lost[word] = lost.get(word, 0) + 1
            world = World(loaded.estate, NOW)
            if not listening(FIRST_PORT + 9):
                different.append(f"world {number}: nothing listens")
                continue
            rng = random.Random(number)
            for _ in range(34):
                port, host = (
                    FIRST_PORT + rng.randrange(3 if given.program == "nginx" else 2),
                    rng.choice((*NAMES, "nobody.example")),
                )
                path, method = rng.choice(PATHS), rng.choice(("GET", "GET", "GET", "GET", "POST"))
                headers = rng.choice(({}, {}, {"X-Forwarded-Proto": "http"}, {"X-Forwarded-Proto": "https"}))
                real = really(port, host, path, method, headers)
                said, unread = foretold(world, port, host, path, method, headers)
                if unread:
                    apart += 1
                    continue
                compared += 1
                if not agree(real, said):
                    different.append(
                        f"world {number}: {method} http://{host}:{port}{path} {headers or ''} real {tuple(real)} said {tuple(said)}"
                    )
        finally:
            if process is not None:
                process.terminate()
                process.wait()
            if given.keep is None:
                shutil.rmtree(root, ignore_errors=True)
    for line in different[:30]:
        print(line)
    print(
        f"{given.program}: compared {compared}, differ {len(different)}, rest on unread lines {apart}, refused configurations {refused}; unread: {dict(sorted(lost.items(), key=lambda each: -each[1]))}"
    )
    return 1 if different or not compared else 0


if __name__ == "__main__":
    sys.exit(main())
