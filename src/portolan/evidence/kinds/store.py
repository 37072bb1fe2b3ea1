"""Decisions of object stores: which bucket is asked, who may read, what lies under a key."""

from portolan.evidence.kinds.http import HttpDecision
from portolan.evidence.kinds.tls import TlsDecision


class StoreShows(TlsDecision, frozen=True):
    kind = "store-shows"
    words = "{store} shows its own certificate, for {at} and one label before it"
    standard = "RFC 9525 section 6.3"

    store: str
    at: str


class BucketAsked(HttpDecision, frozen=True):
    kind = "bucket-asked"
    words = "the address of {store} that serves {way} is asked for the bucket {bucket}, found by {by}"
    shown = True

    way: str
    store: str
    bucket: str
    by: str


class BucketMissing(HttpDecision, frozen=True):
    kind = "bucket-missing"
    words = "{store} has no bucket {bucket}"
    stops = True

    store: str
    bucket: str


class BucketUnsaid(HttpDecision, frozen=True):
    kind = "bucket-unsaid"
    words = "{store} is asked for no bucket"
    stops = True

    store: str


class BucketSpelled(HttpDecision, frozen=True):
    kind = "bucket-spelled"
    words = "{store} takes the host name as it is written, and no bucket is written '{said}'"
    standard = "RFC 9110 section 4.2.3"
    stops = True

    store: str
    said: str


class StrangersBucket(HttpDecision, frozen=True):
    kind = "strangers-bucket"
    words = "the bucket {bucket} is somebody else's: the page is theirs"
    shown = True

    bucket: str


class StoreMethod(HttpDecision, frozen=True):
    kind = "store-method"
    words = "the address of {store} that serves {way} does not take {method}"
    standard = "RFC 9110 section 15.5.6"
    stops = True

    way: str
    store: str
    method: str


class WebOff(HttpDecision, frozen=True):
    kind = "web-off"
    words = "the bucket {bucket} serves no pages: that is not switched on"
    stops = True

    bucket: str


class ObjectSends(HttpDecision, frozen=True):
    kind = "object-sends"
    words = "the object {key} of the bucket {bucket} sends the visitor to {target} (301)"
    standard = "RFC 9110 section 15.4.2"
    shown = True

    key: str
    bucket: str
    target: str


class SendsAll(HttpDecision, frozen=True):
    kind = "sends-all"
    words = "the bucket {bucket} sends everything to {target} ({status})"
    standard = "RFC 9110 section 15.4.2"
    shown = True

    bucket: str
    target: str
    status: int


class StoreRuleTaken(HttpDecision, frozen=True):
    kind = "store-rule-taken"
    words = "a redirect rule of the bucket {bucket} sends to {target} ({status})"
    standard = "RFC 9110 section 15.4"
    shown = True

    bucket: str
    target: str
    status: int


class Granted(HttpDecision, frozen=True):
    kind = "granted"
    words = "a grant lets {who} read {key} of the bucket {bucket}"
    shown = True

    who: str
    key: str
    bucket: str


class Sealed(HttpDecision, frozen=True):
    kind = "sealed"
    words = "the bucket {bucket} is sealed against public reading: the grant to everyone does not count"
    stops = True

    bucket: str


class GrantDenies(HttpDecision, frozen=True):
    kind = "grant-denies"
    words = "a grant forbids {who} to read {key} of the bucket {bucket}, whatever the others allow"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    who: str
    key: str
    bucket: str


class NotReadable(HttpDecision, frozen=True):
    kind = "not-readable"
    words = "no grant lets {who} read {key} of the bucket {bucket}"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    who: str
    key: str
    bucket: str


class KeyMissing(HttpDecision, frozen=True):
    kind = "key-missing"
    words = "the bucket {bucket} holds nothing under the key {key}"
    standard = "RFC 9110 section 15.5.5"
    stops = True

    bucket: str
    key: str


class KeyHidden(HttpDecision, frozen=True):
    kind = "key-hidden"
    words = "the bucket {bucket} holds nothing under the key {key}, and does not tell {who} so: that takes the right to list"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    bucket: str
    key: str
    who: str


class ListDenied(HttpDecision, frozen=True):
    kind = "list-denied"
    words = "no page stands at / here: the list of the bucket {bucket} does, and no grant lets {who} read it"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    bucket: str
    who: str


class Listing(HttpDecision, frozen=True):
    kind = "listing"
    words = "the list of the keys of the bucket {bucket}"
    shown = True

    bucket: str


class ObjectGiven(HttpDecision, frozen=True):
    kind = "object-given"
    words = "the object {key} of the bucket {bucket}"
    shown = True

    key: str
    bucket: str


class ObjectAssumed(HttpDecision, frozen=True):
    kind = "object-assumed"
    words = "nothing says what the bucket {bucket} holds; {key} is assumed to be in it"
    assumed = True
    unsaid = ("objects", "copy", "inventory")

    bucket: str
    key: str


class StoreIndex(HttpDecision, frozen=True):
    kind = "store-index"
    words = "the path ends in a slash: the bucket {bucket} gives {key}"
    shown = True

    bucket: str
    key: str


class StoreSlash(HttpDecision, frozen=True):
    kind = "store-slash"
    words = "{key} is no key, and {key}/ has an index file: the bucket {bucket} sends to {target} ({status})"
    standard = "RFC 9110 section 15.4"
    shown = True

    key: str
    bucket: str
    target: str
    status: int


class StoreErrorDocument(HttpDecision, frozen=True):
    kind = "store-error-document"
    words = "the bucket {bucket} gives its error document {key} with {status}"
    shown = True

    bucket: str
    key: str
    status: int


class StoreErrorMissing(HttpDecision, frozen=True):
    kind = "store-error-missing"
    words = "the error document {key} of the bucket {bucket} cannot be given: {why}"
    shown = True

    key: str
    bucket: str
    why: str
