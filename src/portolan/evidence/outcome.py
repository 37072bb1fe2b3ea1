"""What a client gets in the end: kinds and details, each an enumeration (docs/outcomes.md lists them)."""

from enum import StrEnum

from portolan.source.value import Value


class Kind(StrEnum):
    """What kind of end an exchange, or a visit, comes to."""

    SERVED = "served"
    HTTP_ERROR = "http-error"
    NAME_ERROR = "name-error"
    CONNECT_ERROR = "connect-error"
    TLS_ERROR = "tls-error"
    REDIRECT_ERROR = "redirect-error"
    PROTOCOL_ERROR = "protocol-error"


class Detail(StrEnum):
    """What exactly went wrong."""

    # a name
    NO_SUCH_NAME = "no-such-name"
    NO_ADDRESS = "no-address"
    RESOLVER_FAILURE = "resolver-failure"
    RESOLVER_TIMEOUT = "resolver-timeout"
    # a connection, and a resolver's own refusal
    REFUSED = "refused"
    TIMED_OUT = "timed-out"
    UNREACHABLE = "unreachable"
    RESET = "reset"
    # a connection that was open
    STALLED = "stalled"
    CUT_OFF = "cut-off"
    # a handshake
    NOT_TLS = "not-tls"
    NAME_MISMATCH = "name-mismatch"
    EXPIRED = "expired"
    NOT_YET_VALID = "not-yet-valid"
    SELF_SIGNED = "self-signed"
    UNKNOWN_ISSUER = "unknown-issuer"
    INCOMPLETE_CHAIN = "incomplete-chain"
    NO_COMMON_VERSION = "no-common-version"
    CLIENT_CERTIFICATE = "client-certificate"
    OTHER = "other"
    # redirects
    LOOP = "loop"
    TOO_MANY = "too-many"
    BAD_TARGET = "bad-target"
    NO_TARGET = "no-target"
    # an answer that is no HTTP
    EMPTY = "empty"
    GARBLED = "garbled"
    BAD_HEADER = "bad-header"
    BROKEN_OFF = "broken-off"


#: Which details go with which kind; `served` has none, and `http-error` says in its place who answered.
DETAILS: dict[Kind, tuple[Detail, ...]] = {
    Kind.SERVED: (),
    Kind.HTTP_ERROR: (),
    Kind.NAME_ERROR: (
        Detail.NO_SUCH_NAME,
        Detail.NO_ADDRESS,
        Detail.RESOLVER_FAILURE,
        Detail.RESOLVER_TIMEOUT,
        Detail.REFUSED,
    ),
    Kind.CONNECT_ERROR: (
        Detail.REFUSED,
        Detail.TIMED_OUT,
        Detail.UNREACHABLE,
        Detail.RESET,
        Detail.STALLED,
        Detail.CUT_OFF,
    ),
    Kind.TLS_ERROR: (
        Detail.NOT_TLS,
        Detail.NAME_MISMATCH,
        Detail.EXPIRED,
        Detail.NOT_YET_VALID,
        Detail.SELF_SIGNED,
        Detail.UNKNOWN_ISSUER,
        Detail.INCOMPLETE_CHAIN,
        Detail.NO_COMMON_VERSION,
        Detail.CLIENT_CERTIFICATE,
        Detail.OTHER,
    ),
    Kind.REDIRECT_ERROR: (Detail.LOOP, Detail.TOO_MANY, Detail.BAD_TARGET, Detail.NO_TARGET),
    Kind.PROTOCOL_ERROR: (Detail.EMPTY, Detail.GARBLED, Detail.BAD_HEADER, Detail.BROKEN_OFF),
}


class Outcome(Value, frozen=True):
    """What the client gets. `detail` is a Detail; for `http-error` the name of the service that answered.

    `page` is SITE/PATH, or BUCKET/KEY where an object store gave it. `doubt` says what makes it likely that the page is
    not what was meant, although it came.
    """

    kind: Kind
    detail: str | None
    status: int | None
    page: str | None
    final_url: str
    secure: bool
    address: str | None
    doubt: str | None = None
