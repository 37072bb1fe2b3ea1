"""Random chains of certificates against the real curl and the real Chromium, over loopback, with every extension drawn.

Usage: python -m conformance.chains N [--seed S] [--client curl|chromium]
   Chromium's clock cannot be set, so all dates lie round the real moment. Prints what differs, and how much was compared.
"""

import argparse
import json
import random
import re
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID, ObjectIdentifier

from conformance.loopback import NOW, one_server
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.rehearsal.chromium import DRIVER

DAY = timedelta(days=1)
ZONE = "kestrel-ridge.example"
PURPOSES = {
    "servers": [ExtendedKeyUsageOID.SERVER_AUTH],
    "clients": [ExtendedKeyUsageOID.CLIENT_AUTH],
    "both": [ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH],
    "any": [ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE],
}
USES = ("digital_signature", "content_commitment", "key_encipherment", "data_encipherment", "key_agreement",
        "key_cert_sign", "crl_sign", "encipher_only", "decipher_only")  # fmt: skip
#: What of curl's words means which of ours.
CURL = {
    "expired": "has expired",
    "not-yet-valid": "not yet valid",
    "untrusted": "local issuer|self-signed|self signed|unable to verify the first",
    "name-mismatch": "does not match|no alternative certificate subject|certificate subject name|unable to obtain common name",
    "unfit": "purpose|path length|too weak|too small|permitted|excluded|critical|CA certificate|not allowed to sign|key usage|constraint|EE certificate key|issuer certificate",
}  # fmt: skip
OURS = {
    "unknown-issuer": "untrusted",
    "self-signed": "untrusted",
    "incomplete-chain": "untrusted",
    "other": "unfit",
    "no-common-version": "unfit",
}
CHROMIUM = {"SSL_VERSION_OR_CIPHER_MISMATCH": ("unfit",), "SSL_KEY_USAGE_INCOMPATIBLE": ("unfit",), "CERT_DATE_INVALID": ("expired", "not-yet-valid"), "CERT_COMMON_NAME_INVALID": ("name-mismatch",),
            "CERT_AUTHORITY_INVALID": ("untrusted",)}  # fmt: skip


def _keys() -> dict[str, list[object]]:
    return {
        "p256": [ec.generate_private_key(ec.SECP256R1()) for _ in range(6)],
        "p384": [ec.generate_private_key(ec.SECP384R1()) for _ in range(2)],
        "p521": [ec.generate_private_key(ec.SECP521R1()) for _ in range(2)],
        "rsa": [rsa.generate_private_key(65537, 2048) for _ in range(4)],
        "rsa1024": [rsa.generate_private_key(65537, 1024) for _ in range(2)],
    }


@dataclass
class Drawn:
    """A chain as drawn: what is sent, with its key, and what the client trusts."""

    number: int
    host: str
    sent: list[bytes]
    key: bytes
    trusted: list[bytes]
    told: list[str] = field(default_factory=list)


