"""The name programs: Knot DNS, NSD and named with authority, Unbound and named as resolvers; each in its own folder."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from portolan.estate.base import IPAddress
from portolan.rehearsal.network import ROOT_ADDRESS
from portolan.rehearsal.plan import BASE, Daemon, Plan
from portolan.rehearsal.quoting import UnstageableError, dns_name, quoted_name

_KNOT = """server:
    rundir: {folder}
    udp-workers: 1
    tcp-workers: 1
    background-workers: 1
{listen}database:
    storage: {folder}
log:
  - target: stderr
    any: warning
zone:
{zones}"""
_NAMED = """options {{ directory "{folder}"; pid-file none; session-keyfile none; recursion no; allow-query {{ any; }};
  dnssec-validation no; notify no; minimal-responses yes; check-integrity no;
{listen} }};
controls {{ }};
{views}"""
# Everything that is not said here is as the distribution has it: caps on lifetimes, zones that are empty by themselves,
# minimised questions. What is said gives it a place, saves time when servers are dead, and keeps the order of addresses.
_UNBOUND = """server:
  username: ""
  chroot: ""
  directory: "{folder}"
  pidfile: ""
  use-syslog: no
  logfile: ""
  verbosity: 0
  num-threads: 1
  do-daemonize: no
  access-control: 0.0.0.0/0 allow
  access-control: ::/0 allow
  module-config: "{modules}"
  root-hints: "{folder}/root.hints"
  infra-cache-max-rtt: 600
  infra-cache-min-rtt: 50
  outbound-msg-retry: 2
  rrset-roundrobin: no
{further}remote-control:
  control-enable: no
{sections}"""


class Ways(NamedTuple):
    """What a resolver does: whom it passes names on to by zone (`.` for all others), its anchor, what it refuses and holds itself,
    which zones may have private addresses (None: it drops none), and whether it gives what has ended.
    """

    forwards: Mapping[str, Sequence[IPAddress]] = MappingProxyType({})
    anchor: str | None = None
    refuses: Mapping[str, str] | None = None
    zones: Mapping[str, str] | None = None
    may_be_private: Sequence[str] | None = None
    expired: bool = False

    @property
    def everywhere(self) -> list[str]:
        """Whom it passes all names on to that no zone of these holds."""
        return [str(each) for each in self.forwards.get(".", ())]

    @property
    def by_zone(self) -> dict[str, list[str]]:
        """The zones with others."""
        return {zone: [str(each) for each in to] for zone, to in self.forwards.items() if zone != "."}


_PRIVATE = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "169.254.0.0/16", "fd00::/8", "fe80::/10")


def knot(
    plan: Plan, name: str, space: str, addresses: list[str], zones: Mapping[str, str], port: int = 53
) -> list[str]:
    """A name server with zones (name to master file); the command that makes it read them anew."""
    folder = f"{BASE}/{name}"
    parts = "".join(
        f"  - domain: {quoted_name(zone)}\n    file: {BASE}/{path}\n    zonefile-sync: -1\n"
        "    journal-content: none\n    semantic-checks: off\n"
        for zone, path in zones.items()
    )
    listen = "".join(f"    listen: {address}@{port}\n" for address in addresses)
    plan.files[f"{name}/knot.conf"] = _KNOT.format(folder=folder, listen=listen, zones=parts)
    plan.owned.append([name, "server"])
    plan.daemons.append(Daemon(name, space, ["/usr/sbin/knotd", "-c", f"{folder}/knot.conf"], [["udp", port]]))
    return ["/usr/sbin/knotc", "-c", f"{folder}/knot.conf", "-b", "zone-reload"]


_PRIMARY = """options {{ directory "{folder}"; pid-file "{folder}/pid"; session-keyfile none; recursion no; allow-query {{ any; }};
  dnssec-validation no; notify no; minimal-responses yes;
{listen} }};
controls {{ }};
{zones}"""
_NSD = """server:
  username: ""
  chroot: ""
  zonesdir: "{folder}"
  pidfile: "{folder}/pid"
  xfrdfile: "{folder}/xfrd.state"
  zonelistfile: "{folder}/zone.list"
  xfrdir: "{folder}"
  database: ""
  server-count: 1
  rrl-ratelimit: 0
{listen}remote-control:
  control-enable: no
{zones}"""
_RECURSIVE = """options {{ directory "{folder}"; pid-file none; session-keyfile none; recursion yes; allow-query {{ any; }};
  allow-recursion {{ any; }}; allow-query-cache {{ any; }}; dnssec-validation {validation}; notify no; rrset-order {{ order none; }};
  resolver-query-timeout 4000;
{listen}{forwards}{policy} }};
controls {{ }};
{anchors}{zones}"""


def _again(folder: str) -> list[str]:
    """The command that makes a server read its zones anew: the signal that named and NSD take for that."""
    return ["sh", "-c", f"kill -HUP $(cat {folder}/pid) && sleep 0.3"]


def primary(
    plan: Plan, name: str, space: str, addresses: list[str], zones: Mapping[str, str], port: int = 53
) -> list[str]:
    """named with zones, as it is installed; the command that makes it read them anew."""
    folder = f"{BASE}/{name}"
    texts = "".join(map(_primary_zone, zones, zones.values()))
    _start_named(
        plan, name, space, _PRIMARY.format(folder=folder, listen=_listening(addresses, port), zones=texts), port
    )
    return _again(folder)


def _primary_zone(zone: str, path: str) -> str:
    return f'zone {quoted_name(zone)} {{ type primary; file "{BASE}/{path}"; }};\n'


def _start_named(
    plan: Plan, name: str, space: str, configuration: str, port: int = 53, clock: str | None = None
) -> None:
    plan.files[f"{name}/named.conf"] = configuration
    plan.owned.append([name, "server"])
    command = ["/usr/sbin/named", "-g", "-n", "1", "-c", f"{BASE}/{name}/named.conf"]
    plan.daemons.append(Daemon(name, space, command, [["udp", port]], clock=clock))


def nsd(plan: Plan, name: str, space: str, addresses: list[str], zones: Mapping[str, str], port: int = 53) -> list[str]:
    """NSD with zones; the command that makes it read them anew."""
    folder = f"{BASE}/{name}"
    listen = "".join(f"  ip-address: {address}@{port}\n" for address in addresses)
    texts = "".join(f"zone:\n  name: {quoted_name(zone)}\n  zonefile: {BASE}/{path}\n" for zone, path in zones.items())
    plan.files[f"{name}/nsd.conf"] = _NSD.format(folder=folder, listen=listen, zones=texts)
    plan.owned.append([name, "server"])
    command = ["/usr/sbin/nsd", "-d", "-c", f"{folder}/nsd.conf"]
    plan.daemons.append(Daemon(name, space, command, [["udp", port]]))
    return _again(folder)


#: Name servers with authority by the program's name.
PRIMARIES = {"named": primary, "nsd": nsd, "knot": knot}


def recursive(
    plan: Plan,
    name: str,
    space: str,
    addresses: list[str],
    ways: Ways,
    clock: str | None = None,
) -> None:
    """named as a resolver: one that passes on, checks signatures, does not look some names up, or holds zones itself."""
    everywhere = ways.everywhere
    refuses, anchor = ways.refuses, ways.anchor
    texts = ['zone "." { type hint; file "root.hints"; };\n'] if not everywhere else []
    texts += [_primary_zone(zone, path) for zone, path in (ways.zones or {}).items()]
    for zone, to in ways.by_zone.items():
        only = "forward only; " if to else ""
        texts.append(
            f"zone {quoted_name(zone)} {{ type forward; {only}forwarders {{ {' '.join(f'{each};' for each in to)} }}; }};\n"
        )
    policy = ""
    if refuses:
        if "always_refuse" in refuses.values():
            raise UnstageableError("names that named refuses", ", ".join(refuses), None)
        policy = '  response-policy { zone "policy.stage"; } qname-wait-recurse no;\n'
        texts.append('zone "policy.stage" { type primary; file "policy.zone"; };\n')
        lines = ["@ 60 SOA a b 1 60 60 60 60", "@ 60 NS a.root."]
        for each in refuses:
            owner = dns_name(each).rstrip(".")
            lines += [f"{owner} 60 CNAME .", f"*.{owner} 60 CNAME ."]
        plan.files[f"{name}/policy.zone"] = "\n".join(lines) + "\n"
    passed = f"  forward only; forwarders {{ {' '.join(f'{each};' for each in everywhere)} }};\n" if everywhere else ""
    if ways.expired:
        passed += "  stale-answer-enable yes; stale-cache-enable yes;\n"
    plan.files[f"{name}/root.hints"] = f". 3600 NS a.root.\na.root. 3600 A {ROOT_ADDRESS}\n"
    configuration = _RECURSIVE.format(
        folder=f"{BASE}/{name}",
        validation="yes" if anchor is not None else "no",
        listen=_listening(addresses, 53),
        forwards=passed,
        policy=policy,
        anchors=_anchors(anchor) if anchor is not None else "",
        zones="".join(texts),
    )
    _start_named(plan, name, space, configuration, clock=clock)


def _anchors(anchor: str) -> str:
    """A root's key, as a line of a master file, as named's trust anchor."""
    words = anchor.split()
    at = next(index for index, word in enumerate(words) if word in ("DNSKEY", "DS"))
    kind = "static-key" if words[at] == "DNSKEY" else "static-ds"
    numbers, data = words[at + 1 : at + 4], "".join(words[at + 4 :])
    return f'trust-anchors {{ "." {kind} {" ".join(numbers)} "{data}"; }};\n'


def _listening(addresses: list[str], port: int) -> str:
    """named's listeners; none of a family where no address is of it."""
    four = [address for address in addresses if ":" not in address]
    six = [address for address in addresses if ":" in address]
    return "".join(
        f"  {word} port {port} {{ {' '.join(('any' if each in ('0.0.0.0', '::') else each) + ';' for each in held) or 'none;'} }};\n"
        for word, held in (("listen-on", four), ("listen-on-v6", six))
    )


