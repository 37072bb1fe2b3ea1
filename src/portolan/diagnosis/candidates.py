"""Every small change that might have been meant: the slips of each fact that an estate states, found through its types.

Nothing here knows a fault. What a change mends, breaks and lays open is found out by trying it (smallest.py).
"""

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import ip_address, ip_network
from itertools import product
from typing import Any

from portolan.diagnosis.candidate import ADDED, MOST_SLIPS, TAKEN, Candidate, Wanted
from portolan.diagnosis.proposal import Patch, append, put, remove
from portolan.diagnosis.record_candidates import of_zone
from portolan.estate.base import ListenerKey, Stated, is_public
from portolan.estate.changing import Earlier, Otherwise, parts_of
from portolan.estate.estate import Estate
from portolan.estate.filter import Chain, NamedChain
from portolan.estate.guesses import machine_called, machines
from portolan.estate.machine import Machine
from portolan.estate.names import answers_to
from portolan.estate.network import Group, Interface
from portolan.estate.service import Listener
from portolan.estate.site import Site
from portolan.estate.slips import ADDRESS, NAME, Holds, Known, fields_of, otherwise_said, slips, texts
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.source.nearest import distance
from portolan.source.place import Place, pointer

#: What is no setting: history, the moment, what is wished for, words for people, and what a program does by nature.
_NO_SETTINGS = frozenset(
    (
        "before",
        "marks",
        "title",
        "about",
        "at",
        "expected",
        "portolan",
        "include",
        "written_in",
        "unread",
        "run_by",
        "guessed",
        "kind",
        "place",
        "holds",
        "last_asked",
        "looked_up",
        "in_effect_from",
        "remembers_redirects",
        "strict",
        "answers_after",
        "program",
        "held_by_others",
        "provider_checks_source",
        "drops_private",
        "isolated",
        "reverse_path",
    )
)
#: What of an edge is its provider's to say.
_OF_PROVIDERS = frozenset(("addresses", "canonical"))
#: What of a visitor may be wrong: its own settings, and not what it asks.
_OF_VISITORS = frozenset(("hosts_file", "resolver", "search", "gateway", "trusts", "clock"))
#: What protects: taking it away mends much, and is believed last.
PROTECTIONS = frozenset(
    (
        "filter",
        "inbound",
        "outbound",
        "forward",
        "arriving",
        "access",
        "access_list",
        "groups",
        "default",
        "rules",
        "areas",
        "password",
        "methods",
        "sealed",
        "otherwise",
        "basics",
        "nobody",
        "headers",
        "not_from",
        "leg",
        "trusts",
        "plain",
        "delegated_to",
        "ds",
        "certificate",
        "tls",
        "redirects",
        "largest_body",
        "enabled_for",
    )
)
#: Words that decide what passes; rarely mistaken for one another.
_VERDICTS = frozenset(("default", "otherwise", "allow", "drop", "reject", "deny", "state", "from_own", "to_own"))
_UNLIKELY, _ONE_MORE, _VISITORS_OWN = 1.2, 0.35, 0.4
#: What is copied from a sibling as a whole; and of a list so many items are put in together.
_COPIED = frozenset(("redirects", "upstream", "sections", "access", "error_pages", "grants", "forwards", "hosts_file"))
_MOST_TOGETHER, _MOST_NAMED = 4, 12
_MOVED, _PROTECTION = 1.7, 2.5
#: Lists of words whose order decides; of the others no item is put behind the next.
_IN_ORDER = frozenset(
    (
        "address",
        "forwards_to",
        "index_files",
        "lines",
        "names",
        "order",
        "pages_by",
        "objects_by",
        "resolver",
        "search",
        "to",
        "tries",
    )
)
#: What holds whole objects, which nobody writes by a slip; and what does at the objects of a section.
_WHOLE = frozenset(("sites", "services", "buckets"))
_WHOLE_OF_OBJECTS = frozenset(("interfaces", "records", "file", "subnets"))
#: What a rule or an object is narrowed by, or kept from: taken away more readily than what it does.
_NARROWS = frozenset(
    ("from", "in", "on", "enabled", "loaded", "saved", "after_boot", "until", "unreadable", "in_effect_from")
)
_NARROWING = 0.9
#: Where changes are looked for: what is asked and expected is none of it, and certificates are issued anew, and not corrected.
_SECTIONS = ("networks", "routers", "hosts", "groups", "zones", "edges", "stores", "vantages")
#: What no visit rests on costs more; in an estate with more objects it is not looked at.
_BESIDE, _MANY_OBJECTS = 0.4, 150
#: What it costs more that a word of a closed choice was left out.
_UNSAID = 0.1
#: Where a machine says to whom it hands on, and what it costs that somebody else beside it was meant.
_HANDS_ON, _BESIDE_IT = frozenset(("to", "inside", "gateway")), 1.6
#: What it costs that a certificate was meant which covers what is asked for, however it is called.
_COVERS = 1.5
#: What it takes off that a change states what was looked for and found nowhere, where nothing was said.
_FITTING = 0.8
#: Of one fact so many values of siblings are tried, and so many items of a list.
_MOST_SIBLINGS, _MOST_ITEMS = 3, 40


