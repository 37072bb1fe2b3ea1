"""Faults of object stores: which bucket is asked, what lies in it, where it sends."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, also, fault, warned
from portolan.diagnosis.edge_base import (
    door_asked,
    edge_of,
    onward,
    origin_place,
    origin_put,
    own_names,
    stated,
)
from portolan.diagnosis.grants import BucketClue, clue_of
from portolan.diagnosis.proposal import Patch, Proposal, append, item_path, put, remedy, remove, replace
from portolan.estate.client import EdgeClient
from portolan.estate.edge import EdgeService
from portolan.estate.guesses import every_origin
from portolan.estate.names import is_exact
from portolan.estate.site import Site
from portolan.estate.store import Bucket, Store, StoreDoor
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import store as store_kinds
from portolan.source.nearest import nearest
from portolan.source.place import pointer


class NameClue(msgspec.Struct, frozen=True):
    """A bucket that is asked for and is not there, one that may be meant, and the edge that asks."""

    store: Store
    name: str
    near: str | None
    edge: EdgeService | None


class KeyClue(msgspec.Struct, frozen=True):
    """What is asked for, what lies there under nearly that key, and by which setting it is asked for."""

    of: BucketClue
    near: str | None
    #: `index_file`, `error_document`, or nothing.
    setting: str = ""


#: The index file of most websites.
_USUAL = "index.html"


class TargetClue(msgspec.Struct, frozen=True):
    """A bucket that sends everything elsewhere, and what may be meant."""

    bucket: Bucket
    others: tuple[str, ...]


# -- which bucket, and whether it serves pages --


@fault(
    "bucket-web-off",
    "Serving pages is not switched on for the bucket",
    "404",
    "Switch it on, with an index file; or ask the bucket's objects' address, by whoever may read them.",
    "web-off",
)
def web_off(case: Case) -> Finding | None:
    """The pages' address knows the bucket, and gives nothing."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None:
        return None
    return Finding("bucket-web-off", stop.text, clue.bucket.place.key("web"), clue=clue)


@remedy("bucket-web-off")
def switch_on(_case: Case, clue: BucketClue) -> Iterator[Proposal]:
    """Switches it on."""
    yield Proposal(f"switch on serving pages for the bucket {clue.bucket.name}", put(clue.bucket.place, "web", True))


@fault(
    "bucket-name-differs",
    "The bucket's name is not the host name that is asked for",
    "404, or a stranger's page",
    "A bucket that serves a name by itself has that name, letter by letter; through an edge, its own name is asked for.",
    "bucket-missing",
    "bucket-spelled",
    "wrong-page",
)
def name_differs(case: Case) -> Finding | None:
    """The name that the store is asked for names no bucket of ours."""
    door, stop = door_asked(case.exchange), case.stop
    if door is None:
        return None
    theirs = case.decision(store_kinds.StrangersBucket)
    if stop is None and theirs is None:
        return None
    name = theirs.bucket if theirs is not None else str(getattr(stop, "bucket", getattr(stop, "said", "")))
    near = _meant_bucket(case, door.store, name)
    told = theirs.text if theirs is not None else stop.text if stop is not None else ""
    text = told + (f"; there is a bucket {near}" if near is not None else "")
    clue = NameClue(store=door.store, name=name, near=near, edge=edge_of(case.client))
    place = origin_place(clue.edge) if clue.edge is not None else door.store.place
    bucket = door.store.buckets.get(near or "")
    return Finding(
        "bucket-name-differs", text, bucket.place if bucket is not None and clue.edge is None else place, clue=clue
    )


def _meant_bucket(case: Case, store: Store, name: str) -> str | None:
    """The bucket that may be meant: spelled nearly so, expected, or sharing most words with the name."""
    if case.site_name in store.buckets:
        return case.site_name
    near = nearest(name, set(store.buckets))
    words = set(name.replace(".", "-").split("-"))
    shared = sorted(
        store.buckets.values(),
        key=lambda each: (-len(words & set(each.name.replace(".", "-").split("-"))), not each.web),
    )
    return near or (shared[0].name if shared else None)


