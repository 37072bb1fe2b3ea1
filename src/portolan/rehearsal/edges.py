"""The drivers of edges and stores: the facts that stand-ins are handed, and nginx with its cache for edges that name it."""

import re
from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any

from portolan.estate.certificate import Certificate
from portolan.estate.edge import Edge, EdgeService, Origin, SwitchedEdge
from portolan.estate.machine import Machine
from portolan.estate.store import Bucket, Store
from portolan.rehearsal import quoting
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.facts import every_service, runs
from portolan.rehearsal.plan import BASE, Daemon, Plan
from portolan.rehearsal.providers import Played
from portolan.rehearsal.web_common import header_word, page_word
from portolan.rehearsal.web_nginx import configuration, listen_words, ranges, wanted_headers

if TYPE_CHECKING:
    from portolan.rehearsal.naming import Naming

#: What the reference promises of rented edges, where nothing is stated.
_STATUSES = {"refused": 502, "no_connect": 504, "no_answer": 504, "garbled": 502, "handshake": 502, "unknown_name": 502}
_KEEPS = {"200": 86400, "301": 86400}


def build_edges(plan: Plan, forge: Forge, naming: "Naming", played: tuple[Played, ...], now: datetime) -> None:
    """Every edge and store on the stage."""
    for number, each in enumerate(played):
        name = f"play{number}"
        machine: Machine = plan.estate.hosts[each.host]
        with plan.by_itself(_stated(each).place.path):
            if isinstance(each.what, tuple):
                _store(plan, forge, naming, each, name)
            elif each.what.program == "nginx":
                mounts = naming.box_files(machine, None, name)
                nginx_edge(plan, forge, machine, each.what, name, mounts)
            else:
                _edge(plan, forge, naming, each, each.what, name, now)
    for machine, service in every_service(plan.estate):
        if isinstance(service, EdgeService) and not isinstance(service, Edge) and runs(service):
            name = f"{plan.space_of(machine)}e{list(machine.services).index(service.name)}"
            with plan.by_itself(service.place.path):
                if service.program != "nginx":
                    raise quoting.UnstageableError("an edge of one's own", "that names no program", service.place)
                mounts = naming.box_files(machine, None, name)
                nginx_edge(plan, forge, machine, service, name, mounts)


def _stated(played: Played) -> Edge | Store:
    """The edge or the store that is played."""
    return played.what[0] if isinstance(played.what, tuple) else played.what


def _play(plan: Plan, naming: "Naming", each: Played, name: str, role: str, facts: dict[str, Any]) -> None:
    """Starts a stand-in with its facts."""
    machine = plan.estate.hosts[each.host]
    ready: list[list[Any]] = [["tcp", port] for port, _ in facts["listens"]]
    mounts = naming.box_files(machine, None, name)
    plan.play(name, plan.space_of(machine), role, facts, ready, mounts)


def _served(plan: Plan, forge: Forge, certificate: Certificate, path: str) -> None:
    pem, key = forge.served(certificate)
    plan.files[f"{path}.pem"], plan.files[f"{path}.key"] = pem, key


# -- stores --


def _store(plan: Plan, forge: Forge, naming: "Naming", each: Played, name: str) -> None:
    assert isinstance(each.what, tuple)
    store, way = each.what
    if each.certificate:
        _served(plan, forge, plan.estate.certificates[each.certificate], f"{name}/own")
    facts = {
        "way": way,
        "at": str(getattr(store, f"{way}_at")),
        "by": list(getattr(store, f"{way}_by")),
        "listens": [[80, False], *([[443, True]] if each.certificate else [])],
        "certificate": "own" if each.certificate else "",
        "strangers": list(store.strangers),
        "buckets": {bucket.name: _bucket(bucket) for bucket in store.buckets.values()},
        **{key: getattr(store, key) for key in _STORE_FACTS},
    }
    _play(plan, naming, each, name, "store", facts)


_STORE_FACTS = (
    "seal",
    "denied_with",
    "missing_unlisted",
    "web_off",
    "slashless",
    "index_needs_list",
    "redirects_first",
)