def candidates(
    estate: Estate, about: Known, wanted: Wanted, read: frozenset[tuple[Any, ...]], sought: frozenset[str]
) -> list[Candidate]:
    """The candidates of an estate, the likeliest first; `read` are the objects (section and name) that the visits rest on.

    To what no decision read only a change is thought of that states, or is made to what states, something that was looked for and
    found nowhere (`sought`): no other one changes a visit (rests.py).
    """
    found: list[Candidate] = []
    work = _Work(estate, about, wanted)
    objects = [value for section in _SECTIONS for value in getattr(estate, section).values() if value.place.path]
    for value in objects:
        path = value.place.path[:2]
        beside = (0.0 if path in read else _BESIDE) + (_VISITORS_OWN if path[0] == "vantages" else 0.0)
        whole = path in read or any(text.partition("/")[0] in sought for text in texts(value.place.node))
        if whole or (sought and len(objects) <= _MANY_OBJECTS):
            held = (each for each in work.of(value) if whole or _states(each.patch, sought))
            found += (each.but(cost=each.cost + beside) for each in held)
    unique = {str(each.patch): each for each in sorted(found, key=lambda each: -each.cost)}
    return sorted(unique.values(), key=lambda each: each.cost)


def _states(patch: Patch, sought: frozenset[str]) -> bool:
    """Whether a change states something of what was looked for."""
    text = str(patch)
    return any(each in text for each in sought)


