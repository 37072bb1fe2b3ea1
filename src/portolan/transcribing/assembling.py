"""What readers gathered into an estate: a document for the machine, one for what was guessed, and copies of certificates."""

from collections.abc import Iterable, Iterator
from ipaddress import ip_address, ip_interface, ip_network
from typing import Any

from portolan.estate.base import is_public
from portolan.estate.names import is_exact, starred_within
from portolan.formats import read_from
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.formats.pem import certificates as pem_certificates
from portolan.formats.scalars import site_name
from portolan.source.problem import EstateError, Problem, Problems
from portolan.source.value import Value
from portolan.transcribing.certificates import CERTIFICATE, fits_key
from portolan.transcribing.part import Part, Spot, items, plain
from portolan.transcribing.sources import Source
from portolan.transcribing.text import yaml_text
from portolan.transcribing.web import Gathered

#: Stands for the address of a machine of which nothing says what it has (RFC 5737).
PLACEHOLDER = "192.0.2.10"
#: The same for a router of which only its inside is known.
OUTSIDE = "192.0.2.20"
#: So often what does not fit is taken out, one thing each time.
_MOST_ROUNDS = 200


class Transcript(Value, frozen=True):
    """What was read: documents and copied files by their paths in the estate, and what could not be kept."""

    documents: dict[str, dict[str, Any]]
    copies: dict[str, bytes]
    unread: tuple[tuple[Spot, str], ...]
    #: What was assumed where nothing said it, in words.
    guesses: tuple[str, ...]
    #: The first document's text, where it was made already.
    text: str | None = None


def add_web(
    machine: Part, gathered: Gathered, source: Source, name: str = "server"
) -> tuple[dict[str, Any], dict[str, bytes]]:
    """A web server as a service of a machine; its certificates as the estate has them, and the copies of their files."""
    folder, services = name, machine.facts.setdefault("services", {})
    services[gathered.program] = gathered.service
    certificates: dict[str, Any] = {}
    copies: dict[str, bytes] = {}
    showing: dict[str, list[Part]] = {}
    for site in gathered.sites.values():
        showing.setdefault(str(site.facts.get("certificate")), []).append(site)
    for path, (name, spot) in gathered.certificates.items():
        data = source.read(path)
        held = pem_blocks(data, path)
        part = Part(spot)
        wrong = _wrong(path, data, held, source, gathered.keys.get(path))
        if wrong is not None:
            # What runs keeps what it has; a reload, and the next boot, fail.
            saved = Part(spot)
            saved.say("broken", wrong)
            gathered.service.say("saved", saved)
        if held:
            file = f"{folder}/{name}.pem"
            copies[file] = b"\n".join(held) + b"\n"
            part.say("file", file)
        else:
            part.say("names", _names_shown(showing.get(name, [])) or ["unknown.invalid"])
            for site in showing.get(name, []):
                if site.facts.get("included") is not False:
                    site.lose(spot, f"the certificate {path} was not given: taken as right for its names")
        certificates[name] = part
    return certificates, copies


def pem_blocks(data: bytes | None, path: str) -> list[bytes]:
    """The certificates of a file; none where one of them is damaged."""
    held = CERTIFICATE.findall(data or b"")
    problems = Problems()
    pem_certificates(b"\n".join(held), path, problems, "")
    return [] if problems.found else held


def _wrong(path: str, data: bytes | None, held: list[bytes], source: Source, key: str | None) -> str | None:
    """Why a program does not start with a certificate and its key; None where nothing says so. No key is kept."""
    if data is not None and not held:
        return f"no whole certificate is in {path}"
    secret = source.read(key) if key is not None and held else None
    if secret is None:
        return None
    return f"the key {key} is not that of {path}" if fits_key(held[0], secret) is False else None


def _names_shown(sites: list[Part]) -> list[str]:
    """The names of the sites that show a certificate, as a certificate can have them."""
    names = [name for site in sites for name in site.facts.get("names", [])]
    plain = [name for each in names for name in ([each[1:], f"*{each}"] if each.startswith(".") else [each])]
    return list(dict.fromkeys(name for name in plain if name and not name.endswith(".*") and not starred_within(name)))


