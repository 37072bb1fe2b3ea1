"""What the engines need to know of a server program, behind one Protocol for each kind of server."""

from typing import Literal, Protocol

from portolan.estate.client import Checks
from portolan.estate.edge import KeyPart, Stage
from portolan.source.value import Value


class Methods(Value, frozen=True):
    """What a web server makes of methods, by status; what is in none of the tables is answered as GET is.

    `early` holds before anything else, `content` before a file is looked for (or, with `looks_first`, after folders were looked
    at), `file` at a file, `folder` at a folder without a document. `echoes` are answered 200, without a page and before access
    is judged; `bare` 200 without a page.
    """

    early: frozenset[str] = frozenset()
    content: frozenset[str] = frozenset()
    file: frozenset[str] = frozenset()
    folder: dict[str, int] = {}
    echoes: frozenset[str] = frozenset()
    bare: frozenset[str] = frozenset()
    looks_first: bool = False


class Passing(Value, frozen=True):
    """What a web server does with an upstream that it passes requests on to.

    The statuses are what its own client gets when the upstream fails; `unknown_name` is None where it does not start.
    """

    unknown_name: int | None
    refused: int
    unreachable: int
    timed_out: int
    stalled: int
    cut_off: int
    tls: int
    #: None: what is no HTTP is passed on as it is.
    garbled: int | None
    #: A leg that the configuration leaves unverified.
    checks: Checks
    sends_server_name: bool
    #: Whether redirects to exactly the upstream's address, as written, are turned to its own.
    turns_redirects: bool
    #: Whether a path of the upstream takes the place of a section's path always, or only where the upstream has one.
    replaces_path: bool
    #: Whether the host name sent is the name that the certificate must cover (else the upstream's name as written).
    checks_host_sent: bool
    #: Whether a pool's own name is the host name sent, or its member's.
    sends_pool_name: bool
    #: Whether the next member of a pool is asked after silence or a close too, for methods that may be repeated.
    passes_over_silence: bool
    #: Whether the visitor's host name is kept with its port and dot.
    keeps_host_exactly: bool
    #: Whether it says by itself for whom it asks (X-Forwarded-For, X-Forwarded-Host).
    says_for_whom: bool
    #: Whether the limit of what a request may bring along holds for what is passed on, too.
    limits_body: bool


class EdgeWays(Value, frozen=True):
    """What an edge does where nothing is stated; what is stated stands in its place.

    `statuses` are what visitors get when the origin fails, by what went wrong. `lifetimes` and `error_lifetime` say how long
    answers are held that do not say so themselves, in seconds.
    """

    statuses: dict[str, int]
    order: tuple[Stage, ...]
    methods: frozenset[str]
    key: tuple[KeyPart, ...]
    lifetimes: dict[int, int]
    error_lifetime: int
    after_time: Literal["asks", "old-first", "old-on-error"]
    host: Literal["own", "kept"]
    joins: Literal["literal", "one-slash", "in-place-of-slash"]
    scheme_header: str | None
    address_header: str | None
    tries_all: bool
    #: Whether it says in the handshake for which name it asks, or the name that it says.
    says_name: bool | str
    #: Whether requests for websockets are passed on as such.
    upgrades: bool
    #: Whether the origin's Age shortens the time for which an answer is held.
    counts_age: bool


class ResolverProgram(Protocol):
    """A resolver's own ways."""

    #: How it is named where decisions tell of it.
    name: str
    #: How many aliases it follows.
    most_aliases: int
    #: Whether it fails where a DNAME record leads into itself; else it answers without addresses.
    fails_on_endless: bool
    #: Names below which it asks nobody, and says that nothing exists.
    empty_zones: frozenset[str]
    #: The longest that it keeps records, and absences, in seconds, whatever their TTL says.
    longest_kept: int
    longest_absence: int
    #: Whether hearing that a name does not exist makes it forget what records of the name it kept.
    absence_is_of_names: bool
    #: Whether it checks signatures as it is installed.
    validates: bool
    #: Whether it asks name servers whose names are aliases.
    server_may_be_alias: bool
    #: The most records of one name and type that it takes; None: any number.
    most_records: int | None
    #: How long, at least and at most, it takes signatures before they begin and after they end, in seconds: a tenth of their
    #: lifetime in between.
    signature_slack: tuple[int, int]
    #: Whether it asks name servers for a cookie (RFC 7873), which makes named's answers longer.
    asks_cookies: bool
    #: Whether it answers without records, rather than to fail, where it is referred to no server that it has not asked.
    referred_is_empty: bool


