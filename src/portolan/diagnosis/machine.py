"""Faults of the machine and its listeners."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, ServiceClue, fault, listed, not_started, target_of
from portolan.diagnosis.certificate import as_it_should_be, certified, covering, names_of, new_certificate, renewed
from portolan.diagnosis.proposal import Proposal, append, item_path, put, remedy, remove, replace
from portolan.estate.base import IPAddress, at_port, is_loopback
from portolan.estate.guesses import asked_by
from portolan.estate.machine import Forward, Machine
from portolan.estate.service import Listener, Service, WebService, sites_of
from portolan.evidence.decision import Leg
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.start import Why
from portolan.net.listeners import FIRST_OPEN_PORT, Failure
from portolan.tls.verify import covers


class FailureClue(msgspec.Struct, frozen=True):
    """What kept a service from starting."""

    failure: Failure


class ListenerClue(msgspec.Struct, frozen=True):
    """The listener that is wrong, and its service."""

    listener: Listener
    service: Service


class OwnClue(msgspec.Struct, frozen=True):
    """The forward, and the address that its machine asked."""

    forward: Forward
    address: IPAddress


class RedirectClue(msgspec.Struct, frozen=True):
    """The machine, the port asked, and the one that the service listens on."""

    machine: Machine
    port: int
    to: int


class WrongPortClue(msgspec.Struct, frozen=True):
    """The service, and the port on which it should listen."""

    service: Service
    port: int
    tls: bool


@fault(
    "service-stopped",
    "The service does not run",
    "a refusal",
    "Start it, and let it start at boot.",
    "service-stopped",
    "nothing-listens",
)
def stopped(case: Case) -> Finding | None:
    """A stopped service would have listened here, or holds the site."""
    stop, connection = case.stop, case.exchange.connection
    if stop is None or connection is None:
        return None
    if not isinstance(stop.subject, Service):
        for home in case.homes():
            if home.machine is connection.reached and home.service.state == "stopped":
                text = f"{home.service.name} on {home.machine.name} holds the site {home.site.name}, and is stopped"
                return Finding("service-stopped", text, home.service.place, clue=ServiceClue(service=home.service))
        return None
    return Finding("service-stopped", stop.text, stop.subject.place, clue=ServiceClue(service=stop.subject))


@fault(
    "cert-key-differs",
    "The private key and the certificate are no pair",
    "a refusal: the service does not start",
    "Install the key that the certificate was made for, or a new certificate for this key.",
    "service-failed",
    "key-of-another-kind",
)
def key_differs(case: Case) -> Finding | None:
    """The service does not start for its key, or has none that it could sign with."""
    stop, arrival = case.stop, case.exchange.attempts[-1].arrival if case.exchange.attempts else None
    if isinstance(stop, tls_kinds.KeyOfAnotherKind) and arrival is not None:
        certificate = case.estate.certificates[stop.certificate]
        return Finding("cert-key-differs", stop.text, certificate.place, clue=ServiceClue(arrival.service))
    return _not_started(case, Why.KEY_MISFIT, "cert-key-differs")


@fault(
    "cert-order",
    "The server's own certificate does not stand first in its file",
    "a refusal: the service does not start",
    "Put the server's own certificate first, then its issuer's, then that one's.",
    "service-failed",
)
def order(case: Case) -> Finding | None:
    """The service does not start, since the key belongs to a later certificate of the file."""
    return _not_started(case, Why.CERTIFICATE_ORDER, "cert-order")


@fault(
    "cert-file",
    "The server cannot read the certificate's file, or its key",
    "a refusal: the service does not start",
    "Write the file anew, each block on lines of its own; take the password off the key.",
    "service-failed",
)
def misread(case: Case) -> Finding | None:
    """The service does not start for a file as it is written."""
    return _not_started(case, Why.FILE_MISREAD, "cert-file")


@fault(
    "cert-missing",
    "A secure listener has no certificate",
    "a refusal: the service does not start",
    "Give the site or the service a certificate.",
    "service-failed",
)
def certificate_missing(case: Case) -> Finding | None:
    """The service does not start for want of a certificate."""
    return _not_started(case, Why.NO_CERTIFICATE, "cert-missing")


def _not_started(case: Case, why: Why, code: str) -> Finding | None:
    failed = not_started(case, why)
    return Finding(code, failed[0].text, failed[0].place, clue=ServiceClue(failed[1])) if failed else None


@fault(
    "service-port-taken",
    "Another program has the port, and the service does not start",
    "a refusal, or another page",
    "Stop the other program, or give one of them another port.",
    "service-failed",
    "wrong-page",
    "not-found",
    "no-index-file",
    "not-web",
    "speaks-no-tls",
)
def port_taken(case: Case) -> Finding | None:
    """The service could not bind."""
    connection = case.exchange.connection
    if connection is None or not isinstance(connection.reached, Machine):
        return None
    failures = case.world.topology.device(connection.reached).sockets.failures
    for home in case.homes():
        failure = failures.get(home.service.name)
        if failure is not None and failure.service is home.service and failure.rival is not None:
            text = f"{home.service.name} on {connection.reached.name} does not start: {failure.reason}"
            return Finding("service-port-taken", text, home.service.place, clue=FailureClue(failure=failure))
    stop = case.stop
    if not isinstance(stop, connect_kinds.ServiceFailed) or not isinstance(stop.subject, Service):
        return None
    failure = failures.get(stop.subject.name)
    if failure is not None and stop.reason.why is Why.ADDRESS_IN_USE:
        return Finding("service-port-taken", stop.text, stop.place, clue=FailureClue(failure=failure))
    return None


@fault(
    "listener-loopback-only",
    "The service listens on the loopback address only",
    "works on the machine itself only",
    "Let it listen on the address that visitors ask, or on every address.",
    "nothing-listens",
)
def loopback_only(case: Case) -> Finding | None:
    """A loopback listener has the port."""
    for service, listener in _candidates(case):
        if listener.address is not None and listener.address.is_loopback and listener.port == case.asked_port:
            text = f"{service.name} on {_name(case)} listens on {listener}, which only {_name(case)} itself can ask"
            return Finding(
                "listener-loopback-only", text, listener.place, clue=ListenerClue(listener=listener, service=service)
            )
    return None


@fault(
    "listener-family",
    "The service listens for one IP version only",
    "fails for the other",
    "Listen on both, or take the other version's address record away.",
    "nothing-listens",
)
def family(case: Case) -> Finding | None:
    """A listener of the other family has the port."""
    connection = case.exchange.connection
    if connection is None:
        return None
    for service, listener in _candidates(case):
        if (
            listener.port == case.asked_port
            and listener.address is not None
            and not listener.address.is_loopback
            and (int(listener.address) == 0)
        ):
            text = f"{service.name} on {_name(case)} listens on {listener}, which does not take IPv{connection.address.version}"
            return Finding(
                "listener-family", text, listener.place, clue=ListenerClue(listener=listener, service=service)
            )
    return None


@fault(
    "listener-wrong-address",
    "The service listens on another address of the host",
    "a refusal",
    "Let it listen on the address that visitors reach.",
    "nothing-listens",
)
def wrong_address(case: Case) -> Finding | None:
    """A listener on another address has the port."""
    for service, listener in _candidates(case):
        if listener.port == case.asked_port and listener.address is not None and not listener.address.is_loopback:
            text = f"{service.name} on {_name(case)} listens on {listener} only"
            return Finding(
                "listener-wrong-address", text, listener.place, clue=ListenerClue(listener=listener, service=service)
            )
    return None


@fault(
    "forward-not-for-own",
    "A forward takes what arrives, and not what the machine asks itself",
    "a refusal on the machine itself only",
    "Let the forward take the machine's own connections too, or ask the inside address.",
    "nothing-listens",
)
def not_for_own(case: Case) -> Finding | None:
    """The machine asks itself for a port that it forwards for others."""
    connection, machine = case.exchange.connection, case.device.machine
    if connection is None or machine is None or connection.reached is not machine:
        return None
    for forward in machine.forwards:
        if (
            forward.enabled
            and not forward.own_connections
            and forward.protocol == "tcp"
            and connection.port in forward.outside
            and (is_loopback(connection.address) or connection.address in asked_by(machine, forward))
        ):
            text = f"{machine.name} forwards port {connection.port} to {target_of(forward)}, and not for its own connections"
            return Finding("forward-not-for-own", text, forward.place, clue=OwnClue(forward, connection.address))
    return None


@fault(
    "redirect-local-missing",
    "The service may not open the port, listens on a higher one, and nothing redirects to it",
    "a refusal",
    "Redirect the port to the service's own on that machine; or let the service open low ports.",
    "nothing-listens",
)
def redirect_missing(case: Case) -> Finding | None:
    """A service without the privilege for the port listens on a port above 1023."""
    connection, port, secure = case.exchange.connection, case.asked_port, case.exchange.url.secure
    homes = {id(home.service) for home in case.homes()}
    if connection is None or connection.reached is None or port >= FIRST_OPEN_PORT:
        return None
    for service, listener in _candidates(case):
        if (
            isinstance(service, WebService)
            and not service.privileged
            and listener.port >= FIRST_OPEN_PORT
            and listener.tls == secure
            and (not homes or id(service) in homes)
        ):
            text = f"{service.name} on {_name(case)} listens on {listener}, for it may not open port {port}, and nothing redirects port {port} to it"
            clue = RedirectClue(connection.reached, port, listener.port)
            return Finding("redirect-local-missing", text, connection.reached.place, clue=clue)
    return None


@fault(
    "listener-wrong-port",
    "The service listens on another port",
    "a refusal",
    "Let it listen on the port that visitors ask, or send them to its own.",
    "nothing-listens",
)
def wrong_port(case: Case) -> Finding | None:
    """The site's service runs on the machine, on other ports only."""
    secure = case.exchange.url.secure
    taken = case.decision(connect_kinds.Forwarded)
    if taken is not None and isinstance(taken.subject, Forward) and taken.subject.port is not None:
        return None  # the forward changes the port on purpose, and is at fault
    homes = {id(home.service) for home in case.homes()}
    found = [
        (service, listener)
        for service, listener in _candidates(case)
        if isinstance(service, WebService) and (not homes or id(service) in homes)
    ]
    if not found:
        return None
    service = found[0][0]
    ports = [str(listener) for each, listener in found if each is service]
    text = f"{service.name} on {_name(case)} does not listen on port {case.asked_port}; it listens on {listed(ports)}"
    return Finding(
        "listener-wrong-port",
        text,
        service.place.key("listens"),
        clue=WrongPortClue(service=service, port=case.asked_port, tls=secure),
    )


