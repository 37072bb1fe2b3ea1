"""Websites: what a web server gives for a name, and for paths below it."""

import re
from typing import Annotated, Literal

import msgspec

from portolan.estate.base import (
    FolderPath,
    HeaderName,
    HostName,
    IPAddress,
    IPNetwork,
    ListenerKey,
    NamePattern,
    Pattern,
    RunBy,
    SiteName,
    Stated,
    Status,
    Template,
    TlsVersion,
    Unread,
    WebAddress,
    says,
)
from portolan.estate.content import Holding, PagePart, PartsRead, Takes
from portolan.estate.url import Url

Mark = Literal["takes-payments", "private", "closed"]
Method = Literal["GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS", "TRACE"]

#: A part of the request in a redirect's target.
_PART = re.compile(r"\{([a-z]+|[1-9])\}")


class Condition(Stated, frozen=True, kw_only=True, eq=False):
    """What a request must be like; all that is written must hold."""

    scheme: Annotated[Literal["http", "https"] | None, says("How the request came to this server.")] = None
    host: Annotated[
        tuple[NamePattern, ...], says("The name asked for, without port.", example="www.kestrel-ridge.example")
    ] = ()
    not_host: Annotated[tuple[NamePattern, ...], says("Every name asked for but these.")] = ()
    port: Annotated[
        int | None,
        says("The port at which the request came, as its program knows it (Apache httpd: the one asked for)."),
    ] = None
    path: Annotated[
        str | None,
        says(
            "The path asked for, without query: exact (`/old`), or with `*` at its end for all that starts so "
            "(`/old/*`); what stood for `*` is {rest}."
        ),
    ] = None
    pattern: Annotated[
        Pattern | None,
        says(
            "A regular expression that the path fits; what its groups hold is {1} to {9}.",
            example="^/rooms/([0-9]+)$",
        ),
    ] = None
    query: Annotated[
        Pattern | None,
        says("A regular expression that the query fits, without its question mark.", example="(^|&)page=7(&|$)"),
    ] = None
    not_query: Annotated[Pattern | None, says("A regular expression that the query does not fit.")] = None
    header: Annotated[
        dict[HeaderName, str],
        says("Header fields of the request and their values; `''`: not sent.", kind="secret"),
    ] = {}
    not_header: Annotated[
        dict[HeaderName, str],
        says("Header fields that do not have these values; a field that is not sent has none.", kind="secret"),
    ] = {}
    method: Annotated[tuple[Method, ...], says("One of these methods; HEAD goes with GET.")] = ()
    not_method: Annotated[tuple[Method, ...], says("Every method but these; HEAD goes with GET.")] = ()
    fits_header: Annotated[
        dict[HeaderName, Pattern],
        says("Header fields whose values fit these regular expressions, such as `User-Agent`."),
    ] = {}
    file: Annotated[bool | None, says("Whether a file lies at the path in the site's folder, or none does.")] = None
    folder: Annotated[bool | None, says("Whether a folder lies at the path in the site's folder, or none does.")] = None
    file_at: Annotated[
        str | None,
        says("A path in the site's folder at which a file lies, `{path}` being the path asked.", example="{path}.html"),
    ] = None
    while_file: Annotated[
        FolderPath | None,
        says("A file of the machine that must lie there, whatever is asked.", example="/srv/maintenance/on"),
    ] = None
    unless_file: Annotated[FolderPath | None, says("A file of the machine that must not lie there.")] = None

    def rest_of(self, path: str) -> str | None:
        """What stood for the path's star (nothing, where it has none); None where the path is another."""
        if self.path is None or self.path == path:
            return ""
        return path[len(self.path) - 1 :] if self.path.endswith("*") and path.startswith(self.path[:-1]) else None


class When(Condition, frozen=True, kw_only=True, eq=False):
    """The condition of a redirect; all that is written must hold."""

    any: Annotated[
        tuple[Condition, ...], says("Further conditions of which one at least must hold; what they match is not kept.")
    ] = ()
    none: Annotated[tuple[Condition, ...], says("Further conditions of which none may hold.")] = ()
    status: Annotated[
        Status | None, says("At a bucket: only where the answer would have this status.", example=404)
    ] = None


