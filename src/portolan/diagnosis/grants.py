"""Faults of object stores: who may read which objects of a bucket."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.edge_base import (
    bucket_asked,
    edge_of,
    origin_place,
    origin_put,
    stated,
    store_at,
)
from portolan.diagnosis.exposure_edge import for_edges, looks_secret
from portolan.diagnosis.proposal import Patch, Proposal, append, in_order, item_path, put, remedy, remove
from portolan.estate.edge import EdgeService
from portolan.estate.store import Bucket, Grant, Store
from portolan.evidence.kinds import store as store_kinds
from portolan.source.nearest import nearest
from portolan.store.buckets import fits_object, is_on


class BucketClue(msgspec.Struct, frozen=True):
    """The store and bucket, the key that is asked for, and the edge that asks, if one does."""

    store: Store
    bucket: Bucket
    key: str
    edge: EdgeService | None
    pages: bool


class GrantClue(msgspec.Struct, frozen=True):
    """The same, with the grant that does not fit, and what of it is meant."""

    of: BucketClue
    grant: Grant
    #: What it should be on, or for which edge.
    on: tuple[str, ...] | None = None
    edge: str | None = None


def clue_of(case: Case) -> BucketClue | None:
    found = bucket_asked(case)
    if found is None:
        return None
    door, bucket = found
    stop = case.stop
    key = str(getattr(stop, "key", "")) if stop is not None else ""
    given = case.decision(store_kinds.StoreIndex)
    if not key and given is not None:
        key = given.key
    if not key:
        key = case.exchange.url.path.lstrip("/")
        if store_at(case.estate, case.exchange.url.host) is not None and case.exchange.url.host == door.at:
            key = key.partition("/")[2]
    return BucketClue(store=door.store, bucket=bucket, key=key, edge=edge_of(case.client), pages=door.way == "pages")


@fault(
    "bucket-sealed",
    "The bucket is sealed against public reading as a whole",
    "403",
    "Where the pages are for everybody, lift the seal first and then grant; where they are for an edge, grant that edge.",
    "sealed",
)
def bucket_sealed(case: Case) -> Finding | None:
    """A grant to everyone stands there, and the seal beats it."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None:
        return None
    return Finding("bucket-sealed", stop.text, stop.place, clue=clue)


@fault(
    "edge-unsigned",
    "The edge that is granted reading does not sign its requests, so that the store does not know who asks",
    "403",
    "Let the edge sign its requests, and ask the store's address that serves objects: nobody is known where pages are served.",
    "not-readable",
    "list-denied",
)
def edge_unsigned(case: Case) -> Finding | None:
    """A grant names the edge that asks, and nothing says that it is the edge."""
    clue, stop = clue_of(case), case.stop
    if clue is None or clue.edge is None or stop is None or clue.edge.asks.signs:
        return None
    named = f"{clue.bucket.name}/{clue.key}"
    if not any(_allows_edge(each, clue.edge, named) for each in clue.bucket.grants):
        return None
    text = f"{clue.edge.label} may read {named}, and does not sign its requests: {stop.text}"
    return Finding("edge-unsigned", text, origin_place(clue.edge, "signs"), clue=clue)


@remedy("edge-unsigned")
def sign(case: Case, clue: BucketClue) -> Iterator[Proposal]:
    """Signs, where askers are known."""
    if clue.edge is not None:
        yield from _to_edge(case, clue, clue.edge)


