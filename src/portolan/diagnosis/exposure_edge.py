"""What a change lays open at edges and stores: objects and lists that can newly be read, refusals lifted, legs, plain pages."""

from collections.abc import Iterator

from portolan.diagnosis.edge_base import edge_asked, edge_of
from portolan.diagnosis.gains import Asked, Gain, Grade, Widened, widened
from portolan.estate.base import IPNetwork
from portolan.estate.edge import EdgeService
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, every_origin, whole_edges
from portolan.estate.store import Bucket, Store
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value
from portolan.store.buckets import readable, right

#: Keys that hold secrets, more often than not: keys, dumps, configuration.
SECRET_ENDINGS = (
    ".pem",
    ".key",
    ".p12",
    ".pfx",
    ".jks",
    ".kdbx",
    ".sql",
    ".sql.gz",
    ".dump",
    ".bak",
    ".env",
    ".tfstate",
    ".sqlite",
    ".db",
    ".htpasswd",
    ".pgpass",
    ".npmrc",
    ".netrc",
)
_SECRET_NAMES = (
    "id_rsa",
    "id_ed25519",
    "id_ecdsa",
    "credentials",
    "secrets",
    "passwd",
    "shadow",
    "wp-config",
    ".git/",
    ".env",
)
#: So many objects are named.
_MOST_NAMED = 3
#: A key that stands for all those of which nothing is known.
_ANY = "(any other object)"
#: Whom an edge lets in that has no filter any more.
_ANYBODY = Widened(frozenset(), frozenset(), True)


def looks_secret(key: str) -> bool:
    """Whether a key looks like something that is for nobody's eyes."""
    name = key.lower()
    last = name.rpartition("/")[2]
    return (
        name.endswith(SECRET_ENDINGS)
        or any(last.startswith(each.rstrip("/")) for each in _SECRET_NAMES if not each.endswith("/"))
        or any(f"/{each}" in f"/{name}" for each in _SECRET_NAMES if each.endswith("/"))
    )


def readable_keys(store: Store, bucket: Bucket, who: str) -> frozenset[str]:
    """The keys that somebody may read (nobody in particular, or an edge), of those that are known; one more stands for all others."""
    keys = [each for each in bucket.objects or () if "*" not in each]
    keys += [each.replace("*", "any") for each in bucket.objects or () if "*" in each]
    keys.append(_ANY)
    return frozenset(readable(store, bucket, keys, who))


def bucket_gains(before: Estate, after: Estate, asked: Asked, seen: Visit) -> Iterator[Gain]:
    """Objects and lists of buckets that can newly be read, and seals that are lifted."""
    last = seen.outcome.page
    expected = {each.page for each in after.expected if each.page is not None} | ({last} if last is not None else set())
    for name, store in after.stores.items():
        old = before.stores.get(name)
        for label, bucket in store.buckets.items():
            was = old.buckets.get(label) if old is not None else None
            if was is bucket or was is None or old is None:
                continue
            wanted = frozenset(page.partition("/")[2] for page in expected if page.partition("/")[0] == label)
            meant = _Meant(wanted, for_edges(before, old, was), _fronted_by(after, store, bucket))
            closed = "closed" in bucket.marks or (asked.closed and last is not None and last.partition("/")[0] == label)
            for gain in _one_bucket(old, was, store, bucket, meant):
                yield gain.but(closed=closed)
            if was.sealed and not bucket.sealed:
                grade: Grade = "more"
                if wanted and not meant.private:
                    # Pages that are granted to everyone are meant for everyone.
                    public = bucket.web and any(each.to == "everyone" for each in bucket.grants)
                    grade = "needed" if public else "beside"
                text = f"the bucket {label} is no longer sealed against public reading"
                yield Gain("lifted", ("seal", name, label), text, grade, closed)


class _Meant(Value, frozen=True):
    """What a bucket is for: the keys that are expected of it, whether it is for edges alone, and the edges that ask it."""

    wanted: frozenset[str]
    private: bool
    edges: frozenset[str]


