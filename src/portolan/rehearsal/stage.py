"""The stage: carries out a plan inside the confinement that `confine.py` made, as a program that uses the standard library only.

It is the first process of its process namespace: when its starter dies, however that happens, its standard input ends and it
ends everything that it started. It writes nothing outside its own tmpfs: there is nothing else that it could write to.

Usage: stage.py many|one < PLAN    one: all that runs has one identity; many: servers and visitors have identities of their own
"""

import contextlib
import ctypes
import glob
import json
import os
import re
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

_CLONE_NEWNET = 0x40000000
_ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8", "HOME": "/root"}
_READY_LIMIT = 15.0
#: How long a cache is filled with answers that do not come, and how many questions are asked at once for it.
_PRIME_LIMIT, _PRIME_MANY = 5.0, 24
#: The identities of servers and of visitors, where there are several.
_SERVER, _VISITOR = 1001, 1002
#: What bind(2) needs for ports below 1024; nothing else is left to a server.
_LOW_PORTS = "+net_bind_service"


def main() -> int:
    """Reads a plan from standard input, carries it out, writes what came of it as JSON."""
    size = int(sys.stdin.buffer.readline())
    plan = json.loads(sys.stdin.buffer.read(size))
    threading.Thread(target=end_with_starter, daemon=True).start()
    signal.alarm(int(plan["limit"]) + 5)
    base = plan["base"]
    os.makedirs(base)
    os.chdir(base)
    for folder in plan["folders"]:
        os.makedirs(below(folder), exist_ok=True)
    for name, text in plan["files"].items():
        write(name, text)
    many = sys.argv[1] == "many"
    for path, whose in plan["owned"]:
        if many:
            os.chown(below(path), *(2 * (_SERVER if whose == "server" else _VISITOR,)))
    for path, target in plan.get("symlinks", ()):
        os.makedirs(os.path.dirname(below(path)), exist_ok=True)
        os.symlink(base + "/" + below(target.removeprefix(base + "/")), path)
    for path, mode, *own in plan.get("modes", ()):
        allow(below(path), mode, own, many)
    run(["ip", "-batch", "-"], "".join(f"netns add {space}\n" for space in plan["spaces"]))
    troubles = [
        f"links: {said}"
        for said in [run(["ip", "-batch", "-"], "".join(line + "\n" for line in plan["links"]))]
        if said
    ]
    with ThreadPoolExecutor(8) as pool:
        for space, said in pool.map(lambda item: (item[0], set_up(*item)), plan["spaces"].items()):
            if said:
                troubles.append(f"{space}: {said}")
        started = start_all(plan["daemons"], pool, many)
        for each in plan["rounds"]:
            carry_round(each, {daemon["name"]: process for daemon, process in started}, troubles)
        tell("built", len(plan["spaces"]), len(plan["spaces"]))
        results = ask_all(plan["probes"], many)
        states = {daemon["name"]: state(process, base, daemon) for daemon, process in started}
        counters = (
            dict(pool.map(lambda space: (space, inside(space, ["nft", "list", "ruleset"])), plan["spaces"]))
            if plan.get("evidence")
            else {}
        )
    json.dump({"troubles": troubles, "results": results, "daemons": states, "counters": counters}, sys.stdout)
    sys.stdout.flush()
    for _, process in started:
        if process is not None:
            process.kill()
    return 0


def end_with_starter() -> None:
    """Waits for the end of standard input, which is the starter's; the kernel then ends all that runs here."""
    while os.read(0, 4096):
        pass
    os._exit(1)


def below(name: str) -> str:
    """A relative path that stays below the stage's folder; anything else is a fault of the plan's maker."""
    if not name or name.startswith("/") or "\0" in name or ".." in name.split("/"):
        raise ValueError(f"a path outside the stage: {name!r}")
    return name


def write(name: str, text: str) -> None:
    """Writes one of the plan's files."""
    if "/" in below(name):
        os.makedirs(os.path.dirname(name), exist_ok=True)
    with open(name, "w", encoding="utf-8", errors="surrogateescape") as file:
        file.write(text)


def allow(path: str, mode: int, own: list[bool], many: bool) -> None:
    """Gives a path its mode, and the server or its group as owner; with one identity only, what is left of it for that one."""
    if not os.path.lexists(path) or os.path.islink(path):
        return
    owner, group = own
    if many:
        os.chown(path, _SERVER if owner else 0, _SERVER if group else 0)
        os.chmod(path, mode)
    else:
        os.chmod(path, (mode >> (6 if owner else 3 if group else 0) & 7) << 6)


