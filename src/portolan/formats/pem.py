"""PEM (RFC 7468): its blocks, with labels and lines; nothing of a key is kept in messages."""

import base64
import binascii
import re

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


def misread(data: bytes) -> str | None:
    """Why servers do not start with a file of certificates (measured: nginx, Apache httpd); None where they do."""
    if b"-----END CERTIFICATE----------BEGIN" in data:
        return "two of its blocks stand on one line"
    for match in _BLOCK.finditer(data.decode("latin-1").removeprefix("\xef\xbb\xbf")):
        body = match[2].replace("\r", "")
        if "\n\n" in f"\n{body}".rstrip("\n") and ":" not in body:
            return "a blank line stands within a block"
    return None


def locked(data: bytes) -> str | None:
    """Why servers do not start with a key: it asks for a password, and at a start nobody gives one."""
    return "its key asks for a password" if b"ENCRYPTED" in data else None


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


def private_key(data: bytes, shown: str, problems: Problems, path: str) -> bytes | None:
    """The file's bytes when it holds a private key, after noting when it does not."""
    parts = blocks(data.decode("latin-1"), shown, problems, path)
    if any("PRIVATE KEY" in part.label for part in parts):
        return data
    problems.add(Span(shown, 1, 1), "no private key is in this file", path, "Name the key's PEM file here.")
    return None


def _whole_sequence(der: bytes) -> bool:
    """Whether the bytes are one complete DER SEQUENCE (X.690 section 8.1.3)."""
    if len(der) < 4 or der[0] != 0x30:
        return False
    if der[1] < 0x80:
        return len(der) == 2 + der[1]
    count = der[1] & 0x7F
    return len(der) == 2 + count + int.from_bytes(der[2 : 2 + count], "big")
