"""What no single value of a web server can know: combinations of keys that make no sense."""

import re
from collections.abc import Callable, Iterable

from portolan.estate.content import Holding
from portolan.estate.led import PLACE
from portolan.estate.machine import Machine
from portolan.estate.names import starred_within
from portolan.estate.service import Listener, StatedProgram, WebService, address_in
from portolan.estate.site import Condition, Giving, Redirect, Section, Site, Upstream
from portolan.estate.store import Bucket
from portolan.formats.patterns import CACHE_CONTROL
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place
from portolan.source.plain import one_line

Note = Callable[..., None]


def web_service(service: WebService, note: Note) -> None:
    """A web server's own facts."""
    program = service.program
    if isinstance(program, StatedProgram):
        for key in ("refuses_with", "missing", "no_index_file"):
            status = getattr(program, key)
            if not 400 <= status <= 599:
                note(program.place.key(key), f"expected a status, 400 to 599, found {status}")
    for path in service.grants or ():
        if not path.startswith("/"):
            note(
                service.place.key("grants"), f"expected a path from the root such as /var/www, found '{one_line(path)}'"
            )
    if service.answers_after < 0:
        note(service.place.key("answers_after"), f"expected a number of seconds, found {service.answers_after}")
    if not service.runs_as:
        note(service.place.key("runs_as"), "expected the name of a user such as www-data")


def machine_folders(machine: Machine, note: Note) -> None:
    """The folders of a machine: each by its whole path, none inside another."""
    for name, folder in machine.folders.items():
        if not name.startswith("/") or ".." in name.split("/"):
            note(folder.place, f"expected a path from the root such as /srv/visit, found '{one_line(name)}'")
        _holding(folder, note)
        outer = next(
            (other for other in machine.folders if other != name and name.startswith(other.rstrip("/") + "/")), None
        )
        if outer is not None:
            note(folder.place, f"it lies inside {one_line(outer)}, which says what it holds", "Say it there.")


def site_makes_sense(service: WebService, site: Site, listeners: dict[str, Listener], note: Note) -> None:
    """A site and all that is in it."""
    _listeners(site, listeners, note)
    _giving(service, site, note)
    _own_redirects(service, site, note)
    for section in site.sections:
        _section(service, site, section, note)
        _giving(service, section, note)
    for file in site.rule_files:
        redirects(file.redirects, note)
        if ".." in file.within.split("/") or file.within.startswith("/"):
            note(file.place.key("in"), f"expected a folder inside the site's, found '{one_line(file.within)}'")
    if site.name_patterns and service.program == "apache":
        note(
            site.place.key("name_patterns"),
            "Apache httpd has no regular expressions for names",
            "Use a pattern with a star.",
        )
    for number, name in enumerate(site.names):
        if service.program in ("nginx", None) and starred_within(name):
            text = "nginx takes a star as the first or the last label only, and does not start"
            note(site.place.item("names", number), text, "Write a name pattern.")
    parts_of_a_copy(site, note)
    if site.default and site.default_on:
        note(
            site.place.key("default_on"),
            "'default' and 'default_on' both say where it is the default",
            "Keep one of them.",
        )


def parts_of_a_copy(giver: Site | Bucket, note: Note) -> None:
    """Only a copy has pages whose parts can be read."""
    if giver.parts is not None and giver.copy is None:
        note(giver.place.key("parts"), "'parts' looks at the pages of a 'copy'", "Add 'copy: FOLDER'.")


def _listeners(site: Site, listeners: dict[str, Listener], note: Note) -> None:
    for field in ("listens", "default_on"):
        for index, key in enumerate(getattr(site, field)):
            if key in listeners or _under_all(key, listeners):
                continue
            text = f"the service has no listener '{one_line(key.removeprefix('*:'))}'"
            note(site.place.item(field, index), text, did_you_mean(key, listeners))


def _under_all(key: str, listeners: dict[str, Listener]) -> bool:
    """Whether a listener that is for every address takes in this one."""
    named = address_in(key)  # type: ignore[arg-type]
    if named is None:
        return False
    wild = {4: ("*", "0.0.0.0"), 6: ("*", "[::]")}[named[0].version]
    return any(f"{each}:{named[1]}" in listeners for each in wild)


#: The statuses after which nginx can be told to ask the next member.
NEXT_ON = (403, 404, 429, 500, 502, 503, 504)
#: What may lie in a folder, and be tried before an upstream is asked.
LYING = ("files", "copy", "inventory", "folder")
#: Keys that say where an answer comes from: none goes with those behind it.
CONTRARY = {
    "upstream": ("answer", "scripts_at", *LYING, "listing", "fallback", "tries"),
    "answer": ("scripts_at", *LYING, "listing", "fallback", "tries"),
}


