"""A machine's saved answers, packet filters, and what the command does with them."""

import json
import subprocess
import sys
import tarfile

import pytest

from portolan.transcribing.addresses import addresses, routes, sockets
from portolan.transcribing.filtering import filters
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.routing import tables
from portolan.transcribing.sources import SourceError
from tests.conftest import STORIES

IP = json.dumps([
    {"ifname": "lo", "flags": ["LOOPBACK", "UP"], "addr_info": [{"local": "127.0.0.1", "prefixlen": 8}]},
    {"ifname": "eth0", "flags": ["UP"], "addr_info": [{"local": "10.20.0.15", "prefixlen": 24, "dynamic": True}, {"local": "fe80::1", "prefixlen": 64}]},
])  # fmt: skip
PLAIN_IP = """1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536
    inet 127.0.0.1/8 scope host lo
2: eth0@if3: <BROADCAST,UP> mtu 1500 state UP
    inet 10.20.0.15/24 brd 10.20.0.255 scope global dynamic eth0
    inet6 fe80::1/64 scope link
"""
NGINX = """user www-data;
http {
    server {
        listen 80;
        listen 443 ssl;
        server_name visit.kestrel-ridge.example;
        ssl_certificate /etc/ssl/visit.pem;
        root /srv/visit;
    }
    include conf.d/*.conf;
}
"""
ANSWERS = {
    "portolan-answers/addresses": IP,
    "portolan-answers/routes": json.dumps([{"dst": "default", "gateway": "10.20.0.1", "dev": "eth0"}, {"dst": "10.20.0.0/24", "dev": "eth0", "protocol": "kernel"}, {"dst": "10.30.0.0/24", "gateway": "10.20.0.2", "dev": "eth0"}]),
    "portolan-answers/sockets": 'tcp LISTEN 0 511 0.0.0.0:80 0.0.0.0:* users:(("nginx",pid=7,fd=6))\ntcp LISTEN 0 511 0.0.0.0:443 0.0.0.0:* users:(("nginx",pid=7,fd=7))\ntcp LISTEN 0 128 [::]:22 [::]:* users:(("sshd",pid=5,fd=3))\nudp UNCONN 0 0 0.0.0.0:68 0.0.0.0:*\n',
    "portolan-answers/iptables": "*filter\n:INPUT DROP [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -i lo -j ACCEPT\n-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A INPUT -p tcp -m multiport --dports 80,443 -j ACCEPT\nCOMMIT\n",
    "portolan-answers/forwarding": "0\n",
    "portolan-answers/moment": "1000000\n",
    "portolan-answers/processes": "  7     1  5000 nginx\n  8     7  4000 nginx\n  5     1  9000 sshd\n",
    "portolan-answers/folders": "drwxr-xr-x root root /srv\ndrwxr-xr-x root root /srv/visit\n-rw-r--r-- root root /srv/visit/index.html\n",
    "etc/hosts": "127.0.0.1 localhost\n10.20.0.16 desk.kestrel-ridge.example desk\n",
    "etc/resolv.conf": "search kestrel-ridge.example\nnameserver 10.20.0.1\nnameserver 10.20.0.2\n",
    "etc/iptables/rules.v4": "*filter\n:INPUT DROP [0:0]\n-A INPUT -i lo -j ACCEPT\n-A INPUT -p tcp -m tcp --dport 80 -j ACCEPT\nCOMMIT\n",
    "etc/nginx/nginx.conf": NGINX,
    "etc/nginx/conf.d/new.conf": "server { listen 80; server_name new.kestrel-ridge.example; root /srv/visit; }\n",
    "etc/ssl/visit.pem": (STORIES / "first-light/certificates/visit.pem").read_text(),
}  # fmt: skip


def run(*arguments, cwd=None):
    """The installed program."""
    return subprocess.run(
        [sys.executable, "-m", "portolan", *map(str, arguments)], capture_output=True, text=True, check=False, cwd=cwd
    )


@pytest.fixture
def told(archive):
    """The archive of a machine on which a file was written after the last reload."""
    return archive(ANSWERS, {"etc/nginx/nginx.conf": 990_000, "etc/nginx/conf.d/new.conf": 999_000})


