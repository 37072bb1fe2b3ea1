"""What a visitor's device does with a host name, in this order.

1. a literal address; 2. the hosts file; 3. localhost names (RFC 6761); 4. names under .local on its own links (RFC
6762); 5. the resolver, through the search list where the name has no final dot.
"""

from ipaddress import IPv4Address, IPv6Address
from typing import Any

from portolan.dns.answer import Answer, Asker
from portolan.dns.naming import Naming, address_records, ordinary_resolver, within
from portolan.estate.base import IPAddress
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.results import Resolution

_LOOPBACK: tuple[IPAddress, ...] = (IPv6Address("::1"), IPv4Address("127.0.0.1"))
#: After these a device tries the next domain of its search list; after the others it gives up.
_SEARCHES_ON = frozenset(("no-such-name", "no-address", "resolver-failure", "refused"))


def resolve(naming: Naming, host: str, literal: IPAddress | None, vantage: Vantage) -> Resolution:
    """A host's addresses as a visitor's device finds them, in no particular order yet."""
    if literal is not None:
        return Resolution(host, (literal,), None, (name_kinds.Literal(host),), (None,))
    client = client_of(naming, vantage)
    found = _hosts_file(host, client)
    if found is not None:
        return found
    name = host.rstrip(".")
    if name == "localhost" or name.endswith(".localhost"):
        return Resolution(host, _LOOPBACK, None, (name_kinds.LoopbackName(host),), (None, None))
    if name.endswith(".local"):
        return _local(naming, name, client, vantage)
    answer = lookup(naming, host, vantage)
    return addresses(naming, host, answer)


def client_of(naming: Naming, vantage: Vantage) -> Machine | Vantage:
    """The device whose resolver and hosts file count."""
    if vantage.host is None:
        return vantage
    return naming.estate.hosts.get(vantage.host) or naming.estate.routers[vantage.host]


def lookup(naming: Naming, host: str, vantage: Vantage) -> Answer:
    """What the device's resolver says, through the search list."""
    client = client_of(naming, vantage)
    name = host.rstrip(".")
    if not client.search or host.endswith("."):
        answer = Answer()
        _ask(naming, name, client, vantage, answer)
        if answer.detail is None and not address_records(answer.types) and "HTTPS" not in answer.types:
            _no_address(naming, answer)
        return answer
    further = [f"{name}.{domain}" for domain in client.search]
    tries = [name, *further] if "." in name else [*further, name]
    first: Answer | None = None
    failed: list[Decision] = []
    for each in tries:
        answer = Answer()
        if each != name:
            facts = (host, each, client.name, ", ".join(client.search))
            answer.decisions.append(name_kinds.SearchList(*facts, place=client.place.key("search"), subject=client))
        _ask(naming, each, client, vantage, answer)
        if answer.detail is None and not address_records(answer.types) and "HTTPS" not in answer.types:
            _no_address(naming, answer)
        if answer.detail not in _SEARCHES_ON:
            answer.decisions[:0] = failed
            return answer
        first = first or answer
        if len(tries) > 1:
            failed.append(
                name_kinds.SearchFailed(host, each, answer.decisions[-1].text, place=answer.decisions[-1].place)
            )
        last = answer
    assert first is not None
    # What is reported is what the name itself met.
    return first if tries[0] == name else last


def _ask(naming: Naming, name: str, client: Machine | Vantage, vantage: Vantage, answer: Answer) -> None:
    address = client.resolver
    if address is None or address == "validating":
        label = client.name if vantage.last_asked else "an ordinary resolver"
        asker = Asker(label, None, None, None, address is not None, vantage.last_asked)
        naming.ask_ordinary(name, client, ordinary_resolver(client), asker, client.place, answer)
    else:
        naming.ask(name, client, address, answer, client.place.key("resolver"), since=vantage.last_asked)


def addresses(naming: Naming, host: str, answer: Answer) -> Resolution:
    """An answer's addresses."""
    records: list[Any] = address_records(answer.types) if answer.detail is None else []
    if answer.detail is None and not records:
        _no_address(naming, answer)
    for record in records:
        answer.decisions.append(name_kinds.Address(answer.name, record.data, place=record.place, subject=record))
    return Resolution(
        host,
        tuple(record.data for record in records),
        answer.detail,
        tuple(answer.decisions),
        tuple(records),
        tuple(answer.aliases),
        answer.zone,
    )


def _no_address(naming: Naming, answer: Answer) -> None:
    zone = naming.estate.zones[answer.zone or ""]
    held = ", ".join(sorted(answer.types)) or "only names below it"
    place = next((records[0].place for records in answer.types.values()), zone.place)
    answer.fail("no-address", zone_kinds.NoAddress(answer.name, held, place=place, subject=zone))


def _hosts_file(host: str, client: Machine | Vantage) -> Resolution | None:
    if client.hosts_file is None:
        return None
    lines = [line for line in client.hosts_file.entries if host in line.names]
    if not lines:
        return None
    decisions = tuple(
        name_kinds.HostsLine(client.name, host, line.address, place=line.place, subject=line) for line in lines
    )
    return Resolution(host, tuple(line.address for line in lines), None, decisions, tuple(lines))


def _local(naming: Naming, name: str, client: Machine | Vantage, vantage: Vantage) -> Resolution:
    """A name that machines announce on their own links."""
    links = _links(client)
    for machine in machines(naming.estate):
        if machine.local_name != name:
            continue
        for interface in machine.interfaces.values():
            network = interface.network or interface.name
            if network in links and interface.address and (network != "internet" or machine is client):
                found = tuple(item.ip for item in interface.address)
                decision = name_kinds.LocalName(
                    machine.name, name, network, place=machine.place.key("local_name"), subject=machine
                )
                return Resolution(name, found, None, (decision,), tuple(None for _ in found))
    if any(within(name, zone) for zone in naming.estate.zones):
        return addresses(naming, name, lookup(naming, name, vantage))
    stop = name_kinds.LocalOnly(name, client.name, place=client.place, subject=client)
    return Resolution(name, (), "no-such-name", (stop,))


def _links(client: Machine | Vantage) -> set[str]:
    if isinstance(client, Vantage):
        return {client.network or ""}
    return {interface.network or interface.name for interface in client.interfaces.values()}