def for_edges(estate: Estate, store: Store, bucket: Bucket) -> bool:
    """Whether a bucket is meant for edges alone: what asks it signs, or its every grant is to an edge, and no grant is to everyone."""
    if "private" in bucket.marks:
        return True
    if any(each.to == "everyone" for each in bucket.grants):
        return False
    signing = any(edge.asks.signs for edge in every_origin(estate) if edge.name in _fronted_by(estate, store, bucket))
    return signing or any(each.to_edge for each in bucket.grants)


def _fronted_by(estate: Estate, store: Store, bucket: Bucket) -> frozenset[str]:
    """The edges whose origin is this bucket."""
    names = {f"{bucket.name}.{at}" for at in (store.pages_at, store.objects_at) if at is not None}
    paths = {f"{at}/{bucket.name}" for at in (store.pages_at, store.objects_at) if at is not None}
    return frozenset(
        edge.name
        for edge in every_origin(estate)
        if (edge.asks.at or "").rpartition("://")[2].partition("/")[0] in names
        or f"{edge.asks.at}{edge.asks.prefix}".rstrip("/") in paths
    )


def _one_bucket(old: Store, was: Bucket, store: Store, bucket: Bucket, meant: _Meant) -> Iterator[Gain]:
    label = bucket.name
    public = readable_keys(store, bucket, "")
    for who in ("", *sorted({each.to_edge for each in bucket.grants if each.to_edge})):
        newly = readable_keys(store, bucket, who) - readable_keys(old, was, who)
        if who:
            # What everyone may read is told once.
            newly -= public
        whom = f"the edge {who}" if who else "everybody"
        for key in sorted(newly):
            text = f"{whom} can read {_shown(f'{label}/{key}')}"
            yield Gain("readable", ("object", whom, store.name, label, key), text, _grade(key, who, bucket, meant))
        if right(store, bucket, "list", None, who).allowed and not right(old, was, "list", None, who).allowed:
            text = f"{whom} can read the list of the bucket {label}"
            yield Gain("readable", ("list", whom, store.name, label), text, "more")


def _grade(key: str, who: str, bucket: Bucket, meant: _Meant) -> Grade:
    """How much of a bucket somebody needs: a site's whole bucket is no excess, nor the bucket of one's own edge."""
    if looks_secret(key) and key not in meant.wanted:
        return "more" if not who else "beside"
    if who:
        return "needed" if who in meant.edges else "more"
    if meant.private:
        return "more"
    return "needed" if key in meant.wanted or (bucket.web and meant.wanted) else "beside"


def _shown(page: str) -> str:
    bucket, _, key = page.partition("/")
    return f"any other object of {bucket}" if key == _ANY else page


def objects_told(gains: tuple[Gain, ...]) -> dict[tuple[str, ...], str]:
    """By gain: one sentence for all objects of a bucket that somebody can newly read."""
    held: dict[tuple[str, ...], list[Gain]] = {}
    for gain in gains:
        if gain.key[0] == "object":
            held.setdefault(gain.key[1:4], []).append(gain)
    found: dict[tuple[str, ...], str] = {}
    for (whom, _, label), each in held.items():
        named = [gain.key[4] for gain in each if gain.key[4] != _ANY]
        more = [f"{len(named) - _MOST_NAMED} more"] if len(named) > _MOST_NAMED else []
        rest = ["all else"] if len(named) < len(each) else []
        words = [*named[:_MOST_NAMED], *more, *rest]
        listed = ", ".join(words[:-1]) + f" and {words[-1]}" if len(words) > 1 else words[0]
        found |= {gain.key: f"in the bucket {label} {whom} can read {listed}" for gain in each}
    return found


def edge_gains(before: World, after: World, asked: Asked, seen: Visit) -> Iterator[Gain]:
    """Edges that serve plainly what they did not, that no longer check or encrypt, that let more in."""
    old = {each.place.path: each for each in whole_edges(before.stated)}
    for edge in whole_edges(after.stated):
        was = old.get(edge.place.path)
        if was is None or was is edge:
            continue
        closed = "closed" in was.marks or asked.closed
        for gain in (*_one_edge(was, edge, asked, seen), *_methods(was, edge, seen)):
            yield gain.but(closed=closed and gain.kind in ("readable", "lifted"))
        for held, now in _same_part(was, edge, "origin"):
            yield from _leg(held, now, after, asked.marks)


