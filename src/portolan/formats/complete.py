"""Completers: what a value takes from other files (zones, PEM, hosts files, content) is read when the value is."""

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, TypeVar

from msgspec import structs
from yaml.nodes import Node, ScalarNode

from portolan.estate.base import SetName
from portolan.estate.certificate import Authority, Certificate
from portolan.estate.content import Folder, PagePart
from portolan.estate.edge import Edge, EdgePart, EdgeService, Origin, SwitchedEdge
from portolan.estate.estate import Estate
from portolan.estate.filter import CHAINS, Chain, Filter, FilterRule, NamedChain, NamedSet, OneFilter
from portolan.estate.guesses import INTERNET
from portolan.estate.machine import HostsFile
from portolan.estate.network import Interface, Network
from portolan.estate.records import ZoneData
from portolan.estate.service import NameServer, OtherService, Resolver, ScriptRunner, WebService
from portolan.estate.site import Section, Site, Upstream
from portolan.estate.store import Bucket
from portolan.estate.url import Url
from portolan.estate.zone import Version, Zone
from portolan.formats import hosts_text, pem
from portolan.formats.bounds import NAMED_MEMBERS, counted
from portolan.formats.files import FileError, Files, MissingError
from portolan.formats.keys import INTERNAL
from portolan.formats.reader import Path, Reader
from portolan.formats.zone_file import read_version, read_zone
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place, Span, place_in_file, span_of
from portolan.source.plain import one_line

Values = dict[str, Any]


class Completing(Reader):
    """A reader that also reads the files that values name."""

    def __init__(self, problems: Any, files: Files) -> None:
        super().__init__(problems)
        self.files = files

    def complete(self, kind: type, values: Values, node: Node, path: Path, name: str | None) -> None:
        """Fills what comes from elsewhere."""
        action = COMPLETERS.get(kind)
        if action is not None:
            action(self, values, node, path, name or "")

    def complete_part(self, kind: type, facts: Values, node: Node, path: Path) -> None:
        """A certificate that was, or will be, another file."""
        if issubclass(kind, EdgeService):
            _named_origin(facts, Place(path, node))
        if kind is Certificate and {"file", "key"} & set(facts):
            held = {**facts, "place": Place(path, node)}
            _certificate(self, held, node, path, "")
            facts.update({key: held[key] for key in INTERNAL["Certificate"] if key in held})

    def bytes_of(self, values: Values, key: str, path: Path, what: str) -> tuple[bytes, str] | None:
        """A named file's bytes and shown path; notes the problem when it cannot be read."""
        name = values.get(key)
        if not name:
            return None
        try:
            return self.files.read(name), self.files.shown(name)
        except FileError as problem:
            span = values["place"].key(key).span
            self.problems.add(
                span,
                f"cannot read the {what} '{one_line(name)}': {problem}",
                ".".join(map(str, path)),
                "Check the path, which counts from the estate's folder.",
            )
            return None


def _certificate(reader: Completing, values: Values, _node: Node, path: Path, _name: str) -> None:
    held = reader.bytes_of(values, "file", path, "certificate")
    if held:
        values["pem"], values["misread"] = pem.served(held[0])
    key = reader.bytes_of(values, "key", path, "key")
    if key:
        read = pem.private_key(key[0])
        values["key_pem"] = read.pem
        values["key_misread"], values["key_misread_strictly"] = read.misread, read.misread_strictly


def _authority(reader: Completing, values: Values, _node: Node, path: Path, _name: str) -> None:
    """No server reads it: only clients."""
    held = reader.bytes_of(values, "file", path, "certificate")
    if held:
        values["pem"] = pem.certificates(held[0], held[1], reader.problems, ".".join(map(str, path)))


def _hosts_file(reader: Completing, values: Values, node: Node, path: Path, _name: str) -> None:
    held = reader.bytes_of(values, "file", path, "hosts file")
    entries = []
    if held:
        text = held[0].decode("utf-8", "replace")
        entries += hosts_text.hosts_lines(text, held[1], reader.problems, path)
    for line, span in _lines(values, "lines", node):
        entries += hosts_text.hosts_lines(line, span.file, reader.problems, (*path, "lines"), span.line)
    values["entries"] = tuple(entries)