def _bucket(bucket: Bucket) -> dict[str, Any]:
    return {
        "sealed": bucket.sealed,
        "grants": [
            {"to": each.to, "to_edge": each.to_edge, "may": list(each.may), "on": list(each.on), "denies": each.denies}
            for each in bucket.grants
        ],
        "web": bucket.web,
        "index_file": bucket.index_file,
        "sends_all_to": bucket.sends_all_to,
        "object_redirects": {str(key): to for key, to in bucket.object_redirects.items()},
        "redirects": [
            {
                "path": None if each.when is None else each.when.path,
                "on_status": None if each.when is None or each.when.status is None else int(each.when.status),
                "to": str(each.to),
                "status": each.status,
            }
            for each in bucket.redirects
        ],
        "objects": [] if bucket.absent else None if bucket.objects is None else list(bucket.objects),
        "cache_control": bucket.cache_control,
    }


# -- rented edges --


def _edge(plan: Plan, forge: Forge, naming: "Naming", each: Played, edge: Edge, name: str, now: datetime) -> None:
    certificates = plan.estate.certificates
    _served(plan, forge, certificates[each.certificate], f"{name}/provider")
    if edge.certificate is not None:
        _served(plan, forge, certificates[edge.certificate], f"{name}/own")
    switched = isinstance(edge, SwitchedEdge)
    for number, each_part in enumerate(edge.parts):
        plan.files[f"{name}/trust{number}.pem"] = forge.trusted(each_part.asks) or "\n"
    names = [str(pattern) for pattern in edge.names]
    facts = {
        "name": edge.name,
        "self": name,
        "listens": [[listener.port, listener.tls] for listener in edge.listens],
        "names": names + ([str(edge.canonical)] if edge.canonical is not None else []),
        "canonical": str(edge.canonical or ""),
        "held_by_others": [str(other) for other in edge.held_by_others],
        "provider": "provider",
        "certificate": "own" if edge.certificate is not None else "",
        "unknown_in_tls": edge.unknown_in_tls,
        "refuses_with": edge.refuses_with,
        "plain": edge.plain,
        "plain_with": edge.plain_with,
        "access": _access(edge),
        "method_refused_with": edge.method_refused_with,
        "order": list(edge.order or ("filter", "plain", "method")),
        "index_file": edge.index_file,
        "statuses": _statuses(edge),
        "error_pages": {str(int(status)): page for status, page in edge.error_pages.items()},
        "error_pages_say": {str(int(status)): int(other) for status, other in edge.error_pages_say.items()},
        "scheme_header": _header(edge.passes_scheme_as, "x-forwarded-proto"),
        "address_header": _header(edge.passes_address_as, "x-forwarded-for"),
        "recognises_itself": edge.recognises_itself,
        "upgrades": edge.passes_upgrades is not False,
        "sources": [[str(address) for address in pair] for pair in each.sources],
        "records": {
            owner: {
                "alias": next((str(record.data) for record in records if record.type == "CNAME"), None),
                "addresses": [str(record.data) for record in records],
            }
            for owner, records in each.records.items()
        },
        **_of_part(edge, switched, now, f"{BASE}/{name}/trust0.pem"),
        "by_path": [
            {"path": part.path, **_of_part(edge.with_part(part), switched, now, f"{BASE}/{name}/trust{number}.pem")}
            for number, part in enumerate(edge.by_path, 1)
        ],
    }
    _play(plan, naming, each, name, "edge", facts)


def _of_part(edge: Edge, switched: bool, now: datetime, trust: str) -> dict[str, Any]:
    """What may be otherwise for some paths."""
    return {
        "methods": _methods(edge.methods),
        **_held(edge, switched, now),
        "origin": _origin(edge.asks, switched, trust),
    }


def _access(edge: Edge) -> dict[str, Any] | None:
    access = edge.access
    if access is None:
        return None
    return {
        "from": [str(network) for network in access.sources],
        "not_from": [str(network) for network in access.not_sources],
        "headers": {str(field): value for field, value in access.headers.items()},
    }