def _own_redirects(service: WebService, site: Site, note: Note) -> None:
    if service.program == "apache" and (site.redirects_to == "path-only" or site.redirects_tell_port is False):
        key = "redirects_to" if site.redirects_to == "path-only" else "redirects_tell_port"
        note(site.place.key(key), "Apache httpd always writes the whole address, with its port", "Leave it out.")


def _given_as(service: WebService, giving: Giving, note: Note) -> None:
    place = giving.place.key("error_pages_as")
    for status, given in giving.error_pages_as.items():
        if not str(giving.error_pages.get(status, "")).startswith("/"):
            note(place, f"no page of the site's own stands for {status}", "Name one under 'error_pages'.")
        elif not 200 <= given <= 599:
            note(place, f"expected a status, 200 to 599, found {given}")
    if giving.error_pages_as and service.program == "apache":
        note(
            place, "Apache httpd gives its pages for errors with the error's own status", "Use 'fallback' for the page."
        )


def _tried(giving: Giving, note: Note) -> None:
    for number, template in enumerate(giving.tries):
        bare = template.replace("{path}", "/")
        if not bare.startswith("/") or ".." in bare.split("/") or any(char in bare for char in "{}?$ \"'\\"):
            text = f"expected a path such as '{{path}}.html' or '{{path}}/', found '{one_line(template)}'"
            note(giving.place.item("tries", number), text)


def _rate(giving: Giving, note: Note) -> None:
    rate = giving.rate
    if rate is None:
        return
    for key, least in (("requests", 1), ("at_once", 0)):
        number = getattr(rate, key)
        if number < least:
            note(rate.place.key(key), f"expected a number of requests, found {number}")


def _led(service: WebService, giving: Giving, note: Note) -> None:
    """A folder that the name leads to: at sites, and as far as the program knows the word."""
    if giving.folder is None or "{" not in giving.folder:
        return
    place, folder = giving.place.key("folder"), str(giving.folder)
    if "{" in PLACE.sub("", folder):
        note(place, "expected {name}, {label:1} or {1} in a folder's path", "Other braces have no meaning there.")
    elif not isinstance(giving, Site):
        note(place, "only a site's own folder is one that the name leads to", "Give those names a site of their own.")
    elif giving.told:
        note(
            place,
            "the name leads to many folders, and the site says what one holds",
            "Say it under the machine's 'folders'.",
        )
    elif "{label:" in folder and service.program in ("nginx", None):
        note(place, "nginx knows no labels of a name", "Use a name pattern and its groups: {1}.")
    elif re.search(r"\{[1-9]\}", folder) and not giving.name_patterns:
        note(place, "{1} to {9} need a name pattern", "Write 'name_patterns', or use {name}.")


#: Where scripts are run: a path, or a name or address with a port.
_AT = re.compile(r"/[^\s\x00]*|(?:[A-Za-z0-9.-]+|\[[0-9A-Fa-f:.]+\]):[1-9][0-9]{0,4}")


def _giving(service: WebService, giving: Giving, note: Note) -> None:
    place = giving.place
    said = place.has("upstream") if isinstance(giving, Section) else giving.upstream is not None
    beside = (*LYING, "tries") if place.has("tries") else ()
    for word in CONTRARY["upstream"] if said else ():
        # What is tried first lies in a folder.
        if place.has(word) and word not in beside:
            note(place.key(word), f"'{word}' and 'upstream' both say what the site gives", "Keep one of them.")
    if place.has("tries") and isinstance(giving.upstream, Upstream) and service.program != "apache":
        for number, each in enumerate(giving.upstream.to):
            if each.path:
                text = (
                    "nginx does not start where an upstream that is asked after files were tried has a path of its own"
                )
                note(giving.upstream.place.item("to", number), text, f"Write {each.but(path='')}".rstrip("/") + ".")
    answered = isinstance(giving, Section) and giving.answer is not None
    for word in CONTRARY["answer"] if answered else ():
        if place.has(word):
            note(place.key(word), f"'{word}' and 'answer' both say what the section gives", "Keep one of them.")
    if giving.answer is not None and not 200 <= giving.answer <= 599:
        note(place.key("answer"), f"expected a status, 200 to 599, found {giving.answer}")
    elif giving.answer is not None and 300 <= giving.answer <= 399:
        note(place.key("answer"), "a redirect needs its target", "Use 'redirects'.")
    elif giving.answer is not None and service.program == "apache" and giving.answer not in HTTPD_KNOWS:
        note(place.key("answer"), f"Apache httpd does not know the status {giving.answer}, and does not start")
    _documents(giving, note)
    _bounds(giving, note)
    _rate(giving, note)
    _tried(giving, note)
    _led(service, giving, note)
    _given_as(service, giving, note)
    for status, page in giving.error_pages.items():
        if not page.startswith(("/", "http://", "https://")) or any(char in page for char in " \"'\\"):
            text = f"expected a path of the site or a URL for {status}, found '{one_line(page)}'"
            note(place.key("error_pages"), text)
    _holding(giving, note)
    redirects(giving.redirects, note)
    if isinstance(giving.upstream, Upstream):
        _upstream(service, giving.upstream, note)


