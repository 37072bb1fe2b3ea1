"""What a program inside a rehearsal's confinement can get hold of: it tries to create it, and reaches for nothing."""

import ctypes
import json
import os
import platform
import resource
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from portolan.rehearsal import confine, run
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.quoting import TooMuchError
from portolan.rehearsal.run import Staging, carry_out, confinement, plan_of
from tests.conftest import OFFICE, world
from tests.rehearsal.test_plan import able

needs_stage = pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
needs_x86 = pytest.mark.skipif(platform.machine() != "x86_64", reason="system calls by the numbers of x86-64")

#: Each way out of namespaces that is refused: an expression that creates it, and what the kernel is to say (None: it succeeds).
ATTEMPTS = {
    "AF_UNIX": ("socket(1)", None), "AF_INET": ("socket(2)", None), "AF_INET6": ("socket(10)", None), "AF_NETLINK": ("socket(16)", None),
    "AF_VSOCK": ("socket(40)", "EAFNOSUPPORT"), "AF_ALG": ("socket(38)", "EAFNOSUPPORT"), "AF_PACKET": ("socket(17)", "EAFNOSUPPORT"),
    "AF_BLUETOOTH": ("socket(31)", "EAFNOSUPPORT"), "AF_TIPC": ("socket(30)", "EAFNOSUPPORT"), "AF_RDS": ("socket(21)", "EAFNOSUPPORT"), "a pair of AF_VSOCK": ("call(53, 40, 1, 0, pair)", "EAFNOSUPPORT"),
    "AF_VSOCK in high bits": ("call(41, 40 | 1 << 40, 1, 0)", "EAFNOSUPPORT"), "user namespace": ("call(272, 0x10000000)", "EPERM"),
    "user namespace among others": ("call(272, 0x10020000)", "EPERM"), "clone into one": ("call(56, 0x10000011, 0, 0, 0, 0)", "EPERM"),
    "clone3": ("call(435, 0, 0)", "ENOSYS"), "io_uring": ("call(425, 1, b'\\0' * 120)", "ENOSYS"), "x32": ("call(0x40000000 | 39)", "ENOSYS"),
    "i386": ("foreign()", "ENOSYS"), "a key": ("call(248, b'user', b'probe', b'x', 1, -3)", "ENOSYS"), "keyring": ("call(250, 0, -3, 1)", "ENOSYS"),
    "a program in the kernel": ("call(321, 0, b'\\0' * 120, 120)", "ENOSYS"), "counters": ("call(298, b'\\0' * 120, 0, -1, -1, 0)", "ENOSYS"),
    "page faults": ("call(323, 1)", "ENOSYS"), "getpid": ("call(39)", None),
}  # fmt: skip
INSIDE = """
import ctypes, errno, json, mmap, resource, sys
libc = ctypes.CDLL(None, use_errno=True)
pair = ctypes.create_string_buffer(8)
def call(*words):
    done = libc.syscall(*(each if isinstance(each, bytes) or not isinstance(each, int) else ctypes.c_long(each) for each in words))
    return None if done >= 0 else errno.errorcode[ctypes.get_errno()]
def socket(family):
    return call(41, family, 2 if family != 16 else 3, 0)
def foreign():
    # mov eax, 20 (getpid of i386); int 0x80; ret
    code = mmap.mmap(-1, 4096, prot=7)
    code.write(bytes.fromhex("b814000000cd80c3"))
    done = ctypes.CFUNCTYPE(ctypes.c_int)(ctypes.addressof(ctypes.c_char.from_buffer(code)))()
    return None if done >= 0 else errno.errorcode[-done]
"""


def plan(script, limit=30):
    """A plan that runs one program as a visitor, on a machine that is joined to nothing."""
    probe = {
        "space": "m0", "command": ["python3", "-I", "-S", "/run/rehearsal/a.py"], "mounts": [], "limit": limit, "home": None,
        "syn_retries": None, "clock": None,
    }  # fmt: skip
    empty = {"links": [], "folders": [], "owned": [], "rounds": [], "daemons": []}
    return {"base": "/run/rehearsal", "spaces": {"m0": []}, "files": {"a.py": script}, "probes": [probe], **empty}


def inside(script, limit=30):
    """What a program says that runs inside, as a visitor."""
    return carry_out(plan(script, limit), confinement(), 60)["results"][0]


@needs_stage
@needs_x86
def test_what_leads_around_namespaces_is_refused_by_the_kernel():
    """And what servers and clients need is not."""
    asked = ", ".join(f"{name!r}: {words}" for name, (words, _) in ATTEMPTS.items())
    done = inside(f"{INSIDE}\nprint(json.dumps({{{asked}}}))")
    assert json.loads(done["out"]) == {name: said for name, (_, said) in ATTEMPTS.items()}, done["err"]