def run(command: list[str], text: str = "") -> str:
    """Runs a command; its complaints, or nothing."""
    done = subprocess.run(command, input=text, capture_output=True, text=True, env=_ENVIRONMENT, check=False)
    return done.stderr if done.returncode else ""


def inside(space: str, command: list[str]) -> str:
    """A command's output in a namespace."""
    done = subprocess.run(
        ["nsenter", f"--net=/run/netns/{space}", *command],
        capture_output=True,
        text=True,
        env=_ENVIRONMENT,
        check=False,
    )
    return done.stdout


def set_up(space: str, lines: list[str]) -> str:
    """One namespace's set-up script; its complaints."""
    done = subprocess.run(
        ["nsenter", f"--net=/run/netns/{space}", "sh", "-c", "\n".join(lines)],
        capture_output=True,
        text=True,
        env=_ENVIRONMENT,
        check=False,
    )
    return done.stderr.strip()


def as_other(whose: int, many: bool, low_ports: bool) -> list[str]:
    """The words that run a command with an identity of its own and no right but that of low ports, if even that."""
    held = f"-all,{_LOW_PORTS}" if low_ports else "-all"
    identity = [f"--reuid={whose}", f"--regid={whose}", "--clear-groups"] if many else []
    return ["setpriv", *identity, f"--inh-caps={held}", f"--ambient-caps={held}", f"--bounding-set={held}"]


def start_all(daemons: list[dict[str, Any]], pool: ThreadPoolExecutor, many: bool) -> list[tuple[dict[str, Any], Any]]:
    """Starts every program: in order within a namespace, since the first to bind a port has it; namespaces side by side."""
    started: list[tuple[dict[str, Any], Any]] = []
    # Whoever looks names up at its start needs those who answer for them.
    for asks in (False, True):
        by_space: dict[str, list[dict[str, Any]]] = {}
        for daemon in daemons:
            if bool(daemon["mounts"]) is asks:
                by_space.setdefault(daemon["space"], []).append(daemon)
        groups = pool.map(lambda group: [(daemon, start(daemon, many)) for daemon in group], by_space.values())
        started += [pair for group in groups for pair in group]
    return started


#: Lets a command see files of the stage at other places.
_MOUNTING = 'for pair in $PAIRS; do mount --bind "$BASE/${pair%%=*}" "${pair#*=}" || exit 125; done; '


def seeing(mounts: list[list[str]], script: str = "") -> tuple[list[str], dict[str, str]]:
    """The words that run a command with files of the stage mounted elsewhere, and the environment that they need."""
    pairs = " ".join(f"{below(source)}={target}" for source, target in mounts)
    words = ["unshare", "-m", "--propagation", "private", "sh", "-c", f'{_MOUNTING}{script}exec "$@"', "sh"]
    return words, {**_ENVIRONMENT, "PAIRS": pairs, "BASE": os.getcwd()}


def clocked(clock: str | None) -> list[str]:
    """The words that run a command with a clock that a file of the stage shifts (read anew at each look)."""
    if clock is None:
        return []
    library = glob.glob("/usr/lib/*/faketime/libfaketimeMT.so.1")
    return [
        "env",
        f"LD_PRELOAD={library[0] if library else ''}",
        f"FAKETIME_TIMESTAMP_FILE={os.path.abspath(below(clock))}",
        "FAKETIME_NO_CACHE=1",
        "FAKETIME_DONT_FAKE_MONOTONIC=1",
        "TZ=UTC",
    ]


def start(daemon: dict[str, Any], many: bool) -> Any:
    """Starts one program and waits until it listens, or has ended."""
    if daemon["kind"] == "other":
        threading.Thread(target=speak_otherwise, args=(daemon["space"], daemon["command"]), daemon=True).start()
        time.sleep(0.02)
        return None
    wanted = {(kind, what) for kind, what in daemon["ready"] if kind != "file"}
    files = [what for kind, what in daemon["ready"] if kind == "file"]
    mounting, environment = seeing(daemon["mounts"]) if daemon["mounts"] else ([], _ENVIRONMENT)
    command = [
        "nsenter",
        f"--net=/run/netns/{daemon['space']}",
        *mounting,
        *as_other(_SERVER, many, daemon["privileged"]),
        *clocked(daemon["clock"]),
        *daemon["command"],
        # nginx gives its temporary folders to whom it is told, by default to `nobody`, who is not there beside one identity.
        *(["-g", "user root;"] if daemon["kind"] == "nginx" and not many else []),
    ]
    with open(below(f"{daemon['name']}.out"), "wb") as out:
        process = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=out, stderr=out, env=environment)
    limit = time.monotonic() + _READY_LIMIT
    while time.monotonic() < limit and process.poll() is None:
        if all(map(os.path.exists, files)) and wanted <= listening(process.pid):
            break
        time.sleep(0.004)
    return process


