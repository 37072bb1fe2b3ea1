"""Remedies for machines and listeners."""

from collections.abc import Iterator

from portolan.estate.service import Listener, Service
from portolan.faults.base import Case, Finding
from portolan.remedies.base import Proposal, append, item_path, put, remedy, remove, replace


@remedy("service-stopped")
def start(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Starts the service."""
    service = finding.hints["service"]
    if isinstance(service, Service):
        machine = service.place.path[1]
        yield Proposal(f"start {service.name} on {machine}", put(service.place, "state", "running"))


@remedy("listener-loopback-only", "listener-wrong-address", "listener-family")
def listen_everywhere(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Lets the listener take the address that was asked, or every address."""
    listener, service = finding.hints["listener"], finding.hints["service"]
    if not isinstance(listener, Listener) or not isinstance(service, Service):
        return
    index = service.listens.index(listener)
    words = listener.text.split()[1:]
    for where in (str(listener.port), _at_address(case, listener)):
        if where is None:
            continue
        text = " ".join([where, *(word for word in words if word == "tls")])
        patch = replace(item_path(service.place, "listens", index), int(text) if text.isdecimal() else text)
        for site in service.sites.values():
            for number, held in enumerate(site.listens):
                if held == listener.key:
                    patch += replace(item_path(site.place, "listens", number), where)
        yield Proposal(f"let {service.name} listen on {text} instead of {listener}", patch)


def _at_address(case: Case, listener: Listener) -> str | None:
    connection = case.last.connection
    address = case.asked_address
    if connection is None or address is None:
        return None
    return f"[{address}]:{listener.port}" if address.version == 6 else f"{address}:{listener.port}"


@remedy("listener-wrong-port")
def listen_too(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Adds a listener on the port that visitors ask."""
    service, port = finding.hints["service"], finding.hints["port"]
    if isinstance(service, Service):
        value = f"{port} tls" if finding.hints["tls"] else port
        yield Proposal(f"let {service.name} listen on {value} too", append(service.place, "listens", value))


@remedy("listener-plain-on-tls")
def speak_tls(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Lets the listener speak TLS."""
    listener, service = finding.hints["listener"], finding.hints["service"]
    if isinstance(service, Service) and isinstance(listener, Listener) and service.kind == "web":
        index = service.listens.index(listener)
        text = f"{listener.text} tls"
        yield Proposal(
            f"let {service.name} speak TLS on {listener}", replace(item_path(service.place, "listens", index), text)
        )


@remedy("listener-tls-on-plain")
def ask_securely(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """The listener is right, the question is not."""
    yield Proposal("ask for the https:// address instead", [])
    listener, service = finding.hints["listener"], finding.hints["service"]
    if isinstance(service, Service) and isinstance(listener, Listener):
        index = service.listens.index(listener)
        text = " ".join(word for word in listener.text.split() if word != "tls")
        yield Proposal(
            f"let {service.name} speak plain HTTP on {text}", replace(item_path(service.place, "listens", index), text)
        )


@remedy("service-port-taken")
def free_port(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Stops the rival."""
    failure = finding.hints.get("failure")
    rival = getattr(failure, "rival", None)
    if isinstance(rival, Service):
        yield Proposal(f"stop {rival.name}, which has the port", put(rival.place, "state", "stopped"))


@remedy("cert-key-differs")
def right_key(case: Case, _finding: Finding) -> Iterator[Proposal]:
    """Asks for the key that belongs to the certificate."""
    stop = case.stop
    name = str(stop.facts[3]).split("certificate ")[-1].split(" ")[0] if stop is not None else ""
    certificate = case.estate.certificates.get(name)
    if certificate is not None and certificate.key is not None:
        yield Proposal(
            f"install the key that belongs to the certificate {name}", remove((*certificate.place.path, "key"))
        )


@remedy("cert-missing")
def give_certificate(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the service a certificate that the estate has."""
    service = finding.hints["service"]
    if isinstance(service, Service):
        for name in case.estate.certificates:
            yield Proposal(f"give {service.name} the certificate {name}", put(service.place, "certificate", name))
