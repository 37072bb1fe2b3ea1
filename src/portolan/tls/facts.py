"""A certificate's facts, from PEM by the cryptography library or as declared: one form for the verifier.

The library is imported when the first PEM certificate is looked at, so that an answer that meets none never loads it.
"""

import warnings
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Any

from portolan.estate.certificate import Authority, Certificate
from portolan.estate.estate import Estate
from portolan.source.problem import EstateError, Problem
from portolan.source.shared import Shared
from portolan.source.value import Value

if TYPE_CHECKING:
    from cryptography import x509


class Facts(Value, frozen=True):
    """What the verifier needs of one certificate. `signed` says whether this one signed another.

    `most_below` is how many authorities may stand between it and the leaf (RFC 5280 section 4.2.1.9); None: any number.
    `common` is the common name, where no DNS name or address stands beside it. `critical` is an extension that must be
    understood and is not (section 4.2), `weak` why its key or signature counts for nothing, `permitted` and `excluded` the
    DNS names below which it may sign, and may not (section 4.2.1.10). `any_use` says that it states every purpose in one
    (section 4.2.1.12), `not_for_browsers` why a browser does not take it as a server's, `issuer_at` where its issuer's
    certificate can be fetched (section 4.2.2.1).
    """

    label: str
    subject: str
    issuer: str
    names: tuple[str, ...]
    starts: datetime | None
    until: datetime | None
    self_signed: bool
    may_issue: bool
    may_serve: bool
    identity: object
    signed: Callable[["Facts"], bool]
    most_below: int | None = None
    for_servers: bool = True
    common: str | None = None
    critical: str | None = None
    weak: str | None = None
    permitted: tuple[str, ...] | None = None
    excluded: tuple[str, ...] = ()
    any_use: bool = False
    not_for_browsers: tuple[str, str] | None = None
    issuer_at: tuple[str, ...] = ()
    #: Whether it is a declared one of an ordinary public authority, whose intermediate is not sent along.
    chain_left_out: bool = False


class Shown(Value, frozen=True):
    """What a server sends: its certificate, then its chain."""

    leaf: Facts
    chain: tuple[Facts, ...]


def shown_by(certificate: Certificate, estate: Estate, shared: Shared) -> Shown:
    """What a server that uses the certificate sends. Raises EstateError for a PEM certificate that is damaged."""
    above = () if certificate.pem or not certificate.sends_chain else _above(certificate, estate)
    issuing = estate.authorities.get(certificate.issuer or "public")

    def made() -> Shown:
        if certificate.pem:
            parsed = [_from_pem(der, certificate, number) for number, der in enumerate(certificate.pem)]
            return Shown(parsed[0], tuple(parsed[1:]))
        return _declared(certificate, above, None if issuing is None else authority_facts(issuing, shared).subject)

    return shared.of_all("shown", (certificate, issuing, *above), made)


def authority_facts(authority: Authority, shared: Shared) -> Facts:
    """The facts of an authority's own certificate, the first of its file."""
    return authority_every(authority, shared)[0]


def authority_every(authority: Authority, shared: Shared) -> list[Facts]:
    """The facts of every certificate of an authority: a file of roots stands for each of them."""
    return shared.of(
        "authority",
        authority,
        lambda: (
            [_from_pem(der, authority, number) for number, der in enumerate(authority.pem)]
            or [_declared_authority(authority)]
        ),
    )


def _declared_authority(authority: Authority) -> Facts:
    subject = f"authority:{authority.name}"
    issuer = f"authority:{authority.issued_by}" if authority.issued_by else subject
    return Facts(
        authority.name,
        subject,
        issuer,
        (),
        authority.starts,
        authority.until,
        authority.issued_by is None,
        True,
        True,
        subject,
        lambda other: other.issuer == subject,
    )


def _above(certificate: Certificate, estate: Estate) -> tuple[Authority, ...]:
    """The intermediates that a declared certificate is sent with, by its issuer and theirs."""
    found = []
    above = estate.authorities.get(certificate.issuer or "public")
    while above is not None and above.issued_by is not None:
        found.append(above)
        above = estate.authorities.get(above.issued_by)
    return tuple(found)


