"""Confines a rehearsal before anything of an estate is read, as a program that uses the standard library only.

Usage: confine.py portolan-stage STARTER-PID STARTER-START PID-NAMESPACE < PLAN

It takes user, mount, network, process, IPC and host name namespaces of its own (namespaces(7)), and there a root folder of
its own on a tmpfs: the system's programs read-only, a few harmless files of /etc, nothing of the user's. Then it gives up
the right to gain privileges (PR_SET_NO_NEW_PRIVS), sets limits, refuses the system calls that no program of a rehearsal
needs and that lead around namespaces (seccomp(2)), and becomes the stage. As root the rehearsal's root is an identity that
owns nothing outside; with subordinate ids (subuid(5)) its servers and clients get identities of their own.

It dies with its starter: every process on the way to the stage asks the kernel for that (PR_SET_PDEATHSIG), and the stage
ends when its standard input does.
"""

import contextlib
import ctypes
import errno
import os
import platform
import pwd
import resource
import shutil
import signal
import struct
import subprocess
import sys

_NEW_NS, _NEW_CGROUP, _NEW_UTS, _NEW_IPC = 0x00020000, 0x02000000, 0x04000000, 0x08000000
_NEW_USER, _NEW_PID, _NEW_NET = 0x10000000, 0x20000000, 0x40000000
_READ_ONLY, _NO_SUID, _NO_DEV, _NO_EXEC = 1, 2, 4, 8
_REMOUNT, _BIND, _RECURSIVE, _PRIVATE = 32, 4096, 16384, 1 << 18
_DETACH = 2
_PDEATHSIG, _NO_NEW_PRIVS = 1, 38
_SYS_MOUNT_SETATTR = 442
_AT_FDCWD, _AT_RECURSIVE = -100, 0x8000
_SECCOMP, _FILTER = 22, 2
_JOIN_SESSION_KEYRING = 1

#: System calls by number, for each kind of machine that a rehearsal knows to confine; the rest have no numbers of their own.
_NAMED = ("socket", "socketpair", "clone", "unshare", "add_key", "request_key", "keyctl", "perf_event_open", "bpf")
_X86 = dict(zip(_NAMED, (41, 53, 56, 272, 248, 249, 250, 298, 321), strict=True)) | {"userfaultfd": 323}
_GENERIC = dict(zip(_NAMED, (198, 199, 220, 97, 217, 218, 219, 241, 280), strict=True)) | {"userfaultfd": 282}
#: Machine (uname(2)) to its architecture as audit.h numbers it, and its system calls.
_MACHINES = {"x86_64": (0xC000003E, _X86), "aarch64": (0xC00000B7, _GENERIC), "riscv64": (0xC00000F3, _GENERIC)}
#: The same number everywhere: io_uring_setup, _enter, _register, and clone3, whose flags no filter can read.
_NEWER = (425, 426, 427, 435)
#: Other numbers of the same machine: the calls of x32 (x86-64 only).
_X32 = 0x40000000
#: AF_UNIX, AF_INET, AF_INET6, AF_NETLINK. Others have no namespaces (AF_VSOCK leads to the machine's host), or no use here.
_FAMILIES = (1, 2, 10, 16)

_REFUSED_CALLS = ("add_key", "request_key", "keyctl", "perf_event_open", "bpf", "userfaultfd")
#: What a filter's steps do, what it gives back, and where struct seccomp_data has the call, the architecture, and the first argument.
_LOAD, _EQUAL, _AT_LEAST, _ANY_BIT, _GIVE = 0x20, 0x15, 0x35, 0x45, 0x06
_ALLOWED, _REFUSED = 0x7FFF0000, 0x00050000
_CALL, _ARCHITECTURE, _FIRST = 0, 4, 16

#: Identities inside: 65,536 of them from here on outside, for a rehearsal by root; nobody has these (login.defs(5) ends below).
_FIRST_IDENTITY, _IDENTITIES = 0x70000000, 65536
#: The private root holds so much and so many files at most; one file, one process, so many processes.
_ROOT_OPTIONS = "mode=755,size=1024m,nr_inodes=200k"
_MOST_FILE_BYTES, _MOST_BYTES, _MOST_PROCESSES, _MOST_FILES = 256 << 20, 6 << 30, 4096, 16384
#: Files of the machine that programs need to run, copied; none says anything of its user.
_COPIED = ("etc/ld.so.cache", "etc/services", "etc/protocols", "etc/ssl/openssl.cnf", "etc/os-release")
_BOUND = ("usr", "etc/fonts", "etc/alternatives")
_EMPTIED = ("usr/local", "usr/src", "usr/share/doc", "usr/games")
_FOLDERS = (
    "etc/ssl",
    "proc",
    "dev/shm",
    "run/netns",
    "tmp",
    "root",
    "stage",
    "var/lib/nginx",
    "var/log/nginx",
    "var/log/apache2",
    "var/cache",
    "var/tmp",
    "old",
)
_DEVICES = ("null", "zero", "full", "random", "urandom")

