"""Files of certificates and keys in every bad form, held against the start and the reload of nginx and Apache httpd.

Usage: python -m conformance.certificate_files [NAME ...]
   Each server is started on loopback with each file; what it does is compared with what an estate says that names the same files.
"""

import argparse
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    pkcs7,
    pkcs12,
)
from cryptography.x509.oid import NameOID

from conformance.loopback import NOW, free_port, is_up, one_server
from portolan.evidence.outcome import Kind
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError

HOST = "visit.kestrel-ridge.example"
KEYS = {name: ec.generate_private_key(ec.SECP256R1()) for name in ("Root", "Middle", "leaf", "other")}
LONG, SHORT = rsa.generate_private_key(65537, 2048), rsa.generate_private_key(65537, 1024)


def _made(subject: str, issuer: str, key: object = None, by: object = None) -> x509.Certificate:
    builder = x509.CertificateBuilder().serial_number(x509.random_serial_number())
    builder = builder.subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)]))
    builder = builder.issuer_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, issuer)]))
    builder = builder.public_key((key or KEYS[subject]).public_key())  # type: ignore[attr-defined]
    builder = builder.not_valid_before(NOW - timedelta(days=9)).not_valid_after(NOW + timedelta(days=80))
    builder = builder.add_extension(x509.BasicConstraints(ca=subject != "leaf", path_length=None), critical=True)
    builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(HOST)]), critical=False)
    return builder.sign(by or KEYS[issuer], hashes.SHA256())  # type: ignore[arg-type]


CERTIFICATE = {"leaf": _made("leaf", "Middle"), "Middle": _made("Middle", "Root"), "Root": _made("Root", "Root")}
LEAF, MIDDLE, ROOT = (CERTIFICATE[each].public_bytes(Encoding.PEM) for each in ("leaf", "Middle", "Root"))
WHOLE = LEAF + MIDDLE
WEAK = _made("leaf", "Middle", SHORT).public_bytes(Encoding.PEM)
WEAK_MIDDLE = _made("Middle", "Root", SHORT).public_bytes(Encoding.PEM)
UNDER_WEAK = _made("leaf", "Middle", None, SHORT).public_bytes(Encoding.PEM)
ON_RSA = _made("leaf", "Middle", LONG).public_bytes(Encoding.PEM)


def _key(key: object = KEYS["leaf"], form: PrivateFormat = PrivateFormat.PKCS8, password: bytes | None = None) -> bytes:
    lock = BestAvailableEncryption(password) if password else NoEncryption()
    return key.private_bytes(Encoding.PEM, form, lock)  # type: ignore[attr-defined, no-any-return]


KEY = _key()
_DER = CERTIFICATE["leaf"].public_bytes(Encoding.DER)
_END = b"-----END CERTIFICATE-----\n"
_BEGIN = b"-----BEGIN CERTIFICATE-----\n"
_PARAMETERS = b"-----BEGIN EC PARAMETERS-----\nBggqhkjOPQMBBw==\n-----END EC PARAMETERS-----\n"


def _lines(data: bytes, change: Callable[[bytes], bytes]) -> bytes:
    return b"".join(change(each) + b"\n" for each in data.splitlines())


def _wide(data: bytes, width: int) -> bytes:
    rows = data.splitlines()
    body = b"".join(rows[1:-1])
    parts = [body[at : at + width] for at in range(0, len(body), width)]
    return b"\n".join([rows[0], *parts, rows[-1]]) + b"\n"


