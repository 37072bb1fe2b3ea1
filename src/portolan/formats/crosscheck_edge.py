"""What no single value of an edge or a store can know: combinations of keys that make no sense.

What is merely configured wrongly is for the engine to answer: a scheme or a path typed into an origin's name is taken.
"""

import re
from collections.abc import Callable

from portolan.estate.base import IPAddress
from portolan.estate.changing import Changing
from portolan.estate.edge import EdgePart, EdgeService, Failures, Held, SwitchedEdge, url_of
from portolan.estate.estate import Estate
from portolan.estate.guesses import whole_edges
from portolan.estate.site import Redirect
from portolan.estate.store import Bucket, Store
from portolan.estate.url import BadUrlError, parse
from portolan.formats.crosscheck_web import parts_of_a_copy, redirects
from portolan.formats.patterns import BUCKET_NAME, CACHE_CONTROL, PART_OF_EDGE, PATH_OF_ORIGIN, SENT_TO, TYPED
from portolan.source.place import Place
from portolan.source.plain import one_line

Note = Callable[..., None]
#: The keys of an edge for which nginx has a way of its own.
NGINX_HAS_ITS_OWN = (
    "counts_age",
    "held_by_others",
    "method_refused_with",
    "order",
    "writes_clear",
    "recognises_itself",
)


def edges_and_stores(estate: Estate, note: Note) -> None:
    """Every edge and store of the estate."""
    for edge in whole_edges(estate):
        _edge(edge, note)
    for edge in estate.edges.values():
        if edge.canonical is None and not edge.addresses:
            note(
                edge.place,
                "an edge needs 'canonical' or 'addresses'",
                "Write for example 'canonical: d1.edges.example'.",
            )
    for zone in estate.zones.values():
        if zone.edge is not None:
            for name in zone.edge.names:
                if not (name == zone.name or name.endswith("." + zone.name)):
                    note(zone.edge.place.key("names"), f"'{one_line(name)}' lies outside the zone {zone.name}")
    for store in estate.stores.values():
        _store(store, note)
    _addresses(estate, note)
    _once(estate, note)


def _addresses(estate: Estate, note: Note) -> None:
    """Every edge, and every address of a store, has addresses of its own."""
    held: dict[IPAddress, str] = {}
    said: list[tuple[Changing, str, tuple[IPAddress, ...], str]] = [
        (each, "addresses", each.addresses, each.label) for each in estate.edges.values()
    ]
    said += [
        (zone.edge, "addresses", zone.edge.addresses, f"the edge of {zone.name}")
        for zone in estate.zones.values()
        if zone.edge is not None
    ]
    for store in estate.stores.values():
        said += [(store, key, getattr(store, key), f"the store {store.name}") for key in _STORE_ADDRESSES]
    for value, key, addresses, label in said:
        for address in addresses:
            if address in held:
                note(
                    value.place.key(key),
                    f"{address} belongs to {one_line(held[address])} already",
                    "Leave the addresses out, and each has some of its own.",
                )
            held.setdefault(address, label)


_STORE_ADDRESSES = ("pages_addresses", "objects_addresses")


def _once(estate: Estate, note: Note) -> None:
    """Canonical names and the names of stores exist once."""
    names: dict[str, str] = {}
    said = [(each, "canonical", each.canonical) for each in estate.edges.values()]
    said += [(each, key, getattr(each, key)) for each in estate.stores.values() for key in ("pages_at", "objects_at")]  # type: ignore[misc]
    for value, key, name in said:
        if name is None:
            continue
        if name in names:
            note(value.place.key(key), f"'{one_line(name)}' is the name of {one_line(names[name])} already")
        names.setdefault(name, value.name)


def _status(place: Place, key: str, status: int | None, note: Note) -> None:
    if status is not None and not 400 <= status <= 599:
        note(place.key(key), f"expected a status, 400 to 599, found {status}")


