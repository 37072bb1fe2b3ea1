"""One configuration in every form that it is given in; and what `ip` says in both of its forms, of real interfaces."""

import random
import shlex
import subprocess
import sys
import tarfile

import pytest

import portolan
from portolan.transcribing.addresses import addresses, routes
from portolan.transcribing.collecting import COMMANDS
from portolan.transcribing.registry import read_web
from portolan.transcribing.sources import SourceError, from_folder

MAIN = "user www-data;\nhttp {\n    include sites-enabled/*;\n}\n"
SITE = "server {\n    listen 80;\n    server_name visit.kestrel-ridge.example;\n    root /srv/visit;\n}\n"


@pytest.fixture
def folder(tmp_path):
    """A copy of a server's folder, its enabled site a link to the machine's own path."""
    etc = tmp_path / "copy/etc/nginx"
    for name in ("sites-available", "sites-enabled"):
        (etc / name).mkdir(parents=True)
    (etc / "nginx.conf").write_text(MAIN)
    (etc / "sites-available/visit").write_text(SITE)
    (etc / "sites-enabled/visit").symlink_to("/etc/nginx/sites-available/visit")
    return tmp_path / "copy"


def test_every_form_says_the_same(folder, tmp_path):
    """The folder, what holds it, an archive, the main file, and what the program prints."""
    with tarfile.open(tmp_path / "all.tar.gz", "w:gz") as held:
        held.add(folder / "etc", "etc")
    dump = f"# configuration file /etc/nginx/nginx.conf:\n{MAIN}\n# configuration file /etc/nginx/sites-enabled/visit:\n{SITE}\n"
    (tmp_path / "dump.txt").write_text(dump)
    for source in (
        folder,
        folder / "etc/nginx",
        tmp_path / "all.tar.gz",
        folder / "etc/nginx/nginx.conf",
        tmp_path / "dump.txt",
    ):
        gathered, _ = read_web(str(source))
        (site,) = gathered.sites.values()
        assert site.facts["names"] == ["visit.kestrel-ridge.example"], source
        assert (str(site.spots["folder"]), gathered.service.facts["runs_as"]) == (
            "etc/nginx/sites-enabled/visit:4",
            "www-data",
        )


def test_a_sites_file_alone(folder):
    """As if the main file took it in."""
    gathered, _ = read_web(str(folder / "etc/nginx/sites-available/visit"))
    assert list(gathered.sites) == ["visit.kestrel-ridge.example"]


def test_links_that_lead_outside_are_left_out(folder, tmp_path):
    """Nothing outside the folder is read, whatever a link says."""
    (tmp_path / "secret").write_text("server { server_name outside.example; }")
    (folder / "etc/nginx/sites-enabled/out").symlink_to(tmp_path / "secret")
    (folder / "etc/nginx/sites-enabled/loop").symlink_to(folder / "etc/nginx/sites-enabled/loop")
    source = from_folder(str(folder), "/")
    assert source.matching("/etc/nginx/sites-enabled/*") == ["/etc/nginx/sites-enabled/visit"]


def test_includes_that_go_round(tmp_path):
    """One error, as the program has it."""
    (tmp_path / "nginx.conf").write_text("http { include a.conf; }")
    (tmp_path / "a.conf").write_text("include a.conf;")
    with pytest.raises(SourceError, match="includes itself"):
        read_web(str(tmp_path))