def test_a_machine_as_it_says(told, tmp_path):
    """Everything that the archive holds stands in the estate, from the interfaces to what lies in the folders."""
    done = run("transcribe", "machine", told, "-o", tmp_path / "e", "--name", "orion")
    assert (done.returncode, done.stderr) == (0, "")
    shown = run("check", "-e", tmp_path / "e")
    assert "service-not-reloaded" in shown.stdout
    estate = (tmp_path / "e/orion.yaml").read_text()
    for said in (
        "10.20.0.15/24",
        "gateway: 10.20.0.1",
        "to: 10.30.0.0/24",
        "desk.kestrel-ridge.example",
        "resolver: [10.20.0.1, 10.20.0.2]",
        "sshd:",
        "after_boot:",
        "loaded: false",
        "orion/folders.txt",
        "file: orion/visit.pem",
    ):
        assert said in estate, said
    asked = run(
        "follow",
        "https://visit.kestrel-ridge.example/",
        "-e",
        tmp_path / "e",
        "--from",
        "near:eth0",
        "--at",
        "2026-03-14T20:00:00Z",
        "--every-step",
    )
    assert "etc/nginx/nginx.conf:6" in asked.stdout
    assert "etc/ssl/visit.pem" not in asked.stderr


def test_the_same_source_gives_the_same_text(told, tmp_path):
    """And an estate agrees with what it was made from, until either is changed."""
    for each in ("a", "b"):
        run("transcribe", "machine", told, "-o", tmp_path / each)
    assert (tmp_path / "a/server.yaml").read_text() == (tmp_path / "b/server.yaml").read_text()
    same = run("transcribe", "machine", told, "--differs", tmp_path / "a")
    assert (same.returncode, same.stdout) == (0, "The estate says what the source says.\n")
    text = (tmp_path / "a/server.yaml").read_text()
    (tmp_path / "a/server.yaml").write_text(text.replace("gateway: 10.20.0.1", "gateway: 10.20.0.9"))
    other = run("transcribe", "machine", told, "--differs", tmp_path / "a")
    assert other.returncode == 1
    assert "/hosts/server/gateway: the source has 10.20.0.1, the estate has 10.20.0.9" in other.stdout


def test_into_an_estate_nothing_is_overwritten(told, tmp_path):
    """A machine goes into files of its own; what is there stays."""
    run("demo", "--copy", tmp_path / "e", "first-light")
    before = (tmp_path / "e/estate.yaml").read_text()
    done = run("transcribe", "machine", told, "--into", tmp_path / "e", "--name", "relay")
    assert done.returncode == 0
    assert (tmp_path / "e/estate.yaml").read_text() == before
    assert "under include: relay.yaml" in done.stdout
    again = run("transcribe", "machine", told, "--into", tmp_path / "e", "--name", "relay")
    assert (again.returncode, "exists" in again.stderr) == (2, True)


def test_the_script_takes_no_key(tmp_path):
    """It is what a POSIX shell runs, and it makes an archive that is read; what holds a key stays where it is."""
    text = run("transcribe", "script").stdout
    (tmp_path / "gather.sh").write_text(text)
    assert subprocess.run(["sh", "-n", tmp_path / "gather.sh"], check=False).returncode == 0
    done = subprocess.run(
        ["sh", tmp_path / "gather.sh"], cwd=tmp_path, capture_output=True, text=True, check=False, timeout=120
    )
    assert "made   portolan-answers.tar" in done.stdout, done.stderr
    with tarfile.open(tmp_path / "portolan-answers.tar") as held:
        for member in held:
            if member.isfile():
                assert b"PRIVATE KEY-----" not in held.extractfile(member).read()
    assert run("transcribe", "machine", tmp_path / "portolan-answers.tar", "-o", tmp_path / "e").returncode == 0


def test_a_dry_run_lists_what_is_run():
    """And runs nothing: each line is a command that only reads, a file, or a listener asked for its certificate."""
    done = run("transcribe", "machine", "--dry-run")
    assert done.returncode == 0
    told = {line.split()[0] for line in done.stdout.splitlines()}
    # Listeners are those of the machine that the test runs on: there may be none.
    assert {"runs", "reads", "lists"} <= told <= {"runs", "reads", "lists", "asks"}


