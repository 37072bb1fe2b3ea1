"""Certificates for a rehearsal: twins of the estate's, with keys of our own, shifted so that the estate's moment is now.

A PEM certificate's private key is not in the estate, and its dates are about the estate's moment; so every certificate is
made anew with the same subject, issuer, extensions, kind of weak key and dates relative to that moment. Who signed whom is
found out from the signatures themselves. What is shown and believed is then left to the real server and the real client.
"""

import warnings
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from typing import Any, NamedTuple

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from portolan.estate.certificate import Authority, Certificate
from portolan.estate.edge import Origin
from portolan.estate.estate import Estate
from portolan.estate.site import Upstream
from portolan.estate.vantage import Vantage
from portolan.rehearsal.quoting import UnstageableError

_LONG_AGO, _FAR = timedelta(days=3650), timedelta(days=3650)
#: RSA keys of fewer bits are weak for some visitor, and are made as weak; others are made of a kind that costs no time.
_STRONG_RSA = 2048
_PUBLIC = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "An ordinary public authority")])
#: Extensions that speak of the keys themselves.
_ABOUT_KEYS = (x509.AuthorityKeyIdentifier, x509.SubjectKeyIdentifier, x509.PrecertificateSignedCertificateTimestamps)


class Issuer(NamedTuple):
    """Who signs: the name, the key, and what the key is known by."""

    name: x509.Name
    key: Any


