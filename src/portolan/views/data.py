"""The JSON view: stable, versioned, described by the schemas beside this file."""

from datetime import datetime
from typing import TYPE_CHECKING, Any

from portolan.estate.client import Client, EdgeClient
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.legs import Connection, Exchange
from portolan.evidence.outcome import Outcome
from portolan.journey.expectation import Miss
from portolan.journey.parts import Part
from portolan.journey.turns import Turn
from portolan.journey.visit import Visit
from portolan.source.place import Place, pointer

if TYPE_CHECKING:
    # What failed is shown by values of that room; an answer in which nothing did does not wait for it.
    from portolan.diagnosis.asking import Answers
    from portolan.diagnosis.base import Finding
    from portolan.diagnosis.trial import Explanation, Remedy

VERSION = 1


def moment(at: datetime) -> str:
    """A moment as JSON has it."""
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def follow_data(
    visit: Visit,
    missed: tuple[Miss, ...],
    expected: bool,
    findings: "list[Finding]",
    turns: tuple[Turn, ...] = (),
    parts: tuple[Part, ...] = (),
    by_hand: dict[str, Any] | None = None,
) -> dict[str, Any]:
    """One visit as plain data. `outcome` is the worst: what comes at one of the name's addresses, where that misses."""
    return {
        "portolan": VERSION,
        "url": visit.url,
        "vantage": visit.vantage.name,
        "at": moment(visit.at),
        "after_reboot": None if visit.booted is None else sorted(visit.booted),
        "outcome": outcome_data(turns[0].visit.outcome if turns and turns[0].misses else visit.outcome),
        "addresses": [
            {
                "address": None if each.address is None else str(each.address),
                "member": each.member or None,
                "not_in_effect": None if each.edge is None else each.edge.place.pointer,
                "of": each.of,
                "client": each.client,
                "outcome": outcome_data(each.visit.outcome),
            }
            for each in turns
        ],
        "expected": {
            "stated": expected,
            "met": not missed and not any(turn.misses for turn in turns),
            "missed": [each.text for each in (*missed, *(one for turn in turns for one in turn.misses))],
        },
        "exchanges": [_exchange(exchange) for exchange in visit.exchanges],
        "parts": [
            {
                "url": each.url,
                "where": each.stated.place.span.short,
                "plain": each.plain,
                "outcome": outcome_data(each.visit.outcome),
            }
            for each in parts
        ],
        "assumptions": [each.text for each in visit.assumptions],
        "findings": [finding_data(finding) for finding in findings],
        "by_hand": by_hand,
    }


def explain_data(
    explanation: "Explanation",
    findings: "list[Finding]",
    by_hand: dict[str, Any] | None = None,
    others: dict[int, tuple[str, ...]] | None = None,
) -> dict[str, Any]:
    """An explanation as plain data."""
    stated = explanation.expectation is not None
    data = follow_data(explanation.visit, explanation.missed, stated, findings, by_hand=by_hand)
    data["causes"] = [finding_data(cause) for cause in explanation.causes]
    data["other_causes"] = [[finding_data(cause) for cause in others] for others in explanation.other_causes]
    data["remedies"] = [
        {**_remedy(remedy), "run_by": list((others or {}).get(number, ()))}
        for number, remedy in enumerate(explanation.remedies, 1)
    ]
    data["bounded"] = explanation.bounded
    data["withheld"] = list(explanation.withheld)
    data["after"] = outcome_data(explanation.after.outcome) if explanation.after is not None else None
    return data


def all_explained_data(now: "datetime", found: "Answers", explained: list[dict[str, Any]]) -> dict[str, Any]:
    """Several explanations, one a cause."""
    return {
        "portolan": VERSION,
        "at": moment(now),
        "questions": {"asked": found.asked, "left": found.left},
        "missed": sum(len(group.missed) for group in found.groups),
        "left_out": len(found.groups) - len(explained),
        "explanations": explained,
    }


def outcome_data(outcome: Outcome) -> dict[str, Any]:
    """An outcome as plain data."""
    return {
        "kind": outcome.kind,
        "detail": outcome.detail,
        "status": outcome.status,
        "page": outcome.page,
        "final_url": outcome.final_url,
        "secure": outcome.secure,
        "address": outcome.address,
        "doubt": outcome.doubt,
    }


def finding_data(finding: "Finding") -> dict[str, Any]:
    """A finding as plain data."""
    return {
        "code": finding.code,
        "severity": finding.severity,
        "object": finding.object,
        "pointer": pointer(finding.place.path) if finding.place is not None else None,
        "where": _where(finding.place),
        "text": finding.text,
    }


