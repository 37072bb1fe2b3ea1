"""Records asked of a server, and certificates in every wrapping."""

import datetime
import socket
import threading

import dns.flags
import dns.message
import dns.rdatatype
import dns.rrset
import dns.zone
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    PrivateFormat,
    pkcs12,
)
from cryptography.x509.oid import NameOID

from portolan.transcribing.certificates import documents, from_path
from portolan.transcribing.records import document, gleaned
from portolan.transcribing.sources import SourceError
from tests.transcribing.conftest import nginx_of
from tests.transcribing.test_machine import run

ZONE = """$ORIGIN kestrel-ridge.example.
$TTL 300
@ SOA ns1 desk 1 2 3 4 5
@ NS ns1
ns1 A 127.0.0.1
visit A 203.0.113.40
visit AAAA 2001:db8:40::40
www CNAME visit
@ CAA 0 issue "letters.example"
"""


@pytest.fixture
def server():
    """A name server of one zone on loopback; its port."""
    zone = dns.zone.from_text(ZONE, relativize=False)
    held = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    held.bind(("127.0.0.1", 0))
    stopped = threading.Event()

    def serve():
        held.settimeout(0.1)
        while not stopped.is_set():
            try:
                data, peer = held.recvfrom(4096)
            except TimeoutError:
                continue
            asked = dns.message.from_wire(data)
            answer = dns.message.make_response(asked)
            answer.flags |= dns.flags.AA | dns.flags.RA
            (question,) = asked.question
            node = zone.get_node(question.name)
            for kind in (question.rdtype, dns.rdatatype.CNAME):
                found = node.get_rdataset(question.rdclass, kind) if node is not None else None
                if found is not None and not answer.answer:
                    answer.answer.append(dns.rrset.from_rdata_list(question.name, found.ttl, list(found)))
            if not answer.answer:
                soa = zone.get_rdataset(zone.origin, dns.rdatatype.SOA)
                answer.authority.append(dns.rrset.from_rdata_list(zone.origin, 300, list(soa)))
            held.sendto(answer.to_wire(), peer)

    thread = threading.Thread(target=serve)
    thread.start()
    yield held.getsockname()[1]
    stopped.set()
    thread.join()
    held.close()


def test_records_that_visits_meet(server):
    """Of the names and of what their aliases lead to; with who serves the zone."""
    zones, lost = gleaned(["www.kestrel-ridge.example"], "127.0.0.1", server)
    assert lost == []
    assert document(zones) == {
        "zones": {
            "kestrel-ridge.example": {
                "records": [
                    "www 300 CNAME visit.kestrel-ridge.example.",
                    "visit 300 A 203.0.113.40",
                    "visit 300 AAAA 2001:db8:40::40",
                ],
                "delegated_to": ["ns1.kestrel-ridge.example"],
            }
        }
    }


def test_records_by_the_command(server, tmp_path):
    """An estate that loads, and that the same question agrees with."""
    asked = ("transcribe", "records", "visit.kestrel-ridge.example", "--server", "127.0.0.1", "--port", server)
    assert run(*asked, "-o", tmp_path / "e").returncode == 0
    assert "visit 300 A 203.0.113.40" in (tmp_path / "e/records.yaml").read_text()
    assert run(*asked, "--differs", tmp_path / "e").stdout == "The estate says what the source says.\n"


def test_nobody_there():
    """One error, with what to look at."""
    with pytest.raises(SourceError, match="nothing could be asked"):
        gleaned(["visit.kestrel-ridge.example"], "127.0.0.1", 9)


def made(name, issuer=None, authority=False):
    """A certificate and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    start = datetime.datetime(2026, 1, 1)
    held = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer[0].subject if issuer else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + datetime.timedelta(days=365))
        .add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
        .sign(issuer[1] if issuer else key, hashes.SHA256())
    )
    return held, key


def pem(held):
    """A certificate's text."""
    return held.public_bytes(Encoding.PEM)


def secret(key):
    """A key's text."""
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def test_every_wrapping(tmp_path):
    """PEM with a chain and its root, DER, and PKCS#12 behind a password: the same leaf; a root is an authority."""
    root = made("ridge root", authority=True)
    leaf, key = made("visit.kestrel-ridge.example", root)
    (tmp_path / "visit.pem").write_bytes(pem(leaf) + pem(root[0]) + secret(key))
    (tmp_path / "visit.der").write_bytes(leaf.public_bytes(Encoding.DER))
    (tmp_path / "visit.p12").write_bytes(
        pkcs12.serialize_key_and_certificates(b"v", key, leaf, [root[0]], BestAvailableEncryption(b"dome"))
    )
    for name, password, fits in (("visit.pem", None, True), ("visit.der", None, None), ("visit.p12", b"dome", True)):
        (found,) = from_path(str(tmp_path / name), password)
        assert (found.pem[0], found.key_fits) == (pem(leaf).strip(), fits)
        held, copies = documents([found])
        assert list(held["certificates"]) == ["visit"]
        assert ("authorities" in held) == (name != "visit.der")
        assert not any(b"PRIVATE" in data for data in copies.values())
    with pytest.raises(SourceError, match="password"):
        from_path(str(tmp_path / "visit.p12"), b"wrong")


def test_a_key_of_another_is_a_reload_that_fails():
    """What runs goes on; nothing of the key goes along."""
    leaf, _ = made("visit.kestrel-ridge.example")
    _, other = made("visit.kestrel-ridge.example")
    text = "server { listen 443 ssl; server_name visit.kestrel-ridge.example; ssl_certificate /etc/ssl/a.pem; ssl_certificate_key /etc/ssl/a.key; }"
    found = nginx_of(text, **{"/etc/ssl/a.pem": pem(leaf).decode(), "/etc/ssl/a.key": secret(other).decode()})
    service = found.documents["server.yaml"]["hosts"]["server"]["services"]["nginx"]
    assert service["saved"]["broken"] == "the key /etc/ssl/a.key is not that of /etc/ssl/a.pem"
    assert "PRIVATE" not in str(found)
    empty = nginx_of(text, **{"/etc/ssl/a.pem": "nothing"})
    assert (
        "no whole certificate"
        in empty.documents["server.yaml"]["hosts"]["server"]["services"]["nginx"]["saved"]["broken"]
    )
