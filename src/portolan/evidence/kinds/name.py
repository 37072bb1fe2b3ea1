"""Decisions about a name: whom the client asks, aliases, HTTPS records."""

from portolan.estate.base import IPAddress
from portolan.evidence.decision import Decision, Leg


class NameDecision(Decision, frozen=True):
    """A decision of this leg."""

    leg = Leg.NAME


class Literal(NameDecision, frozen=True):
    kind = "literal"
    words = "{host} is an address; nobody is asked"
    standard = "RFC 3986 section 3.2.2"
    depth = 0

    host: str


class AsIfAt(NameDecision, frozen=True):
    kind = "as-if-at"
    words = "asked as if {host} were {address}, whatever the name says"
    shown = True
    depth = 0

    host: str
    address: IPAddress


class ZoneGuessed(NameDecision, frozen=True):
    kind = "zone-guessed"
    words = "nobody said where the names of {zone} lead; they are assumed to lead where they should"
    assumed = True
    unsaid = ("records",)

    zone: str


class LoopbackName(NameDecision, frozen=True):
    kind = "loopback-name"
    words = "{host} means the machine itself"
    standard = "RFC 6761 section 6.3"
    shown = True
    depth = 0

    host: str


class HostsLine(NameDecision, frozen=True):
    kind = "hosts-line"
    words = "the hosts file of {device} says that {host} is {address}"
    shown = True
    depth = 0

    device: str
    host: str
    address: IPAddress


class ResolverOrdinary(NameDecision, frozen=True):
    kind = "resolver-ordinary"
    words = "{device} asks an ordinary resolver on the internet"
    assumed = True
    depth = 0

    device: str


class ResolverAsked(NameDecision, frozen=True):
    kind = "resolver-asked"
    words = "{device} asks the resolver {address} on {box}"
    shown = True
    depth = 0

    device: str
    address: IPAddress
    box: str


class ResolverSilent(NameDecision, frozen=True):
    kind = "resolver-silent"
    words = "{device} gets no answer from the resolver {address}: {reason}"
    stops = True
    depth = 0

    device: str
    address: IPAddress
    reason: str


class ResolverOutOfReach(NameDecision, frozen=True):
    kind = "resolver-out-of-reach"
    words = "{device} cannot ask an ordinary resolver on the internet: {reason}"
    stops = True
    depth = 0

    device: str
    address: IPAddress
    reason: str


class ResolverClosed(NameDecision, frozen=True):
    kind = "resolver-closed"
    words = "{device} asks the resolver {address}, and no resolver is there: {reason}"
    stops = True
    depth = 0

    device: str
    address: IPAddress
    reason: str


class ResolverNotRecursive(NameDecision, frozen=True):
    kind = "resolver-not-recursive"
    words = "{service} is a name server without recursion, and {name} lies in none of its zones: it refuses"
    standard = "RFC 1034 section 4.3.1"
    stops = True
    depth = 0

    service: str
    name: str


class Address(NameDecision, frozen=True):
    kind = "address"
    words = "{name} is {address}"
    standard = "RFC 1034 section 4.3.2"
    shown = True

    name: str
    address: IPAddress


class Alias(NameDecision, frozen=True):
    kind = "alias"
    words = "{name} is an alias of {target}"
    standard = "RFC 1034 section 3.6.2"
    shown = True

    name: str
    target: str


class AliasLoop(NameDecision, frozen=True):
    kind = "alias-loop"
    words = "the aliases go round: {chain}"
    standard = "RFC 1034 section 5.2.2"
    stops = True

    chain: str


class AliasLong(NameDecision, frozen=True):
    kind = "alias-long"
    words = "the chain of aliases has more than {links} links; the resolver gives up"
    stops = True

    links: int


class ResolverValidating(NameDecision, frozen=True):
    kind = "resolver-validating"
    words = "{device} asks an ordinary resolver on the internet that checks signatures"
    assumed = True
    depth = 0

    device: str


class ResolverPassesOn(NameDecision, frozen=True):
    kind = "resolver-passes-on"
    words = "the resolver on {box} passes the question on to {address}"
    shown = True
    depth = 1

    box: str
    address: IPAddress


class ResolversInCircle(NameDecision, frozen=True):
    kind = "resolvers-in-circle"
    words = "the resolvers pass the question on in a circle"
    stops = True


class ResolverRefuses(NameDecision, frozen=True):
    kind = "resolver-refuses"
    words = "the resolver on {box} does not look {name} up: it answers {said}"
    stops = True
    depth = 0

    box: str
    name: str
    said: str


class ResolverHolds(NameDecision, frozen=True):
    kind = "resolver-holds"
    words = "the resolver on {box} holds the zone {zone} itself"
    shown = True
    depth = 1

    box: str
    zone: str


