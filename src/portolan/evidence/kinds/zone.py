"""Decisions about a name: what zones and their servers say."""

from portolan.estate.base import IPAddress
from portolan.evidence.kinds.name import NameDecision


class ZoneAssumed(NameDecision, frozen=True):
    kind = "zone-assumed"
    words = "nobody described serves the zone {zone}; it is assumed to be served and delegated"
    assumed = True
    depth = 1

    zone: str


class DelegationAssumed(NameDecision, frozen=True):
    kind = "delegation-assumed"
    words = "the zone {zone} is assumed to be delegated to the servers that hold it"
    assumed = True
    depth = 1

    zone: str


class Undescribed(NameDecision, frozen=True):
    kind = "undescribed"
    words = "no zone of the estate holds {name}; it is assumed not to exist"
    stops = True
    assumed = True
    depth = 1
    absent = ("name",)

    name: str


class Delegated(NameDecision, frozen=True):
    kind = "delegated"
    words = "zone {zone} delegates {child} to {servers}"
    standard = "RFC 1034 section 4.2.1"

    zone: str
    child: str
    servers: str


class DelegationMissing(NameDecision, frozen=True):
    kind = "delegation-missing"
    words = "zone {zone} does not delegate {child}: it is asked itself"
    standard = "RFC 1034 section 4.2.1"
    shown = True

    zone: str
    child: str


class ServerAnswers(NameDecision, frozen=True):
    kind = "server-answers"
    words = "{server} at {address} answers for the zone {zone}"
    depth = 1

    server: str
    address: IPAddress
    zone: str


class ServerHoldsDeeper(NameDecision, frozen=True):
    kind = "server-holds-deeper"
    words = "the server of {zone} holds {deeper} too, and answers for {name} from there"
    standard = "RFC 1034 section 4.3.2"

    zone: str
    deeper: str
    name: str


class ServersFail(NameDecision, frozen=True):
    kind = "servers-fail"
    words = "no name server answers for the zone {zone}: {reasons}"
    standard = "RFC 1034 section 5.3.3"
    stops = True
    depth = 1

    zone: str
    reasons: str


class ZoneBroken(NameDecision, frozen=True):
    kind = "zone-broken"
    words = "the zone {zone} is not loaded by its servers: {why} ({record})"
    standard = "RFC 1035 section 5.2"
    stops = True

    zone: str
    why: str
    record: str


class LoadAssumed(NameDecision, frozen=True):
    kind = "load-assumed"
    words = "the servers of {zone} are assumed to load it; {programs} would not: {why}"
    assumed = True

    zone: str
    why: str
    programs: str


class Wildcard(NameDecision, frozen=True):
    kind = "wildcard"
    words = "no record is named {name}; the wildcard {wildcard} answers"
    standard = "RFC 4592 section 3.3.1"
    shown = True

    name: str
    wildcard: str


class NoSuchName(NameDecision, frozen=True):
    kind = "no-such-name"
    words = "zone {zone} has no name {name}"
    standard = "RFC 2308 section 2.1"
    stops = True
    absent = ("name",)

    zone: str
    name: str


class NoAddress(NameDecision, frozen=True):
    kind = "no-address"
    words = "{name} exists, and has no address record (it has {held})"
    standard = "RFC 2308 section 2.2"
    stops = True

    name: str
    held: str


class RegistrationLapsed(NameDecision, frozen=True):
    kind = "registration-lapsed"
    words = "the registration of {zone} ended {until}: the parent zone knows it no more"
    stops = True
    depth = 1

    zone: str
    until: str


class RegistrationHeld(NameDecision, frozen=True):
    kind = "registration-held"
    words = "the registration of {zone} is on hold: the parent zone does not hold it"
    standard = "RFC 5731 section 2.3"
    stops = True
    depth = 1

    zone: str


class CopyAnswers(NameDecision, frozen=True):
    kind = "copy-answers"
    words = "{server} holds another version of the zone {zone}, called {copy}, and that one answers"
    shown = True
    depth = 1

    server: str
    zone: str
    copy: str