@fault(
    "bucket-grant-scope",
    "A grant stands there, for another bucket, other objects or another edge",
    "403",
    "Write the bucket's own name into the grant, with /* behind it for its objects, and the edge that asks.",
    "not-readable",
    "list-denied",
)
def grant_scope(case: Case) -> Finding | None:
    """A grant that fits but for one thing that was typed."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None:
        return None
    what = "list" if isinstance(stop, store_kinds.ListDenied) else "read"
    for grant in clue.bucket.grants:
        found = _misses_by(clue, grant, what)
        if found is not None:
            text, meant = found
            place = grant.place.key("on" if meant.on is not None else "to_edge")
            return Finding("bucket-grant-scope", f"{stop.text}: {text}", place, clue=meant)
    return None


def _misses_by(of: BucketClue, grant: Grant, what: str) -> tuple[str, GrantClue] | None:
    """By what a grant misses what is asked, and what is meant by it."""
    if what not in grant.may:
        return None
    bucket, edge = of.bucket, of.edge
    named = f"{bucket.name}/{of.key}" if what == "read" else bucket.name
    fits_on = is_on(grant, named)
    whom = grant.to == "everyone" or (edge is not None and edge.asks.signs and grant.to_edge == edge.name)
    if fits_on and not whom:
        if edge is not None and grant.to_edge is not None and grant.to_edge != edge.name:
            text = f"the grant names the edge {grant.to_edge}, and {edge.label} asks"
            return text, GrantClue(of=of, grant=grant, edge=edge.name)
        return None
    if fits_on or not (whom or (edge is not None and grant.to_edge in (edge.name, None) and grant.to is None)):
        return None
    meant = _meant(bucket, grant, of.key, what)
    if meant is None:
        return None
    typed = ", ".join(grant.on)
    why = "no object of it" if bucket.name in grant.on and what == "read" else f"not {named}"
    text = f"the grant is on '{typed}', which is {why}"
    return text, GrantClue(of=of, grant=grant, on=meant)


def _meant(bucket: Bucket, grant: Grant, key: str, what: str) -> tuple[str, ...] | None:
    """What a grant is meant to be on: the same pattern of this bucket, or its objects behind its name."""
    if what == "list":
        return (*grant.on, bucket.name)
    named = f"{bucket.name}/{key}"
    found: list[str] = []
    for each in grant.on:
        name, slash, pattern = each.partition("/")
        if name == bucket.name and not slash:
            found.append(f"{bucket.name}/*")
        elif name != bucket.name:
            found.append(f"{bucket.name}/{pattern if slash and pattern else '*'}")
        else:
            found.append(each)
    if any(fits_object(each, named) for each in found):
        return tuple(dict.fromkeys(found))
    # The right bucket, and other objects of it: those under the same folder, or of the same name in other letters.
    near = nearest(named.rpartition("/")[0] + "/*", set(grant.on))
    if near is not None or any(each.lower().startswith(bucket.name.lower() + "/") for each in grant.on):
        return (*grant.on, named)
    return None


@fault(
    "bucket-grant-missing",
    "No grant lets whoever asks read the object",
    "403",
    "Grant reading to the edge that asks, or to everyone where the pages are for everybody.",
    "not-readable",
    "list-denied",
)
def grant_missing(case: Case) -> Finding | None:
    """Nobody but the owner may read it."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None:
        return None
    if isinstance(stop, store_kinds.ListDenied) and clue.edge is not None and case.visit.exchanges[-1].url.path == "/":
        return None
    return Finding("bucket-grant-missing", stop.text, clue.bucket.place.key("grants"), clue=clue)


@remedy("bucket-grant-scope")
def correct_grant(_case: Case, clue: GrantClue) -> Iterator[Proposal]:
    """Writes what is meant."""
    place, bucket = clue.grant.place, clue.of.bucket
    edge = clue.of.edge
    if clue.edge is not None and edge is not None:
        yield Proposal(f"let the grant of {bucket.name} name the edge {clue.edge}", put(place, "to_edge", clue.edge))
    if clue.on is not None:
        on = list(clue.on)
        fix = (f"let the grant of {bucket.name} be on {', '.join(on)}", put(place, "on", on))
        yield in_order(*_unsealed_first(clue.of, clue.grant.to == "everyone"), fix)