def test_addresses_in_both_forms():
    """`ip -j` and plain `ip` say the same."""
    for text in (IP, PLAIN_IP):
        assert [(each.interface, each.address, each.leased) for each in addresses(text, "f")] == [
            ("eth0", "10.20.0.15/24", True),
            ("eth0", "fe80::1/64", False),
        ]


def test_routes_in_both_forms():
    """What the kernel made by itself is left out."""
    plain = "default via 10.20.0.1 dev eth0 proto dhcp metric 100\n10.20.0.0/24 dev eth0 proto kernel scope link src 10.20.0.15\nblackhole 10.99.0.0/16\n"
    held = json.dumps(
        [
            {"dst": "default", "gateway": "10.20.0.1", "dev": "eth0", "metric": 100},
            {"dst": "10.20.0.0/24", "dev": "eth0", "protocol": "kernel"},
            {"type": "blackhole", "dst": "10.99.0.0/16"},
        ]
    )
    for text in (plain, held):
        assert [(each.to, each.via, each.kind, each.metric) for each in routes(text, "f")] == [
            ("0.0.0.0/0", "10.20.0.1", None, 100),
            ("10.99.0.0/16", None, "blackhole", 0),
        ]


def test_sockets_with_and_without_the_header():
    """The program behind each, where it may be seen."""
    text = 'Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\ntcp LISTEN 0 5 127.0.0.1:3000 0.0.0.0:* users:(("node",pid=9,fd=3))\ntcp LISTEN 0 5 *:8080 *:*\n'
    assert [(each.address, each.port, each.program) for each in sockets(text, "f")] == [
        ("127.0.0.1", 3000, "node"),
        ("*", 8080, ""),
    ]


RULES = {
    "-s 10.20.0.0/24 -p tcp -m tcp --dport 22 -j ACCEPT": {"allow": "tcp", "from": "10.20.0.0/24", "ports": 22},
    "! -i lo -p udp -m multiport --sports 53,5000:6000 -j DROP": {"drop": "udp", "not_in": "lo", "source_ports": [53, "5000-6000"], "from": "0.0.0.0/0"},
    "-p tcp -j REJECT --reject-with tcp-reset": {"reject": "tcp", "answer": "tcp-reset", "from": "0.0.0.0/0"},
    "-m iprange --src-range 10.20.0.4-10.20.0.9 -m addrtype --dst-type LOCAL -j RETURN": {"return": "any", "from": "10.20.0.4-10.20.0.9", "to_own": True},
    "-p icmp -m icmp --icmp-type 8 -m comment --comment \"ping -j DROP\" -j ACCEPT": {"allow": "icmp", "icmp_types": ["echo-request"], "from": "0.0.0.0/0"},
}  # fmt: skip


@pytest.mark.parametrize("line", RULES)
def test_a_rule_of_saved_tables(line):
    """In the estate's words, for the family that the table is of."""
    found = filters([(f"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT {line}\nCOMMIT\n", "iptables")])
    (rule,) = found.filter.facts["inbound"].facts["rules"]
    assert rule.facts == RULES[line]


def test_what_a_filter_has_and_the_estate_has_not_is_told():
    """A match that is not known is a line unread, never a rule without it."""
    found = filters(
        [
            (
                "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m recent --name x --rcheck -j DROP\n-A INPUT -m string --string a -j DROP\nCOMMIT\n",
                "iptables",
            )
        ]
    )
    assert len(found.filter.unread) == 2
    assert "inbound" not in found.filter.facts


def test_forwards_of_a_host_of_containers():
    """A chain that is jumped to, an interface that goes back before it, and connections of the machine's own."""
    text = "*nat\n:PREROUTING ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n:BOXES - [0:0]\n-A PREROUTING -m addrtype --dst-type LOCAL -j BOXES\n-A OUTPUT ! -d 127.0.0.0/8 -m addrtype --dst-type LOCAL -j BOXES\n-A POSTROUTING -s 172.17.0.0/16 ! -o br0 -j MASQUERADE\n-A BOXES -i br0 -j RETURN\n-A BOXES ! -i br0 -p tcp -m tcp --dport 8080 -j DNAT --to-destination 172.17.0.2:80\nCOMMIT\n"
    machine, eth0 = Part(Spot("f", 1)), Part(Spot("f", 1))
    eth0.say("address", "192.0.2.10/24")
    machine.say("interfaces", {"eth0": eth0})
    filters([(text, "iptables")]).into(machine, {})
    (forward,) = machine.facts["forwards"]
    assert forward.facts == {
        "tcp": 8080,
        "address": ["192.0.2.10"],
        "not_on": ["br0"],
        "to": "172.17.0.2",
        "port": 80,
        "own_connections": True,
    }
    assert [each.facts for each in machine.facts["source_nat"]] == [{"on": "eth0", "from": "172.17.0.0/16"}]


