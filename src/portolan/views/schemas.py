"""The JSON Schemas (2020-12) of the JSON views, made from the enumerations that the views write."""

from enum import StrEnum
from typing import Any

from portolan.diagnosis.base import Severity
from portolan.diagnosis.proposal import Safety
from portolan.estate.certificate import WAYS
from portolan.evidence.decision import Leg
from portolan.evidence.outcome import DETAILS, Detail, Kind
from portolan.surveying.compared import SAFETY

Schema = dict[str, Any]

_TEXT: Schema = {"type": "string"}
_NUMBER: Schema = {"type": "integer"}
_TRUTH: Schema = {"type": "boolean"}
_MAYBE_TEXT: Schema = {"type": ["string", "null"]}
_MAYBE_NUMBER: Schema = {"type": ["integer", "null"]}
_MOMENT: Schema = {"type": "string", "format": "date-time"}


def _object(**properties: Schema) -> Schema:
    """An object with exactly these keys; an underscore at a key's end is no part of it."""
    named = {key.removesuffix("_"): value for key, value in properties.items()}
    return {"type": "object", "properties": named, "required": list(named), "additionalProperties": False}


def _list(of: Schema, **more: Any) -> Schema:
    return {"type": "array", "items": of, **more}


def _or_null(of: Schema) -> Schema:
    return {"anyOf": [of, {"type": "null"}]}


def _one_of(values: type[StrEnum] | tuple[Detail, ...], null: bool = False) -> Schema:
    return {"enum": [*(str(each) for each in values), *([None] if null else [])]}


def _ref(name: str) -> Schema:
    return {"$ref": f"#/$defs/{name}"}


def _details(*kinds: Kind) -> Schema:
    return _one_of(tuple(dict.fromkeys(each for kind in kinds for each in DETAILS[kind])), null=True)


def _outcome() -> Schema:
    shape = _object(
        kind=_one_of(Kind),
        detail={**_MAYBE_TEXT, "description": "What went wrong; for http-error the service that answered."},
        status={**_MAYBE_NUMBER, "minimum": 100, "maximum": 599},
        page={**_MAYBE_TEXT, "description": "SITE/PATH, or BUCKET/KEY where an object store gave it."},
        final_url=_TEXT,
        secure=_TRUTH,
        address=_MAYBE_TEXT,
        doubt={**_MAYBE_TEXT, "description": "Why the page that came is perhaps not what was meant; no failure."},
    )
    bound = [
        {"if": {"properties": {"kind": {"const": str(kind)}}}, "then": {"properties": {"detail": _one_of(details)}}}
        for kind, details in DETAILS.items()
        if details
    ]
    return {**shape, "allOf": bound}


_QUESTION = _object(url=_TEXT, vantage=_TEXT)

_WHAT = _list({"enum": ["outcome", "page", "redirects", "way", "security"]})