def _same_part(was: EdgeService, edge: EdgeService, key: str) -> Iterator[tuple[EdgeService, EdgeService]]:
    """An edge as it was and as it is, for each of its parts that says something of a key, and for all other paths."""
    old = {each.place.path: each for each in was.parts}
    return ((old[now.place.path], now) for now in edge.stating(key) if now.place.path in old)


def _one_edge(was: EdgeService, edge: EdgeService, asked: Asked, seen: Visit) -> Iterator[Gain]:
    key = tuple(map(str, edge.place.path))
    label = edge.label
    if edge.plain == "serve" and was.plain != "serve":
        yield Gain("unencrypted", ("plain", *key), f"{label} newly serves what is asked without encryption", "more")
    met = _met_edge(seen)
    if was.access is not None and edge.access is not was.access:
        wider = widened(was.access, edge.access) if edge.access is not None else _ANYBODY
        own = {item.ip for _, held in attachments(asked.vantage) for item in held}
        for each in sorted(wider.ranges, key=str):
            grade: Grade = "needed" if each.num_addresses == 1 and met and each.network_address in own else "more"
            yield Gain(
                "readable", ("filter", *key, str(each)), f"whoever comes from {each} is let in by {label}", grade
            )
        for each in sorted(wider.kept_out, key=str):
            yield Gain("lifted", ("filter", *key, str(each)), f"{label} no longer keeps {each} out", "more")
        if wider.everybody:
            yield Gain("readable", ("filter", *key), f"{label} lets everybody in", "more")


def _methods(was: EdgeService, edge: EdgeService, seen: Visit) -> Iterator[Gain]:
    """Methods that an edge newly takes."""
    grade: Grade = "needed" if _met_edge(seen) else "more"
    for held, now in _same_part(was, edge, "methods"):
        if held.methods and set(now.methods) - set(held.methods):
            named = ", ".join(sorted(set(now.methods) - set(held.methods)))
            key = ("methods", *map(str, now.place.path))
            yield Gain("lifted", key, f"{now.label} newly passes {named} on", grade)


def _met_edge(seen: Visit) -> bool:
    return any(edge_asked(each) is not None for each in seen.exchanges)


def edge_ranges(seen: Visit) -> frozenset[IPNetwork]:
    """The ranges from which the edges of a visit ask their origins: who is let in for them."""
    edges = (edge_of(each.client) for each in seen.tree)
    return frozenset(each for edge in edges if edge is not None for each in edge.asks_from)


_STRENGTH = {"plain": 0, "encrypted": 1, "verified": 2}


def _leg(was: EdgeService, edge: EdgeService, after: World, marks: frozenset[str]) -> Iterator[Gain]:
    """A leg from an edge to its origin that is told to be no longer encrypted, or verified, whether anybody asked it or not."""
    held, now = _STRENGTH[was.asks.leg or "plain"], _STRENGTH[edge.asks.leg or "plain"]
    key, label = ("leg", *map(str, edge.place.path)), edge.label
    if now == 0 < held and _speaks_plain_only(after, edge) and not marks & {"takes-payments", "private"}:
        # No store speaks TLS where it serves pages: there nothing was ever encrypted, and it is nobody's here to change.
        yield Gain("unencrypted", key, f"{label} asks its origin without encryption", "beside")
    elif now == 0 < held:
        yield Gain("unencrypted", key, f"{label} no longer asks its origin encrypted", "more")
    elif now < held:
        yield Gain("unverified", key, f"{label} no longer checks whom it asks", "more")
    for root in sorted(set(edge.asks.trusts) - set(was.asks.trusts)):
        text = f"{label} newly trusts whatever {root} issues"
        yield Gain("trusted", ("trust", *map(str, edge.place.path), root), text, "needed")


def _speaks_plain_only(world: World, edge: EdgeService) -> bool:
    """Whether an edge's origin is a store's address that serves pages, without TLS."""
    name = (edge.asks.at or "").rpartition("://")[2].partition("/")[0]
    return any(
        store.pages_at is not None and not store.pages_tls and f".{name}".endswith(f".{store.pages_at}")
        for store in world.estate.stores.values()
    )
