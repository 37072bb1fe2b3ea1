"""`portolan probe` held against staged worlds: each as the estate says, or with one belief false.

    python -m conformance.probing N [--seed S] [--processes N]

A world is a network namespace of its own with real servers: knot, nginx, the kernel's filter. The installed command is run in it. In a
true world it ends with 0 and every leg is the same; with a belief false it ends with 1, differs first at the leg of that belief, and
the belief is among what may be wrong.
"""

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import NamedTuple

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

ZONE = "kestrel-ridge.example"


class Facts(NamedTuple):
    """What is so: once as the estate says, once as the world is."""

    label: str
    address: str
    record: str | None
    port: int
    listens: bool = True
    tls: bool = True
    cert_names: tuple[str, ...] = ()
    cert_until: int = 60
    self_signed: bool = False
    filter: str = ""
    status: int = 200
    sends_to: str = ""
    dns: bool = True
    url: str = ""

    @property
    def host(self) -> str:
        """The name that is asked."""
        return f"{self.label}.{ZONE}"


class Belief(NamedTuple):
    """A false belief: the leg at which it is met, what of the estate it is, and how the world is."""

    leg: str
    objects: tuple[str, ...]
    world: Callable[[Facts], Facts]


BELIEFS: dict[str, Belief] = {
    "record missing": Belief("name", ("zones",), lambda f: f._replace(record=None)),
    "record elsewhere": Belief("name", ("zones",), lambda f: f._replace(record=str(IPv4Address(f.address) + 1))),
    "name server silent": Belief("name", ("hosts.names", "zones", "vantages"), lambda f: f._replace(dns=False)),
    "not listening": Belief("connect", ("hosts.box.services.web",), lambda f: f._replace(listens=False)),
    "filter drops": Belief("connect", ("hosts.box.filter",), lambda f: f._replace(filter="drop")),
    "filter rejects": Belief("connect", ("hosts.box.filter", "hosts.box.services"), lambda f: f._replace(filter="reject with tcp reset")),
    "plain on the secure port": Belief("tls", ("hosts.box.services.web",), lambda f: f._replace(tls=False)),
    "certificate ended": Belief("tls", ("certificates",), lambda f: f._replace(cert_until=-1)),
    "certificate of another name": Belief("tls", ("certificates", "hosts.box.services.web"), lambda f: f._replace(cert_names=(f"other.{ZONE}",))),
    "certificate signed by itself": Belief("tls", ("certificates",), lambda f: f._replace(self_signed=True)),
    "page missing": Belief("http", ("hosts.box.services.web",), lambda f: f._replace(status=404)),
    "refused": Belief("http", ("hosts.box.services.web",), lambda f: f._replace(status=403)),
    "sends on without end": Belief("http", ("hosts.box.services.web",), lambda f: f._replace(sends_to=f.url)),
    "sends on to nobody": Belief("http", ("hosts.box.services.web",), lambda f: f._replace(sends_to=f"https://gone.{ZONE}/")),
}  # fmt: skip


def drawn(rng: random.Random, secure: bool) -> Facts:
    """An estate's facts."""
    label = rng.choice(("visit", "times", "nights", "rooms", "desk"))
    address = str(IPv4Address("203.0.113.0") + rng.randrange(10, 200))
    port = rng.choice((443, 443, 8443) if secure else (80, 80, 8080))
    scheme = "https" if secure else "http"
    shown = f":{port}" if port not in (80, 443) else ""
    path = rng.choice(("/", "/tonight.html", "/hall/plan.html"))
    facts = Facts(label, address, address, port, url=f"{scheme}://{label}.{ZONE}{shown}{path}")
    return facts._replace(cert_names=(facts.host,), tls=secure)


