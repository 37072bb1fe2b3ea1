"""The name drivers: authoritative servers (Knot DNS) by tier, a root of the estate, and recursive resolvers (Unbound)."""

from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.names.naming import address_records
from portolan.names.servers import listening_addresses
from portolan.rehearsal.network import AUTHORITY, RESOLVER, ROOT_ADDRESS, TIER_ADDRESS, join_resolver
from portolan.rehearsal.plan import BASE, Daemon, Plan
from portolan.wire.listeners import bindings_of

_KNOT = "server:\n    rundir: {base}/{name}\n    udp-workers: 1\n    tcp-workers: 1\n    background-workers: 1\n{listen}database:\n    storage: {base}/{name}\nlog:\n  - target: stderr\n    any: warning\n{zones}"
_UNBOUND = """server:
  username: ""
  chroot: ""
  directory: "{base}/{name}"
  pidfile: ""
  use-syslog: no
  logfile: ""
  verbosity: 0
  num-threads: 1
  do-daemonize: no
  access-control: 0.0.0.0/0 allow
  access-control: ::/0 allow
  module-config: "iterator"
  root-hints: "{base}/{name}/root.hints"
  do-not-query-localhost: no
  infra-cache-max-rtt: 600
  infra-cache-min-rtt: 50
  outbound-msg-retry: 2
  qname-minimisation: no
  minimal-responses: yes
  local-zone: "example." nodefault
  local-zone: "test." nodefault
  local-zone: "invalid." nodefault
  unblock-lan-zones: yes
  insecure-lan-zones: yes
  so-reuseport: no
{interfaces}remote-control:
  control-enable: no
"""


def build_names(plan: Plan) -> None:
    """Every name server and resolver that the estate needs or describes."""
    served: dict[str, list[tuple[Machine, Service]]] = {name: [] for name in plan.estate.zones}
    for machine in machines(plan.estate):
        for service in machine.services.values():
            for held in service.zones:
                served[held].append((machine, service))
    tiers: dict[int, list[Zone]] = {}
    for zone in plan.estate.zones.values():
        if not served[zone.name]:
            tiers.setdefault(_depth(plan, zone), []).append(zone)
    # The root and the topmost zones may share a server: the root always delegates them. Deeper ones get their own, lest a
    # parent's fault be hidden by a server that knows the child too.
    _root(plan, served, {zone.name: zone_text(zone, plan) for zone in tiers.pop(0, [])})
    for depth, zones in tiers.items():
        address = TIER_ADDRESS.format(2 + depth)
        _knot(plan, f"tier{depth}", AUTHORITY, [address], {zone.name: zone_text(zone, plan) for zone in zones})
    running = [(machine, service) for machine in machines(plan.estate) for service in machine.services.values()]
    for number, (machine, service) in enumerate(running):
        if service.state != "running" or service.kind not in ("name-server", "resolver"):
            continue
        bound = [binding for binding in bindings_of(service) if binding.protocol == "udp"]
        listen = [address for binding in bound for address in _listen(binding.address, binding.families)]
        if service.kind == "name-server":
            texts = {str(name): zone_text(plan.estate.zones[name], plan) for name in service.zones}
            _knot(plan, f"names{number}", plan.space_of(machine), listen, texts)
        else:
            _unbound(plan, f"cache{number}", plan.space_of(machine), listen)
    _unbound(plan, "ordinary", RESOLVER, ["0.0.0.0", "::0"])


def client_files(plan: Plan, vantage: Vantage, number: int) -> list[list[str]]:
    """The resolv.conf and hosts file that a visitor's client sees: (file, where it is mounted)."""
    client: Machine | Vantage = vantage
    if vantage.host is not None:
        client = plan.estate.hosts.get(vantage.host) or plan.estate.routers[vantage.host]
    space = plan.space_of(client)
    if f"{space}.resolv" not in plan.files:
        resolver: object = client.resolver
        stated = client.resolver
        if isinstance(stated, str) or stated is None or (is_public(stated) and not _described(plan, stated)):
            resolver = join_resolver(plan, client, number)
        plan.files[f"{space}.resolv"] = f"nameserver {resolver}\noptions timeout:2 attempts:1\n"
        lines = ["127.0.0.1 localhost", "::1 localhost"]
        if client.hosts_file is not None:
            lines += [f"{line.address} {' '.join(line.names)}" for line in client.hosts_file.entries]
        plan.files[f"{space}.hosts"] = "\n".join(lines) + "\n"
    return [[f"{BASE}/{space}.resolv", "/etc/resolv.conf"], [f"{BASE}/{space}.hosts", "/etc/hosts"]]


def _described(plan: Plan, address: IPAddress) -> bool:
    return any(
        address == item.ip
        for machine in machines(plan.estate)
        for interface in machine.interfaces.values()
        for item in interface.address
    )


def _depth(plan: Plan, zone: Zone) -> int:
    return sum(zone.name.endswith("." + other) for other in plan.estate.zones)


