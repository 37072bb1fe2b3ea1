"""Every form of output: one module of this room each, with one function; a further form is one module, and its line here."""

from collections.abc import Iterable
from importlib import import_module
from typing import Any, Protocol

from portolan.views.style import Style

#: What is shown, in which forms, and the module for each; the first form is the usual one.
FORMATS: dict[str, dict[str, str]] = {
    "survey": {
        "text": "survey_text",
        "json": "survey_json",
        "csv": "survey_csv",
        "markdown": "survey_markdown",
        "junit": "survey_junit",
        "sarif": "survey_sarif",
    },
    "compare": {"text": "compare_text", "json": "compare_json", "markdown": "compare_markdown"},
    "places": {"text": "places_text", "json": "places_json", "markdown": "places_markdown"},
    "draw": {"svg": "draw_svg"},
    "plan": {"svg": "plan_svg"},
    "report": {"html": "report_html"},
    "exposed": {"text": "exposed_text", "json": "exposed_json"},
}


class Form(Protocol):
    """A module that shows results of one kind in one form."""

    def shown(self, result: Any, style: Style) -> Iterable[str]:
        """The output piece by piece, so that nobody holds the whole of a long one."""


def form_of(what: str, name: str) -> Form:
    """The module that shows results of a kind in a form, loaded when it is asked for."""
    form: Form = import_module(f"portolan.views.{FORMATS[what][name]}")
    return form