class Drawing:
    """Draws one chain; `rare` is how often each thing is not as usual."""

    def __init__(self, chance: random.Random, number: int, keys: dict[str, list[object]]) -> None:
        self.chance, self.number, self.keys = chance, number, keys
        self.rare = chance.choice((0.01, 0.02, 0.05))
        self.host = f"n{number}.{ZONE}"
        self.told: list[str] = []

    def unusual(self, what: str, times: float = 1) -> bool:
        """Whether this once something is not as usual."""
        if self.chance.random() >= self.rare * times:
            return False
        self.told.append(what)
        return True

    def key(self, part: str) -> object:
        """A private key for a part of the chain."""
        kind = self.chance.choice(("p256", "p256", "rsa", "p384"))
        for odd in ("rsa1024", "p521"):
            if self.unusual(f"{part} {odd}", 0.5):
                kind = odd
        return self.chance.choice(self.keys[kind])

    def dates(self, part: str) -> tuple[datetime, datetime]:
        """From when until when."""
        if self.unusual(f"{part} over"):
            return NOW - 200 * DAY, NOW - 2 * DAY
        if self.unusual(f"{part} not yet"):
            return NOW + 2 * DAY, NOW + 90 * DAY
        return NOW - 30 * DAY, NOW + self.chance.choice((60, 300)) * DAY

    def extensions(self, part: str, authority: bool) -> Iterator[tuple[x509.ExtensionType, bool]]:
        """The extensions of a certificate, each with whether it is critical."""
        chance = self.chance
        if authority or chance.random() < 0.7:
            ca = authority != self.unusual(f"{part} other kind", 0.5)
            length = chance.choice((None, None, None, None, None, None, 0, 1)) if ca else None
            yield x509.BasicConstraints(ca=ca, path_length=length), chance.random() < 0.9
        if chance.random() < 0.5:
            usual = {"key_cert_sign", "crl_sign"} if authority else {"digital_signature"}
            if not authority and chance.random() < 0.5:
                usual.add("key_encipherment")
            if self.unusual(f"{part} key usage"):
                usual = set(chance.sample(USES[:7], chance.randint(1, 3)))
            yield x509.KeyUsage(**{each: each in usual for each in USES}), chance.random() < 0.8
        if chance.random() < (0.3 if authority else 0.7):
            kind = chance.choice(("servers", "both"))
            if self.unusual(f"{part} purpose"):
                kind = chance.choice(("clients", "any"))
            yield x509.ExtendedKeyUsage(PURPOSES[kind]), chance.random() < 0.2
        if authority and self.unusual(f"{part} constraints", 2):
            other = chance.choice((ZONE, f".{ZONE}", "elsewhere.example", self.host, f"x.{self.host}"))
            inside: list[x509.GeneralName] = [x509.DNSName(other)]
            if chance.random() < 0.2:
                inside = [x509.RFC822Name("kestrel-ridge.example")]
            permits = chance.random() < 0.6
            yield x509.NameConstraints(inside if permits else None, None if permits else inside), chance.random() < 0.7
        if self.unusual(f"{part} unknown extension", 0.7):
            critical = chance.random() < 0.6
            yield x509.UnrecognizedExtension(ObjectIdentifier("1.3.6.1.4.1.55555.7"), b"\x05\x00"), critical
        if not authority and self.unusual("must staple", 0.5):
            yield x509.TLSFeature([x509.TLSFeatureType.status_request]), False
        if chance.random() < 0.1:
            where = x509.UniformResourceIdentifier(f"http://{ZONE}:1/issuer.crt")
            yield (
                x509.AuthorityInformationAccess([x509.AccessDescription(AuthorityInformationAccessOID.OCSP, where)]),
                False,
            )

    def names(self) -> x509.SubjectAlternativeName | None:
        """The leaf's names."""
        held: list[x509.GeneralName] = [x509.DNSName(self.host)]
        if self.unusual("names", 3):
            pool: list[list[x509.GeneralName]] = [
                [x509.DNSName(f"*.{ZONE}")],
                [x509.DNSName("*.example")],
                [x509.DNSName(f"*.{self.host}")],
                [x509.DNSName("elsewhere.example"), x509.DNSName(self.host.upper())],
                [x509.DNSName("elsewhere.example")],
                [x509.RFC822Name(f"keeper@{ZONE}")],
                [x509.IPAddress(ip_address("127.0.0.1"))],
                [x509.UniformResourceIdentifier(f"https://{self.host}/")],
                [],
            ]
            held = self.chance.choice(pool)
        return x509.SubjectAlternativeName(held) if held else None

    def made(self, part: str, subject: str, key: object, issuer: str, by: object, authority: bool) -> x509.Certificate:
        """One certificate."""
        starts, until = self.dates(part)
        builder = x509.CertificateBuilder().subject_name(_name(subject)).issuer_name(_name(issuer))
        builder = builder.serial_number(x509.random_serial_number()).public_key(key.public_key())  # type: ignore[attr-defined]
        builder = builder.not_valid_before(starts).not_valid_after(until)
        for extension, critical in self.extensions(part, authority):
            builder = builder.add_extension(extension, critical)
        names = None if authority else self.names()
        if names is not None:
            builder = builder.add_extension(names, self.chance.random() < 0.1)
        digest: hashes.HashAlgorithm = self.chance.choice((hashes.SHA256(), hashes.SHA256(), hashes.SHA384()))
        return builder.sign(by, digest)  # type: ignore[arg-type]

    def drawn(self) -> Drawn:
        """The whole chain."""
        chance = self.chance
        root_name = f"Root {self.number}"
        root_key = self.key("root")
        root = self.made("root", root_name, root_key, root_name, root_key, True)
        trusted = [root]
        if self.unusual("twin of the root"):
            trusted.append(self.made("twin", root_name, root_key, root_name, root_key, True))
        name, key = root_name, root_key
        middles: list[x509.Certificate] = []
        for step in range(chance.choice((0, 1, 1, 1, 2, 2, 3))):
            part = f"middle {step}"
            below, below_key = f"Middle {self.number}.{step}", self.key(part)
            issuer = name.upper() if self.unusual(f"{part} folded") else name
            middles.insert(0, self.made(part, below, below_key, issuer, key, True))
            if self.unusual(f"{part} twin"):
                middles.insert(
                    chance.randint(0, len(middles)), self.made(f"{part} twin", below, below_key, name, key, True)
                )
            name, key = below, below_key
        leaf_key = self.key("leaf")
        called = self.host if chance.random() < 0.8 else "keeper"
        leaf = self.made("leaf", called, leaf_key, name, key, False)
        if self.unusual("leaf alone signed"):
            leaf = self.made("leaf", called, leaf_key, called, leaf_key, False)
        sent = [leaf, *middles]
        if len(sent) > 1 and self.unusual("one left out"):
            del sent[chance.randrange(1, len(sent))]
        if len(sent) > 2 and self.unusual("order"):
            sent[1:] = chance.sample(sent[1:], len(sent) - 1)
        if self.unusual("root sent", 2):
            sent.append(root)
        if self.unusual("stranger sent"):
            sent.insert(1, self.made("stranger", "Stranger", leaf_key, "Stranger", leaf_key, True))
        if middles and self.unusual("middle trusted"):
            trusted = [chance.choice(middles)]
        if self.unusual("leaf trusted"):
            trusted = [leaf]
        if self.unusual("nobody trusted", 0.5):
            trusted = [self.made("other", f"Other {self.number}", root_key, f"Other {self.number}", root_key, True)]
        pem = leaf_key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())  # type: ignore[attr-defined]
        return Drawn(self.number, self.host, list(map(_pem, sent)), pem, list(map(_pem, trusted)), self.told)


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def _pem(held: x509.Certificate) -> bytes:
    return held.public_bytes(Encoding.PEM)


