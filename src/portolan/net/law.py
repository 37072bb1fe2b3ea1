"""All the law of this room: every kind of decision on a packet's way, with its words and its standard."""

from portolan.evidence.decision import Law

SENT = Law("way", "sent", "{0} sends from {1} towards {2}, by {3}", "RFC 1122 section 3.3.1")
OWN = Law("way", "own-address", "{0} is {1}'s own address: the packet stays on the machine")
NO_ROUTE = Law("way", "no-route", "{0} has no route to {1}", "RFC 1122 section 3.3.1.2", stops=True)
NO_SOURCE = Law("way", "no-source", "{0} has no IPv{1} address to send from", "RFC 6724 section 5", stops=True)
NEIGHBOUR_MISSING = Law(
    "way",
    "neighbour-missing",
    "nobody on {0} has the address {1}; {2} asks for it in vain",
    "RFC 1122 section 2.3.2",
    stops=True,
)
INTERNET_CARRIES = Law("way", "internet-carries", "the internet carries it to {0}")
INTERNET_UNKNOWN = Law(
    "way",
    "internet-unknown",
    "no described box has the public address {0}; it is assumed that nobody there answers",
    stops=True,
    assumed=True,
)
INTERNET_PRIVATE = Law(
    "way",
    "internet-private",
    "{0} is no public address; the internet does not carry it",
    "RFC 1918 section 3",
    stops=True,
)
SOURCE_PRIVATE = Law(
    "way",
    "source-private",
    "the packet leaves for the internet with the source {0}, which is no public address; no answer can come back",
    "RFC 1918 section 3",
    stops=True,
)
FORWARDED = Law("way", "forwarded", "{0} forwards {1} port {2} to {3} port {4}", "RFC 3022 section 2.2")
HAIRPIN = Law("way", "hairpin", "{0} turns it round: the inside sees it come from {1}", "RFC 4787 section 6")
MASQUERADED = Law("way", "masqueraded", "{0} sends it on under its own address {1}", "RFC 3022 section 2.2")
PASSED_ON = Law("way", "passed-on", "{0} passes it on by {1}", "RFC 1812 section 5.2")
NOT_A_ROUTER = Law(
    "way",
    "not-a-router",
    "{0} is no router and {1} is none of its addresses: it throws the packet away",
    "RFC 1122 section 3.3.1.1",
    stops=True,
)
FILTER_ALLOWS = Law("way", "filter-allows", "{0}'s filter lets it pass ({1}): {2}")
FILTER_DROPS = Law("way", "filter-drops", "{0}'s filter drops it ({1}): {2}", stops=True)
FILTER_REJECTS = Law(
    "way", "filter-rejects", "{0}'s filter rejects it with {3} ({1}): {2}", "RFC 1812 section 5.2.7.1", stops=True
)
GROUP_ALLOWS = Law("way", "group-allows", "security group {1} on {0} lets it {2}")
GROUP_DROPS = Law("way", "group-drops", "no security group on {0} ({1}) lets it {2}: {3}", stops=True)
LIST_ALLOWS = Law("way", "list-allows", "the access list of {0} lets it {1} ({2})")
LIST_DENIES = Law("way", "list-denies", "the access list of {0} does not let it {1} ({2}): {3}", stops=True)
LINE_BLOCKS = Law("way", "line-blocks", "the provider of {0}'s line lets nobody connect to port {1}", stops=True)
ROUTE_ENDS = Law(
    "way", "route-ends", "{0} has a route to {1} that ends there: {2}", "RFC 1812 section 5.2.7.1", stops=True
)
ADDRESS_TWICE = Law(
    "way",
    "address-twice",
    "{0} is on {1} more than once ({2}): now one answers, now another; here {3} does",
    "RFC 5227 section 1",
    assumed=True,
)
ONE_TO_ONE = Law("way", "one-to-one", "{0} sends on to {2} what is asked of {1}", "RFC 3022 section 2.1")
SOURCE_FIXED = Law("way", "source-fixed", "{0} sends it on under the address {1}", "RFC 3022 section 2.1")
LISTENS = Law("way", "listens", "{0} takes it: {1} listens on {2}")
NOTHING_LISTENS = Law(
    "way",
    "nothing-listens",
    "{0} has nothing that listens on {1} port {2} at {3}",
    "RFC 9293 section 3.10.7.1",
    stops=True,
)
SERVICE_STOPPED = Law("way", "service-stopped", "{0}'s {1} would listen on {2}, and is stopped", stops=True)
SERVICE_FAILED = Law("way", "service-failed", "{0}'s {1} would listen on {2}, and does not start: {3}", stops=True)
TURNS_IN_CIRCLES = Law(
    "way",
    "turns-in-circles",
    "the packet goes round between routers until its time to live ends, at {0}",
    "RFC 791 section 3.2",
    stops=True,
)
OWN_SOURCE = Law(
    "way",
    "own-source",
    "{0} throws a packet away that comes in from its own address {1}",
    "RFC 1812 section 5.3.7",
    stops=True,
)
REPLY_STRANGER = Law(
    "way",
    "reply-stranger",
    "the answer reaches {0} from {1}, and {0} asked {2}: it is thrown away",
    "RFC 9293 section 3.10.7.3",
    stops=True,
)
REPLY_ASTRAY = Law("way", "reply-astray", "the answer ends at {0}, which did not ask", stops=True)
LATER_LOST = Law("way", "later-lost", "the connection opens, and what follows is lost: {0}", stops=True)
REPLY_LOST = Law("way", "reply-lost", "the answer is lost on its way back: {0}", stops=True)

#: How Linux turns an ICMP message about a connection into the connection's error (RFC 1122 section 4.2.3.9).
ICMP_RESULT = {
    "port-unreachable": "refused",
    "host-unreachable": "unreachable",
    "net-unreachable": "unreachable",
    "host-prohibited": "unreachable",
    "net-prohibited": "unreachable",
    "admin-prohibited": "unreachable",
    "protocol-unreachable": "unreachable",
    "policy-fail": "unreachable",
    "time-exceeded": "unreachable",
}
