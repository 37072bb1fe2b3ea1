"""The next thing to look at: the one check whose answer splits the suspects best, and what each answer would leave."""

import math
from collections.abc import Iterable, Iterator, Mapping

from portolan.diagnosis.trial import Apply
from portolan.estate.base import at_port
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.places import INTERNET, unwritten, unwritten_names
from portolan.estate.service import Service, WebService
from portolan.estate.vantage import Vantage
from portolan.evidence.outcome import Kind, Outcome
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.observing.observation import Seen, of
from portolan.observing.suspects import Checked, Doubt, Suspect, doubt, is_of
from portolan.source.place import Place
from portolan.source.value import Value

#: So many suspects are weighed, and so many of their ways; so many further places are thought of.
_MOST_WEIGHED, _MOST_WAYS, _MOST_PLACES = 24, 3, 6
#: What it takes off that somebody has to be found who looks, in bits.
_FETCHED, _ONE_FACT = 0.05, 0.02


class Look(Value, frozen=True):
    """Where a belief can be looked at: the objects that one look shows, the machine or page, and the command or what to open there."""

    object: str
    on: str
    how: str


class Answer(Value, frozen=True):
    """One answer to a check: how it shows, what to add to the question then, and which suspects it would leave."""

    shows: str
    add: str
    leaves: tuple[Suspect, ...]


class NextCheck(Value, frozen=True):
    """A check: what to do where, and what each answer would leave, the likeliest answer first."""

    on: str
    how: str
    answers: tuple[Answer, ...]
    bits: float


def further_places(world: World, told: Iterable[str]) -> tuple[Vantage, ...]:
    """Places to ask from that nobody told of yet: written ones, the internet, machines on the way, and their neighbours."""
    estate = world.stated
    held = set(told)
    names = [each.name for each in estate.vantages.values() if each.written]
    serving = {
        each.name
        for each in machines(estate)
        if any(isinstance(service, WebService) for service in each.services.values())
    }
    names += [INTERNET, *(each for each in unwritten_names(estate) if each in serving or each.startswith("near:"))]
    found = [estate.vantages.get(name) or unwritten(estate, name) for name in dict.fromkeys(names) if name not in held]
    return tuple(each for each in found if each is not None)[:_MOST_PLACES]


def looked_into(
    world: World,
    url: str,
    told: Mapping[Vantage, tuple[Seen, ...]],
    apply: Apply,
    most: int,
    checked: Iterable[Checked] = (),
) -> tuple[Doubt, NextCheck | None]:
    """What may be wrong for what is seen, and what to look at next; None where there is nothing to look at. Raises BadUrlError."""
    places = further_places(world, [each.name for each in told])
    world = world.with_vantages(*(each for each in places if each.name not in world.estate.vantages))
    found = doubt(world, url, [(world.there(each), seen) for each, seen in told.items()], apply, most, checked)
    return found, None if found.agrees else next_check(found, places)


def next_check(doubtful: Doubt, places: Iterable[Vantage]) -> NextCheck | None:
    """The check that splits the suspects best; None where there is nothing to split, or no check here tells them apart."""
    suspects = doubtful.suspects[:_MOST_WEIGHED]
    if not suspects:
        return None
    if len(suspects) == 1:
        # Nothing is to be told apart: it is to be looked at.
        return next(_lookings(doubtful.world.estate, suspects), None)
    made = [*_askings(doubtful, suspects, places), *_lookings(doubtful.world.estate, suspects)]
    best = max(made, key=lambda each: each.bits, default=None)
    return best if best is not None and best.bits > 0 else None