def _edge(edge: EdgeService, note: Note) -> None:
    place = edge.place
    _status(place, "refuses_with", edge.refuses_with, note)
    for field in Failures.__struct_fields__ if edge.fails_with is not None else ():
        if field != "place":
            assert edge.fails_with is not None
            _status(edge.fails_with.place, field, getattr(edge.fails_with, field), note)
    access = edge.access
    if access is not None and (access.password or access.nobody or access.either):
        note(
            access.place,
            "an edge's filter has 'from', 'not_from' and 'headers'",
            "Passwords are asked for by the origin.",
        )
    if edge.old_for is not None and edge.old_for < 0:
        note(place.key("old_for"), f"expected a number of seconds, found {edge.old_for}")
    if edge.index_file is not None and (not edge.index_file.strip("/") or "?" in edge.index_file):
        note(
            place.key("index_file"),
            f"expected a path such as index.html, found '{one_line(edge.index_file)}'",
        )
    for error, path in edge.error_pages.items():
        if not re.fullmatch(PATH_OF_ORIGIN, path):
            note(place.key("error_pages"), f"expected a path of the origin for {error}, found '{one_line(path)}'")
    for error in edge.error_pages_say:
        if error not in edge.error_pages:
            note(place.key("error_pages_say"), f"'error_pages' has no page for {error}")
    for held in edge.holds:
        _held(held, note)
    for number, text in enumerate(edge.purged):
        if text != "*":
            _address(text, place.item("purged", number), note)
    for each in edge.stating("origin"):
        _origin(each, note)
    _keeps(edge, note)
    for part in edge.by_path:
        _part(edge, part, note)
        _keeps(part, note)
    _order(edge, note)
    _nginx(edge, note)


def _part(edge: EdgeService, part: EdgePart, note: Note) -> None:
    place = part.place.key("path")
    if not re.fullmatch(PART_OF_EDGE, part.path):
        note(place, f"expected a path such as /status or /api/*, found '{one_line(part.path)}'")
    first = next(each for each in edge.by_path if each.path == part.path)
    if first is not part:
        note(place, f"'{one_line(part.path)}' stands in line {first.place.span.line} already", "Keep one of them.")


def _keeps(stated: EdgeService | EdgePart, note: Note) -> None:
    """How long answers are held, and the parts of the key, each once."""
    place = stated.place
    for status, seconds in (stated.keeps or {}).items():
        if seconds < 0:
            note(place.key("keeps"), f"expected a number of seconds for {status}, found {seconds}")
    _no_word_twice(stated, "key", note)
    if "path" in stated.key and "normal-path" in stated.key:
        note(place.key("key"), "'path' and 'normal-path' are two ways to have the path in the key", "Keep one of them.")


def _order(edge: EdgeService, note: Note) -> None:
    """The stages, each once."""
    _no_word_twice(edge, "order", note)
    if edge.order and len(set(edge.order)) < 3:
        note(
            edge.place.key("order"),
            "'order' names all of filter, plain and method",
            "Write for example [filter, plain, method].",
        )


def _no_word_twice(stated: EdgeService | EdgePart, key: str, note: Note) -> None:
    words = getattr(stated, key)
    if len(set(words)) < len(words):
        note(stated.place.key(key), f"'{key}' names one thing twice", "Keep one of them.")


def _nginx(edge: EdgeService, note: Note) -> None:
    """What nginx with its cache cannot be told."""
    if edge.program != "nginx":
        return
    for key in NGINX_HAS_ITS_OWN:
        if edge.place.has(key):
            note(edge.place.key(key), f"nginx has a way of its own there, and no '{key}'", f"Take '{key}' away.")
    if edge.asks_from:
        note(edge.place.key("asks_from"), "nginx asks from its machine's own addresses", "Write 'addresses'.")
    for each in edge.stating("origin"):
        if each.asks.signs:
            note(
                each.asks.place.key("signs"),
                "nginx signs no requests",
                "Let the store's grant be to everyone, or rent an edge.",
            )
    if edge.plain == "refuse":
        note(
            edge.place.key("plain"),
            "nginx refuses plain requests by not listening for them",
            "Write 'listens: [443 tls]'.",
        )
    if edge.error_pages_say:
        note(edge.place.key("error_pages_say"), "nginx's own pages keep their errors' statuses here", "Take it away.")
    if edge.fails_with is not None:
        note(edge.place.key("fails_with"), "nginx has statuses of its own for origins that fail", "Take it away.")


def _origin(edge: EdgeService, note: Note) -> None:
    origin = edge.asks
    recorded = isinstance(edge, SwitchedEdge)
    if origin.at is None and not recorded:
        note(
            edge.place,
            "an edge needs 'origin', with the name that it asks",
            "Write for example 'origin: kestrel-images.pages.depot.example'.",
        )
    if origin.at is not None and not re.fullmatch(TYPED, origin.at):
        note(origin.place, f"expected a name without blanks or a query, found '{one_line(origin.at)}'")
    if origin.port is not None and not 0 < origin.port < 65536:
        note(origin.place.key("port"), f"expected a port, 1 to 65535, found {origin.port}")
    if origin.keeps_ttl and origin.looked_up is None:
        note(origin.place.key("keeps_ttl"), "'keeps_ttl' goes with 'looked_up'", "Write when it took the addresses.")
    if origin.answer_within <= 0:
        note(origin.place.key("answer_within"), f"expected a number of seconds, found {origin.answer_within}")
    if origin.prefix and not re.fullmatch(PATH_OF_ORIGIN, origin.prefix):
        note(origin.place.key("prefix"), f"expected a path such as /site, found '{one_line(origin.prefix)}'")
    if origin.place.has("trusts") and origin.leg != "verified":
        note(
            origin.place.key("trusts"),
            "'trusts' is for a leg that is verified",
            "Write 'leg: verified', or take it away.",
        )