@fault(
    "listener-plain-on-tls",
    "TLS is expected on a port where plain HTTP is spoken",
    "no TLS",
    "Speak TLS on that port, with a certificate.",
    "plain-spoken",
    "not-web",
    "speaks-no-tls",
)
def plain_on_tls(case: Case) -> Finding | None:
    """The listener speaks no TLS."""
    return _at_listener(case, "listener-plain-on-tls") if case.stop is not None and case.stop.leg is Leg.TLS else None


@fault(
    "listener-tls-on-plain",
    "Plain HTTP is sent to a port where TLS is spoken",
    "status 400",
    "Speak plain HTTP there, or send visitors to https.",
    "plain-on-tls",
)
def tls_on_plain(case: Case) -> Finding | None:
    """The listener expects TLS."""
    return _at_listener(case, "listener-tls-on-plain")


def _at_listener(case: Case, code: str) -> Finding | None:
    """What stopped it is the listener that took the connection."""
    stop, connection = case.stop, case.exchange.connection
    if stop is None or connection is None or connection.arrival is None:
        return None
    listener, service = connection.arrival.listener, connection.arrival.service
    return Finding(code, stop.text, listener.place, clue=ListenerClue(listener=listener, service=service))


def _candidates(case: Case) -> list[tuple[Service, Listener]]:
    """The running listeners of the machine that was reached."""
    connection = case.exchange.connection
    if connection is None or connection.reached is None:
        return []
    return [
        (service, listener)
        for service in connection.reached.services.values()
        if service.state == "running"
        for listener in service.listens
    ]


