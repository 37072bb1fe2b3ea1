"""Decisions about what a site has for a path, and for whom: sections, files, rights, pages for errors."""

from portolan.estate.base import IPAddress
from portolan.evidence.kinds.http import HttpDecision


class Page(HttpDecision, frozen=True):
    kind = "page"
    words = "{site} gives {page}"
    standard = "RFC 9110 section 15.3.1"
    shown = True

    site: str
    page: str


class PageLinked(Page, frozen=True):
    kind = "page-linked"
    words = "{site} gives {page}, a link that leads to {file}"

    file: str


class PageAssumed(HttpDecision, frozen=True):
    kind = "page-assumed"
    words = "{site} does not say what its folder holds; {page} is assumed to exist"
    assumed = True
    unsaid = ("folder", "files", "copy", "inventory")

    site: str
    page: str


class NoFileAssumed(HttpDecision, frozen=True):
    kind = "no-file-assumed"
    words = "{machine} does not say what lies at {path}; nothing is assumed"
    assumed = True
    unsaid = ("folders",)

    machine: str
    path: str


class LyingAssumed(HttpDecision, frozen=True):
    kind = "lying-assumed"
    words = "nothing says what the folder of {site} holds; at {path} {what} is assumed"
    assumed = True
    unsaid = ("folder", "files", "copy", "inventory")

    site: str
    path: str
    what: str


class Listed(HttpDecision, frozen=True):
    kind = "listed"
    words = "{site} lists the folder {folder}"
    shown = True

    site: str
    folder: str


class NoIndexFile(HttpDecision, frozen=True):
    kind = "no-index-file"
    words = "the folder {folder} of {site} has no {documents}, and may not be listed"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    site: str
    folder: str
    documents: str


class NotFound(HttpDecision, frozen=True):
    kind = "not-found"
    words = "{site} has no {path}"
    standard = "RFC 9110 section 15.5.5"
    stops = True

    site: str
    path: str


class SectionTakes(HttpDecision, frozen=True):
    kind = "section-takes"
    words = "{path} falls to the section {section} of {site}"
    shown = True

    path: str
    section: str
    site: str


class AccessDenied(HttpDecision, frozen=True):
    kind = "access-denied"
    words = "{site} does not let {address} in"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    site: str
    address: IPAddress | None


class PasswordsUnread(HttpDecision, frozen=True):
    kind = "passwords-unread"
    words = "the file of passwords of {site} is {wrong}: nobody's password can be looked up"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    site: str
    wrong: str


class HeaderWanted(HttpDecision, frozen=True):
    kind = "header-wanted"
    words = "{site} takes only requests with the right {names}"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    site: str
    names: str


class PasswordWanted(HttpDecision, frozen=True):
    kind = "password-wanted"
    words = "{site} wants a password"
    standard = "RFC 9110 section 15.5.2"
    stops = True

    site: str


class MethodRefused(HttpDecision, frozen=True):
    kind = "method-refused"
    words = "{site} does not take {method} here"
    standard = "RFC 9110 section 15.5.6"
    stops = True

    site: str
    method: str


class MethodAnswered(HttpDecision, frozen=True):
    kind = "method-answered"
    words = "{site} answers {method} by itself, without a page"
    standard = "RFC 9110 section 9.3"
    shown = True

    site: str
    method: str


class FolderMissing(HttpDecision, frozen=True):
    kind = "folder-missing"
    words = "the folder of {site}, {folder}, does not exist"
    standard = "RFC 9110 section 15.5.5"
    stops = True

    site: str
    folder: str


class NotGranted(HttpDecision, frozen=True):
    kind = "not-granted"
    words = "{service} is not granted {folder}, which {site} serves"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    service: str
    folder: str
    site: str


class Unreadable(HttpDecision, frozen=True):
    kind = "unreadable"
    words = "{who} may not read {path} of {site}: {why}"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    who: str
    path: str
    site: str
    why: str
    #: What is closed, as the rights name it, and whether it is a folder that must be passed.
    closed: str
    passing: bool


class LinkBroken(HttpDecision, frozen=True):
    kind = "link-broken"
    words = "{path} of {site} is a link to {target}, {why}"
    standard = "RFC 9110 section 15.5"
    stops = True

    path: str
    site: str
    target: str
    why: str


class Tried(HttpDecision, frozen=True):
    kind = "tried"
    words = "{site} has no {path}, and tries {taken}, which is there"
    shown = True

    site: str
    path: str
    taken: str


class FallbackGiven(HttpDecision, frozen=True):
    kind = "fallback-given"
    words = "{site} has no {path}, and gives {fallback} in its place"
    shown = True

    site: str
    path: str
    fallback: str


class FallbackMissing(HttpDecision, frozen=True):
    kind = "fallback-missing"
    words = "{site} has no {path}, and what is given in its place, {fallback}, is not there either"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    site: str
    path: str
    fallback: str


class RuleFileBroken(HttpDecision, frozen=True):
    kind = "rule-file-broken"
    words = "{service} cannot read {file} of {site}: {why}"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    service: str
    file: str
    site: str
    why: str


class ErrorPage(HttpDecision, frozen=True):
    kind = "error-page"
    words = "{site} shows {page} for the status {status}"
    shown = True

    site: str
    page: str
    status: int


class InnerOnly(HttpDecision, frozen=True):
    kind = "inner-only"
    words = "{section} of {site} is for the program's own requests only"
    standard = "RFC 9110 section 15.5.5"
    stops = True

    site: str
    section: str


class ErrorPageAs(HttpDecision, frozen=True):
    kind = "error-page-as"
    words = "{site} gives {page} for the status {status}, as {given}"
    standard = "RFC 9110 section 15"
    shown = True

    site: str
    page: str
    status: int
    given: int


class ErrorPageFails(HttpDecision, frozen=True):
    kind = "error-page-fails"
    words = "the page {page} that {site} shows for the status {status} cannot be had itself"
    standard = "RFC 9110 section 15"
    shown = True

    site: str
    page: str
    status: int


class WithinRate(HttpDecision, frozen=True):
    kind = "within-rate"
    words = "{source} asks seldom enough: {site} takes {rate} from one address, and refuses more with {status}"
    assumed = True
    loud = True

    site: str
    rate: str
    status: int
    source: object


class MovedBehindFolder(HttpDecision, frozen=True):
    kind = "moved-behind-folder"
    words = "{site} goes on with {path} within the section {section}, whose folder is known by the asked path only: it fails"
    standard = "RFC 9110 section 15.6.1"
    stops = True

    site: str
    path: str
    section: str
