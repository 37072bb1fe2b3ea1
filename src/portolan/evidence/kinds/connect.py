"""Decisions on a connection's way: addresses, routes, forwards, filters, listeners, and the answer's way back."""

from portolan.estate.base import IPAddress
from portolan.estate.service import Listener
from portolan.evidence.decision import Decision, Leg
from portolan.evidence.packet import Seen
from portolan.evidence.start import StartFailure


class ConnectDecision(Decision, frozen=True):
    """A decision of this leg."""

    leg = Leg.CONNECT


class Sent(ConnectDecision, frozen=True):
    kind = "sent"
    words = "{box} sends from {source} towards {target}, by {route}"
    standard = "RFC 1122 section 3.3.1"
    seen_by_itself = True

    box: str
    source: IPAddress
    target: IPAddress
    route: object


class OwnAddress(ConnectDecision, frozen=True):
    kind = "own-address"
    words = "{address} is {box}'s own address: the packet stays on the machine"

    address: IPAddress
    box: str


class NoRoute(ConnectDecision, frozen=True):
    kind = "no-route"
    words = "{box} has no route to {target}"
    standard = "RFC 1122 section 3.3.1.2"
    stops = True
    absent = ("target",)

    box: str
    target: IPAddress


class NoSource(ConnectDecision, frozen=True):
    kind = "no-source"
    words = "{box} has no IPv{version} address to send from"
    standard = "RFC 6724 section 5"
    stops = True

    box: str
    version: int


class NeighbourMissing(ConnectDecision, frozen=True):
    kind = "neighbour-missing"
    words = "nobody on {network} has the address {address}; {box} asks for it in vain"
    standard = "RFC 1122 section 2.3.2"
    stops = True
    absent = ("address",)

    network: str
    address: IPAddress
    box: str


class InterfaceDown(ConnectDecision, frozen=True):
    kind = "interface-down"
    words = "{box}'s interface {interface} is down: nobody answers there for {address}"
    stops = True

    box: str
    interface: str
    address: IPAddress


class MembersApart(ConnectDecision, frozen=True):
    kind = "members-apart"
    words = "{network} keeps its members apart: {box} reaches no {address} on it, only routers"
    stops = True

    network: str
    box: str
    address: IPAddress


class ProxyAnswers(ConnectDecision, frozen=True):
    kind = "proxy-answers"
    words = "{box} answers on {network} for {address}, which is elsewhere"
    standard = "RFC 1027"
    seen_by_itself = True

    box: str
    network: str
    address: IPAddress


class LinkLocalAssumed(ConnectDecision, frozen=True):
    kind = "link-local-assumed"
    words = "nothing says whose link-local address {address} is; it is assumed to be {router}'s, the only router there"
    assumed = True
    seen_by_itself = True

    address: IPAddress
    router: str


class ReversePath(ConnectDecision, frozen=True):
    kind = "reverse-path"
    words = (
        "{box} throws the packet from {source} away: it came by {came}, and an answer would leave by {would} "
        "(reverse-path filtering)"
    )
    standard = "RFC 3704 section 2"
    stops = True

    box: str
    source: IPAddress
    came: str
    would: str


class ReversePathAssumed(ConnectDecision, frozen=True):
    kind = "reverse-path-assumed"
    words = (
        "{box} gets the question from {source} by {came} and would answer by {would}; it does not say whether it drops "
        "such packets (`reverse_path`, rp_filter), and is assumed not to"
    )
    assumed = True

    box: str
    source: IPAddress
    came: str
    would: str


class SourceChecked(ConnectDecision, frozen=True):
    kind = "source-checked"
    words = "the provider of {box}'s line {interface} drops what comes from {source}, which is not this line's address"
    standard = "RFC 2827 section 4"
    stops = True

    box: str
    interface: str
    source: IPAddress


class SourceUncheckedAssumed(ConnectDecision, frozen=True):
    kind = "source-unchecked-assumed"
    words = (
        "{box} answers by {interface} from {source}, which is not this line's address; its provider is assumed to let that "
        "pass, and most do not (`provider_checks_source`)"
    )
    assumed = True

    box: str
    interface: str
    source: IPAddress


class InternetCarries(ConnectDecision, frozen=True):
    kind = "internet-carries"
    words = "the internet carries the packet to {box}"
    seen_by_itself = True

    box: str


class InternetUnknown(ConnectDecision, frozen=True):
    kind = "internet-unknown"
    words = "no described box has the public address {address}; it is assumed that nobody there answers"
    stops = True
    assumed = True
    absent = ("address",)

    address: IPAddress


