"""How near home a visit came, whatever ended it: what a change that only leads further is measured by."""

from portolan.diagnosis.base import Case, Home
from portolan.estate.site import Site
from portolan.evidence.legs import Exchange
from portolan.journey.visit import Visit
from portolan.source.value import Value


class Homeward(Value, frozen=True):
    """Where visitors of a name are meant to come by, by machine and site: to the expected page, and to what is named for the host."""

    wanted: frozenset[tuple[str, str]]
    named: frozenset[tuple[str, str]]

    def came(self, visit: Visit) -> int:
        """How near the last exchange of a visit came: to the expected site (4), to one named for the host (3), to a program (2) or a box (1) of theirs, to none (0)."""
        return max(map(self._came, visit.exchanges[-1].tree))

    def _came(self, exchange: Exchange) -> int:
        """How near one exchange came, whoever made it."""
        machines = {machine for machine, _ in self.wanted | self.named}
        there = [each for each in exchange.attempts if each.reached is not None and each.reached.name in machines]
        if not there:
            return 0
        last, response = exchange.connection, exchange.response
        if response is not None and isinstance(response.site, Site) and last is not None and last.reached is not None:
            answered = (last.reached.name, response.site.name)
            if answered in self.wanted:
                return 4
            if answered in self.named:
                return 3
        return 2 if any(each.arrival is not None for each in there) else 1


def homeward(case: Case) -> Homeward:
    """What leads home in a case."""
    host, wanted, sites = case.visit.exchanges[0].url.host.rstrip("."), case.site_name, case.sites
    of_site = sites.of_site(wanted) if wanted is not None else []
    return Homeward(_called(of_site or case.homes()), _called(sites.of_name(host)))


def _called(homes: list[Home]) -> frozenset[tuple[str, str]]:
    return frozenset((home.machine.name, home.site.name) for home in homes)