libc = ctypes.CDLL(None, use_errno=True)


class CannotError(Exception):
    """This machine does not allow it; says what."""


def checked(result: int, what: str) -> None:
    """Raises CannotError with the kernel's reason for a call that failed."""
    if result < 0:
        raise CannotError(f"{what}: {os.strerror(ctypes.get_errno())}")


def mount(source: str | None, target: str, kind: str | None, flags: int, options: str | None = None) -> None:
    """mount(2)."""
    encoded = [None if each is None else each.encode() for each in (source, target, kind, options)]
    checked(libc.mount(encoded[0], encoded[1], encoded[2], ctypes.c_ulong(flags), encoded[3]), f"mounting {target}")


def die_with_parent() -> None:
    """Asks the kernel to end this process with its parent."""
    checked(libc.prctl(_PDEATHSIG, signal.SIGKILL, 0, 0, 0), "prctl")


def read_only(target: str) -> None:
    """Makes a bound tree read-only with all that is mounted below it (mount_setattr(2); older kernels: the top only)."""
    attributes = (ctypes.c_uint64 * 4)(_READ_ONLY | _NO_SUID | _NO_DEV, 0, 0, 0)
    if (
        libc.syscall(
            _SYS_MOUNT_SETATTR, _AT_FDCWD, target.encode(), _AT_RECURSIVE, attributes, ctypes.sizeof(attributes)
        )
        < 0
    ):
        mount(None, target, None, _REMOUNT | _BIND | _READ_ONLY | _NO_SUID | _NO_DEV)


def give_identities(pid: int) -> bool:
    """Maps the identities of a process's new user namespace (user_namespaces(7)); whether it has more than one."""
    user, group = os.geteuid(), os.getegid()
    if user == 0:
        first = _FIRST_IDENTITY + os.getpid() % 4096 * _IDENTITIES
        for each in ("uid", "gid"):
            with contextlib.suppress(OSError), open(f"/proc/{pid}/{each}_map", "w", encoding="utf-8") as file:
                file.write(f"0 {first} {_IDENTITIES}")
        with open(f"/proc/{pid}/gid_map", encoding="utf-8") as file:
            if file.read().strip():
                return True
    elif shutil.which("newuidmap") and shutil.which("newgidmap"):
        ranges = [subordinate(f"/etc/{name}", user) for name in ("subuid", "subgid")]
        if all(ranges):
            done = [
                subprocess.run(
                    [f"new{kind}map", str(pid), "0", str(own), "1", "1", *map(str, held or ())],
                    capture_output=True,
                    check=False,
                ).returncode
                for kind, own, held in (("uid", user, ranges[0]), ("gid", group, ranges[1]))
            ]
            if done == [0, 0]:
                return True
    with contextlib.suppress(OSError), open(f"/proc/{pid}/setgroups", "w", encoding="utf-8") as file:
        file.write("deny")
    for each, own in (("uid", user), ("gid", group)):
        with open(f"/proc/{pid}/{each}_map", "w", encoding="utf-8") as file:
            file.write(f"0 {own} 1")
    return False


def subordinate(path: str, user: int) -> tuple[int, int] | None:
    """The first range of subordinate ids of a user, at most as many as are wanted (subuid(5))."""
    with contextlib.suppress(OSError, KeyError, ValueError), open(path, encoding="utf-8") as file:
        names = (str(user), pwd.getpwuid(user).pw_name)
        for line in file:
            name, first, count = line.strip().split(":")
            if name in names and int(count) >= 2000:
                return int(first), min(int(count), _IDENTITIES - 1)
    return None