def _statuses(edge: Edge) -> dict[str, int]:
    stated = edge.fails_with
    return {
        what: status if getattr(stated, what, None) is None else getattr(stated, what)
        for what, status in _STATUSES.items()
    }


def _header(said: str | None, usual: str) -> str:
    """The field in which the stand-in says something; nothing where it does not."""
    return usual if said is None else "" if said == "nothing" else str(said)


def _held(edge: Edge, switched: bool, now: datetime) -> dict[str, Any]:
    """What the edge holds, under which key, how long."""
    usual = ("scheme", "name", "path", "query") if switched else ("name", "path", "query")
    return {
        "caches": edge.caches,
        "key": list(edge.key or usual),
        "key_headers": [str(field) for field in edge.key_headers],
        "keeps": {**_KEEPS, **{str(int(status)): seconds for status, seconds in edge.keeps.items()}},
        "obeys_origin": edge.obeys_origin,
        "counts_age": edge.counts_age is not False,
        "holds_cookies": edge.holds_cookies,
        "writes_clear": edge.writes_clear,
        "purged": list(edge.purged),
        "after_time": edge.after_time or "old-on-error",
        "old_for": edge.old_for,
        "holds": [
            {
                "url": held.url,
                "age": (now - held.since).total_seconds(),
                "status": int(held.status or (301 if held.to is not None else 200)),
                "to": held.to,
                "page": held.page,
                "keeps": held.keeps,
            }
            for held in edge.holds
            if held.since <= now and (held.status or held.to or held.page)
        ],
    }


def _methods(stated: tuple[str, ...]) -> list[str]:
    if not stated:
        return ["GET", "HEAD", "OPTIONS"]
    return [*stated, *(["HEAD"] if "GET" in stated else [])]


_NAME = re.compile(r"(?:([A-Za-z][A-Za-z0-9+.-]*)://)?([^/]*)(/.*)?")


def _origin(origin: Origin, switched: bool, trust: str) -> dict[str, Any]:
    match = _NAME.fullmatch(origin.at or "")
    assert match is not None
    name, port = match[2], origin.port
    if re.fullmatch(r"[^:]+:[0-9]+", name):
        name, _, typed = name.partition(":")
        port = int(typed)
    return {
        "scheme": match[1] or "",
        "name": name.lower(),
        "path": (match[3] or "").rstrip("/"),
        "recorded": switched and origin.at is None,
        "port": port,
        "prefix": origin.prefix,
        "joins": origin.joins or "literal",
        "leg": origin.leg or "plain",
        "trust": trust,
        "host": str(origin.host) if origin.host is not None else "kept" if switched else "own",
        "says_name": str(origin.says_name) if isinstance(origin.says_name, str) else origin.says_name is not False,
        "sends": {str(field): value for field, value in origin.sends.items()},
        "signs": origin.signs,
        "tries_all": origin.tries_all is not False,
    }


# -- nginx with its cache --


def nginx_edge(
    plan: Plan,
    forge: Forge,
    machine: Machine,
    edge: EdgeService,
    name: str,
    mounts: list[list[str]],
) -> None:
    """nginx with proxy_cache: one server for every name."""
    if edge.holds or edge.last_asked is not None:
        raise quoting.UnstageableError("what nginx's cache held before", edge.name, edge.place)
    certificate = edge.certificate
    if certificate is not None:
        _served(plan, forge, plan.estate.certificates[certificate], f"{name}/own")
    for number, part in enumerate(edge.parts):
        plan.files[f"{name}/trust{number}.pem"] = forge.trusted(part.asks) or "\n"
    plan.folders += [name, f"{name}/log", f"{name}/tmp", f"{name}/cache"]
    plan.owned += [[each, "server"] for each in (name, f"{name}/log", f"{name}/tmp", f"{name}/cache")]
    plan.files[f"{name}/web.conf"] = _nginx_conf(edge, f"{BASE}/{name}")
    folder = f"{BASE}/{name}"
    command = ["/usr/sbin/nginx", "-e", f"{folder}/log/error.log", "-p", folder, "-c", f"{folder}/web.conf"]
    ready: list[list[Any]] = [["tcp", each.port] for each in _open(edge)]
    ready.append(["file", f"{folder}/pid"])
    plan.daemons.append(Daemon(name, plan.space_of(machine), command, ready, "nginx", edge.privileged, mounts=mounts))


