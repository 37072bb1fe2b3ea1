"""What a change of sites lets visitors read or have that was refused, what servers may read, and whom visitors trust."""

from collections.abc import Iterator
from typing import Any

from portolan.diagnosis.exposure_edge import edge_ranges
from portolan.diagnosis.exposure_pages import services_of
from portolan.diagnosis.gains import Asked, Gain, Grade, widened
from portolan.estate.base import same_facts
from portolan.estate.client import PassingProgram
from portolan.estate.content import Holding
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, changed_machines
from portolan.estate.machine import Machine
from portolan.estate.service import WebService, sites_of
from portolan.estate.site import Access, Giving, Site
from portolan.journey.visit import Visit

_REFUSALS = frozenset((401, 403, 404, 410, 451))


def site_gains(before: Estate, after: Estate, asked: Asked, seen: Visit) -> Iterator[Gain]:
    """Lists, rules of access, methods and fixed refusals of sites; a site switched on counts where it is closed."""
    response = seen.exchanges[-1].response
    reached = response.site.place.path if response is not None and response.site is not None else None
    old = dict(_each_site(before))
    letting = _Letting(after, asked, seen)
    for path, site in _each_site(after):
        was = old.get(path)
        if was is None or was is site:
            continue
        meant: Grade = "needed" if site.place.path == reached else "more"
        closed = "closed" in was.marks or (asked.closed and meant == "needed")
        if (site.listing or any(each.listing for each in site.sections)) and not was.listing:
            text = f"everybody who reaches {site.name} can read what its folders hold"
            yield Gain("readable", ("listing", *path), text, "more", closed)
        if site.in_force and not was.in_force and (closed or "private" in was.marks):
            text = f"the pages of {site.name} can be read by everybody who reaches it"
            yield Gain("readable", ("site", *path), text, meant, closed)
        for gain in letting.admitted(path, was, site):
            yield gain.but(closed=closed)
        if (was.methods and set(site.methods or ()) - set(was.methods)) or (was.methods and not site.methods):
            text = f"{site.name} newly takes other methods than {', '.join(was.methods)}"
            yield Gain("lifted", ("methods", *path), text, meant, closed)
        if was.answer in _REFUSALS and site.answer != was.answer:
            text = f"{site.name} no longer answers {was.answer}, which was set on purpose"
            yield Gain("lifted", ("answer", *path), text, meant, closed)


class _Letting:
    """Who is newly let in by rules of access."""

    def __init__(self, after: Estate, asked: Asked, seen: Visit) -> None:
        self.ranges = edge_ranges(seen)
        #: The addresses of those whom the expectation names, and of the programs that ask for them: for them alone a rule may be widened.
        named = asked.expectation.vantages if asked.expectation is not None and asked.expectation.vantages else ()
        vantages = [asked.vantage, *(after.vantages[each] for each in named if each in after.vantages)]
        self.meant = {item.ip for each in vantages for _, held in attachments(each) for item in held}
        for each in seen.tree:
            if isinstance(each.client, PassingProgram):
                self.meant |= set(each.client.machine.addresses)

    def admitted(self, path: tuple[str, ...], was: Site, site: Site) -> Iterator[Gain]:
        """Who is let in by a site, its sections, and the rule files in its folders."""
        pairs: list[tuple[Giving, Giving | None]] = [(was, site), *zip(was.sections, site.sections, strict=False)]
        pairs += [(old, None) for old in was.sections[len(site.sections) :]]
        for number, (old, new) in enumerate(pairs):
            named = f"{site.name}{'' if number == 0 else ' ' + getattr(old, 'shown', '')}"
            access = new.access if new is not None else site.access
            yield from self._let_in(("access", *path, str(number)), old.access, access, named)
        files = {each.within: each for each in site.rule_files} if site.reads_rule_files else {}
        for each in was.rule_files if was.reads_rule_files else ():
            now = files.get(each.within)
            named = f"{site.name} below /{each.within}"
            key = ("access", *path, "file", each.within)
            yield from self._let_in(key, each.access, now.access if now is not None else None, named)

    def _let_in(self, key: tuple[str, ...], before: Access | None, after: Access | None, named: str) -> Iterator[Gain]:
        if before is None or after is before or same_facts(before, after):
            return
        if after is None or (before.password and not after.password):
            who = "without a password" if before.password else "who was kept out"
            yield Gain("readable", key, f"everybody {who} is let in by {named}", "more")
            return
        wider = widened(before, after)
        if wider.kept_out or wider.everybody or (after.either and not before.either):
            yield Gain("readable", key, f"more visitors are let in by {named}", "more")
        for each in sorted(wider.ranges, key=str):
            single = each.num_addresses == 1 and each.network_address in self.meant
            text = f"whoever comes from {each} is let in by {named}"
            yield Gain("readable", (*key, str(each)), text, "needed" if single or each in self.ranges else "more")