def estate(facts: Facts, now: datetime) -> str:
    """The estate that says the facts."""
    path = facts.url.split("/", 3)[3] or "index.html"
    secure = facts.url.startswith("https")
    certificate = f"certificates:\n  visit: {{names: [{facts.host}], from: {now - timedelta(days=30):%Y-%m-%d}, until: {now + timedelta(days=60):%Y-%m-%d}}}\n"
    return f"""portolan: 1
at: {now:%Y-%m-%dT%H:%M:%SZ}
hosts:
  box:
    interfaces: {{net: {{network: internet, address: {facts.address}}}}}
    filter: {{inbound: {{default: drop, rules: [{{allow: tcp, ports: [{facts.port}]}}, {{allow: icmp}}]}}}}
    services:
      web:
        program: nginx
        listens: [{facts.port}{" tls" if secure else ""}]
        sites:
          visit:
            names: [{facts.host}]
{"            certificate: visit" if secure else ""}
            files: [{path}]
  names:
    interfaces: {{net: {{network: internet, address: 192.0.2.53}}}}
    services: {{dns: {{kind: name-server, program: knot, zones: [{ZONE}]}}}}
{certificate if secure else ""}zones:
  {ZONE}:
    records:
      - {facts.label} 60 A {facts.record}
vantages:
  here: {{network: internet, address: 198.51.100.77}}
expected:
  - {{url: "{facts.url}"}}
"""


def build(folder: Path, facts: Facts, now: datetime) -> None:
    """Writes what the servers of a world read."""
    root, key = _authority(now)
    (folder / "root.pem").write_bytes(root.public_bytes(serialization.Encoding.PEM))
    own = ec.generate_private_key(ec.SECP256R1())
    issuer, signer = (root.subject, key) if not facts.self_signed else (_name(facts.host), own)
    leaf = (
        x509.CertificateBuilder(issuer, _name(facts.host))
        .public_key(own.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=30))
        .not_valid_after(now + timedelta(days=facts.cert_until))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(each) for each in facts.cert_names]), False)
        .sign(signer, hashes.SHA256())
    )
    (folder / "leaf.pem").write_bytes(leaf.public_bytes(serialization.Encoding.PEM))
    (folder / "leaf.key").write_bytes(own.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))  # fmt: skip
    answer = f"return 302 {facts.sends_to};" if facts.sends_to else f"return {facts.status};"
    if facts.status == 200 and not facts.sends_to:
        answer = "return 200 ok;"
    secure = " ssl" if facts.tls else ""
    port = facts.port if facts.listens else facts.port + 1
    (folder / "nginx.conf").write_text(
        f"user root; pid {folder}/nginx.pid; error_log {folder}/error.log; daemon on;\nevents {{}}\nhttp {{ access_log off;\n"
        f" client_body_temp_path {folder}/b; proxy_temp_path {folder}/p; fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;\n"
        f" server {{ listen {facts.address}:{port}{secure}; ssl_certificate {folder}/leaf.pem; ssl_certificate_key {folder}/leaf.key; location / {{ {answer} }} }}\n}}\n"
    )
    record = f"{facts.label} 60 A {facts.record}\n" if facts.record is not None else ""
    (folder / "zone").write_text(
        f"$ORIGIN {ZONE}.\n@ 60 SOA ns. a. 1 60 60 60 60\n@ 60 NS ns\nns 60 A 192.0.2.53\n{record}"
    )
    (folder / "knot.conf").write_text(
        f'server:\n  rundir: "{folder}"\n  listen: 192.0.2.53@53\ndatabase:\n  storage: "{folder}/db"\nzone:\n  - domain: {ZONE}\n    file: "{folder}/zone"\n    zonefile-sync: -1\n'
    )
    (folder / "resolv.conf").write_text("nameserver 192.0.2.53\noptions timeout:1 attempts:1\n")
    (folder / "hosts").write_text("127.0.0.1 localhost\n")
    rule = f"nft add table ip f; nft 'add chain ip f i {{ type filter hook input priority 0; }}'; nft add rule ip f i ip daddr {facts.address} tcp dport {facts.port} {facts.filter}" if facts.filter else ":"  # fmt: skip
    names = f"knotd -c {folder}/knot.conf -d >/dev/null 2>&1" if facts.dns else ":"
    (folder / "world.sh").write_text(
        f"""set -e
ip link set lo up
ip addr add {facts.address}/32 dev lo
ip addr add 192.0.2.53/32 dev lo
ip link add d0 type veth peer name d1; ip link set d1 arp off; ip link set d0 arp off; ip addr add 198.51.100.77/24 dev d0; ip link set d1 up; ip link set d0 up; ip route add default dev d0
{rule}
mount --bind {folder}/resolv.conf /etc/resolv.conf
mount --bind {folder}/hosts /etc/hosts
{names}
nginx -c {folder}/nginx.conf 2>{folder}/nginx.err
sleep 0.3
set +e
"$@" > {folder}/out.json 2> {folder}/err.txt
echo $? > {folder}/status
[ -e {folder}/nginx.pid ] && kill $(cat {folder}/nginx.pid)
[ -e {folder}/knot.pid ] && kill $(cat {folder}/knot.pid)
exit 0
"""
    )


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def _authority(now: datetime) -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey]:
    key = ec.generate_private_key(ec.SECP256R1())
    name = _name("House")
    root = (
        x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number())
        .not_valid_before(now - timedelta(days=90))
        .not_valid_after(now + timedelta(days=900))
        .add_extension(x509.BasicConstraints(True, None), True)
        .sign(key, hashes.SHA256())
    )
    return root, key


