"""Decisions about a request: which site takes it, what it gives, where redirects lead."""

from portolan.estate.base import IPAddress
from portolan.estate.service import Listener
from portolan.evidence.decision import Decision, Leg


class HttpDecision(Decision, frozen=True):
    """A decision of this leg."""

    leg = Leg.HTTP


class Loop(HttpDecision, frozen=True):
    kind = "loop"
    words = "{target} was asked before: the redirects go round"
    standard = "RFC 9110 section 15.4"
    stops = True

    target: object


class TooMany(HttpDecision, frozen=True):
    kind = "too-many"
    words = "{count} redirects, and the visitor gives up after {limit}"
    standard = "RFC 9110 section 15.4"
    stops = True

    count: int
    limit: int


class BadTarget(HttpDecision, frozen=True):
    kind = "bad-target"
    words = "the redirect leads nowhere: {reason}"
    standard = "RFC 9110 section 10.2.2"
    stops = True

    reason: str


class SiteNamed(HttpDecision, frozen=True):
    kind = "site-named"
    words = "the site {site} answers to {name}{written}"
    standard = "RFC 9110 section 7.2"
    shown = True

    site: str
    name: str
    #: Which configuration file says so, where that is stated.
    written: str = ""


class SitePattern(HttpDecision, frozen=True):
    kind = "site-pattern"
    words = "the site {site} answers to {name}, as {pattern}{written}"
    standard = "RFC 9110 section 7.2"
    shown = True

    site: str
    name: str
    pattern: str
    #: Which configuration file says so, where that is stated.
    written: str = ""


class SiteDefault(HttpDecision, frozen=True):
    kind = "site-default"
    words = "no site on {listener} is named {name}: the default site {site} takes the request{written}"
    standard = "RFC 9110 section 7.2"
    shown = True

    listener: Listener
    name: str
    site: str
    #: Which configuration file says so, where that is stated.
    written: str = ""


class SiteOnly(HttpDecision, frozen=True):
    kind = "site-only"
    words = "{service} answers to every name with pages of its own"
    assumed = True
    shown = True

    service: str


class ProgramAssumed(HttpDecision, frozen=True):
    kind = "program-assumed"
    words = "{service} says no program; it is assumed to follow nginx's rules here"
    assumed = True
    unsaid = ("program",)

    service: str


class LinesUnread(HttpDecision, frozen=True):
    kind = "lines-unread"
    words = "of {holder} {lines} could not be read into the estate; the answer may rest on that"
    assumed = True
    loud = True

    holder: str
    lines: str


class MainServer(HttpDecision, frozen=True):
    kind = "main-server"
    words = "no site is bound to {listener}; {service}'s main server answers, and is assumed to have no page"
    stops = True
    assumed = True

    listener: Listener
    service: str


class PlainOnTls(HttpDecision, frozen=True):
    kind = "plain-on-tls"
    words = "plain HTTP is sent to {listener}, which expects TLS"
    standard = "RFC 9110 section 4.2.2"
    stops = True

    listener: Listener


class LineTooLong(HttpDecision, frozen=True):
    kind = "line-too-long"
    words = "the request line has {length} octets; {service} takes {most} at most: the redirects make it grow"
    standard = "RFC 9110 section 15.5.15"
    stops = True

    length: int
    service: str
    most: int


class PathRefused(HttpDecision, frozen=True):
    kind = "path-refused"
    words = "{service} does not take the path {path}"
    standard = "RFC 9110 section 15.5"
    stops = True

    service: str
    path: str


class NotWeb(HttpDecision, frozen=True):
    kind = "not-web"
    words = "{service} on {listener} speaks no HTTP"
    standard = "RFC 9110 section 2.1"
    stops = True

    service: str
    listener: Listener


class Redirected(HttpDecision, frozen=True):
    kind = "redirected"
    words = "{site} sends the visitor to {target} ({status})"
    standard = "RFC 9110 section 15.4"
    shown = True

    site: str
    target: str
    status: int


class FolderSlash(HttpDecision, frozen=True):
    kind = "folder-slash"
    words = "{path} is a folder: {site} sends the visitor to {target}"
    standard = "RFC 9110 section 15.4.2"
    shown = True

    path: str
    site: str
    target: str


class Answers(HttpDecision, frozen=True):
    kind = "answers"
    words = "{site} answers everything with {status}"
    standard = "RFC 9110 section 15"
    shown = True

    site: str
    status: int


class AnswersError(HttpDecision, frozen=True):
    kind = "answers-error"
    words = "{site} answers everything with {status}"
    standard = "RFC 9110 section 15.5"
    stops = True

    site: str
    status: int