TRANSLATIONS = {
    "-p tcp -m multiport --dports 80,443 -j DNAT --to-destination 10.0.0.5": [{"tcp": 80, "to": "10.0.0.5"}, {"tcp": 443, "to": "10.0.0.5"}],
    "-i eth0 -p tcp -m tcp --dport 8000:8010 -j DNAT --to-destination 10.0.0.5:8000-8010": [{"tcp": "8000-8010", "on": "eth0", "to": "10.0.0.5"}],
    "-p tcp -m tcp --dport 81:82 -j DNAT --to-destination 10.0.0.5:80": [{"tcp": 81, "port": 80, "to": "10.0.0.5"}, {"tcp": 82, "port": 80, "to": "10.0.0.5"}],
    "-d 192.0.2.10/32 -j DNAT --to-destination 10.0.0.5": [{"tcp": "1-65535", "address": "192.0.2.10", "to": "10.0.0.5"}, {"udp": "1-65535", "address": "192.0.2.10", "to": "10.0.0.5"}],
    "-p tcp -j REDIRECT --to-ports 80": [],
    "-s 192.0.2.7/32 -j inner": [],
    "-j RETURN\n-A PREROUTING -p tcp -m tcp --dport 80 -j DNAT --to-destination 10.0.0.5": [],
}  # fmt: skip


@pytest.mark.parametrize("line", TRANSLATIONS)
def test_a_change_of_the_destination(line):
    """A forward for each port as the kernel leads it; what the estate has no word for, and what nothing gets to, is none."""
    inner = "-A inner -s 192.0.2.8/32 -p tcp -m tcp --dport 80 -j DNAT --to-destination 10.0.0.5"
    found = filters([(f"*nat\n:inner - [0:0]\n-A PREROUTING {line}\n{inner}\nCOMMIT\n", "iptables")])
    assert [{**each.facts} for each in found.forwards] == TRANSLATIONS[line]


