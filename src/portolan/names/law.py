"""All the law of this room: every kind of decision about a name, with its words and its standard."""

from portolan.evidence.decision import Law

LITERAL = Law("name", "literal", "{0} is an address; nobody is asked", "RFC 3986 section 3.2.2")
LOOPBACK_NAME = Law("name", "loopback-name", "{0} means the machine itself", "RFC 6761 section 6.3")
HOSTS_LINE = Law("name", "hosts-line", "the hosts file of {0} says that {1} is {2}")
RESOLVER_ORDINARY = Law("name", "resolver-ordinary", "{0} asks an ordinary resolver on the internet", assumed=True)
RESOLVER_ASKED = Law("name", "resolver-asked", "{0} asks the resolver {1} on {2}")
RESOLVER_SILENT = Law("name", "resolver-silent", "{0} gets no answer from the resolver {1}: {2}", stops=True)
RESOLVER_CLOSED = Law("name", "resolver-closed", "{0} asks the resolver {1}, and no resolver is there: {2}", stops=True)
RESOLVER_NOT_RECURSIVE = Law("name", "resolver-not-recursive",
                             "{0} is a name server without recursion, and {1} lies in none of its zones: it refuses",
                             "RFC 1034 section 4.3.1", stops=True)  # fmt: skip
ZONE_ASSUMED = Law("name", "zone-assumed", "nobody described serves the zone {0}; it is assumed to be served and delegated",
                   assumed=True)  # fmt: skip
DELEGATION_ASSUMED = Law("name", "delegation-assumed", "the zone {0} is assumed to be delegated to the servers that hold it",
                         assumed=True)  # fmt: skip
UNDESCRIBED = Law("name", "undescribed", "no zone of the estate holds {0}; it is assumed not to exist",
                  stops=True, assumed=True)  # fmt: skip
DELEGATED = Law("name", "delegated", "zone {0} delegates {1} to {2}", "RFC 1034 section 4.2.1")
DELEGATION_MISSING = Law(
    "name", "delegation-missing", "zone {0} does not delegate {1}: it is asked itself", "RFC 1034 section 4.2.1"
)
SERVER_ANSWERS = Law("name", "server-answers", "{0} at {1} answers for the zone {2}")
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

#: How many aliases a resolver follows, as the resolver that rehearsals use does.
MOST_ALIASES = 11