@remedy("bucket-name-differs")
def name_bucket(case: Case, clue: NameClue) -> Iterator[Proposal]:
    """Asks for the bucket that there is; or makes it anew under the name that is asked for."""
    store, edge, near = clue.store, clue.edge, clue.near
    if edge is not None and near is not None:
        own = stated(case, edge)
        if own.asks.host not in (None, "own"):
            yield Proposal(f"let {edge.label} send its origin's own host name", origin_put(own, host="own"))
        for at in (store.pages_at, store.objects_at):
            if at is not None and (own.asks.at or "").endswith(at):
                yield Proposal(f"let {edge.label} ask {near}.{at}", origin_put(own, at=f"{near}.{at}"))
    taken = clue.name in store.strangers or clue.name in store.buckets
    if edge is None and near is not None and not taken and clue.name == clue.name.lower().rstrip("."):
        source, target = (*store.place.path, "buckets", near), (*store.place.path, "buckets", clue.name)
        patch: Patch = [{"op": "move", "from": pointer(source), "path": pointer(target)}]
        anew = f"make the bucket {near} anew under the name {clue.name}, with all that is in it"
        # Its pages are known by its name: where they are expected by the one that it has now, only words can say it.
        expected = case.site_name == near
        yield Proposal(f"{anew}; its pages are then {clue.name}/..." if expected else anew, [] if expected else patch)
    yield Proposal("or put an edge in front, which may ask for a bucket of any name", [])


@fault(
    "bucket-plain-only",
    "A secure address is asked of the pages' address, which speaks no TLS",
    "refused, or a time-out",
    "Put an edge with a certificate in front, and point the name at the edge.",
    "nothing-listens",
    "plain-spoken",
)
def plain_only(case: Case) -> Finding | None:
    """Nothing listens for TLS there, and nothing can."""
    stop, connection = case.stop, case.exchange.connection
    if isinstance(case.client, EdgeClient) or connection is None or not case.exchange.url.secure or stop is None:
        return None
    if not isinstance(stop, connect_kinds.NothingListens) or connection.reached is None:
        return None
    door = next((each for each in connection.reached.services.values() if isinstance(each, StoreDoor)), None)
    if door is None or door.way != "pages":
        return None
    text = f"{case.host} leads to the pages of {door.store.name}, which are served without encryption only"
    return Finding("bucket-plain-only", text, door.store.place.key("pages_at"), clue=door.store.name)


@remedy("bucket-plain-only")
def edge_in_front(case: Case, clue: str) -> Iterator[Proposal]:
    """An edge that knows the name, where there is one; else one has to be made."""
    for edge in case.world.stated.edges.values():
        if edge.canonical is not None and any(str(each) == case.host for each in edge.names):
            yield Proposal(f"point {case.host} at {edge.canonical}, the edge {edge.name}, instead of at {clue}", [])
            return
    yield Proposal(f"put an edge with a certificate for {case.host} in front of {clue}, and point the name at it", [])


@also("cert-name", "name-mismatch")
def dotted_name(case: Case) -> Finding | None:
    """The store's certificate covers one label before its name, and the bucket's has several."""
    door, stop = door_asked(case.exchange), case.stop
    label = case.exchange.url.host.removesuffix(f".{door.at}") if door is not None else ""
    if door is None or stop is None or "." not in label:
        return None
    text = f"the certificate of {door.store.name} covers one label before {door.at}, and the bucket {label} has dots in its name"
    clue = NameClue(store=door.store, name=label, near=None, edge=edge_of(case.client))
    return Finding("cert-name", text, door.store.place, clue=clue)