def transcript(
    name: str,
    machine: Part,
    certificates: dict[str, Any],
    copies: dict[str, bytes],
    networks: dict[str, Any],
    told: Iterable[str] = (),
) -> Transcript:
    """The estate of one machine: itself in one document, names and expectations that were guessed in another."""
    guesses = list(told)
    if not machine.facts.get("interfaces"):
        machine.facts["interfaces"] = {"line": line(machine.spot)}
        guesses.append(f"nothing says which addresses the machine has: {PLACEHOLDER} stands for one on the internet")
    own = {"networks": networks, "hosts": {name: machine}, "certificates": certificates}
    text = _fitted(own, copies)
    documents = {f"{name}.yaml": _document(own)}
    zones, expected = _guessed(machine)
    router = _router(machine, networks)
    if router:
        guesses.append(
            f"the router at {machine.facts['gateway']}, on the internet at {OUTSIDE}; what it forwards nobody said"
        )
    if expected or router:
        documents[f"{name}-guessed.yaml"] = {
            key: value for key, value in (("routers", router), ("zones", zones), ("expected", expected)) if value
        }
    if expected:
        of = f"{len(expected)} expectation{'s' if len(expected) != 1 else ''}"
        guesses.append(f"{of}, and where the names of {', '.join(zones)} lead")
    return Transcript(documents, copies, tuple(_ordered(machine.losses())), tuple(guesses), text)


def line(spot: Spot) -> Part:
    """An interface on the internet, where nothing says which there are."""
    part = Part(spot)
    part.say("network", "internet")
    part.say("address", PLACEHOLDER)
    return part


def _document(own: dict[str, Any]) -> dict[str, Any]:
    """A document's sections, those that hold anything."""
    return {key: plain(value) for key, value in own.items() if value}


def _fitted(own: dict[str, Any], copies: dict[str, bytes]) -> str | None:
    """Takes out what an estate would refuse, and notes it where it stood: what was read is never an unreadable estate.

    The text of what is left; None where that was not found.
    """
    for _ in range(_MOST_ROUNDS):
        text = yaml_text(_document(own))
        files = {"estate.yaml": f"portolan: 1\n{text}".encode(), **copies}
        try:
            load(MemoryFiles(files), "estate.yaml")
        except EstateError as error:
            # One at a time: in a list, what stands behind moves up.
            if not _taken_out(own, error.problems[0]):
                raise
        else:
            return text
    return None


#: Under these keys stand the objects that can say what of them could not be kept.
_HOLDERS = frozenset(("hosts", "services", "sites", "sections", "filter"))


def _taken_out(own: dict[str, Any], problem: Problem) -> bool:
    """Takes out what a problem is about, and notes it at the nearest object that can say so; whether that was found."""
    here: Any = own
    rest = problem.path
    way: list[tuple[Any, Any]] = []
    section, holder, part = "", None, None
    while rest:
        held = here.facts if isinstance(here, Part) else here
        if isinstance(held, dict):
            key = next(
                (each for each in sorted(held, key=len, reverse=True) if f"{rest}.".startswith(f"{each}.")), None
            )
        else:
            word = rest.partition(".")[0]
            key = int(word) if isinstance(held, list) and word.isdecimal() and int(word) < len(held) else None
        if key is None:
            break
        way.append((held, key))
        here, rest = held[key], rest[len(str(key)) + 1 :]
        if isinstance(here, Part):
            part = here
            if section in _HOLDERS or key == "filter":
                holder = here
            section = ""
        elif isinstance(here, dict | list):
            section = str(key)
    if holder is None or not way or holder is here:
        return False
    held, key = way[-1]
    spot = (
        here.spot
        if isinstance(here, Part)
        else part.spots.get(str(key), part.spot)
        if part is not None
        else holder.spot
    )
    holder.lose(spot, f"{key}: {problem.message}")
    del held[key]
    return True


