"""A report as one page that needs nothing else: no script, nothing fetched, a policy that forbids all but its own two styles."""

import base64
import hashlib
from collections.abc import Iterator
from functools import cache
from typing import Any

from portolan.diagnosis.registry import BY_CODE
from portolan.estate.base import at_port
from portolan.source.plain import plain
from portolan.surveying.exposed import Exposed
from portolan.surveying.report import Ends, Report, Told
from portolan.version import VERSION
from portolan.views import draw_svg, plan_svg
from portolan.views.explain_text import SAFETY_WORDS
from portolan.views.exposed_text import audience
from portolan.views.style import Style
from portolan.views.survey_text import said, verdict
from portolan.views.svg import STYLE
from portolan.views.words import counted, in_words

#: So many questions of a cause, and remedies, are named.
_MOST_NAMED, _MOST_REMEDIES = 8, 4
PAGE_STYLE = """
:root{color-scheme:light dark}body{font-family:system-ui,'DejaVu Sans',sans-serif;line-height:1.45;max-width:82rem;margin:0 auto;
padding:1.2rem;color:#1d2429;background:#fdfdfb}h1{font-size:1.7rem;margin:.2rem 0}h2{font-size:1.3rem;margin:2rem 0 .6rem;
border-bottom:1px solid #c9d0d5;padding-bottom:.2rem}h3{font-size:1.1rem;margin:1.4rem 0 .4rem}h4{margin:.8rem 0 .2rem}
figure{margin:1rem 0;overflow-x:auto}figcaption,.dim{color:#56626b}svg{max-width:100%;height:auto}.bad{color:#a3231b}.good{color:#1b6e3c}
.warn{color:#8a4b00}.place{font-family:ui-monospace,monospace;font-size:.86em;color:#56626b}table{border-collapse:collapse;width:100%}
caption{text-align:left;color:#56626b;padding:.2rem 0}th,td{text-align:left;vertical-align:top;padding:.3rem .6rem .3rem 0;
border-bottom:1px solid #dde2e5}a{color:#0b57a4}p,li,td,th{overflow-wrap:anywhere}
@media (prefers-color-scheme:dark){body{color:#e8ecef;background:#15191c}h2{border-color:#4a555d}figcaption,.dim,.place,caption{color:#a9b5bd}
.bad{color:#ff8a80}.good{color:#7fd8a0}.warn{color:#ffb869}th,td{border-color:#333c43}a{color:#8ec5ff}}
@media print{body{max-width:none;padding:0;font-size:10pt}nav{display:none}article,figure,tr{break-inside:avoid}h2,h3{break-after:avoid}}
"""


def shown(report: Report, style: Style) -> Iterator[str]:
    """The page, piece by piece."""
    yield from _template().generate(_facts(report, style))


@cache
def _template() -> Any:
    # Loaded where a page is made, and nowhere else.
    from jinja2 import Environment, PackageLoader, StrictUndefined

    environment = Environment(
        loader=PackageLoader("portolan.views", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_harmless,
    )
    return environment.get_template("report.html.j2")


def _harmless(value: object) -> object:
    """Foreign text without what nobody sees; what is markup already stays as it is."""
    return value if hasattr(value, "__html__") or not isinstance(value, str) else plain(value)


def _hash(style: str) -> str:
    """A style as a content security policy names it (CSP level 3, section 2.3.1)."""
    return f"'sha256-{base64.b64encode(hashlib.sha256(style.encode()).digest()).decode()}'"


def _facts(report: Report, style: Style) -> dict[str, Any]:
    """What the page says."""
    from markupsafe import Markup

    ink, text = verdict(report.survey)
    told = [_told(each, number, style) for number, each in enumerate(report.told, 1)]
    return {
        "title": report.title,
        "about": report.about,
        "at": f"{report.at:%Y-%m-%d %H:%M} UTC",
        "version": VERSION,
        "ink": ink,
        "sign": {"bad": "✗", "warn": "!", "good": "✓"}[ink],
        "verdict": f"{text[0].upper()}{text[1:]}.",
        "hashes": Markup(f"{_hash(PAGE_STYLE)} {_hash(STYLE)}"),
        "page_style": Markup(PAGE_STYLE),
        "told": told,
        "left": len(report.survey.groups) - len(told),
        "plan": Markup(plan_svg.drawn(report.plan, style).text_of(0)),
        "reached": _reached(report.exposed),
        "left_out": ", ".join(report.exposed.left),
        "ends": [_ends(each) for each in report.ends],
        "assumptions": report.assumptions,
    }


def _told(each: Told, number: int, style: Style) -> dict[str, Any]:
    """A cause, in words and as a picture."""
    from markupsafe import Markup

    group, found = each.group, each.explanation
    cause = group.cause
    remedies = [one for one in found.remedies if one.safety != "weakens"] or list(found.remedies)
    after = found.after
    best = found.best
    proof = ""
    if best is not None and best.patch and after is not None:
        proof = f"Proven: with that, the visitor gets {in_words(after.outcome)}."
    return {
        "head": _head(cause.rule) if cause is not None else "No known fault explains it",
        "text": f"{group.text[0].upper()}{group.text[1:]}." if group.text else "",
        "where": style.place(cause.span.short) if cause is not None and cause.span is not None else "",
        "count": counted(len(group.missed), "question"),
        "missed": [said(one) for one in group.missed[:_MOST_NAMED]],
        "more": max(0, len(group.missed) - _MOST_NAMED),
        "behind": [one.text for one in found.causes[1:]],
        "remedies": [
            {
                "text": one.text,
                "where": style.place(one.place.span.short) if one.place is not None and one.place.path else "",
                "safety": SAFETY_WORDS.get(one.safety, ""),
            }
            for one in remedies[:_MOST_REMEDIES]
        ],
        "proof": proof,
        "picture": Markup(draw_svg.drawn(each.picture, style).text_of(number)),
        "url": found.visit.url,
        "vantage": found.visit.vantage.name,
    }


def _head(code: str) -> str:
    """A fault's title with its code."""
    fault = BY_CODE.get(code)
    return f"{fault.title} ({code})" if fault is not None else code


def _reached(found: Exposed) -> list[dict[str, Any]]:
    return [
        {
            "machine": each.machine,
            "service": each.service,
            "port": f"{each.port}/{each.protocol}",
            "at": at_port(each.address, each.asked),
            "everywhere": each.everywhere,
            "who": "; ".join(audience(each)),
        }
        for each in found.reached
    ]


def _ends(each: Ends) -> dict[str, Any]:
    renewal = f"by {each.by}" if each.by else "as somebody sees to it"
    return {
        "name": each.name,
        "when": f"{each.ends:%Y-%m-%d %H:%M} UTC",
        "bad": bool(each.blocked),
        "renewal": f"will fail: {each.blocked}" if each.blocked else renewal,
    }
