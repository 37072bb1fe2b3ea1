"""Which names of a certificate a browser takes (measured with Chromium)."""

from functools import cache


def takes_name(name: str) -> bool:
    """Whether a browser takes a name: no star directly above a public suffix, below which strangers have names of their own."""
    return not name.startswith("*.") or not _is_suffix(name[2:].lower().rstrip("."))


@cache
def _is_suffix(name: str) -> bool:
    from publicsuffixlist import PublicSuffixList  # reads its list once; only stars need it

    found: str | None = PublicSuffixList(accept_unknown=False).publicsuffix(name)
    return found == name