class Forge:
    """Makes the twins of one estate's certificates."""

    def __init__(self, estate: Estate, at: datetime) -> None:
        self.estate = estate
        self.now = datetime.now(UTC)
        self.shift = self.now - at
        self._keys: dict[object, Any] = {}
        self._made: dict[object, x509.Certificate] = {}
        self._parsed: dict[bytes, x509.Certificate] = {}
        holders: list[Certificate | Authority] = [*estate.authorities.values(), *estate.certificates.values()]
        #: Every certificate that the estate holds as PEM: whoever signed another is among them, or is not stated.
        self._stated = [self._parse(der, holder) for holder in holders for der in holder.pem]

    def served(self, certificate: Certificate) -> tuple[str, str]:
        """What a server is given: the PEM of certificate and chain, and of a key (a wrong one where the estate's is)."""
        if certificate.pem:
            sent = [self._parse(der, certificate) for der in certificate.pem]
            pem = "".join(_pem(self._twin(each)) for each in sent)
            owner = next((each for each in sent if not _issues(each)), sent[0])
            key = self._key(_spki(owner))
            if certificate.key_pem is not None:
                known = {_spki(each): self._key(_spki(each)) for each in sent}
                key = known.get(_spki_of_key(certificate.key_pem, _spki(owner))) or ec.generate_private_key(
                    ec.SECP256R1()
                )
        else:
            pem = _pem(self._declared(certificate))
            above = self.estate.authorities.get(certificate.issuer or "public")
            seen = set()
            while (
                certificate.sends_chain and above is not None and above.issued_by is not None and above.name not in seen
            ):
                seen.add(above.name)
                pem += _pem(self._authority(above)[0])
                above = self.estate.authorities.get(above.issued_by)
            key = self._key(("certificate", certificate.name))
        return pem, key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()

    def trusted(self, vantage: Vantage | Upstream | Origin) -> str:
        """The PEM of everything that a visitor, or a program that passes on, trusts."""
        parts = []
        public = "public" in vantage.trusts
        if public:
            parts.append(_pem(self._root(_PUBLIC, "public")))
        for authority in self.estate.authorities.values():
            for made in self._authority(authority):
                if authority.name in vantage.trusts or (public and authority.public and made.issuer == made.subject):
                    parts.append(_pem(made))
        if public:
            # An issuer that nobody states is taken for an ordinary public one.
            for certificate in self.estate.certificates.values():
                if certificate.pem:
                    last = self._parse(certificate.pem[-1], certificate)
                    if self._signer(last) is None and last.issuer not in [each.subject for each in self._stated]:
                        parts.append(_pem(self._root(last.issuer, ("absent", last.issuer.public_bytes()))))
        return "".join(dict.fromkeys(parts))

    # -- twins of PEM certificates ---------------------------------------------------------------------------------

    def _parse(self, der: bytes, holder: Certificate | Authority) -> x509.Certificate:
        found = self._parsed.get(der)
        if found is None:
            try:
                with warnings.catch_warnings():
                    warnings.simplefilter("ignore")
                    found = x509.load_der_x509_certificate(der)
                    _spki(found), found.subject, found.issuer, list(found.extensions), found.not_valid_before_utc
            except (
                ValueError,
                TypeError,
                UnsupportedAlgorithm,
                x509.InvalidVersion,
                x509.DuplicateExtension,
                x509.UnsupportedGeneralNameType,
            ) as error:
                raise UnstageableError(f"a certificate ({error})", holder.name, holder.place.key("file")) from None
            self._parsed[der] = found
        return found

    def _signer(self, certificate: x509.Certificate) -> x509.Certificate | None:
        """Whose key made a certificate's signature, among all that the estate holds."""
        for each in (certificate, *self._stated):
            if each.subject == certificate.issuer:
                try:
                    certificate.verify_directly_issued_by(each)
                    return each
                except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
                    continue
        return None

    def _twin(self, certificate: x509.Certificate) -> x509.Certificate:
        der = certificate.public_bytes(Encoding.DER)
        if der not in self._made:
            signer = self._signer(certificate)
            known = ("absent", certificate.issuer.public_bytes()) if signer is None else _spki(signer)
            builder = self._builder(
                certificate.subject,
                certificate.not_valid_before_utc,
                certificate.not_valid_after_utc,
                self._key(_spki(certificate), certificate),
            )
            for extension in certificate.extensions:
                if not isinstance(extension.value, _ABOUT_KEYS):
                    builder = builder.add_extension(extension.value, extension.critical)
            key = self._key(known, signer)
            self._made[der] = builder.issuer_name(certificate.issuer).sign(key, hashes.SHA256())
        return self._made[der]

    # -- declared ones ---------------------------------------------------------------------------------------------

    def _declared(self, certificate: Certificate) -> x509.Certificate:
        place = ("certificate", certificate.name)
        if place not in self._made:
            name = _named(f"certificate {list(self.estate.certificates).index(certificate.name)}")
            key = self._key(place)
            builder = self._builder(name, certificate.starts, certificate.until, key)
            builder = builder.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            builder = builder.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            if certificate.names:
                try:
                    names = x509.SubjectAlternativeName([_general(each) for each in certificate.names])
                except (ValueError, TypeError) as error:
                    raise UnstageableError(
                        f"a certificate's names ({error})", ", ".join(certificate.names), certificate.place.key("names")
                    ) from None
                builder = builder.add_extension(names, critical=False)
            issuer = Issuer(name, key) if certificate.issuer == "self" else self._issuer(certificate.issuer or "public")
            if issuer.name == _PUBLIC and not certificate.sends_chain:
                # Signed by one that nobody sends.
                issuer = Issuer(_named("intermediate"), self._key("intermediate"))
            self._made[place] = builder.issuer_name(issuer.name).sign(issuer.key, hashes.SHA256())
        return self._made[place]

    def _authority(self, authority: Authority) -> list[x509.Certificate]:
        """An authority's own certificates: as many as its file holds, or the declared one."""
        if authority.pem:
            return [self._twin(self._parse(der, authority)) for der in authority.pem]
        place = ("authority", authority.name)
        if place not in self._made:
            own = Issuer(_named(f"authority {list(self.estate.authorities).index(authority.name)}"), self._key(place))
            builder = self._builder(own.name, authority.starts, authority.until, own.key)
            builder = builder.add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
            issuer = own if authority.issued_by is None else self._issuer(authority.issued_by)
            self._made[place] = builder.issuer_name(issuer.name).sign(issuer.key, hashes.SHA256())
        return [self._made[place]]

    def _issuer(self, name: str) -> Issuer:
        authority = self.estate.authorities.get(name)
        if authority is None:
            return Issuer(_PUBLIC, self._key("public"))
        if authority.pem:
            first = self._parse(authority.pem[0], authority)
            return Issuer(first.subject, self._key(_spki(first), first))
        return Issuer(_named(f"authority {list(self.estate.authorities).index(name)}"), self._key(("authority", name)))

    def _root(self, name: x509.Name, known: object) -> x509.Certificate:
        """A root that stands for an issuer that the estate does not hold."""
        key = self._key(known)
        builder = self._builder(name, None, None, key).add_extension(
            x509.BasicConstraints(ca=True, path_length=None), critical=True
        )
        return self._made.setdefault(("root", known), builder.issuer_name(name).sign(key, hashes.SHA256()))

    # -- both ------------------------------------------------------------------------------------------------------

    def _builder(
        self, name: x509.Name, starts: datetime | None, until: datetime | None, key: Any
    ) -> x509.CertificateBuilder:
        begin = starts + self.shift if starts is not None else self.now - _LONG_AGO
        end = until + self.shift if until is not None else max(self.now, begin) + _FAR
        return (
            x509.CertificateBuilder()
            .subject_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(begin.replace(microsecond=0))
            .not_valid_after(max(end, begin + timedelta(seconds=1)).replace(microsecond=0))
        )

    def _key(self, known: object, like: x509.Certificate | None = None) -> Any:
        """The key that stands for one of the estate's; as weak as it."""
        if known not in self._keys:
            held: Any = like.public_key() if like is not None else None
            if isinstance(held, rsa.RSAPublicKey) and 1024 <= held.key_size < _STRONG_RSA:
                self._keys[known] = rsa.generate_private_key(65537, held.key_size)
            else:
                self._keys[known] = ec.generate_private_key(ec.SECP256R1())
        return self._keys[known]


def _pem(certificate: x509.Certificate) -> str:
    return certificate.public_bytes(Encoding.PEM).decode()


def _spki(certificate: x509.Certificate) -> bytes:
    return certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)


def _spki_of_key(pem: bytes, otherwise: bytes) -> bytes:
    """The public half of a PEM key; one that is encrypted counts as the fitting one, a damaged one as none."""
    try:
        key: Any = load_pem_private_key(pem, None)
    except TypeError:
        return otherwise
    except (ValueError, UnsupportedAlgorithm):
        return b""
    return bytes(key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))


def _issues(certificate: x509.Certificate) -> bool:
    try:
        return certificate.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except x509.ExtensionNotFound:
        return False


def _named(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def _general(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)
