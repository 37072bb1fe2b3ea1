"""Certificates as files hold them and servers show them: PEM, DER, PKCS#12; which is the server's own, which its chain, which a root.

Keys are compared with certificates and never copied.
"""

import os
import re
import socket
from typing import Any

from portolan.source.plain import one_line
from portolan.source.value import Value
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import SourceError, read_named
from portolan.transcribing.web import unused

#: A certificate in PEM, under any of the labels that programs read it under.
CERTIFICATE = re.compile(
    rb"-----BEGIN (?:X509 |TRUSTED )?CERTIFICATE-----.*?-----END (?:X509 |TRUSTED )?CERTIFICATE-----", re.S
)
_KEY = re.compile(rb"-----BEGIN [A-Z ]*PRIVATE KEY-----.*?-----END [A-Z ]*PRIVATE KEY-----", re.S)
_PATIENCE = 10.0
_MOST_FILES = 2000


class Found(Value, frozen=True):
    """Certificates that came together, as they were sent or stand in a file, in PEM; and whether a key beside fits the first."""

    name: str
    pem: tuple[bytes, ...]
    spot: Spot
    key_fits: bool | None = None


def from_path(path: str, password: bytes | None) -> list[Found]:
    """The certificates of a file or of a folder's files. Raises SourceError."""
    if os.path.isdir(path):
        found: list[Found] = []
        for number, name in enumerate(sorted(os.listdir(path))):
            whole = os.path.join(path, name)
            if number > _MOST_FILES:
                raise SourceError(
                    f"'{one_line(path)}' holds more than {_MOST_FILES} files", "Name the files themselves."
                )
            if os.path.isfile(whole):
                try:
                    found += from_path(whole, password)
                except SourceError:
                    continue
        if not found:
            raise SourceError(f"no file in '{one_line(path)}' holds a certificate", "Name the file itself.")
        return found
    data = read_named(path)
    spot = Spot(path.lstrip("/"), 1)
    name = os.path.splitext(os.path.basename(path))[0]
    blocks = CERTIFICATE.findall(data)
    if blocks:
        keys = _KEY.findall(data)
        return [Found(name, tuple(blocks), spot, fits_key(blocks[0], keys[0]) if keys else None)]
    if _KEY.search(data):
        raise SourceError(
            f"'{one_line(path)}' holds a private key, and no certificate",
            "Name the certificate's file; keys stay where they are.",
        )
    return [Found(name, tuple(held), spot, fits) for held, fits in (_binary(data, path, password),)]


def _binary(data: bytes, path: str, password: bytes | None) -> tuple[list[bytes], bool | None]:
    """The certificates of a DER or PKCS#12 file."""
    from cryptography import x509
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs12

    try:
        return [x509.load_der_x509_certificate(data).public_bytes(Encoding.PEM).strip()], None
    except ValueError:
        pass
    try:
        held = pkcs12.load_pkcs12(data, password)
    except ValueError:
        if data[:1] == b"\x30":
            raise SourceError(
                f"'{one_line(path)}' is no certificate, or its password is another",
                "Give the password's file with --password-file.",
            ) from None
        raise SourceError(f"'{one_line(path)}' holds no certificate", "PEM, DER and PKCS#12 are read.") from None
    own = [held.cert.certificate] if held.cert is not None else []
    every = [*own, *(each.certificate for each in held.additional_certs)]
    if not every:
        raise SourceError(f"'{one_line(path)}' holds no certificate", "Export it anew with the certificate in it.")
    fits = None
    if held.key is not None and own:
        fits = _is_pair(own[0], held.key)
    return [each.public_bytes(Encoding.PEM).strip() for each in every], fits


def fits_key(certificate: bytes, key: bytes) -> bool | None:
    """Whether a key is the certificate's; None where the key cannot be opened."""
    from cryptography import x509
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    try:
        return _is_pair(x509.load_pem_x509_certificate(certificate), load_pem_private_key(key, None))
    except (ValueError, TypeError):
        return None


def _is_pair(certificate: Any, key: Any) -> bool:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    form = (Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return bool(certificate.public_key().public_bytes(*form) == key.public_key().public_bytes(*form))


def from_server(text: str, name: str | None = None) -> Found:
    """What a server shows in a handshake, whatever it is worth; asked for a name, or for its own. Raises SourceError."""
    from OpenSSL import SSL, crypto

    host, _, port = text.rpartition(":") if re.search(r":\d+$", text) else (text, "", "443")
    host = host.strip("[]")
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE, lambda *_: True)
    try:
        with socket.create_connection((host, int(port)), timeout=_PATIENCE) as plain:
            plain.settimeout(None)
            plain.setsockopt(socket.SOL_SOCKET, socket.SO_RCVTIMEO, b"\x0a" + bytes(15))
            connection = SSL.Connection(context, plain)
            asked = name or host
            if not re.fullmatch(r"[0-9.]+|.*:.*", asked):
                connection.set_tlsext_host_name(asked.encode("idna"))
            connection.set_connect_state()
            connection.do_handshake()
            chain = connection.get_peer_cert_chain() or []
    except (OSError, SSL.Error, UnicodeError) as error:
        raise SourceError(
            f"{one_line(text)} shows no certificate: {one_line(str(error) or type(error).__name__)}",
            "Does it speak TLS there?",
        ) from None
    if not chain:
        raise SourceError(f"{one_line(text)} shows no certificate")
    pem = tuple(crypto.dump_certificate(crypto.FILETYPE_PEM, each).strip() for each in chain)
    return Found(host, pem, Spot(f"{host}:{port}", 1))


def documents(found: list[Found]) -> tuple[dict[str, Any], dict[str, bytes]]:
    """The estate's certificates and authorities, and the files that they name."""
    from cryptography import x509

    certificates: dict[str, Any] = {}
    authorities: dict[str, Any] = {}
    copies: dict[str, bytes] = {}
    for each in found:
        roots, sent = [], []
        for number, block in enumerate(each.pem):
            try:
                held = x509.load_pem_x509_certificate(block)
            except ValueError:
                sent.append(block)
                continue
            alone = held.subject == held.issuer
            # A root is no part of what proves a server; by itself, or behind a chain, it is an authority.
            if alone and _is_authority(held) and (number or len(each.pem) == 1):
                roots.append(block)
            else:
                sent.append(block)
        if sent:
            name = unused(each.name, certificates)
            part = Part(each.spot)
            part.say("file", f"certificates/{name}.pem")
            copies[f"certificates/{name}.pem"] = b"\n".join(sent) + b"\n"
            certificates[name] = part.data()
        for block in roots:
            name = unused(f"{each.name}-root" if sent else each.name, authorities)
            part = Part(each.spot)
            part.say("file", f"certificates/{name}.pem")
            part.say("public", False)
            copies[f"certificates/{name}.pem"] = block + b"\n"
            authorities[name] = part.data()
    made: dict[str, Any] = {}
    if certificates:
        made["certificates"] = certificates
    if authorities:
        made["authorities"] = authorities
    return made, copies


def _is_authority(held: Any) -> bool:
    from cryptography import x509

    try:
        return bool(held.extensions.get_extension_for_class(x509.BasicConstraints).value.ca)
    except (x509.ExtensionNotFound, ValueError):
        return False