class InternetPrivate(ConnectDecision, frozen=True):
    kind = "internet-private"
    words = "{address} is no public address; the internet does not carry it"
    standard = "RFC 1918 section 3"
    stops = True

    address: IPAddress


class SourcePrivate(ConnectDecision, frozen=True):
    kind = "source-private"
    words = "the packet leaves for the internet with the source {source}, which is no public address; no answer can come back"
    standard = "RFC 1918 section 3"
    stops = True

    source: IPAddress


class Forwarded(ConnectDecision, frozen=True):
    kind = "forwarded"
    words = "{box} forwards {protocol} port {port} to {to} port {to_port}"
    standard = "RFC 3022 section 2.2"
    shown = True

    box: str
    protocol: str
    port: int
    to: IPAddress
    to_port: int


class Hairpin(ConnectDecision, frozen=True):
    kind = "hairpin"
    words = "{box} turns the packet round: the inside sees it come from {source}"
    standard = "RFC 4787 section 6"
    shown = True

    box: str
    source: IPAddress


class Masqueraded(ConnectDecision, frozen=True):
    kind = "masqueraded"
    words = "{box} sends the packet on under its own address {source}"
    standard = "RFC 3022 section 2.2"

    box: str
    source: IPAddress


class GatewayAssumed(ConnectDecision, frozen=True):
    kind = "gateway-assumed"
    words = "{box} says no gateway; it is assumed to be {gateway}, the only router's on its networks"
    assumed = True
    seen_by_itself = True

    box: str
    gateway: IPAddress


class PassedOn(ConnectDecision, frozen=True):
    kind = "passed-on"
    words = "{box} passes the packet on by {route}"
    standard = "RFC 1812 section 5.2"
    seen_by_itself = True

    box: str
    route: object


class NotARouter(ConnectDecision, frozen=True):
    kind = "not-a-router"
    words = "{box} is no router and {address} is none of its addresses: it throws the packet away"
    standard = "RFC 1122 section 3.3.1.1"
    stops = True
    absent = ("address",)

    box: str
    address: IPAddress


class FilterAllows(ConnectDecision, frozen=True):
    kind = "filter-allows"
    words = "{box}'s filter lets the packet pass ({rule}): {packet}"

    box: str
    rule: str
    packet: Seen


class FilterDrops(ConnectDecision, frozen=True):
    kind = "filter-drops"
    words = "{box}'s filter drops the packet ({rule}): {packet}"
    stops = True

    box: str
    rule: str
    packet: Seen


class FilterRejects(ConnectDecision, frozen=True):
    kind = "filter-rejects"
    words = "{box}'s filter rejects the packet with {answer} ({rule}): {packet}"
    standard = "RFC 1812 section 5.2.7.1"
    stops = True

    box: str
    rule: str
    packet: Seen
    answer: str


class BasicsAssumed(ConnectDecision, frozen=True):
    kind = "basics-assumed"
    words = (
        "{box}'s filter does not say whether {basic} pass before its rules; they are assumed to. "
        "By its {chain} rules alone this would be stopped: {packet}"
    )
    assumed = True
    seen_by_itself = True

    box: str
    basic: str
    chain: str
    packet: Seen


class NeighbourUnheard(ConnectDecision, frozen=True):
    kind = "neighbour-unheard"
    words = "{box} does not find its neighbour {address}, for neighbour discovery is stopped: {reason}"
    standard = "RFC 4890 section 4.4.1"
    stops = True

    box: str
    address: IPAddress
    reason: str


class LoopbackLeaves(ConnectDecision, frozen=True):
    kind = "loopback-leaves"
    words = "{box} lets nothing leave that comes from its loopback address {source}"
    standard = "RFC 1122 section 3.2.1.3"
    stops = True

    box: str
    source: IPAddress


class RedirectNowhere(ConnectDecision, frozen=True):
    kind = "redirect-nowhere"
    words = "{box} redirects to itself, and its interface {interface} has no address for that"
    stops = True

    box: str
    interface: str


class GroupAllows(ConnectDecision, frozen=True):
    kind = "group-allows"
    words = "security group {group} on {interface} lets the packet {way}"

    interface: str
    group: str
    way: str


class GroupDrops(ConnectDecision, frozen=True):
    kind = "group-drops"
    words = "no security group on {interface} ({groups}) lets the packet {way}: {packet}"
    stops = True

    interface: str
    groups: str
    way: str
    packet: Seen


class ListAllows(ConnectDecision, frozen=True):
    kind = "list-allows"
    words = "the access list of {network} lets the packet {way} ({line})"

    network: str
    way: str
    line: str
    packet: Seen


