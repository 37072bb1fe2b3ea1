"""What a resolver comes to, gathered while it walks, and who is asking."""

from datetime import datetime

from portolan.dns.zone import Types
from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine
from portolan.estate.service import Resolver
from portolan.evidence.decision import Decision
from portolan.evidence.outcome import Detail
from portolan.source.value import Value


class Asker(Value, frozen=True):
    """Who puts questions to name servers: a described resolver, or an ordinary one on the internet (no machine).

    `client` is the address that asked it, `since` when its cache was filled, None when it is empty; `at` is the moment at
    which it asks, None for now.
    """

    label: str
    machine: Machine | None = None
    service: Resolver | None = None
    client: IPAddress | None = None
    validates: bool = False
    since: datetime | None = None
    at: datetime | None = None
    passed: tuple[str, ...] = ()


class Answer:
    """The last node found, the aliases on the way, every decision; `detail` once it failed."""

    __slots__ = ("aliases", "decisions", "detail", "leads_out", "name", "referred", "types", "zone")

    def __init__(self) -> None:
        self.decisions: list[Decision] = []
        self.aliases: list[str] = []
        self.types: Types = {}
        self.name = ""
        self.detail: Detail | None = None
        self.zone: str | None = None
        #: Of a name server's own answer: whether it named other servers, and whether it is an alias without its target.
        self.referred = False
        self.leads_out = False

    def take(self, other: "Answer") -> None:
        """Goes on as another answer does."""
        self.decisions += other.decisions
        self.aliases += other.aliases
        self.types, self.name, self.detail, self.zone = other.types, other.name, other.detail, other.zone

    def fail(self, detail: Detail, decision: Decision) -> None:
        """Ends it badly."""
        self.detail = detail
        self.decisions.append(decision)
