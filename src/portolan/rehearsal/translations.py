"""The translation driver: forwards, redirects, one-to-one addresses, source NAT, masquerading and hairpin as nf_tables rules."""

from collections.abc import Iterator

from portolan.estate.base import IPAddress, PortRange
from portolan.estate.filter import FilterRule
from portolan.estate.machine import Forward, Machine, SourceNat
from portolan.estate.service import NameServer, Resolver
from portolan.rehearsal.facts import Box, addresses_of, forwarded, runs, several
from portolan.rehearsal.ways import device_name


def translation(box: Box) -> list[str]:
    """A machine's translations, a table for each IP version that has any."""
    if not isinstance(box, Machine):
        return []
    tables = []
    for family, version in (("ip", 4), ("ip6", 6)):
        into, own, out = list(_own_first(box, family, version)), list[str](), list[str]()
        for forward in box.forwards:
            if forward.enabled:
                into += _forward(box, forward, version)
                own += _own_connections(box, forward, version)
        if _turns_round(box):
            for interface in box.interfaces.values():
                device = device_name(box, interface.name)
                out.append(f"ct mark and 0xffff == {_mark(device)} oifname {device} ct status dnat counter masquerade")
        for pair in box.one_to_one:
            if pair.outside.version == version:
                device = device_name(box, pair.on)
                where = "" if box.hairpin != "off" else f"iifname {device} "
                into.append(f"{where}{family} daddr {pair.outside} {_unturned(box, None)}counter dnat to {pair.inside}")
                out.append(f"oifname {device} {family} saddr {pair.inside} counter snat to {pair.outside}")
        for rule in box.source_nat:
            out += _source_nat(box, rule, version)
        if version == 4:
            out += [f"oifname {device_name(box, name)} counter masquerade" for name in box.masquerade]
        if into or own or out:
            tables.append(_table(box, family, into, own, out))
    return tables


def addressed(held: FilterRule | Forward | SourceNat, version: int) -> list[str] | None:
    """What is asked of a version's addresses, as ranges and as ranges that are left out; None where none of it fits."""
    word = "ip" if version == 4 else "ip6"
    found = []
    targets = getattr(held, "destinations", ()), getattr(held, "not_destinations", ())
    for side, ranges, others in (("saddr", held.sources, held.not_sources), ("daddr", *targets)):
        mine = [str(each) for each in ranges if each.version == version]
        if ranges and not mine:
            return None
        if mine:
            found.append(f"{word} {side} {{ {', '.join(mine)} }}")
        left_out = [str(each) for each in others if each.version == version]
        if left_out:
            found.append(f"{word} {side} != {{ {', '.join(left_out)} }}")
    return found


def _asked_of(box: Machine, forward: Forward, version: int) -> str | None:
    """The match on the addresses that a forward is for; None where the version has none."""
    word = "ip" if version == 4 else "ip6"
    if forward.address == "own":
        return "fib daddr type local"
    if forward.address == "any":
        return ""
    if isinstance(forward.address, tuple):
        held = [each for each in forward.address if each.version == version]
    else:
        names = list(box.interfaces) if forward.on is None else [forward.on]
        held = [item.ip for name in names for item in box.interfaces[name].address if item.version == version]
    return f"{word} daddr {{ {', '.join(map(str, held))} }}" if held else None


def _sent_to(box: Machine, forward: Forward, version: int) -> Iterator[tuple[str, str]]:
    """What a forward does: the match on its ports, with the target of each."""
    if forward.to is not None and forward.to.version != version:
        return
    host = "" if forward.to is None else f"[{forward.to}]" if version == 6 else str(forward.to)
    if forward.up_to is not None:
        host += f"-[{forward.up_to}]" if version == 6 else f"-{forward.up_to}"
    word = "redirect" if forward.to is None else "dnat"
    for ports, number in _shifted(forwarded(forward)[1], forward.port):
        to = host.replace("[", "").replace("]", "") if number is None else f"{host}:{number}"
        yield f"{forwarded(forward)[0]} dport {ports}", f"{_unturned(box, forward)}counter {word} to {to}"


def _shifted(outside: PortRange, port: int | None) -> Iterator[tuple[str, int | None]]:
    """Ports and the inside port of each; a shifted range goes port by port."""
    if port is None:
        yield str(outside), None
        return
    for number in range(outside.first, outside.last + 1):
        yield str(number), port + number - outside.first


