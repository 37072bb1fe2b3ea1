"""Cross-checks of what packets meet: filters, translations, access lists."""

from collections.abc import Callable, Iterator

from portolan.estate.filter import Filter, FilterRule
from portolan.estate.machine import Router
from portolan.estate.network import Network
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place
from portolan.source.plain import one_line

Note = Callable[..., None]
_MOST_JUMPS = 15


def filters(filtering: Filter | None, interfaces: tuple[str, ...], note: Note, routes: bool) -> None:
    """A filter: its chains, its areas, and whom its rules name."""
    if filtering is None:
        return
    if filtering.forward is not None and not routes:
        note(
            filtering.place.key("forward"), "only a router passes packets on", "Take 'forward' away, or use 'inbound'."
        )
    for name, place, rules in _chains(filtering):
        for rule in rules:
            _rule(rule, name, interfaces, note)
            if rule.jump is not None and rule.jump not in filtering.chains:
                note(
                    rule.place.key("jump"),
                    f"no chain of this filter is named '{one_line(rule.jump)}'",
                    did_you_mean(rule.jump, filtering.chains) or "Add it under 'chains'.",
                )
        if _circle(filtering, name, [rule.jump for rule in rules if rule.jump]):
            note(place, "the chains jump to each other in a circle", "Take one jump away.")
    _depth(filtering, note)
    _areas(filtering, interfaces, note)


def _depth(filtering: Filter, note: Note) -> None:
    """How deep chains jump into each other: the kernel loads no more levels (NFT_JUMP_STACK_SIZE, measured)."""
    for name, place, rules in _chains(filtering):
        if name in filtering.chains:
            continue
        level = {rule.jump for rule in rules if rule.jump}
        for _ in range(_MOST_JUMPS):
            level = {
                rule.jump
                for each in level
                if each in filtering.chains
                for rule in filtering.chains[each].rules
                if rule.jump
            }
        if level:
            note(
                place,
                f"its jumps lead more than {_MOST_JUMPS} chains deep",
                "No kernel loads that: put rules together.",
            )


def _chains(filtering: Filter) -> Iterator[tuple[str, Place, tuple[FilterRule, ...]]]:
    for name in ("inbound", "forward", "outbound"):
        chain = getattr(filtering, name)
        if chain is not None:
            yield name, chain.place, chain.rules
    for named in filtering.chains.values():
        yield named.name, named.place, named.rules


def _circle(filtering: Filter, name: str, jumps: list[str]) -> bool:
    """Whether a chain leads back to itself; each chain is looked at once."""
    seen: set[str] = set()
    waiting = list(jumps)
    while waiting:
        each = waiting.pop()
        if each == name:
            return True
        chain = filtering.chains.get(each)
        if chain is not None and each not in seen:
            seen.add(each)
            waiting += [rule.jump for rule in chain.rules if rule.jump]
    return False


def _rule(rule: FilterRule, chain: str, interfaces: tuple[str, ...], note: Note) -> None:
    verdicts = [
        word
        for word, held in (
            ("allow", rule.allow),
            ("drop", rule.drop),
            ("reject", rule.reject),
            ("return", rule.back),
            ("jump", rule.jump),
        )
        if held
    ]
    if len(verdicts) != 1:
        note(
            rule.place,
            "a rule has exactly one of 'allow', 'drop', 'reject', 'return' and 'jump'",
            "Write for example: {allow: tcp, ports: 443}.",
        )
        return
    if rule.of and not rule.jump:
        note(rule.place.key("protocol"), "'protocol' belongs to 'jump'", f"Write '{verdicts[0]}: {rule.of}'.")
    if (rule.ports or rule.source_ports) and rule.protocol not in ("tcp", "udp"):
        what = "protocol: tcp" if rule.jump else f"{verdicts[0]}: tcp"
        note(rule.place, "ports belong to tcp or udp", f"Write '{what}'.")
    if rule.answer and not rule.reject:
        note(rule.place.key("answer"), "'answer' belongs to 'reject'")
    if rule.answer == "tcp-reset" and rule.reject != "tcp":
        note(rule.place.key("answer"), "a TCP reset can only answer 'reject: tcp'")
    if rule.entering and chain == "outbound":
        note(rule.place.key("in"), "what the machine itself sends came in by no interface", "Use 'out'.")
    if rule.leaving and chain == "inbound":
        note(rule.place.key("out"), "what is addressed to the machine leaves by no interface", "Use 'in'.")
    if rule.forwarded is not None and chain == "outbound":
        note(rule.place.key("forwarded"), "'forwarded' belongs to the chains 'forward' and 'inbound'")
    for key, names in (("in", rule.entering), ("out", rule.leaving)):
        _interfaces(names, interfaces, rule.place.key(key), note)