def grant_gains(before: Estate, after: Estate, seen: Visit) -> Iterator[Gain]:
    """Folders that a server is newly granted, and files that its identity may newly read."""
    old = services_of(before)
    response = seen.exchanges[-1].response
    reached = response.site if response is not None else None
    for path, service in services_of(after).items():
        was = old.get(path)
        if not isinstance(service, WebService) or not isinstance(was, WebService) or service is was:
            continue
        for folder in sorted(set(service.grants or ()) - set(was.grants or ())) if was.grants is not None else ():
            meant = isinstance(reached, Site) and folder == reached.folder
            text = f"{service.name} can newly serve all that lies in {folder}"
            yield Gain("readable", ("grant", *path, str(folder)), text, "needed" if meant else "more")
    for known, machine in changed_machines(before, after):
        for name, holding, earlier in _holdings(known, machine):
            for key, rights in holding.rights.items():
                then = earlier.rights.get(key)
                if then is not None and then != rights:
                    wider = rights.mode & 0o007 & ~then.mode
                    who = "everybody on the machine" if wider else rights.group
                    text = f"{who} may read or pass {key} of {name} ({rights} instead of {then})"
                    yield Gain(
                        "readable", ("rights", machine.name, name, str(key)), text, "beside" if wider else "needed"
                    )


def _holdings(before: Machine, after: Machine) -> Iterator[tuple[str, Holding, Holding]]:
    """Every folder of a machine that both worlds have, with its name."""
    for name, folder in after.folders.items():
        if name in before.folders:
            yield name, folder, before.folders[name]
    for service, held in after.services.items():
        earlier = before.services.get(service)
        if not isinstance(held, WebService) or not isinstance(earlier, WebService):
            continue
        for name, site in held.sites.items():
            if name in earlier.sites:
                yield name, site, earlier.sites[name]


def _each_site(estate: Estate) -> Iterator[tuple[tuple[str, ...], Site]]:
    for path, service in services_of(estate).items():
        for name, site in sites_of(service).items():
            yield (*path, name), site


def trust_gains(before: Estate, after: Estate, asked: Asked) -> Iterator[Gain]:
    """Roots that visitors newly trust, and signatures that nobody checks any more."""
    for name, vantage in after.vantages.items():
        old = before.vantages.get(name)
        for root in sorted(set(vantage.trusts) - set(old.trusts)) if old is not None else ():
            grade: Grade = "needed" if name == asked.vantage.name else "more"
            yield Gain("trusted", ("trust", name, root), f"{name} newly trusts whatever {root} issues", grade)
    for name, authority in after.authorities.items():
        if authority.public and name in before.authorities and not before.authorities[name].public:
            yield Gain("trusted", ("public", name), f"every visitor newly trusts whatever {name} issues", "more")
    for name, zone in after.zones.items():
        known: Any = before.zones.get(name)
        if known is not None and known.ds and not zone.ds:
            yield Gain("unverified", ("ds", name), f"nobody checks the signatures of {name} any more", "more")