def private_root(scripts: dict[str, bytes]) -> None:
    """Builds the private root and moves into it; the old one is gone afterwards (pivot_root(2))."""
    mount(None, "/", None, _PRIVATE | _RECURSIVE)
    new = "/tmp"  # any folder that exists everywhere may carry the new root for this moment
    mount("tmpfs", new, "tmpfs", _NO_SUID | _NO_DEV, _ROOT_OPTIONS)
    for folder in (*_FOLDERS, *_BOUND):
        if folder in _FOLDERS or os.path.isdir(f"/{folder}"):
            os.makedirs(f"{new}/{folder}", exist_ok=True)
    for folder in _BOUND:
        if os.path.isdir(f"/{folder}"):
            mount(f"/{folder}", f"{new}/{folder}", None, _BIND | _RECURSIVE)
            read_only(f"{new}/{folder}")
    for folder in _EMPTIED:
        if os.path.isdir(f"{new}/{folder}"):
            mount("tmpfs", f"{new}/{folder}", "tmpfs", _NO_SUID | _NO_DEV | _READ_ONLY, "size=4k")
    for name in ("bin", "sbin", "lib", "lib32", "lib64", "libx32"):
        if os.path.islink(f"/{name}"):
            os.symlink(f"usr/{name}", f"{new}/{name}")
        elif os.path.isdir(f"/{name}"):
            os.mkdir(f"{new}/{name}")
            mount(f"/{name}", f"{new}/{name}", None, _BIND | _RECURSIVE)
            read_only(f"{new}/{name}")
    for name in _COPIED:
        with contextlib.suppress(OSError):
            shutil.copyfile(f"/{name}", f"{new}/{name}")
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/sh\nserver:x:1001:1001::/:/bin/false\nvisitor:x:1002:1002::/:/bin/false\n"
        "www-data:x:1001:1001::/:/bin/false\nnobody:x:65534:65534::/:/bin/false\n",
        "etc/group": "root:x:0:\nserver:x:1001:\nvisitor:x:1002:\nwww-data:x:1001:\nnogroup:x:65534:\n",
        "etc/nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\nservices: files\nprotocols: files\n",
        "etc/host.conf": "multi on\n",
        "etc/hosts": "127.0.0.1 localhost\n::1 localhost\n",
        "etc/resolv.conf": "",
        "etc/hostname": "stage\n",
    }
    for name, text in files.items():
        with open(f"{new}/{name}", "w", encoding="utf-8") as file:
            file.write(text)
    for name, data in scripts.items():
        os.makedirs(os.path.dirname(f"{new}/stage/{name}"), exist_ok=True)
        with open(f"{new}/stage/{name}", "wb") as script:
            script.write(data)
    mount("proc", f"{new}/proc", "proc", _NO_SUID | _NO_DEV | _NO_EXEC)
    for name in _DEVICES:
        with open(f"{new}/dev/{name}", "wb"):
            pass
        mount(f"/dev/{name}", f"{new}/dev/{name}", None, _BIND)
    os.symlink("/proc/self/fd", f"{new}/dev/fd")
    mount("tmpfs", f"{new}/dev/shm", "tmpfs", _NO_SUID | _NO_DEV, "mode=1777,size=512m")
    for folder in ("tmp", "var/tmp"):
        os.chmod(f"{new}/{folder}", 0o1777)
    os.chdir(new)
    checked(libc.pivot_root(b".", b"old"), "pivot_root")
    os.chdir("/")
    checked(libc.umount2(b"/old", _DETACH), "leaving the old root")
    os.rmdir("/old")
    checked(libc.sethostname(b"stage", 5), "sethostname")


def limits() -> None:
    """What the stage and all below it may use."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_MOST_FILE_BYTES, _MOST_FILE_BYTES))
    bytes_at_most = min(_MOST_BYTES, os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2)
    resource.setrlimit(resource.RLIMIT_DATA, (bytes_at_most, bytes_at_most))
    for kind, most in ((resource.RLIMIT_NPROC, _MOST_PROCESSES), (resource.RLIMIT_NOFILE, _MOST_FILES)):
        _, hard = resource.getrlimit(kind)
        most = most if hard == resource.RLIM_INFINITY else min(most, hard)
        resource.setrlimit(kind, (most, most))


def leave_keyring() -> None:
    """Leaves the starter's session keyring, where the keys of a login lie, for an empty one (keyrings(7))."""
    machine = _MACHINES.get(platform.machine())
    if machine is None or libc.syscall(machine[1]["keyctl"], _JOIN_SESSION_KEYRING, None) >= 0:
        return
    # Where the kernel has no keys, or lets nobody here at them, there is nothing to leave.
    if ctypes.get_errno() not in (errno.ENOSYS, errno.EPERM, errno.EACCES):
        checked(-1, "a session keyring of its own")


def filter_steps(architecture: int, calls: dict[str, int]) -> list[tuple[int, int, int, int]]:
    """The filter as a program of classic BPF (bpf(2)): what it does, two jumps, a value."""

    def refused(error: int) -> tuple[int, int, int, int]:
        return (_GIVE, 0, 0, _REFUSED | error)

    allowed = (_GIVE, 0, 0, _ALLOWED)
    steps = [(_LOAD, 0, 0, _ARCHITECTURE), (_EQUAL, 1, 0, architecture), refused(errno.ENOSYS)]
    steps += [(_LOAD, 0, 0, _CALL), (_AT_LEAST, 0, 1, _X32), refused(errno.ENOSYS)]
    for each in (*_NEWER, *(calls[name] for name in _REFUSED_CALLS)):
        steps += [(_EQUAL, 0, 1, each), refused(errno.ENOSYS)]
    families = [(_EQUAL, len(_FAMILIES) - place, 0, family) for place, family in enumerate(_FAMILIES)]
    of_socket = [(_LOAD, 0, 0, _FIRST), *families, refused(errno.EAFNOSUPPORT), allowed]
    of_clone = [(_LOAD, 0, 0, _FIRST), (_ANY_BIT, 0, 1, _NEW_USER), refused(errno.EPERM), allowed]
    for name, checks in (("socket", of_socket), ("socketpair", of_socket), ("clone", of_clone), ("unshare", of_clone)):
        steps += [(_EQUAL, 0, len(checks), calls[name]), *checks]
    return [*steps, allowed]


