"""Completers: what a value takes from other files (zones, PEM, hosts files, content) is read when the value is."""

from collections.abc import Callable
from functools import partial
from typing import Any, TypeVar

from msgspec import structs
from yaml.nodes import Node, ScalarNode

from portolan.estate.base import SetName
from portolan.estate.certificate import Authority, Certificate
from portolan.estate.estate import Estate
from portolan.estate.filter import CHAINS, Chain, Filter, NamedChain, NamedSet
from portolan.estate.guesses import INTERNET
from portolan.estate.machine import HostsFile
from portolan.estate.network import Interface, Network
from portolan.estate.service import NameServer, OtherService, Resolver, Site, StatedProgram, WebService
from portolan.estate.zone import Version, Zone, ZoneData
from portolan.formats import hosts_text, pem
from portolan.formats.files import FileError, Files
from portolan.formats.reader import Path, Reader
from portolan.formats.zone_file import read_version, read_zone
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place, Span
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
        if kind is Certificate and {"file", "key"} & set(facts):
            held = {**facts, "place": Place(path, node)}
            _certificate(self, held, node, path, "")
            facts.update({key: held[key] for key in ("pem", "key_pem") if key in held})

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
    where = ".".join(map(str, path))
    held = reader.bytes_of(values, "file", path, "certificate")
    if held:
        values["pem"] = pem.certificates(held[0], held[1], reader.problems, where)
    key = reader.bytes_of(values, "key", path, "key")
    if key:
        values["key_pem"] = pem.private_key(key[0], key[1], reader.problems, where)


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


def _site(reader: Completing, values: Values, _node: Node, path: Path, _name: str) -> None:
    copy = values.get("copy")
    if not copy:
        return
    if "files" in values:
        reader.problems.add(
            values["place"].key("copy").span,
            "'files' and 'copy' both say what the folder holds",
            ".".join(map(str, path)),
            "Keep one of them.",
        )
        return
    try:
        values["files"] = reader.files.tree(copy)
    except FileError as problem:
        reader.problems.add(
            values["place"].key("copy").span,
            f"cannot read the folder '{one_line(copy)}': {problem}",
            ".".join(map(str, path)),
            "Check the path, which counts from the estate's folder.",
        )


#: The port of services that say none.
_USUAL: dict[type, str] = {WebService: "80", NameServer: "53", Resolver: "53"}


def _service(reader: Completing, values: Values, node: Node, path: Path, _name: str, kind: type) -> None:
    program = values.get("program")
    if isinstance(program, StatedProgram) and "sites" in values:
        # A site that names no documents has its program's.
        values["sites"] = {
            name: site
            if site.place.has("default_documents")
            else structs.replace(site, default_documents=program.default_documents)
            for name, site in values["sites"].items()
        }
    if "listens" in values:
        return
    usual = _USUAL.get(kind)
    if usual is None:
        reader.fail(node, path, "a service of kind 'other' needs 'listens'", "Add 'listens: [PORT]'.")
        return
    text = ScalarNode("plain", usual, node.start_mark, node.end_mark)
    values["listens"] = (reader.listener(text, (*path, "listens")),)


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
        part = next(each for each in parts if each.value == text)
        found.append((text, Place((), part).span))
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


COMPLETERS: dict[type, Callable[[Completing, Values, Node, Path, str], None]] = {
    Certificate: _certificate,
    Authority: _certificate,
    HostsFile: _hosts_file,
    Zone: _zone,
    Interface: _interface,
    Filter: _filter,
    Estate: _estate,
    Site: _site,
    **{kind: partial(_service, kind=kind) for kind in (WebService, NameServer, Resolver, OtherService)},
}
