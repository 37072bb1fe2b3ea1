"""All the law of this room: every kind of decision about a name, with its words and its standard."""

from ipaddress import IPv4Address, IPv6Address

from portolan.evidence.decision import Law

LITERAL = Law("name", "literal", "{0} is an address; nobody is asked", "RFC 3986 section 3.2.2")
LOOPBACK_NAME = Law("name", "loopback-name", "{0} means the machine itself", "RFC 6761 section 6.3")
HOSTS_LINE = Law("name", "hosts-line", "the hosts file of {0} says that {1} is {2}")
RESOLVER_ORDINARY = Law("name", "resolver-ordinary", "{0} asks an ordinary resolver on the internet", assumed=True)
RESOLVER_ASKED = Law("name", "resolver-asked", "{0} asks the resolver {1} on {2}")
RESOLVER_SILENT = Law("name", "resolver-silent", "{0} gets no answer from the resolver {1}: {2}", stops=True)
RESOLVER_OUT_OF_REACH = Law(
    "name", "resolver-silent", "{0} cannot ask an ordinary resolver on the internet: {2}", stops=True
)
RESOLVER_CLOSED = Law("name", "resolver-closed", "{0} asks the resolver {1}, and no resolver is there: {2}", stops=True)
RESOLVER_NOT_RECURSIVE = Law(
    "name",
    "resolver-not-recursive",
    "{0} is a name server without recursion, and {1} lies in none of its zones: it refuses",
    "RFC 1034 section 4.3.1",
    stops=True,
)
ZONE_ASSUMED = Law(
    "name",
    "zone-assumed",
    "nobody described serves the zone {0}; it is assumed to be served and delegated",
    assumed=True,
)
DELEGATION_ASSUMED = Law(
    "name", "delegation-assumed", "the zone {0} is assumed to be delegated to the servers that hold it", assumed=True
)
UNDESCRIBED = Law(
    "name", "undescribed", "no zone of the estate holds {0}; it is assumed not to exist", stops=True, assumed=True
)
DELEGATED = Law("name", "delegated", "zone {0} delegates {1} to {2}", "RFC 1034 section 4.2.1")
DELEGATION_MISSING = Law(
    "name", "delegation-missing", "zone {0} does not delegate {1}: it is asked itself", "RFC 1034 section 4.2.1"
)
SERVER_ANSWERS = Law("name", "server-answers", "{0} at {1} answers for the zone {2}")
SERVER_HOLDS_DEEPER = Law(
    "name",
    "server-holds-deeper",
    "the server of {0} holds {1} too, and answers for {2} from there",
    "RFC 1034 section 4.3.2",
)
SERVERS_FAIL = Law(
    "name", "servers-fail", "no name server answers for the zone {0}: {1}", "RFC 1034 section 5.3.3", stops=True
)
ZONE_BROKEN = Law(
    "name", "zone-broken", "the zone {0} is not loaded by its servers: {1} ({2})", "RFC 1034 section 3.6.2", stops=True
)
ADDRESS = Law("name", "address", "{0} is {1}", "RFC 1034 section 4.3.2")
WILDCARD = Law("name", "wildcard", "no record is named {0}; the wildcard {1} answers", "RFC 4592 section 3.3.1")
ALIAS = Law("name", "alias", "{0} is an alias of {1}", "RFC 1034 section 3.6.2")
ALIAS_LOOP = Law("name", "alias-loop", "the aliases go round: {0}", "RFC 1034 section 5.2.2", stops=True)
ALIAS_LONG = Law(
    "name", "alias-long", "the chain of aliases has more than {0} links; the resolver gives up", stops=True
)
NO_SUCH_NAME = Law("name", "no-such-name", "zone {0} has no name {1}", "RFC 2308 section 2.1", stops=True)
NO_ADDRESS = Law(
    "name", "no-address", "{0} exists, and has no address record (it has {1})", "RFC 2308 section 2.2", stops=True
)

