"""Which bucket a request is for, what it holds, and who may read it."""

from collections.abc import Callable, Iterable, Iterator

from portolan.estate.store import Bucket, Grant, Store, StoreDoor
from portolan.evidence.request import Request
from portolan.source.shared import Shared
from portolan.source.value import Value

#: The names that a host name is an alias of, one behind the other.
Aliases = Callable[[str], tuple[str, ...]]


class Asked(Value, frozen=True):
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
        self.patterns = tuple(each for each in held if "*" in each)

    def holds(self, key: str) -> bool:
        """Whether an object lies under the key; capital and small letters differ."""
        return not self.told or key in self.exact or any(matches(each, key, "") for each in self.patterns)


def keys_of(bucket: Bucket, shared: Shared) -> Keys:
    """A bucket's keys; made ready once."""
    return shared.of("keys", bucket, lambda: Keys(bucket))


def matches(typed: str, text: str, single: str = "?") -> bool:
    """Whether a text is what a pattern says: `*` for anything, `?` (or what `single` is) for one character, all else as written.

    In time bounded by both lengths, whoever wrote the pattern: of all stars only the last one is ever tried again.
    """
    start = typed[:-1]
    if typed.endswith("*") and "*" not in start and not (single and single in start):
        # As nearly all are.
        return text.startswith(start)
    at = in_text = 0
    star, kept = -1, 0
    while in_text < len(text):
        if at < len(typed) and typed[at] == "*":
            star, kept = at, in_text
            at += 1
        elif at < len(typed) and (typed[at] == text[in_text] or typed[at] == single):
            at, in_text = at + 1, in_text + 1
        elif star >= 0:
            kept += 1
            at, in_text = star + 1, kept
        else:
            return False
    return typed[at:].strip("*") == ""


class Right(Value, frozen=True):
    """Whether something is allowed; the grant that allows it, or that would if the bucket were not sealed, or that forbids it."""

    allowed: bool
    grant: Grant | None = None
    sealed: bool = False
    denied: bool = False


def right(store: Store, bucket: Bucket, what: str, key: str | None, who: str) -> Right:
    """Whether somebody may read a key, or list the bucket (`key` None). `who` is the edge that signed, or nothing.

    A seal beats grants to everyone, and no others.
    """
    return _right(store, bucket, bucket.grants, what, key, who)


def readable(store: Store, bucket: Bucket, keys: Iterable[str], who: str) -> Iterator[str]:
    """The keys, of those given, that somebody may read: as `right` says, looking only at grants that can be on each."""
    exact: dict[str, list[int]] = {}
    anywhere: list[int] = []
    for number, grant in enumerate(bucket.grants):
        if not grant.on or any("*" in each or "?" in each for each in grant.on):
            anywhere.append(number)
        else:
            for each in grant.on:
                exact.setdefault(each, []).append(number)
    for key in keys:
        near = sorted({*anywhere, *exact.get(f"{bucket.name}/{key}", ())})
        if near and _right(store, bucket, [bucket.grants[each] for each in near], "read", key, who).allowed:
            yield key


def _right(store: Store, bucket: Bucket, grants: Iterable[Grant], what: str, key: str | None, who: str) -> Right:
    named = bucket.name if key is None else f"{bucket.name}/{key}"
    barred: Grant | None = None
    fitting = [
        each
        for each in grants
        if what in each.may and (each.to == "everyone" or (who and each.to_edge == who)) and is_on(each, named)
    ]
    for grant in fitting:
        if grant.denies:
            return Right(False, grant, denied=True)
    for grant in fitting:
        if grant.to == "everyone" and bucket.sealed and store.seal == "beats-grants":
            barred = barred or grant
            continue
        return Right(True, grant)
    return Right(False, barred, barred is not None)


def is_on(grant: Grant, named: str) -> bool:
    """Whether a grant is on an object or the bucket itself; without saying on what, it is on all of them."""
    return not grant.on or any(fits_object(each, named) for each in grant.on)


def fits_object(typed: str, named: str) -> bool:
    """Whether what a grant is on, as typed, takes in an object or the bucket itself."""
    return typed == named or matches(typed, named)
