"""PEM (RFC 7468): its blocks, with labels and lines, and files as servers read them; nothing of a key is kept in messages.

Servers read with OpenSSL, line by line, and stop at what it does not understand: a service does not start with such a file
(measured with nginx and Apache httpd). That is an answer, and no error of whoever describes the estate.
"""

import base64
import binascii
import re
from collections.abc import Iterator

from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import Problems
from portolan.source.value import Value

_BLOCK = re.compile(r"^-----BEGIN ([A-Z0-9 ]+)-----[ \t]*\r?\n(.*?)^-----END \1-----", re.MULTILINE | re.DOTALL)


class Block(Value, frozen=True):
    """One PEM block."""

    label: str
    der: bytes
    line: int


def blocks(text: str, shown: str, problems: Problems, path: str) -> list[Block]:
    """The blocks of a PEM text; bad base64 is noted."""
    found = []
    # A byte order mark before the first block disturbs no program.
    text = text.removeprefix("\xef\xbb\xbf")
    for match in _BLOCK.finditer(text):
        line = text.count("\n", 0, match.start()) + 1
        body = "".join(row for row in match[2].split("\n") if ":" not in row)
        try:
            der = base64.b64decode("".join(body.split()), validate=True)
        except (binascii.Error, ValueError):
            problems.add(
                Span(shown, line, 1),
                f"the block '{one_line(match[1], 40)}' is not base64",
                path,
                "Copy the file anew; it was damaged on the way.",
            )
            continue
        found.append(Block(match[1], der, line))
    return found


def certificates(data: bytes, shown: str, problems: Problems, path: str) -> tuple[bytes, ...]:
    """The certificates of a PEM file in its order, as DER."""
    text = data.decode("latin-1")
    before = len(problems.found)
    parts = blocks(text, shown, problems, path)
    if len(problems.found) > before:
        return ()
    wanted = [part for part in parts if part.label in ("CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE")]
    keys = [part for part in parts if "PRIVATE KEY" in part.label]
    if wanted:
        for part in wanted:
            if not _whole_sequence(part.der):
                problems.add(
                    Span(shown, part.line, 1), "the certificate is cut short or damaged", path, "Copy the file anew."
                )
        return tuple(part.der for part in wanted)
    if keys:
        problems.add(
            Span(shown, keys[0].line, 1),
            "this file holds a private key, and no certificate",
            path,
            "Name the certificate's file here; the key's file goes under 'key'.",
        )
    elif parts:
        problems.add(
            Span(shown, parts[0].line, 1),
            f"expected a CERTIFICATE block, found '{one_line(parts[0].label, 40)}'",
            path,
            "Name the certificate's file here.",
        )
    else:
        problems.add(
            Span(shown, 1, 1),
            "no PEM block is in this file; expected -----BEGIN CERTIFICATE-----",
            path,
            "Convert the certificate to PEM.",
        )
    return ()


def _whole_sequence(der: bytes) -> bool:
    """Whether the bytes are one complete DER SEQUENCE (X.690 section 8.1.3)."""
    if len(der) < 4 or der[0] != 0x30:
        return False
    if der[1] < 0x80:
        return len(der) == 2 + der[1]
    count = der[1] & 0x7F
    return len(der) == 2 + count + int.from_bytes(der[2 : 2 + count], "big")


# -- as servers read them --