def _open(edge: EdgeService) -> list[Any]:
    """Its listeners; of those that nobody wrote, the one for TLS only with a certificate."""
    written = edge.place.has("listens")
    return [each for each in edge.listens if written or not each.tls or edge.certificate is not None]


def _nginx_conf(edge: EdgeService, folder: str) -> str:
    lines: list[str] = []
    names = [str(each) for each in edge.names]
    rejects = edge.unknown_in_tls == "rejected"
    alone = not names or not (rejects or edge.place.has("refuses_with"))
    for listener in _open(edge):
        lines += [f"listen {each}{' ssl' if listener.tls else ''};" for each in listen_words(listener, first=alone)]
    for each in names:
        if not re.fullmatch(r"(\*?\.)?[a-z0-9_-][a-z0-9_.-]*(\.\*)?", each):
            raise quoting.UnstageableError("an edge's name", each, edge.place.key("names"))
    lines.append(f"server_name {' '.join(names) or quoting.nginx('')};")
    if edge.certificate is not None:
        lines.append(f"ssl_certificate {folder}/own.pem; ssl_certificate_key {folder}/own.key;")
    if edge.plain == "to-secure":
        lines.append(f"if ($scheme = http) {{ return {edge.plain_with} https://$host$request_uri; }}")
    for status, page in edge.error_pages.items():
        lines.append(f"error_page {int(status)} {page_word(page, edge.place.key('error_pages'))};")
    if not any(part.path == "/*" for part in edge.by_path):
        lines += ["location / {", *(f"  {each}" for each in _location(edge, folder, None)), "}"]
    for number, part in enumerate(edge.by_path, 1):
        place = part.place.key("path")
        start = page_word(part.path.removesuffix("*"), place)
        words = _location(edge.with_part(part), folder, None, number)
        lines += [
            f"location {'' if part.path.endswith('*') else '= '}{start} {{",
            *(f"  {each}" for each in words),
            "}",
        ]
    if edge.index_file is not None and not any(part.path == "/" for part in edge.by_path):
        document = edge.index_file.lstrip("/")
        lines += ["location = / {", *(f"  {each}" for each in _location(edge, folder, document)), "}"]
    servers = [lines] if alone else [_of_nobody(edge, rejects, folder), lines]
    texts = [line for each in servers for line in ("  server {", *(f"    {inner}" for inner in each), "  }")]
    cache = f"  proxy_cache_path {folder}/cache keys_zone=held:1m use_temp_path=off;\n"
    return configuration(folder, cache + "\n".join(texts))


def _of_nobody(edge: EdgeService, rejects: bool, folder: str) -> Iterator[str]:
    """The server for names that it was not told."""
    for listener in _open(edge):
        for each in listen_words(listener, first=True):
            yield f"listen {each}{' ssl' if listener.tls else ''} default_server;"
    if rejects:
        yield "ssl_reject_handshake on;"
    elif edge.certificate is not None:
        yield f"ssl_certificate {folder}/own.pem; ssl_certificate_key {folder}/own.key;"
    yield f"location / {{ return {edge.refuses_with}; }}"


_PARTS = {"scheme": "$scheme://", "name": "$host", "path": "$p", "normal-path": "$uri", "query": "$is_args$args"}


