"""Every form of output: one function each, `shown` of a module of this room unless it is named; a further form is that, and its line here."""

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    # Which forms there are is asked for help, too, where nothing is shown.
    from collections.abc import Callable, Iterable
    from typing import Any

    from portolan.views.style import Style

    #: Shows a result piece by piece, so that nobody holds the whole of a long one.
    Form = Callable[[Any, Style], Iterable[str]]

#: What is shown, in which forms, and the module (and function) for each; the first form is the usual one.
FORMATS: dict[str, dict[str, str]] = {
    "follow": {"text": "text", "json": "json_forms:followed"},
    "several": {"text": "observing_text:several", "json": "observing_json:several"},
    "doubt": {"text": "observing_text:doubted", "json": "observing_json:doubted"},
    "probe": {"text": "probe_view:text", "json": "probe_view:json"},
    "letter": {"text": "letter:text", "json": "letter:json"},
    "ladder": {"text": "text_forms:climbed", "json": "json_forms:climbed"},
    "check": {"text": "text_forms:checked", "json": "json_forms:checked"},
    "renewals": {"text": "text_forms:renewed", "json": "json_forms:renewed"},
    "explain": {"text": "text_forms:explained", "json": "json_forms:explained", "patch": "json_forms:patch"},
    "explain all": {"text": "text_forms:all_explained", "json": "json_forms:all_explained"},
    "rehearse": {"text": "text_forms:held_against", "json": "json_forms:held_against"},
    "fault": {"text": "text_forms:faults", "json": "json_forms:faults"},
    "stories": {"text": "text_forms:stories", "json": "json_forms:stories"},
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
    "exposed": {"text": "exposed_text", "json": "exposed_json"},
    "draw": {"svg": "draw_svg"},
    "plan": {"svg": "plan_svg"},
    "report": {"html": "report_html"},
}


def form_of(what: str, name: str) -> "Form":
    """What shows results of a kind in a form; its module is loaded when it is asked for."""
    module, _, function = FORMATS[what][name].partition(":")
    form: Form = getattr(import_module(f"portolan.views.{module}"), function or "shown")
    return form
