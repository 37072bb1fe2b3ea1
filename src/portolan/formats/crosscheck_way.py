"""Cross-checks of what packets meet: filters, translations, access lists."""

import re
from collections.abc import Callable, Iterator

from portolan.estate.filter import CHAINS, FilterRule, OneFilter
from portolan.estate.guesses import MOST_SPREAD
from portolan.estate.machine import Forward, Machine, SourceNat
from portolan.estate.network import Network
from portolan.formats import patterns
from portolan.formats.crosscheck_routes import there
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place
from portolan.source.plain import one_line

Note = Callable[..., None]
_MOST_JUMPS = 15


def filters(filtering: OneFilter | None, interfaces: tuple[str, ...], note: Note, routes: bool) -> None:
    """A filter: its chains, its areas, and whom its rules name."""
    if filtering is None:
        return
    if filtering.forward is not None and not routes:
        note(
            filtering.place.key("forward"),
            "only a machine that passes packets on has this chain",
            "Take 'forward' away, use 'inbound', or say 'passes_on: true'.",
        )
    if not filtering.stateful and "known-connections" in (filtering.basics or ()):
        note(
            filtering.place.key("stateful"),
            "'stateful: false' and 'known-connections' among the basics contradict each other",
            "Keep 'basics'.",
        )
    if filtering.arriving is not None and filtering.arriving.default == "reject":
        note(filtering.arriving.place.key("default"), "what arrives can be dropped, not rejected", "Write 'drop'.")
    for name, place, rules in _chains(filtering):
        for rule in rules:
            _rule(rule, name, interfaces, note)
            if rule.next is not None and rule.next not in filtering.chains:
                note(
                    rule.place.key("jump" if rule.jump else "goto"),
                    f"no chain of this filter is named '{one_line(rule.next)}'",
                    did_you_mean(rule.next, filtering.chains) or "Add it under 'chains'.",
                )
        if _circle(filtering, name, [rule.next for rule in rules if rule.next]):
            note(place, "the chains jump to each other in a circle", "Take one jump away.")
    _depth(filtering, note)
    _areas(filtering, interfaces, note)
    _before_tracking(filtering, note)
    _sets(filtering, note)


def _sets(filtering: OneFilter, note: Note) -> None:
    for held in filtering.sets.values():
        if not re.fullmatch(patterns.SET_NAME, held.name):
            note(
                held.place,
                f"no rule can name a set '{one_line(held.name)}'",
                "Begin with a letter; letters, digits, '_', '-' and '.' follow.",
            )
        if bool(held.addresses) == bool(held.ports):
            note(held.place, "a set holds either 'addresses' or 'ports'", "Write for example: {ports: [80, 443]}.")


def _before_tracking(filtering: OneFilter, note: Note) -> None:
    """What the chain `arriving` cannot ask, nor the chains that it leads to: nothing is tracked or forwarded yet."""
    chain = filtering.arriving
    if chain is None:
        return
    waiting, seen = [*chain.rules], set[str]()
    while waiting:
        rule = waiting.pop()
        for key, held in (("state", rule.state), ("not_state", rule.not_state), ("forwarded", rule.forwarded)):
            if held not in ((), None):
                note(rule.place.key(key), f"'{key}' means nothing before connection tracking", "Take it away.")
        if rule.reject:
            note(rule.place.key("reject"), "what arrives can be dropped, not rejected", "Write 'drop'.")
        if rule.next is not None and rule.next in filtering.chains and rule.next not in seen:
            seen.add(rule.next)
            waiting += filtering.chains[rule.next].rules


def _depth(filtering: OneFilter, note: Note) -> None:
    """How deep chains jump into each other: the kernel loads no more levels (NFT_JUMP_STACK_SIZE, measured)."""
    for name, place, rules in _chains(filtering):
        if name in filtering.chains:
            continue
        level = {rule.next for rule in rules if rule.next}
        for _ in range(_MOST_JUMPS):
            level = {
                rule.next
                for each in level
                if each in filtering.chains
                for rule in filtering.chains[each].rules
                if rule.next
            }
        if level:
            note(
                place,
                f"its jumps lead more than {_MOST_JUMPS} chains deep",
                "No kernel loads that: put rules together.",
            )


def _chains(filtering: OneFilter) -> Iterator[tuple[str, Place, tuple[FilterRule, ...]]]:
    for name in CHAINS:
        chain = getattr(filtering, name)
        if chain is not None:
            yield name, chain.place, chain.rules
    for named in filtering.chains.values():
        yield named.name, named.place, named.rules