def refuse_calls() -> None:
    """Lets the kernel refuse what leads around namespaces, by a filter that all below inherit and nobody can lift.

    Refused are: system calls of other architectures and of x32; sockets of families without namespaces; user namespaces
    in this one; io_uring, which asks the kernel past any filter; keyrings; programs in the kernel and its counters.
    """
    machine = _MACHINES.get(platform.machine())
    if machine is None:
        raise CannotError(f"no filter of system calls is known for {platform.machine()}")
    steps = filter_steps(*machine)
    text = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in steps))
    program = ctypes.create_string_buffer(struct.pack("@HP", len(steps), ctypes.addressof(text)))
    checked(libc.prctl(_SECCOMP, _FILTER, program, 0, 0), "a filter of system calls")


def inside(scripts: dict[str, bytes], many: bool) -> None:
    """The first process of the new process namespace: builds the root, gives up what is not needed, becomes the stage."""
    die_with_parent()
    private_root(scripts)
    limits()
    checked(libc.prctl(_NO_NEW_PRIVS, 1, 0, 0, 0), "prctl")
    refuse_calls()
    os.umask(0o022)
    os.execve(
        "/usr/bin/python3",
        ["python3", "-I", "-S", "/stage/stage.py", "many" if many else "one"],
        {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8", "HOME": "/root"},
    )


def between(scripts: dict[str, bytes], ready: int, go: int) -> int:
    """Leaves every namespace of the starter's, waits for its identities, and waits for the stage."""
    everything = _NEW_USER | _NEW_NS | _NEW_NET | _NEW_IPC | _NEW_UTS | _NEW_PID | _NEW_CGROUP
    die_with_parent()
    # Whoever runs out of memory here goes first, before anything of the user's (proc(5)).
    with contextlib.suppress(OSError), open("/proc/self/oom_score_adj", "w", encoding="ascii") as file:
        file.write("1000")
    leave_keyring()
    checked(libc.unshare(everything), "namespaces of its own")
    os.write(ready, b"1")
    answer = os.read(go, 1)
    if not answer:
        return 1
    if answer == b"m":
        os.setgroups([])
    os.setresgid(0, 0, 0)
    os.setresuid(0, 0, 0)
    die_with_parent()  # a change of identity takes the wish back
    stage = os.fork()
    if stage == 0:
        run_in_child(lambda: inside(scripts, answer == b"m"))
    return os.waitstatus_to_exitcode(os.waitpid(stage, 0)[1])


def run_in_child(action: object) -> None:
    """Carries something out in a forked child, which never returns."""
    code = 125
    try:
        assert callable(action)
        code = action() or 0
    except Exception as error:
        os.write(2, f"confine: {error}\n".encode())
    finally:
        os._exit(code & 0xFF)


def main() -> int:
    """Starts the stage in its confinement; its exit status, or 125 where this machine does not allow it."""
    starter = os.getppid()
    die_with_parent()
    if os.getppid() != starter or (len(sys.argv) > 2 and sys.argv[2] not in ("0", str(starter))):
        return 125  # the starter is gone already
    folder = os.path.dirname(os.path.abspath(__file__))
    scripts = {}
    for name in (
        "stage.py",
        "browse.py",
        *(f"standins/{each}.py" for each in ("__init__", "wire", "edge", "store", "scripts")),
    ):
        with open(f"{folder}/{name}", "rb") as file:
            scripts[name if "/" not in name else f"portolan/rehearsal/{name}"] = file.read()
    # Those who play edges and stores find each other by the names that they have at home; nothing else is there.
    scripts |= {"portolan/__init__.py": b"", "portolan/rehearsal/__init__.py": b""}
    (ready_read, ready_write), (go_read, go_write) = os.pipe(), os.pipe()
    child = os.fork()
    if child == 0:
        os.close(ready_read)
        os.close(go_write)
        run_in_child(lambda: between(scripts, ready_write, go_read))
    os.close(ready_write)
    os.close(go_read)
    try:
        if os.read(ready_read, 1):
            os.write(go_write, b"m" if give_identities(child) else b"s")
    except OSError as error:
        os.write(2, f"confine: identities of its own: {error}\n".encode())
    os.close(go_write)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) & 0xFF


if __name__ == "__main__":
    sys.exit(main())
