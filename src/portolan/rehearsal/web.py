"""The web server drivers: nginx and Apache httpd configurations for the estate's services; and programs that speak no HTTP."""

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING
from urllib.parse import unquote

from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine
from portolan.estate.service import Listener, OtherService, Redirect, Service, Site, WebService
from portolan.rehearsal import quoting
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.facts import every_service, path_asked, runs
from portolan.rehearsal.plan import BASE, Daemon, Plan

if TYPE_CHECKING:
    from portolan.rehearsal.naming import Naming

_MODULES = (
    "mpm_event",
    "authz_core",
    "dir",
    "autoindex",
    "mime",
    "alias",
    "rewrite",
    "setenvif",
    "env",
    "ssl",
    "socache_shmcb",
    "proxy",
    "proxy_http",
)
#: Ports below this one need a right that a service may lack (ip(7), ip_unprivileged_port_start).
_FREE_PORTS = 1024
#: Seconds that a program waits for its upstream: fewer than the client waits for the program.
UPSTREAM_LIMIT = 3


def build_web(plan: Plan, forge: Forge, urls: list[str], unsaid: str, naming: "Naming") -> None:
    """Every web server that runs, and everything else that listens; `unsaid` is the program where the estate names none."""
    for machine, service in every_service(plan.estate):
        if not runs(service):
            continue
        space = plan.space_of(machine)
        name = f"{space}s{list(machine.services).index(service.name)}"
        if isinstance(service, OtherService):
            if service.privileged or all(each.port >= _FREE_PORTS for each in service.listens):
                sockets = [part for each in service.listens for part in (str(each.address or ""), str(each.port))]
                plan.daemons.append(Daemon(name, space, sockets, [], "other"))
        elif isinstance(service, WebService):
            if service.program is not None and not isinstance(service.program, str):
                raise quoting.UnstageableError("a program", "described by its ways", service.place.key("program"))
            _web(plan, forge, machine, service, name, paths_of(service, urls), service.program or unsaid, naming)


def paths_of(service: WebService, urls: list[str]) -> set[str]:
    """Every path that a service may be asked for: those of the URLs, and those that its redirects make of them."""
    found = {path_asked(url) for url in urls} | {"/"}
    rules = [rule for site in service.sites.values() for rule in site.redirects]
    for _ in range(2):
        for path in list(found):
            for rule in rules:
                start = (
                    rule.when.path[:-1]
                    if rule.when is not None and rule.when.path and rule.when.path.endswith("*")
                    else ""
                )
                rest = path.removeprefix(start)
                target = str(rule.to).replace("{path}", path).replace("{rest}", rest)
                target = re.sub(r"\{[a-z]+\}", "x", target.replace("{query}", ""))
                found.add(path_asked(target if "://" in target else f"http://x/{target.lstrip('/')}"))
    return found


def _web(
    plan: Plan,
    forge: Forge,
    machine: Machine,
    service: WebService,
    name: str,
    paths: set[str],
    program: str,
    naming: "Naming",
) -> None:
    folder = f"{BASE}/{name}"
    certificates = {
        each for each in (service.certificate, *(site.certificate for site in service.sites.values())) if each
    }
    for certificate in sorted(certificates):
        pem, key = forge.served(plan.estate.certificates[certificate])
        number = list(plan.estate.certificates).index(certificate)
        plan.files[f"{name}/c{number}.pem"], plan.files[f"{name}/c{number}.key"] = pem, key
    sites: list[Site | WebService] = [site for site in service.sites.values() if site.enabled]
    if not service.sites:
        sites = [service]
    for number, site in enumerate(sites):
        _content(plan, f"{name}/w{number}", site, paths)
    plan.folders += [name, f"{name}/log", f"{name}/tmp"]
    plan.owned += [[name, "server"], [f"{name}/log", "server"], [f"{name}/tmp", "server"]]
    build = _nginx if program == "nginx" else _apache
    plan.files[f"{name}/web.conf"] = build(plan, service, sites, folder)
    command = ["/usr/sbin/nginx", "-e", f"{folder}/log/error.log", "-p", folder, "-c", f"{folder}/web.conf"]
    if program == "apache":
        command = ["/usr/sbin/apache2", "-D", "FOREGROUND", "-f", f"{folder}/web.conf"]
    ready: list[list[str | int]] = [["tcp", listener.port] for listener in service.listens]
    if program == "nginx":
        # It tries for seconds to bind what it cannot, with its other sockets open. It has
        # no socket where no site is bound.
        ready = [
            ["tcp", each.port]
            for each in service.listens
            if any(isinstance(site, Service) or bound(site, each) for site in sites)
        ]
    # Both write their pid when all is checked: Apache httpd has its sockets open before that.
    ready.append(["file", f"{folder}/pid"])
    named = any(isinstance(site, Site) and site.upstream and not site.upstream.literal for site in sites)
    mounts = naming.box_files(machine, None, name) if named else []
    plan.daemons.append(
        Daemon(name, plan.space_of(machine), command, ready, program, service.privileged, mounts=mounts)
    )