def _interfaces(names: tuple[str, ...], interfaces: tuple[str, ...], place: Place, note: Note) -> None:
    for name in names:
        if name not in interfaces:
            note(place, f"no interface is named '{one_line(name)}' on this machine", did_you_mean(name, interfaces))


def _areas(filtering: Filter, interfaces: tuple[str, ...], note: Note) -> None:
    if not filtering.areas:
        return
    if filtering.inbound is not None:
        note(filtering.place.key("inbound"), "a filter has either 'areas' or 'inbound'", "Keep one of them.")
    defaults = [area for area in filtering.areas.values() if area.default]
    for area in defaults[1:]:
        note(area.place.key("default"), f"{one_line(defaults[0].name)} is the default area already")
    for area in filtering.areas.values():
        if area.name in filtering.chains:
            note(area.place, f"a chain is named '{one_line(area.name)}' too", "Give one of them another name.")
        if not (area.sources or area.interfaces or area.default):
            note(area.place, "nothing belongs to this area", "Add 'from', 'interfaces' or 'default: true'.")
        _interfaces(area.interfaces, interfaces, area.place.key("interfaces"), note)
        if area.answer is not None and area.otherwise != "reject":
            note(area.place.key("answer"), "'answer' belongs to 'otherwise: reject'")
        if area.answer == "tcp-reset":
            note(area.place.key("answer"), "a TCP reset cannot answer every protocol", "Leave it out, or write rules.")


def translations(router: Router, note: Note) -> None:
    """A router's forwards, masquerading and other translations."""
    interfaces = tuple(router.interfaces)
    named = [(router.place.key("masquerade"), name) for name in router.masquerade]
    for held in (router.forwards, router.one_to_one, router.source_nat):
        named += [(each.place.key("on"), each.on) for each in held]
    for place, name in named:
        if name not in interfaces:
            note(place, f"no interface is named '{one_line(name)}' on this router", did_you_mean(name, interfaces))
    for pair in router.one_to_one:
        if pair.outside.version != pair.inside.version:
            note(pair.place, "'outside' and 'inside' are of different IP versions")
    for forward in router.forwards:
        if (forward.tcp is None) == (forward.udp is None):
            note(
                forward.place,
                "a forward has exactly one of 'tcp' and 'udp'",
                "Write for example: {on: line, tcp: 443, to: 10.20.0.15}.",
            )
        elif forward.port is not None:
            span = forward.outside.last - forward.outside.first
            if not 1 <= forward.port <= 65535 - span:
                note(forward.place.key("port"), f"expected a port, 1 to {65535 - span}, found {forward.port}")


def access_list(network: Network, note: Note) -> None:
    """A network's access list: its numbers and lines."""
    held = network.access_list
    if held is None:
        return
    if network.kind == "internet":
        note(held.place, "the internet has no access list", "Put it on the subnet that it belongs to.")
    for rules in (held.inbound, held.outbound):
        seen: dict[int, object] = {}
        for rule in rules or ():
            if (rule.allow is None) == (rule.drop is None):
                note(
                    rule.place,
                    "a line has exactly one of 'allow' and 'drop'",
                    "Write for example: {number: 100, allow: tcp, ports: 443}.",
                )
            elif rule.ports and rule.protocol not in ("tcp", "udp"):
                note(rule.place.key("ports"), "ports belong to tcp or udp")
            if not 1 <= rule.number <= 65535:
                note(rule.place.key("number"), f"expected a number, 1 to 65535, found {rule.number}")
            if seen.setdefault(rule.number, rule) is not rule:
                note(
                    rule.place.key("number"),
                    f"the number {rule.number} is used twice",
                    "Give one of them another number.",
                )