class Redirect(Stated, frozen=True, kw_only=True, eq=False):
    """A rule that sends the visitor elsewhere; the first whose condition holds is taken, before any content.

    With `answer` it gives a status instead; with `inner` the request goes on within the server, under another path.
    """

    when: Annotated[When | None, says("When it applies; left out: always.")] = None
    answer: Annotated[int | None, says("The status that is given instead, 200 to 599.", example=403)] = None
    inner: Annotated[
        Literal["again", "here", "on"] | None,
        says(
            "For a rule that visitors do not see: the request goes on under the path `to`. `again`: the sections are looked for "
            "anew, and their rules (nginx: `last`; Apache httpd: `[L]`); `here`: no further rule is asked (`break`, `[END]`); `on`: the "
            "rules behind it see the new path."
        ),
    ] = None
    to: Annotated[
        Template,
        says(
            "The target, absolute or relative. {scheme}, {host} (name asked for, without port), {port}, {path} (with "
            "its slash), {query} (with its question mark, or nothing), {rest} and {1} to {9} stand for the request's parts.",
            example="https://{host}{path}{query}",
        ),
    ] = Template("")
    status: Annotated[Literal[301, 302, 303, 307, 308], says("The status sent (RFC 9110 section 15.4).")] = 301
    query: Annotated[
        Literal["as-written", "joined", "unless-own"],
        says(
            "What becomes of the query asked: only where {query} stands; `joined` to the target; or added `unless` the target "
            "has its `own`."
        ),
    ] = "as-written"
    written_as: Annotated[
        Literal["rewrite", "redirect"],
        says(
            "In which kind of directive it is written, where the program runs them at different times: Apache httpd's "
            "rewrite rules come before anything is passed on, its redirects after."
        ),
    ] = "rewrite"

    def target(self, parts: dict[str, str], in_query: dict[str, str] | None = None) -> str:
        """The target with the request's parts in their places; a part that is not known is nothing.

        `in_query` are the parts as they stand behind a question mark of the target's own.
        """
        path, mark, query = str(self.to).partition("?")
        behind = parts if in_query is None else in_query
        filled = _PART.sub(lambda match: parts.get(match[1], ""), path)
        return filled + mark + _PART.sub(lambda match: behind.get(match[1], ""), query)


class Rate(Stated, frozen=True, kw_only=True, eq=False):
    """How often one address may ask."""

    requests: Annotated[int, says("How many requests are taken from one address.", example=10)]
    each: Annotated[Literal["second", "minute"], says("In which time.")] = "second"
    at_once: Annotated[int, says("How many more may wait or come at once.")] = 0
    refuses_with: Annotated[Status, says("The status for those beyond that.")] = Status(503)

    @property
    def text(self) -> str:
        """In words."""
        more = f" and {self.at_once} more at once" if self.at_once else ""
        return f"{self.requests} requests a {self.each}{more}"


class Access(Stated, frozen=True, kw_only=True, eq=False):
    """Who is let in."""

    sources: Annotated[tuple[IPNetwork, ...], says("Only who comes from these ranges.")] = msgspec.field(
        default=(), name="from"
    )
    not_sources: Annotated[tuple[IPNetwork, ...], says("Nobody from these ranges.")] = msgspec.field(
        default=(), name="not_from"
    )
    nobody: Annotated[bool, says("Nobody at all.")] = False
    password: Annotated[bool, says("Only who knows a password.")] = False
    password_file: Annotated[
        Literal["missing", "unreadable"] | None,
        says("What is wrong with the file of passwords, if anything: whoever sends a password then gets an error."),
    ] = None
    either: Annotated[bool, says("Whether the right range or the password is enough by itself.")] = False
    headers: Annotated[
        dict[HeaderName, str],
        says(
            "Only requests with these header fields, such as one that an edge adds. Write an invented value; it is never shown.",
            kind="secret",
        ),
    ] = {}

    def keeps_out(self, source: IPAddress | None) -> bool:
        """Whether whoever comes from an address is kept out by its ranges alone; of nowhere known, nobody is."""
        if source is None:
            return False
        listed = not self.sources or any(source in each for each in self.sources)
        return not listed or any(source in each for each in self.not_sources)


class Believed(Stated, frozen=True, kw_only=True, eq=False):
    """Whose word on the visitor's address is believed: rules of access and logs go by it then."""

    header: Annotated[HeaderName, says("The field that says it.", example="X-Forwarded-For")]
    sources: Annotated[
        tuple[IPNetwork, ...],
        says("From whom it is believed: the fronts and edges before this program.", example="10.20.0.15/32"),
    ] = msgspec.field(name="from")
    passes_over: Annotated[
        bool,
        says(
            "Of several addresses in the field the last one counts; whether those that are themselves in `from` are passed over, "
            "from the end on (nginx: real_ip_recursive; Apache httpd always does)."
        ),
    ] = False