def _forward(box: Machine, forward: Forward, version: int) -> Iterator[str]:
    asked, narrowed = _asked_of(box, forward, version), addressed(forward, version)
    if asked is None or narrowed is None:
        return
    where = []
    if forward.on is not None and (forward.hairpin or box.hairpin) == "off":
        where.append(f"iifname {device_name(box, forward.on)}")
    if forward.not_on:
        where.append(f"iifname != {{ {', '.join(device_name(box, each) for each in forward.not_on)} }}")
    for ports, verdict in _sent_to(box, forward, version):
        yield " ".join((*where, asked, *narrowed, ports, verdict))


def _own_connections(box: Machine, forward: Forward, version: int) -> Iterator[str]:
    asked, narrowed = _asked_of(box, forward, version), addressed(forward, version)
    if forward.own_connections and asked is not None and narrowed is not None:
        for ports, verdict in _sent_to(box, forward, version):
            yield " ".join((asked, *narrowed, ports, verdict))


def _source_nat(box: Machine, rule: SourceNat, version: int) -> Iterator[str]:
    versions = {each.version for each in (*rule.sources, *rule.destinations)} or {4}
    fits = rule.to.version == version if rule.to is not None else version in versions
    narrowed = addressed(rule, version)
    if not fits or narrowed is None:
        return
    parts = [f"oifname {device_name(box, rule.on)}", *narrowed]
    for word, ports in (("tcp", rule.tcp), ("udp", rule.udp)):
        if ports:
            parts.append(f"{word} dport {{ {', '.join(map(str, ports))} }}")
    target = "masquerade" if rule.to is None else f"snat to {_range(several(rule.to, rule.up_to))}"
    yield " ".join((*parts, "counter", target))


def _range(addresses: list[IPAddress]) -> str:
    return str(addresses[0]) if len(addresses) == 1 else f"{addresses[0]}-{addresses[-1]}"


def _turns_round(box: Machine) -> bool:
    """Whether what any forward sends back to the side that it came from gets another source."""
    return box.hairpin == "full" or any(each.hairpin == "full" for each in box.forwards)


def _unturned(box: Machine, forward: Forward | None) -> str:
    """Takes the mark away by which postrouting knows what came from where, for what is not to be turned round."""
    how = (forward.hairpin if forward is not None else None) or box.hairpin
    return "ct mark set ct mark and 0xffff0000 " if _turns_round(box) and how != "full" else ""


def _mark(device: str) -> int:
    return int(device[2:]) + 1


def _table(box: Machine, family: str, into: list[str], own: list[str], out: list[str]) -> str:
    """A family's translations as one table; where inside packets are turned round, with the marks that tell them."""
    lines = [f"table {family} translate {{"]
    for name, hook, priority, texts in (
        ("into", "nat hook prerouting", -100, into),
        ("own", "nat hook output", -100, own),
        ("out", "nat hook postrouting", 100, out),
    ):
        if texts or name == "into":
            lines += [f"  chain {name} {{", f"    type {hook} priority {priority}; policy accept;"]
            lines += [f"    {text}" for text in texts]
            lines.append("  }")
    if _turns_round(box):
        lines += ["  chain marks {", "    type filter hook prerouting priority -150; policy accept;"]
        for name in box.interfaces:
            device = device_name(box, name)
            lines.append(f"    iifname {device} ct state new ct mark set {_mark(device)}")
        lines.append("  }")
    return "\n".join([*lines, "}"])


def _own_first(box: Machine, family: str, version: int) -> Iterator[str]:
    """Where the machine's own services come first: what they take is not translated."""
    if not box.own_services_first:
        return
    own = [each for each in addresses_of(box) if each.version == version]
    for service in box.services.values():
        if not runs(service):
            continue
        for listener in service.listens:
            everywhere = listener.address is None or int(listener.address) == 0
            taken = [str(each) for each in own if everywhere or each == listener.address]
            if taken:
                protocols = "{ tcp, udp }" if isinstance(service, NameServer | Resolver) else "tcp"
                yield f"{family} daddr {{ {', '.join(taken)} }} meta l4proto {protocols} th dport {listener.port} counter return"