class ResolverEmptyZone(NameDecision, frozen=True):
    kind = "resolver-empty-zone"
    words = "resolvers know by themselves that nothing lies below {zone}, and ask nobody: {name} does not exist"
    standard = "RFC 6303 section 4, RFC 6761 section 6, RFC 8375 section 4"
    stops = True

    name: str
    zone: str


class SearchList(NameDecision, frozen=True):
    kind = "search-list"
    words = "{host} stands for {name}: {device} searches {domains}"
    shown = True
    depth = 0

    host: str
    name: str
    device: str
    domains: str


class SearchFailed(NameDecision, frozen=True):
    kind = "search-failed"
    words = "{host} is tried as {name}: {reason}"
    depth = 0

    host: str
    name: str
    reason: str


class LocalName(NameDecision, frozen=True):
    kind = "local-name"
    words = "{box} announces itself as {name} on {network}"
    standard = "RFC 6762 section 3"
    shown = True
    depth = 0

    box: str
    name: str
    network: str


class LocalOnly(NameDecision, frozen=True):
    kind = "local-only"
    words = "{name} is known only on the link of whoever announces it, and nobody does on {device}'s"
    standard = "RFC 6762 section 3"
    stops = True
    depth = 0
    absent = ("name",)

    name: str
    device: str


class Remembered(NameDecision, frozen=True):
    kind = "remembered"
    words = "{cache} last asked for {name} ({records}) at {since} and remembers the answer until {until}"
    standard = "RFC 1034 section 4.3.5"
    shown = True
    depth = 0

    cache: str
    name: str
    since: str
    until: str
    #: The type of the records that were asked for.
    records: str


class RememberedAbsent(NameDecision, frozen=True):
    kind = "remembered-absent"
    words = "{cache} last asked for {name} ({records}) at {since}, and remembers until {until} that there is none"
    standard = "RFC 2308 section 5"
    stops = True
    depth = 0

    cache: str
    name: str
    since: str
    until: str
    #: The type of the records that were asked for.
    records: str


class HttpsAlias(NameDecision, frozen=True):
    kind = "https-alias"
    words = "the HTTPS record of {owner} sends its visitors to {target}"
    standard = "RFC 9460 section 2.4.2"
    shown = True

    owner: str
    target: str


class HttpsAliasLeft(NameDecision, frozen=True):
    kind = "https-alias-left"
    words = "the HTTPS record of {owner} is an alias of {target}, which the client does not follow"
    standard = "RFC 9460 section 2.4.2"

    owner: str
    target: str


class HttpsService(NameDecision, frozen=True):
    kind = "https-service"
    words = "the HTTPS record of {owner} offers {target}, port {port}"
    standard = "RFC 9460 section 2.4.3"
    shown = True

    owner: str
    target: str
    port: int


class HttpsOfferLeft(NameDecision, frozen=True):
    kind = "https-offer-left"
    words = (
        "the HTTPS record of {name} offers {target} at port {port}; the client goes to https by it, and to the name's own "
        "address and port"
    )
    standard = "RFC 9460 section 3"

    name: str
    target: str
    port: int


class HttpsUnfit(NameDecision, frozen=True):
    kind = "https-unfit"
    words = "an HTTPS record of {owner} is passed over: it wants {wanted}"
    standard = "RFC 9460 section 8"

    owner: str
    wanted: str


class HttpsHint(NameDecision, frozen=True):
    kind = "https-hint"
    words = "{target} has no address; the HTTPS record's hint {address} is taken"
    standard = "RFC 9460 section 7.3"
    shown = True

    target: str
    address: IPAddress


class HttpsUpgraded(NameDecision, frozen=True):
    kind = "https-upgraded"
    words = "since {host} has an HTTPS record, the client asks by https"
    standard = "RFC 9460 section 9.5"
    shown = True
    depth = 0

    host: str


class PrivateDropped(NameDecision, frozen=True):
    kind = "private-dropped"
    words = "{resolver} drops the answer for {name}: {address} is private, and no outside name may lead there (rebind protection)"
    stops = True

    resolver: str
    name: str
    address: IPAddress


class RememberedExpired(NameDecision, frozen=True):
    kind = "remembered-expired"
    words = "{box} still gives what it heard of {name} ({types}) at {since}, though it ended at {until}: it serves expired answers"
    standard = "RFC 8767 section 4"

    box: str
    name: str
    since: str
    until: str
    types: str


class NextResolver(NameDecision, frozen=True):
    kind = "next-resolver"
    words = "{box} got no answer from its resolver {address} ({reason}), and asks the next one"

    box: str
    address: IPAddress
    reason: str