class Upstream(Stated, frozen=True, kw_only=True, eq=False):
    """The program behind, to which requests are passed on. A URL alone is its `to`."""

    to: Annotated[
        tuple[Url, ...],
        says(
            "Scheme, name or address, port unless it is the usual one, and a path where the program replaces the "
            "request's path by it. Several are a pool, whose members take turns.",
            example="http://10.20.0.16:8080",
        ),
    ]
    spare: Annotated[
        tuple[Url, ...],
        says(
            "Members that are asked only where every other one failed, written as in `to`.",
            example="http://10.20.0.18:8080",
        ),
    ] = ()
    next_on: Annotated[
        tuple[int, ...],
        says(
            "Statuses of a member after which the next one is asked, where the method may be repeated; the last one's stands. Left out: "
            "none.",
            example=[502, 503],
        ),
    ] = ()
    pool: Annotated[str, says("The name of a pool, which some programs send as the host name.")] = "pool"
    host: Annotated[
        Literal["own", "kept", "as-sent"] | NamePattern,
        says(
            "The host name sent: the upstream's `own`, the visitor's `kept` (as the program does it: nginx without its port), exactly "
            "`as-sent` with port and dot, or this name."
        ),
    ] = "own"
    verifies: Annotated[bool, says("Whether an encrypted upstream must have a certificate that is right.")] = False
    trusts: Annotated[tuple[str, ...], says("Whom it then trusts, as at a vantage.", refers=("authorities",))] = (
        "public",
    )
    server_name: Annotated[
        bool | HostName | None,
        says(
            "Whether it says in the handshake for which name it asks, or the name that it says and checks instead. Left out: as its "
            "program does."
        ),
    ] = None
    turns_redirects: Annotated[
        bool | None,
        says(
            "Whether redirects of the upstream to exactly its own address, as written, are turned to the front's. Left out: as "
            "its program does (nginx does, Apache httpd does not)."
        ),
    ] = None
    turned: Annotated[
        dict[WebAddress, str],
        says(
            "Beginnings of addresses in the upstream's redirects, and what stands in their place: a path of the front, or an address. "
            "Its own address is then turned only where `turns_redirects` says so.",
            example={"http://10.20.0.16:8080/": "/desk/"},
        ),
    ] = {}
    headers: Annotated[
        dict[HeaderName, str],
        says(
            "Header fields that it sets, in place of what the visitor sent. {scheme}, {host} and {port} stand for the "
            "request's parts, {client} for the address that it comes from.",
            kind="secret",
        ),
    ] = {}
    appends: Annotated[
        dict[HeaderName, str],
        says("Header fields to whose value, if any, it adds another behind a comma.", kind="secret"),
    ] = {}
    upgrades: Annotated[
        bool,
        says(
            "Whether requests for websockets are passed on as such (RFC 6455). Left out: no, and what is behind is asked for a page."
        ),
    ] = False
    replaces_errors: Annotated[
        bool, says("Whether error pages here stand for errors that the upstream answers itself, too.")
    ] = False
    answer_within: Annotated[int, says("How long it waits for an answer, in seconds.")] = 60

    @property
    def members(self) -> tuple[Url, ...]:
        """Everybody whom it may ask, the spare ones last."""
        return self.members_from(0)

    def members_from(self, turn: int) -> tuple[Url, ...]:
        """The same, where it is the turn of another than the first."""
        return (*self.to[turn:], *self.to[:turn], *self.spare) if turn or self.spare else self.to