class WebProgram(Protocol):
    """A web server's own ways."""

    #: How it is named where decisions tell of it.
    name: str
    #: A name goes to the first site listed that fits; else to the most exact fit.
    first_listed_wins: bool
    #: Who takes a name that no site has: the default site, the first one listed, or nobody, with a status.
    unknown_name: Literal["default", "first"] | int
    #: Whether letters count in paths.
    letters_count: bool
    #: The longest request line, in octets.
    longest_line: int
    #: Only the listeners that its sites name are opened.
    opens_only_named: bool
    #: `[::]` takes IPv6 only, where the estate does not say.
    v6_apart: bool
    #: Binds a wildcard once for all addresses under it.
    merges_wildcards: bool
    #: Every site on a TLS listener needs a certificate; else the default site only.
    certificate_everywhere: bool
    #: Whether it can answer an authority within a handshake (RFC 8737), by a module of its own.
    answers_by_handshake: bool
    #: Whether the versions of the default site count for every name.
    default_rules_versions: bool
    #: Whether a client's certificate is asked for in the handshake and judged with the request; else the handshake ends.
    asks_certificate_late: bool
    #: Whether it takes keys in DER, and those whose block is not to the letter.
    reads_keys_loosely: bool
    #: Whether a key of another kind than the certificate's (RSA, a curve) keeps it from starting; else handshakes fail.
    refuses_other_kind: bool
    #: Whether it starts with nothing that is too weak for OpenSSL as distributions set it (security level 2).
    refuses_weak: bool
    #: Whether rules of redirects know the whole path only with its escapes resolved.
    path_is_decoded: bool
    #: Whether a request that goes on within the server begins anew, with the rules of the whole site.
    rules_run_anew: bool
    #: Whether rewrite rules may send the visitor elsewhere where the program asks itself for a folder's document.
    sends_from_inside: bool
    #: Whether its own redirects bear the port that the visitor asked for, or the one that it listens on.
    tells_asked_port: bool
    #: Whether its own name is the first that a site has, stars and all, or the first that is one.
    first_name_is_own: bool
    #: The statuses for a file that is missing, and a folder without index file.
    missing: int
    no_index_file: int
    #: The documents that it tries in a folder, where the site names none.
    index_files: tuple[str, ...]
    passing: Passing
    methods: Methods
    #: The longest header line, in octets, and the most octets that a request may bring along (None: no limit).
    longest_header: int
    largest_body: int | None
    #: Of the sections of a site that fit a path: all of them count, the first listed and the last each for its part; else one.
    sections_merge: bool
    #: `/app` also takes `/application`.
    sections_split_names: bool
    #: A path that lacks the final slash of a section that is passed on is sent there.
    adds_section_slash: bool
    #: Whether what is passed on is looked for before a section's folder, whatever the order.
    upstreams_first: bool
    #: Whether the grant to serve a folder is asked for before it is looked at.
    judges_grants: bool
    #: Whether a redirect to a folder's slash needs the right to read the folder.
    slash_needs_read: bool
    #: The status for a link that leads nowhere.
    broken_link: int
    #: Whether a site without names is one for requests that say no host name.
    nameless_is_unsaid: bool
    #: Whether a path with an encoded slash is turned away before any redirect.
    judges_path_first: bool
    #: The status for methods that are not among those that a site takes, and whether that is judged before its redirects.
    method_not_allowed: int
    judges_method_first: bool
    #: Whether a target that begins with two slashes is made an address of its own (RFC 3986 section 4.2 has it another's).
    double_slash_is_path: bool
    #: Whether a target that is a path is sent as it is, and not made an address.
    sends_paths: bool
    #: Whether an empty host name is taken of clients that speak HTTP/1.0.
    takes_old_empty: bool
    #: The status for what lies behind a link that is not followed.
    behind_unfollowed: int
    #: Whether links that are not followed count on the way to the site's folder, too.
    unfollowed_to_root: bool
    #: Whether an index file, or a fallback, is asked for as if the visitor had: its own sections hold for it then.
    asks_inside: bool
    #: Whether a fallback is given for what would lie inside a file.
    falls_back_in_files: bool
    #: Where redirects written as redirect directives run after requests were passed on.
    late_redirects: bool
    #: Whether files of rules in folders are read.
    reads_rule_files: bool
    #: The status for whoever sends a password, where the file of passwords is `missing` or `unreadable`.
    password_file: dict[str, int]
    #: Whether addresses of those who are believed are always passed over in what they say.
    passes_over_known: bool
    #: Whether the name in the handshake and the host name must lead to one certificate.
    judges_server_name: bool
    #: Whether a page of its own for an error keeps the error's status though the page itself cannot be given.
    keeps_error: bool
    #: Whether such a page, got through an upstream, makes a success of the error.
    upstream_page_succeeds: bool
    #: The statuses to which a fixed answer is given otherwise: another status, or None for no answer at all.
    special_answers: dict[int, int | None]
    #: The header field that it takes for the scheme of the visitor's request.
    believes_scheme: str | None
    #: The statuses with which it says what it is told to say to caches.
    says_to_caches: frozenset[int]

    def takes_host(self, host: str) -> bool:
        """Whether it takes what a request says as its host name."""

    def path(self, raw: str) -> str | int:
        """The path as it goes on with it, or the status with which it refuses."""

    def target(self, text: str) -> str:
        """A redirect's target as it sends it."""

    def escaped(self, text: str, in_query: bool) -> str:
        """A part of a path whose escapes were resolved, as it stands in a redirect's target."""