def _declared(certificate: Certificate, above: tuple[Authority, ...], issued_by: str | None) -> Shown:
    issuer = certificate.issuer or "public"
    own = issuer == "self"
    subject = f"certificate:{certificate.name}"
    leaf = Facts(
        certificate.name,
        subject,
        subject if own else issued_by or f"authority:{issuer}",
        tuple(certificate.names),
        certificate.starts,
        certificate.until,
        own,
        False,
        True,
        subject,
        lambda _other: False,
        chain_left_out=not certificate.sends_chain and issuer == "public",
    )
    return Shown(
        leaf, tuple(_declared_authority(each) if not each.pem else authority_facts(each, Shared()) for each in above)
    )


def _from_pem(der: bytes, holder: Certificate | Authority, number: int) -> Facts:
    from cryptography import x509
    from cryptography.exceptions import UnsupportedAlgorithm

    damaged = (
        ValueError,
        TypeError,
        KeyError,
        x509.InvalidVersion,
        x509.DuplicateExtension,
        x509.UnsupportedGeneralNameType,
    )
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            parsed = _parsed(der)
            parsed.public_key()
            return _facts_of(parsed, der, holder.name if number == 0 else None)
    except (*damaged, UnsupportedAlgorithm) as error:
        place = holder.place.key("file")
        text = f"certificate {number + 1} in the file cannot be read: {error}"
        hint = "Copy the file anew, or name one that current programs can read."
        raise EstateError([Problem(place.span, text, place.object, hint)]) from None


#: The extension of RFC 7633 in DER, and an unknown one of the same length.
_TLS_FEATURE = bytes.fromhex("06082b06010505070118")
_UNKNOWN = bytes.fromhex("06082b0601050507017f")


def _parsed(der: bytes) -> "x509.Certificate":
    """A certificate whose extensions can be read: the library knows two TLS features, and stumbles over any other, which clients pass over."""
    from cryptography import x509

    parsed = x509.load_der_x509_certificate(der)
    try:
        list(parsed.extensions)
    except KeyError:
        parsed = x509.load_der_x509_certificate(der.replace(_TLS_FEATURE, _UNKNOWN))
        list(parsed.extensions)
    return parsed


def _facts_of(parsed: "x509.Certificate", der: bytes, name: str | None) -> Facts:
    """The facts of a parsed certificate; raises what the library raises where an extension is damaged."""
    from cryptography import x509
    from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
    from cryptography.x509.oid import ExtendedKeyUsageOID

    subject, issuer = parsed.subject.rfc4514_string(), parsed.issuer.rfc4514_string()
    basic = _extension(parsed, x509.BasicConstraints)
    purposes = _extension(parsed, x509.ExtendedKeyUsage)
    usage = _extension(parsed, x509.KeyUsage)
    # OpenSSL wants the purpose itself: one that stands for all is not enough for it, as it is for browsers.
    for_servers = purposes is None or ExtendedKeyUsageOID.SERVER_AUTH in purposes
    checked: dict[bytes, bool] = {}

    def signed(other: Facts) -> bool:
        if _folded(other.issuer) != _folded(subject):
            return False
        if not isinstance(other.identity, bytes):
            # A declared certificate says by whom it is issued, and that is how it is.
            return True
        if other.identity not in checked:
            try:
                _verify(x509.load_der_x509_certificate(other.identity), parsed.public_key())
                checked[other.identity] = True
            except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
                checked[other.identity] = False
        return checked[other.identity]

    facts = Facts(
        label=_label(parsed.subject, subject if name is None else name),
        subject=subject,
        issuer=issuer,
        names=_covered(parsed),
        starts=parsed.not_valid_before_utc,
        until=parsed.not_valid_after_utc,
        self_signed=False,
        # RFC 5280 section 4.2.1.3: a stated key usage must hold what the key is used for.
        may_issue=bool(basic is not None and basic.ca and (usage is None or usage.key_cert_sign)),
        may_serve=for_servers
        and (usage is None or usage.digital_signature or usage.key_encipherment or usage.key_agreement),
        identity=der,
        signed=signed,
        most_below=basic.path_length if basic is not None and basic.ca else None,
        for_servers=for_servers,
        common=_common(parsed),
        critical=next((each.oid.dotted_string for each in parsed.extensions if each.critical and _unknown(each)), None),
        weak=_weak_key(parsed) or _weak_signature(parsed),
        any_use=purposes is not None and ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE in purposes,
        not_for_browsers=_not_for_browsers(parsed, usage),
        issuer_at=_issuer_at(parsed),
        **_constraints(parsed),
    )
    # Nobody checks a root's own signature (RFC 5280 section 6.1): what names itself is one.
    return facts.but(self_signed=signed(facts) or (subject == issuer and facts.may_issue))


