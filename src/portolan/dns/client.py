"""What a visitor's device does with a host name, in this order.

0. what the one question is to be asked as if it were so; 1. a literal address; 2. the hosts file; 3. localhost names (RFC 6761); 4. names under .local on its own links (RFC
6762); 5. the resolver, through the search list where the name has no final dot.
"""

from ipaddress import IPv4Address, IPv6Address
from typing import Any

from portolan.dns.answer import Answer, Asker
from portolan.dns.memory import FAILED
from portolan.dns.naming import Naming, ordinary_resolver
from portolan.dns.sizes import PLAIN_UDP, by_tcp, few, longest
from portolan.dns.tree import address_records, within
from portolan.estate.base import IPAddress, is_public
from portolan.estate.client import Client
from portolan.estate.guesses import machines, seat_of
from portolan.estate.machine import Machine
from portolan.estate.vantage import AsIfVantage, Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Resolution
from portolan.evidence.outcome import Detail

_LOOPBACK: tuple[IPAddress, ...] = (IPv6Address("::1"), IPv4Address("127.0.0.1"))
#: So many resolvers a device asks (MAXNS of glibc).
MOST_RESOLVERS = 3
#: After these a device tries the next domain of its search list; after the others it gives up.
_SEARCHES_ON = frozenset((Detail.NO_SUCH_NAME, Detail.NO_ADDRESS, Detail.RESOLVER_FAILURE, Detail.REFUSED))


def resolve(naming: Naming, host: str, literal: IPAddress | None, client: Client) -> Resolution:
    """A host's addresses as a visitor's device finds them, in no particular order yet."""
    if literal is not None:
        return Resolution(host, (literal,), None, (name_kinds.Literal(host),), (None,))
    if isinstance(client, AsIfVantage) and client.takes is not None and client.takes[0] == host:
        return Resolution(host, (client.takes[1],), None, (name_kinds.AsIfAt(*client.takes),), (None,))
    device = seat_of(naming.estate, client)
    found = _hosts_file(host, device)
    if found is not None:
        return found
    name = host.rstrip(".")
    if name == "localhost" or name.endswith(".localhost"):
        return Resolution(host, _LOOPBACK, None, (name_kinds.LoopbackName(host),), (None, None))
    if name.endswith(".local"):
        return _local(naming, name, device, client)
    answer = lookup(naming, host, client)
    return addresses(naming, host, answer)


def lookup(naming: Naming, host: str, client: Client) -> Answer:
    """What the device's resolver says, through the search list."""
    device = seat_of(naming.estate, client)
    name = host.rstrip(".")
    if not device.search or host.endswith("."):
        answer = Answer()
        _ask(naming, name, device, client, answer)
        if answer.detail is None and not address_records(answer.types) and "HTTPS" not in answer.types:
            _no_address(naming, answer)
        return answer
    further = [f"{name}.{domain}" for domain in device.search]
    tries = [name, *further] if name.count(".") >= device.ndots else [*further, name]
    first: Answer | None = None
    failed: list[Decision] = []
    for each in tries:
        answer = Answer()
        if each != name:
            facts = (host, each, device.name, ", ".join(device.search))
            answer.decisions.append(name_kinds.SearchList(*facts, place=device.place.key("search"), subject=device))
        _ask(naming, each, device, client, answer)
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


def _ask(naming: Naming, name: str, device: Machine | Vantage, client: Client, answer: Answer) -> None:
    address = device.resolver
    if address is None or address == "validating":
        label = device.name if client.last_asked else "an ordinary resolver"
        asker = Asker(label, None, None, None, address is not None, client.last_asked)
        naming.ask_ordinary(name, device, ordinary_resolver(device), asker, device.place, answer)
        return
    place = device.place.key("resolver")
    tried = address[:MOST_RESOLVERS]
    for number, each in enumerate(tried, 1):
        asked = Answer()
        naming.ask(name, device, each, asked, place, since=client.last_asked)
        if asked.detail not in FAILED:
            _fits(naming, name, device, each, asked)
        answer.take(asked)
        if asked.detail not in FAILED or number == len(tried):
            return
        reason = answer.decisions.pop().text
        answer.decisions.append(name_kinds.NextResolver(device.name, each, reason, place=place, subject=device))


def _fits(naming: Naming, name: str, device: Machine | Vantage, address: IPAddress, answer: Answer) -> None:
    """Whether a large answer comes from the resolver: more than 512 octets are asked for again by TCP."""
    if few(answer.types):
        return
    size, kind = longest(name, answer.types)
    if size <= PLAIN_UDP or not (naming.described(address) or not is_public(address)):
        return
    by_tcp(naming, device, name, answer.types[kind], size, (address,), answer)


def addresses(naming: Naming, host: str, answer: Answer) -> Resolution:
    """An answer's addresses."""
    records: list[Any] = address_records(answer.types) if answer.detail is None else []
    if answer.detail is None and not records:
        _no_address(naming, answer)
    for record in records:
        answer.decisions.append(name_kinds.Address(answer.name, record.data, place=record.place, subject=record))
    zone = naming.estate.zones.get(answer.zone or "")
    if zone is not None and zone.guessed:
        answer.decisions.append(name_kinds.ZoneGuessed(zone.name, place=zone.place.key("guessed"), subject=zone))
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
    answer.fail(Detail.NO_ADDRESS, zone_kinds.NoAddress(answer.name, held, place=place, subject=zone))


def _hosts_file(host: str, device: Machine | Vantage) -> Resolution | None:
    if device.hosts_file is None:
        return None
    lines = device.hosts_file.lines_of(host)
    if not lines:
        return None
    decisions = tuple(
        name_kinds.HostsLine(device.name, host, line.address, place=line.place, subject=line) for line in lines
    )
    return Resolution(host, tuple(line.address for line in lines), None, decisions, lines)


def _local(naming: Naming, name: str, device: Machine | Vantage, client: Client) -> Resolution:
    """A name that machines announce on their own links."""
    links = _links(device)
    for machine in machines(naming.estate):
        if machine.local_name != name:
            continue
        for interface in machine.interfaces.values():
            network = interface.network
            if network in links and interface.address and (network != "internet" or machine is device):
                found = tuple(item.ip for item in interface.address)
                decision = name_kinds.LocalName(
                    machine.name, name, network, place=machine.place.key("local_name"), subject=machine
                )
                return Resolution(name, found, None, (decision,), tuple(None for _ in found))
    if any(within(name, zone) for zone in naming.estate.zones):
        return addresses(naming, name, lookup(naming, name, client))
    stop = name_kinds.LocalOnly(name, device.name, place=device.place, subject=device)
    return Resolution(name, (), Detail.NO_SUCH_NAME, (stop,))


def _links(device: Machine | Vantage) -> set[str]:
    if isinstance(device, Vantage):
        return {device.network or ""}
    return {interface.network for interface in device.interfaces.values()}
