"""All the law of this room: every kind of decision about a request, with its words and its standard."""

from portolan.evidence.decision import Law

SITE_NAMED = Law("answer", "site-named", "the site {0} answers to {1}", "RFC 9110 section 7.2")
SITE_PATTERN = Law("answer", "site-pattern", "the site {0} answers to {1}, as {2}", "RFC 9110 section 7.2")
SITE_DEFAULT = Law(
    "answer", "site-default", "no site on {0} is named {1}: the default site {2} takes it", "RFC 9110 section 7.2"
)
SITE_ONLY = Law("answer", "site-only", "{0} answers to every name with pages of its own", assumed=True)
PROGRAM_ASSUMED = Law(
    "answer", "program-assumed", "{0} says no program; it is assumed to follow nginx's rules here", assumed=True
)
MAIN_SERVER = Law(
    "answer",
    "main-server",
    "no site is bound to {0}; {1}'s main server answers, and is assumed to have no page",
    stops=True,
    assumed=True,
)
PLAIN_ON_TLS = Law(
    "answer", "plain-on-tls", "plain HTTP is sent to {0}, which expects TLS", "RFC 9110 section 4.2.2", stops=True
)
LINE_TOO_LONG = Law(
    "answer",
    "line-too-long",
    "the request line has {0} octets; {1} takes {2} at most: the redirects make it grow",
    "RFC 9110 section 15.5.15",
    stops=True,
)
PATH_REFUSED = Law("answer", "path-refused", "{0} does not take the path {1}", "RFC 9110 section 15.5", stops=True)
NOT_WEB = Law("answer", "not-web", "{0} on {1} speaks no HTTP", "RFC 9110 section 2.1", stops=True)
REDIRECTED = Law("answer", "redirected", "{0} sends the visitor to {1} ({2})", "RFC 9110 section 15.4")
FOLDER_SLASH = Law("answer", "folder-slash", "{0} is a folder: {1} sends the visitor to {2}", "RFC 9110 section 15.4.2")
ANSWERS = Law("answer", "answers", "{0} answers everything with {1}", "RFC 9110 section 15")
PAGE = Law("answer", "page", "{0} gives {1}", "RFC 9110 section 15.3.1")
PAGE_ASSUMED = Law(
    "answer", "page-assumed", "{0} does not say what its folder holds; {1} is assumed to exist", assumed=True
)
LISTED = Law("answer", "listed", "{0} lists the folder {1}")
NO_DEFAULT = Law(
    "answer",
    "no-default",
    "the folder {1} of {0} has no {2}, and may not be listed",
    "RFC 9110 section 15.5.4",
    stops=True,
)
NOT_FOUND = Law("answer", "not-found", "{0} has no {1}", "RFC 9110 section 15.5.5", stops=True)
