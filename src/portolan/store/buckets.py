"""Which bucket a request is for, what it holds, and who may read it."""

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any, NamedTuple

from portolan.estate.store import Bucket, Grant, Store, StoreDoor
from portolan.evidence.request import Request

#: The names that a host name is an alias of, one behind the other.
Aliases = Callable[[str], tuple[str, ...]]


class Asked(NamedTuple):
    """The bucket's name, how it was found, and the path of the key behind it."""

    bucket: str
    by: str
    path: str


def asked_bucket(door: StoreDoor, request: Request, aliases: Aliases) -> Asked | None:
    """The bucket that a request names, by the first way that gives one."""
    store, at, host, path = door.store, str(door.at), request.host, request.url.path
    for by in store.pages_by if door.way == "pages" else store.objects_by:
        if by == "label" and host.endswith("." + at):
            return Asked(host[: -len(at) - 1], "the label before its name", path)
        if by == "name" and host != at and not host.endswith("." + at):
            return Asked(host, "the host name", path)
        if by == "alias" and host != at:
            found = next((each for each in aliases(host) if each.endswith("." + at)), None)
            if found is not None:
                return Asked(found[: -len(at) - 1], f"what {host} is an alias of", path)
        if by == "path" and host == at:
            first, _, rest = path[1:].partition("/")
            if first:
                return Asked(first, "the first part of the path", f"/{rest}")
    return None


class Keys:
    """What a bucket holds, made ready."""

    def __init__(self, bucket: Bucket) -> None:
        self.told = bucket.told
        held = bucket.objects or ()
        self.exact = frozenset(each for each in held if "*" not in each)
        self.patterns = tuple(pattern(each) for each in held if "*" in each)

    def holds(self, key: str) -> bool:
        """Whether an object lies under the key; capital and small letters differ."""
        return not self.told or key in self.exact or any(each.fullmatch(key) for each in self.patterns)


def keys_of(bucket: Bucket, shared: dict[Any, Any]) -> Keys:
    """A bucket's keys; made ready once."""
    at = ("keys", id(bucket))
    found = shared.get(at)
    if found is None:
        found = shared[at] = (Keys(bucket), bucket)
    keys: Keys = found[0]
    return keys


@lru_cache(4096)
def pattern(text: str) -> "re.Pattern[str]":
    """A pattern with `*` for anything and `?` for one character; everything else is as written."""
    parts = (".*" if each == "*" else "." if each == "?" else re.escape(each) for each in re.sub(r"\*+", "*", text))
    return re.compile("".join(parts), re.DOTALL)


class Right(NamedTuple):
    """Whether something is allowed; the grant that allows it, or that would if the bucket were not sealed."""

    allowed: bool
    grant: Grant | None = None
    sealed: bool = False


def right(store: Store, bucket: Bucket, what: str, key: str | None, who: str) -> Right:
    """Whether somebody may read a key, or list the bucket (`key` None). `who` is the edge that signed, or nothing.

    A seal beats grants to everyone, and no others.
    """
    named = bucket.name if key is None else f"{bucket.name}/{key}"
    barred: Grant | None = None
    for grant in bucket.grants:
        if what not in grant.may or not (grant.to == "everyone" or (who and grant.to_edge == who)):
            continue
        if grant.on and not any(fits_object(each, named) for each in grant.on):
            continue
        if grant.to == "everyone" and bucket.sealed and store.seal == "beats-grants":
            barred = barred or grant
            continue
        return Right(True, grant)
    return Right(False, barred, barred is not None)


def fits_object(typed: str, named: str) -> bool:
    """Whether what a grant is on, as typed, takes in an object or the bucket itself."""
    return typed == named or (("*" in typed or "?" in typed) and pattern(typed).fullmatch(named) is not None)