_DEFINITIONS: dict[str, Schema] = {
    "seen": _object(
        outcome=_ref("outcome"),
        redirects=_list(_TEXT),
        way=_list(_TEXT),
        legs=_list({"enum": list(SAFETY)}),
    ),
    "changed": _object(url=_TEXT, vantage=_TEXT, missed=_list(_TEXT), where=_MAYBE_TEXT),
    "access": _object(
        who=_TEXT,
        machine=_TEXT,
        service=_TEXT,
        at=_TEXT,
        protocol={"enum": ["tcp", "udp"]},
        from_outside={**_TRUTH, "description": "Whether it is somebody on the internet."},
    ),
    "step": _object(
        leg=_one_of(Leg),
        kind=_TEXT,
        facts={"type": "object", "description": "The facts of this kind, by the names that docs/decisions.md lists."},
        text=_TEXT,
        where=_MAYBE_TEXT,
        standard=_MAYBE_TEXT,
        stops=_TRUTH,
        assumed=_TRUTH,
    ),
    "outcome": _outcome(),
    "finding": _object(
        code={"type": "string", "pattern": "^[a-z0-9-]+$"},
        severity=_one_of(Severity),
        object=_TEXT,
        pointer={**_MAYBE_TEXT, "description": "The same as a JSON Pointer (RFC 6901)."},
        where=_MAYBE_TEXT,
        text=_TEXT,
    ),
    "packet": _object(from_=_TEXT, from_port=_NUMBER, to=_TEXT, to_port=_NUMBER),
    "hop": _object(
        box=_TEXT,
        entering=_MAYBE_TEXT,
        leaving=_MAYBE_TEXT,
        network=_MAYBE_TEXT,
        before=_ref("packet"),
        after=_ref("packet"),
        answer=_TRUTH,
    ),
    "connection": _object(
        address=_TEXT,
        port=_NUMBER,
        detail=_details(Kind.CONNECT_ERROR),
        machine=_MAYBE_TEXT,
        service=_MAYBE_TEXT,
        inside_address=_MAYBE_TEXT,
        inside_port=_MAYBE_NUMBER,
        hops=_list(_ref("hop")),
        steps=_list(_ref("step")),
    ),
    "exchange": _object(
        url=_TEXT,
        client=_object(
            kind={"enum": ["visitor", "program", "edge"]},
            name=_TEXT,
            machine={**_MAYBE_TEXT, "description": "The machine that it asks from; null: a device of its own."},
        ),
        from_memory=_or_null(
            _object(until={**_MAYBE_TEXT, "description": "Until when it is remembered; null: for good."})
        ),
        resolution=_object(
            host=_TEXT,
            addresses=_list(_TEXT),
            aliases=_list(_TEXT),
            detail=_details(Kind.NAME_ERROR),
            steps=_list(_ref("step")),
        ),
        connection=_or_null(_ref("connection")),
        attempts=_list(_ref("connection")),
        tls=_or_null(_object(certificate=_MAYBE_TEXT, detail=_details(Kind.TLS_ERROR), steps=_list(_ref("step")))),
        response=_or_null(
            _object(
                status={**_NUMBER, "description": "0 where what came is no HTTP."},
                site=_MAYBE_TEXT,
                page=_MAYBE_TEXT,
                location=_MAYBE_TEXT,
                steps=_list(_ref("step")),
            )
        ),
        inner={
            **_list(_ref("exchange")),
            "description": "The exchanges that the program asked made by itself, and that the response rests on.",
        },
    ),
    "remedy": _object(
        text=_TEXT,
        object=_MAYBE_TEXT,
        where=_MAYBE_TEXT,
        change=_list({"type": "object"}),
        safety=_one_of(Safety),
        fixes=_list(_TEXT),
        also_changes=_list(_TEXT),
        outcome=_or_null(_ref("outcome")),
        complete=_TRUTH,
        run_by={**_list(_TEXT), "description": "Who else must do it, as the estate says under `run_by`."},
        ask={
            **_or_null(_object(url=_TEXT, **{"from": _TEXT})),
            "description": "Without a change: what the visitor should ask instead, proven by asking it.",
        },
        steps={
            **_list(_object(text=_TEXT, change=_list({"type": "object"}), outcome=_ref("outcome"))),
            "description": "Where its parts depend on each other: in which order they are done, and what the visitor gets then.",
        },
    ),
}