@needs_stage
@needs_x86
def test_the_starters_keys_stay_outside(tmp_path):
    """A key of the session that starts a rehearsal is not found inside, neither by the stage's own processes nor by others."""
    tried = tmp_path / "tried.py"
    tried.write_text(
        "import ctypes, os, sys\n"
        "from portolan.rehearsal import confine\n"
        "libc = ctypes.CDLL(None, use_errno=True)\n"
        "libc.syscall(250, 1, None)\n"
        "key = libc.syscall(248, b'user', b'probe', b'secret', 6, -3)\n"
        "seen = lambda: libc.syscall(250, 10, -3, b'user', b'probe', 0) >= 0\n"
        "before = seen()\n"
        "confine.leave_keyring()\n"
        "print(key > 0, before, seen())\n"
    )
    done = subprocess.run([sys.executable, str(tried)], capture_output=True, text=True, check=True)
    if done.stdout.startswith("False"):
        pytest.skip("this kernel, or what confines this test, has no keys")
    assert done.stdout.split() == ["True", "True", "False"]


@needs_stage
def test_limits_are_those_that_are_said():
    """Memory at most half of the machine's, and whoever runs out of it here goes first."""
    done = inside(
        "import resource as r\nprint(*(r.getrlimit(each)[1] for each in (r.RLIMIT_DATA, r.RLIMIT_NPROC, r.RLIMIT_FSIZE, r.RLIMIT_CORE)),"
        "open('/proc/self/oom_score_adj').read())\ntry:\n bytearray(r.getrlimit(r.RLIMIT_DATA)[1] + 1)\nexcept MemoryError:\n print('full')"
    )
    memory, processes, file, core, first, full = done["out"].split()
    assert int(memory) <= os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2
    own = resource.getrlimit(resource.RLIMIT_NPROC)[1]
    assert int(processes) == 4096 or int(processes) == own
    assert (int(file), int(core), first, full) == (256 << 20, 0, "1000", "full")


@needs_stage
def test_a_full_disk_ends_nothing_but_what_writes():
    """A program that fills the private root is told so; the stage still answers."""
    done = inside(
        "import os\nfor number in range(40):\n try:\n  with open(f'/tmp/{number}', 'wb') as file:\n   for _ in range(16): file.write(b'x' * (4 << 20))\n"
        " except OSError as error:\n  print(error.strerror); break\nprint(sum(each.stat().st_size for each in os.scandir('/tmp')) >> 20)"
    )
    said, size = done["out"].splitlines()
    assert said == "No space left on device"
    assert 500 < int(size) <= 1024


@needs_stage
def test_a_stage_without_room_says_so():
    """Where a server has filled the private root: one line, no traceback."""
    script = (
        "try:\n for number in range(40):\n  with open(f'/tmp/{number}', 'wb') as file:\n   for _ in range(16): file.write(b'x' * (4 << 20))\n"
        "except OSError: pass"
    )
    filler = {
        "name": "filler",
        "space": "m0",
        "command": ["python3", "-I", "-S", "/run/rehearsal/a.py"],
        "ready": [["tcp", 9]],
    }
    full = plan(script) | {
        "daemons": [{**filler, "kind": "program", "privileged": False, "clock": None, "mounts": []}],
        "rounds": [{"files": {"later": "x" * 100_000}, "reloads": [], "queries": [], "emptied": [], "pause": 0}],
    }
    with pytest.raises(run.RehearsalError) as caught:
        carry_out(full, confinement(), 60)
    assert "No space left on device" in str(caught.value)
    assert "Traceback" not in str(caught.value)


@needs_stage
def test_a_fork_bomb_ends_with_its_limit_and_leaves_nothing():
    """So many processes and no more; all of them end with the stage, and the machine outside still forks."""
    script = (
        "import os, time\nmade = 0\ntry:\n while made < 20000:\n  if os.fork() == 0: time.sleep(6); os._exit(0)\n  made += 1\n"
        "except OSError as error:\n print(made, error.strerror, flush=True)\n"
    )
    begin = time.monotonic()
    done = inside(script, 40)
    made, said = done["out"].split(" ", 1)
    assert said.strip() == "Resource temporarily unavailable"
    assert 100 < int(made) <= 4096
    assert subprocess.run(["true"], check=False).returncode == 0
    assert time.monotonic() - begin < 60
    assert not leftovers()