NFT = {"nftables": [
    {"metainfo": {"json_schema_version": 1}}, {"table": {"family": "inet", "name": "guard"}},
    {"chain": {"family": "inet", "table": "guard", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
    {"set": {"family": "inet", "table": "guard", "name": "doors", "type": "inet_service", "elem": [80, {"range": [8000, 8010]}]}},
    {"rule": {"family": "inet", "table": "guard", "chain": "in", "expr": [{"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}, {"accept": None}]}},
    {"rule": {"family": "inet", "table": "guard", "chain": "in", "expr": [{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": {"prefix": {"addr": "10.20.0.0", "len": 24}}}}, {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": "@doors"}}, {"counter": {"packets": 0, "bytes": 0}}, {"accept": None}]}},
    {"rule": {"family": "inet", "table": "guard", "chain": "in", "expr": [{"limit": {"rate": 5}}, {"accept": None}]}},
]}  # fmt: skip


def test_a_ruleset_of_nft():
    """For both families where its table is; a limit is no word of the estate's."""
    found = filters([(json.dumps(NFT), "nft")])
    chain = found.filter.facts["inbound"]
    assert chain.facts["default"] == "drop"
    assert [rule.facts for rule in chain.facts["rules"]] == [
        {"allow": "any", "state": ["established", "related"]},
        {"allow": "tcp", "from": "10.20.0.0/24", "ports": [80, "8000-8010"]},
    ]
    assert [words for _, words in found.filter.unread] == ["limit in a rule"]


def test_what_is_no_filter():
    """One error, with what to save."""
    with pytest.raises(SourceError, match="no filter known here"):
        filters([("hello\n", "x")])


def test_bad_input_is_one_clear_error(tmp_path):
    """Cut archives, binaries, folders without anything, kinds that are none: status 2, and nothing written."""
    (tmp_path / "cut.tar").write_bytes(b"\x1f\x8b" + b"0" * 40)
    (tmp_path / "binary").write_bytes(b"\0\1\2" * 200)
    (tmp_path / "empty").mkdir()
    for kind, source in (
        ("machine", "cut.tar"),
        ("web", "binary"),
        ("web", "empty"),
        ("machine", "empty"),
        ("web", "missing"),
        ("filter", "binary"),
    ):
        done = run("transcribe", kind, tmp_path / source, "-o", tmp_path / "out")
        assert (done.returncode, done.stdout, done.stderr.count("\n")) == (2, "", 1), (kind, source, done)
        assert not (tmp_path / "out").exists()


def test_blanks_are_filled_in_or_refused(tmp_path):
    """A placeholder that is left is one error with how many there are."""
    shapes = [line.split()[0] for line in run("init").stdout.splitlines() if line and not line.startswith("portolan")]
    assert len(shapes) == 6
    for shape in shapes:
        assert run("init", shape, tmp_path / shape).returncode == 0
        done = run("check", "-e", tmp_path / shape)
        assert done.returncode == 2
        assert "is still to be filled in, and" in done.stderr
    assert "Did you mean 'home-server'?" in run("init", "home-servr", tmp_path / "x").stderr


MANGLE = """*mangle
:PREROUTING ACCEPT [0:0]
-A PREROUTING -j CONNMARK --restore-mark --nfmask 0xffffffff --ctmask 0xffffffff
-A PREROUTING -i eth1 -m conntrack --ctstate NEW -j CONNMARK --set-xmark 0x2/0xffffffff
-A PREROUTING -i eth2 -p tcp -m tcp --dport 443 -j CONNMARK --set-xmark 0x3/0xffffffff
-A PREROUTING -m statistic --mode random --probability 0.5 -j MARK --set-xmark 0x4/0xffffffff
-A FORWARD -p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu
COMMIT
"""
SEVERAL = """{"nftables": [
 {"chain": {"family": "inet", "table": "a", "name": "i", "type": "filter", "hook": "input", "prio": 10, "policy": "drop"}},
 {"chain": {"family": "ip", "table": "b", "name": "i", "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}},
 {"chain": {"family": "ip6", "table": "c", "name": "f", "type": "filter", "hook": "forward", "prio": 0, "policy": "drop"}},
 {"rule": {"family": "inet", "table": "a", "chain": "i", "expr": [{"accept": null}]}},
 {"rule": {"family": "ip", "table": "b", "chain": "i", "expr": [{"drop": null}]}}
]}"""


def test_marks_and_the_largest_segment():
    """The last line that matches counts in the kernel, the first here; what asks for more than can be kept is told."""
    found = filters([(MANGLE, "m")])
    assert [(each.facts.get("mark"), each.facts.get("in"), each.facts.get("tcp")) for each in found.marks] == [
        (3, "eth2", 443),
        (2, "eth1", None),
    ]
    assert found.clamps is not None
    assert any("statistic" in words for _, words in found.filter.unread)


def test_several_chains_of_one_hook_are_filters_one_behind_the_other():
    """By priority; a table at another hook stays with the first."""
    found = filters([(SEVERAL, "f")]).filter.data()
    (behind,) = found["then"]
    assert [*found["inbound"]["rules"][0]][1] == "drop"
    assert (behind["inbound"]["default"], [*behind["inbound"]["rules"][0]][1]) == ("drop", "allow")
    assert "forward" in found
    assert "forward" not in behind


@pytest.mark.parametrize("text", ["5", '"x"', "[5]", '[{"table": "up", "dst": "default", "via": "x", "metrics": 3}]'])
def test_routes_that_are_none(text):
    """Whatever stands where `ip` writes its tables: what it says is read, and no more."""
    held = [way for ways in tables([(text, "f")]).values() for way in ways]
    assert [(way.to, way.via, way.mtu) for way in held] == ([("0.0.0.0/0", None, None)] if "up" in text else [])