def carried(task: tuple[int, str | None, int]) -> str | None:
    """One world: what is wrong with what the probe says, or nothing."""
    seed, name, _ = task
    rng = random.Random(seed)
    belief = BELIEFS[name] if name is not None else None
    said = drawn(rng, belief is not None and belief.leg == "tls" or rng.random() < 0.7)  # noqa: RUF021
    now = datetime.now(UTC).replace(microsecond=0)
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as held:
        folder = Path(held)
        folder.chmod(0o755)
        (folder / "db").mkdir()
        (folder / "estate.yaml").write_text(estate(said, now))
        build(folder, said if belief is None else belief.world(said), now)
        command = [
            sys.executable,
            "-m",
            "portolan",
            "probe",
            said.url,
            "--from",
            "here",
            "-e",
            str(folder),
            "--format",
            "json",
        ]
        env = {**os.environ, "SSL_CERT_FILE": str(folder / "root.pem")}
        done = subprocess.run(["unshare", "-rnmp", "--fork", "--kill-child", "sh", str(folder / "world.sh"), *command], env=env, timeout=120, check=False, capture_output=True)  # fmt: skip
        try:
            status = int((folder / "status").read_text())
            found = json.loads((folder / "out.json").read_text())
        except (OSError, ValueError):
            held_back = [
                (folder / each).read_text()[-300:] for each in ("err.txt", "nginx.err") if (folder / each).exists()
            ]
            return f"nothing came: {held_back} {done.stderr.decode()[-300:]}"
    return _judged(found, status, belief)


def _judged(found: dict[str, object], status: int, belief: Belief | None) -> str | None:
    legs = [leg for each in found["exchanges"] for leg in each["legs"]]  # type: ignore[attr-defined]
    off = [each for each in legs if each["same"] is False]
    if belief is None:
        return (
            None if status == 0 and not off and any(each["same"] for each in legs) else f"a true world: {status} {legs}"
        )
    if status != 1 or not off:
        return f"ended with {status}: {legs}"
    if off[0]["leg"] != belief.leg:
        return f"differs first at {off[0]}"
    doubt: dict[str, object] = found["doubt"]  # type: ignore[assignment]
    named = [each["object"] for each in (*doubt["suspects"], *doubt["in_part"])]  # type: ignore[misc]
    if not any(str(each).startswith(belief.objects) for each in named):
        return f"suspects {named}"
    return None


def main() -> int:
    """1 where a probe says something else than the world is, or nothing was asked."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=2 * (os.cpu_count() or 1))
    arguments = parser.parse_args()
    kinds: list[str | None] = [None, *BELIEFS]
    tasks = [
        (arguments.seed * 100_003 + number, kinds[number % len(kinds)], number) for number in range(arguments.count)
    ]
    tally: Counter[str] = Counter()
    wrong = 0
    with ThreadPoolExecutor(arguments.processes) as pool:
        for (_, name, _), said in zip(tasks, pool.map(carried, tasks), strict=True):
            tally[name or "true"] += 1
            if said is not None:
                wrong += 1
                print(f"- {name or 'true'}: {said}")
    print(
        f"seed {arguments.seed}: {sum(tally.values())} worlds ({', '.join(f'{each} {count}' for each, count in tally.items())}), {wrong} wrong"
    )
    return 1 if wrong or not tally else 0


if __name__ == "__main__":
    sys.exit(main())