# -- ours --

ESTATE = one_server(
    # One that takes weak keys, as the server of this comparison does.
    "{program: {missing: 404}, listens: [443 tls], sites: {visit: {names: [HOST], certificate: visit}}}",
    "certificates: {visit: {file: visit.pem}}\n"
    "authorities: {AUTHORITIES}\n"
    f'zones: {{{ZONE}: {{records: ["@ 3600 SOA ns.{ZONE}. keeper.{ZONE}. 1 7200 3600 1209600 300", "@ 3600 NS ns.{ZONE}.", '
    '"ns 3600 A 203.0.113.53", "* 3600 A 203.0.113.40"]}}\n'
    "vantages: {street: {network: internet, address: 198.51.100.77, trusts: [TRUSTS], like: LIKE}}\n",
)


def ours(drawn: Drawn, client: str) -> tuple[str, str]:
    """What Portolan says: in a word, and in words."""
    roots = {f"r{number}": pem for number, pem in enumerate(drawn.trusted)}
    text = ESTATE.replace("HOST", drawn.host).replace("LIKE", client).replace("TRUSTS", ", ".join(roots))
    text = text.replace("{AUTHORITIES}", "{" + ", ".join(f"{each}: {{file: {each}.pem}}" for each in roots) + "}")
    files = {"estate.yaml": text, "visit.pem": b"".join(drawn.sent).decode()}
    files |= {f"{name}.pem": pem.decode() for name, pem in roots.items()}
    estate = load(MemoryFiles(files), "estate.yaml").estate
    found = visit(World(estate, NOW), f"https://{drawn.host}/", estate.vantages["street"])
    detail = found.outcome.detail or "served"
    if found.exchanges[-1].handshake is None:
        return f"no handshake: {detail}", ""
    stop = found.exchanges[-1].handshake.decisions[-1].text
    return OURS.get(detail, detail) if found.outcome.kind == "tls-error" else "served", stop


# -- theirs --