_BY_HAND = _object(
    checks=_list(_object(leg=_one_of(Leg), on=_TEXT, command=_TEXT, prints=_list(_TEXT), where=_MAYBE_TEXT)),
    logs=_list(_object(on=_TEXT, file=_TEXT, line=_TEXT)),
    browser=_TEXT,
    ping=_object(on=_TEXT, command=_MAYBE_TEXT, prints=_TEXT, by=_MAYBE_TEXT, says=_TEXT),
)
_RESTS_ON = _object(
    tried=_NUMBER, facts=_list(_object(object=_TEXT, pointer=_TEXT, where=_TEXT, outcome=_ref("outcome")))
)
_FAULT: dict[str, Schema] = {"code": _TEXT, "wrong": _TEXT, "visitor_gets": _TEXT, "mend": _TEXT}
_EXAMPLE = _object(
    url={**_MAYBE_TEXT, "description": "Null where nothing is asked: `check` finds it."},
    vantage=_MAYBE_TEXT,
    gets=_MAYBE_TEXT,
    by_hand=_list(_object(on=_TEXT, command=_TEXT, prints=_list(_TEXT))),
    bad={**_TEXT, "description": "The smallest estate that shows it."},
    good={**_MAYBE_TEXT, "description": "The same without it; null where no change there mends it."},
    files={**_list(_object(name=_TEXT, holds=_TEXT, text=_TEXT)), "description": "The files that both name."},
)
_SUSPECT = _object(
    object=_TEXT,
    pointer=_TEXT,
    where=_TEXT,
    likely={"type": "number", "minimum": 0, "maximum": 1, "description": "Its share among the suspects."},
    ways=_list(_object(text=_TEXT, change=_list({"type": "object"}))),
)
_DOUBT = _object(
    portolan={"const": 1},
    url=_TEXT,
    at=_MOMENT,
    agrees={**_TRUTH, "description": "Whether the estate says all that was seen."},
    sights=_list(_object(vantage=_TEXT, seen=_list(_TEXT), predicted=_ref("outcome"), agrees=_TRUTH), minItems=1),
    checked=_object(right=_list(_TEXT), wrong=_list(_TEXT)),
    suspects={**_list(_SUSPECT), "description": "The likeliest first."},
    in_part={
        **_list(_SUSPECT),
        "description": "Those that give a part of it, and all of it perhaps by another value than was tried.",
    },
    unwritten=_list(_object(text=_TEXT, find_out=_TEXT)),
    bounded={**_TRUTH, "description": "Whether more ways could have been tried."},
    next=_or_null(_object(on=_TEXT, how=_TEXT, answers=_list(_object(shows=_TEXT, add=_TEXT, leaves=_list(_TEXT))))),
)
_EXPECTED = _object(stated=_TRUTH, met=_TRUTH, missed=_list(_TEXT))
_FOLLOW: dict[str, Schema] = {
    "portolan": {"const": 1},
    "url": _TEXT,
    "vantage": _TEXT,
    "at": _MOMENT,
    "after_reboot": {
        **_or_null(_list(_TEXT)),
        "description": "The machines that had just booted; null: every one.",
    },
    "outcome": _ref("outcome"),
    "addresses": {
        **_list(
            _object(
                address=_MAYBE_TEXT,
                member={**_MAYBE_TEXT, "description": "The member of a pool that has its turn."},
                not_in_effect={**_MAYBE_TEXT, "description": "The edge whose settings are not in effect there yet."},
                of={"type": "integer", "minimum": 1},
                client={"enum": ["curl", "chromium"]},
                outcome=_ref("outcome"),
            )
        ),
        "description": "Who gets something else: at other addresses of the name, now and then; or (address null) with another client. "
        "`outcome` is the first's of those that miss the expectation, if any.",
    },
    "expected": _EXPECTED,
    "exchanges": _list(_ref("exchange"), minItems=1),
    "parts": {
        **_list(_object(url=_TEXT, where=_TEXT, plain=_TRUTH, outcome=_ref("outcome"))),
        "description": "What the page takes from elsewhere and does not come; plain: browsers do not ask, since the page is secure.",
    },
    "assumptions": _list(_TEXT),
    "findings": _list(_ref("finding")),
    "by_hand": {**_or_null(_BY_HAND), "description": "What can be looked at by hand, with --by-hand."},
}
_EXPLAINED = _object(
    **_FOLLOW,
    causes={**_list(_ref("finding")), "description": "Those that together keep the visitor out, in the order met."},
    other_causes={**_list(_list(_ref("finding"))), "description": "Other sets that would explain it as well."},
    bounded={**_TRUTH, "description": "Whether more changes could have been tried than the bound allows."},
    remedies=_list(_ref("remedy")),
    withheld=_list(_TEXT),
    after=_or_null(_ref("outcome")),
)