class _Work:
    """Walks an estate's values beside the document that states them."""

    def __init__(self, estate: Estate, about: Known, wanted: Wanted) -> None:
        self.estate = estate
        self.about = about
        self.wanted = wanted
        held = {str(each) for machine in machines(estate) for each in machine.addresses}
        held |= {str(item.ip) for each in estate.vantages.values() for item in each.address}
        #: What each service listens on.
        self.listeners = {
            service.place.path: [each.key for each in service.listens]
            for machine in machines(estate)
            for service in machine.services.values()
        }
        #: Addresses that something refers to and nobody has.
        self.orphans = [each for each in about.addresses if each not in held]
        #: The certificates that cover a name which is asked for.
        self.covering = [
            each.name
            for each in estate.certificates.values()
            if any(answers_to(str(name), host) for name in each.names for host in wanted.hosts)
        ][:MOST_SLIPS]
        #: By a network's name: the machines on it, with their addresses there.
        self._on: dict[str, list[tuple[str, str]]] = {}
        for machine in machines(estate):
            for each in machine.interfaces.values():
                self._on.setdefault(each.network, []).extend((machine.name, str(item.ip)) for item in each.address)
        self._siblings: dict[tuple[type, str], dict[str, int]] = {}
        #: By type and key, where a sibling says something in many words.
        self._large: dict[type, dict[str, Place]] = {}
        self._note(estate)

    def _note(self, value: Stated) -> None:
        """Remembers what an object and all below it say, for those like them that do not."""
        for key, node in pairs_of(value):
            if isinstance(node.value, str):
                said = self._siblings.setdefault((_type_of(value), key), {})
                said[node.value] = said.get(node.value, 0) + 1
            elif node.value and key in _COPIED:
                self._large.setdefault(_type_of(value), {})[key] = Place((*value.place.path, key), node)
        for part in _parts(value):
            self._note(part)

    def of(self, value: Stated) -> Iterator[Candidate]:
        """The candidates of an object and of all below it."""
        kind, path = _type_of(value), value.place.path
        fields = fields_of(kind)
        said = dict(pairs_of(value))
        for key, node in said.items():
            if key in _NO_SETTINGS or not _is_theirs(value, key):
                continue
            holds = fields.get(key, ("", None))[1]
            yield from self._key(value, key, node, holds)
        yield from self._absent(value, kind, said)
        if isinstance(value, Zone) and isinstance(value.place.node.value, list):
            yield from of_zone(self.estate, value, self.about, self.wanted)
        if isinstance(value, Chain | NamedChain | Group):
            yield from self._rule(value)
        if isinstance(value, Machine):
            yield from self._forwards(value)
        if isinstance(value, Site):
            yield from self._redirect(value)
        for part in _parts(value):
            if part.place.path[: len(path)] == path and len(part.place.path) > len(path):
                yield from self.of(part)

    # -- keys that are written --

    def _key(self, value: Stated, key: str, node: Any, holds: Holds | None) -> Iterator[Candidate]:
        path = (*value.place.path, key)
        place = Place(path, node)
        if key not in _WHOLE and not (len(path) == 3 and key in _WHOLE_OF_OBJECTS):
            yield self._taken(place, key, node)
        if holds is None or holds.kind == "secret":
            return
        if isinstance(node.value, str):
            yield from self._changed(place, node.value, holds)
            if holds.many:
                yield from self._more(value, key, holds, [node.value])
        elif not node.value and holds.many:
            yield from self._more(value, key, holds, [])
        elif node.value and not isinstance(node.value[0], tuple):
            for number, item in enumerate(node.value[:_MOST_ITEMS]):
                here = Place((*path, number), item)
                yield self._taken(here, key, item)
                if number + 1 < len(node.value) and (key in _IN_ORDER or not isinstance(item.value, str)):
                    patch: Patch = [
                        {"op": "move", "from": pointer((*path, number)), "path": pointer((*path, number + 1))}
                    ]
                    wrong = f"{here.object} stands before the next one, which it keeps from its turn"
                    yield Candidate(here, patch, _MOVED, wrong, f"put {here.object} behind the next one")
                if isinstance(item.value, str) and not isinstance(value, Zone):
                    yield from self._changed(here, item.value, holds)
            if isinstance(node.value[0].value, str):
                yield from self._more(value, key, holds, [each.value for each in node.value])

    def _changed(self, place: Place, text: str, holds: Holds) -> Iterator[Candidate]:
        if place.path[-2:-1] == ("lines",) or place.path[-1] == "lines":
            yield from self._line(place, text)
            return
        others = [name for section in holds.refers for name in getattr(self.estate, section, {})]
        if place.path[-1] in ("on", "in", "out", "not_on", "via_interface") or "interfaces" in place.path[-2:]:
            machine = machine_called(self.estate, str(place.path[1]))
            others += machine.interfaces if machine is not None else ()
        near = {each: _BESIDE_IT for each in self._beside(place.path) if each != text}
        if "certificates" in holds.refers:
            near |= {each: _COVERS for each in self.covering if each != text}
        for slip in slips(holds, text, self.about, others)[:MOST_SLIPS]:
            near[slip.meant] = min(slip.cost, near.get(slip.meant, slip.cost))
        for meant, far in sorted(near.items(), key=lambda each: each[1]):
            cost = far + (_UNLIKELY if place.path[-1] in _VERDICTS else 0.0)
            if holds.refers and self._speaks_of(meant) and not self._speaks_of(text):
                cost -= 1.0
            yield self._meant(place, text, meant, cost, holds)

    def _beside(self, path: tuple[str | int, ...]) -> list[str]:
        """The addresses of those beside a machine, where it says to whom it hands on: it reaches no others without a router."""
        machine = machine_called(self.estate, str(path[1]))
        if machine is None or path[-1] not in _HANDS_ON or path[2] not in ("forwards", "one_to_one", "gateway"):
            return []
        own = {each.network for each in machine.interfaces.values()} - {"internet"}
        held = (each for network in sorted(own) for name, each in self._on.get(network, ()) if name != machine.name)
        return list(dict.fromkeys(held))[:MOST_SLIPS]

    def _speaks_of(self, name: str) -> bool:
        """Whether something is named as what is asked for."""
        return any(name in host.split(".") or name == host for host in self.wanted.hosts)

    def _meant(self, place: Place, text: str, meant: str, cost: float, holds: Holds) -> Candidate:
        patch: Patch = [{"op": "replace", "path": pointer(place.path), "value": typed(meant, holds)}]
        wrong = f"{place.object} is {text or 'empty'}; {meant} was probably meant{_by(text, meant)}"
        return Candidate(place, patch, cost, wrong, f"write {meant} in place of {text or 'nothing'} for {place.object}")

    def _line(self, place: Place, text: str) -> Iterator[Candidate]:
        """A line of a hosts file: its address, or one of its names."""
        words = text.split()
        for number, word in enumerate(words):
            for slip in slips(ADDRESS if number == 0 else NAME, word, self.about)[:MOST_SLIPS]:
                meant = " ".join([*words[:number], slip.meant, *words[number + 1 :]])
                # A line that overrides names on purpose is rather out of date than mistyped where it says something else altogether.
                cost = slip.cost if slip.cost < ADDED else slip.cost + _PROTECTION
                yield self._meant(place, text, meant, cost, NAME)

    def _taken(self, place: Place, key: str, node: Any) -> Candidate:
        cost = TAKEN + (_PROTECTION if key in PROTECTIONS else 0.0)
        if key in _NARROWS or (key == "state" and isinstance(node.value, str)):
            cost -= _NARROWING
        held = f" ({node.value})" if isinstance(node.value, str) and len(node.value) < 60 else ""
        return Candidate(
            place, remove(place.path), cost, f"{place.object}{held} stands in the way", f"take {place.object} away"
        )

    # -- what is absent --

    def _more(self, value: Stated, key: str, holds: Holds, said: list[str]) -> Iterator[Candidate]:
        """An item more in a list of words."""
        for meant, cost in self._fitting(value, key, holds):
            if meant not in said:
                yield self._added(value, key, meant, cost - _ONE_MORE, append(value.place, key, typed(meant, holds)))

    def _absent(self, value: Stated, kind: type, said: dict[str, Any]) -> Iterator[Candidate]:
        """A key that is not written: what siblings say there, and what was asked for and nobody has."""
        said_here = otherwise_said(kind) if value.place.path in self.wanted.end else {}
        for key, (_, holds) in fields_of(kind).items():
            if key in said or key in _NO_SETTINGS or holds.kind == "secret" or not _is_theirs(value, key):
                continue
            siblings = self._siblings.get((kind, key), {})
            meant = {each: ADDED - 0.1 * min(count, 5) for each, count in [*siblings.items()][:_MOST_SIBLINGS]}
            fitting = [*self._fitting(value, key, holds)]
            for each, cost in fitting:
                meant.setdefault(each, cost)
            for each in said_here.get(key, ()):
                meant.setdefault(each, ADDED + _UNSAID)
            for each, cost in meant.items():
                if holds.refers and self._speaks_of(each):
                    cost -= 0.6
                if each in self.wanted.absent:
                    cost -= _FITTING
                yield self._added(value, key, each, cost, put(value.place, key, typed(each, holds)))
            if holds.many and 1 < len(fitting) <= _MOST_TOGETHER and not holds.refers:
                every = [typed(each, holds) for each, _ in fitting]
                words = ", ".join(each for each, _ in fitting)
                yield self._added(value, key, words, fitting[0][1] + 0.1, put(value.place, key, every))
        yield from self._copied(value, kind, said)
        if isinstance(value, Site) and "upstream" not in said:
            for host, url in self.wanted.homes:
                if host == value.place.path[1]:
                    continue
                # The one that answered in the expected site's place is likelier to have lost it than any other.
                cost = ADDED - _FITTING if value.place.path == self.wanted.answered else ADDED + 0.3
                yield self._added(value, "upstream", url, cost, put(value.place, "upstream", {"to": url}))

    def _copied(self, value: Stated, kind: type, said: dict[str, Any]) -> Iterator[Candidate]:
        """What siblings have in many words and this one does not: rules of redirects, an upstream, an access."""
        for key, place in self._large.get(kind, {}).items():
            if key not in said and key not in _NO_SETTINGS and place.path[:-1] != value.place.path:
                patch: Patch = [{"op": "copy", "from": pointer(place.path), "path": pointer((*value.place.path, key))}]
                yield self._added(value, key, f"as {place.object} has it", ADDED + 0.4, patch)

    def _fitting(self, value: Stated, key: str, holds: Holds) -> Iterator[tuple[str, float]]:
        """What a field could hold that questions ask for and nobody has."""
        if isinstance(value, Interface) and key == "address":
            yield from self._free_addresses(value)
        if Listener in holds.scalar:
            yield from ((f"{port} tls" if tls else str(port), ADDED) for port, tls in self.wanted.ports)
        if key in ("names", "canonical", "pages_at", "objects_at"):
            yield from self._free_names(key)
        yield from ((each, ADDED) for each in self._beside((*value.place.path, key)))
        if key in ("tcp", "udp", "ports", "port"):
            yield from ((str(port), ADDED) for port, _ in self.wanted.ports)
        if key == "asks_from":
            ranges = [each for each in self.about.words if _is_range(each)]
            yield from ((each, ADDED + 0.5) for each in (*ranges, *self.about.addresses))
        if ListenerKey in holds.scalar:
            service = value.place.path[:4]
            yield from ((each, ADDED) for each in self.listeners.get(service, ()))
        for section in holds.refers:
            yield from ((each, ADDED + 0.3) for each in [*getattr(self.estate, section, {})][:_MOST_NAMED])

    def _free_addresses(self, interface: Interface) -> Iterator[tuple[str, float]]:
        """Addresses that something refers to and nobody has, and a network's first."""
        network = self.estate.networks.get(interface.network)
        subnets = network.subnets if network is not None else ()
        public = network is not None and network.kind == "internet"
        for each in self.orphans:
            if public and not is_public(ip_address(each)):
                continue
            if not subnets or any(_within(each, subnet) for subnet in subnets):
                yield each, ADDED - 0.05 * min(self.about.addresses[each], 6)
        for subnet in subnets:
            yield str(subnet.network_address + 1), ADDED + 0.3

    def _free_names(self, key: str) -> Iterator[tuple[str, float]]:
        """Names that are asked for; for a provider's, what they end in, and what else is named."""
        for host in self.wanted.hosts:
            yield host, ADDED if key == "names" else ADDED + 0.2
            if key in ("pages_at", "objects_at"):
                yield host.partition(".")[2], ADDED + 0.3
        if key != "names":
            yield from ((each, ADDED + 0.5) for each in self.about.names if each not in self.wanted.hosts)

    def _added(self, value: Stated, key: str, meant: str, cost: float, patch: Patch) -> Candidate:
        place = Place((*value.place.path, key), value.place.node, value.place.name)
        return Candidate(
            place,
            patch,
            cost,
            f"{value.place.object} lacks {key} {meant}",
            f"add {key} {meant} to {value.place.object}",
        )

    def _rule(self, chain: Any) -> Iterator[Candidate]:
        """A rule like its siblings for all that is asked."""
        ports = sorted({port for port, _ in self.wanted.ports})
        missed = list(self.wanted.missed)
        keys = ("inbound", "outbound") if isinstance(chain, Group) else ("rules",)
        for key in keys if ports else ():
            node = next((item for name, item in pairs_of(chain) if name == key), None)
            wider = [each for each in (missed, ports) if len(each) > 1] + [[each] for each in ports]
            wider = wider[1:] if missed == ports and len(ports) > 1 else wider
            place = Place((*chain.place.path, key), node or chain.place.node)
            # In a chain the order decides: before all others, and behind them.
            ends = (0, None) if node is not None and not isinstance(chain, Group) else (None,)
            for each, at in product(wider, ends):
                told = ", ".join(map(str, each))
                rule = {"allow": "tcp", "ports": each if len(each) > 1 else each[0]}
                yield Candidate(
                    place,
                    append(chain.place, key, rule, at),
                    ADDED + 0.2,
                    f"{chain.place.object} lacks a rule that lets tcp {told} in",
                    f"add to {chain.place.object} {key}: allow tcp {told}",
                )

    def _forwards(self, machine: Machine) -> Iterator[Candidate]:
        """A forward like one that is there, for the other protocol or another port that is asked."""
        for number, forward in enumerate(machine.forwards):
            said = {key: node.value for key, node in pairs_of(forward) if isinstance(node.value, str)}
            of = forward.protocol
            others = [{("udp" if of == "tcp" else "tcp"): said.get(of)}]
            others += [{of: str(port)} for port, _ in self.wanted.ports if str(port) != said.get(of)]
            for other in others:
                value = {key: each for key, each in said.items() if key not in ("tcp", "udp")} | other
                made = {key: int(each) if each and each.isdigit() else each for key, each in value.items()}
                words = " ".join(f"{key} {each}" for key, each in other.items())
                place = Place((*machine.place.path, "forwards"), machine.place.node, machine.place.name)
                text = f"forward {words} as forward {number + 1} does"
                yield Candidate(
                    place,
                    append(machine.place, "forwards", made),
                    ADDED + 0.1,
                    f"{machine.place.object} has no forward for {words}",
                    f"{text} on {machine.name}",
                )

    def _redirect(self, site: Site) -> Iterator[Candidate]:
        """A redirect to what is expected, at the site that answered otherwise."""
        rule = self.wanted.sends
        if rule is not None and site.place.path == self.wanted.answered:
            yield Candidate(
                Place((*site.place.path, "redirects"), site.place.node, site.place.name),
                append(site.place, "redirects", rule, 0),
                ADDED,
                f"{site.name} sends nobody on to {rule['to']}",
                f"let {site.name} send {rule.get('when', {}).get('path', 'all requests')} on to {rule['to']}",
                alone=True,
            )


