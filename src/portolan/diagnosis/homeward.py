"""How near home a visit came, whatever ended it: what a change that only leads further is measured by."""

from portolan.diagnosis.base import Case, Home, all_homes
from portolan.estate.names import answers_to
from portolan.estate.site import Site
from portolan.journey.visit import Visit
from portolan.source.value import Value


class Homeward(Value, frozen=True):
    """Where visitors of a name are meant to come by, by machine and site: to the expected page, and to what is named for the host."""

    wanted: frozenset[tuple[str, str]]
    named: frozenset[tuple[str, str]]

    def came(self, visit: Visit) -> int:
        """How near the last exchange of a visit came: to the expected site (4), to one named for the host (3), to a program (2) or a box (1) of theirs, to none (0)."""
        machines = {machine for machine, _ in self.wanted | self.named}
        nearest = 0
        for exchange in visit.exchanges[-1].tree:
            for attempt in exchange.attempts:
                reached = attempt.reached.name if attempt.reached is not None else None
                if reached in machines:
                    nearest = max(nearest, 2 if attempt.arrival is not None else 1)
                    site = exchange.response.site if exchange.response is not None else None
                    if isinstance(site, Site) and attempt is exchange.attempts[-1]:
                        nearest = max(
                            nearest, 4 * ((reached, site.name) in self.wanted), 3 * ((reached, site.name) in self.named)
                        )
        return nearest


def homeward(case: Case) -> Homeward:
    """What leads home in a case."""
    host, wanted = case.visit.exchanges[0].url.host.rstrip("."), case.site_name
    every = list(all_homes(case.estate))
    of_site = [home for home in every if home.site.name == wanted]
    of_name = [home for home in every if any(answers_to(name, host) for name in home.names)]
    return Homeward(_called(of_site or case.homes()), _called(of_name))


def _called(homes: list[Home]) -> frozenset[tuple[str, str]]:
    return frozenset((home.machine.name, home.site.name) for home in homes)