def _location(edge: EdgeService, folder: str, document: str | None, number: int = 0) -> Iterator[str]:
    origin = edge.asks
    access = edge.access
    if access is not None:
        yield from ranges(access)
        yield from wanted_headers(access)
    if edge.methods:
        yield f"limit_except {' '.join(edge.methods)} {{ deny all; }}"
    target, path = _target(origin)
    if document is not None and not re.fullmatch(r"[A-Za-z0-9_./~-]+", document):
        raise quoting.UnstageableError("an index file", document, edge.place.key("index_file"))
    asked = path if document is None else f"{path.rstrip('/')}/{document}"
    yield f"proxy_pass {target}{asked};"
    yield from _leg(origin, f"{folder}/trust{number}.pem", edge)
    if not edge.caches:
        return
    yield "proxy_cache held;"
    # Each question is a visit of its own, and takes from no other: their names stand in front of nginx's own key.
    # Each part of an edge holds its own.
    own = (
        f"{number}{target}{path.rstrip('/')}$uri$is_args$args" if document is None else f"{target}{asked}$is_args$args"
    )
    stated = "".join(_PARTS[each] for each in ("scheme", "name", "path", "normal-path", "query") if each in edge.key)
    words = (header_word(each, edge.place).replace("-", "_") for each in edge.key_headers)
    fields = "".join(f"|$http_{each}" for each in words)
    yield f'proxy_cache_key "$http_user_agent|{f"{number}{stated}" if edge.key else own}{fields}";'
    for status, seconds in edge.keeps.items():
        yield f"proxy_cache_valid {int(status)} {seconds}s;"
    ignored = [] if edge.obeys_origin else ["Cache-Control", "Expires", "X-Accel-Expires"]
    ignored += ["Set-Cookie"] if edge.holds_cookies else []
    if ignored:
        yield f"proxy_ignore_headers {' '.join(ignored)};"
    if edge.after_time == "old-on-error":
        yield "proxy_cache_use_stale error timeout invalid_header http_500 http_502 http_503 http_504;"
    elif edge.after_time == "old-first":
        yield "proxy_cache_use_stale updating; proxy_cache_background_update on;"


def _leg(origin: Origin, trust: str, edge: EdgeService) -> Iterator[str]:
    place = origin.place
    if origin.host not in (None, "own"):
        yield f"proxy_set_header Host {'$host' if origin.host == 'kept' else quoting.nginx(str(origin.host), place)};"
    said = edge.passes_scheme_as
    if said not in (None, "nothing"):
        scheme = '"proto=$scheme"' if said == "forwarded" else "$scheme"
        yield f"proxy_set_header {header_word(str(said), edge.place)} {scheme};"
    for field, value in origin.sends.items():
        yield f"proxy_set_header {header_word(field, place)} {quoting.nginx(value, place)};"
    if origin.leg == "verified":
        yield f"proxy_ssl_verify on; proxy_ssl_verify_depth 5; proxy_ssl_trusted_certificate {trust};"
    if edge.passes_upgrades:
        yield "proxy_http_version 1.1; proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection $http_connection;"
    if origin.says_name:
        yield "proxy_ssl_server_name on;"
    if isinstance(origin.says_name, str):
        yield f"proxy_ssl_name {quoting.nginx(str(origin.says_name), place)};"
    if edge.error_pages:
        yield "proxy_intercept_errors on;"


def _target(origin: Origin) -> tuple[str, str]:
    """What nginx is told as its upstream, and the path behind it; as typed."""
    match = _NAME.fullmatch(origin.at or "")
    assert match is not None
    scheme = "http" if origin.leg in (None, "plain") else "https"
    name = f"{match[1]}://{match[2]}" if match[1] else match[2]
    shown = f"[{name}]" if name.count(":") > 1 and not name.startswith("[") and not match[1] else name
    port = f":{origin.port}" if origin.port is not None and ":" not in name else ""
    path = (match[3] or "").rstrip("/") + origin.prefix
    if not re.fullmatch(r"[A-Za-z0-9_.:/\[\]-]+", shown) or not re.fullmatch(r"[A-Za-z0-9_./~-]*", path):
        raise quoting.UnstageableError("an origin", shown + path, origin.place)
    return f"{scheme}://{shown}{port}", path