class Server:
    """A TLS server on loopback that shows the chain of the name asked for."""

    def __init__(self, chains: list[Drawn], folder: Path) -> None:
        self.contexts: dict[str, ssl.SSLContext] = {}
        self.unshown: set[int] = set()
        for each in chains:
            path = folder / f"{each.number}.pem"
            path.write_bytes(b"".join(each.sent) + each.key)
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.set_ciphers("ALL:@SECLEVEL=0")
            context.load_cert_chain(path)
            self.contexts[each.host] = context
        self.front = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.front.set_ciphers("ALL:@SECLEVEL=0")
        self.front.load_cert_chain(folder / f"{chains[0].number}.pem")
        self.front.sni_callback = self._named
        self.socket = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port = self.socket.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _named(self, connection: ssl.SSLObject, name: str | None, _context: ssl.SSLContext) -> None:
        connection.context = self.contexts.get(name or "", self.front)

    def _serve(self) -> None:
        while True:
            plain, _ = self.socket.accept()
            threading.Thread(target=self._answer, args=(plain,), daemon=True).start()

    def _answer(self, plain: socket.socket) -> None:
        plain.settimeout(10)
        try:
            with self.front.wrap_socket(plain, server_side=True) as secure:
                secure.recv(4096)
                secure.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok")
        except OSError:
            plain.close()


def by_curl(drawn: Drawn, server: Server, folder: Path) -> tuple[str, str]:
    """What curl says."""
    roots = folder / f"{drawn.number}.roots"
    roots.write_bytes(b"".join(drawn.trusted))
    command = ["curl", "-sS", "-o", "/dev/null", "--max-time", "10", "--cacert", str(roots), "--resolve"]
    command += [f"{drawn.host}:{server.port}:127.0.0.1", f"https://{drawn.host}:{server.port}/"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode == 0:
        return "served", ""
    said = done.stderr.strip()
    if done.returncode != 60:
        return f"curl {done.returncode}", said
    return next((word for word, part in CURL.items() if re.search(part, said)), f"not understood: {said}"), said


def by_chromium(chains: list[Drawn], server: Server, folder: Path) -> dict[int, tuple[str, str]]:
    """What Chromium says of each: one browser for all that trust a root of their own."""
    home = folder / "browser"
    home.mkdir()
    roots = folder / "all.roots"
    roots.write_bytes(b"".join(pem for each in chains for pem in each.trusted))
    script = Path(sys.modules[DRIVER.__module__].__file__ or "").with_name("browse.py")
    rules = f"MAP *.{ZONE} 127.0.0.1:{server.port}"
    program = script.read_text("utf-8").replace(
        '"--headless=new",', f'"--headless=new", "--host-resolver-rules={rules}",'
    )
    (folder / "browse.py").write_text(program, "utf-8")
    urls = [f"https://{each.host}/" for each in chains]
    command = [sys.executable, str(folder / "browse.py"), "none", str(home), str(roots), *urls]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    found = {}
    for each, seen in zip(chains, json.loads(done.stdout), strict=True):
        word = str(seen["error"] or "").removeprefix("net::ERR_")
        found[each.number] = ("served" if seen["status"] else word, word)
    return found


def agrees(said: str, seen: str, client: str) -> bool:
    """Whether two verdicts are the same."""
    if client == "curl" or seen == "served":
        return said == seen
    return said in CHROMIUM.get(seen, ("unfit",))


def main() -> int:
    """Draws, asks both, and tells what differs; 1 where something does, or nothing was compared."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--client", choices=("curl", "chromium"), default="curl")
    asked = parser.parse_args()
    chance, keys = random.Random(asked.seed), _keys()
    chains = [Drawing(chance, number, keys).drawn() for number in range(asked.count)]
    verdicts: Counter[str] = Counter()
    differ = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        server = Server(chains, folder)
        if asked.client == "curl":
            with ThreadPoolExecutor(4) as pool:
                seen = dict(
                    zip(
                        [each.number for each in chains],
                        pool.map(lambda each: by_curl(each, server, folder), chains),
                        strict=True,
                    )
                )
        else:
            seen = by_chromium(chains, server, folder)
        for each in chains:
            said, words = ours(each, asked.client)
            verdicts[said] += 1
            if not agrees(said, seen[each.number][0], asked.client):
                differ += 1
                print(f"{each.number}: {said} ({words}); {asked.client}: {seen[each.number]}; {', '.join(each.told)}")
    told = ", ".join(f"{word} {count}" for word, count in verdicts.most_common())
    print(f"compared {len(chains)} chains with {asked.client}, seed {asked.seed}: {differ} differ ({told})")
    return int(differ > 0 or not chains)


if __name__ == "__main__":
    sys.exit(main())