def _remedy(remedy: "Remedy") -> dict[str, Any]:
    return {
        "text": remedy.text,
        "object": remedy.place.object if remedy.place is not None else None,
        "where": _where(remedy.place),
        "change": remedy.patch,
        "safety": remedy.safety,
        "fixes": list(remedy.fixes),
        "also_changes": list(remedy.changes),
        "outcome": outcome_data(remedy.outcome) if remedy.outcome is not None else None,
        "complete": remedy.complete,
        "ask": None if remedy.ask is None else {"url": remedy.ask[0], "from": remedy.ask[1]},
        "steps": [
            {"text": each.text, "change": each.patch, "outcome": outcome_data(each.outcome)} for each in remedy.steps
        ],
    }


def _kind_of(client: Client) -> str:
    if isinstance(client, Vantage):
        return "visitor"
    return "edge" if isinstance(client, EdgeClient) else "program"


def _exchange(exchange: Exchange) -> dict[str, Any]:
    handshake, response = exchange.handshake, exchange.response
    return {
        "url": str(exchange.url),
        "client": {
            "kind": _kind_of(exchange.client),
            "name": exchange.client.name,
            "machine": exchange.client.host,
        },
        "from_memory": None,
        "resolution": {
            "host": exchange.resolution.host,
            "addresses": [str(address) for address in exchange.resolution.addresses],
            "aliases": list(exchange.resolution.aliases),
            "detail": exchange.resolution.detail,
            "steps": _steps(exchange.resolution.decisions),
        },
        "connection": _connection(exchange.connection) if exchange.connection is not None else None,
        "attempts": [_connection(attempt) for attempt in exchange.attempts],
        "tls": {
            "certificate": handshake.certificate.name if handshake.certificate is not None else None,
            "detail": handshake.detail,
            "steps": _steps(handshake.decisions),
        }
        if handshake is not None
        else None,
        "response": {
            "status": response.status,
            "site": response.site.name if response.site is not None else None,
            "page": response.page,
            "location": response.location,
            "steps": _steps(response.decisions),
        }
        if response is not None
        else None,
        "inner": [_exchange(each) for each in exchange.inner],
    }


def _connection(connection: Connection) -> dict[str, Any]:
    arrival = connection.arrival
    return {
        "address": str(connection.address),
        "port": connection.port,
        "detail": connection.detail,
        "machine": connection.reached.name if connection.reached is not None else None,
        "service": arrival.service.name if arrival is not None else None,
        "inside_address": str(arrival.address) if arrival is not None else None,
        "inside_port": arrival.port if arrival is not None else None,
        "hops": [
            {
                "box": hop.label,
                "entering": hop.entering,
                "leaving": hop.leaving,
                "network": hop.network,
                "before": _packet(hop.before),
                "after": _packet(hop.after),
                "answer": hop.answer,
            }
            for hop in connection.hops
        ],
        "steps": _steps(connection.decisions),
    }


def _packet(packet: tuple[Any, int, Any, int]) -> dict[str, Any]:
    return {"from": str(packet[0]), "from_port": packet[1], "to": str(packet[2]), "to_port": packet[3]}


def _steps(decisions: tuple[Decision, ...]) -> list[dict[str, Any]]:
    return [
        {
            "leg": each.leg,
            "kind": each.kind,
            "facts": {name: _plain(value) for name, value in each.facts.items()},
            "text": each.text,
            "where": _where(each.place),
            "standard": each.standard or None,
            "stops": each.stops,
            "assumed": each.assumed,
        }
        for each in decisions
    ]


def _plain(value: object) -> object:
    """A fact as plain data: numbers as they are, everything else in words."""
    return value if value is None or isinstance(value, int | bool) else f"{value}"


def _where(place: Place | None) -> str | None:
    if place is None or place.span.file == "(assumed)":
        return None
    return place.span.short


def check_data(estate: Estate, at: datetime, findings: "list[Finding]", answers: "Answers") -> dict[str, Any]:
    """What a check found, as plain data."""
    return {
        "portolan": VERSION,
        "at": moment(at),
        "read": {
            "routers": len(estate.routers),
            "hosts": len(estate.hosts),
            "zones": len(estate.zones),
            "vantages": len(estate.vantages),
            "expected": len(estate.expected),
        },
        "questions": {"asked": answers.asked, "left": answers.left},
        "missed": [
            {
                "url": each.expectation.url,
                "vantage": each.vantage.name,
                "where": _where(each.expectation.place),
                "missed": [miss.text for miss in each.misses],
                "outcome": outcome_data(each.visit.outcome),
                "cause": finding_data(group.cause) if group.cause is not None else None,
            }
            for group in answers.groups
            for each in group.missed
        ],
        "findings": [
            {**finding_data(each), "where": str(each.place.span) if each.place else None} for each in findings
        ],
    }