def _askings(doubtful: Doubt, suspects: tuple[Suspect, ...], places: Iterable[Vantage]) -> Iterator[NextCheck]:
    """Asking the same address from another place."""
    for place in places:
        parts: dict[str, tuple[Outcome, dict[str, Suspect], float]] = {}
        for suspect in suspects:
            share = suspect.weight / len(suspect.wrong[:_MOST_WAYS])
            for wrong in suspect.wrong[:_MOST_WAYS]:
                there = wrong.world.estate.vantages.get(place.name)
                if there is None:
                    continue
                outcome = visit(wrong.world, doubtful.url, there).outcome
                known, held, weight = parts.get(_shown(outcome), (outcome, {}, 0.0))
                held[str(suspect.key)] = suspect
                parts[_shown(outcome)] = (known, held, weight + share)
        answers = [
            Answer(shown, f"--seen '{place.name}={of(outcome).words}'", tuple(held.values()))
            for shown, (outcome, held, _) in sorted(parts.items(), key=lambda each: -each[1][2])
        ]
        how = f"curl -sS -m 10 -o /dev/null -w 'answer %{{http_code}}\\n' {doubtful.url}"
        if place.most_redirects:
            how = how.replace("curl -sS", "curl -sSL")
        bits = _bits([weight for _, _, weight in parts.values()])
        # What is left in several answers is not split by them.
        twice = sum(len(each.leaves) for each in answers) - len(suspects)
        yield NextCheck(place.host or place.name, how, tuple(answers), bits - _FETCHED - 0.1 * max(0, twice))


def _shown(outcome: Outcome) -> str:
    """How an outcome shows to who asks by curl."""
    if outcome.status is not None and outcome.kind in (Kind.SERVED, Kind.HTTP_ERROR):
        page = f" (the page {outcome.page})" if outcome.page is not None else ""
        return f"answer {outcome.status}{page}"
    return (outcome.detail or outcome.kind).replace("-", " ")


def _lookings(estate: Estate, suspects: tuple[Suspect, ...]) -> Iterator[NextCheck]:
    """Looking at what one look shows: is all of it as it is written?"""
    looks = [look for each in suspects for look in _looks_of(estate, each)]
    total = sum(each.weight for each in suspects)
    for look in {each.object: each for each in looks}.values():
        within = tuple(each for each in suspects if is_of(each.belief, look.object))
        beyond = tuple(each for each in suspects if each not in within)
        weight = sum(each.weight for each in within)
        answers = (
            Answer("all of it is as it is written", f"--checked {look.object}=right", beyond),
            Answer("something there is otherwise", f"--checked {look.object}=wrong", within),
        )
        less = _ONE_FACT if len(within) == 1 else 0.0
        yield NextCheck(look.on, look.how, answers, _bits([weight, total - weight]) - less)


def _bits(weights: list[float]) -> float:
    """How much an answer tells: the entropy of its parts, in bits."""
    total = sum(weights)
    return -sum(each / total * math.log2(each / total) for each in weights if each > 0) if total > 0 else 0.0


# -- where a belief can be looked at -----------------------------------------------------------------------------------


def _looks_of(estate: Estate, suspect: Suspect) -> Iterator[Look]:
    """Where a suspect is looked at; what a provider does shows nowhere on one's own machines."""
    blocked = next(
        (each.way for each in suspect.wrong if str(each.way.patch[0]["path"]).endswith("/provider_blocks")), None
    )
    if blocked is None:
        yield from looks_at(estate, suspect.belief)
        return
    ports = ", ".join(map(str, blocked.patch[0]["value"]))
    yield Look(suspect.object, "whoever provides the line", f"ask whether they let port {ports} in")


