"""Certificates for a rehearsal: twins of the estate's, with keys of our own, shifted so that the estate's moment is now.

A PEM certificate's private key is not in the estate, and its dates are about the estate's moment; so every certificate is
made anew with the same names, issuer, chain and dates relative to that moment. What the visitor trusts is made with it.
"""

from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from portolan.estate.certificate import Certificate
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.tls.facts import Facts, authority_facts, key_fits, shown_by

_LONG_AGO, _FAR = timedelta(days=3650), timedelta(days=3650)
_PUBLIC = "authority:public"


class Forge:
    """Makes the twins of one estate's certificates."""

    def __init__(self, estate: Estate, at: datetime) -> None:
        self.estate = estate
        self.now = datetime.now(UTC)
        self.shift = self.now - at
        self._keys: dict[str, Any] = {}
        self._made: dict[str, x509.Certificate] = {}
        self._known: dict[str, Facts] = {}
        for authority in estate.authorities.values():
            facts = authority_facts(authority, {})
            self._known[facts.subject] = facts

    def served(self, certificate: Certificate) -> tuple[str, str]:
        """What a server is given: the PEM of certificate and chain, and of a key (a wrong one where the estate's is)."""
        shown = shown_by(certificate, self.estate, {})
        for facts in shown.chain:
            self._known.setdefault(facts.subject, facts)
        pem = self._pem(self._make(shown.leaf))
        for facts in shown.chain:
            pem += self._pem(self._make(facts))
        key = self._key(shown.leaf.subject) if key_fits(certificate) else ec.generate_private_key(ec.SECP256R1())
        return pem, key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()

    def trusted(self, vantage: Vantage) -> str:
        """The PEM of everything that a visitor trusts."""
        parts = []
        public = "public" in vantage.trusts
        if public:
            parts.append(self._pem(self._root(_PUBLIC)))
        for authority in self.estate.authorities.values():
            facts = authority_facts(authority, {})
            if authority.name in vantage.trusts or (public and authority.public and facts.self_signed):
                parts.append(self._pem(self._make(facts)))
        if public and not self.estate.authorities:
            # An issuer that nobody describes is assumed to be trusted.
            for certificate in self.estate.certificates.values():
                shown = shown_by(certificate, self.estate, {})
                last = shown.chain[-1] if shown.chain else shown.leaf
                if not last.self_signed and last.issuer not in self._known:
                    parts.append(self._pem(self._root(last.issuer)))
        return "".join(dict.fromkeys(parts))

    def _pem(self, certificate: x509.Certificate) -> str:
        return certificate.public_bytes(Encoding.PEM).decode()

    def _key(self, subject: str) -> Any:
        if subject not in self._keys:
            self._keys[subject] = ec.generate_private_key(ec.SECP256R1())
        return self._keys[subject]

    def _root(self, subject: str) -> x509.Certificate:
        """A root that stands for an issuer that the estate does not hold."""
        return self._sign(subject, subject, None, None, (), True, True)

    def _make(self, facts: Facts) -> x509.Certificate:
        issuer = facts.subject if facts.self_signed else facts.issuer
        return self._sign(
            facts.subject, issuer, facts.starts, facts.until, facts.names, facts.may_issue, facts.may_serve
        )

    def _sign(
        self, subject: str, issuer: str, starts: datetime | None, until: datetime | None, names: tuple[str, ...], authority: bool,
        serves: bool,
    ) -> x509.Certificate:  # fmt: skip
        made = self._made.get(f"{subject} by {issuer}")
        if made is not None:
            return made
        begin = starts + self.shift if starts is not None else self.now - _LONG_AGO
        end = until + self.shift if until is not None else max(self.now, begin) + _FAR
        builder = (
            x509.CertificateBuilder()
            .subject_name(_name(subject))
            .issuer_name(_name(issuer))
            .public_key(self._key(subject).public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(begin.replace(microsecond=0))
            .not_valid_after(end.replace(microsecond=0))
            .add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
        )
        if names:
            builder = builder.add_extension(
                x509.SubjectAlternativeName([_general(each) for each in names]), critical=False
            )
        if not authority:
            use = ExtendedKeyUsageOID.SERVER_AUTH if serves else ExtendedKeyUsageOID.CLIENT_AUTH
            builder = builder.add_extension(x509.ExtendedKeyUsage([use]), critical=False)
        made = self._made[f"{subject} by {issuer}"] = builder.sign(self._key(issuer), hashes.SHA256())
        return made


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text[-60:])])


def _general(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)
