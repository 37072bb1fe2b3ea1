"""An estate made ready for visits: the engines' indexes, wired to each other by functions."""

from datetime import datetime
from ipaddress import IPv4Interface, IPv6Interface
from typing import Any

from portolan.estate.base import IPAddress, is_loopback
from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.evidence.results import Connection
from portolan.journey.moment import all_names, rebooted, standing
from portolan.names.naming import Naming
from portolan.tls.facts import key_fits
from portolan.web.binding import Table, table_of
from portolan.wire.connect import connect
from portolan.wire.topology import Topology

#: Where ordinary resolvers are thought to be: benchmarking ranges (RFC 2544, RFC 5180), which no visitor uses.
_ORDINARY = Vantage(
    name="an ordinary resolver",
    network="internet",
    address=(IPv4Interface("198.18.0.53/32"), IPv6Interface("2001:2::53/128")),
)


class World:
    """An estate at a moment, as it is or after a boot of the machines named (`booted`; None: of all). Indexes are made on first use; those of unchanged parts are shared with changed estates."""

    def __init__(
        self,
        estate: Estate,
        now: datetime,
        shared: dict[Any, Any] | None = None,
        booted: frozenset[str] | None = frozenset(),
    ) -> None:
        estate = standing(estate, now)
        self.booted = booted
        if booted is None or booted:
            estate = rebooted(estate, all_names(estate) if booted is None else booted)
        self.estate = estate
        self.now = now
        self.shared: dict[Any, Any] = {} if shared is None else shared
        self.topology = Topology(estate, self._why_not_started, (_ORDINARY,), self.shared)
        self.naming = Naming(
            estate, now, self._reach, lambda address: self.topology.holder(address) is not None, self.shared
        )

    def changed(self, estate: Estate) -> "World":
        """The world of a changed estate at the same moment."""
        return World(estate, self.now, self.shared, self.booted)

    def connect(self, origin: Machine | Vantage, address: IPAddress, port: int, protocol: str = "tcp") -> Connection:
        """Connects from a machine or a visitor."""
        return connect(self.topology, self.topology.device(origin), address, port, protocol)

    def source(self, origin: Machine | Vantage, address: IPAddress) -> IPAddress | None:
        """The address that a device sends from towards another; None without a route."""
        device = self.topology.device(origin)
        if address in device.local or is_loopback(address):
            return address
        line = device.route(address)
        return line.port.source_for(line.via or address) if line is not None else None

    def table(self, service: Service, port_of: Any) -> Table:
        """The sites of a service's listener."""
        return table_of(service, port_of, self.shared)

    def _reach(self, origin: Machine | Vantage | None, address: IPAddress, port: int, protocol: str) -> Connection:
        return self.connect(_ORDINARY if origin is None else origin, address, port, protocol)

    def _why_not_started(self, service: Service) -> str | None:
        """Why a web server refuses its configuration, if it does."""
        if service.failing is not None:
            return service.failing
        if service.kind != "web":
            return None
        used = {site.certificate or service.certificate for site in service.sites.values() if site.enabled}
        for name in sorted(each for each in used | {service.certificate} if each):
            certificate = self.estate.certificates[name]
            if not key_fits(certificate):
                return f"the key of the certificate {name} does not belong to it"
        for listener in service.listens:
            if not listener.tls:
                continue
            if not service.sites:
                if service.certificate is None:
                    return f"it has no certificate for {listener}"
                continue
            table = table_of(service, listener, self.shared)
            # nginx asks for one at the default site only; Apache httpd at every site.
            wanting = table.sites if service.program == "apache" else [table.default] if table.default else []
            for site in wanting:
                if site.certificate is None and service.certificate is None:
                    return f"its site {site.name} has no certificate for {listener}"
        return None