def _ordered(losses: Iterable[tuple[Spot, str]]) -> list[tuple[Spot, str]]:
    return sorted(dict.fromkeys(losses), key=lambda each: (each[0].file, each[0].line))


def _guessed(machine: Part) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """Zones whose names lead to the machine, and an expectation for each name that a site of its answers to."""
    addresses, outside = _addresses(machine)
    near = next((network for network, found in addresses if found), "")
    chosen = outside or [each for _, found in addresses for each in found][:1]
    by_name: dict[str, dict[str, Any]] = {}
    for site, part, listens in _sites(machine):
        if part.facts.get("included") is False:
            continue
        for written in part.facts.get("names", []):
            host = str(site_name(written)).rstrip(".")
            if is_exact(host) and "." in host:
                held = by_name.setdefault(host, {})
                secure = any(" tls" in f"{each} " for each in listens)
                if secure or "url" not in held:
                    held.update(_expectation(host, site, part, secure, [] if outside else [f"near:{near}"]))
    zones: dict[str, Any] = {}
    for host in by_name:
        labels = host.split(".")
        apex = ".".join(labels[-2:])
        zone = zones.setdefault(apex, {"guessed": True, "records": []})
        owner = ".".join(labels[:-2]) or "@"
        zone["records"] += [f"{owner} 3600 {'AAAA' if ':' in each else 'A'} {each}" for each in chosen]
    return zones, list(by_name.values())


def _router(machine: Part, networks: dict[str, Any]) -> dict[str, Any]:
    """The router at the machine's gateway, on a network that leads to the internet by nothing else."""
    for gateway in items(machine.facts.get("gateway", [])):
        address = ip_address(gateway)
        for name, facts in networks.items():
            if any(address in ip_network(each) for each in facts.get("subnets", [])):
                inside: dict[str, Any] = {"network": name, "address": gateway}
                made = {
                    "interfaces": {"line": {"network": "internet", "address": OUTSIDE}, "inside": inside},
                    "masquerade": ["line"],
                }
                if machine.facts.get("resolver") == gateway:
                    made["services"] = {"names": {"kind": "resolver"}}
                return {"gateway": made}
    return {}


def _expectation(host: str, site: str, part: Part, secure: bool, near: list[str]) -> dict[str, Any]:
    """What is likely wanted of a name: a page of its site, securely where it has a certificate; elsewhere for a redirect."""
    spot = part.spots.get("names", part.spot)
    sends = any("when" not in rule.facts for rule in part.facts.get("redirects", []))
    answer = part.facts.get("answer")
    return {
        read_from.KEY: read_from.written((spot.file, spot.line), {}),
        "url": f"{'https' if secure else 'http'}://{host}/",
        **({"from": near} if near else {}),
        **({} if sends or (answer is not None and answer >= 400) else {"page": site}),
        "guessed": True,
    }


def _sites(machine: Part) -> Iterator[tuple[str, Part, list[str]]]:
    """Every site with its listeners as the service has them."""
    for service in machine.facts.get("services", {}).values():
        if not isinstance(service, Part):
            continue
        words = {str(each).partition(" ")[0]: str(each) for each in service.facts.get("listens", [])}
        for site, part in service.facts.get("sites", {}).items():
            keys = part.facts.get("listens") or list(words)
            yield site, part, [words.get(str(key), str(key)) for key in keys]


def _addresses(machine: Part) -> tuple[list[tuple[str, list[str]]], list[str]]:
    """The machine's addresses by network, and those of them that the internet carries."""
    held: list[tuple[str, list[str]]] = []
    for name, interface in machine.facts["interfaces"].items():
        facts = interface.facts if isinstance(interface, Part) else interface
        found = [str(ip_interface(each).ip) for each in items(facts.get("address", []))]
        held.append((facts.get("network") or name, [each for each in found if not each.startswith(("fe80:", "127."))]))
    outside = [each for _, found in held for each in found if is_public(ip_interface(each).ip)]
    return held, outside
