"""Packet filters as the kernel has them, read back from what its own tools print, and asked beside the kernel itself.

    python -m conformance.transcribed_filters iptables|nft N [--seed S] [--only K]

In a user and network namespace of its own two namespaces are joined by a link. Each of N rule sets is drawn in the tool's own
syntax, loaded, saved by `iptables-save` or `nft -j list ruleset`, and read into an estate; connections from several addresses
to several ports are made for real, and foretold. Nothing leaves the namespaces.
"""

import argparse
import ctypes
import errno
import json
import os
import random
import selectors
import socket
import subprocess
import sys
import time
from datetime import UTC, datetime
from ipaddress import ip_address
from typing import Any

from portolan.evidence.outcome import Detail
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.net.connect import connect
from portolan.transcribing.assembling import transcript
from portolan.transcribing.filtering import filters
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.text import yaml_text

NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
_NEWUSER, _NEWNET = 0x10000000, 0x40000000
SERVER = ("10.20.0.15", "10.20.0.16", "2001:db8:20::15")
SOURCES = ("10.20.0.40", "10.20.0.41", "10.20.0.99", "2001:db8:20::40", "2001:db8:20::99")
OPEN, ASKED = (22, 80, 443, 8080), (22, 80, 81, 443, 8080, 9000)
_WAIT = 0.35