def _said(script):
    done = subprocess.run(["unshare", "-rn", "sh", "-c", script], capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip(f"no namespace here: {done.stderr.strip()[:100]}")
    return done.stdout.split("=====\n")


@pytest.mark.parametrize("seed", range(4))
def test_real_interfaces_in_both_forms(seed):
    """Random addresses and routes in a namespace: JSON and plain words come to the same."""
    rng = random.Random(seed)
    script = [
        "ip link set lo up",
        "ip link add eth0 type veth peer name far",
        "ip link set eth0 up",
        "ip link set far up",
    ]
    script += [
        f"ip address add 10.{rng.randrange(200)}.{rng.randrange(200)}.{each + 2}/{rng.choice((16, 24, 32))} dev eth0"
        for each in range(3)
    ]
    script += [f"ip address add 2001:db8:{rng.randrange(9000):x}::{each + 1}/64 dev eth0 nodad" for each in range(2)]
    script += ["ip address add 10.9.9.1 peer 10.9.9.2/32 dev eth0", "ip route add default dev eth0 metric 50"]
    script += [f"ip route add 10.2{each}.0.0/16 via 10.9.9.2 metric {each}" for each in range(1, 3)]
    script += ["ip route add blackhole 192.0.2.0/24", "ip -6 route add unreachable 2001:db8:ffff::/48"]
    shown = ("ip -j address", "ip address", "ip -j route", "ip route", "ip -j -6 route", "ip -6 route")
    said = _said(" && ".join([*script, " && echo ===== && ".join(shown)]))
    held = [
        [
            (each.interface, each.address.partition("/")[0])
            for each in addresses(text, "f")
            if not each.address.startswith("fe80")
        ]
        for text in said[:2]
    ]
    assert held[0] == held[1]
    assert len(held[0]) == 6
    for one, other in ((said[2], said[3]), (said[4], said[5])):
        both = [
            sorted(
                (each.to, each.via or "", each.kind or "")
                for each in routes(text, "f")
                if not each.to.startswith(("fe80", "ff00"))
            )
            for text in (one, other)
        ]
        assert both[0] == both[1]
        assert both[0]


#: A machine with two lines, as its owner set it up.
TWO_LINES = """
ip link set lo up
ip link add eth0 type veth peer name far
ip link set eth0 mtu 1400 up
ip link set far up
ip link add eth1 type veth peer name off
ip address add 10.20.0.15/24 dev eth0
ip address add 10.20.0.25/32 dev eth0
ip address add 2001:db8:20::15/64 dev eth0 nodad preferred_lft 0
ip address add 10.30.0.15/24 dev eth1
ip route add default via 10.20.0.1
ip route add 172.31.1.1 dev eth0
ip route add 10.40.0.0/16 via 172.31.1.1 dev eth0 onlink src 10.20.0.25 mtu 1300
ip -6 route add default via fe80::1 dev eth0
ip route add default via 10.20.0.2 table 7
ip rule add from all lookup main suppress_prefixlength 0 pref 900
ip rule add from 10.20.0.25 lookup 7 pref 1000
ip rule add fwmark 0x2 lookup 7 pref 1001
ip rule add to 192.0.2.0/24 unreachable pref 1002
echo 2 > /proc/sys/net/ipv4/conf/all/rp_filter
echo 1 > /proc/sys/net/ipv4/conf/eth0/proxy_arp
"""


def test_a_machine_with_two_lines_read_in(tmp_path):
    """Tables, rules, next routers, settings: what a real kernel printed becomes an estate that loads and says the same."""
    names = ("addresses", "routes", "routes-v6", "rules", "rules-v6", "tables", "tables-v6", "settings")
    commands = [shlex.join(next(each.command for each in COMMANDS if each.name == name)) for name in names]
    script = " && ".join(TWO_LINES.strip().split("\n")) + "; " + "; echo =====; ".join(commands)
    answers = dict(zip(names, _said(script), strict=True))
    for name, text in answers.items():
        (tmp_path / "a" / "portolan-answers").mkdir(parents=True, exist_ok=True)
        (tmp_path / "a" / "portolan-answers" / name).write_text(text)
    command = [sys.executable, "-m", "portolan", "transcribe", "machine", str(tmp_path / "a"), "--name", "orion"]
    made = subprocess.run([*command, "-o", str(tmp_path / "e")], capture_output=True, text=True, check=False)
    assert made.returncode == 0, made.stderr
    host = portolan.load(tmp_path / "e").estate.hosts["orion"]
    eth0 = host.interfaces["eth0"]
    assert (eth0.mtu, eth0.proxy_arp, host.interfaces["eth1"].up) == (1400, True, False)
    assert [str(each) for each in eth0.deprecated] == ["2001:db8:20::15"]
    assert [str(each) for each in eth0.address] == ["10.20.0.15/24", "10.20.0.25/32", "2001:db8:20::15/64"]
    assert host.reverse_path == "loose"
    lines = {(str(each.to), str(each.via), each.on, str(each.source), each.mtu) for each in host.routes}
    assert ("10.40.0.0/16", "172.31.1.1", "eth0", "10.20.0.25", 1300) in lines
    assert ("::/0", "fe80::1", "eth0", "None", None) in lines
    assert ("172.31.1.1/32", "None", "eth0", "None", None) in lines
    assert [str(each.via) for each in host.tables["table-7"].routes] == ["10.20.0.2"]
    rules = [(each.table, each.type, [*map(str, each.sources)], each.without_default) for each in host.routing_rules]
    assert rules == [
        ("main", None, [], True),
        ("table-7", None, ["10.20.0.25/32"], False),
        (None, "unreachable", [], False),
    ]
    assert any("rule by mark 2" in each for each in host.unread)
