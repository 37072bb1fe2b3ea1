"""The estate as a whole."""

from datetime import datetime
from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, Stated, says
from portolan.estate.certificate import Authority, Certificate
from portolan.estate.edge import Edge
from portolan.estate.machine import Host, Router
from portolan.estate.network import Group, Network
from portolan.estate.store import Store
from portolan.estate.vantage import Expectation, Vantage
from portolan.estate.zone import Zone


class Estate(Stated, frozen=True, kw_only=True, eq=False):
    """Everything that is stated. Names refer to names; the order of sections does not matter."""

    portolan: Annotated[Literal[1], says("The version of the format; always 1, and always written.")]
    title: Annotated[str | None, says("A line that says what this estate is.", kind="prose")] = None
    about: Annotated[str | None, says("A few sentences for whoever reads it next.", kind="prose")] = None
    at: Annotated[
        datetime | None,
        says(
            "The moment that questions are about, as an RFC 3339 time. Left out: now.", example="2026-03-14T20:00:00Z"
        ),
    ] = None
    include: Annotated[
        tuple[EstatePath, ...],
        says("Further files of the estate's folder whose sections are added to this one's, in this order."),
    ] = ()
    networks: Annotated[
        dict[str, Network], says("Networks by name. `internet` exists in every estate, written or not.")
    ] = msgspec.field(default_factory=dict)
    routers: Annotated[dict[str, Router], says("Routers by name.")] = msgspec.field(default_factory=dict)
    hosts: Annotated[dict[str, Host], says("Hosts by name.")] = msgspec.field(default_factory=dict)
    groups: Annotated[dict[str, Group], says("Security groups by name.")] = msgspec.field(default_factory=dict)
    zones: Annotated[dict[str, Zone], says("DNS zones by name.")] = msgspec.field(default_factory=dict)
    edges: Annotated[dict[str, Edge], says("Rented caching edges by name.")] = msgspec.field(default_factory=dict)
    stores: Annotated[dict[str, Store], says("Object stores by name, with their buckets.")] = msgspec.field(
        default_factory=dict
    )
    certificates: Annotated[dict[str, Certificate], says("Certificates by name.")] = msgspec.field(default_factory=dict)
    authorities: Annotated[dict[str, Authority], says("Certificate authorities by name.")] = msgspec.field(
        default_factory=dict
    )
    vantages: Annotated[dict[str, Vantage], says("Where visitors ask from.")] = msgspec.field(default_factory=dict)
    expected: Annotated[tuple[Expectation, ...], says("What visitors should get.")] = ()
