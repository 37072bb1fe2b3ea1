"""What scalars look like, as patterns that a JSON Schema can carry: no more and no less than the loader takes.

Each is anchored by itself. They use nothing but what ECMA-262 and Python agree on.
"""

from portolan.source.plain import UNSEEN

#: The same, but tabs may stand.
UNSEEN_BUT_TABS = UNSEEN.replace("\\u0000-\\u001f", "\\u0000-\\u0008\\u000a-\\u001f")

_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])"
V4 = rf"(?:{_OCTET}\.){{3}}{_OCTET}"
_HEX = "[0-9A-Fa-f]{1,4}"


def _v6() -> str:
    """RFC 4291 section 2.2: eight groups, or fewer around a `::`; the last two may be an IPv4 address."""
    forms = [f"(?:{_HEX}:){{7}}{_HEX}", f"(?:{_HEX}:){{6}}{V4}"]
    for left in range(8):
        head = "" if left == 0 else _HEX if left == 1 else f"{_HEX}(?::{_HEX}){{{left - 1}}}"
        right = 7 - left
        tails = [""] if right == 0 else [f"(?:{_HEX}(?::{_HEX}){{0,{right - 1}}})?"]
        if right >= 2:
            tails.append(f"(?:{_HEX}:){{0,{right - 2}}}{V4}")
        forms += [f"{head}::{tail}" for tail in tails]
    return f"(?:{'|'.join(forms)})"


V6 = _v6()
_LENGTH_4, _LENGTH_6 = "(?:3[0-2]|[12]?[0-9])", "(?:12[0-8]|1[01][0-9]|[1-9]?[0-9])"
ADDRESS = f"^(?:{V4}|{V6})$"
WITH_LENGTH = f"^(?:{V4}(?:/{_LENGTH_4})?|{V6}(?:/{_LENGTH_6})?)$"

PORT = r"(?!0+(?:[^0-9]|$))(?:[0-5]?[0-9]{1,4}|6[0-4][0-9]{3}|65[0-4][0-9]{2}|655[0-2][0-9]|6553[0-5])"
PORTS = f"^ *(?:{PORT} *(?:- *{PORT} *)?|0 *- *{PORT} *)$"
#: `first-last` of addresses, and names of sets of ranges or ports.
ADDRESS_RANGE = f"^ *(?:{V4} *- *{V4}|{V6} *- *{V6}) *$"
SET_NAME = "^[A-Za-z_][A-Za-z0-9_.-]{0,63}$"
LISTENER = rf"^ *(?:(?:\[{V6}\]|{V4}|\*):)?{PORT}(?: +tls)* *$|^ *\[(?:::|(?:0{{1,4}}:){{1,7}}:|(?:0{{1,4}}:){{7}}0{{1,4}})\]:{PORT}(?: +(?:tls|v6-only|dual-stack))* *$"

LABEL = "[A-Za-z0-9_](?:[A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?"
_BEYOND_ASCII = r"[^\u0000-\u007f]"
_SHORT = r"(?=.{1,253}$|.{1,253}\.$)"
HOST = rf"^(?:{_SHORT}{LABEL}(?:\.{LABEL})*\.?|.*{_BEYOND_ASCII}.*)$"
NAME_PATTERN = (
    rf"^(?:(?:\*?\.)?{_SHORT}{LABEL}(?:\.{LABEL})*\.?|(?=.{{1,255}}$){LABEL}(?:\.{LABEL})*\.\*|.*{_BEYOND_ASCII}.*)?$"
)

#: With stars in any place.
STARRED = r"^(?=.{1,253}$)(?=[^*]*\*)[A-Za-z0-9_*-]+(?:\.[A-Za-z0-9_*-]+)*$"

COVERED = rf"^(?:(?:\*\.)?{_SHORT}{LABEL}(?:\.{LABEL})*\.?|{V4}|{V6}|.*{_BEYOND_ASCII}.*)$"

_DAY = "(?:1[89][0-9]{2}|[2-8][0-9]{3}|9000)-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12][0-9]|3[01])"
_CLOCK = "(?:[01][0-9]|2[0-3]):[0-5][0-9](?::[0-5][0-9](?:\\.[0-9]{1,6})?)?"
TIME = f"^{_DAY}(?:[Tt ]{_CLOCK}(?:[Zz]|[+-](?:[01][0-9]|2[0-3]):[0-5][0-9])?)?$"

PATH = r"^(?!/|\\|.:|\.\.(?:/|$)|(?:\./*)*$)(?!.*/\.\.(?:/|$)).+$"
URL = r"^(?:[Hh][Tt][Tt][Pp]|[Ww][Ss])[Ss]?://[^/?#\s]"
#: The program behind a site: scheme, name or address, port; no path.
_NAME = rf"(?=[^:/]{{1,253}}(?:[:/]|$))(?:{LABEL}\.)*[A-Za-z](?:[A-Za-z0-9_-]{{0,61}}[A-Za-z0-9_])?"
UPSTREAM = rf"^https?://(?:\[{V6}\]|{V4}|{_NAME})(?::{PORT})?(?:/[^\s?#\"<>`{{}}\\]*)?$"
TEMPLATE = r"^(?:[^{}]|\{(?:scheme|host|port|path|query|rest|[1-9])\})+$"
#: A folder or file on a machine, absolute or relative, without `..`.
FOLDER = r"^(?!(?:.*/)?\.\.(?:/|$))[^\\]{1,1024}$"
RIGHTS = r"^[0-7]{3,4} [A-Za-z0-9_.][A-Za-z0-9_.-]*:[A-Za-z0-9_.][A-Za-z0-9_.-]*$"
HEADER = r"^[A-Za-z0-9!#$%&'*+.^_`|~-]{1,64}$"
STATUS = "^[45][0-9]{2}$"
ANY_STATUS = "^[2-5][0-9]{2}$"
#: What an origin's name may look like as typed: no blank, no query.
TYPED = r"^[^\s?#<>\"'\\^`{|}]{1,512}$"
#: A Cache-Control as written: directives (RFC 9111 section 5.2), nothing that ends a line.
CACHE_CONTROL = r"^[A-Za-z0-9=,\" _-]{1,256}$"
#: Where a bucket sends all: a host name, with a scheme and a port or without.
SENT_TO = r"^(?:https?://)?[A-Za-z0-9](?:[A-Za-z0-9.-]{0,251}[A-Za-z0-9])?(?::[0-9]{1,5})?$"
BUCKET_NAME = r"^[A-Za-z0-9](?:[A-Za-z0-9._-]{0,61}[A-Za-z0-9])?$"
#: A path of an edge's origin, as it is asked for.
#: Paths that a part of an edge is for: one, or all that begin so.
PART_OF_EDGE = r"^/[^\s?#\"'\\*]*\*?$"
PATH_OF_ORIGIN = r"^/[^\s?#\"'\\]*$"