def _name(case: Case) -> str:
    connection = case.exchange.connection
    return connection.reached.name if connection is not None and connection.reached is not None else "the machine"


# -- remedies --


@remedy("service-stopped")
def start(_case: Case, clue: ServiceClue) -> Iterator[Proposal]:
    """Starts the service."""
    service = clue.service
    yield Proposal(f"start {service.name} on {service.place.path[1]}", put(service.place, "state", "running"))


@remedy("listener-loopback-only", "listener-wrong-address", "listener-family")
def listen_everywhere(case: Case, clue: ListenerClue) -> Iterator[Proposal]:
    """Lets the listener take the address that was asked, or every address."""
    listener, service = clue.listener, clue.service
    index = service.listens.index(listener)
    words = listener.text.split()[1:]
    for where in (str(listener.port), _at_address(case, listener)):
        if where is None:
            continue
        text = " ".join([where, *(word for word in words if word == "tls")])
        patch = replace(item_path(service.place, "listens", index), int(text) if text.isdecimal() else text)
        for site in sites_of(service).values():
            for number, held in enumerate(site.listens):
                if held == listener.key:
                    patch += replace(item_path(site.place, "listens", number), where)
        yield Proposal(f"let {service.name} listen on {text} instead of {listener}", patch)


def _at_address(case: Case, listener: Listener) -> str | None:
    connection = case.exchange.connection
    address = case.asked_address
    if connection is None or address is None:
        return None
    return at_port(address, listener.port)


@remedy("forward-not-for-own")
def forward_own_too(_case: Case, clue: OwnClue) -> Iterator[Proposal]:
    """Lets the forward take the machine's own connections."""
    forward = clue.forward
    patch = put(forward.place, "own_connections", True)
    if is_loopback(clue.address):
        patch += put(forward.place, "address", "own")
    text = f"let the forward of port {forward.outside} to {target_of(forward)} take {forward.place.path[1]}'s own connections too"
    yield Proposal(text, patch)