def _folded(name: str) -> str:
    """A name as it is compared: letters of either case, spaces as one (RFC 5280 section 7.1)."""
    return " ".join(name.lower().split())


def _verify(certificate: "x509.Certificate", key: Any) -> None:
    """Whether a key signed a certificate; raises what the library raises where not."""
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    signature, told = certificate.signature, certificate.tbs_certificate_bytes
    if isinstance(key, rsa.RSAPublicKey):
        padding: Any = certificate.signature_algorithm_parameters
        key.verify(signature, told, padding, certificate.signature_hash_algorithm)  # type: ignore[arg-type]
    elif isinstance(key, ec.EllipticCurvePublicKey):
        key.verify(signature, told, ec.ECDSA(certificate.signature_hash_algorithm))  # type: ignore[arg-type]
    else:
        key.verify(signature, told)


def _unknown(extension: Any) -> bool:
    from cryptography import x509

    return isinstance(extension.value, x509.UnrecognizedExtension)


def _weak_key(parsed: "x509.Certificate") -> str | None:
    """Why a key counts for nothing at OpenSSL's security level 2; None where it counts."""
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    key = parsed.public_key()
    if isinstance(key, rsa.RSAPublicKey) and key.key_size < 2048:
        return f"its RSA key has {key.key_size} bits"
    if isinstance(key, ec.EllipticCurvePublicKey) and key.key_size < 224:
        return f"its key has {key.key_size} bits"
    return None


def _weak_signature(parsed: "x509.Certificate") -> str | None:
    """The same of a signature."""
    used = parsed.signature_hash_algorithm
    return f"it is signed with {used.name.upper()}" if used is not None and used.name in ("md5", "sha1") else None


def _not_for_browsers(parsed: "x509.Certificate", usage: Any) -> tuple[str, str] | None:
    """Why a browser cannot use a certificate, whatever stands above it, and what is at fault; None where it can (measured)."""
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    key = parsed.public_key()
    if not isinstance(key, rsa.RSAPublicKey) and not (
        isinstance(key, ec.EllipticCurvePublicKey) and key.curve.name in ("secp256r1", "secp384r1")
    ):
        return "browsers take RSA keys and those on P-256 and P-384 only", "weak"
    if usage is not None and not usage.digital_signature:
        return "its key may not sign, which every current handshake asks of it", "use"
    return None


def _issuer_at(parsed: "x509.Certificate") -> tuple[str, ...]:
    from cryptography import x509
    from cryptography.x509.oid import AuthorityInformationAccessOID

    return tuple(
        each.access_location.value
        for each in _extension(parsed, x509.AuthorityInformationAccess) or ()
        if each.access_method == AuthorityInformationAccessOID.CA_ISSUERS
        and isinstance(each.access_location, x509.UniformResourceIdentifier)
    )


def _common(parsed: "x509.Certificate") -> str | None:
    """The common name, where neither a DNS name nor an address stands in the alternative names (RFC 6125 section 6.4.4)."""
    return None if _covered(parsed) else _label(parsed.subject, "").lower() or None