def _zone(reader: Completing, values: Values, node: Node, _path: Path, name: str) -> None:
    place: Place = values["place"]
    file = values.get("file")
    named = None if not file else (str(file), place.key("file").span)
    zone = name.lower().removesuffix(".")
    data = read_zone(
        zone,
        named,
        _lines(values, "records", node),
        _lines(values, "without", node),
        reader.problems,
        reader.files.read,
        reader.files.shown,
    )
    values["data"] = data
    for key in ("views", "copies"):
        values[key] = {name: _version(reader, zone, data, each) for name, each in values.get(key, {}).items()}
    values["before"] = tuple(_version(reader, zone, data, each) for each in values.get("before", ()))


def _version(reader: Completing, zone: str, data: ZoneData, version: Version) -> Version:
    """A version of a zone with its records."""
    held = {"records": version.records, "without": version.without}
    named = None if version.file is None else (str(version.file), version.place.key("file").span)
    node: Any = version.place.node
    found = read_version(
        zone,
        data,
        named,
        _lines(held, "records", node),
        _lines(held, "without", node),
        reader.problems,
        reader.files.read,
        reader.files.shown,
    )
    return structs.replace(version, data=found)


def _holding(reader: Completing, values: Values, _node: Node, path: Path, name: str) -> None:
    """What a folder holds, from a copy in the estate or from a listing."""
    said = [key for key in ("files", "copy", "inventory") if key in values]
    place: Place = values["place"]
    if len(said) > 1:
        text = f"'{said[0]}' and '{said[1]}' both say what the folder holds"
        reader.problems.add(place.key(said[1]).span, text, ".".join(map(str, path)), "Keep one of them.")
        return
    if values.get("copy"):
        _copied(reader, values, place, path)
    if values.get("inventory"):
        _listed(reader, values, path, values.get("folder") or (name if name.startswith("/") else None))


def _copied(reader: Completing, values: Values, place: Place, path: Path) -> None:
    copy = values["copy"]
    try:
        values["files"] = reader.files.tree(copy)
    except MissingError as missing:
        values["absent"] = True
        _mistyped(reader, values, missing, path, "files")
    except FileError as problem:
        reader.problems.add(
            place.key("copy").span,
            f"cannot read the folder '{one_line(copy)}': {problem}",
            ".".join(map(str, path)),
            "Check the path, which counts from the estate's folder.",
        )


def _mistyped(reader: Completing, values: Values, missing: MissingError, path: Path, key: str) -> None:
    """A folder that is not there may be what is wrong; one with a near name beside it is a slip in the estate itself."""
    if missing.near is not None:
        place: Place = values["place"]
        text = f"there is no folder '{one_line(values['copy'])}'"
        hint = f"Did you mean '{one_line(missing.near)}'? Where nothing lies there, write '{key}: []'."
        reader.problems.add(place.key("copy").span, text, ".".join(map(str, path)), hint)


def _listed(reader: Completing, values: Values, path: Path, folder: str | None) -> None:
    held = reader.bytes_of(values, "inventory", path, "listing")
    if held is None:
        return
    try:
        from portolan.formats.inventories.registry import inventory  # not loaded where nothing is listed

        found = inventory(held[0].decode("utf-8", "replace"), folder)
    except ValueError as error:
        reader.problems.add(
            Span(held[1], 1, 1), one_line(str(error), 300), ".".join(map(str, path)), "List the folder once more."
        )
        return
    if found.other:
        text = "this line of the listing says nothing about a file"
        reader.problems.add(Span(held[1], found.other[0], 1), text, ".".join(map(str, path)), "Take it out.")
    values["files"] = found.files
    values["rights"] = {**found.rights, **values.get("rights", {})}
    values["links"] = {**found.links, **values.get("links", {})}
    if found.large is not None:
        values.setdefault("large", found.large)


def _giving(reader: Completing, values: Values, node: Node, path: Path, name: str) -> None:
    """A site or a section: its content, and an upstream that is written as its URL alone."""
    _holding(reader, values, node, path, name if name.startswith("/") else "")
    upstream = values.get("upstream")
    if isinstance(upstream, Url):
        place = values["place"].key("upstream")
        values["upstream"] = Upstream(place=place, to=(upstream,))
    if values.get("takes") or values.get("parts"):
        _page_parts(reader, values, values.get("files") or ())