#: The most letters that OpenSSL takes for one line, and those of a line of a block that has a header.
_LINE, _ROW = 254, 64
_LABELS = ("CERTIFICATE", "X509 CERTIFICATE")
_KEYS = ("PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "DSA PRIVATE KEY", "ENCRYPTED PRIVATE KEY")
_BEGIN, _DASHES = "-----BEGIN ", "-----"


class Unreadable(Exception):  # noqa: N818 - nothing is wrong with the estate
    """Why servers do not read a file."""


def served(data: bytes) -> tuple[tuple[bytes, ...], str | None]:
    """The certificates that a server takes from a file, as DER, and why servers do not start with it; None where they do.

    Where they do not, what can be read all the same comes, so that it can be told what the file is about.
    """
    found: list[bytes] = []
    try:
        for label, der in _objects(data):
            # Only the first may carry what OpenSSL trusts it for.
            if label in _LABELS or (label == "TRUSTED CERTIFICATE" and not found):
                if not _whole_sequence(der):
                    raise Unreadable(f"certificate {len(found) + 1} in it is cut short or damaged")
                found.append(der)
        if not found:
            raise Unreadable(_instead(data))
    except Unreadable as reason:
        problems = Problems()
        held = tuple(each.der for each in blocks(data.decode("latin-1"), "", problems, "") if each.label in _LABELS)
        if _whole_sequence(data) and _PKCS7 not in data[:32] and _content(data)[:1] == b"\x30":
            held = (data,)
        return tuple(each for each in held if _whole_sequence(each)), str(reason)
    return tuple(found), None


class Key(Value, frozen=True):
    """A private key as PEM, as far as it can be read; why servers do not start with it, and why those do not that read to the letter."""

    pem: bytes | None
    misread: str | None = None
    misread_strictly: str | None = None


def private_key(data: bytes) -> Key:
    """A file's private key: the first one, as Apache httpd finds it, and what others say of it."""
    if b"ENCRYPTED" in data:
        why = "its key asks for a password"
        return Key(data, why, why)
    strictly = None
    try:
        if not any(label in _KEYS and _whole_sequence(der) for label, der in _objects(data)):
            strictly = "no private key is in the key's file"
    except Unreadable as reason:
        strictly = f"its key cannot be read: {reason}"
    text = data.decode("latin-1")
    for label in _KEYS:
        start = text.find(f"{_BEGIN}{label}{_DASHES}")
        if start < 0:
            continue
        body = text[start:].split(_DASHES)[2]
        try:
            der = base64.b64decode("".join(body.split()), validate=True)
        except (binascii.Error, ValueError):
            break
        if _whole_sequence(der):
            return Key(_pem(label, der), None, strictly)
        break
    if _whole_sequence(data):
        # PKCS#8 holds a version and an algorithm (RFC 5208 section 5), what is older an integer or octets.
        begins = _content(data)
        label = (
            "PRIVATE KEY"
            if begins[:4] == b"\2\1\0\x30"
            else "RSA PRIVATE KEY"
            if begins[:3] == b"\2\1\0"
            else "EC PRIVATE KEY"
        )
        return Key(_pem(label, data), None, "its key is DER, and not PEM")
    return Key(None, strictly or "its key is cut short or damaged", strictly)


def _content(der: bytes) -> bytes:
    """What a SEQUENCE holds (X.690 section 8.1)."""
    return der[2 + (der[1] & 0x7F if der[1] >= 0x80 else 0) :]


def _pem(label: str, der: bytes) -> bytes:
    body = base64.encodebytes(der).decode()
    return f"{_BEGIN}{label}{_DASHES}\n{body}-----END {label}{_DASHES}\n".encode()


def _objects(data: bytes) -> Iterator[tuple[str, bytes]]:
    """The objects of a file as OpenSSL reads one after the other: label and DER. Raises Unreadable where it stops."""
    text = data.decode("latin-1").removeprefix("\xef\xbb\xbf")
    rows = [row[at : at + _LINE] for row in text.split("\n") for at in range(0, len(row) or 1, _LINE)]
    at = 0
    while at < len(rows):
        row = _stripped(rows[at])
        at += 1
        if not row.startswith(_BEGIN) or not row.endswith(_DASHES):
            continue
        label = row[len(_BEGIN) : -len(_DASHES)]
        header, body, at = _block(rows, at, label)
        if header and not header[0].startswith("Proc-Type:"):
            blank = not any(":" in each for each in header)
            raise Unreadable(
                "a blank line stands within a block" if blank else "a block has lines that are no part of it"
            )
        yield label, _decoded(body)


def _block(rows: list[str], at: int, label: str) -> tuple[list[str], list[str], int]:
    """A block's header and body, and where what follows begins."""
    header: list[str] | None = None
    held: list[str] = []
    named, short = False, False
    while at < len(rows):
        row = _stripped(rows[at])
        at += 1
        if not row:
            if header is not None:
                raise Unreadable("a blank line stands within a block")
            header, held = held, []
        elif row.startswith("-----END "):
            if row != f"-----END {label}{_DASHES}":
                joined = row.startswith(f"-----END {label}{_DASHES}")
                raise Unreadable(
                    "two of its blocks stand on one line" if joined else "a block does not end as it begins"
                )
            return header or [], [] if named and header is None else held, at
        elif short or (header is not None and len(row) > _ROW):
            raise Unreadable("the lines of a block are not of one length")
        else:
            named |= header is None and ":" in row
            short = header is not None and len(row) < _ROW
            held.append(row)
    raise Unreadable(f"the line -----END {one_line(label, 40)}----- is missing")


def _decoded(body: list[str]) -> bytes:
    # What stands behind a dash is passed over.
    text = "".join("".join(body).partition("-")[0].split())
    try:
        der = base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        der = b""
    if not der:
        raise Unreadable("a block is not base64")
    return der


def _stripped(row: str) -> str:
    end = len(row)
    while end and row[end - 1] <= " ":
        end -= 1
    return row[:end]


def _instead(data: bytes) -> str:
    """What a file is in which no certificate is found."""
    text = data.decode("latin-1")
    if not text.strip():
        return "it is empty"
    label = re.search("-----BEGIN ([A-Z0-9# ]{1,40})-----", text)
    if label is not None and label[1] in _KEYS:
        return "it holds a private key, and no certificate"
    if label is not None and label[1] == "PKCS7":
        return "it is a bundle in PKCS#7, and not certificates in PEM"
    if label is not None and label[1] in _LABELS:
        return "no line of it is -----BEGIN CERTIFICATE----- by itself"
    if label is not None:
        return f"it holds a {label[1]}, and no certificate"
    if _whole_sequence(data):
        if _PKCS7 in data[:32]:
            return "it is a bundle in PKCS#7, and not certificates in PEM"
        return "it is a PKCS#12, and not PEM" if _content(data)[:3] == b"\2\1\3" else "it is DER, and not PEM"
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "it is written in wide letters (UTF-16)"
    return "no line of it is -----BEGIN CERTIFICATE-----"


#: The object identifier of signed data (RFC 2315 section 14), in DER.
_PKCS7 = bytes.fromhex("06092a864886f70d010702")
