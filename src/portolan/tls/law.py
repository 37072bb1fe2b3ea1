"""All the law of this room: every kind of decision about a certificate, with its words and its standard."""

from portolan.evidence.decision import Law

PLAIN_SPOKEN = Law(
    "secure",
    "plain-spoken",
    "{0} speaks plain HTTP on {1}: no TLS handshake is possible",
    "RFC 8446 section 4.1.2",
    stops=True,
)
NOT_HTTP = Law("secure", "not-web", "{0} on {1} speaks no TLS", "RFC 8446 section 4.1.2", stops=True)
SHOWS = Law("secure", "shows", "{0} shows the certificate {1}, that of {2}", "RFC 6066 section 3")
SHOWS_DEFAULT = Law(
    "secure",
    "shows-default",
    "no site on {0} is named {1}: the default site {2} shows its certificate {3}",
    "RFC 6066 section 3",
)
SHOWS_OTHERS = Law(
    "secure",
    "shows-others",
    "the site {0} has no certificate of its own: {1} shows that of the default site, {2}",
    "RFC 6066 section 3",
)
TRUSTED = Law("secure", "trusted", "it leads to {0}, which {1} trusts", "RFC 5280 section 6.1")
TRUST_ASSUMED = Law(
    "secure", "trust-assumed", "its issuer ({0}) is not described; it is assumed that {1} trusts it", assumed=True
)
SELF_SIGNED = Law(
    "secure",
    "self-signed",
    "the certificate {0} is signed by itself, and {1} does not trust it",
    "RFC 5280 section 6.1",
    stops=True,
)
CHAIN_INCOMPLETE = Law(
    "secure",
    "chain-incomplete",
    "the issuer of {0}, {1}, is not sent along, and {2} does not have it",
    "RFC 8446 section 4.4.2",
    stops=True,
)
ISSUER_UNKNOWN = Law(
    "secure", "issuer-unknown", "{2} does not trust the issuer of {0}, {1}", "RFC 5280 section 6.1", stops=True
)
EXPIRED = Law("secure", "expired", "{0} was valid until {1}; it is {2}", "RFC 5280 section 4.1.2.5", stops=True)
NOT_YET = Law("secure", "not-yet-valid", "{0} is valid from {1} on; it is {2}", "RFC 5280 section 4.1.2.5", stops=True)
VALID = Law("secure", "valid", "it is valid until {0}", "RFC 5280 section 4.1.2.5")
COVERS = Law("secure", "covers", "it covers {0}", "RFC 9525 section 6.3")
NAME_MISMATCH = Law(
    "secure",
    "name-mismatch",
    "the certificate {0} does not cover {1}; it covers {2}",
    "RFC 9525 section 6.3",
    stops=True,
)
WRONG_USE = Law("secure", "wrong-use", "{0} may not be used for this: {1}", "RFC 5280 section 4.2.1", stops=True)