def _constraints(parsed: "x509.Certificate") -> dict[str, Any]:
    """The DNS names below which it may sign, and may not."""
    from cryptography import x509

    held = _extension(parsed, x509.NameConstraints)
    if held is None:
        return {}

    def names(subtrees: Any) -> tuple[str, ...]:
        return tuple(each.value.lower().lstrip(".") for each in subtrees or () if isinstance(each, x509.DNSName))

    permitted = names(held.permitted_subtrees)
    return {"permitted": permitted or None, "excluded": names(held.excluded_subtrees)}


def _label(subject: Any, fallback: str) -> str:
    from cryptography.x509.oid import NameOID

    common = subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    return str(common[0].value) if common and common[0].value else fallback


def _extension(parsed: Any, kind: Any) -> Any:
    from cryptography import x509

    try:
        return parsed.extensions.get_extension_for_class(kind).value
    except x509.ExtensionNotFound:
        return None


def _covered(parsed: Any) -> tuple[str, ...]:
    """DNS names and addresses of the subject alternative names; nothing else counts (RFC 9525 section 2)."""
    from cryptography import x509

    held = _extension(parsed, x509.SubjectAlternativeName)
    if held is None:
        return ()
    names = [name.lower() for name in held.get_values_for_type(x509.DNSName)]
    return (*names, *(str(address) for address in held.get_values_for_type(x509.IPAddress)))


#: Octets of a certificate that may be too weak: what signs with SHA-1 or MD5, and short RSA keys and curves (RFC 3279, RFC 5480).
_MAYBE_WEAK = (
    bytes.fromhex("2a864886f70d010105"),
    bytes.fromhex("2a864886f70d010104"),
    bytes.fromhex("2a8648ce3d0401"),
    bytes.fromhex("2a864886f70d01010105000381"),
    bytes.fromhex("2a864886f70d01010105000303"),
    bytes.fromhex("2a8648ce3d030101"),
)


def too_weak(certificate: Certificate) -> str | None:
    """Which certificate of a file is too weak for a server at OpenSSL's security level 2, and why (measured); None where none is."""
    for number, der in enumerate(certificate.pem, 1):
        # Whether one is costs a library; most are not.
        if not any(each in der for each in _MAYBE_WEAK):
            continue
        parsed = _parsed(der)
        # Nobody looks at a root's own signature.
        why = _weak_key(parsed) or (None if parsed.subject == parsed.issuer else _weak_signature(parsed))
        if why is not None:
            return why if number == 1 else f"certificate {number} in its file: {why}"
    return None


def damaged(certificate: Certificate) -> str | None:
    """Which certificate of a file no program can take; None where each can be taken."""
    if certificate.key_pem is None:
        return None  # where nothing is to be compared with a key, nothing is read before a handshake
    for number, der in enumerate(certificate.pem, 1):
        try:
            _parsed(der)
        except ValueError:
            return f"certificate {number} in it is damaged"
    return None


def other_kind(certificate: Certificate) -> bool:
    """Whether a PEM key is of another kind (RSA, a curve) than its certificate's."""
    if not certificate.pem or certificate.key_pem is None:
        return False
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    try:
        key, other = load_pem_private_key(certificate.key_pem, None), _parsed(certificate.pem[0]).public_key()
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return False
    return type(key.public_key()) is not type(other)


def key_fits(certificate: Certificate, number: int = 0) -> bool:
    """Whether a PEM certificate, by its number in the file, and its PEM key are a pair; an encrypted key counts as fitting."""
    if not certificate.pem or certificate.key_pem is None:
        return True
    from cryptography import x509
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_private_key

    try:
        key: Any = load_pem_private_key(certificate.key_pem, None)
        parsed: Any = x509.load_der_x509_certificate(certificate.pem[number])
        form = (Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        return bool(key.public_key().public_bytes(*form) == parsed.public_key().public_bytes(*form))
    except TypeError:
        return True
    except (ValueError, UnsupportedAlgorithm):
        return False