@remedy("cert-name")
def ask_by_path(case: Case, clue: NameClue) -> Iterator[Proposal]:
    """By the first part of the path its own name is asked, which the certificate covers."""
    at, edge = clue.store.objects_at, clue.edge
    if at is not None and edge is not None and "path" in clue.store.objects_by:
        own = stated(case, edge)
        text = f"let {edge.label} ask {at}, with /{clue.name} in front of every path"
        yield Proposal(text, origin_put(own, at=str(at), prefix=f"/{clue.name}{own.asks.prefix}"))
    elif at is not None and "path" in clue.store.objects_by:
        yield Proposal(f"ask https://{at}/{clue.name}/ instead, or put an edge in front", [])


# -- what lies in it --


@fault(
    "bucket-index-missing",
    "The bucket's index file is not in it, or under other letters, or one folder too deep",
    "403 or 404",
    "Put it there under exactly that key, or name the document that there is.",
    "key-hidden",
    "key-missing",
)
def default_missing(case: Case) -> Finding | None:
    """The path ends in a slash, and no document lies behind it."""
    clue, stop, step = clue_of(case), case.stop, case.decision(store_kinds.StoreIndex)
    if clue is None or stop is None or step is None:
        return None
    near = _index_meant(clue) or _near(clue)
    text = stop.text + (f"; there is {near}" if near is not None else "")
    place = clue.bucket.place.key("index_file")
    return Finding("bucket-index-missing", text, place, clue=KeyClue(of=clue, near=near, setting="index_file"))


@also("content-missing", "key-hidden", "key-missing")
def object_missing(case: Case) -> Finding | None:
    """No object lies under the key; one may under nearly that key."""
    clue, stop = clue_of(case), case.stop
    if clue is None or stop is None or case.decision(store_kinds.StoreIndex) is not None:
        return None
    near = _near(clue)
    text = stop.text + (f"; there is {near}" if near is not None else "")
    return Finding("content-missing", text, stop.place, clue=KeyClue(of=clue, near=near))


def _index_meant(clue: BucketClue) -> str | None:
    """The usual index file, where the bucket is told another that it does not hold, and holds that one."""
    folder = clue.key.rpartition("/")[0]
    usual = f"{folder}/{_USUAL}" if folder else _USUAL
    return usual if clue.key != usual and usual in (clue.bucket.objects or ()) else None


def _near(clue: BucketClue) -> str | None:
    """A key that is spelled nearly so: other letters, another folder."""
    keys = [each for each in clue.bucket.objects or () if "*" not in each]
    same = [each for each in keys if each.lower() == clue.key.lower()]
    deeper = [each for each in keys if each.endswith("/" + clue.key)]
    found = same or deeper
    return found[0] if found else nearest(clue.key, set(keys))


warned(
    "bucket-error-missing",
    "The bucket's error document is not in it, or may not be read",
    "a plain error",
    "Put it there, under exactly that key, and let everyone read it.",
    __name__,
)


@remedy("bucket-index-missing", "content-missing")
def put_object(_case: Case, clue: KeyClue) -> Iterator[Proposal]:
    """Names what there is; uploads what is missing; uploads the folder's content and not the folder."""
    bucket, key, near = clue.of.bucket, clue.of.key, clue.near
    place = bucket.place
    if bucket.uploaded_under and near == bucket.uploaded_under + key:
        text = f"upload the content of {bucket.uploaded_under} to {bucket.name}, and not the folder"
        yield Proposal(text, remove((*place.path, "uploaded_under")))
    folders = [each.rpartition("/")[0] for each in (near or "", key)]
    if clue.setting and near is not None and folders[0] == folders[1]:
        document = near.rpartition("/")[2]
        yield Proposal(f"let the bucket {bucket.name} give {document}", put(place, clue.setting, document))
    if place.has("objects"):
        if near is not None and near in (bucket.objects or ()):
            at = (bucket.objects or ()).index(near)
            yield Proposal(f"upload {near} again as {key}", replace(item_path(place, "objects", at), key))
        yield Proposal(f"upload {key} to the bucket {bucket.name}", append(place, "objects", key))
    else:
        yield Proposal(f"upload {key} to the bucket {bucket.name}", [])