class Giving(Holding, frozen=True, kw_only=True, eq=False):
    """What is given for requests: content, an answer, or what a program behind says."""

    folder: Annotated[
        FolderPath | None,
        says(
            "Where the content lies on the machine. What lies there is said here, or by the machine's `folders`. At a site the name "
            "asked for may lead to it: `{name}` is the name, `{label:1}` its first label (`{label:-1}`: the last; `{label:2+}`: the second and "
            "all behind it), `{1}` a group of the name pattern.",
            example="/srv/visit",
        ),
    ] = None
    index_files: Annotated[
        tuple[str, ...] | None,
        says("The names tried, in this order, when a folder is asked for. Left out: as its program does (index.html)."),
    ] = None
    listing: Annotated[bool | None, says("Whether a folder without index file is listed. Left out: no.")] = None
    fallback: Annotated[
        str | None,
        says(
            "The file given where nothing lies at the path asked, counted from the site's folder.", example="app.html"
        ),
    ] = None
    tries: Annotated[
        tuple[str, ...],
        says(
            "What is looked for in the site's folder, in this order, `{path}` being the path asked; what ends in a slash is a folder. What "
            "is found first is given as if it had been asked for; where nothing is, the `upstream` is asked, else the `fallback` given, else 404. Left out: "
            "the path as it is.",
            example=["{path}", "{path}.html", "{path}/"],
        ),
    ] = ()
    redirects: Annotated[tuple[Redirect, ...], says("Redirect rules, first match first.")] = ()
    upstream: Annotated[
        Upstream | Url | None,
        says("The program behind, to which everything is passed on that no redirect took: a URL, or keys."),
    ] = None
    scripts_at: Annotated[
        str | None,
        says(
            "Where the program is asked that runs the scripts lying at these paths (FastCGI): an address and port, or a socket's "
            "path on the machine. The site's folder says which scripts there are.",
            example="/run/scripts/pages.sock",
        ),
    ] = None
    answer: Annotated[
        int | None,
        says("A status that is given to everything that no redirect took, 200 to 599.", example=404),
    ] = None
    access: Annotated[Access | None, says("Who is let in. Left out: everyone.")] = None
    methods: Annotated[
        tuple[Method, ...], says("The only methods taken; HEAD goes with GET. Left out: all that the program knows.")
    ] = ()
    error_pages: Annotated[
        dict[Status, str],
        says("Pages of its own for errors, by status: a path of this site, or a URL elsewhere."),
    ] = {}
    error_pages_as: Annotated[
        dict[Status, int],
        says(
            "The status with which the page for an error is given, where it is not the error's own (nginx), as single-page "
            "applications have it: `{404: 200}`."
        ),
    ] = {}
    largest_body: Annotated[
        int | None, says("The most octets that a request may bring along. Left out: as its program does.")
    ] = None
    rate: Annotated[
        Rate | None,
        says(
            "How often one address may ask. A visit is taken to be within it, which its answer says; `check` tells where everybody comes "
            "from the address of a front or an edge, and shares it."
        ),
    ] = None
    cache_control: Annotated[
        str | None,
        says("The Cache-Control that it says with pages and redirects, for caches (RFC 9111).", example="max-age=60"),
    ] = None
    expires_after: Annotated[
        int | None,
        says(
            "How many seconds after an answer its Expires lies, for caches; 0: at a moment that is over. A max-age in "
            "Cache-Control counts before it (RFC 9111 section 5.3)."
        ),
    ] = None
    age: Annotated[
        int | None,
        says("The Age that it says: for how many seconds what it gives was held behind it (RFC 9111 section 5.1)."),
    ] = None
    sets_cookie: Annotated[
        bool, says("Whether it sets a cookie with its pages, which keeps caches from holding them.")
    ] = False
    unread: Unread = ()


class Section(Giving, frozen=True, kw_only=True, eq=False):
    """What is otherwise for some paths of a site. What it does not say is as at the site."""

    path: Annotated[
        FolderPath | None,
        says(
            "The beginning of the paths that it is for; with a folder of its own, that lies behind it.", example="/app/"
        ),
    ] = None
    exact: Annotated[FolderPath | None, says("The only path that it is for.", example="/status")] = None
    pattern: Annotated[Pattern | None, says("A regular expression that its paths fit.", example="[.]php$")] = None
    inner_only: Annotated[
        bool,
        says(
            "Whether only the program itself asks for its paths, for error pages and fallbacks; visitors get 404 (nginx)."
        ),
    ] = False
    first: Annotated[
        bool, says("For a beginning: whether no pattern is tried where it is the longest that fits (nginx).")
    ] = False

    not_passed_on: Annotated[
        bool,
        says(
            "Whether its paths stay out of every upstream. Apache httpd asks its upstreams before it looks for a section's "
            "folder, whatever the order, unless it is told so."
        ),
    ] = False

    @property
    def shown(self) -> str:
        """Its paths, for people."""
        return str(self.exact or self.path or self.pattern or "/")


#: The only name by which files of rules are looked for.
RULE_FILE = ".htaccess"


class RuleFile(Stated, frozen=True, kw_only=True, eq=False):
    """A file of rules inside a site's folder, which Apache httpd reads with every request."""

    within: Annotated[str, says("The folder that it lies in, relative to the site's.")] = msgspec.field(
        default="", name="in"
    )
    file_name: Annotated[str, says("Its name; under any other than the program's it is not looked at.")] = RULE_FILE
    redirects: Annotated[tuple[Redirect, ...], says("Redirect rules, as at a site.")] = ()
    access: Annotated[Access | None, says("Who is let in, as at a site.")] = None
    index_files: Annotated[tuple[str, ...] | None, says("The names tried in the folder, as at a site.")] = None
    broken: Annotated[
        str | None, says("Why it cannot be read, as the program says.", example="Invalid command 'RewriteEngne'")
    ] = None