def _root(plan: Plan, served: dict[str, list[tuple[Machine, Service]]], zones: dict[str, str]) -> None:
    """A root zone that delegates the topmost zones, as their registration says."""
    lines = [". 60 SOA a.root. x.root. 1 60 60 60 60", ". 60 NS a.root.", f"a.root. 60 A {ROOT_ADDRESS}"]
    glue: set[str] = set()
    for zone in plan.estate.zones.values():
        if _depth(plan, zone):
            continue
        holders = served[zone.name]
        if zone.delegated_to and holders:
            for name in zone.delegated_to:
                lines.append(f"{zone.name}. 60 NS {name}.")
                if name == zone.name or name.endswith("." + zone.name):
                    glue |= {
                        f"{name}. 60 {record.type} {record.data}"
                        for record in address_records(zone.data.nodes.get(name, {}))
                    }
        elif holders:
            targets = [
                (address, number)
                for machine, service in holders
                for number, address in enumerate(listening_addresses(machine, service))
            ]
            public = [each for each in targets if is_public(each[0])]
            for number, (address, _) in enumerate(public or targets):
                server = f"s{number}.held.{zone.name}."
                lines.append(f"{zone.name}. 60 NS {server}")
                glue.add(f"{server} 60 {'A' if address.version == 4 else 'AAAA'} {address}")
        else:
            lines.append(f"{zone.name}. 60 NS assumed.{zone.name}.")
            glue.add(f"assumed.{zone.name}. 60 A {TIER_ADDRESS.format(2)}")
    _knot(
        plan,
        "root",
        AUTHORITY,
        [ROOT_ADDRESS, TIER_ADDRESS.format(2)],
        {".": "\n".join([*lines, *sorted(glue)]) + "\n", **zones},
    )


def zone_text(zone: Zone, plan: Plan) -> str:
    """A zone as a master file of absolute names, with what an inline zone leaves out."""
    from portolan.rehearsal.record_text import data_text

    lines = []
    apex = zone.data.nodes.get(zone.name, {})
    if "SOA" not in apex:
        lines.append(f"{zone.name}. 60 SOA assumed.{zone.name}. keeper.{zone.name}. 1 60 60 60 60")
    if "NS" not in apex and "CNAME" not in apex:
        lines.append(f"{zone.name}. 60 NS assumed.{zone.name}.")
        lines.append(f"assumed.{zone.name}. 60 A {TIER_ADDRESS.format(2 + _depth(plan, zone))}")
    for owner, types in zone.data.nodes.items():
        for kind, records in types.items():
            for record in records:
                lines.append(f"{owner}. {record.ttl} {kind} {data_text(record)}")
    described = [
        other
        for other in plan.estate.zones.values()
        if other.name != zone.name and other.name.endswith("." + zone.name)
    ]
    for child in described:
        # A delegation to servers that nobody describes leads to those that are assumed.
        for record in zone.data.nodes.get(child.name, {}).get("NS", ()):
            if not address_records(zone.data.nodes.get(record.data, {})) and record.data.endswith("." + zone.name):
                lines.append(f"{record.data}. 60 A {TIER_ADDRESS.format(2 + _depth(plan, child))}")
    return "\n".join(lines) + "\n"


def _listen(address: IPAddress | None, families: tuple[int, ...]) -> list[str]:
    if address is not None:
        return [str(address)]
    return [{4: "0.0.0.0", 6: "::"}[family] for family in families]


def _knot(plan: Plan, name: str, space: str, addresses: list[str], zones: dict[str, str]) -> None:
    parts = []
    for number, (zone, text) in enumerate(zones.items()):
        plan.files[f"{name}/z{number}.zone"] = text
        parts.append(
            f"  - domain: {zone if zone == '.' else zone + '.'}\n    file: {BASE}/{name}/z{number}.zone\n    zonefile-sync: -1\n    journal-content: none\n    semantic-checks: off\n"
        )
    listen = "".join(f"    listen: {address}@53\n" for address in addresses)
    plan.files[f"{name}/knot.conf"] = _KNOT.format(
        base=BASE, name=name, listen=listen, zones="zone:\n" + "".join(parts)
    )
    plan.daemons.append(Daemon(name, space, ["/usr/sbin/knotd", "-c", f"{BASE}/{name}/knot.conf"], [["udp", 53]]))


def _unbound(plan: Plan, name: str, space: str, addresses: list[str]) -> None:
    interfaces = "".join(f"  interface: {address}\n" for address in addresses)
    plan.files[f"{name}/unbound.conf"] = _UNBOUND.format(base=BASE, name=name, interfaces=interfaces)
    plan.files[f"{name}/root.hints"] = f". 3600 NS a.root.\na.root. 3600 A {ROOT_ADDRESS}\n"
    plan.daemons.append(
        Daemon(name, space, ["/usr/sbin/unbound", "-d", "-c", f"{BASE}/{name}/unbound.conf"], [["udp", 53]])
    )
