"""What OpenSSL says of a chain: a client's handshake in memory, in which every complaint is collected.

The client is fed a ServerHello and a Certificate message of TLS 1.2 (RFC 5246 section 7.4), for which nobody needs a key.
OpenSSL then verifies the chain as every program does that uses it: purpose, strength, time and constraints, in its order.
The library is imported when the first chain of PEM certificates is judged.
"""

from collections.abc import Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from portolan.source.value import Value

if TYPE_CHECKING:
    from OpenSSL import SSL, crypto


class Complaint(Value, frozen=True):
    """What is wrong with a certificate of a chain: OpenSSL's number, and the certificate as DER."""

    number: int
    certificate: bytes


#: OpenSSL's numbers (X509_V_ERR_, in x509_vfy.h). No issuer that the client has, or one that signed itself and is not trusted.
UNTRUSTED = frozenset((2, 18, 19, 20, 21, 27))
NOT_YET, OVER = 9, 10
CONSTRAINTS = frozenset((25, 47, 48, 49, 50, 51, 52, 53, 54))
WEAK_DIGEST = 68
LEAF_TOO_SHORT = 66
WEAK = frozenset((LEAF_TOO_SHORT, 67, WEAK_DIGEST))
#: A purpose that is not stated, where another is.
PURPOSE = 26
#: In the words of whoever reads an explanation, where our own look finds nothing.
WORDS = {
    4: "its signature cannot be read",
    6: "its key cannot be read",
    7: "its signature is not by the one that it names",
    25: "more authorities stand below it than may",
    26: "it is not for servers",
    28: "it is marked as not to be trusted",
    32: "its key may not sign certificates",
    34: "it has a critical extension that nobody knows",
    41: "it has an extension that cannot be read",
    47: "an authority above it may not sign for one of its names",
    48: "an authority above it may not sign for one of its names",
    LEAF_TOO_SHORT: "its key is too short",
    67: "its key is too short",
    68: "it is signed with a digest that counts for nothing",
    79: "it is no authority's certificate",
}

#: The level as Debian and most others set it: keys of 112 bits of strength, no SHA-1. The two that are spoken of below, no more:
#: a client lists what it has each time anew.
_CIPHERS = b"ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES128-GCM-SHA256:@SECLEVEL=2"
_RSA, _ECDSA = bytes.fromhex("c02f"), bytes.fromhex("c02b")
_TLS12 = bytes.fromhex("0303")
_HANDSHAKE = 22
_SERVER_HELLO, _CERTIFICATE = 2, 11
#: The most octets of a record (RFC 8446 section 5.1).
_RECORD = 16_384


class Judge:
    """A client with its anchors and its clock."""

    def __init__(self, anchors: Sequence[bytes], now: datetime) -> None:
        from OpenSSL import SSL, crypto

        self._ssl, self._crypto = SSL, crypto
        self._context = SSL.Context(SSL.TLS_CLIENT_METHOD)
        self._context.set_max_proto_version(SSL.TLS1_2_VERSION)
        self._context.set_cipher_list(_CIPHERS)
        self._context.set_verify(SSL.VERIFY_PEER, self._note)
        store = self._context.get_cert_store()
        assert store is not None
        # Whatever is trusted ends a chain, a root or not, as at every common client.
        store.set_flags(crypto.X509StoreFlags.PARTIAL_CHAIN)
        store.set_time(now.astimezone(UTC))
        for anchor in dict.fromkeys(anchors):
            store.add_cert(crypto.X509.from_cryptography(_parsed(anchor)))
        self._noted: list[Complaint] = []

    def _note(self, _connection: "SSL.Connection", held: "crypto.X509", number: int, _depth: int, fine: int) -> bool:
        if not fine:
            self._noted.append(Complaint(number, self._der(held)))
        return True

    def complaints(self, chain: Sequence[bytes]) -> tuple[tuple[Complaint, ...], tuple[bytes, ...]]:
        """What it says of a chain that is sent, the leaf first, and the path that it took.

        Where it is content, there is no complaint, and of the path the end alone.
        """
        self._noted = []
        connection = self._connection()
        self._step(connection)
        kind = _RSA if _is_rsa(chain[0]) else _ECDSA
        hello = _TLS12 + bytes(32) + b"\0" + kind + b"\0" + bytes.fromhex("0005ff01000100")
        listed = b"".join(len(each).to_bytes(3, "big") + each for each in chain)
        message = _message(_SERVER_HELLO, hello) + _message(_CERTIFICATE, len(listed).to_bytes(3, "big") + listed)
        for start in range(0, len(message), _RECORD):
            part = message[start : start + _RECORD]
            connection.bio_write(bytes([_HANDSHAKE]) + _TLS12 + len(part).to_bytes(2, "big") + part)
        self._step(connection)
        path = connection.get_verified_chain() or []
        return tuple(self._noted), tuple(map(self._der, path if self._noted else path[-1:]))

    def _connection(self) -> "SSL.Connection":
        """A client that has not said anything yet."""
        connection = self._ssl.Connection(self._context, None)
        connection.set_connect_state()
        return connection

    def _step(self, connection: "SSL.Connection") -> None:
        """As far as the handshake goes: it waits for a signature that never comes, or breaks at one that it cannot use."""
        try:
            connection.do_handshake()
        except self._ssl.Error:
            return

    def _der(self, held: "crypto.X509") -> bytes:
        return self._crypto.dump_certificate(self._crypto.FILETYPE_ASN1, held)


def _message(kind: int, body: bytes) -> bytes:
    return bytes([kind]) + len(body).to_bytes(3, "big") + body


def _parsed(der: bytes) -> Any:
    from cryptography import x509

    return x509.load_der_x509_certificate(der)


@lru_cache(1024)
def _is_rsa(der: bytes) -> bool:
    from cryptography.hazmat.primitives.asymmetric import rsa

    return isinstance(_parsed(der).public_key(), rsa.RSAPublicKey)