def upstream_of(site: Site) -> str:
    """The upstream as configurations write it."""
    assert site.upstream is not None
    text = str(site.upstream)
    if not re.fullmatch(r"https?://[A-Za-z0-9_.:\[\]-]+", text):
        raise quoting.UnstageableError("an upstream", text, site.place.key("upstream"))
    return text


def bound(site: Site, listener: Listener) -> bool:
    """Whether a site is written for a listener of its service."""
    return not site.listens or key_of(listener.address, listener.port) in site.listens


def key_of(address: IPAddress | None, port: int) -> str:
    """A listener's address and port as a site names it."""
    if address is None:
        return f"*:{port}"
    return f"[{address}]:{port}" if address.version == 6 else f"{address}:{port}"


def _content(plan: Plan, where: str, site: Site | WebService, paths: set[str]) -> None:
    """The site's files, each holding its own identity; where the estate does not say, whatever will be asked for."""
    plan.folders.append(where)
    if isinstance(site, Site) and site.files is not None:
        names = [_file_name(name, site) for name in site.files if not name.endswith("/")]
        plan.folders += [f"{where}/{_file_name(name.rstrip('/'), site)}" for name in site.files if name.endswith("/")]
    else:
        documents = site.default_documents if isinstance(site, Site) else ("index.html",)
        names = []
        for path in sorted({"/", *paths}):
            parts = [part for part in unquote(path, errors="surrogateescape").split("/") if part]
            if path.endswith("/") and documents:
                parts.append(documents[0])
            if parts and _fit(parts):
                names.append("/".join(parts))
    for name in names:
        if name and not any(other.startswith(f"{name}/") for other in names):
            plan.files[f"{where}/{name}"] = f"{site.name}/{name}"


def _fit(parts: list[str]) -> bool:
    """Whether a path's parts can be names of files at all (path_resolution(7))."""
    return all(
        part not in (".", "..")
        and "\0" not in part
        and "/" not in part
        and len(part.encode("utf-8", "surrogateescape")) < 256
        for part in parts
    )


def _file_name(name: str, site: Site) -> str:
    if not name or not _fit(name.split("/")) or name.startswith("/"):
        raise quoting.UnstageableError("a file's name", name, site.place.key("files"))
    return name


def _certificate(plan: Plan, service: WebService, site: Site | WebService) -> str | None:
    name = site.certificate or service.certificate
    return None if name is None else f"c{list(plan.estate.certificates).index(name)}"


def _host_pattern(names: tuple[str, ...]) -> str:
    parts = []
    for name in names:
        if name.startswith("*."):
            parts.append(".+" + re.escape(name[1:]))
        elif name.endswith(".*"):
            parts.append(re.escape(name[:-1]) + ".+")
        else:
            parts.append(re.escape(name))
    return f"^({'|'.join(parts)})[.]?$".replace("\\-", "-")


def _server_names(site: Site | WebService) -> tuple[str, ...]:
    names = site.names if isinstance(site, Site) else ()
    for name in names:
        if not re.fullmatch(r"(\*\.)?[a-z0-9_.-]+(\.\*)?", name):
            raise quoting.UnstageableError("a site's name", name, site.place.key("names"))
    return names


# -- nginx -------------------------------------------------------------------------------------------------------------