class SiteFirst(HttpDecision, frozen=True):
    kind = "site-first"
    words = "no site on {listener} is named {name}: the first one listed, {site}, takes the request"
    standard = "RFC 9110 section 7.2"
    shown = True

    listener: Listener
    name: str
    site: str


class NameRefused(HttpDecision, frozen=True):
    kind = "name-refused"
    words = "no site on {listener} is named {name}: {service} refuses the request with {status}"
    standard = "RFC 9110 section 7.2"
    stops = True

    listener: Listener
    name: str
    service: str
    status: int


class AddressBelieved(HttpDecision, frozen=True):
    kind = "address-believed"
    words = "{program} takes {said} for the visitor: {source}, which it believes, says so in {header}"
    standard = "RFC 7239 section 5.2"
    shown = True

    program: str
    source: IPAddress
    said: IPAddress
    header: str


class GoesOnWithin(HttpDecision, frozen=True):
    kind = "goes-on-within"
    words = "{site} goes on with {to} in place of {path}"
    shown = True

    site: str
    path: str
    to: str


class RulesInCircle(HttpDecision, frozen=True):
    kind = "rules-in-circle"
    words = "the rules of {site} let {path} go on under another path {turns} times, and the program gives up"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    site: str
    path: str
    turns: int


class RunsScript(HttpDecision, frozen=True):
    kind = "runs-script"
    words = "{site} lets {path} be run by {by}, asked at {at}"
    shown = True

    site: str
    path: str
    by: str
    at: str


class ScriptsAssumed(HttpDecision, frozen=True):
    kind = "scripts-assumed"
    words = "{machine} does not say what listens at {at}; a program that runs scripts is assumed"
    assumed = True

    machine: str
    at: str


class ScriptsNotAsked(HttpDecision, frozen=True):
    kind = "scripts-not-asked"
    words = "{service} gets nobody at {at} to run the scripts of {site}: {why}"
    standard = "RFC 9110 section 15.6.3"
    stops = True

    service: str
    at: str
    site: str
    why: str


class ScriptMissing(HttpDecision, frozen=True):
    kind = "script-missing"
    words = "{by} finds no script {path} in the folder of {site}"
    standard = "RFC 9110 section 15.5.5"
    stops = True

    by: str
    path: str
    site: str


class ScriptUnreadable(HttpDecision, frozen=True):
    kind = "script-unreadable"
    words = "{by} may not read the script {path} of {site}: {why}"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    by: str
    path: str
    site: str
    why: str


class UpstreamFirst(HttpDecision, frozen=True):
    kind = "upstream-first"
    words = "{program} looks for an upstream before any folder: the section {section} gives nothing of its own"
    shown = True

    program: str
    section: str


class PassesOn(HttpDecision, frozen=True):
    kind = "passes-on"
    words = "{site} passes the request on to {upstream}"
    standard = "RFC 9110 section 7.6"
    shown = True
    asks_on = True

    site: str
    upstream: str


class UpstreamFails(HttpDecision, frozen=True):
    kind = "upstream-fails"
    words = "{site} gets nothing from {upstream}, and answers {status}"
    standard = "RFC 9110 section 15.6"
    stops = True

    site: str
    upstream: str
    status: int


class UpstreamGarbled(HttpDecision, frozen=True):
    kind = "upstream-garbled"
    words = "what {site} gets from {upstream} is no HTTP"
    standard = "RFC 9110 section 15.6.3"
    stops = True

    site: str
    upstream: str


class SocketOpened(HttpDecision, frozen=True):
    kind = "socket-opened"
    words = "{service} opens a websocket (101)"
    standard = "RFC 6455 section 4.2"

    service: str


class SocketWanted(HttpDecision, frozen=True):
    kind = "socket-wanted"
    words = "{service} takes websockets, and was not asked for one: it says {status}"
    standard = "RFC 9110 section 15.5.22"
    stops = True

    service: str
    status: int


class UpstreamBreaksOff(HttpDecision, frozen=True):
    kind = "upstream-breaks-off"
    words = "{site} passes on an answer of {upstream} that breaks off"
    standard = "RFC 9112 section 8"
    stops = True

    site: str
    upstream: str


class RedirectTurned(HttpDecision, frozen=True):
    kind = "redirect-turned"
    words = "{site} turns the upstream's redirect to its own address: {target}"
    standard = "RFC 9110 section 10.2.2"
    shown = True

    site: str
    target: str