def _run(*command: str, text: str | None = None) -> str:
    done = subprocess.run(command, input=text, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(f"{' '.join(command)}: {done.stderr.strip()[:400]}")
    return done.stdout


def apart() -> None:
    """Into a user and network namespace of our own, as its root."""
    libc = ctypes.CDLL(None, use_errno=True)
    user, group = os.getuid(), os.getgid()
    if libc.unshare(_NEWUSER | _NEWNET):
        raise OSError(ctypes.get_errno(), "no namespace to be had here")
    for name, line in (("setgroups", "deny"), ("uid_map", f"0 {user} 1"), ("gid_map", f"0 {group} 1")):
        with open(f"/proc/self/{name}", "w", encoding="ascii") as file:
            file.write(line)


def serving(given: "socket.socket") -> None:
    """The other end: a namespace with listeners, which loads each rule set that it is given and says what was saved."""
    ctypes.CDLL(None).unshare(_NEWNET)
    given.sendall(b"ready\n")
    stream = given.makefile("rw", encoding="utf-8")
    stream.readline()
    for command in (
        "link set lo up",
        "link set inner up",
        *(
            f"address add {each}/{64 if ':' in each else 24} dev inner{' nodad' if ':' in each else ''}"
            for each in SERVER
        ),
    ):
        _run("ip", *command.split())
    # The kernel answers only so often with errors; here each question is to be answered.
    for knob in ("ipv4/icmp_ratelimit", "ipv6/icmp/ratelimit"):
        with open(f"/proc/sys/net/{knob}", "w", encoding="ascii") as file:
            file.write("0")
    listeners = []
    for port in OPEN:
        held = socket.socket(socket.AF_INET6)
        held.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        held.bind(("::", port))
        held.listen(200)
        held.setblocking(False)
        listeners.append(held)
    given.sendall(b"ready\n")
    for line in stream:
        asked = json.loads(line)
        for held in listeners:
            _emptied(held)
        try:
            saved = _loaded(asked)
        except RuntimeError as error:
            saved = {"error": str(error)}
        stream.write(json.dumps(saved) + "\n")
        stream.flush()


def _emptied(listener: socket.socket) -> None:
    """Takes every connection that waits: a full queue would answer nobody."""
    while True:
        try:
            listener.accept()[0].close()
        except OSError:
            return


def _loaded(asked: dict[str, str]) -> dict[str, str]:
    _run("nft", "flush", "ruleset")
    if "nft" in asked:
        _run("nft", "-f", "-", text=asked["nft"])
        return {"nft": _run("nft", "-j", "list", "ruleset")}
    _run("iptables-restore", text=asked["v4"])
    _run("ip6tables-restore", text=asked["v6"])
    return {"v4": _run("iptables-save"), "v6": _run("ip6tables-save")}


# -- drawing --


def iptables(rng: random.Random, family: int) -> str:
    """Tables as iptables-save prints them and people write them."""
    chains = ["web", "inner"]
    policy = rng.choice(("ACCEPT", "DROP"))
    rules = ["-A INPUT -i lo -j ACCEPT"] if rng.random() < 0.5 else []
    if rng.random() < 0.8:
        rules.append("-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT")
    if family == 6:
        rules.append("-A INPUT -p ipv6-icmp -j ACCEPT")
    for _ in range(rng.randint(2, 7)):
        rules.append(f"-A INPUT {_match(rng, family)} -j {_target(rng, family, ['web', 'inner'])}")
    for _ in range(rng.randint(0, 3)):
        rules.append(f"-A web {_match(rng, family)} -j {_target(rng, family, ['inner'])}")
    for _ in range(rng.randint(0, 3)):
        rules.append(f"-A inner {_match(rng, family)} {rng.choice(('-j', '-j', '-j'))} {_target(rng, family, [])}")
    nat = _translation(rng, family) if rng.random() < 0.5 else ""
    return nat + "*filter\n" + f":INPUT {policy} [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n" + "".join(
        f":{name} - [0:0]\n" for name in chains
    ) + "\n".join(rules) + "\nCOMMIT\n"  # fmt: skip


def _translation(rng: random.Random, family: int) -> str:
    """A table of translation: to other ports or the other address, behind a chain, past what goes back or passes."""
    server, near = (SERVER[0], "10.20.0.40/32") if family == 4 else (SERVER[2], "2001:db8:20::40/128")
    where = ("-i inner ", "-m addrtype --dst-type LOCAL ", f"-d {server} ", f"-s {near} ", f"! -s {near} ")
    ports = ("-m tcp --dport 81 ", "-m tcp --dport 9000 ", "-m multiport --dports 81,9000 ", "-m tcp --dport 80:90 ")
    other = SERVER[1] if family == 4 else f"[{SERVER[2]}]"
    leads = (
        *(f"REDIRECT --to-ports {port}" for port in (80, 443)),
        f"DNAT --to-destination {other}:8080",
        f"DNAT --to-destination {other.strip('[]')}",
    )
    rules = []
    for _ in range(rng.randint(1, 3)):
        chain = rng.choice(("PREROUTING", "PREROUTING", "ways"))
        asked = f"{rng.choice((*where, ''))}-p tcp {rng.choice((*ports, *ports, ''))}"
        rules.append(f"-A {chain} {asked}-j {rng.choice(leads)}")
    if rng.random() < 0.25:
        # Nothing comes behind it.
        rules.insert(rng.randint(0, len(rules)), f"-A ways -j {rng.choice(('RETURN', 'ACCEPT'))}")
    if rng.random() < 0.7:
        rules.insert(rng.randint(0, len(rules)), f"-A PREROUTING {rng.choice((*where, ''))}-j ways")
    chains = "".join(f":{each} ACCEPT [0:0]\n" for each in ("PREROUTING", "INPUT", "OUTPUT", "POSTROUTING"))
    return f"*nat\n{chains}:ways - [0:0]\n" + "\n".join(rules) + "\nCOMMIT\n"


def _match(rng: random.Random, family: int) -> str:
    here = {
        4: ("10.20.0.40/32", "10.20.0.40/31", "10.20.0.0/26", "10.20.0.0/24"),
        6: ("2001:db8:20::40/128", "2001:db8:20::/122", "2001:db8:20::/64"),
    }[family]
    there = {4: SERVER[:2], 6: SERVER[2:]}[family]
    words = []
    if rng.random() < 0.5:
        words.append(f"{rng.choice(('', '', '! '))}-s {rng.choice(here)}")
    if rng.random() < 0.25:
        words.append(f"{rng.choice(('', '! '))}-d {rng.choice(there)}/{128 if family == 6 else 32}")
    if rng.random() < 0.2:
        words.append(f"{rng.choice(('', '! '))}-i {rng.choice(('inner', 'lo', 'inn+'))}")
    if rng.random() < 0.75:
        words.append(
            "-p tcp "
            + rng.choice(("-m tcp --dport 80", "-m tcp ! --dport 443", "-m multiport --dports 80,443", "-m tcp --dport 1:1023", "-m multiport ! --dports 22,8000:9000",
                          "-m tcp --dport 22", "-m tcp --sport 1024:65535 --dport 8080", ""))
        )  # fmt: skip
    if rng.random() < 0.2:
        words.append(
            rng.choice(
                (
                    "-m conntrack --ctstate NEW",
                    "-m state --state NEW,ESTABLISHED",
                    "-m conntrack ! --ctstate INVALID",
                    "-m conntrack --ctstate INVALID",
                )
            )
        )
    if rng.random() < 0.1:
        words.append("-m addrtype --dst-type LOCAL")
    if rng.random() < 0.1 and family == 4:
        words.append("-m iprange --src-range 10.20.0.40-10.20.0.50")
    if rng.random() < 0.2:
        words.append('-m comment --comment "for the dome"')
    return " ".join(words)


def _target(rng: random.Random, family: int, chains: list[str]) -> str:
    answers = {
        4: ("icmp-port-unreachable", "icmp-host-prohibited", "icmp-admin-prohibited"),
        6: ("icmp6-port-unreachable", "icmp6-adm-prohibited"),
    }[family]
    return rng.choice(
        (
            "ACCEPT",
            "ACCEPT",
            "DROP",
            f"REJECT --reject-with {rng.choice(answers)}",
            "RETURN",
            'LOG --log-prefix "x "',
            *chains,
        )
    )


def nft(rng: random.Random, _family: int = 0) -> str:
    """A ruleset in nft's own syntax."""
    lines = []
    if rng.random() < 0.7:
        lines.append(
            rng.choice(
                (
                    "ct state established,related accept",
                    "ct state vmap { established : accept, related : accept, invalid : drop }",
                    "ct state { established, related } counter accept",
                )
            )
        )
    if rng.random() < 0.5:
        lines.append('iifname "lo" accept')
    lines.append("meta l4proto ipv6-icmp accept")
    for _ in range(rng.randint(2, 7)):
        lines.append(f"{_nft_match(rng)} {_nft_verdict(rng, True)}")
    web = [f"{_nft_match(rng)} {_nft_verdict(rng, False)}" for _ in range(rng.randint(0, 3))]
    nat = _nft_translation(rng) if rng.random() < 0.5 else ""
    return (
        "table inet guard {\n  set desks { type ipv4_addr; flags interval; elements = { 10.20.0.40, 10.20.0.96/28 } }\n  set doors { type inet_service; elements = { 80, 443 } }\n"
        "  chain web {\n    " + "\n    ".join(web) + "\n  }\n" + nat
        + f"  chain input {{\n    type filter hook input priority filter; policy {rng.choice(('accept', 'drop'))};\n    "
        + "\n    ".join(lines) + "\n  }\n}\n"
    )  # fmt: skip


def _nft_translation(rng: random.Random) -> str:
    where = (
        "iifname inner",
        "fib daddr type local",
        f"ip daddr {SERVER[0]}",
        f"ip6 daddr {SERVER[2]}",
        "ip saddr != 10.20.0.40",
        "ip6 saddr 2001:db8:20::40",
        "meta nfproto ipv4",
        "",
    )
    ports = (
        "tcp dport 81",
        "tcp dport 9000",
        "tcp dport { 81, 9000 }",
        "tcp dport 80-90",
        "meta l4proto tcp",
        "tcp dport @doors",
        "meta l4proto { tcp, udp } th dport 81",
    )
    leads = (
        "redirect to :80",
        "redirect to :443",
        "redirect to :80-81",
        f"dnat ip to {SERVER[1]}:8080",
        f"dnat ip to {SERVER[1]}",
        f"dnat ip6 to [{SERVER[2]}]:8080",
    )
    lines = [f"{rng.choice(where)} {rng.choice(ports)} {rng.choice(leads)}" for _ in range(rng.randint(1, 3))]
    # An address of one family does not go with a target of the other.
    lines = [
        line
        for line in lines
        if not (("ip6 saddr" in line or "ip6 daddr" in line) and "dnat ip " in line)
        and not (("ip saddr" in line or "ip daddr" in line or "ipv4" in line) and "dnat ip6" in line)
    ]
    if rng.random() < 0.2:
        lines.insert(rng.randint(0, len(lines)), rng.choice(("accept", "return", "ip saddr 10.20.0.40 return")))
    body = "\n    ".join(lines)
    return f"  chain pre {{\n    type nat hook prerouting priority dstnat; policy accept;\n    {body}\n  }}\n"  # fmt: skip


def _nft_match(rng: random.Random) -> str:
    words = []
    if rng.random() < 0.5:
        words.append(
            rng.choice(
                (
                    "ip saddr 10.20.0.40",
                    "ip saddr != 10.20.0.0/26",
                    "ip saddr @desks",
                    "ip saddr { 10.20.0.41, 10.20.0.99 }",
                    "ip6 saddr 2001:db8:20::/122",
                    "ip saddr 10.20.0.40-10.20.0.50",
                    "ip6 saddr != 2001:db8:20::40",
                    "meta nfproto ipv4",
                )
            )
        )
    if rng.random() < 0.7:
        words.append(
            rng.choice(
                (
                    "tcp dport 80",
                    "tcp dport { 80, 443 }",
                    "tcp dport @doors",
                    "tcp dport != 22",
                    "tcp dport 1-1023",
                    "tcp dport { 22, 8000-9000 }",
                    "th dport 8080",
                    "meta l4proto tcp",
                    "tcp sport 1024-65535 tcp dport 443",
                )
            )
        )
    if rng.random() < 0.15:
        words.append(rng.choice(('iifname "inner"', 'iifname != "lo"', "ct state new", "fib daddr type local")))
    if rng.random() < 0.2:
        words.append(rng.choice(("counter", 'log prefix "x"')))
    return " ".join(words)


def _nft_verdict(rng: random.Random, jumps: bool) -> str:
    return rng.choice(
        (
            "accept",
            "accept",
            "drop",
            "reject",
            "reject with tcp reset" if False else "reject with icmpx admin-prohibited",
            "return",
            *(("jump web", "goto web") if jumps else ()),
        )
    )


# -- asking --


def really(questions: list[tuple[str, str, int]]) -> list[str]:
    """What becomes of connections, all made at once."""
    found = ["timed-out"] * len(questions)
    chosen = selectors.DefaultSelector()
    for number, (source, target, port) in enumerate(questions):
        asking = socket.socket(socket.AF_INET6 if ":" in source else socket.AF_INET)
        asking.setblocking(False)
        if ":" in source:
            asking.setsockopt(socket.IPPROTO_IPV6, 25, 1)
        asking.bind((source, 0))
        result = asking.connect_ex((target, port))
        if result not in (0, errno.EINPROGRESS):
            found[number] = _word(result)
            asking.close()
            continue
        chosen.register(asking, selectors.EVENT_WRITE, number)
    end = time.monotonic() + _WAIT
    while chosen.get_map() and time.monotonic() < end:
        for key, _ in chosen.select(0.05):
            held: Any = key.fileobj
            found[key.data] = _word(held.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR))
            chosen.unregister(held)
            held.close()
    for key in list(chosen.get_map().values()):
        held = key.fileobj
        chosen.unregister(held)
        held.close()
    return found