def listening(pid: int) -> set[tuple[str, int]]:
    """The ports that a process itself has bound: others of its namespace may have the same one at another address."""
    own = set()
    with contextlib.suppress(OSError):
        for handle in os.listdir(f"/proc/{pid}/fd"):
            with contextlib.suppress(OSError):
                own.add(os.readlink(f"/proc/{pid}/fd/{handle}"))
    found = set()
    for protocol, files in (("tcp", ("tcp", "tcp6")), ("udp", ("udp", "udp6"))):
        for name in files:
            with contextlib.suppress(OSError), open(f"/proc/{pid}/net/{name}", encoding="ascii") as file:
                for line in file.readlines()[1:]:
                    fields = line.split()
                    if f"socket:[{fields[9]}]" in own and (protocol == "udp" or fields[3] == "0A"):
                        found.add((protocol, int(fields[1].rpartition(":")[2], 16)))
    return found


def carry_round(each: dict[str, Any], processes: dict[str, Any], troubles: list[str]) -> None:
    """Lets it be another moment: zones as they were, clocks set, then the questions that a resolver was asked."""
    for name, text in each["files"].items():
        write(name, text)
    for command in each["reloads"]:
        troubles += [said for said in [run(command)] if said]
    for name in each["emptied"]:
        if processes.get(name) is not None:
            processes[name].send_signal(signal.SIGHUP)
    if each["emptied"]:
        time.sleep(0.3)
    begin = time.monotonic()
    for space, address, names in each["queries"]:
        done = threading.Thread(target=prime, args=(space, address, names))
        done.start()
        done.join()
    time.sleep(max(0.0, min(float(each["pause"]), 60.0) - (time.monotonic() - begin)))


def label(text: str) -> bytes:
    """A label of a name as it goes over the wire, its `\\DDD` resolved (RFC 1035 sections 3.1 and 5.1)."""
    octets = re.sub(rb"\\([0-9]{3})", lambda match: bytes([int(match[1])]), text.encode("ascii"))
    return bytes([len(octets)]) + octets


def prime(space: str, address: str, names: list[str]) -> None:
    """Asks a resolver for the addresses of names, from a namespace (RFC 1035 section 4.1)."""
    with open(f"/run/netns/{space}", encoding="ascii") as handle:
        ctypes.CDLL(None, use_errno=True).setns(handle.fileno(), _CLONE_NEWNET)
    questions = [(name, kind) for name in names for kind in (1, 28)]
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as asking:
        asking.settimeout(_PRIME_LIMIT)
        for first in range(0, len(questions), _PRIME_MANY):
            waiting = 0
            for number, (name, kind) in enumerate(questions[first : first + _PRIME_MANY]):
                labels = b"".join(map(label, name.split("."))) + b"\0"
                header = struct.pack(">6H", first + number & 0xFFFF, 0x0100, 1, 0, 0, 0)
                with contextlib.suppress(OSError):
                    asking.sendto(header + labels + struct.pack(">2H", kind, 1), (address, 53))
                    waiting += 1
            with contextlib.suppress(OSError):
                for _ in range(waiting):
                    asking.recv(4096)


def state(process: Any, base: str, daemon: dict[str, Any]) -> dict[str, Any]:
    """Whether a program still runs, with what status it ended, and its last words."""
    words, name = "", daemon["name"]
    for path in (f"{base}/{name}.out", f"{base}/{name}/log/error.log"):
        with contextlib.suppress(OSError), open(path, encoding="utf-8", errors="replace") as file:
            words += file.read()[-1500:]
    code = None if process is None else process.poll()
    return {"running": code is None, "code": code, "kind": daemon["kind"], "words": words}