class ListDrops(ConnectDecision, frozen=True):
    kind = "list-drops"
    words = "the access list of {network} does not let the packet {way} ({line}): {packet}"
    stops = True

    network: str
    way: str
    line: str
    packet: Seen


class LineBlocks(ConnectDecision, frozen=True):
    kind = "line-blocks"
    words = "the provider of {box}'s line lets nobody connect to port {port}"
    stops = True

    box: str
    port: int


class RouteEnds(ConnectDecision, frozen=True):
    kind = "route-ends"
    words = "{box} has a route to {target} that ends there: {how}"
    standard = "RFC 1812 section 5.2.7.1"
    stops = True

    box: str
    target: IPAddress
    how: str


class RulesUnread(ConnectDecision, frozen=True):
    kind = "rules-unread"
    words = "of {box}'s {what} {lines} could not be read into the estate; whether packets pass may rest on that"
    assumed = True
    loud = True

    box: str
    what: str
    lines: str


class AddressTwice(ConnectDecision, frozen=True):
    kind = "address-twice"
    words = "{address} is on {network} more than once ({boxes}): now one answers, now another; here {here} does"
    standard = "RFC 5227 section 1"
    assumed = True

    address: IPAddress
    network: str
    boxes: str
    here: str


class OneToOne(ConnectDecision, frozen=True):
    kind = "one-to-one"
    words = "{box} sends on to {inside} what is asked of {outside}"
    standard = "RFC 3022 section 2.1"

    box: str
    outside: IPAddress
    inside: IPAddress


class SourceFixed(ConnectDecision, frozen=True):
    kind = "source-fixed"
    words = "{box} sends the packet on under the address {source}"
    standard = "RFC 3022 section 2.1"

    box: str
    source: IPAddress


class Listens(ConnectDecision, frozen=True):
    kind = "listens"
    words = "{box} takes the connection: {service} listens on {listener}"
    shown = True

    box: str
    service: str
    listener: Listener


class NothingListens(ConnectDecision, frozen=True):
    kind = "nothing-listens"
    words = "{box} has nothing that listens on {protocol} port {port} at {address}"
    standard = "RFC 9293 section 3.10.7.1"
    stops = True

    box: str
    protocol: str
    port: int
    address: IPAddress


class ServiceStopped(ConnectDecision, frozen=True):
    kind = "service-stopped"
    words = "{box}'s {service} would listen on {listener}, and is stopped"
    stops = True

    box: str
    service: str
    listener: Listener


class ServiceFailed(ConnectDecision, frozen=True):
    kind = "service-failed"
    words = "{box}'s {service} would listen on {listener}, and does not start: {reason}"
    stops = True

    box: str
    service: str
    listener: Listener
    reason: StartFailure


class TurnsInCircles(ConnectDecision, frozen=True):
    kind = "turns-in-circles"
    words = "the packet goes round between routers until its time to live ends, at {box}"
    standard = "RFC 791 section 3.2"
    stops = True

    box: str


class OwnSource(ConnectDecision, frozen=True):
    kind = "own-source"
    words = "{box} throws a packet away that comes in from its own address {source}"
    standard = "RFC 1812 section 5.3.7"
    stops = True

    box: str
    source: IPAddress


class ReplyStranger(ConnectDecision, frozen=True):
    kind = "reply-stranger"
    words = "the answer reaches {box} from {source}, and {box} asked {asked}: it is thrown away"
    standard = "RFC 9293 section 3.10.7.3"
    stops = True
    of_the_answer = True

    box: str
    source: str
    asked: str


class ReplyAstray(ConnectDecision, frozen=True):
    kind = "reply-astray"
    words = "the answer ends at {box}, which did not ask"
    stops = True
    of_the_answer = True

    box: str


class LaterRejected(ConnectDecision, frozen=True):
    kind = "later-rejected"
    words = "the connection opens, and what follows is rejected: {reason}"
    standard = "RFC 9293 section 3.10.7.4"
    stops = True
    of_the_answer = True

    reason: str


class LaterLost(ConnectDecision, frozen=True):
    kind = "later-lost"
    words = "the connection opens, and what follows is lost: {reason}"
    stops = True
    of_the_answer = True

    reason: str


class ReplyLost(ConnectDecision, frozen=True):
    kind = "reply-lost"
    words = "the answer is lost on its way back: {reason}"
    stops = True
    of_the_answer = True

    reason: str


class Overtaken(ConnectDecision, frozen=True):
    kind = "overtaken"
    words = "IPv{slow} does not answer; IPv{fast}, tried beside it a moment later, does"
    standard = "RFC 8305 section 5"
    shown = True

    slow: int
    fast: int