def _documents(giving: Giving, note: Note) -> None:
    place = giving.place
    for name in giving.index_files or ():
        if "/" in name or not name:
            note(place.key("index_files"), f"'{one_line(name)}' is no plain file name")
    if giving.fallback is not None and (not giving.fallback.strip("/") or ".." in giving.fallback.split("/")):
        note(place.key("fallback"), f"expected a file of the site's folder, found '{one_line(giving.fallback)}'")


def _bounds(giving: Giving, note: Note) -> None:
    place = giving.place
    if giving.scripts_at is not None and not _AT.fullmatch(giving.scripts_at):
        text = f"expected an address and port or a socket's path, found '{one_line(giving.scripts_at)}'"
        note(place.key("scripts_at"), text, "Write 127.0.0.1:9000, or /run/scripts/pages.sock.")
    if giving.largest_body is not None and giving.largest_body < 0:
        note(place.key("largest_body"), f"expected a number of octets, found {giving.largest_body}")
    if giving.age is not None and giving.age < 0:
        note(place.key("age"), f"expected a number of seconds, found {giving.age}")
    if giving.cache_control is not None and not re.fullmatch(CACHE_CONTROL, giving.cache_control):
        text = f"expected directives such as max-age=60, found '{one_line(giving.cache_control)}'"
        note(place.key("cache_control"), text)


#: The statuses that Apache httpd's rewrite rules take (measured).
HTTPD_KNOWS = frozenset(
    (
        *range(200, 209),
        226,
        *range(400, 419),
        421,
        422,
        423,
        424,
        425,
        426,
        428,
        429,
        431,
        451,
        *range(500, 509),
        510,
        511,
    )
)


def _holding(holding: Holding, note: Note) -> None:
    for name in holding.files or ():
        if name.startswith("/") or ".." in name.split("/"):
            note(
                holding.place.key("files"),
                f"'{one_line(name)}' is not relative to the site's folder",
                f"Write '{one_line(name.lstrip('/'))}'.",
            )
    for name in (*holding.links, *holding.unreadable):
        if name.startswith("/"):
            key = "links" if name in holding.links else "unreadable"
            note(holding.place.key(key), f"'{one_line(name)}' is not relative to the folder")


def _section(service: WebService, site: Site, section: Section, note: Note) -> None:
    said = [key for key in ("path", "exact", "pattern") if section.place.has(key)]
    if len(said) != 1:
        note(
            section.place,
            "a section has exactly one of 'path', 'exact' and 'pattern'",
            "Write for example {path: /app/}.",
        )
        return
    for key in ("path", "exact"):
        value = getattr(section, key)
        if value is not None and (not value.startswith("/") or "?" in value):
            note(section.place.key(key), f"expected a path such as /app/, found '{one_line(value)}'")
    own = any(section.place.has(key) for key in ("folder", "files", "copy", "inventory"))
    if section.fallback is not None and own:
        text = "'fallback' is a file of the site's folder, and this section has one of its own"
        note(section.place.key("fallback"), text, "Say it at the site.")
    if section.tries and own:
        text = "'tries' looks in the site's folder, and this section has one of its own"
        note(section.place.key("tries"), text, "Say it at the site.")
    if section.inner_only and service.program == "apache":
        note(
            section.place.key("inner_only"), "Apache httpd knows no sections for its own requests only", "Leave it out."
        )
    if section.first and section.path is None:
        note(section.place.key("first"), "'first' goes with 'path'")
    upstream = section.upstream
    if not own and section.answer is None and upstream is None:
        upstream = site.upstream
    replaced = isinstance(upstream, Upstream) and any(member.path for member in upstream.to)
    if section.pattern is not None and replaced and service.program != "apache":
        text = "nginx cannot replace the path of a pattern, and does not start"
        note(section.place.key("pattern"), text, "Leave the upstream's path out.")