class RedirectPassed(HttpDecision, frozen=True):
    kind = "redirect-passed"
    words = "{site} passes the upstream's redirect on as it is: {target}"
    standard = "RFC 9110 section 10.2.2"
    shown = True

    site: str
    target: str


class PassesInCircle(HttpDecision, frozen=True):
    kind = "passes-in-circle"
    words = "{site} passes the request on for the {count}th time: the upstreams lead back to where they began"
    standard = "RFC 9110 section 7.6.3"
    stops = True

    site: str
    count: int


class NoTarget(HttpDecision, frozen=True):
    kind = "no-target"
    words = "status {status} is a redirect, and says no target"
    standard = "RFC 9110 section 15.4"
    stops = True

    status: int


class HostRefused(HttpDecision, frozen=True):
    kind = "host-refused"
    words = "{service} takes no request whose host name is '{host}'"
    standard = "RFC 9112 section 3.2"
    stops = True

    service: str
    host: str


class Misdirected(HttpDecision, frozen=True):
    kind = "misdirected"
    words = (
        "the handshake was for {server_name}, the request is for {host}, and {service} has other certificates for them"
    )
    standard = "RFC 9110 section 15.5.20"
    stops = True

    server_name: str
    host: str
    service: str


class MisdirectedFromCertificate(HttpDecision, frozen=True):
    kind = "misdirected-from-certificate"
    words = "the handshake was for {server_name}, the request is for {host}, where {site} asks clients for certificates"
    standard = "RFC 9110 section 15.5.20"
    stops = True

    server_name: str
    host: str
    site: str


class NeedsClientCertificate(HttpDecision, frozen=True):
    kind = "needs-client-certificate"
    words = "{site} asks for a certificate of the client, {why}: it answers 400"
    standard = "RFC 9110 section 15.5.1"
    stops = True

    site: str
    why: str


class HeaderTooLong(HttpDecision, frozen=True):
    kind = "header-too-long"
    words = "a header line has {length} octets; {service} takes {most} at most"
    standard = "RFC 9110 section 5.4"
    stops = True

    length: int
    service: str
    most: int


class BodyTooLarge(HttpDecision, frozen=True):
    kind = "body-too-large"
    words = "the request brings {length} octets along; {site} takes {most} at most"
    standard = "RFC 9110 section 15.5.14"
    stops = True

    length: int
    site: str
    most: int


class AnswersNothing(HttpDecision, frozen=True):
    kind = "answers-nothing"
    words = "{site} answers {status}: {service} closes the connection without a word"
    stops = True

    site: str
    status: int
    service: str


class TargetLost(HttpDecision, frozen=True):
    kind = "target-lost"
    words = "{site} passes {path} on to {target}, which is no address: a slash is lost between {prefix} and {upstream}"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    site: str
    path: str
    target: str
    prefix: str
    upstream: str


class PassedOver(HttpDecision, frozen=True):
    kind = "passed-over"
    words = "{upstream} does not serve, and {site} asks the next of the pool"
    shown = True

    upstream: str
    site: str


class TakesTooLong(HttpDecision, frozen=True):
    kind = "takes-too-long"
    words = "{service} answers after {takes} s; {client} waits {waits} s"
    standard = "RFC 9110 section 15.6.5"
    stops = True

    service: str
    takes: int
    client: str
    waits: int


class NotAnswered(HttpDecision, frozen=True):
    kind = "not-answered"
    words = "{service} on {listener} takes the request and {does}"
    standard = "RFC 9110 section 15.6"
    stops = True

    service: str
    listener: Listener
    does: str


class RedirectRemembered(HttpDecision, frozen=True):
    kind = "redirect-remembered"
    words = "{client} remembers that {url} leads to {target}, and does not ask"
    standard = "RFC 9110 section 15.4.2"
    shown = True

    client: str
    url: str
    target: str


class StrictRemembered(HttpDecision, frozen=True):
    kind = "strict-remembered"
    words = "{client} remembers to ask {host} securely only, as {name}"
    standard = "RFC 6797 section 8.3"
    shown = True

    client: str
    host: str
    name: str


class SecureOnly(HttpDecision, frozen=True):
    kind = "secure-only"
    words = "{client} is a browser, and asks names below .{name} securely only"
    standard = "RFC 6797 section 12.3"
    shown = True

    client: str
    name: str


class PortClosed(HttpDecision, frozen=True):
    kind = "port-closed"
    words = "{client} does not ask at port {port}, which is another protocol's"
    standard = "Fetch section 2.9"
    stops = True

    client: str
    port: int