@fault(
    "bucket-grant-denies",
    "A grant forbids reading: that counts before every grant that allows it",
    "403",
    "Narrow the grant that forbids, or take it away; a second one that allows changes nothing.",
    "grant-denies",
)
def grant_denies(case: Case) -> Finding | None:
    """Somebody forbade it."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None:
        return None
    barring = next((each for each in clue.bucket.grants if each.place is stop.place), None)
    if barring is None:
        return None
    return Finding("bucket-grant-denies", stop.text, stop.place, clue=GrantClue(of=clue, grant=barring))


@remedy("bucket-grant-denies")
def forbid_no_more(_case: Case, clue: GrantClue) -> Iterator[Proposal]:
    """Takes away what forbids."""
    bucket = clue.of.bucket
    path = item_path(bucket.place, "grants", bucket.grants.index(clue.grant))
    yield Proposal(f"take the grant away that forbids reading {', '.join(clue.grant.on) or bucket.name}", remove(path))


@remedy("bucket-sealed", "bucket-grant-missing")
def grant(case: Case, clue: BucketClue) -> Iterator[Proposal]:
    """The edge that asks, and everyone, on as few objects as do; a private bucket is never opened to everyone."""
    bucket, edge = clue.bucket, clue.edge
    public = bucket.web and not for_edges(case.world.stated, clue.store, bucket)
    if edge is not None and not public:
        yield from _to_edge(case, clue, edge)
    if "private" not in bucket.marks:
        yield from _to_everyone(case, clue)
    if edge is not None and public:
        yield from _to_edge(case, clue, edge)


def _to_everyone(case: Case, clue: BucketClue) -> Iterator[Proposal]:
    """Lifts the seal where a grant is there; else grants, on as little as does."""
    bucket, barred = clue.bucket, case.stop
    if isinstance(barred, store_kinds.Sealed):
        yield Proposal(f"lift the seal of the bucket {bucket.name}", put(bucket.place, "sealed", False))
        return
    what = "list" if isinstance(barred, store_kinds.ListDenied) else "read"
    for on in _smallest(clue, what):
        given = {"to": "everyone", **({"may": ["list"]} if what == "list" else {}), "on": [on]}
        yield in_order(
            *_unsealed_first(clue, True), (f"let everyone {what} {on}", append(bucket.place, "grants", given))
        )


def _unsealed_first(clue: BucketClue, everyone: bool) -> tuple[tuple[str, Patch], ...]:
    """A sealed bucket refuses to save a grant to everyone: the seal is lifted first."""
    if not everyone or not clue.bucket.sealed:
        return ()
    return ((f"lift the seal of the bucket {clue.bucket.name}", put(clue.bucket.place, "sealed", False)),)


def _smallest(clue: BucketClue, what: str) -> list[str]:
    """What a grant may be on: the object, its folder, the whole bucket; a site is all of its bucket."""
    name, key = clue.bucket.name, clue.key
    if what == "list":
        return [name]
    folder = key.rpartition("/")[0]
    objects = clue.bucket.objects
    there = objects is None or any(fits_object(f"{name}/{each}", f"{name}/{key}") for each in objects)
    # On an object that is not there nobody grants anything.
    found = [f"{name}/{key}"] if there else []
    found += [*([f"{name}/{folder}/*"] if folder else []), f"{name}/*"]
    return list(dict.fromkeys(found[::-1] if clue.bucket.web and not looks_secret(key) else found))


def _to_edge(case: Case, clue: BucketClue, edge: EdgeService) -> Iterator[Proposal]:
    """Lets the edge read: it signs, asks where askers are known, and the grant names it."""
    own, store, bucket = stated(case, edge), clue.store, clue.bucket
    if store.objects_at is None or own.program is not None:
        # Who signs nothing is known nowhere.
        return
    parts: list[tuple[str, Patch]] = []
    named = f"{bucket.name}/{clue.key}"
    if not any(_allows_edge(each, edge, named) for each in bucket.grants):
        given = {"to_edge": edge.name, "on": [f"{bucket.name}/*"]}
        parts.append((f"let the edge {edge.name} alone read {bucket.name}/*", append(bucket.place, "grants", given)))
    facts: dict[str, object] = {}
    words: list[str] = []
    if clue.pages:
        facts["at"] = f"{bucket.name}.{store.objects_at}"
        words.append(f"ask {facts['at']}")
        if not own.asks.secure:
            facts["leg"] = "verified"
    if not own.asks.signs:
        facts["signs"] = True
        words.append("sign its requests")
    if facts:
        parts.append((f"let {edge.label} {' and '.join(words)}", origin_put(own, **facts)))
    if case.visit.exchanges[-1].url.path == "/" and own.index_file is None:
        text = f"let {edge.label} ask for {bucket.index_file} where / is asked"
        parts.append((text, put(own.place, "index_file", bucket.index_file)))
    if parts:
        yield in_order(*parts)


def _allows_edge(grant: Grant, edge: EdgeService, named: str) -> bool:
    """Whether a grant lets an edge read an object."""
    return grant.to_edge == edge.name and "read" in grant.may and is_on(grant, named)
