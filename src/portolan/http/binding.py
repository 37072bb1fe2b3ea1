"""Which site takes a request: nginx's and Apache httpd's rules.

nginx: on the listener, the exact name, else the longest `*.rest`, else the longest `first.*`, else the default site.
Apache httpd: on the listener, the first site in order with a fitting name, exact or pattern, else the default site.
The default is the site that says so, else the first listed.
"""

from typing import Any

import msgspec

from portolan.estate.base import FolderPath, IPAddress, ListenerKey, at_port
from portolan.estate.led import folder_for, led_by_name
from portolan.estate.names import fits, is_exact, starred_within
from portolan.estate.service import Listener, WebService
from portolan.estate.site import Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.programs.protocol import WebProgram
from portolan.source.shared import Shared
from portolan.source.value import Value


def compiled(pattern: str, shared: Shared) -> Any:
    """A regular expression made ready; it is matched in time linear to the text."""

    def made() -> Any:
        import re2  # only for estates that have patterns

        return re2.compile(pattern)

    return shared.by("pattern", pattern, made)


def own_name(site: Site, program: WebProgram) -> str | None:
    """The name that a program takes for a site's own."""
    if program.first_name_is_own and site.names and site.names[0]:
        return str(site.names[0]).removeprefix(".")
    return next((str(name) for name in site.names if is_exact(name)), None)


def led_site(site: Site, host: str, program: WebProgram, shared: Shared) -> Site:
    """A site as it is for a name: with the folder that the name leads to, where the name leads to one."""
    if site.folder is None or not led_by_name(site.folder):
        return site
    # Who says no name is taken to mean the site's own (measured on both servers).
    name = host.rstrip(".") or own_name(site, program) or ""
    fitting = (compiled(each, shared).search(name) for each in site.name_patterns)
    found = next((each for each in fitting if each is not None), None)
    groups = () if found is None else tuple(each or "" for each in found.groups())
    folder = FolderPath(folder_for(str(site.folder), name, groups))
    return shared.of("led", site, lambda: msgspec.structs.replace(site, folder=folder), folder)


class Chosen(Value, frozen=True):
    """The site (None: no site is bound to the listener) and how it was chosen."""

    site: Site | None
    decision: Decision | None
    by_name: bool