def _circle(filtering: OneFilter, name: str, jumps: list[str]) -> bool:
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
            waiting += [rule.next for rule in chain.rules if rule.next]
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
            ("goto", rule.goto),
        )
        if held
    ]
    if len(verdicts) != 1:
        note(
            rule.place,
            "a rule has exactly one of 'allow', 'drop', 'reject', 'return', 'jump' and 'goto'",
            "Write for example: {allow: tcp, ports: 443}.",
        )
        return
    if rule.of and not rule.next:
        note(
            rule.place.key("protocol"), "'protocol' belongs to 'jump' and 'goto'", f"Write '{verdicts[0]}: {rule.of}'."
        )
    what = "protocol" if rule.next else verdicts[0]
    if (rule.ports or rule.source_ports or rule.not_ports or rule.not_source_ports) and rule.protocol not in (
        "tcp",
        "udp",
    ):
        note(rule.place, "ports belong to tcp or udp", f"Write '{what}: tcp'.")
    if rule.icmp_types and rule.protocol != "icmp":
        note(rule.place.key("icmp_types"), "'icmp_types' belongs to the protocol icmp", f"Write '{what}: icmp'.")
    if rule.answer and not rule.reject:
        note(rule.place.key("answer"), "'answer' belongs to 'reject'")
    if rule.answer == "tcp-reset" and rule.reject != "tcp":
        note(rule.place.key("answer"), "a TCP reset can only answer 'reject: tcp'")
    if (rule.entering or rule.not_entering) and chain == "outbound":
        key = "in" if rule.entering else "not_in"
        note(rule.place.key(key), "what the machine itself sends came in by no interface", "Use 'out'.")
    if (rule.leaving or rule.not_leaving) and chain in ("inbound", "arriving"):
        key = "out" if rule.leaving else "not_out"
        note(rule.place.key(key), "what arrives at the machine leaves by no interface", "Use 'in'.")
    if rule.forwarded is not None and chain == "outbound":
        note(rule.place.key("forwarded"), "'forwarded' belongs to the chains 'forward' and 'inbound'")
    for key, names in (
        ("in", rule.entering),
        ("not_in", rule.not_entering),
        ("out", rule.leaving),
        ("not_out", rule.not_leaving),
    ):
        _asked_of(names, interfaces, rule.place.key(key), note)


def _asked_of(names: tuple[str, ...], interfaces: tuple[str, ...], place: Place, note: Note) -> None:
    """Interfaces that a filter asks for: loopback, and beginnings of names, too."""
    there([name for name in names if name != "lo" and not name.endswith("*")], interfaces, place, note)


def _areas(filtering: OneFilter, interfaces: tuple[str, ...], note: Note) -> None:
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
        _asked_of(area.interfaces, interfaces, area.place.key("interfaces"), note)
        if area.answer is not None and area.otherwise != "reject":
            note(area.place.key("answer"), "'answer' belongs to 'otherwise: reject'")
        if area.answer == "tcp-reset":
            note(area.place.key("answer"), "a TCP reset cannot answer every protocol", "Leave it out, or write rules.")


def translations(machine: Machine, note: Note) -> None:
    """A machine's forwards, masquerading and other translations."""
    interfaces = tuple(machine.interfaces)
    named = [(machine.place.key("masquerade"), name) for name in machine.masquerade]
    for held in (machine.one_to_one, machine.source_nat):
        named += [(each.place.key("on"), each.on) for each in held]
    for forward in machine.forwards:
        named += [(forward.place.key("on"), forward.on)] if forward.on is not None else []
        named += [(forward.place.key("not_on"), name) for name in forward.not_on]
    for place, name in named:
        if not (name == "lo" and "source_nat" in place.path):
            there([name], interfaces, place, note)
    for pair in machine.one_to_one:
        if pair.outside.version != pair.inside.version:
            note(pair.place, "'outside' and 'inside' are of different IP versions")
    for forward in machine.forwards:
        _forward(forward, note)
    for rule in machine.source_nat:
        _spread(rule, note)
        if rule.tcp and rule.udp:
            note(rule.place, "source NAT is narrowed by 'tcp' or by 'udp'", "Write a line for each.")


def _forward(forward: Forward, note: Note) -> None:
    _spread(forward, note)
    if (forward.tcp is None) == (forward.udp is None):
        note(
            forward.place,
            "a forward has exactly one of 'tcp' and 'udp'",
            "Write for example: {on: line, tcp: 443, to: 10.20.0.15}.",
        )
        return
    if forward.to is None and forward.port is None:
        note(
            forward.place, "a forward says 'to', 'port' or both", "Write for example: {on: line, tcp: 80, port: 8080}."
        )
    if forward.port is not None:
        span = forward.outside.last - forward.outside.first
        if not 1 <= forward.port <= 65535 - span:
            note(forward.place.key("port"), f"expected a port, 1 to {65535 - span}, found {forward.port}")
        if forward.up_to is not None and span:
            note(forward.place.key("up_to"), "several inside addresses take one port, not a shifted range")


def _spread(held: Forward | SourceNat, note: Note) -> None:
    """Several addresses, from `to` to `up_to`."""
    if held.up_to is None:
        return
    place = held.place.key("up_to")
    if held.to is None or held.to.version != held.up_to.version or int(held.to) >= int(held.up_to):
        note(place, "'up_to' is a later address than 'to', of the same IP version")
    elif int(held.up_to) - int(held.to) >= MOST_SPREAD:
        note(place, f"at most {MOST_SPREAD} addresses can be said so")


def access_list(network: Network, note: Note) -> None:
    """A network's access list: its lines."""
    held = network.access_list
    if held is None:
        return
    if network.kind == "internet":
        note(held.place, "the internet has no access list", "Put it on the subnet that it belongs to.")
    for rules in (held.inbound, held.outbound):
        for rule in rules or ():
            if (rule.allow is None) == (rule.drop is None):
                note(
                    rule.place,
                    "a line has exactly one of 'allow' and 'drop'",
                    "Write for example: {allow: tcp, ports: 443}.",
                )
            elif rule.ports and rule.protocol not in ("tcp", "udp"):
                note(rule.place.key("ports"), "ports belong to tcp or udp")
