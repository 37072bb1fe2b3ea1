"""One site answering one request, phase by phase: its rules, the section, who is let in, what is given, pages for errors."""

from typing import NamedTuple
from urllib.parse import quote, unquote

from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import Giving, Redirect, RuleFile, Section, Site, Upstream
from portolan.estate.url import Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Arrival, Exchange, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request
from portolan.http.access import Refusal, by_password, method_refused, path_refused, refused, too_large
from portolan.http.content import (
    Content,
    Folder,
    barred,
    closed,
    content,
    first_tried,
    folder_at,
    rule_files_on,
    tries_anew,
    unread_rules,
)
from portolan.http.lying import lies_at, on_machine
from portolan.http.redirecting import Asked, absolute, captures, in_their_turn, moved_to, target_of
from portolan.http.scripts import at_address, at_socket, found_there, member_of
from portolan.http.sections import (
    Effective,
    effective,
    for_caches,
    lines_unread,
    lost_behind,
    passes_on,
    ruled,
    says_to_caches,
    within_rate,
)
from portolan.http.upstream import PLAIN, Front, Onward, asked_there, goes_on, passed_on, said_there, status_of_failed
from portolan.programs.protocol import WebProgram
from portolan.source.place import Place
from portolan.source.shared import Shared

#: So often may rules let a request go on under another path (measured on both servers).
_MOST_TURNS = 10


class _Moved(NamedTuple):
    """A request that goes on within the server: under which path, and how (`Redirect.inner`)."""

    path: str
    how: str


class _Walked(NamedTuple):
    """What the way to a folder led to: it, what holds there with its files of rules, and the rules that count."""

    folder: Folder
    here: Effective
    own: tuple[Redirect, ...]


