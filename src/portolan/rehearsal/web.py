"""The web server drivers: nginx and Apache httpd configurations for the estate's services; and programs that speak no HTTP."""

import re
from collections.abc import Iterator
from urllib.parse import unquote

from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Listener, Redirect, Service, Site
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.plan import BASE, Daemon, Plan
from portolan.web.binding import bound
from portolan.wire.listeners import FIRST_OPEN_PORT

_MODULES = (
    "mpm_event",
    "unixd",
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
)


def build_web(plan: Plan, forge: Forge, paths: set[str], unsaid: str) -> None:
    """Every web server that runs, and everything else that listens; `unsaid` is the program where the estate names none."""
    for machine in machines(plan.estate):
        for service in machine.services.values():
            if service.state != "running" or service.failing is not None:
                continue
            name = f"{plan.space_of(machine)}s{list(machine.services).index(service.name)}"
            if (
                service.kind == "other"
                and not service.privileged
                and any(each.port < FIRST_OPEN_PORT for each in service.listens)
            ):
                continue
            if service.kind == "other":
                sockets = [[str(each.address) if each.address else "", each.port] for each in service.listens]
                plan.daemons.append(
                    Daemon(name, plan.space_of(machine), [str(each) for pair in sockets for each in pair], [], "other")
                )
            elif service.kind == "web":
                _web(plan, forge, machine, service, name, paths, service.program or unsaid)


def _web(
    plan: Plan, forge: Forge, machine: Machine, service: Service, name: str, paths: set[str], program: str
) -> None:
    folder = f"{BASE}/{name}"
    certificates = {
        each for each in (service.certificate, *(site.certificate for site in service.sites.values())) if each
    }
    for certificate in sorted(certificates):
        pem, key = forge.served(plan.estate.certificates[certificate])
        number = list(plan.estate.certificates).index(certificate)
        plan.files[f"{name}/c{number}.pem"], plan.files[f"{name}/c{number}.key"] = pem, key
    sites: list[Site | Service] = [site for site in service.sites.values() if site.enabled]
    if not service.sites:
        sites = [service]
    for number, site in enumerate(sites):
        _content(plan, f"{name}/w{number}", site, paths)
    plan.folders += [f"{name}/log", f"{name}/tmp"]
    build = _nginx if program == "nginx" else _apache
    plan.files[f"{name}/web.conf"] = build(plan, service, sites, folder)
    command = ["/usr/sbin/nginx", "-e", f"{folder}/log/error.log", "-p", folder, "-c", f"{folder}/web.conf"]
    if program == "apache":
        command = ["/usr/sbin/apache2", "-D", "FOREGROUND", "-f", f"{folder}/web.conf"]
    ready: list[list[str | int]] = [["tcp", listener.port] for listener in service.listens]
    if program == "nginx":
        # It tries for seconds to bind what it cannot, with its other sockets open; it writes its pid when it has all.
        ready.append(["file", f"{folder}/pid"])
    if not service.privileged:
        command = ["/usr/bin/setpriv", "--bounding-set=-net_bind_service", "--inh-caps=-net_bind_service", *command]
    plan.daemons.append(Daemon(name, plan.space_of(machine), command, ready, program))


def _content(plan: Plan, where: str, site: Site | Service, paths: set[str]) -> None:
    """The site's files, each holding its own identity; where the estate does not say, whatever will be asked for."""
    plan.folders.append(where)
    if isinstance(site, Site) and site.files is not None:
        names = [name for name in site.files if not name.endswith("/")]
        plan.folders += [f"{where}/{name}" for name in site.files if name.endswith("/")]
    else:
        documents = site.default_documents if isinstance(site, Site) else ("index.html",)
        names = []
        for path in {"/", *paths}:
            asked = "/".join(part for part in unquote(path).split("/") if part)
            names.append("/".join(filter(None, (asked, documents[0] if path.endswith("/") and documents else ""))))
    for name in names:
        if name and not any(other.startswith(f"{name}/") for other in names):
            plan.files[f"{where}/{name}"] = f"{site.name}/{name}"


def _certificate(plan: Plan, service: Service, site: Site | Service) -> str | None:
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


# -- nginx -------------------------------------------------------------------------------------------------------------


def _nginx(plan: Plan, service: Service, sites: list[Site | Service], folder: str) -> str:
    servers = []
    opened: set[int] = set()
    for number, site in enumerate(sites):
        lines = []
        for listener in service.listens:
            if isinstance(site, Service) or bound(site, listener):
                # Socket options may be written once only.
                texts = _nginx_listen(listener, first=id(listener) not in opened)
                opened.add(id(listener))
                lines += [f"listen {text}{' ssl' if listener.tls else ''}{' default_server' if _is_default(service, site, listener) else ''};"
                          for text in texts]  # fmt: skip
        if not lines:
            continue
        names = " ".join(site.names) if isinstance(site, Site) and site.names else '""'
        lines.append(f"server_name {names};")
        certificate = _certificate(plan, service, site)
        if certificate is not None:
            lines.append(f"ssl_certificate {folder}/{certificate}.pem; ssl_certificate_key {folder}/{certificate}.key;")
        lines.append(f'root "{folder}/w{number}";')
        documents = site.default_documents if isinstance(site, Site) else ("index.html",)
        lines.append(f"index {' '.join(_quoted(each) for each in documents)};" if documents else "")
        if isinstance(site, Site):
            lines += _nginx_redirects(site)
            if site.listing:
                lines.append("autoindex on;")
            if site.answer is not None:
                body = f' "{site.name}/"' if 200 <= site.answer < 300 and site.answer != 204 else ""
                lines.append(f"return {site.answer}{body};")
        servers.append("  server {\n    " + "\n    ".join(lines) + "\n  }")
    temporary = "".join(
        f"  {kind}_temp_path {folder}/tmp;\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    return (f"daemon off; master_process off; worker_processes 1; pid {folder}/pid; error_log {folder}/log/error.log;\n"
            f"events {{ worker_connections 256; }}\nhttp {{\n  access_log off; server_names_hash_bucket_size 512;\n{temporary}"
            + "\n".join(servers) + "\n}\n")  # fmt: skip


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("$", "") + '"'


