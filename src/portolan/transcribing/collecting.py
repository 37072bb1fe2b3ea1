"""What a machine is asked, and nothing else: read-only commands whose answers are kept, and folders of configuration.

The same list is run here, is printed as a script for machines without Portolan, and is what `--dry-run` shows.
"""

import os
import shlex
import subprocess

from portolan.source.value import Value
from portolan.transcribing.sources import MOST_BYTES, Live, folder_files

#: Where the answers lie among a machine's files.
ANSWERS = "/portolan-answers"
_SECONDS = 20


class Asked(Value, frozen=True):
    """A command, and the name under which its answer is kept."""

    name: str
    command: tuple[str, ...]


COMMANDS: tuple[Asked, ...] = (
    Asked("addresses", ("ip", "-j", "address", "show")),
    Asked("routes", ("ip", "-j", "route", "show")),
    Asked("routes-v6", ("ip", "-j", "-6", "route", "show")),
    Asked("rules", ("ip", "rule", "show")),
    Asked("rules-v6", ("ip", "-6", "rule", "show")),
    Asked("tables", ("ip", "-j", "route", "show", "table", "all")),
    Asked("tables-v6", ("ip", "-j", "-6", "route", "show", "table", "all")),
    Asked(
        "settings",
        (
            "sh",
            "-c",
            "cd /; grep -H . /proc/sys/net/ipv4/conf/*/rp_filter /proc/sys/net/ipv4/conf/*/proxy_arp "
            "/proc/sys/net/ipv4/conf/*/route_localnet",
        ),
    ),
    Asked("sockets", ("ss", "-Hltunp")),
    Asked("iptables", ("iptables-save",)),
    Asked("ip6tables", ("ip6tables-save",)),
    Asked("nft", ("nft", "-j", "list", "ruleset")),
    Asked("name", ("uname", "-n")),
    Asked("forwarding", ("cat", "/proc/sys/net/ipv4/ip_forward")),
    Asked("processes", ("ps", "-eo", "pid=,ppid=,etimes=,comm=")),
    Asked("moment", ("date", "+%s")),
    # What the next boot loads, as nft itself understands it: in a namespace of its own, which ends with the command.
    Asked("nft-boot", ("unshare", "-rn", "sh", "-c", "nft -f /etc/nftables.conf && nft -j list ruleset")),
    Asked("enabled", ("systemctl", "--root=/", "list-unit-files", "--type=service", "--no-legend", "--no-pager")),
)
FILES = (
    "/etc/hosts",
    "/etc/resolv.conf",
    "/etc/iptables/rules.v4",
    "/etc/iptables/rules.v6",
    "/etc/sysconfig/iptables",
    "/etc/sysconfig/ip6tables",
)
FOLDERS = ("/etc/nginx", "/etc/apache2", "/etc/httpd")


def plan() -> list[str]:
    """What is run and read, a line each."""
    return [
        *(f"runs   {shlex.join(each.command)}" for each in COMMANDS),
        *(f"reads  {path}" for path in FILES),
        *(f"reads  {path}/ (private keys left out)" for path in FOLDERS),
        "lists  the folders of websites that those name: mode, owner and path of each file, never what is in it",
        "reads  the certificates that those name, never their keys",
        "asks   this machine's own web servers, at 127.0.0.1, for the certificates that they show",
    ]


class Here(Live):
    """This machine: the answers of its commands, and its files where they lie."""

    def __init__(self) -> None:
        files: dict[str, bytes] = {}
        for folder in FOLDERS:
            if os.path.isdir(folder):
                files.update(folder_files(folder, folder))
        for path in FILES:
            data = self.read_here(path)
            if data is not None:
                files[path] = data
        for each in COMMANDS:
            answer = _answer(each.command)
            if answer is not None:
                files[f"{ANSWERS}/{each.name}"] = answer
        self.hold({path: data for path, data in files.items() if b"PRIVATE KEY-----" not in data})