def ask(probe: dict[str, Any], many: bool) -> dict[str, Any]:
    """One question by a real client, with the visitor's own resolver and hosts file."""
    if probe["home"] is not None:
        os.makedirs(below(probe["home"]), exist_ok=True)
        if many:
            os.chown(probe["home"], _VISITOR, _VISITOR)
    retries = probe["syn_retries"]
    script = f"echo {int(retries)} > /proc/sys/net/ipv4/tcp_syn_retries; " if retries is not None else ""
    mounting, environment = seeing(probe["mounts"], script)
    command = [
        "nsenter",
        f"--net=/run/netns/{probe['space']}",
        *mounting,
        *as_other(_VISITOR, many, False),
        *clocked(probe["clock"]),
        *probe["command"],
    ]
    begin = time.monotonic()
    try:
        done = subprocess.run(command, capture_output=True, env=environment, timeout=probe["limit"], check=False)
    except subprocess.TimeoutExpired:
        return {"code": -1, "out": "", "err": "the client did not end", "seconds": probe["limit"]}
    return {
        "code": done.returncode,
        "out": done.stdout.decode("utf-8", "replace"),
        "err": done.stderr.decode("utf-8", "replace"),
        "seconds": time.monotonic() - begin,
    }


def ask_all(probes: list[dict[str, Any]], many: bool) -> list[dict[str, Any]]:
    """Many questions, most of which wait; those of browsers two at a time."""
    lock, done = threading.Lock(), [0]

    def one(probe: dict[str, Any]) -> dict[str, Any]:
        result = ask(probe, many)
        with lock:
            done[0] += 1
            tell("asked", done[0], len(probes))
        return result

    heavy = any(probe["limit"] > 30 for probe in probes)
    with ThreadPoolExecutor(2 if heavy else 8 if len(probes) <= 8 else 24) as pool:
        return list(pool.map(one, probes))


def tell(what: str, done: int, of: int) -> None:
    """A line of progress for the starter."""
    with contextlib.suppress(OSError):
        os.write(2, f"progress {what} {done} {of}\n".encode())


def speak_otherwise(space: str, pairs: list[str]) -> None:
    """A program that speaks no HTTP: does with every caller what the first word says."""
    does, *pairs = pairs
    with open(f"/run/netns/{space}", encoding="ascii") as handle:
        ctypes.CDLL(None, use_errno=True).setns(handle.fileno(), _CLONE_NEWNET)
    sockets = []
    for address, port in zip(pairs[::2], pairs[1::2], strict=True):
        family = socket.AF_INET if address and ":" not in address else socket.AF_INET6
        server = socket.socket(family, socket.SOCK_STREAM)
        server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            server.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        try:
            server.bind((address or "::", int(port)))
        except OSError:
            return
        server.listen(16)
        sockets.append(server)
    for server in sockets:
        threading.Thread(target=greet, args=(server, does), daemon=True).start()


#: What is answered to a request by programs that misbehave.
_OPENED = b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n"
_WANTED = b"HTTP/1.1 426 Upgrade Required\r\nUpgrade: websocket\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
_ANSWERS = {
    "breaks-off": b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\nhalf of it",
    "bad-header": b"HTTP/1.1 200 OK\r\nno header at all\r\nContent-Length: 1\r\n\r\nx",
    "long-header": b"HTTP/1.1 200 OK\r\nX-Long: " + b"x" * 20000 + b"\r\nContent-Length: 1\r\n\r\nx",
}


def greet(server: socket.socket, does: str) -> None:
    """Takes callers until the stage ends."""
    while True:
        try:
            caller, _ = server.accept()
        except OSError:
            return
        threading.Thread(target=_serve_badly, args=(caller, does), daemon=True).start()


def _serve_badly(caller: socket.socket, does: str) -> None:
    with contextlib.suppress(OSError), caller:
        caller.settimeout(1)
        if does == "greets":
            caller.sendall(b"220 this is another protocol\r\n")
        asked = caller.recv(4096).lower()
        if does == "websocket":
            opens = (
                asked.startswith(b"get ") and b"\r\nupgrade: websocket" in asked and b"\r\nconnection: upgrade" in asked
            )
            caller.sendall(_OPENED if opens else _WANTED)
        if does in _ANSWERS:
            caller.sendall(_ANSWERS[does])
        elif does == "silent":
            time.sleep(20)
        elif does == "resets":
            caller.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))


if __name__ == "__main__":
    signal.signal(signal.SIGPIPE, signal.SIG_DFL)
    try:
        code = main()
    except OSError as error:
        os.write(2, f"the stage: {error.strerror or error}\n".encode())
        code = 1
    os._exit(code)  # nothing is waited for: the thread that watches the starter least of all
