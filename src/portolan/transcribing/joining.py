"""A transcript beside what an estate has already: names that are taken give way, networks that are the same are one."""

from ipaddress import ip_network
from typing import Any

from portolan.estate.estate import Estate
from portolan.transcribing.assembling import Transcript
from portolan.transcribing.web import unused


def conflicts(found: Transcript, estate: Estate) -> list[str]:
    """What both say, with both lines: a machine or a zone of that name; nothing of it is written."""
    lines = []
    for path, document in found.documents.items():
        if path.endswith("-guessed.yaml"):
            continue
        for section, held in (("hosts", estate.hosts), ("routers", estate.routers), ("zones", estate.zones)):
            for name, facts in document.get(section, {}).items():
                if name in held:
                    there: Any = held[name]
                    lines.append(f"{section}.{name}: {there.place.span.short} has it already, and {_from(facts)}")
    return lines


def _from(facts: dict[str, Any]) -> str:
    return str(facts.get("read_from", "the source")).partition(";")[0]


def beside(found: Transcript, estate: Estate) -> Transcript:
    """The transcript with names that the estate does not have yet, and without guesses about what it knows."""
    taken = dict.fromkeys(estate.certificates)
    certificates: dict[str, str] = {}
    networks: dict[str, str] = {}
    for document in found.documents.values():
        for name in document.get("certificates", {}):
            certificates[name] = unused(name, taken)
            taken[certificates[name]] = None
        for name, facts in document.get("networks", {}).items():
            networks[name] = _same(facts, estate) or unused(name, estate.networks)
    documents = {path: _renamed(document, certificates, networks, estate) for path, document in found.documents.items()}
    return found.but(text=None, documents={path: document for path, document in documents.items() if document})


def _same(facts: dict[str, Any], estate: Estate) -> str | None:
    """The estate's network with one of the same ranges."""
    ranges = {ip_network(each) for each in facts.get("subnets", [])}
    return next((name for name, network in estate.networks.items() if ranges & set(network.subnets)), None)


def _renamed(
    document: dict[str, Any], certificates: dict[str, str], networks: dict[str, str], estate: Estate
) -> dict[str, Any]:
    made = dict(document)
    if "certificates" in made:
        made["certificates"] = {certificates[name]: facts for name, facts in made["certificates"].items()}
    if "networks" in made:
        made["networks"] = {
            networks[name]: facts for name, facts in made["networks"].items() if networks[name] not in estate.networks
        }
        if not made["networks"]:
            del made["networks"]
    for section in ("hosts", "routers"):
        if section in made:
            made[section] = {name: _machine(facts, certificates, networks) for name, facts in made[section].items()}
    if "routers" in made and estate.routers:
        # A router that was guessed stands for one that the estate has.
        del made["routers"]
    if "zones" in made:
        known = list(estate.zones)
        made["zones"] = {
            name: facts
            for name, facts in made["zones"].items()
            if not (facts.get("guessed") and any(_within(name, each) for each in known))
        }
        if not made["zones"]:
            del made["zones"]
    if "expected" in made:
        asked = {str(each.url) for each in estate.expected}
        near = {f"near:{name}": f"near:{other}" for name, other in networks.items()}
        kept = [
            {**each, **({"from": [near.get(one, one) for one in each["from"]]} if "from" in each else {})}
            for each in made["expected"]
            if each["url"] not in asked
        ]
        made["expected"] = kept
        if not kept:
            del made["expected"]
    return made


def _within(name: str, zone: str) -> bool:
    return name == zone or name.endswith(f".{zone}")


def _machine(facts: Any, certificates: dict[str, str], networks: dict[str, str]) -> Any:
    """A machine's facts with other names where it refers to them."""
    if isinstance(facts, dict):
        made = {}
        for key, value in facts.items():
            if key == "certificate" and isinstance(value, str):
                made[key] = certificates.get(value, value)
            elif key == "network" and isinstance(value, str):
                made[key] = networks.get(value, value)
            else:
                made[key] = _machine(value, certificates, networks)
        return made
    return [_machine(each, certificates, networks) for each in facts] if isinstance(facts, list) else facts