def _by(text: str, meant: str) -> str:
    """By how much two texts differ, where it is little."""
    return {1: ", which differs by one character", 2: ", which differs by two characters"}.get(
        distance(text, meant, 2), ""
    )


def typed(text: str, holds: Holds) -> Any:
    """A value as JSON has it."""
    if bool in holds.scalar and text in ("true", "false"):
        return text == "true"
    return int(text) if text.isdigit() and str not in holds.scalar else text


def _is_range(text: str) -> bool:
    with suppress(ValueError):
        return "/" in text and bool(ip_network(text))
    return False


def _within(text: str, subnet: Any) -> bool:
    try:
        return ip_address(text) in subnet
    except (ValueError, TypeError):
        return False


def _type_of(value: Stated) -> type:
    """The type whose keys an object has: another version of something has those of what it is a version of."""
    return value.owner if isinstance(value, Otherwise) else type(value)


def _is_theirs(value: Stated, key: str) -> bool:
    """Whether a key is a setting of whoever runs what it stands at, and may be wrong by a slip."""
    if isinstance(value, Vantage):
        return key in _OF_VISITORS
    return not (value.place.path[:1] == ("edges",) and key in _OF_PROVIDERS)


def pairs_of(value: Stated) -> Iterator[tuple[str, Any]]:
    """The keys that an object's mapping writes, with their nodes."""
    held = value.place.node.value
    for pair in held if isinstance(held, list) else ():
        if isinstance(pair, tuple) and isinstance(pair[0].value, str):
            yield pair[0].value, pair[1]


def _parts(value: Stated) -> Iterator[Stated]:
    """The stated values directly below an object as it is; what it was is no setting."""
    return (each for each in parts_of(value) if not isinstance(each, Earlier))