_SHAPES: dict[str, Schema] = {
    "follow": {
        **_object(**_FOLLOW),
        "properties": {**_FOLLOW, "rests_on": {**_RESTS_ON, "description": "With --rests-on."}},
    },
    "several": _object(
        portolan={"const": 1},
        url=_TEXT,
        at=_MOMENT,
        places=_list(_object(vantage=_TEXT, outcome=_ref("outcome"), met=_TRUTH, missed=_list(_TEXT)), minItems=1),
        parting=_or_null(
            _object(
                met=_TEXT,
                missed=_TEXT,
                leg=_one_of(Leg),
                decisions=_list(_or_null(_object(kind=_TEXT, text=_TEXT, where=_MAYBE_TEXT)), minItems=2, maxItems=2),
            )
        ),
    ),
    "doubt": _DOUBT,
    "fault": {
        "anyOf": [
            _object(**_FAULT, comes=_TEXT, prevent=_TEXT, example=_EXAMPLE),
            _object(faults=_list(_object(**_FAULT))),
        ],
        "description": "Of one code; without one, the list of all.",
    },
    "letter": _object(portolan={"const": 1}, to=_TEXT, subject=_TEXT, wanted=_TEXT, body=_TEXT),
    "probe": _object(
        portolan={"const": 1},
        url=_TEXT,
        vantage={**_TEXT, "description": "Where this machine is in the estate."},
        at=_MOMENT,
        asks=_list(_object(server=_TEXT, address={**_MAYBE_TEXT, "description": "Null: this machine's own way."})),
        addresses={**_list(_TEXT), "description": "Addresses that are given in place of the name's."},
        predicted=_ref("outcome"),
        exchanges={
            **_or_null(
                _list(
                    _object(
                        url=_TEXT,
                        left={**_MAYBE_TEXT, "description": "Why it was not asked."},
                        legs=_list(
                            _object(
                                leg=_one_of(Leg),
                                what=_TEXT,
                                says=_TEXT,
                                seen=_TEXT,
                                same={"type": ["boolean", "null"], "description": "Null: there is nothing to compare."},
                            )
                        ),
                        chains=_list(
                            _object(
                                address=_TEXT,
                                subjects=_list(_TEXT),
                                names=_list(_TEXT),
                                until=_or_null(_MOMENT),
                                version=_MAYBE_TEXT,
                            )
                        ),
                    )
                )
            ),
            "description": "Null with --dry-run: nothing was asked.",
        },
        seen=_MAYBE_TEXT,
        seconds={"type": ["number", "null"]},
        differs=_TRUTH,
        doubt=_or_null(_DOUBT),
    ),
    "explain": {
        "anyOf": [
            _EXPLAINED,
            _object(
                portolan={"const": 1},
                at=_MOMENT,
                questions=_object(asked=_NUMBER, left=_NUMBER),
                missed=_NUMBER,
                left_out={**_NUMBER, "description": "So many causes more there are."},
                explanations=_list(_EXPLAINED),
            ),
        ],
        "description": "Of one URL; without one, of what misses an expectation, one a cause.",
    },
    "check": _object(
        portolan={"const": 1},
        at=_MOMENT,
        read=_object(routers=_NUMBER, hosts=_NUMBER, zones=_NUMBER, vantages=_NUMBER, expected=_NUMBER),
        questions=_object(asked=_NUMBER, left=_NUMBER),
        missed=_list(
            _object(
                url=_TEXT,
                vantage=_TEXT,
                where=_MAYBE_TEXT,
                missed=_list(_TEXT, minItems=1),
                outcome=_ref("outcome"),
                cause=_or_null(_ref("finding")),
            )
        ),
        findings=_list(_ref("finding")),
    ),
    "ladder": _object(
        portolan={"const": 1},
        url=_TEXT,
        at=_MOMENT,
        machine={
            **_MAYBE_TEXT,
            "description": "The machine that it begins at; null where none described gives the page.",
        },
        rungs=_list(
            _object(
                name=_TEXT,
                from_=_TEXT,
                url=_TEXT,
                address={**_MAYBE_TEXT, "description": "What the name is taken for; null where it is looked up."},
                outcome=_ref("outcome"),
                met=_TRUTH,
                missed=_list(_TEXT),
            )
        ),
        broken={**_MAYBE_NUMBER, "description": "The first rung that fails, counted from 0."},
        findings=_list(_ref("finding")),
    ),
    "survey": _object(
        portolan={"const": 1},
        at=_MOMENT,
        after_reboot={**_or_null(_list(_TEXT)), "description": "The machines that had just booted; null: all."},
        from_=_list(_TEXT),
        expectations=_NUMBER,
        questions=_NUMBER,
        answered=_NUMBER,
        missed=_NUMBER,
        not_answered=_list(_object(first=_NUMBER, questions=_NUMBER, why=_TEXT)),
        causes=_list(
            _object(
                finding={**_or_null(_ref("finding")), "description": "Null where no known fault explains it."},
                text=_TEXT,
                proven={**_TRUTH, "description": "Whether it was proven by mending; else the first that explains it."},
                missed={**_NUMBER, "minimum": 1},
            )
        ),
        since={
            **_or_null(
                _object(
                    new=_list(_QUESTION),
                    mended=_list(_QUESTION),
                    still_missed=_list(_QUESTION),
                    asked_first=_NUMBER,
                    asked_no_more=_NUMBER,
                )
            ),
            "description": "What changed since the survey that --baseline names.",
        },
        answers=_list(
            _object(
                url=_TEXT,
                vantage=_TEXT,
                met=_TRUTH,
                missed=_list(_TEXT),
                at_times={**_list(_TEXT), "description": "When it is missed, where that is not always."},
                outcome=_ref("outcome"),
                where=_MAYBE_TEXT,
                cause={**_MAYBE_NUMBER, "description": "Its number among the causes, from 0."},
            )
        ),
    ),
    "compare": _object(
        portolan={"const": 1},
        at=_MOMENT,
        questions=_NUMBER,
        left_out=_NUMBER,
        differences=_list(
            _object(url=_TEXT, vantage=_TEXT, what=_WHAT, weaker=_TRUTH, before=_ref("seen"), after=_ref("seen"))
        ),
        expectations=_object(
            newly_missed=_list(_ref("changed")),
            mended=_list(_ref("changed")),
            still_missed=_NUMBER,
            still_met=_NUMBER,
            newly_stated=_NUMBER,
            stated_no_more=_NUMBER,
        ),
        gained=_list(_ref("access")),
        lost=_list(_ref("access")),
        opened=_list(_TEXT),
        weakened=_list(_TEXT),
    ),
    "places": _object(
        portolan={"const": 1},
        url=_TEXT,
        at=_MOMENT,
        from_=_list(_TEXT, minItems=2, maxItems=2),
        what=_WHAT,
        seen=_list(_ref("seen"), minItems=2, maxItems=2),
        parting=_or_null(
            _object(
                leg=_one_of(Leg),
                decisions=_list(_or_null(_object(kind=_TEXT, text=_TEXT, where=_MAYBE_TEXT)), minItems=2, maxItems=2),
            )
        ),
    ),
    "exposed": _object(
        portolan={"const": 1},
        asked={**_NUMBER, "description": "How many connections were asked."},
        left_out=_list(_TEXT),
        reached=_list(
            _object(
                machine=_TEXT,
                service=_TEXT,
                port={**_NUMBER, "description": "The port that the program listens on."},
                protocol={"enum": ["tcp", "udp"]},
                where=_TEXT,
                asked_at=_object(address=_TEXT, port=_NUMBER),
                everywhere={**_TRUTH, "description": "Whether everybody on the internet gets through."},
                internet={**_list(_TEXT), "description": "Who does, as prefixes."},
                networks={
                    "type": "object",
                    "additionalProperties": _list(_TEXT),
                    "description": "By network: `everybody`, or who of its neighbours, as prefixes.",
                },
                machines={**_list(_TEXT), "description": "Machines that do where their neighbours do not."},
                by=_list(_object(text=_TEXT, where=_TEXT)),
                kept_out=_list(_object(who=_list(_TEXT), text=_TEXT, where=_MAYBE_TEXT)),
            )
        ),
    ),
    "renewals": _object(
        portolan={"const": 1},
        at=_MOMENT,
        renewals=_list(
            _object(
                certificate=_TEXT,
                ends=_or_null(_MOMENT),
                tried_from={
                    **_or_null(_MOMENT),
                    "description": "When a third of its life is left, at most 21 days before its end.",
                },
                by=_or_null({"enum": list(WAYS)}),
                blocked={
                    **_TRUTH,
                    "description": "Whether the stated way fails, or, where none is stated, every way of a name.",
                },
                challenges=_list(
                    _object(
                        name=_TEXT,
                        way={"enum": list(WAYS)},
                        succeeds=_TRUTH,
                        why=_MAYBE_TEXT,
                        address={**_MAYBE_TEXT, "description": "The address of the name at which it fails."},
                        where=_MAYBE_TEXT,
                    )
                ),
            )
        ),
    ),
}
_TITLES = {
    "letter": "explain --letter N",
    "several": "follow --from X,Y",
    "doubt": "explain --seen",
    "places": "compare --from X --from Y",
    "ladder": "follow --ladder",
    "renewals": "check --renewals",
}
#: What has a schema.
NAMES = tuple(_SHAPES)


def schema_of(name: str) -> Schema:
    """The schema of a view's JSON."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"The JSON of 'portolan {_TITLES.get(name, name)}'",
        **_SHAPES[name],
        "$defs": {key: _DEFINITIONS[key] for key in _needed(_SHAPES[name])},
    }


def _needed(shape: Any) -> list[str]:
    """The definitions that a shape refers to, with those that they refer to."""
    found: dict[str, None] = {}

    def look(at: Any) -> None:
        if isinstance(at, dict):
            name = str(at.get("$ref", "")).removeprefix("#/$defs/")
            if name and name not in found:
                found[name] = None
                look(_DEFINITIONS[name])
            for each in at.values():
                look(each)
        elif isinstance(at, list):
            for each in at:
                look(each)

    look(shape)
    return list(found)