def _word(code: int) -> str:
    return {0: "open", errno.ECONNREFUSED: "refused", errno.ECONNRESET: "refused"}.get(code, "unreachable")


def same(real: str, said: str) -> bool:
    """Whether both are the same; a connection that is made and then lost is open, or has its error already."""
    return real == said or (said == "stalled" and real in ("open", "unreachable", "refused"))


def foretold(saved: dict[str, str], questions: list[tuple[str, str, int]]) -> tuple[list[str], list[str]]:
    """The same by the estate that is read from what was saved; and what could not be kept."""
    given = [
        (saved[key], name)
        for key, name in (("v4", "iptables"), ("v6", "ip6tables"), ("nft", "nft.json"))
        if key in saved
    ]
    machine, networks = Part(Spot("saved", 1)), {"inner": {"subnets": ["10.20.0.0/24", "2001:db8:20::/64"]}}
    inner = Part(Spot("saved", 1))
    inner.say("network", "inner")
    inner.say("address", list(SERVER))
    machine.say("interfaces", {"inner": inner})
    service = Part(Spot("saved", 1))
    service.say("listens", [str(each) for each in OPEN])
    machine.say("services", {"door": service})
    filters(given).into(machine, networks)
    made = transcript("server", machine, {}, {}, networks)
    document = {"portolan": 1, **made.documents["server.yaml"], "vantages": {
        f"v{number}": {"network": "inner", "address": source} for number, source in enumerate(SOURCES)
    }}  # fmt: skip
    loaded = load(MemoryFiles({"estate.yaml": yaml_text(document)}), "estate.yaml")
    world = World(loaded.estate, NOW)
    said = []
    for source, target, port in questions:
        vantage = loaded.estate.vantages[f"v{SOURCES.index(source)}"]
        found = connect(world.topology, world.topology.device(vantage), ip_address(target), port)
        words = {
            None: "open",
            Detail.REFUSED: "refused",
            Detail.RESET: "refused",
            Detail.TIMED_OUT: "timed-out",
            Detail.UNREACHABLE: "unreachable",
            # The handshake is done, and what follows is lost.
            Detail.STALLED: "stalled",
        }
        said.append(words.get(found.detail, str(found.detail)))
    return said, [words for _, words in made.unread]