def _answer(command: tuple[str, ...]) -> bytes | None:
    """What a command prints; None where it is not there or fails without a word."""
    try:
        done = subprocess.run(
            command,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_SECONDS,
            check=False,
            env={**os.environ, "LC_ALL": "C"},
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    return done.stdout[:MOST_BYTES] if done.stdout or done.returncode == 0 else None


def listing(folder: str) -> str:
    """Mode, owner and path of everything in a folder, as `find -printf '%M %u %g %p\\n'` prints it."""
    import grp
    import pwd
    import stat

    users: dict[int, str] = {}
    groups: dict[int, str] = {}

    def row(path: str) -> str | None:
        try:
            told = os.lstat(path)
        except OSError:
            return None
        if told.st_uid not in users:
            try:
                users[told.st_uid] = pwd.getpwuid(told.st_uid).pw_name
            except KeyError:
                users[told.st_uid] = str(told.st_uid)
        if told.st_gid not in groups:
            try:
                groups[told.st_gid] = grp.getgrgid(told.st_gid).gr_name
            except KeyError:
                groups[told.st_gid] = str(told.st_gid)
        target = f" -> {os.readlink(path)}" if stat.S_ISLNK(told.st_mode) else ""
        return f"{stat.filemode(told.st_mode)} {users[told.st_uid]} {groups[told.st_gid]} {path}{target}"

    rows: list[str] = []
    above = folder
    parents = []
    while above not in ("/", ""):
        above = os.path.dirname(above)
        parents.append(above)
    for path in reversed(parents):
        rows += [each for each in (row(path),) if each is not None and path != "/"]
    for here, folders, names in os.walk(folder):
        folders.sort()
        links = [name for name in folders if os.path.islink(os.path.join(here, name))]
        for path in (here, *(os.path.join(here, name) for name in [*sorted(names), *links])):
            told = row(path)
            if told is not None and told.isprintable():
                rows.append(told)
        if len(rows) > _MOST_LISTED:
            break
    return "\n".join(rows[:_MOST_LISTED]) + "\n" if rows else ""


_MOST_LISTED = 50_000

SCRIPT_HEAD = """#!/bin/sh
# Printed by 'portolan transcribe script'. It only reads; it makes one archive in the current folder, and says what it took.
# Private keys are left out: of certificates only the certificates, and no file that holds a key.
# Then: portolan transcribe machine portolan-answers.tar -o observatory
set -u
LC_ALL=C; export LC_ALL
made=$(mktemp -d) || exit 1
trap 'rm -rf "$made"' EXIT
answers="$made%(answers)s"
mkdir -p "$answers" || exit 1
ask() { # NAME COMMAND...
    name=$1; shift
    if command -v "$1" >/dev/null 2>&1; then
        "$@" >"$answers/$name" 2>/dev/null </dev/null || true
        [ -s "$answers/$name" ] && echo "took   $*" || rm -f "$answers/$name"
    else
        echo "no     $1"
    fi
}
keep() { # FILE, with its time; never one that holds a key
    [ -f "$1" ] && [ -r "$1" ] || return 0
    grep -q 'PRIVATE KEY-----' "$1" 2>/dev/null && { echo "left   $1 (a private key)"; return 0; }
    mkdir -p "$made$(dirname "$1")" && cp -p "$1" "$made$1" && echo "took   $1"
}
"""


def script() -> str:
    """The same for a machine without Portolan, as a POSIX shell script."""
    lines = [SCRIPT_HEAD % {"answers": ANSWERS}]
    for each in COMMANDS:
        lines.append(f"ask {each.name} {shlex.join(each.command)}")
    lines.append(f'for file in {" ".join(FILES)}; do keep "$file"; done')
    lines.append(
        f"""for folder in {" ".join(FOLDERS)}; do
    [ -d "$folder" ] || continue
    find "$folder" -follow -type f -size -2000k 2>/dev/null | while IFS= read -r file; do keep "$file"; done
done
configuration=$(find "$made/etc" -type f 2>/dev/null | xargs -r cat 2>/dev/null)
printf '%s\\n' "$configuration" | sed -n 's/^[[:space:]]*\\(ssl_certificate\\|SSLCertificateFile\\)[[:space:]]\\{{1,\\}}"\\{{0,1\\}}\\([^;"[:space:]]*\\).*/\\2/p' | sort -u | while IFS= read -r file; do
    case $file in /*) ;; *) continue ;; esac
    [ -r "$file" ] || {{ echo "no     $file (not to be read: run this as root)"; continue; }}
    mkdir -p "$made$(dirname "$file")"
    sed -n '/-----BEGIN CERTIFICATE-----/,/-----END CERTIFICATE-----/p' "$file" >"$made$file" && echo "took   $file (certificates only)"
done
printf '%s\\n' "$configuration" | sed -n 's/^[[:space:]]*\\(root\\|alias\\|DocumentRoot\\)[[:space:]]\\{{1,\\}}"\\{{0,1\\}}\\([^;"[:space:]]*\\).*/\\2/p' | sort -u | while IFS= read -r folder; do
    [ -d "$folder" ] || continue
    {{ above=$folder; while [ "$above" != / ]; do above=$(dirname "$above"); [ "$above" = / ] || find "$above" -maxdepth 0 -printf '%M %u %g %p\\n'; done
      find "$folder" -xdev -printf '%M %u %g %p\\n'; }} 2>/dev/null | head -n {_MOST_LISTED} >>"$answers/folders" && echo "listed $folder"
done
tar -C "$made" -cf portolan-answers.tar . && echo "made   portolan-answers.tar: portolan transcribe machine portolan-answers.tar -o observatory"
"""
    )
    return "\n".join(lines)