def _is_default(service: Service, site: Site | Service, listener: Listener) -> bool:
    """Marked where the estate says so; else the first site listed is the default anyway."""
    if isinstance(site, Service) or not site.default:
        return False
    return (
        next(each for each in service.sites.values() if each.default and each.enabled and bound(each, listener)) is site
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
    for number, rule in enumerate(site.redirects):
        needed = ""
        yield f'set $c{number} "";'
        when = rule.when
        if when is not None and when.scheme is not None:
            needed += "s"
            yield f'if ($scheme = {when.scheme}) {{ set $c{number} "${{c{number}}}s"; }}'
        if when is not None and when.host:
            needed += "h"
            yield f'if ($host ~* "{_host_pattern(when.host)}") {{ set $c{number} "${{c{number}}}h"; }}'
        if when is not None and when.path is not None:
            needed += "p"
            yield f'if ($p ~ "{_path_pattern(when.path)}") {{ set $rest $1; set $c{number} "${{c{number}}}p"; }}'
        target = _filled(
            rule,
            {
                "scheme": "$scheme",
                "host": "$host",
                "port": "$server_port",
                "path": "$p",
                "query": "$q",
                "rest": "$rest",
            },
        )
        yield f'if ($c{number} = "{needed}") {{ return {rule.status} "{target}"; }}'


def _path_pattern(path: str) -> str:
    if path.endswith("*"):
        return f"^{re.escape(path[:-1])}(.*)$".replace("\\-", "-")
    return f"^{re.escape(path)}()$".replace("\\-", "-")


def _filled(rule: Redirect, values: dict[str, str]) -> str:
    text = str(rule.to)
    for name, value in values.items():
        text = text.replace("{" + name + "}", value)
    return text


# -- Apache httpd ------------------------------------------------------------------------------------------------------


def _apache(plan: Plan, service: Service, sites: list[Site | Service], folder: str) -> str:
    lines = [
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so"
        for name in _MODULES
        if name not in ("unixd",)
    ]
    lines += ["ServerName localhost", f"ServerRoot {folder}", f"PidFile {folder}/pid", f"ErrorLog {folder}/log/error.log", "User www-data", "Group www-data",
              f"Mutex file:{folder}/tmp", "StartServers 1", "ThreadsPerChild 16", "MaxRequestWorkers 16", "ServerLimit 1", "KeepAlive Off",
              f"DefaultRuntimeDir {folder}/tmp", "SSLSessionCache none", "TypesConfig /dev/null", 'RewriteEngine on', 'RewriteRule ^ - [R=404,L]', f'DocumentRoot "{folder}/tmp"',
              f"<Directory {folder}>", "  Require all granted", "  Options -Indexes", "</Directory>"]  # fmt: skip
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
    if listener.address is None:
        return str(listener.port)
    return (
        f"[{listener.address}]:{listener.port}"
        if listener.address.version == 6
        else f"{listener.address}:{listener.port}"
    )


def _apache_host(
    plan: Plan, service: Service, site: Site | Service, listener: Listener, root: str, folder: str
) -> Iterator[str]:
    everywhere = listener.address is None or int(listener.address) == 0
    yield f"<VirtualHost {'*' if everywhere else _apache_listen(listener).rpartition(':')[0]}:{listener.port}>"
    names = site.names if isinstance(site, Site) else ()
    first = next((name for name in names if "*" not in name), None)
    yield f"  ServerName {first or 'nobody.invalid'}"
    for name in names:
        if name != first:
            yield f"  ServerAlias {name}"
    yield f'  DocumentRoot "{root}"'
    documents = site.default_documents if isinstance(site, Site) else ("index.html",)
    yield f"  DirectoryIndex {' '.join(_quoted(each) for each in documents) or 'disabled'}"
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
        if site.answer is not None and 200 <= site.answer < 300:
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
        when = rule.when
        if when is not None and when.scheme is not None:
            yield f"  RewriteCond %{{REQUEST_SCHEME}} ={when.scheme}"
        if when is not None and when.host:
            yield f'  RewriteCond %{{ENV:H}} "{_host_pattern(when.host)}" [NC]'
        if when is not None and when.path is not None:
            yield f'  RewriteCond %{{ENV:P}} "{_path_pattern(when.path)}"'
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
        yield f'  RewriteRule ^ "{_filled(rule, values)}" [R={rule.status},L,NE{drop}]'