class ViewAnswers(NameDecision, frozen=True):
    kind = "view-answers"
    words = "asked from {asker}, the zone {zone} answers by its view {view}"
    shown = True

    asker: IPAddress | None
    zone: str
    view: str


class BeforeAnswers(NameDecision, frozen=True):
    kind = "before-answers"
    words = "until {until} the zone {zone} stands as it was before the change"
    shown = True

    zone: str
    until: str


class ChangedLately(NameDecision, frozen=True):
    kind = "changed-lately"
    words = "{name} was changed at {changed}: who asked before may get the old answer until {until}"
    standard = "RFC 1034 section 4.3.5"
    shown = True

    name: str
    changed: str
    until: str


class Dname(NameDecision, frozen=True):
    kind = "dname"
    words = "everything below {owner} is an alias: {name} becomes {target}"
    standard = "RFC 6672 section 2.2"
    shown = True

    owner: str
    name: str
    target: str


class DnameLong(NameDecision, frozen=True):
    kind = "dname-long"
    words = "the alias below {owner} makes {name} too long a name"
    standard = "RFC 6672 section 2.2"
    stops = True

    owner: str
    name: str


class DnameEndless(NameDecision, frozen=True):
    kind = "dname-endless"
    words = "everything below {owner} becomes a name below {target}, which lies below {owner} itself: it never ends"
    standard = "RFC 6672 section 2.2"
    stops = True

    owner: str
    target: str


class ApexAlias(NameDecision, frozen=True):
    kind = "apex-alias"
    words = "the servers of {zone} answer with the addresses of {target}"
    shown = True

    zone: str
    target: str


class Signed(NameDecision, frozen=True):
    kind = "signed"
    words = "the signatures of {zone} fit the key that its parent names"
    standard = "RFC 4035 section 5.2"

    zone: str


class SignatureBroken(NameDecision, frozen=True):
    kind = "signature-broken"
    words = "the parent of {zone} names the key {named}, and the zone is signed with {keys}"
    standard = "RFC 4035 section 5.2"
    stops = True

    zone: str
    named: str
    keys: str


class SignatureMissing(NameDecision, frozen=True):
    kind = "signature-missing"
    words = "the parent of {zone} names the key {named}, and the zone is not signed"
    standard = "RFC 4035 section 5.2"
    stops = True

    zone: str
    named: str


class SignatureExpired(NameDecision, frozen=True):
    kind = "signature-expired"
    words = "the signatures of {zone} ended {until}"
    standard = "RFC 4035 section 5.3.1"
    stops = True

    zone: str
    until: str


class OutOfZone(NameDecision, frozen=True):
    kind = "out-of-zone"
    words = "{name} leads to {target}, which lies in no zone of that server, and it asks nobody else"
    standard = "RFC 1034 section 4.3.2"
    stops = True

    name: str
    target: str


class Referred(NameDecision, frozen=True):
    kind = "referred"
    words = "the server knows {name} only as delegated to others, and does not ask them"
    standard = "RFC 1034 section 4.3.2"
    stops = True

    name: str


class SetUnsigned(NameDecision, frozen=True):
    kind = "set-unsigned"
    words = "the {set} records of {name} do not stand before who checks signatures: {fault}"
    standard = "RFC 4035 section 5.3"
    stops = True

    set: str
    name: str
    fault: str


class LargeNeedsTcp(NameDecision, frozen=True):
    kind = "large-needs-tcp"
    words = (
        "the answer for {name} ({set}) has {size} octets and needs TCP, and {server} is not reached by that: {reason}"
    )
    standard = "RFC 7766 section 5"
    stops = True

    name: str
    set: str
    size: int
    server: IPAddress
    reason: str


class TooManyRecords(NameDecision, frozen=True):
    kind = "too-many-records"
    words = "{name} has {count} records of one type, and {resolver} takes {most}"
    stops = True

    resolver: str
    name: str
    count: int
    most: int