#: So many pages, and parts of each, are looked at.
_MOST_PAGES, _MOST_PARTS = 500, 500


def _page_parts(reader: Completing, values: Values, files: tuple[str, ...], under: str = "") -> None:
    """What the pages of a site or a bucket take from elsewhere: as it is written, and as the copies of the pages say.

    `under` stands in front of the files' names where they are a bucket's keys.
    """
    found = [
        PagePart(place=each.place.item("parts", number), page=each.page, reference=reference)
        for each in values.get("takes", ())
        for number, reference in enumerate(each.parts[:_MOST_PARTS])
    ]
    if values.get("parts") == "check" and values.get("copy"):
        found += _parts_of(reader, values["copy"], files, under)
    values["page_parts"] = tuple(found)


def _parts_of(reader: Completing, copy: str, files: tuple[str, ...], under: str) -> Iterator[PagePart]:
    """What the pages of a copy take from elsewhere."""
    from portolan.formats.page_parts import parts_of  # only where it is asked for

    pages = [name for name in files if name.lower().endswith((".html", ".htm"))]
    for page in pages[:_MOST_PAGES]:
        try:
            text = reader.files.read(f"{copy}/{page}").decode("utf-8", "replace")
        except FileError:
            continue
        shown = reader.files.shown(f"{copy}/{page}")
        for reference, line, column in parts_of(text)[:_MOST_PARTS]:
            yield PagePart(place=place_in_file((), shown, line, column), page=under + page, reference=reference)


#: The listeners of services that say none.
_USUAL: dict[type, tuple[str, ...]] = {
    WebService: ("80",),
    NameServer: ("53",),
    Resolver: ("53",),
    EdgeService: ("80", "443 tls"),
}


def _service(reader: Completing, values: Values, node: Node, path: Path, _name: str, kind: type) -> None:
    if "listens" in values:
        return
    usual = _USUAL.get(kind)
    if kind is ScriptRunner:
        if "socket" not in values:
            reader.fail(node, path, "a service of kind 'scripts' needs 'listens' or 'socket'", "Say where it is asked.")
        values["listens"] = ()
        return
    if usual is None:
        reader.fail(node, path, "a service of kind 'other' needs 'listens'", "Add 'listens: [PORT]'.")
        return
    texts = [ScalarNode("plain", each, node.start_mark, node.end_mark) for each in usual]
    values["listens"] = tuple(reader.listener(text, (*path, "listens")) for text in texts)


def _edge(reader: Completing, values: Values, node: Node, path: Path, name: str) -> None:
    """An edge: its listeners, and an origin that is written as its name alone."""
    _service(reader, values, node, path, name, EdgeService)
    _named_origin(values, values["place"])


def _edge_part(_reader: Completing, values: Values, _node: Node, _path: Path, _name: str) -> None:
    _named_origin(values, values["place"])


def _named_origin(values: Values, place: Place) -> None:
    origin = values.get("origin")
    if isinstance(origin, str):
        values["origin"] = Origin(place=place.key("origin"), at=origin)


def _bucket(reader: Completing, values: Values, _node: Node, path: Path, _name: str) -> None:
    """What a bucket holds, from a folder of the estate or from an inventory."""
    said = [key for key in ("objects", "copy", "inventory") if key in values]
    place: Place = values["place"]
    where = ".".join(map(str, path))
    if len(said) > 1:
        text = f"'{said[0]}' and '{said[1]}' both say what the bucket holds"
        reader.problems.add(place.key(said[1]).span, text, where, "Keep one of them.")
        return
    under: str = values.get("uploaded_under", "")
    files: tuple[str, ...] = ()
    if values.get("copy"):
        try:
            files = reader.files.tree(values["copy"])
            values["objects"] = tuple(under + each for each in files if not each.endswith("/"))
        except MissingError as missing:
            values["absent"] = True
            _mistyped(reader, values, missing, path, "objects")
        except FileError as problem:
            text = f"cannot read the folder '{one_line(values['copy'])}': {problem}"
            reader.problems.add(
                place.key("copy").span, text, where, "Check the path, which counts from the estate's folder."
            )
    held = reader.bytes_of(values, "inventory", path, "inventory")
    if held is not None:
        try:
            from portolan.formats.inventories.objects_json import object_keys

            values["objects"] = object_keys(held[0].decode("utf-8", "replace"))
        except ValueError as error:
            reader.problems.add(Span(held[1], 1, 1), one_line(str(error), 300), where, "Write the inventory once more.")
    if values.get("takes") or values.get("parts"):
        _page_parts(reader, values, files, under)