def leftovers():
    """Processes of a stage that still run, which are ended with their namespace within a moment."""
    for _ in range(50):
        found = [
            each.name
            for each in Path("/proc").iterdir()
            if each.name.isdecimal() and b"/run/rehearsal/a.py" in command_line(each)
        ]
        if not found:
            return []
        time.sleep(0.1)
    return found


def command_line(process):
    """Its words, or none where it is gone."""
    try:
        return (process / "cmdline").read_bytes()
    except OSError:
        return b""


@needs_stage
@pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("setpriv"), reason="only root can take another identity")
def test_one_identity_is_enough(tmp_path):
    """Without subordinate identities every program of a rehearsal runs as the one that there is: nginx, names, and the visitor."""
    home = Path(subprocess.run(["mktemp", "-d"], capture_output=True, text=True, check=True).stdout.strip())
    try:
        shutil.copytree(Path(confine.__file__).parent, home / "stage")
        subprocess.run(["chmod", "-R", "a+rX", str(home)], check=True)
        ready = world(OFFICE)
        url = "http://visit.kestrel-ridge.example/"
        made = plan_of(Staging(ready.estate, ready.now), [(url, ready.estate.vantages["street"])])
        other = ["setpriv", "--reuid=64999", "--regid=64999", "--clear-groups"]
        own = [*other, "/usr/bin/python3", "-I", "-S", str(home / "stage" / "confine.py"), "portolan-stage"]
        try:
            done = carry_out(made, own, 60)
        except run.RehearsalError as error:
            if "no confinement" in str(error):
                pytest.skip("only root may have namespaces here")
            raise
    finally:
        shutil.rmtree(home)
    assert not run.not_the_estates(done), done["daemons"]
    assert done["troubles"] == []
    assert run.CLIENTS["curl"].observed(done["results"][0])[0].kind == "served"


@pytest.mark.parametrize(
    ("fill", "said"),
    [
        (lambda plan: [plan.files.__setitem__(f"f{number}", "") for number in range(20_001)], "more than 20,000 files"),
        (lambda plan: [plan.files.__setitem__(f"f{number}", "x" * 10_000_000) for number in range(26)], "more than 256 MB"),
        (lambda plan: [plan.files.__setitem__("same", "x" * 10_000_000) for _ in range(26)], None),
        (lambda plan: [plan.space_of(each) for each in machines(1_001)], "more than 1,000 machines and visitors (estate.yaml:"),
    ],
)  # fmt: skip
def test_a_plan_is_bounded(fill, said):
    """It is made outside the confinement, so it ends by its own bounds, and says at what place."""
    made = Plan(world(OFFICE).estate)
    if said is None:
        fill(made)
        return
    with pytest.raises(TooMuchError) as caught:
        fill(made)
    assert said in str(caught.value)


def machines(count):
    """So many machines, each an object of its own."""
    lines = "\n".join(f"  h{number}: {{}}" for number in range(count))
    return world(f"portolan: 1\nat: 2026-03-14T20:00:00Z\nhosts:\n{lines}\n").estate.hosts.values()


def test_a_plan_ends_in_time(monkeypatch):
    """What takes too long to plan is told, however little it writes."""
    made = Plan(world(OFFICE).estate)
    monkeypatch.setattr("portolan.rehearsal.plan.monotonic", lambda: time.monotonic() + 121)
    with pytest.raises(TooMuchError) as caught:
        made.files["one"] = ""
    assert "more than 120 s" in str(caught.value)


def test_what_is_missing_is_named_with_the_command_that_installs_it(monkeypatch):
    """Also where only some plans need it: a clock that is shifted, a server with views."""
    monkeypatch.setattr(run, "_CLOCKS", "/nowhere/*.so")
    monkeypatch.setattr(run, "MORE_PROGRAMS", {"nsd-of-nowhere": "nsd"})
    daemons = [
        {"command": ["/usr/sbin/nsd-of-nowhere"], "clock": None},
        {"command": ["resets", "", "80"], "clock": "a.clock"},
    ]
    missing = run._missing_for({"daemons": daemons, "probes": []})
    assert str(run.lacking(missing)).endswith("nsd-of-nowhere, libfaketime; apt-get install nsd libfaketime")


def test_keyrings_are_known_on_this_machine():
    """The numbers by which the filter knows system calls are those of this machine: getpid's neighbour answers as it should."""
    calls = confine._MACHINES[platform.machine()][1]
    libc = ctypes.CDLL(None, use_errno=True)
    assert libc.syscall(calls["unshare"], 0) == 0
    assert libc.syscall(calls["socket"], 1, 1, 0) > 0