class Site(Giving, frozen=True, kw_only=True, eq=False):
    """A website that a service holds, bound to names and listeners. Its pages are known as SITE/PATH."""

    name: str
    run_by: RunBy = None
    names: Annotated[
        tuple[SiteName, ...],
        says(
            "The names it answers to: exact, `*.rest` (any depth), `first.*`, `.rest` (the name and all below), with stars in any place "
            "(Apache httpd: `hut*.rest`), or nothing (`''`: no name was sent). Left out: only what falls to it as the default site.",
            example=["visit.kestrel-ridge.example", "*.kestrel-ridge.example"],
        ),
    ] = ()
    name_patterns: Annotated[
        tuple[Pattern, ...],
        says(
            "Regular expressions for names that it answers to; the first of all sites that fits is taken, after the other "
            "forms.",
            example="^hut[0-9]+[.]kestrel-ridge[.]example$",
        ),
    ] = ()
    listens: Annotated[
        tuple[ListenerKey, ...],
        says(
            "The listeners it is bound to, written as at the service (the words after the port may be left out); or one "
            "address of a listener that is for all. Left out: all."
        ),
    ] = ()
    default: Annotated[
        bool, says("Takes requests whose name no site answers to. Where no site says so: the first one listed.")
    ] = False
    default_on: Annotated[
        tuple[ListenerKey, ...], says("The listeners on which it is the default site, where it is not on all.")
    ] = ()
    written_in: Annotated[
        str | None,
        says("The configuration file that it is written in.", example="/etc/nginx/sites-available/visit"),
    ] = None
    included: Annotated[bool, says("Whether the program's configuration takes that file in.")] = True
    enabled: Annotated[bool, says("Whether it is switched on.")] = True
    loaded: Annotated[bool, says("Whether the program was started or reloaded since it was written.")] = True
    certificate: Annotated[
        str | None, says("The certificate shown for its names; left out: the service's.", refers=("certificates",))
    ] = None
    believes_address: Annotated[
        Believed | None,
        says("Whose word on the visitor's address this site believes. Left out: as its service does."),
    ] = None
    redirects_to: Annotated[
        Literal["asked-host", "own-address", "path-only"] | None,
        says(
            "How its program writes redirects of its own (to a folder's slash, and to paths): with the name asked for, with the site's own "
            "first name, or as the bare path, which leaves visitors where they are. Left out: with the name asked for."
        ),
    ] = None
    redirects_tell_port: Annotated[
        bool | None, says("Whether such redirects bear a port that is not the usual one. Left out: they do.")
    ] = None
    tls_versions: Annotated[
        tuple[TlsVersion, ...],
        says(
            "The versions of TLS that it speaks. nginx takes those of the default site for every name. Left out: the service's.",
            example=["1.2", "1.3"],
        ),
    ] = ()
    client_certificates: Annotated[
        Literal["asked", "required"] | None,
        says(
            "Whether visitors are asked for a certificate of their own. nginx answers 400 where one is missing that is `required`, or bad; "
            "others end the handshake. Left out: they are not."
        ),
    ] = None
    rejects_handshake: Annotated[
        bool, says("Whether handshakes that fall to it are rejected; it needs no certificate then.")
    ] = False
    sections: Annotated[
        tuple[Section, ...], says("What is otherwise for some paths, matched as its program does.")
    ] = ()
    rule_files: Annotated[
        tuple[RuleFile, ...], says("Files of rules that lie inside its folder, which only Apache httpd reads.")
    ] = ()
    reads_rule_files: Annotated[bool, says("Whether the program is told to read them (Apache httpd).")] = False
    follows_links: Annotated[bool, says("Whether symbolic links are followed.")] = True
    takes: Takes = ()
    parts: PartsRead = None
    page_parts: tuple[PagePart, ...] = ()
    marks: Annotated[
        tuple[Mark, ...],
        says(
            "What remedies must respect. `takes-payments`, `private`: whatever weakens is withheld; `private`: nobody who is not "
            "named by an expectation is let in. `closed`: its refusal is meant, and lifting it is never proposed."
        ),
    ] = ()

    @property
    def says_where(self) -> str:
        """Which configuration file says so, as the end of a sentence; nothing where that is not stated."""
        return f" (in {self.written_in})" if self.written_in else ""

    def refuses_client(self, shown: Literal["good", "bad"] | None) -> str | None:
        """Why it does not take what a client shows of itself: a certificate, a bad one, or none; None where it does."""
        if self.client_certificates is None or shown == "good":
            return None
        if shown == "bad":
            return "and does not take the one that is shown"
        return "and is shown none" if self.client_certificates == "required" else None

    @property
    def in_force(self) -> bool:
        """Whether the program that runs has it."""
        return self.enabled and self.included and self.loaded