#: A file of certificates and one of a key. A file that is not there is an error of the estate, which cannot be read then.
FILES: dict[str, tuple[bytes, bytes]] = {
    "as usual": (WHOLE, KEY),
    "the leaf alone": (LEAF, KEY),
    "with the root": (WHOLE + ROOT, KEY),
    "a byte order mark": (b"\xef\xbb\xbf" + WHOLE, KEY),
    "two byte order marks": (b"\xef\xbb\xbf\xef\xbb\xbf" + WHOLE, KEY),
    "lines of Windows": (WHOLE.replace(b"\n", b"\r\n"), KEY.replace(b"\n", b"\r\n")),
    "lines of old machines": (WHOLE.replace(b"\n", b"\r"), KEY),
    "words before": (b"Subject: visit\n" + WHOLE, KEY),
    "words between": (LEAF + b"\nthe issuer:\n" + MIDDLE, KEY),
    "words after": (WHOLE + b"written by hand\n", KEY),
    "no line end at the end": (WHOLE.rstrip(), KEY.rstrip()),
    "the key in front": (KEY + WHOLE, KEY),
    "the key behind": (WHOLE + KEY, KEY),
    "all in one file": (WHOLE + KEY, WHOLE + KEY),
    "run together": (LEAF.rstrip() + MIDDLE, KEY),
    "the key run together": (WHOLE, KEY.rstrip() + LEAF),
    "a blank line in the leaf": (LEAF.replace(b"\n", b"\n\n", 2) + MIDDLE, KEY),
    "a blank line in the issuer": (LEAF + MIDDLE.replace(b"\n", b"\n\n", 3), KEY),
    "a blank line at the end of the block": (LEAF.replace(b"\n-----END", b"\n\n-----END") + MIDDLE, KEY),
    "a blank line in the key": (WHOLE, KEY.replace(b"\n", b"\n\n", 2)),
    "blank lines between": (LEAF + b"\n\n" + MIDDLE, KEY),
    "spaces at ends of lines": (_lines(WHOLE, lambda each: each + b"  "), KEY),
    "spaces before lines": (_lines(WHOLE, lambda each: b"  " + each), KEY),
    "spaces before the body": (_lines(WHOLE, lambda each: each if each[:1] == b"-" else b" " + each), KEY),
    "a tab at ends of lines": (_lines(WHOLE, lambda each: each + b"\t"), KEY),
    "the end missing": (LEAF.replace(_END, b""), KEY),
    "the end of the issuer missing": (LEAF + MIDDLE.replace(_END, b""), KEY),
    "the end of the leaf missing, the issuer behind": (LEAF.replace(_END, b"") + MIDDLE, KEY),
    "the end cut off in its line": (LEAF.replace(_END, b"-----END CERTIFICA\n"), KEY),
    "the beginning missing": (WHOLE.replace(_BEGIN, b"", 1), KEY),
    "four dashes": (WHOLE.replace(b"-----BEGIN", b"----BEGIN", 1), KEY),
    "six dashes": (WHOLE.replace(b"-----BEGIN", b"------BEGIN", 1), KEY),
    "dashes of a text program": (WHOLE.replace(b"-----", "\u2013\u2013\u2013\u2013\u2013".encode()), KEY),
    "small letters": (WHOLE.replace(b"BEGIN CERTIFICATE", b"begin certificate"), KEY),
    "another label": (WHOLE.replace(b" CERTIFICATE-", b" CERTIFICATE REQUEST-"), KEY),
    "the older label": (WHOLE.replace(b" CERTIFICATE-", b" X509 CERTIFICATE-"), KEY),
    "the label of trust": (WHOLE.replace(b" CERTIFICATE-", b" TRUSTED CERTIFICATE-"), KEY),
    "labels that differ": (WHOLE.replace(b"END CERTIFICATE", b"END X509 CERTIFICATE", 1), KEY),
    "DER": (_DER, KEY),
    "PKCS#7 in DER": (pkcs7.serialize_certificates(list(CERTIFICATE.values())[:2], Encoding.DER), KEY),
    "PKCS#7 in PEM": (pkcs7.serialize_certificates(list(CERTIFICATE.values())[:2], Encoding.PEM), KEY),
    "PKCS#12": (
        pkcs12.serialize_key_and_certificates(b"visit", KEYS["leaf"], CERTIFICATE["leaf"], None, NoEncryption()),
        KEY,
    ),
    "empty": (b"", KEY),
    "blank": (b"\n\n", KEY),
    "a key and no certificate": (KEY, KEY),
    "a page": (b"<!doctype html><title>Sign in</title>\n", KEY),
    "a strange letter": (LEAF.replace(b"\nMII", b"\nM!I") + MIDDLE, KEY),
    "a strange letter in the issuer": (LEAF + MIDDLE.replace(b"\nMII", b"\nM!I"), KEY),
    "a letter changed": (LEAF.replace(b"\nMII", b"\nMIX", 1) + MIDDLE, KEY),
    "half of it": (LEAF[: len(LEAF) // 2], KEY),
    "half of it, with its end": (LEAF[: len(LEAF) // 2].rsplit(b"\n", 1)[0] + b"\n" + _END, KEY),
    "half of the issuer, with its end": (LEAF + MIDDLE[: len(MIDDLE) // 2].rsplit(b"\n", 1)[0] + b"\n" + _END, KEY),
    "a line lost": (b"\n".join(LEAF.split(b"\n")[:3] + LEAF.split(b"\n")[4:]) + MIDDLE, KEY),
    "one long line": (_wide(LEAF, 9999) + MIDDLE, KEY),
    "lines of 76": (_wide(LEAF, 76) + _wide(MIDDLE, 76), KEY),
    "lines of 20": (_wide(LEAF, 20) + MIDDLE, KEY),
    "a comment in the block": (LEAF.replace(b"\n", b"\n# visit\n", 1) + MIDDLE, KEY),
    "a header in the block": (LEAF.replace(b"\n", b"\nComment: visit\n\n", 1) + MIDDLE, KEY),
    "wide letters": (WHOLE.decode().encode("utf-16"), KEY),
    "zero octets behind": (WHOLE + b"\0\0\0", KEY),
    "the issuer first": (MIDDLE + LEAF, KEY),
    "the issuer alone": (MIDDLE, KEY),
    "the root in front": (ROOT + WHOLE, KEY),
    "the leaf twice": (LEAF + WHOLE, KEY),
    "the issuer twice": (WHOLE + MIDDLE, KEY),
    "the chain upside down": (LEAF + ROOT + MIDDLE, KEY),
    "a short key": (WEAK + MIDDLE, _key(SHORT, PrivateFormat.TraditionalOpenSSL)),
    "a short key above": (UNDER_WEAK + WEAK_MIDDLE, KEY),
    "a key of another": (WHOLE, _key(KEYS["other"])),
    "a key of another kind": (WHOLE, _key(LONG)),
    "the key behind a password": (WHOLE, _key(password=b"dome")),
    "the older key behind a password": (
        ON_RSA + MIDDLE,
        _key(LONG, PrivateFormat.TraditionalOpenSSL, b"dome"),
    ),
    "the older form of a key": (ON_RSA + MIDDLE, _key(LONG, PrivateFormat.TraditionalOpenSSL)),
    "the older form on a curve": (WHOLE, _key(form=PrivateFormat.TraditionalOpenSSL)),
    "with its parameters": (WHOLE, _PARAMETERS + _key(form=PrivateFormat.TraditionalOpenSSL)),
    "the parameters alone": (WHOLE, _PARAMETERS),
    "a public key": (
        WHOLE,
        KEYS["leaf"].public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo),
    ),
    "a key in DER": (
        WHOLE,
        KEYS["leaf"].private_bytes(Encoding.DER, PrivateFormat.PKCS8, NoEncryption()),
    ),
    "an empty key": (WHOLE, b""),
    "a certificate for a key": (WHOLE, LEAF),
    "a byte order mark before the key": (WHOLE, b"\xef\xbb\xbf" + KEY),
    "words before the key": (WHOLE, b"the key\n" + KEY),
    "half of the key": (WHOLE, KEY[: len(KEY) // 2]),
    "the end of the key missing": (WHOLE, KEY.replace(b"-----END PRIVATE KEY-----\n", b"")),
    "a strange letter in the key": (WHOLE, KEY.replace(b"\nMI", b"\nM!")),
    "two keys, its own first": (WHOLE, KEY + _key(KEYS["other"])),
    "two keys, its own behind": (WHOLE, _key(KEYS["other"]) + KEY),
}  # fmt: skip

NGINX = """\
daemon off; master_process on; pid {folder}/nginx.pid; error_log stderr warn;
events {{}}
http {{ access_log off; client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
  uwsgi_temp_path {folder}; scgi_temp_path {folder};
  server {{ listen 127.0.0.1:{port} ssl; server_name {host}; ssl_certificate {folder}/visit.pem; ssl_certificate_key {folder}/visit.key; return 200 ok; }} }}
"""
APACHE = """\
ServerRoot {folder}
PidFile {folder}/httpd.pid
ErrorLog {folder}/error.log
Listen 127.0.0.1:{port}
ServerName localhost
LoadModule mpm_event_module {modules}/mod_mpm_event.so
LoadModule authz_core_module {modules}/mod_authz_core.so
LoadModule ssl_module {modules}/mod_ssl.so
<VirtualHost *:{port}>
ServerName {host}
SSLEngine on
SSLCertificateFile {folder}/visit.pem
SSLCertificateKeyFile {folder}/visit.key
</VirtualHost>
"""
MODULES = "/usr/lib/apache2/modules"


def _written(folder: Path, files: tuple[bytes, bytes]) -> None:
    for name, data in zip(("visit.pem", "visit.key"), files, strict=True):
        (folder / name).write_bytes(data)


def theirs(program: str, files: tuple[bytes, bytes]) -> tuple[bool, bool]:
    """Whether a server starts with the files, and whether it still answers after a reload that gives it these."""
    with tempfile.TemporaryDirectory() as name:
        folder, port = Path(name), free_port()
        text = NGINX if program == "nginx" else APACHE
        (folder / "conf").write_text(text.format(folder=folder, port=port, host=HOST, modules=MODULES), "utf-8")
        command = (
            ["nginx", "-p", str(folder), "-c", str(folder / "conf"), "-e", "stderr"]
            if program == "nginx"
            else ["apache2", "-d", str(folder), "-f", str(folder / "conf"), "-D", "FOREGROUND"]
        )

        def run() -> "subprocess.Popen[bytes]":
            quiet = subprocess.DEVNULL
            return subprocess.Popen(command, stdin=quiet, stdout=quiet, stderr=quiet)

        def end(process: "subprocess.Popen[bytes]") -> None:
            process.terminate()
            process.wait(10)

        _written(folder, files)
        process = run()
        started = is_up(port, process)
        end(process)
        _written(folder, FILES["as usual"])
        process = run()
        if not is_up(port, process):
            raise RuntimeError(f"{program} does not start with the usual files")
        _written(folder, files)
        process.send_signal(1 if program == "nginx" else 10)
        time.sleep(0.7)
        lasting = process.poll() is None and is_up(port, process)
        end(process)
        return started, lasting


ESTATE = one_server(
    f"{{program: PROGRAM, listens: [443 tls], sites: {{visit: {{names: [{HOST}], certificate: visit, files: [index.html]}}}}}}",
    "certificates: {visit: {file: visit.pem, key: visit.key}}\n"
    "vantages: {street: {network: internet, address: 198.51.100.77}}\n",
)


def ours(program: str, files: tuple[bytes, bytes]) -> bool | str:
    """Whether the estate says that the server starts, or why it cannot be read."""
    held: dict[str, str | bytes] = {"estate.yaml": ESTATE.replace("PROGRAM", program)}
    held |= {"visit.pem": files[0], "visit.key": files[1]}
    try:
        estate = load(MemoryFiles(held), "estate.yaml").estate
    except EstateError as error:
        return str(error.problems[0])
    found = visit(World(estate, NOW), "https://203.0.113.40/", estate.vantages["street"])
    return found.outcome.kind is not Kind.CONNECT_ERROR


def main() -> int:
    """Tries each file at both; 1 where something differs, or nothing was compared."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("names", nargs="*")
    asked = parser.parse_args()
    names = asked.names or list(FILES)
    programs = [each for each in ("nginx", "apache") if shutil.which("apache2" if each == "apache" else each)]
    work = [(program, name) for program in programs for name in names]
    with ThreadPoolExecutor(4) as pool:
        seen = list(pool.map(lambda each: theirs(each[0], FILES[each[1]]), work))
    differ = 0
    for (program, name), (starts, lasts) in zip(work, seen, strict=True):
        said = ours(program, FILES[name])
        if said != starts:
            differ += 1
            print(f"{program}, {name}: said {said}, starts {starts}; lasts {lasts}")
    print(f"compared {len(work)} starts with files in {len(names)} forms: {differ} differ")
    return int(differ > 0 or not work)


if __name__ == "__main__":
    sys.exit(main())
