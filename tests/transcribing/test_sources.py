"""One configuration in every form that it is given in; and what `ip` says in both of its forms, of real interfaces."""

import random
import subprocess
import tarfile

import pytest

from portolan.transcribing.addresses import addresses, routes
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