class Serving:
    """One site answering one request."""

    def __init__(
        self,
        arrival: Arrival,
        service: WebService,
        site: Site,
        request: Request,
        program: WebProgram,
        asking: Onward,
        shared: Shared,
        decisions: list[Decision],
    ) -> None:
        self.arrival = arrival
        self.service = service
        self.site = site
        self.request = request
        self.program = program
        self.asking = asking
        self.shared = shared
        self.decisions = decisions
        self.inner: list[Exchange] = []
        #: What is passed on: what the visitor asked for, unless the program asks itself for another path.
        self.onward: Url = request.url
        #: Whether what is passed on is the whole path: a rule said that the request stays where it is (nginx).
        self.whole = False
        #: How often the request went on under another path.
        self.turns = 0
        #: Whether a rule said that no further one is asked.
        self.ruled_out = False
        #: Whether the program asks itself for a document of a folder.
        self.inside = False
        #: Whether the way to the content failed before it was known which sections a path has.
        self.walked = True

    @property
    def machine(self) -> Machine:
        """The machine that the program runs on."""
        return self.arrival.machine

    def given(self, path: str | int) -> Response:
        """The response, with the site's own page where it is an error."""
        if isinstance(path, int) and self.program.judges_path_first:
            turned_away = path_refused(self.site, path, self.decisions, self.request, self.service)
            return self._with_page(turned_away, effective(self.site, "", self.program, self.shared), False)
        if self.service.unread or self.site.unread:
            self.decisions += [lines_unread(each, each.name) for each in (self.service, self.site) if each.unread]
        asked = path if isinstance(path, str) else self.request.url.path
        sent = self._by_rules(self.site.redirects, False, asked) if self.site.redirects else None
        if isinstance(sent, Response):
            passed_by = effective(self.site, asked, self.program, self.shared)
            return self._for_caches(self._with_page(sent, passed_by, False), None)
        if sent is not None:
            path = asked = sent.path
        here = effective(self.site, asked, self.program, self.shared)
        if here.sections:
            self._tell_section(here, asked)
            name = self.site.name
            self.decisions += [lines_unread(each, f"{name}, {each.shown},") for each in here.sections if each.unread]
        self.decisions += within_rate(here, self.request)
        if here.section is not None and here.section.inner_only:
            place = here.section.place.key("inner_only")
            inner = content_kinds.InnerOnly(self.site.name, here.section.shown, place=place, subject=here.section)
            return self._with_page(self._turned_away(Refusal(404, inner)), here, False)
        response, passed = self._phases(here, path, asked)
        if not self.walked:
            here = here.but(error_pages=self.site.error_pages, error_pages_as=self.site.error_pages_as)
        return self._for_caches(self._with_page(response, here, passed), here.section)

    def _tell_section(self, here: Effective, path: str) -> None:
        """Which section takes a path, where one does."""
        if here.section is not None:
            facts = (path, here.section.shown, self.site.name)
            self.decisions.append(content_kinds.SectionTakes(*facts, place=here.section.place, subject=here.section))

    def _for_caches(self, response: Response, section: Section | None) -> Response:
        """The response with what the site, or its section, says to caches (RFC 9111 section 5.2)."""
        giving: Giving = section if section is not None and says_to_caches(section) else self.site
        if response.status not in self.program.says_to_caches or not says_to_caches(giving):
            return response
        return for_caches(response, giving)

    def _phases(self, here: Effective, path: str | int, asked: str) -> tuple[Response, bool]:
        """The response to a path, however often rules let the request go on under another one.

        The second value says whether the response is the upstream's own.
        """
        while True:
            found, passed = self._in_section(here, path, asked)
            if isinstance(found, Response):
                return found, passed
            path = asked = found.path
            sent = self._anew(asked) if self.program.rules_run_anew and found.how != "here" else self._turn(asked)
            if isinstance(sent, Response):
                return sent, False
            path = asked = sent or asked
            here = effective(self.site, asked, self.program, self.shared)

    def _turn(self, path: str) -> Response | None:
        """Counts that a request goes on under another path; the response where that was too often."""
        self.turns += 1
        if self.turns <= _MOST_TURNS:
            return None
        facts = (self.site.name, path, _MOST_TURNS)
        step = http_kinds.RulesInCircle(*facts, place=self.site.place, subject=self.site)
        return Response(500, (*self.decisions, step), self.site, stop=step)

    def _anew(self, path: str) -> Response | str:
        """What the site's own rules make of a path that the program asks for itself: an answer, or the path to go on with."""
        ended = self._turn(path)
        if ended is not None:
            return ended
        sent = self._by_rules(self.site.redirects, False, path)
        return sent if isinstance(sent, Response) else path if sent is None else sent.path

    def _in_section(self, here: Effective, path: str | int, asked: str) -> tuple[Response | _Moved, bool]:
        """In this order: redirects of the section, a fixed answer, who is let in, the upstream, the content.

        The second value says whether the response is the upstream's own.
        """
        early = self._turned_early(here, asked) or (self._by_sections(here, asked) if here.sections else None)
        if isinstance(early, Response):
            return early, False
        if early is not None and (early.how != "here" or self.program.rules_run_anew):
            return early, False
        if early is not None:
            path = asked = early.path
            lost = lost_behind(here, early.path, self.request, self.program)
            if lost is not None:
                return Response(500, (*self.decisions, lost), self.site, stop=lost), False
        if here.answer is not None:
            return self._answers(here.answer.answer or 0, here.answer.place, self.site), False
        if isinstance(path, int):
            return path_refused(self.site, path, self.decisions, self.request, self.service), False
        if here.upstream is not None or here.scripts is not None:
            return self._from_program(here, path)
        for section in here.sections:
            sent = self._by_rules(section.redirects, True, asked)
            if sent is not None:
                return sent, False
        sent = self._by_rules(self.site.redirects, True, asked)
        return (sent if sent is not None else self._from_folder(here, path)), False

    def _turned_early(self, here: Effective, asked: str) -> Response | None:
        """What comes before a section's rules: the slash that is added, a limit, at some programs the method."""
        slash = self._section_slash(here, asked) if self.site.sections else None
        if slash is not None:
            return slash
        limited = here.upstream is None or self.program.passing.limits_body
        refusal = too_large(here, self.request, self.program) if limited and self.request.saying.body else None
        if refusal is None and self.program.judges_method_first:
            refusal = method_refused(here, self.request, self.program)
            if refusal is not None and by_password(here):
                # What is refused to all is still asked of whoever knows the password, where that is enough.
                refusal = refused(here.but(access=by_password(here)), self.request, self.program)
        return self._turned_away(refusal) if refusal is not None else None

    def _by_sections(self, here: Effective, asked: str) -> Response | _Moved | None:
        """What the rules of the sections that count make of a path."""
        moved: _Moved | None = None
        for section in here.sections if not self.ruled_out else ():
            sent = self._by_rules(section.redirects, False, asked)
            if isinstance(sent, Response):
                return sent
            if sent is not None:
                moved, asked = sent, sent.path
                if sent.how != "here" or self.program.rules_run_anew:
                    return moved
            if section is here.answer:
                break
        return moved

    def _from_program(self, here: Effective, path: str) -> tuple[Response | _Moved, bool]:
        """What another program gives, or what lies beside it; who is let in comes first."""
        first = self.program.judges_method_first
        refusal = None if first else method_refused(here, self.request, self.program)
        if here.access is not None:
            refusal = refusal or refused(here, self.request, self.program)
        if refusal is not None:
            return self._turned_away(refusal), False
        if here.upstream is None:
            # A script is a file: what lies on the way to it counts where the program looks (measured).
            walked = self._walk(here, path) if self.program.reads_rule_files else None
            return (walked, False) if isinstance(walked, Response | _Moved) else self._run(here, path)
        beside = self._beside(here, path) if here.tries else None
        return (beside, False) if beside is not None else self._passed(here, here.upstream, path)

    # -- redirects and answers --

    @staticmethod
    def _above(here: Effective, file: RuleFile) -> str:
        """What stands in front of relative targets in a file of rules: the folder's path on the machine (measured)."""
        folder = str(here.source.folder or "")
        return f"{'/'.join(filter(None, (folder, file.within.strip('/'))))}/" if folder else ""

    def _by_rules(
        self, rules: tuple[Redirect, ...], late: bool, path: str, above: str | None = None
    ) -> Response | _Moved | None:
        """What rules make of a path: an answer, or another to go on with, or nothing; `above` stands before relative targets of files."""
        if not rules:
            return None
        moved: _Moved | None = None
        at = self._asked(path)
        for redirect in in_their_turn(rules, self.program, late, self.inside):
            held = captures(redirect.when, at)
            if held is None:
                continue
            place = redirect.place
            if redirect.answer is not None:
                return self._answers(redirect.answer, place, redirect)
            if redirect.inner is None:
                target = target_of(redirect, at, held, above or "")
                step = http_kinds.Redirected(self.site.name, target, redirect.status, place=place, subject=redirect)
                return Response(redirect.status, (*self.decisions, step), self.site, location=target)
            to, query = moved_to(redirect, at, held)
            # Where nothing changes, it only says whether further rules are asked; files of rules compare it with a file's (measured).
            if to != path or not self.program.rules_run_anew or (above is not None and redirect.inner == "again"):
                self.decisions.append(http_kinds.GoesOnWithin(self.site.name, path, to, place=place, subject=redirect))
                self.request = self.request.but(url=self.request.url.but(query=query))
                self.onward = self.onward.but(path=quote(to, safe=PLAIN), query=query)
                path, moved = to, _Moved(to, redirect.inner)
                at = self._asked(path)
            if redirect.inner == "here":
                self.ruled_out |= self.program.rules_run_anew
                self.whole |= not self.program.rules_run_anew
            if redirect.inner != "on":
                break
        return moved

    def _asked(self, path: str) -> Asked:
        """What rules are asked of, for a path."""
        return Asked(
            self.site, self.request, self.arrival, self.program, self.shared, path, self._lies, self._on_machine
        )

    def _lies(self, path: str) -> str:
        """What lies at a path in the site's own folder."""
        what, assumed = lies_at(self.site, self.service, self.machine, path, self.shared)
        if assumed is not None and not any(isinstance(each, content_kinds.LyingAssumed) for each in self.decisions):
            self.decisions.append(assumed)
        return what

    def _on_machine(self, path: str) -> bool:
        """Whether a file of the machine lies at a path."""
        there, assumed = on_machine(self.service, self.machine, path)
        self.decisions += [assumed] if assumed is not None else []
        return there

    def _section_slash(self, here: Effective, path: str) -> Response | None:
        """The final slash of a section that is passed on, which some programs add by themselves."""
        if not self.program.adds_section_slash or (here.section is not None and here.section.exact == path):
            return None
        for section in self.site.sections:
            if section.path == f"{path}/" and passes_on(self.site, section):
                return self._to_slash(path, section)
        return None

    def _to_slash(self, behind: str, subject: Site | Section) -> Response:
        path = f"{self.program.escaped(behind, False)}/{self.request.url.query}"
        target = absolute(self.site, self.request, self.arrival, self.program, path)
        service = self.service
        if service.program is None and self.request.port != self.arrival.port:
            self.decisions.append(http_kinds.ProgramAssumed(service.name, place=service.place, subject=service))
        step = http_kinds.FolderSlash(behind, self.site.name, target, place=subject.place, subject=self.site)
        return Response(301, (*self.decisions, step), self.site, location=target)

    def _answers(self, status: int, at: Place, subject: object) -> Response:
        """A fixed answer."""
        place = at.key("answer")
        given = self.program.special_answers.get(status, status)
        if given is None:
            silent = http_kinds.AnswersNothing(self.site.name, status, self.service.name, place=place, subject=subject)
            return Response(0, (*self.decisions, silent), self.site, protocol=Detail.EMPTY, stop=silent)
        kind = http_kinds.Answers if given < 400 else http_kinds.AnswersError
        decision = kind(self.site.name, status, place=place, subject=subject)
        page = f"{self.site.name}/" if given < 300 else None
        stop = decision if given >= 400 else None
        return Response(given, (*self.decisions, decision), self.site, page, stop=stop)

    def _turned_away(self, refusal: Refusal) -> Response:
        return Response(refusal.status, (*self.decisions, refusal.decision), self.site, stop=refusal.decision)

    # -- the upstream --

    def _passed(self, here: Effective, upstream: Upstream, path: str) -> tuple[Response, bool]:
        section, start, whole = here.section, "", False
        if section is not None and (section.upstream is not None or not self.program.sections_merge):
            start = str(section.path or section.exact or "")
            whole = section.pattern is not None and section.upstream is not None
        front = Front(self.site, upstream, start, self.program, whole)
        hidden = next((each for each in here.sections if each.folder is not None and each is not here.section), None)
        if hidden is not None and self.program.upstreams_first:
            self.decisions.append(
                http_kinds.UpstreamFirst(self.service.name, hidden.shown, place=hidden.place, subject=hidden)
            )
        passing = http_kinds.PassesOn(self.site.name, str(upstream.to[0]), place=upstream.place, subject=self.site)
        self.decisions.append(passing)
        inner: Exchange | None = None
        for member in self.asking.members(upstream):
            if inner is not None:
                step = http_kinds.PassedOver(str(inner.url), self.site.name, place=upstream.place, subject=inner.stop)
                self.decisions.append(step)
            asked = member.but(path="") if self.whole else member
            url = asked_there(front, asked, self.onward, path)
            if isinstance(url, str):
                lost = http_kinds.TargetLost(
                    self.site.name, path, url, start or "/", str(member), place=upstream.place, subject=self.site
                )
                return Response(500, (*self.decisions, lost), self.site, stop=lost), False
            inner = self.asking.ask(front, url, said_there(front, self.request, self.arrival.port))
            self.inner.append(inner)
            if not goes_on(front, inner, self.request.saying.method):
                break
        assert inner is not None
        sent = inner.response is not None and inner.response.location is not None
        own = absolute(self.site, self.request, self.arrival, self.program, "/") if sent else ""
        response = passed_on(front, inner, own, tuple(self.decisions))
        own_error = inner.response is None or response.status != inner.response.status
        return response, not own_error

    def _beside(self, here: Effective, path: str) -> Response | None:
        """What lies in the site's folder beside what is passed on, where that is tried first; None where nothing does."""
        here = here.but(source=self.site, start="")
        folder = folder_at(here, self.service, self.machine, self.program, self.shared)
        if folder.tree is None:
            facts = (self.site.name, path, "nothing")
            self.decisions.append(content_kinds.LyingAssumed(*facts, place=self.site.place, subject=self.site))
            return None
        if first_tried(here.tries, folder, folder.tree, path) is None:
            return None
        return self._of(content(here.but(upstream=None, fallback=None), folder, path, self.request.saying.method))

    def _run(self, here: Effective, path: str) -> tuple[Response, bool]:
        """A script, run by another program."""
        assert here.scripts is not None
        at, passing, place = str(here.scripts.scripts_at), self.program.passing, here.scripts.place.key("scripts_at")
        status = passing.refused
        if at.startswith("/"):
            runner = at_socket(here, self.service, self.machine)
        else:
            front = Front(self.site, member_of(here), "", self.program)
            inner = self.asking.ask(front, front.upstream.to[0], said_there(front, self.request, self.arrival.port))
            self.inner.append(inner)
            runner = at_address(inner, at)
            status = status_of_failed(passing, inner) if inner.response is None else passing.refused
        self.decisions += runner.decisions
        if runner.why is not None:
            facts = (self.service.name, at, self.site.name, runner.why)
            nobody = http_kinds.ScriptsNotAsked(*facts, place=place, subject=runner.subject)
            return Response(status, (*self.decisions, nobody), self.site, stop=nobody), False
        step = http_kinds.RunsScript(self.site.name, path, runner.name, at, place=place, subject=here.scripts)
        missed = found_there(here, runner, path, self.machine, self.shared)
        if missed is not None:
            status = 403 if isinstance(missed, http_kinds.ScriptUnreadable) else 404
            return Response(status, (*self.decisions, step, missed), self.site, stop=missed), True
        return Response(200, (*self.decisions, step), self.site, f"{self.site.name}/{path.strip('/')}"), True

    # -- the folder --

    def _from_folder(self, here: Effective, path: str) -> Response | _Moved:
        method = self.request.saying.method
        if method in self.program.methods.echoes:
            note = content_kinds.MethodAnswered(self.site.name, method, place=self.site.place, subject=self.site)
            return Response(200, (*self.decisions, note), self.site)
        walked = self._walk(here, path)
        if not isinstance(walked, _Walked):
            return walked
        folder, here, own = walked
        found = content(here, folder, path, method)
        held, self.inside = self.inside, True
        if found.inside is not None:
            response = self._for_document(found.inside, here, found, bool(own))
        else:
            response = self._by_documents(here, own, path, found) or self._of(found)
        self.inside = held
        return response

    def _walk(self, here: Effective, path: str) -> "Response | _Moved | _Walked":
        """The way to what lies in a folder: files of rules on it, what closes it, who is let in, what those rules make of the path."""
        folder = folder_at(here, self.service, self.machine, self.program, self.shared)
        rules = rule_files_on(folder, self.site, path) if here.source is self.site else []
        unread = next(filter(None, (unread_rules(each, folder) for each in rules)), None)
        shut = closed(here, folder, path) if unread is None and self.program.methods.looks_first else unread
        if shut is not None:
            self.walked = False
            return self._of(shut)
        gone = barred(folder) if self.program.judges_grants else None
        if gone is not None and isinstance(gone.decisions[-1], content_kinds.NotGranted):
            turned_away = method_refused(here, self.request, self.program)
            return self._turned_away(turned_away) if turned_away is not None else self._of(gone)
        here = ruled(here, rules)
        refusal = method_refused(here, self.request, self.program) or refused(here, self.request, self.program)
        if refusal is not None:
            return self._turned_away(refusal)
        deepest = next((each for each in reversed(rules) if each.redirects), None)
        above = self._above(here, deepest) if deepest is not None else ""
        own = deepest.redirects if deepest is not None else ()
        sent = None if self.ruled_out else self._by_rules(own, False, path, above)
        sent = sent if sent is not None else self._by_rules(own, True, path, above)
        return sent if sent is not None else _Walked(folder, here, own)

    def _by_documents(self, here: Effective, own: tuple[Redirect, ...], path: str, found: Content) -> Response | None:
        """What rules answer to the documents that are tried for a folder and are not there: httpd asks itself for each (measured)."""
        tried = any(isinstance(each, content_kinds.NoIndexFile | content_kinds.Listed) for each in found.decisions[-1:])
        if self.program.sends_from_inside or not tried:
            return None
        rules = tuple(each for each in (*self.site.redirects, *own) if each.answer is not None)
        asked = (self._by_rules(rules, False, path + document) for document in here.documents)
        return next((each for each in asked if isinstance(each, Response)), None)

    def _for_document(self, document: str, here: Effective, found: Content, ruled_on: bool) -> Response:
        """A document that was found: its own sections hold for it, for all that they say or only for who is let in."""
        sent = self._anew(document)
        if isinstance(sent, Response):
            return sent
        there = effective(self.site, sent, self.program, self.shared)
        moved, document = sent != document, sent
        # Files of rules are asked of the document, too.
        moved |= ruled_on and self.program.rules_run_anew
        if there.tries and not moved:
            folder = folder_at(there, self.service, self.machine, self.program, self.shared)
            moved = tries_anew(there, folder, document)
        if there.sections == here.sections and not moved:
            return self._of(found)
        own = there.upstream is None and there.scripts is None
        if not moved and not self.program.asks_inside and not found.whole and own:
            refusal = refused(there, self.request, self.program)
            return self._turned_away(refusal) if refusal is not None else self._of(found)
        self._tell_section(there, document)
        held, self.onward = self.onward, self.onward.but(path=quote(document))
        response, _ = self._phases(there, document, document)
        self.onward = held
        return response

    def _of(self, found: Content) -> Response:
        if found.slash_behind is not None:
            return self._to_slash(found.slash_behind, self.site)
        page = f"{self.site.name}/{found.page}" if found.page is not None else None
        stop = found.decisions[-1] if found.status >= 400 else None
        return Response(found.status, (*self.decisions, *found.decisions), self.site, page, stop=stop)

    # -- pages for errors --

    def _with_page(self, response: Response, here: Effective, passed: bool) -> Response:
        """The response with the page of the site's own that stands for its status."""
        status = response.status
        page = here.error_pages.get(status)
        own = not passed or (here.upstream is not None and here.upstream.replaces_errors)
        if page is None or not own or response.location is not None:
            return response
        if not page.startswith("/"):
            if status == 401 and self.program.keeps_error:
                return response
            place = here.site.place.key("error_pages")
            sent = http_kinds.Redirected(self.site.name, page, 302, place=place, subject=self.site)
            return Response(302, (*response.decisions, sent), self.site, location=page)
        self.decisions = list(response.decisions)
        if isinstance(response.stop, http_kinds.PathRefused) and self.program.judges_path_first:
            # No redirect was asked yet: for the page they are.
            asking, self.request = self.request, self.request.for_itself
            redirected = self._by_rules(self.site.redirects, False, self.request.url.path)
            self.request = asking
            if isinstance(redirected, Response):
                return redirected
        shown, through = self._page_of(page, here if status in (401, 403) and self.program.keeps_error else None)
        facts = (self.site.name, page, status)
        step: Decision
        place = next((each.place for each in (*here.sections, here.site) if each.error_pages), here.site.place)
        place = place.key("error_pages")
        given_as = here.error_pages_as.get(status)
        if given_as is not None and 200 <= shown.status < 300:
            step = content_kinds.ErrorPageAs(*facts, given_as, place=place.key("error_pages_as"), subject=self.site)
            stop = None if given_as < 400 else response.stop
            return Response(given_as, (*self.decisions, step), self.site, shown.page, stop=stop)
        overridden = here.upstream is not None and here.upstream.replaces_errors
        answered = bool(shown.decisions) and isinstance(
            shown.decisions[-1], http_kinds.Answers | http_kinds.AnswersError
        )
        # An answer that has a page of its own would lead round: the error stands then.
        round_again = shown.status in effective(self.site, page, self.program, self.shared).error_pages
        answered = answered and not round_again
        # To the slash of a folder nobody is sent for the page of an error: the error stands (measured).
        slash = bool(shown.decisions) and isinstance(shown.decisions[-1], http_kinds.FolderSlash)
        failed = through and overridden and shown.status >= 400 and not round_again
        led = failed or (shown.location is not None and not slash)
        if self.program.upstream_page_succeeds and (answered or led):
            # What is said in the page's place takes the place of the error.
            return shown.but(decisions=(*response.decisions, *shown.decisions))
        if through and not overridden and self.program.upstream_page_succeeds and shown.location is None:
            # What an upstream says of the page is what the visitor gets, its status too.
            step = content_kinds.ErrorPage(*facts, place=place, subject=self.site)
            stop = None if shown.status < 400 else response.stop
            return Response(shown.status, (*self.decisions, step), self.site, shown.page, stop=stop)
        if 200 <= shown.status < 300 or through:
            step = content_kinds.ErrorPage(*facts, place=place, subject=self.site)
            return Response(status, (*self.decisions, step), self.site, stop=response.stop)
        step = content_kinds.ErrorPageFails(*facts, place=place, subject=shown.stop)
        kept = status if self.program.keeps_error else shown.status
        if shown.location is not None and not self.program.keeps_error:
            return Response(kept, (*response.decisions, step), self.site, location=shown.location)
        return Response(kept, (*response.decisions, step), self.site, stop=response.stop or shown.stop)

    def _page_of(self, page: str, let_in: Effective | None) -> tuple[Response, bool]:
        """What the site gives for the page itself, and whether an upstream gave it.

        `let_in` is what holds where somebody was kept out: the same rule is not asked once more for the page (measured).
        """
        held, self.decisions = self.decisions, []
        asking, onward = self.request, self.onward
        self.request = asking.for_itself
        self.onward = onward.but(path=page, query="")
        sent = self._anew(page)
        if isinstance(sent, Response):
            response, passed = sent, False
        else:
            here = effective(self.site, sent, self.program, self.shared)
            # What is passed on is judged anew, unless it is the very path that was turned away, by rules or not (measured).
            judged = here.upstream is not None and sent != unquote(onward.path)
            if let_in is not None and here.access is let_in.access and not judged:
                here = here.but(access=None)
            response, passed = self._phases(here, sent, sent)
            passed = passed and here.upstream is not None
        self.request, self.onward, self.decisions = asking, onward, held
        return response, passed