class Table:
    """A service's sites on one listener, made ready for choosing."""

    def __init__(
        self, service: WebService, listener: Listener, program: WebProgram, key: ListenerKey, shared: Shared
    ) -> None:
        self.service = service
        self.listener = listener
        self.shared = shared
        own = key == listener.key
        self.sites = [
            site
            for site in service.sites.values()
            if site.in_force and (bound(site, listener) if own else key in site.listens)
        ]
        if program.first_listed_wins:
            # Such a program's default site is the one that is listed first.
            self.sites.sort(key=lambda site: not (site.default or key in site.default_on))
        marked = (site for site in self.sites if site.default or key in site.default_on)
        self.default = next(marked, self.sites[0] if self.sites else None)
        self.exact: dict[str, Site] = {}
        self.leading: dict[str, Site] = {}
        self.trailing: dict[str, Site] = {}
        self.in_order = program.first_listed_wins
        self.program = program
        self.patterns: list[tuple[str, Site]] = []
        for site in self.sites:
            for name in site.names:
                if starred_within(name):
                    self.patterns.append((name, site))
                elif name.startswith("*."):
                    self.leading.setdefault(name[1:], site)
                    self.patterns.append((name, site))
                elif name.endswith(".*"):
                    self.trailing.setdefault(name[:-1], site)
                    self.patterns.append((name, site))
                elif name.startswith("."):
                    self.exact.setdefault(name[1:], site)
                    self.leading.setdefault(name, site)
                    self.patterns.append((f"*{name}", site))
                else:
                    # A name with a final dot is never looked for: requests lose theirs (measured).
                    self.exact.setdefault(name, site)
            if program.nameless_is_unsaid and not site.names and not site.name_patterns:
                self.exact.setdefault("", site)
        self.expressions = [(each, site) for site in self.sites for each in site.name_patterns]
        # Only where an earlier site's pattern could hide a later exact name does Apache's order matter.
        self.order = {id(site): at for at, site in enumerate(self.sites)} if self.in_order and self.patterns else {}

    def choose(self, host: str) -> Chosen:
        """The site for a host name without port."""
        name = host.rstrip(".")
        if self.in_order and self.patterns:
            found = self._first_fitting(name)
        else:
            found = self._most_exact(name) or self._expressed(name)
        if found is not None:
            site, pattern = found
            place = site.place.key("names")
            if pattern == name:
                return Chosen(
                    site, http_kinds.SiteNamed(site.name, name, site.says_where, place=place, subject=site), True
                )
            return Chosen(
                site, http_kinds.SitePattern(site.name, name, pattern, site.says_where, place=place, subject=site), True
            )
        return self._unknown(name)

    def _unknown(self, name: str) -> Chosen:
        """Who takes a name that no site has."""
        first = self.program.unknown_name == "first"
        site = (self.sites[0] if self.sites else None) if first else self.default
        if site is None:
            return Chosen(None, None, False)
        if isinstance(self.program.unknown_name, int):
            status, service = self.program.unknown_name, self.service
            refused = http_kinds.NameRefused(
                self.listener, name, service.name, status, place=service.place.key("program"), subject=service
            )
            return Chosen(None, refused, False)
        facts = (self.listener, name, site.name)
        if first:
            return Chosen(site, http_kinds.SiteFirst(*facts, place=site.place, subject=site), False)
        return Chosen(site, http_kinds.SiteDefault(*facts, site.says_where, place=site.place, subject=site), False)

    def _most_exact(self, name: str) -> tuple[Site, str] | None:
        site = self.exact.get(name)
        if site is not None:
            return site, name
        if self.leading:
            at = name.find(".")
            while at >= 0:
                site = self.leading.get(name[at:])
                if site is not None:
                    return site, "*" + name[at:]
                at = name.find(".", at + 1)
        if self.trailing:
            at = name.rfind(".")
            while at > 0:
                site = self.trailing.get(name[: at + 1])
                if site is not None:
                    return site, name[: at + 1] + "*"
                at = name.rfind(".", 0, at)
        return None

    def _expressed(self, name: str) -> tuple[Site, str] | None:
        for pattern, site in self.expressions:
            if compiled(pattern, self.shared).search(name) is not None:
                return site, pattern
        return None

    def _first_fitting(self, name: str) -> tuple[Site, str] | None:
        best = self.exact.get(name)
        rank = self.order[id(best)] if best is not None else len(self.sites)
        pattern = name
        for each, site in self.patterns:
            if self.order[id(site)] < rank and fits(each, name):
                best, rank, pattern = site, self.order[id(site)], each
        return (best, pattern) if best is not None else None


def bound(site: Site, listener: Listener) -> bool:
    """Whether a site is bound to a listener of its service."""
    return not site.listens or listener.key in site.listens


def table_of(
    service: WebService,
    listener: Listener,
    program: WebProgram,
    shared: Shared,
    address: IPAddress | None = None,
) -> Table:
    """The cached table of a service's listener; of one address under it, where sites are bound to that."""
    key = listener.key
    special = _special(service, shared)
    if special and address is not None:
        bound_to = ListenerKey(at_port(address, listener.port))
        key = bound_to if bound_to in special else key
    return shared.of_all("table", (service, listener), lambda: Table(service, listener, program, key, shared), key)


def _special(service: WebService, shared: Shared) -> frozenset[ListenerKey]:
    """The addresses that sites are bound to under a listener that is for all."""

    def made() -> frozenset[ListenerKey]:
        named = {each for site in service.sites.values() for each in site.listens}
        return frozenset(named - {each.key for each in service.listens})

    return shared.of("special", service, made)