def looks_at(estate: Estate, belief: Place) -> Iterator[Look]:
    """Where a belief can be looked at: what one look shows as a whole, and the fact by itself."""
    path = belief.path
    if len(path) < 2:
        return
    section, name = str(path[0]), str(path[1])
    look = {
        "zones": lambda: Look(f"zones.{name}", f"whoever runs the zone {name}", "open the records of the zone"),
        "groups": lambda: Look(
            f"groups.{name}", "the console of the rented machines", f"open the security group {name}"
        ),
        "networks": lambda: Look(f"networks.{name}", "the console of the network", f"open the network {name}"),
        "edges": lambda: Look(f"edges.{name}", "the console of the edge", f"open the settings of {name}"),
        "stores": lambda: Look(f"stores.{name}", "the console of the object store", f"open the settings of {name}"),
        "certificates": lambda: _certificate(estate, name),
        "vantages": lambda: Look(
            f"vantages.{name}", name, "cat /etc/hosts /etc/resolv.conf; ip address; ip route; date"
        ),
        "hosts": lambda: _of_machine(estate, path),
        "routers": lambda: _of_machine(estate, path),
    }.get(section)
    if look is not None:
        yield look()
    if section in ("hosts", "routers") and len(path) > 3 and path[2] == "services":
        machine = getattr(estate, section).get(name)
        service = machine.services.get(str(path[3])) if machine is not None else None
        how = _SAVED.get(str(getattr(service, "program", None) or ""), f"open the configuration of {path[3]}")
        yield Look(f"{section}.{name}.services.{path[3]}", name, f"ss -Hltnp; {how}")


def _certificate(estate: Estate, name: str) -> Look:
    shown = [
        (machine, service, listener)
        for machine in machines(estate)
        for service in machine.services.values()
        if _shows(service, name)
        for listener in service.listens
        if listener.tls
    ]
    on = shown[0][0].name if shown else "wherever it is shown"
    if shown:
        machine, _, listener = shown[0]
        held = estate.certificates[name].names if name in estate.certificates else ()
        address = listener.address or (machine.addresses[0] if machine.addresses else None)
        asked = f" -servername {str(held[0]).replace('*', 'www', 1)}" if held else ""
        at = at_port(address, listener.port) if address is not None else f"127.0.0.1:{listener.port}"
        how = f"openssl s_client -connect {at}{asked} </dev/null | openssl x509 -noout -subject -issuer -dates -ext subjectAltName"
    else:
        how = "openssl x509 -noout -subject -issuer -dates -ext subjectAltName -in FILE"
    return Look(f"certificates.{name}", on, how)


def _shows(service: Service, certificate: str) -> bool:
    held = [getattr(service, "certificate", None)]
    held += [each.certificate for each in service.sites.values()] if isinstance(service, WebService) else []
    return certificate in held


#: By program: what prints the configuration that is saved.
_SAVED = {"nginx": "nginx -T", "apache": "apachectl -t -D DUMP_VHOSTS -D DUMP_RUN_CFG, then the site's file"}


def _of_machine(estate: Estate, path: tuple[str | int, ...]) -> Look:
    section, name = str(path[0]), str(path[1])
    machine = getattr(estate, section).get(name)
    key = str(path[2]) if len(path) > 2 else ""
    router = section == "routers"
    base = f"{section}.{name}"
    if key == "forwards":
        return Look(f"{base}.forwards", name, "open its port forwards (nft list table nat, where it runs Linux)")
    if key in ("filter", "basics", "areas"):
        return Look(f"{base}.filter", name, "open its firewall rules" if router else "nft list ruleset")
    if key == "services" and len(path) > 3:
        service = machine.services.get(str(path[3])) if machine is not None else None
        at = f"{base}.services.{path[3]}"
        inner = str(path[4]) if len(path) > 4 else ""
        if inner in ("sites", "folders") and len(path) > 5:
            how = _SAVED.get(str(getattr(service, "program", None) or ""), "open the configuration of the site")
            return Look(f"{at}.{inner}.{path[5]}", name, f"{how} (the site {path[5]}), and the files that it names")
        if inner in ("", "listens", "state"):
            return Look(f"{at}.listens" if inner == "listens" else at, name, "ss -Hltnp")
        return Look(f"{at}.{inner}", name, f"open the configuration of {path[3]}: {inner}")
    if key in ("interfaces", "gateway", "routes", "tables", "routing_rules", "leased"):
        number = f"{base}.{key}"
        return Look(number, name, "open its addresses and routes" if router else "ip address; ip route; ip rule")
    return Look(f"{base}.{key}" if key else base, name, f"open its settings{f': {key}' if key else ''}")