def _nginx(plan: Plan, service: WebService, sites: list[Site | WebService], folder: str) -> str:
    servers = []
    opened: set[int] = set()
    for number, site in enumerate(sites):
        lines = []
        for listener in service.listens:
            if isinstance(site, Service) or bound(site, listener):
                # Socket options may be written once only.
                texts = _nginx_listen(listener, first=id(listener) not in opened)
                opened.add(id(listener))
                marked = " default_server" if isinstance(site, Site) and site.default else ""
                lines += [f"listen {text}{' ssl' if listener.tls else ''}{marked};" for text in texts]
        if not lines:
            continue
        lines.append(f"server_name {' '.join(_server_names(site)) or quoting.nginx('')};")
        certificate = _certificate(plan, service, site)
        if certificate is not None:
            lines.append(f"ssl_certificate {folder}/{certificate}.pem; ssl_certificate_key {folder}/{certificate}.key;")
        lines.append(f'root "{folder}/w{number}";')
        documents = site.default_documents if isinstance(site, Site) else ("index.html",)
        place = site.place.key("default_documents")
        lines.append(f"index {' '.join(quoting.nginx(each, place) for each in documents)};" if documents else "")
        if isinstance(site, Site):
            lines += _nginx_redirects(site)
            if site.listing:
                lines.append("autoindex on;")
            if site.upstream is not None:
                lines.append(f"location / {{ proxy_pass {upstream_of(site)}; }}")
            if site.answer is not None:
                body = (
                    f" {quoting.nginx(f'{site.name}/', site.place)}"
                    if 200 <= site.answer < 300 and site.answer != 204
                    else ""
                )
                lines.append(f"return {site.answer}{body};")
        servers.append("  server {\n    " + "\n    ".join(lines) + "\n  }")
    temporary = "".join(
        f"  {kind}_temp_path {folder}/tmp;\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    waits = "".join(f"proxy_{each}_timeout {UPSTREAM_LIMIT}s; " for each in ("connect", "read", "send"))
    return (
        f"daemon off; master_process off; worker_processes 1; pid {folder}/pid; error_log {folder}/log/error.log;\n"
        f"events {{ worker_connections 256; }}\nhttp {{\n  access_log off; server_names_hash_bucket_size 512; {waits}\n  {quoting.NGINX_DOLLAR}\n{temporary}"
        + "\n".join(servers)
        + "\n}\n"
    )


def _nginx_listen(listener: Listener, first: bool) -> list[str]:
    if listener.address is None:
        return [f"{listener.port}", f"[::]:{listener.port}"]
    if listener.address.version == 4:
        return [f"{listener.address}:{listener.port}"]
    only = (
        ""
        if not first or listener.only_v6 is None or int(listener.address)
        else f" ipv6only={'on' if listener.only_v6 else 'off'}"
    )
    return [f"[{listener.address}]:{listener.port}{only}"]


def _nginx_redirects(site: Site) -> Iterator[str]:
    if not site.redirects:
        return
    yield 'set $p "/"; set $q ""; set $rest "";'
    yield 'if ($request_uri ~ "^([^?]*)([?].*)?$") { set $p $1; set $q $2; }'
    values = {
        "scheme": "${scheme}",
        "host": "${host}",
        "port": "${server_port}",
        "path": "${p}",
        "query": "${q}",
        "rest": "${rest}",
    }
    for number, rule in enumerate(site.redirects):
        needed = ""
        yield f'set $c{number} "";'
        when = rule.when
        if when is not None and when.scheme is not None:
            needed += "s"
            yield f'if ($scheme = {when.scheme}) {{ set $c{number} "${{c{number}}}s"; }}'
        if when is not None and when.host:
            needed += "h"
            pattern = quoting.nginx_pattern(_host_pattern(when.host), when.place)
            yield f'if ($host ~* {pattern}) {{ set $c{number} "${{c{number}}}h"; }}'
        if when is not None and when.path is not None:
            needed += "p"
            pattern = quoting.nginx_pattern(_path_pattern(when.path), when.place.key("path"))
            yield f'if ($p ~ {pattern}) {{ set $rest $1; set $c{number} "${{c{number}}}p"; }}'
        target = quoting.nginx_filled(rule.to, values, rule.place.key("to"))
        yield f'if ($c{number} = "{needed}") {{ return {rule.status} {target}; }}'


def _path_pattern(path: str) -> str:
    if path.endswith("*"):
        return f"^{re.escape(path[:-1])}(.*)$".replace("\\-", "-")
    return f"^{re.escape(path)}()$".replace("\\-", "-")


# -- Apache httpd ------------------------------------------------------------------------------------------------------


def _apache(plan: Plan, service: WebService, sites: list[Site | WebService], folder: str) -> str:
    lines = [f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in _MODULES]
    lines += [
        quoting.HTTPD_DOLLAR,
        "ServerName localhost",
        f"ServerRoot {folder}",
        f"PidFile {folder}/pid",
        f"ErrorLog {folder}/log/error.log",
        f"Mutex file:{folder}/tmp",
        "StartServers 1",
        "ThreadsPerChild 16",
        "MaxRequestWorkers 16",
        "ServerLimit 1",
        "KeepAlive Off",
        f"ProxyTimeout {UPSTREAM_LIMIT}",
        f"DefaultRuntimeDir {folder}/tmp",
        "SSLSessionCache none",
        "TypesConfig /dev/null",
        "RewriteEngine on",
        "RewriteRule ^ - [R=404,L]",
        f'DocumentRoot "{folder}/tmp"',
        f"<Directory {folder}>",
        "  Require all granted",
        "  Options -Indexes",
        "</Directory>",
    ]
    lines += [
        f"Listen {_apache_listen(listener)}{' https' if listener.tls and listener.port == 443 else ' http'}"
        for listener in service.listens
    ]
    for listener in service.listens:
        held = [site for site in sites if isinstance(site, Service) or bound(site, listener)]
        held.sort(key=lambda site: not (isinstance(site, Site) and site.default))
        for site in held:
            lines += _apache_host(plan, service, site, listener, f"{folder}/w{sites.index(site)}", folder)
    return "\n".join(lines) + "\n"


def _apache_listen(listener: Listener) -> str:
    return str(listener.port) if listener.address is None else key_of(listener.address, listener.port)


def _apache_host(
    plan: Plan, service: WebService, site: Site | WebService, listener: Listener, root: str, folder: str
) -> Iterator[str]:
    everywhere = listener.address is None or int(listener.address) == 0
    yield f"<VirtualHost {'*' if everywhere else _apache_listen(listener).rpartition(':')[0]}:{listener.port}>"
    names = _server_names(site)
    first = next((name for name in names if "*" not in name), None)
    yield f"  ServerName {first or 'nobody.invalid'}"
    for name in names:
        if name != first:
            yield f"  ServerAlias {name}"
    yield f'  DocumentRoot "{root}"'
    documents = site.default_documents if isinstance(site, Site) else ("index.html",)
    place = site.place.key("default_documents")
    yield f"  DirectoryIndex {' '.join(quoting.httpd(each, place) for each in documents) or 'disabled'}"
    if listener.tls:
        yield "  SSLEngine on"
        certificate = _certificate(plan, service, site)
        if certificate is not None:
            yield f"  SSLCertificateFile {folder}/{certificate}.pem"
            yield f"  SSLCertificateKeyFile {folder}/{certificate}.key"
    if isinstance(site, Site):
        if site.listing:
            yield f'  <Directory "{root}">\n    Options +Indexes\n  </Directory>'
        yield from _apache_redirects(site)
        if site.upstream is not None:
            yield f"  SSLProxyEngine on\n  ProxyPass / {upstream_of(site)}/"
        if site.answer is not None and 200 <= site.answer < 300 and site.answer != 204:
            plan.files[f"{root.removeprefix(BASE + '/')}.answer"] = f"{site.name}/"
            yield f'  AliasMatch "^" "{root}.answer"'
        elif site.answer is not None:
            yield f"  RewriteEngine on\n  RewriteRule ^ - [R={site.answer},L]"
    yield "</VirtualHost>"


def _apache_redirects(site: Site) -> Iterator[str]:
    if not site.redirects:
        return
    yield "  RewriteEngine on"
    yield r'  RewriteCond %{HTTP_HOST} "^(\[.*\]|[^:]*)"' + "\n  RewriteRule ^ - [E=H:%1]"
    yield r'  RewriteCond %{THE_REQUEST} "^\S+ ([^? ]*)"' + "\n  RewriteRule ^ - [E=P:%1]"
    for rule in site.redirects:
        if rule.when is not None and rule.when.scheme is not None:
            yield f"  RewriteCond %{{REQUEST_SCHEME}} ={rule.when.scheme}"
        if rule.when is not None and rule.when.host:
            yield f"  RewriteCond %{{ENV:H}} {_apache_pattern(_host_pattern(rule.when.host), rule)} [NC]"
        if rule.when is not None and rule.when.path is not None:
            yield f"  RewriteCond %{{ENV:P}} {_apache_pattern(_path_pattern(rule.when.path), rule)}"
        # The server adds the query by itself, unless it is told to drop it.
        values = {
            "scheme": "%{REQUEST_SCHEME}",
            "host": "%{ENV:H}",
            "port": "%{SERVER_PORT}",
            "path": "%{ENV:P}",
            "query": "",
            "rest": "%1",
        }
        drop = "" if "{query}" in rule.to else ",QSD"
        target = quoting.httpd_filled(rule.to, values, rule.place.key("to"))
        yield f"  RewriteRule ^ {target} [R={rule.status},L,NE{drop}]"


def _apache_pattern(pattern: str, rule: Redirect) -> str:
    """A pattern as RewriteCond takes it; a dollar sign is only ever the end, or escaped."""
    return quoting.httpd(pattern, rule.when.place if rule.when is not None else rule.place)
