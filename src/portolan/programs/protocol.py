"""What the engines need to know of a server program, behind one Protocol for each kind of server."""

from typing import Literal, NamedTuple, Protocol

from portolan.estate.client import Checks


class Passing(NamedTuple):
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
    #: Whether its own redirects bear the port that the visitor asked for, or the one that it listens on.
    tells_asked_port: bool
    #: The statuses for a file that is missing, and a folder without default document.
    missing: int
    no_document: int
    #: The documents that it tries in a folder, where the site names none.
    default_documents: tuple[str, ...]
    passing: Passing

    def path(self, raw: str) -> str | int:
        """The path as it goes on with it, or the status with which it refuses."""

    def target(self, text: str) -> str:
        """A redirect's target as it sends it."""
