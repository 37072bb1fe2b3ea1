"""Certificates, and the authorities behind them."""

from datetime import datetime
from typing import Annotated, Literal, get_args

import msgspec

from portolan.estate.base import CoveredName, EstatePath, FolderPath, HostName, RunBy, Stated, says
from portolan.estate.changing import Changing

#: How names are proven to an authority (RFC 8555 section 8, RFC 8737).
Way = Literal["http-01", "dns-01", "tls-alpn-01"]
WAYS: tuple[str, ...] = get_args(Way)


class Renews(Stated, frozen=True, kw_only=True, eq=False):
    """How the next certificate is got from its authority (RFC 8555)."""

    by: Annotated[
        Way,
        says(
            "How the names are proven: by a file that the authority asks for plainly (`http-01`), by a record of the zone "
            "(`dns-01`, the only way for stars), or within a handshake on port 443 (`tls-alpn-01`, RFC 8737)."
        ),
    ]
    folder: Annotated[
        FolderPath | None,
        says(
            "Where the files of `http-01` are put, under `.well-known/acme-challenge/`. Left out: where the site looks.",
            example="/var/www/challenges",
        ),
    ] = None
    on: Annotated[
        str | None,
        says("The machine that asks for it. Left out: those that show the certificate.", refers=("hosts", "routers")),
    ] = None
    account: Annotated[
        str | None,
        says(
            "The address of the account at the authority, for CAA records that name one (RFC 8657).",
            example="https://letters.example/account/7",
        ),
    ] = None


class Certificate(Changing, frozen=True, kw_only=True, eq=False):
    """A server certificate: a PEM file, or its facts declared."""

    name: str
    run_by: RunBy = None
    file: Annotated[
        EstatePath | None,
        says(
            "PEM file: the certificate first, then what is sent along as its chain.", example="certificates/visit.pem"
        ),
    ] = None
    key: Annotated[
        EstatePath | None, says("PEM file with the private key, to check that the two are a pair. Never shown.")
    ] = None
    names: Annotated[tuple[CoveredName, ...], says("Declared: the names and addresses that it covers.")] = ()
    issuer: Annotated[
        str | None,
        says(
            "Declared: `public` (an ordinary public authority), `self`, or an authority of the estate. "
            "Left out: `public`.",
            refers=("authorities",),
        ),
    ] = None
    starts: Annotated[datetime | None, says("Declared: valid from; left out: always was.")] = msgspec.field(
        default=None, name="from"
    )
    until: Annotated[datetime | None, says("Declared: valid until; left out: does not end.")] = None
    requested: Annotated[
        bool,
        says(
            "Whether it was asked for and is not validated yet: nobody has it, a server does not start with it, an edge shows its provider's."
        ),
    ] = False
    renews: Annotated[Renews | None, says("How it is renewed; left out: nobody says so.")] = None
    sends_chain: Annotated[bool, says("Declared: whether the intermediates are sent along.")] = True
    #: As DER.
    pem: tuple[bytes, ...] = ()
    key_pem: bytes | None = None
    #: Why servers do not start with its file, where they cannot read it.
    misread: str | None = None
    #: The same of its key: for every program, and for those that read keys to the letter.
    key_misread: str | None = None
    key_misread_strictly: str | None = None

    def why_misread(self, keys_loosely: bool) -> str | None:
        """Why a program does not start with its files, by how it reads keys; None where it reads both."""
        return self.misread or (self.key_misread if keys_loosely else self.key_misread_strictly)

    @property
    def unknown(self) -> bool:
        """Whether nothing can be told of it, since no certificate is read in its file."""
        return self.file is not None and not self.pem


class Authority(Stated, frozen=True, kw_only=True, eq=False):
    """An authority that issues certificates: a root, or an intermediate under another authority."""

    name: str
    file: Annotated[EstatePath | None, says("PEM file with the authority's own certificate.")] = None
    issued_by: Annotated[
        str | None,
        says("Declared: the authority above it, or `public`; left out: it is a root.", refers=("authorities",)),
    ] = None
    caa_names: Annotated[
        tuple[HostName, ...],
        says(
            "The names by which CAA records allow this authority to issue (RFC 8659 section 4.2).",
            example="letters.example",
        ),
    ] = ()
    public: Annotated[bool, says("For a root: whether ordinary visitors trust it.")] = True
    starts: Annotated[datetime | None, says("Declared: valid from.")] = msgspec.field(default=None, name="from")
    until: Annotated[datetime | None, says("Declared: valid until.")] = None
    pem: tuple[bytes, ...] = ()
