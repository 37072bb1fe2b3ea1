"""Rules of edges and stores, broken on purpose."""

from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Any
from unittest.mock import patch

from portolan.edge import cache, names, origin, respond
from portolan.evidence.kinds.store import KeyMissing
from portolan.journey import at_edge, exchange, furnish, nginx_edge
from portolan.programs import edges as ways
from portolan.store import buckets
from portolan.store import respond as store

_real_from = at_edge._asks_from
_real_right, _real_key, _real_said, _real_shown = (
    buckets.right,
    cache.key_of,
    origin.said_to_origin,
    names.shown_by_edge,
)


def _unsealed(at: Any, bucket: Any, what: str, key: Any, who: str) -> Any:
    import msgspec

    return _real_right(at, msgspec.structs.replace(bucket, sealed=False), what, key, who)


def _unsigned(*asked: Any) -> Any:
    return _real_said(*asked).but(signed_by="")


EDGE_BREAKS: dict[str, Callable[[], AbstractContextManager[Any]]] = {
    "an edge takes every name": lambda: patch.object(names.Names, "told", lambda _, host: host),
    "an edge shows its own certificate for every name": lambda: patch.object(names, "shown_by_edge", lambda told, named, _, *rest: _real_shown(told, named, told.edge.certificate or "ridge", *rest)),
    "an edge's filter comes last": lambda: patch.object(ways, "RENTED", ways.RENTED.but(order=("plain", "method", "filter"))),
    "an edge asks from the first address of its ranges": lambda: patch.object(at_edge, "_asks_from", lambda *asked: _real_from(*asked)[:1]),
    "an edge filters nobody": lambda: patch.dict(respond._STAGES, {"filter": lambda *_: None}),
    "an edge takes every method": lambda: patch.dict(respond._STAGES, {"method": lambda *_: None}),
    "an edge's key has the scheme": lambda: patch.object(cache, "key_of", lambda parts, *rest: _real_key(("scheme", *parts), *rest)),
    "an edge's key is the path alone": lambda: patch.object(cache, "key_of", lambda _, *rest: _real_key(("path",), *rest)),
    "an edge does not obey its origin": lambda: patch.object(cache, "directives", lambda _: {}),
    "an edge holds redirects for ever": lambda: patch.object(cache, "lifetime", lambda *_: 1000),
    "what is over is never given": lambda: patch.object(cache, "_may_be_given_old", lambda *_: False),
    "prefix and path have one slash": lambda: patch.object(origin, "joined", lambda prefix, path, _: prefix.rstrip("/") + path),
    "an edge signs nothing": lambda: patch.object(origin, "said_to_origin", _unsigned),
    "an edge gives no page of its own": lambda: patch.object(respond, "_with_page", lambda _, __, answer: answer),
    "every failure of an origin is 502": lambda: patch.object(ways, "RENTED", ways.RENTED.but(statuses=dict.fromkeys(ways.RENTED.statuses, 502))),
    "a switched edge is as rented ones": lambda: patch.object(ways, "AT_RECORD", ways.RENTED.but(key=("path",), lifetimes={301: 60})),
    "an edge does not see that it asks itself": lambda: patch.object(exchange, "_DEEPEST", 0),
    "only the first range counts": lambda: patch.object(at_edge, "_worse", lambda *_: False),
    "settings are in effect at once": lambda: patch.object(furnish, "_in_effect", lambda *_: True),
    "nginx says the scheme by itself": lambda: patch.object(nginx_edge, "ways_of", lambda edge: ways.ways_of(edge).but(scheme_header="x-forwarded-proto")),
    "a seal does nothing": lambda: patch.object(store, "right", _unsealed),
    "a grant on the bucket is on its objects": lambda: patch.object(buckets, "fits_object", lambda typed, named: named.startswith(typed.rstrip("*"))),
    "what is missing is 404 to everyone": lambda: patch.object(store._Serving, "_absent", lambda self, key: None if self.keys.holds(key) else store._Failure(404, KeyMissing(self.bucket.name, key))),
    "a folder needs its slash": lambda: patch.object(store._Serving, "_slashless", lambda *_: None),
    "a bucket has no redirect rules": lambda: patch.object(store._Serving, "_ruled", lambda *_: None),
    "capital letters do not count": lambda: patch.object(buckets.Keys, "holds", lambda self, key: any(key.lower() == each.lower() for each in self.exact)),
    "the objects' address gives index files": lambda: patch.object(store._Serving, "object", lambda self: self.page()),
}  # fmt: skip