RESOLVER_VALIDATING = Law(
    "name", "resolver-ordinary", "{0} asks an ordinary resolver on the internet that checks signatures", assumed=True
)
RESOLVER_PASSES_ON = Law("name", "resolver-passes-on", "the resolver on {0} passes the question on to {1}")
RESOLVERS_IN_CIRCLE = Law("name", "resolvers-in-circle", "the resolvers pass the question on in a circle", stops=True)
RESOLVER_REFUSES = Law(
    "name", "resolver-refuses", "the resolver on {0} does not look {1} up: it answers {2}", stops=True
)
RESOLVER_HOLDS = Law("name", "resolver-holds", "the resolver on {0} holds the zone {1} itself")
RESOLVER_EMPTY_ZONE = Law(
    "name",
    "resolver-empty-zone",
    "resolvers know by themselves that nothing lies below {1}, and ask nobody: {0} does not exist",
    "RFC 6303 section 4, RFC 6761 section 6, RFC 8375 section 4",
    stops=True,
)
SEARCH_LIST = Law("name", "search-list", "{0} stands for {1}: {2} searches {3}")
SEARCH_FAILED = Law("name", "search-failed", "{0} is tried as {1}: {2}")
LOCAL_NAME = Law("name", "local-name", "{0} announces itself as {1} on {2}", "RFC 6762 section 3")
LOCAL_ONLY = Law(
    "name",
    "local-only",
    "{0} is known only on the link of whoever announces it, and nobody does on {1}'s",
    "RFC 6762 section 3",
    stops=True,
)
REGISTRATION_LAPSED = Law(
    "name", "registration-lapsed", "the registration of {0} ended {1}: the parent zone knows it no more", stops=True
)
REGISTRATION_HELD = Law(
    "name",
    "registration-held",
    "the registration of {0} is on hold: the parent zone does not hold it",
    "RFC 5731 section 2.3",
    stops=True,
)
COPY_ANSWERS = Law(
    "name", "copy-answers", "{0} holds another version of the zone {1}, called {2}, and that one answers"
)
VIEW_ANSWERS = Law("name", "view-answers", "asked from {0}, the zone {1} answers by its view {2}")
BEFORE_ANSWERS = Law("name", "before-answers", "until {1} the zone {0} stands as it was before the change")
REMEMBERED = Law(
    "name", "remembered", "{0} last asked for {1} at {2} and remembers the answer until {3}", "RFC 1034 section 4.3.5"
)
REMEMBERED_ABSENT = Law(
    "name",
    "remembered-absent",
    "{0} last asked for {1} at {2}, and remembers until {3} that there is none",
    "RFC 2308 section 5",
    stops=True,
)
CHANGED_LATELY = Law(
    "name",
    "changed-lately",
    "{0} was changed at {1}: who asked before may get the old answer until {2}",
    "RFC 1034 section 4.3.5",
)
DNAME_ALIAS = Law("name", "dname", "everything below {0} is an alias: {1} becomes {2}", "RFC 6672 section 2.2")
DNAME_LONG = Law(
    "name", "dname-long", "the alias below {0} makes {1} too long a name", "RFC 6672 section 2.2", stops=True
)
DNAME_ENDLESS = Law(
    "name",
    "dname-endless",
    "everything below {0} becomes a name below {1}, which lies below {0} itself: it never ends",
    "RFC 6672 section 2.2",
    stops=True,
)
APEX_ALIAS = Law("name", "apex-alias", "the servers of {0} answer with the addresses of {1}")
SIGNED = Law("name", "signed", "the signatures of {0} fit the key that its parent names", "RFC 4035 section 5.2")
SIGNATURE_BROKEN = Law(
    "name",
    "signature-broken",
    "the parent of {0} names the key {1}, and the zone is signed with {2}",
    "RFC 4035 section 5.2",
    stops=True,
)
SIGNATURE_MISSING = Law(
    "name",
    "signature-missing",
    "the parent of {0} names the key {1}, and the zone is not signed",
    "RFC 4035 section 5.2",
    stops=True,
)
SIGNATURE_EXPIRED = Law(
    "name", "signature-expired", "the signatures of {0} ended {1}", "RFC 4035 section 5.3.1", stops=True
)
OUT_OF_ZONE = Law(
    "name",
    "out-of-zone",
    "{0} leads to {1}, which lies in no zone of that server, and it asks nobody else",
    "RFC 1034 section 4.3.2",
    stops=True,
)
REFERRED = Law(
    "name",
    "referred",
    "the server knows {0} only as delegated to others, and does not ask them",
    "RFC 1034 section 4.3.2",
    stops=True,
)
HTTPS_ALIAS = Law("name", "https-alias", "the HTTPS record of {0} sends its visitors to {1}", "RFC 9460 section 2.4.2")
HTTPS_ALIAS_LEFT = Law(
    "name",
    "https-alias-left",
    "the HTTPS record of {0} is an alias of {1}, which the client does not follow",
    "RFC 9460 section 2.4.2",
)
HTTPS_SERVICE = Law("name", "https-service", "the HTTPS record of {0} offers {1}, port {2}", "RFC 9460 section 2.4.3")
HTTPS_UNFIT = Law("name", "https-unfit", "an HTTPS record of {0} is passed over: it wants {1}", "RFC 9460 section 8")
HTTPS_HINT = Law(
    "name", "https-hint", "{0} has no address; the HTTPS record's hint {1} is taken", "RFC 9460 section 7.3"
)

#: Names that resolvers as installed answer by themselves with "no such name" (measured on Unbound; RFC 6303, 6761, 7686, 8375).
EMPTY_ZONES = frozenset(
    (
        "test",
        "invalid",
        "onion",
        "home.arpa",
        "127.in-addr.arpa",
        "10.in-addr.arpa",
        "168.192.in-addr.arpa",
        "254.169.in-addr.arpa",
        *(f"{number}.172.in-addr.arpa" for number in range(16, 32)),
        "2.0.192.in-addr.arpa",
        "100.51.198.in-addr.arpa",
        "113.0.203.in-addr.arpa",
        "255.255.255.255.in-addr.arpa",
        "0.in-addr.arpa",
        "d.f.ip6.arpa",
        "8.e.f.ip6.arpa",
        "9.e.f.ip6.arpa",
        "a.e.f.ip6.arpa",
        "b.e.f.ip6.arpa",
        "8.b.d.0.1.0.0.2.ip6.arpa",
    )
)
#: How many aliases a resolver follows, as the resolver that rehearsals use does.
MOST_ALIASES = 11
#: Where ordinary resolvers are thought to be, by IP version: benchmarking ranges (RFC 2544, RFC 5180), which no visitor uses.
ORDINARY_RESOLVERS = (IPv4Address("198.18.0.53"), IPv6Address("2001:2::53"))
#: Some address of the internet that nobody has (RFC 2544): to see by which address a box is seen there.
SOMEWHERE = IPv4Address("198.18.0.1")
