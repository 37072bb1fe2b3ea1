"""Decisions about a handshake: which certificate is shown, and what the client makes of it."""

from portolan.estate.service import Listener
from portolan.evidence.decision import Decision, Leg


class TlsDecision(Decision, frozen=True):
    """A decision of this leg."""

    leg = Leg.TLS


class PlainSpoken(TlsDecision, frozen=True):
    kind = "plain-spoken"
    words = "{service} speaks plain HTTP on {listener}: no TLS handshake is possible"
    standard = "RFC 8446 section 4.1.2"
    stops = True

    service: str
    listener: Listener


class SpeaksNoTls(TlsDecision, frozen=True):
    kind = "speaks-no-tls"
    words = "{service} on {listener} speaks no TLS"
    standard = "RFC 8446 section 4.1.2"
    stops = True

    service: str
    listener: Listener


class Shows(TlsDecision, frozen=True):
    kind = "shows"
    words = "{service} shows the certificate {certificate}, that of {site}"
    standard = "RFC 6066 section 3"
    shown = True

    service: str
    certificate: str
    site: str


class ShowsDefault(TlsDecision, frozen=True):
    kind = "shows-default"
    words = "no site on {listener} is named {host}: the default site {site} shows its certificate {certificate}"
    standard = "RFC 6066 section 3"
    shown = True

    listener: Listener
    host: str
    site: str
    certificate: str


class ShowsOthers(TlsDecision, frozen=True):
    kind = "shows-others"
    words = "the site {site} has no certificate of its own: {service} shows that of the default site, {certificate}"
    standard = "RFC 6066 section 3"
    shown = True

    site: str
    service: str
    certificate: str


class KeyOfAnotherKind(TlsDecision, frozen=True):
    kind = "key-of-another-kind"
    words = "the key of {certificate} is of another kind than the certificate: {service} has none to sign with, and ends the handshake"
    standard = "RFC 8446 section 4.4.2.2"
    stops = True

    certificate: str
    service: str


class HandshakeRejected(TlsDecision, frozen=True):
    kind = "handshake-rejected"
    words = "{service} rejects every handshake that falls to {site}"
    standard = "RFC 6066 section 3"
    stops = True

    service: str
    site: str


class NoCommonVersion(TlsDecision, frozen=True):
    kind = "no-common-version"
    words = "{service} speaks TLS {theirs}, and {client} {ours}: there is no version in common"
    standard = "RFC 8446 section 4.2.1"
    stops = True

    service: str
    theirs: str
    client: str
    ours: str


class ClientCertificateWanted(TlsDecision, frozen=True):
    kind = "client-certificate-wanted"
    words = "{site} asks {client} for a certificate, {why}: the handshake ends"
    standard = "RFC 8446 section 4.4.2.4"
    stops = True

    site: str
    client: str
    why: str


class Trusted(TlsDecision, frozen=True):
    kind = "trusted"
    words = "the chain leads to {anchor}, which {client} trusts"
    standard = "RFC 5280 section 6.1"

    anchor: str
    client: str


class TrustAssumed(TlsDecision, frozen=True):
    kind = "trust-assumed"
    words = "its issuer ({issuer}) is not described; it is assumed that {client} trusts it"
    assumed = True

    issuer: str
    client: str


class IssuerFetched(TlsDecision, frozen=True):
    kind = "issuer-fetched"
    words = "the issuer's certificate is not sent; {client} fetches it from {url}, and it is assumed that it trusts that issuer"
    standard = "RFC 5280 section 4.2.2.1"
    assumed = True

    url: str
    client: str


class SelfSigned(TlsDecision, frozen=True):
    kind = "self-signed"
    words = "the certificate {certificate} is signed by itself, and {client} does not trust it"
    standard = "RFC 5280 section 6.1"
    stops = True

    certificate: str
    client: str


class IncompleteChain(TlsDecision, frozen=True):
    kind = "incomplete-chain"
    words = "the issuer of {certificate}, {issuer}, is not sent along, and {client} does not have it"
    standard = "RFC 8446 section 4.4.2"
    stops = True

    certificate: str
    issuer: str
    client: str


class UnknownIssuer(TlsDecision, frozen=True):
    kind = "unknown-issuer"
    words = "{client} does not trust the issuer of {certificate}, {issuer}"
    standard = "RFC 5280 section 6.1"
    stops = True

    certificate: str
    issuer: str
    client: str


class Expired(TlsDecision, frozen=True):
    kind = "expired"
    words = "{certificate} was valid until {until}; it is {now}"
    standard = "RFC 5280 section 4.1.2.5"
    stops = True

    certificate: str
    until: str
    now: str


class NotYetValid(TlsDecision, frozen=True):
    kind = "not-yet-valid"
    words = "{certificate} is valid from {starts} on; it is {now}"
    standard = "RFC 5280 section 4.1.2.5"
    stops = True

    certificate: str
    starts: str
    now: str


class Valid(TlsDecision, frozen=True):
    kind = "valid"
    words = "the certificate is valid until {until}"
    standard = "RFC 5280 section 4.1.2.5"

    until: str


class Covers(TlsDecision, frozen=True):
    kind = "covers"
    words = "the certificate covers {host}"
    standard = "RFC 9525 section 6.3"

    host: str


class NameMismatch(TlsDecision, frozen=True):
    kind = "name-mismatch"
    words = "the certificate {certificate} does not cover {host}; it covers {names}"
    standard = "RFC 9525 section 6.3"
    stops = True

    certificate: str
    host: str
    names: str


class WrongUse(TlsDecision, frozen=True):
    kind = "wrong-use"
    words = "{certificate} may not be used for this: {why}"
    standard = "RFC 5280 section 4.2.1"
    stops = True

    certificate: str
    why: str
    #: What is at fault: its `use`, what an authority may sign (`constraint`), or its strength (`weak`).
    flaw: str = "use"


class Unchecked(TlsDecision, frozen=True):
    kind = "unchecked"
    words = "{client} does not check the certificate"
    shown = True

    client: str