@remedy("bucket-error-missing")
def put_document(_case: Case, _clue: object) -> Iterator[Proposal]:
    """Only an upload helps."""
    yield Proposal("upload the error document under exactly that key", [])


# -- where it sends --


@fault(
    "bucket-redirect-target",
    "The bucket sends everything to the wrong name or scheme",
    "the error that is met there",
    "Write the name and the scheme under which the pages are, or take the redirect away.",
    "*",
    "wrong-page",
    "not-secure",
    "wrong-final",
)
def redirect_target(case: Case) -> Finding | None:
    """Sent otherwise, or not at all, the visitor gets further."""
    steps = [each for each in case.visit.decisions if isinstance(each, store_kinds.SendsAll)]
    bucket = steps[-1].subject if steps else None
    if not steps or not isinstance(bucket, Bucket) or bucket.sends_all_to is None:
        return None
    others = [each for each in _targets(case, bucket) if _sent(case, bucket, each)]
    if not others and case.symptom in ("loop", "too-many"):
        # Whatever is behind it: what sends back to where it was asked helps nobody.
        others = [""]
    if not others:
        return None
    step = steps[-1]
    end = case.stop.text if case.stop is not None else "that is not what is meant"
    text = f"{step.text}: {end}"
    return Finding("bucket-redirect-target", text, step.place, clue=TargetClue(bucket=bucket, others=tuple(others)))


def _targets(case: Case, bucket: Bucket) -> list[str]:
    """What may be meant: the other scheme, names spelled nearly so, the name that is expected at the end."""
    held = bucket.sends_all_to or ""
    scheme, there, name = held.rpartition("://")
    found = [f"{other}://{name}" for other in ("https", "http") if other != (scheme if there else "")]
    names = {str(each) for edge in case.world.stated.edges.values() for each in edge.names if "*" not in each}
    names |= set(own_names(case.estate))
    found += [f"https://{each}" for each in _served_as(case) if each != name]
    near = nearest(name, names - {name})
    if near is not None:
        found += [f"{scheme}{there}{near}", f"https://{near}"]
    if case.expectation is not None and case.expectation.final is not None:
        found.append("://".join(case.expectation.final.split("/")[0:3:2]).replace(":://", "://"))
    return list(dict.fromkeys(each for each in [*found, ""] if each != held))


def _served_as(case: Case) -> list[str]:
    """The names under which the expected page's bucket or site is published, by an edge or by itself."""
    wanted, found = case.site_name, []
    for edge in every_origin(case.world.stated):
        if wanted and (edge.asks.at or "").startswith(f"{wanted}."):
            found += [str(each) for each in edge.names if "*" not in each]
    for home in all_homes(case.estate):
        if isinstance(home.site, Site) and home.site.name == wanted:
            found += [str(each) for each in home.site.names if is_exact(each)]
    return found


def _sent(case: Case, bucket: Bucket, target: str) -> bool:
    """Whether the visitor gets further with another target, or (an empty one) without."""
    for store in case.estate.stores.values():
        if store.buckets.get(bucket.name) is bucket:
            other = msgspec.structs.replace(bucket, sends_all_to=target or None)
            changed = msgspec.structs.replace(store, buckets={**store.buckets, bucket.name: other})
            return onward(
                case, msgspec.structs.replace(case.estate, stores={**case.estate.stores, store.name: changed})
            )
    return False


@remedy("bucket-redirect-target")
def correct_target(_case: Case, clue: TargetClue) -> Iterator[Proposal]:
    """Writes what is meant; or sends nobody away."""
    bucket = clue.bucket
    for each in clue.others:
        if each:
            yield Proposal(
                f"let the bucket {bucket.name} send everything to {each}", put(bucket.place, "sends_all_to", each)
            )
        else:
            yield Proposal(
                f"let the bucket {bucket.name} send nobody away", remove((*bucket.place.path, "sends_all_to"))
            )