def _held(held: Held, note: Note) -> None:
    _address(held.url, held.place.key("url"), note)
    if held.to is not None and held.page is not None:
        note(held.place.key("to"), "a held answer is a redirect with 'to', or a page with 'page'", "Keep one of them.")
    if held.to is not None and held.status is not None and not 300 <= held.status < 400:
        note(held.place.key("status"), f"'to' goes with a redirect's status, not with {held.status}")
    if held.to is None and held.status is not None and 300 <= held.status < 400:
        note(held.place.key("status"), "a held redirect needs 'to'")
    if held.keeps is not None and held.keeps < 0:
        note(held.place.key("keeps"), f"expected a number of seconds, found {held.keeps}")


def _address(text: str, place: Place, note: Note) -> None:
    try:
        parse(url_of(text))
    except BadUrlError as error:
        note(place, one_line(str(error), 200))


def _store(store: Store, note: Note) -> None:
    if store.pages_at is None and store.objects_at is None:
        note(
            store.place,
            "a store needs 'pages_at' or 'objects_at'",
            "Write for example 'objects_at: objects.depot.example'.",
        )
    for way in ("pages", "objects"):
        if getattr(store, f"{way}_addresses") and getattr(store, f"{way}_at") is None:
            note(store.place.key(f"{way}_addresses"), f"'{way}_addresses' goes with '{way}_at'")
    for name in store.strangers:
        if name in store.buckets:
            note(store.place.key("strangers"), f"the bucket '{one_line(name)}' is here, and no stranger's")
    for bucket in store.buckets.values():
        _bucket(bucket, note)


#: What a bucket's redirects do not know of a site's: keys of the rule, of its condition, and parts of its target.
NOT_AT_BUCKETS = ("query", "written_as")
NOT_IN_CONDITIONS = ("scheme", "host", "not_host", "port", "pattern", "query", "not_query", "header", "not_header")
NOT_IN_TARGETS = ("{port}", "{query}")


def _bucket_redirect(rule: Redirect, note: Note) -> None:
    when = rule.when
    hint = "A bucket's redirects know when: {path, status}, and {scheme}, {host}, {path} and {rest} in 'to'."
    for key in NOT_AT_BUCKETS:
        if rule.place.has(key):
            note(rule.place.key(key), f"a bucket's redirect has no '{key}'", hint)
    for key in NOT_IN_CONDITIONS:
        if when is not None and when.place.has(key):
            note(when.place.key(key), f"a bucket's redirect knows no '{key}'", hint)
    for part in NOT_IN_TARGETS:
        if part in rule.to:
            note(rule.place.key("to"), f"a bucket's redirect knows no {part}", hint)


def _bucket(bucket: Bucket, note: Note) -> None:
    place = bucket.place
    if not re.fullmatch(BUCKET_NAME, bucket.name):
        note(place, f"expected a bucket's name of letters, digits, dots and hyphens, found '{one_line(bucket.name)}'")
    if bucket.sends_all_to is not None and not re.fullmatch(SENT_TO, bucket.sends_all_to):
        note(
            place.key("sends_all_to"),
            f"expected a host name, with a scheme or without, found '{one_line(bucket.sends_all_to)}'",
        )
    if bucket.cache_control is not None and not re.fullmatch(CACHE_CONTROL, bucket.cache_control):
        note(
            place.key("cache_control"),
            f"expected directives such as max-age=60, found '{one_line(bucket.cache_control)}'",
        )
    if bucket.uploaded_under and bucket.copy is None:
        note(place.key("uploaded_under"), "'uploaded_under' goes with 'copy'")
    parts_of_a_copy(bucket, note)
    if "/" in bucket.index_file:
        note(place.key("index_file"), f"'{one_line(bucket.index_file)}' is no plain file name")
    for grant in bucket.grants:
        said = [key for key in ("to", "to_edge", "to_account") if grant.place.has(key)]
        if len(said) != 1:
            note(
                grant.place,
                "a grant has exactly one of 'to', 'to_edge' and 'to_account'",
                "Write for example {to: everyone}.",
            )
        if not grant.may:
            note(grant.place, "a grant says what it allows", "Write 'may: [read]'.")
    redirects(bucket.redirects, note, at_bucket=True)
    for rule in bucket.redirects:
        _bucket_redirect(rule, note)