def named(
    plan: Plan,
    name: str,
    space: str,
    addresses: list[str],
    zones: Mapping[str, str],
    views: Mapping[tuple[str, ...], Mapping[str, str]],
) -> None:
    """A name server that answers by the asker's address: ranges to zones, and the zones for all others."""
    texts = [
        _view(f"v{number}", " ".join(f"{net};" for net in clients), held)
        for number, (clients, held) in enumerate(views.items())
    ]
    texts.append(_view("others", "any;", zones))
    listen = _listening(addresses, 53)
    _start_named(plan, name, space, _NAMED.format(folder=f"{BASE}/{name}", listen=listen, views="\n".join(texts)))


def _view(name: str, clients: str, zones: Mapping[str, str]) -> str:
    held = "".join(f"  {_primary_zone(zone, path)}" for zone, path in zones.items())
    return f"view {name} {{ match-clients {{ {clients} }};\n{held}}};"


def unbound(
    plan: Plan,
    name: str,
    space: str,
    addresses: list[str],
    ways: Ways,
    clock: str | None = None,
) -> None:
    """A recursive resolver; one that passes on, checks signatures, does not look some names up, or holds zones itself."""
    folder = f"{BASE}/{name}"
    further = "".join(f"  interface: {address}\n" for address in addresses)
    refuses, anchor, zones = ways.refuses, ways.anchor, ways.zones
    further += "".join(f"  local-zone: {quoted_name(each)} {kind}\n" for each, kind in (refuses or {}).items())
    if ways.may_be_private is not None:
        further += "".join(f"  private-address: {each}\n" for each in _PRIVATE)
        further += "".join(f"  private-domain: {quoted_name(each)}\n" for each in ways.may_be_private)
    if ways.expired:
        further += "  serve-expired: yes\n"
    if anchor is not None:
        further += f'  trust-anchor: "{anchor}"\n'
    sections = ""
    for name_of, to in (*(((".", ways.everywhere),) if ways.everywhere else ()), *ways.by_zone.items()):
        if not to:
            raise UnstageableError("a zone that unbound does not pass on beside others", name_of, None)
        zone_of = '"."' if name_of == "." else quoted_name(name_of)
        sections += f"forward-zone:\n  name: {zone_of}\n" + "".join(f"  forward-addr: {each}\n" for each in to)
    for zone, path in (zones or {}).items():
        sections += f'auth-zone:\n  name: {quoted_name(zone)}\n  zonefile: "{BASE}/{path}"\n  for-downstream: no\n  for-upstream: yes\n  fallback-enabled: no\n'
    modules = "iterator" if anchor is None else "validator iterator"
    plan.files[f"{name}/unbound.conf"] = _UNBOUND.format(
        folder=folder, modules=modules, further=further, sections=sections
    )
    plan.files[f"{name}/root.hints"] = f". 3600 NS a.root.\na.root. 3600 A {ROOT_ADDRESS}\n"
    plan.owned.append([name, "server"])
    command = ["/usr/sbin/unbound", "-d", "-c", f"{folder}/unbound.conf"]
    plan.daemons.append(Daemon(name, space, command, [["udp", 53]], clock=clock))