def _upstream(service: WebService, upstream: Upstream, note: Note) -> None:
    place = upstream.place
    if not upstream.to:
        note(place, "an upstream needs 'to'", "Write for example 'to: http://10.20.0.16:8080'.")
        return
    first = upstream.to[0]
    if any((each.scheme, each.path) != (first.scheme, first.path) for each in upstream.members):
        key = "to" if any(each.path != first.path or each.scheme != first.scheme for each in upstream.to) else "spare"
        note(place.key(key), "the members of a pool have one scheme and one path")
    for number, status in enumerate(upstream.next_on):
        if status not in NEXT_ON:
            text = f"expected one of {', '.join(map(str, NEXT_ON))}, found {status}"
            note(place.item("next_on", number), text)
    if upstream.next_on and service.program == "apache":
        note(place.key("next_on"), "Apache httpd asks no other member after a status")
    if upstream.answer_within <= 0:
        note(place.key("answer_within"), f"expected a number of seconds, found {upstream.answer_within}")
    if (upstream.verifies or upstream.server_name) and not first.secure:
        key = "verifies" if upstream.verifies else "server_name"
        note(place.key(key), f"'{key}' is for encrypted upstreams; this one is plain", "Write https:// in 'to'.")
    if service.program == "apache" and isinstance(upstream.server_name, str):
        note(
            place.key("server_name"), "Apache httpd says the host name that it sends", "Write 'host', or take it away."
        )
    if service.program == "apache" and upstream.server_name is False:
        note(place.key("server_name"), "Apache httpd always says for which name it asks")


def redirects(rules: Iterable[Redirect], note: Note, at_bucket: bool = False) -> None:
    """The rules of a site, a section or a bucket."""
    for redirect in rules:
        when = redirect.when
        _does(redirect, note, at_bucket)
        if when is not None and when.status is not None and not at_bucket:
            note(when.place.key("status"), "only a bucket's redirects go by a status", "Use 'error_pages' at a site.")
        if when is not None and at_bucket:
            for word in (each for each in _AT_SITES if when.place.has(each)):
                note(when.place.key(word), f"a bucket's redirects do not go by '{word}'", "Take it away.")
        for each in (when, *when.any, *when.none) if when is not None else ():
            if each.path is not None:
                _path(each, note)
            if each.port is not None and not 0 < each.port < 65536:
                note(each.place.key("port"), f"expected a port, 1 to 65535, found {each.port}")
        star = when is not None and when.path is not None and when.path.endswith("*")
        if "{rest}" in redirect.to and not star:
            note(redirect.place.key("to"), "{rest} needs a 'when' whose path ends in *")
        groups = any(f"{{{number}}}" in redirect.to for number in range(1, 10))
        if groups and (when is None or when.pattern is None):
            note(redirect.place.key("to"), "{1} to {9} need a 'when' with a 'pattern'")


#: Conditions that object stores do not know.
_AT_SITES = (
    *("method", "not_method", "fits_header", "file", "folder", "file_at", "while_file", "unless_file", "any", "none"),
)


def _does(redirect: Redirect, note: Note, at_bucket: bool) -> None:
    """What a rule does: it sends elsewhere, answers, or lets the request go on under another path; one of these."""
    place, answer = redirect.place, redirect.answer
    if answer is None and not redirect.to:
        note(place, "a rule needs its target, 'to'", "Or write the 'answer' that it gives.")
    for word in ("to", "inner", "status", "query") if answer is not None else ():
        if place.has(word):
            note(place.key(word), f"'answer' and '{word}' are about different rules", "Keep one of them.")
    if answer is not None and (not 200 <= answer <= 599 or 300 <= answer <= 399):
        note(place.key("answer"), f"expected a status, 200 to 299 or 400 to 599, found {answer}")
    if redirect.inner is not None and place.has("status"):
        note(place.key("status"), "a rule that visitors do not see has no status", "Take it away.")
    if redirect.inner is not None and not re.match(r"/|\{(?:path|rest|[1-9])\}", redirect.to):
        note(place.key("to"), f"expected a path of the site, found '{one_line(redirect.to)}'")
    if at_bucket and (redirect.inner is not None or answer is not None):
        note(place.key("inner" if answer is None else "answer"), "a bucket's redirects only send elsewhere")


def _path(when: Condition, note: Note) -> None:
    path = when.path or ""
    if not path.startswith("/") or "*" in path[:-1] or "?" in path:
        note(_place(when), f"expected a path such as /old or /old/*, found '{one_line(path)}'")


def _place(when: Condition) -> Place:
    return when.place.key("path")