def _lines(values: Values, key: str, node: Node) -> list[tuple[str, Span]]:
    texts = values.get(key, ())
    if not texts:
        return []
    value = next(item for name, item in node.value if name.value == key)
    nodes = value.value if isinstance(value.value, list) else [value]
    # What could not be read was noted, and has no text.
    parts = iter(nodes)
    found = []
    for text in texts:
        part = next(parts)
        while part.value != text:
            part = next(parts)
        found.append((text, span_of(part)))
    return found


def _interface(_reader: Completing, values: Values, _node: Node, _path: Path, name: str) -> None:
    """An interface that names no network is on the one of its own name."""
    values.setdefault("network", name)


def _filter(reader: Completing, values: Values, _node: Node, path: Path, _name: str) -> None:
    """Puts the members of sets where rules name them."""
    sets: dict[str, NamedSet] = values.get("sets", {})
    for key in CHAINS:
        if values.get(key) is not None:
            values[key] = _with_members(reader, values[key], sets, path)
    values["chains"] = {
        name: _with_members(reader, chain, sets, path) for name, chain in values.get("chains", {}).items()
    }


#: The keys in which sets may be named, and what they hold.
_MEMBERS = {
    **dict.fromkeys(("sources", "not_sources", "destinations", "not_destinations"), "addresses"),
    **dict.fromkeys(("ports", "not_ports", "source_ports", "not_source_ports"), "ports"),
}
_Chain = TypeVar("_Chain", Chain, NamedChain)


def _with_members(reader: Completing, chain: _Chain, sets: dict[str, NamedSet], path: Path) -> _Chain:
    rules = []
    for rule in chain.rules:
        facts: Values = {}
        for key, kind in _MEMBERS.items():
            held: tuple[Any, ...] = getattr(rule, key)
            if any(isinstance(each, SetName) for each in held):
                facts[key] = tuple(
                    value
                    for each in held
                    for value in (_members(reader, each, kind, sets, path) if isinstance(each, SetName) else (each,))
                )
        rules.append(structs.replace(rule, **facts) if facts else rule)
    return structs.replace(chain, rules=tuple(rules))


def _members(reader: Completing, named: SetName, kind: str, sets: dict[str, NamedSet], path: Path) -> tuple[Any, ...]:
    found = sets.get(named.name)
    held: tuple[Any, ...] = getattr(found, kind) if found is not None else ()
    counted(reader.problems, NAMED_MEMBERS, len(held), named.node, path)
    if found is None:
        hint = did_you_mean(named.name, sets) or "Add it under 'sets' of this filter."
        reader.fail(named.node, path, f"no set of this filter is named '{one_line(named.name)}'", hint)
    elif not held:
        reader.fail(named.node, path, f"the set '{one_line(named.name)}' holds no {kind}", f"Give it '{kind}'.")
    return held


def _estate(_reader: Completing, values: Values, _node: Node, _path: Path, _name: str) -> None:
    values["networks"] = with_internet(values.get("networks", {}))


def with_internet(networks: dict[str, Network]) -> dict[str, Network]:
    """The networks with the internet among them, which exists in every estate."""
    return networks if INTERNET.name in networks else {**networks, INTERNET.name: INTERNET}


#: What is not whole when it is read: its owner puts in what other keys of the owner say.
COMPLETED_BY_OWNERS = (Chain, NamedChain, FilterRule, Version)
COMPLETERS: dict[type, Callable[[Completing, Values, Node, Path, str], None]] = {
    Certificate: _certificate,
    Authority: _authority,
    HostsFile: _hosts_file,
    Zone: _zone,
    Interface: _interface,
    Filter: _filter,
    OneFilter: _filter,
    Estate: _estate,
    Site: _giving,
    Section: _giving,
    Folder: _holding,
    EdgePart: _edge_part,
    EdgeService: _edge,
    Edge: _edge,
    SwitchedEdge: _edge,
    Bucket: _bucket,
    **{kind: partial(_service, kind=kind) for kind in (WebService, NameServer, Resolver, OtherService, ScriptRunner)},
}