@remedy("redirect-local-missing")
def redirect_to_it(_case: Case, clue: RedirectClue) -> Iterator[Proposal]:
    """Redirects the port to the service's own."""
    value = {"tcp": clue.port, "port": clue.to}
    yield Proposal(
        f"redirect tcp port {clue.port} of {clue.machine.name} to its port {clue.to}",
        append(clue.machine.place, "forwards", value),
    )


@remedy("listener-wrong-port")
def listen_too(case: Case, clue: WrongPortClue) -> Iterator[Proposal]:
    """Adds a listener on the port that visitors ask."""
    yield from listening(case, clue.service, clue.port, clue.tls)


def listening(case: Case, service: Service, port: int, tls: bool) -> Iterator[Proposal]:
    """A listener more; a first secure one with the certificate that it needs, in one step."""
    value = f"{port} tls" if tls else port
    listens = append(service.place, "listens", value)
    for words, patch in certified(case, service) if tls else [("", [])]:
        yield Proposal(f"let {service.name} listen on {value} too{words}", [*listens, *patch])


@remedy("listener-plain-on-tls")
def speak_tls(case: Case, clue: ListenerClue) -> Iterator[Proposal]:
    """Lets the listener speak TLS."""
    listener, service = clue.listener, clue.service
    if isinstance(service, WebService):
        index = service.listens.index(listener)
        text = f"{listener.text} tls"
        change = replace(item_path(service.place, "listens", index), text)
        for words, patch in certified(case, service):
            yield Proposal(f"let {service.name} speak TLS on {listener}{words}", [*change, *patch])


@remedy("listener-tls-on-plain")
def ask_securely(_case: Case, clue: ListenerClue) -> Iterator[Proposal]:
    """The listener is right, the question is not."""
    yield Proposal("ask for the https:// address instead", [])
    listener, service = clue.listener, clue.service
    index = service.listens.index(listener)
    text = " ".join(word for word in listener.text.split() if word != "tls")
    yield Proposal(
        f"let {service.name} speak plain HTTP on {text}", replace(item_path(service.place, "listens", index), text)
    )


@remedy("service-port-taken")
def free_port(_case: Case, clue: FailureClue) -> Iterator[Proposal]:
    """Stops the rival."""
    rival = clue.failure.rival
    if rival is not None:
        yield Proposal(f"stop {rival.name}, which has the port", put(rival.place, "state", "stopped"))


@remedy("cert-key-differs")
def right_key(case: Case, _clue: ServiceClue) -> Iterator[Proposal]:
    """Asks for the key that belongs to the certificate."""
    stop = case.stop
    name = stop.reason.about if isinstance(stop, connect_kinds.ServiceFailed) else None
    name = stop.certificate if isinstance(stop, tls_kinds.KeyOfAnotherKind) else name
    certificate = case.estate.certificates.get(name or "")
    if certificate is not None and certificate.key is not None:
        yield Proposal(
            f"install the key that belongs to the certificate {name}", remove((*certificate.place.path, "key"))
        )
        held = names_of(case, certificate)
        if held and not any(covers(each, case.host, None) for each in held):
            # The file is another site's: its key is the right one.
            yield Proposal(
                f"install the certificate that belongs to the key {certificate.key}: {certificate.file} is that of {', '.join(held)}",
                renewed(case, certificate, [case.host], certificate.issuer),
            )


@remedy("cert-order", "cert-file")
def write_anew(case: Case, _clue: ServiceClue) -> Iterator[Proposal]:
    """The same certificate in a file as servers read it."""
    stop = case.stop
    reason = stop.reason if isinstance(stop, connect_kinds.ServiceFailed) else None
    certificate = case.estate.certificates.get((reason.about if reason is not None else None) or "")
    if certificate is None or reason is None:
        return
    if certificate.misread is None and certificate.key_misread_strictly is not None:
        locked = "password" in certificate.key_misread_strictly
        does = "take the password off the key of {}" if locked else "write the key of {} anew in PEM"
        text = f"{does.format(certificate.name)}, and start the service"
        yield Proposal(text, remove((*certificate.place.path, "key")))
        return
    yield Proposal(
        f"{_ANEW[reason.why].format(certificate.name)}, and start the service", as_it_should_be(case, certificate)
    )


_ANEW = {
    Why.CERTIFICATE_ORDER: "put the server's own certificate first in the file of {}",
    Why.FILE_MISREAD: "write the file of {} anew: the certificate and its chain in PEM, each block on lines of its own",
}


@remedy("cert-missing")
def give_certificate(case: Case, clue: ServiceClue) -> Iterator[Proposal]:
    """Gives the service a certificate that the estate has, or a new one."""
    service = clue.service
    for name in covering(case, service):
        yield Proposal(f"give {service.name} the certificate {name}", put(service.place, "certificate", name))
    for words, patch in new_certificate(case, service):
        yield Proposal(words, patch)
