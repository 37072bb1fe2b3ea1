"""The ladder: the same address asked from ever farther away, as everybody does by hand who looks for what is broken.

The machine itself by loopback, by its own address, by name; a neighbour on each of its networks by that address, by the public
one, by name; somebody on the internet by address, by name; plainly and securely where both are listened for.
"""

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address

from portolan.diagnosis.base import Case, Finding, all_homes, on_internet, outside_addresses
from portolan.diagnosis.registry import recognise
from portolan.estate.base import IPAddress, is_public
from portolan.estate.machine import Machine
from portolan.estate.places import NEAR, anybody, unwritten
from portolan.estate.service import WebService
from portolan.estate.url import DEFAULT_PORTS, Url, parse
from portolan.estate.vantage import AsIfVantage, Expectation, Vantage
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import Miss, expectation_for, expected_urls, misses
from portolan.journey.question import Question
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

_LOOPBACK: dict[int, IPAddress] = {4: IPv4Address("127.0.0.1"), 6: IPv6Address("::1")}
_OTHER = {"http": "https", "https": "http"}


class Rung(Value, frozen=True):
    """One place and way to ask; `address` is what the name is taken for, None where it is looked up."""

    name: str
    vantage: Vantage
    address: IPAddress | None
    world: World
    visit: Visit
    #: What visitors ask securely, the machine may be asked plainly, and at another port: what this rung stands for.
    secure: bool
    #: What is missed there; nothing where what is expected of the address is for others only.
    missed: tuple[Miss, ...]
    expectation: Expectation | None

    @property
    def findings(self) -> list[Finding]:
        """What is wrong there: the likeliest first."""
        return recognise(Case(self.world, self.visit, self.expectation))


class Ladder(Value, frozen=True):
    """The rungs in order, and the machine that they begin at; None where the estate describes none that gives the page."""

    url: str
    machine: str | None
    rungs: tuple[Rung, ...]

    @property
    def broken(self) -> Rung | None:
        """The first rung that fails."""
        return next((each for each in self.rungs if each.missed), None)


def ladder(question: Question) -> Ladder:
    """Asks a question's address from every rung. Raises BadUrlError where it is none."""
    world, url = question.world, parse(question.url)
    outside = _outside(world, question)
    peopled = world.with_vantages(outside)
    first = visit(peopled, question.url, outside)
    homes = Case(peopled, first, expectation_for(world.estate, question.url, outside)).homes()
    homes = homes or [each for each in all_homes(world.estate) if url.literal in each.machine.addresses]
    home = homes[0] if homes else None
    machine = home.machine if home is not None else None
    public = _public(world, first, machine)
    by_name = "by name" if url.literal is None else f"by {url.literal}"
    rungs: dict[tuple[str, str], Rung] = {}
    for asked in _schemes(url, home.service if home is not None else None):
        at_home = _at_home(asked, home.service) if home is not None else asked
        for name, vantage, address in _places(world, machine, outside, public, by_name):
            at_machine = machine is not None and (address in _LOOPBACK.values() or address in machine.addresses)
            there = at_home if at_machine else asked
            if (name, str(there)) not in rungs:
                rungs[name, str(there)] = _climbed(world, asked, there, name, vantage, address)
    return Ladder(question.url, machine.name if machine is not None else None, tuple(rungs.values()))


def _outside(world: World, question: Question) -> Vantage:
    """Who asks from the internet: the question's own visitor where that is there, else anybody."""
    vantage = question.vantage
    return vantage if vantage.host is None and on_internet(world.estate, vantage) else anybody()


def _schemes(url: Url, service: WebService | None) -> list[Url]:
    """The address as it was asked, and with the other scheme where the machine listens for that at its usual port."""
    other = _OTHER[url.scheme]
    usual = url.but(scheme=other, port=DEFAULT_PORTS[other])
    listens = service.listens if service is not None else ()
    heard = any(each.port == usual.port and each.tls == usual.secure for each in listens)
    if url.port != DEFAULT_PORTS[url.scheme] or not heard:
        return [url]
    return sorted([url, usual], key=lambda each: each.secure)


def _at_home(url: Url, service: WebService) -> Url:
    """The address at which the machine's own program is asked: it may listen on another port than visitors ask, or plainly behind a front."""
    like = [each for each in service.listens if each.tls == url.secure] or list(service.listens)
    if not like or any(each.port == url.port for each in like):
        return url
    return url.but(scheme="https" if like[0].tls else "http", port=like[0].port)


def _public(world: World, first: Visit, machine: Machine | None) -> list[IPAddress]:
    """The public addresses that the name leads to; where it leads to none, those that lead to the machine. One of each kind."""
    found = [each for each in first.exchanges[0].resolution.addresses if is_public(each)]
    if not found and machine is not None:
        found = outside_addresses(world.estate, machine)
    return _one_of_each(found)


def _one_of_each(addresses: list[IPAddress]) -> list[IPAddress]:
    firsts: dict[int, IPAddress] = {}
    for each in addresses:
        firsts.setdefault(each.version, each)
    return [firsts[version] for version in sorted(firsts)]


def _places(
    world: World, machine: Machine | None, outside: Vantage, public: list[IPAddress], by_name: str
) -> Iterator[tuple[str, Vantage, IPAddress | None]]:
    """The rungs of one address: what each is called, who asks, and what the name is taken for."""
    if machine is not None:
        itself = Vantage(name=machine.name, host=machine.name)
        own = _one_of_each(list(machine.addresses))
        for address in own:
            over = "" if address.version == own[0].version else f" over IPv{address.version}"
            yield f"{machine.name} itself, by loopback{over}", itself, _LOOPBACK[address.version]
        for address in own:
            yield f"{machine.name} itself, by {address}", itself, address
        yield f"{machine.name} itself, {by_name}", itself, None
        held: dict[str, list[IPAddress]] = {}
        for interface in machine.interfaces.values():
            held.setdefault(interface.network, []).extend(each.ip for each in interface.address)
        for network, addresses in held.items():
            near = unwritten(world.stated, f"{NEAR}{network}")
            if near is None or not addresses:
                continue
            kinds = {each.ip.version for each in near.address}
            outer = [each for each in public if each not in machine.addresses]
            for address in (*_one_of_each(addresses), *outer):
                if address.version in kinds:
                    yield f"a neighbour on {network}, by {address}", near, address
            yield f"a neighbour on {network}, {by_name}", near, None
    kinds = {each.ip.version for each in outside.address}
    for address in public:
        if address.version in kinds:
            yield f"{outside.name}, by {address}", outside, address
    yield f"{outside.name}, {by_name}", outside, None


def _climbed(world: World, asked: Url, there: Url, name: str, vantage: Vantage, address: IPAddress | None) -> Rung:
    """One rung: `there` is what is asked at it, `asked` what visitors ask."""
    if address is not None:
        vantage = AsIfVantage.of(vantage, (asked.host, address))
    peopled = world.with_vantages(vantage)
    found = visit(peopled, str(there), vantage)
    expectation = expectation_for(world.estate, str(asked), vantage)
    for_others = expectation is None and any(each == asked for _, each in expected_urls(world.estate))
    first = found.exchanges[0].response
    # What is expected of others only is nothing that this place could miss, and a program behind a front may send visitors to that: it
    # is enough there that somebody answers.
    held = for_others and found.outcome.kind in (Kind.SERVED, Kind.HTTP_ERROR)
    held |= there != asked and first is not None and 0 < first.status < 400
    name += f", port {there.port}" if there != asked else ""
    return Rung(
        name, vantage, address, peopled, found, asked.secure, () if held else misses(expectation, found), expectation
    )