def main() -> int:
    """Draws, loads, saves, reads, asks; 1 where anything differs or nothing was compared."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("tool", choices=("iptables", "nft"))
    parser.add_argument("sets", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", type=int, default=None)
    asked = parser.parse_args()
    apart()
    here, there = socket.socketpair()
    child = os.fork()
    if not child:
        here.close()
        try:
            serving(there)
        finally:
            os._exit(0)
    there.close()
    stream = here.makefile("rw", encoding="utf-8")
    stream.readline()
    for command in ("link set lo up", "link add outer type veth peer name inner", f"link set inner netns {child}", "link set outer up",
                    *(f"address add {each}/{64 if ':' in each else 24} dev outer{' nodad' if ':' in each else ''}" for each in SOURCES)):  # fmt: skip
        _run("ip", *command.split())
    stream.write("go\n")
    stream.flush()
    stream.readline()
    time.sleep(0.3)
    compared, lost, different, refused = 0, 0, [], 0
    for number in range(asked.sets):
        if asked.only is not None and number != asked.only:
            continue
        rng = random.Random(asked.seed * 100_000 + number)
        text = {"nft": nft(rng)} if asked.tool == "nft" else {"v4": iptables(rng, 4), "v6": iptables(rng, 6)}
        stream.write(json.dumps(text) + "\n")
        stream.flush()
        saved = json.loads(stream.readline())
        if "error" in saved:
            refused += 1
            if asked.only is not None:
                print(saved["error"], "\n", *text.values())
            continue
        questions = [
            (source, target, rng.choice(ASKED))
            for source in SOURCES
            for target in SERVER
            for _ in range(4)
            if (":" in source) == (":" in target)
        ]
        said, unread = foretold(saved, questions)
        if asked.only is not None:
            print(*saved.values(), unread)
        if unread:
            lost += 1
            continue
        real = really(questions)
        compared += len(real)
        different += [
            f"set {number}: {question} real {one} said {other}"
            for question, one, other in zip(questions, real, said, strict=True)
            if not same(one, other)
        ]
    os.kill(child, 15)
    os.waitpid(child, 0)
    for line in different[:20]:
        print(line)
    print(
        f"{asked.tool}: compared {compared}, differ {len(different)}, sets with lines unread {lost}, refused {refused}"
    )
    return 1 if different or not compared else 0


if __name__ == "__main__":
    sys.exit(main())
