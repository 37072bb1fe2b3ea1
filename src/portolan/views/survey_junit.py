"""A survey as JUnit XML, as CI servers read it: a test case for each question, its place in the estate beside it."""

from collections.abc import Iterator
from xml.etree.ElementTree import Element, SubElement, tostring

from portolan.source.plain import one_line
from portolan.surveying.answered import Answered
from portolan.surveying.survey import Survey
from portolan.views.style import Style
from portolan.views.words import in_words


def _text(text: object) -> str:
    """Foreign text, without what XML has no way to write (XML 1.0, section 2.2)."""
    return "".join(each for each in one_line(str(text), 4000) if each >= " " and not 0xFFFE <= ord(each) <= 0xFFFF)


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The document, case by case: the whole is never held."""
    del style
    missed = sum(len(group.missed) for group in survey.groups)
    counts = {
        "tests": str(survey.asked + len(survey.failed)),
        "failures": str(missed),
        "errors": str(len(survey.failed)),
    }
    opened = Element("testsuites", {"name": "portolan survey", **counts})
    suite = SubElement(opened, "testsuite", {"name": "expectations", **counts, "skipped": "0"})
    suite.set("timestamp", f"{survey.at:%Y-%m-%dT%H:%M:%S}")
    suite.text = "\n"
    written = tostring(opened, "unicode")
    yield '<?xml version="1.0" encoding="utf-8"?>\n'
    yield written.removesuffix("</testsuite></testsuites>")
    causes = {each.number: group for group in survey.groups for each in group.missed}
    for each in survey.answers:
        group = causes.get(each.number)
        code = group.cause.rule if group is not None and group.cause is not None else "no-known-fault"
        yield tostring(_case(each, code, group.text if group is not None else ""), "unicode") + "\n"
    for chunk in survey.failed:
        name = f"{chunk.count} questions from number {chunk.first + 1} on"
        case = Element("testcase", {"classname": "portolan", "name": name, "time": "0"})
        SubElement(case, "error", {"message": _text(chunk.failed), "type": "not-answered"})
        yield tostring(case, "unicode") + "\n"
    yield "</testsuite></testsuites>\n"


def _case(each: Answered, code: str, why: str) -> Element:
    case = Element("testcase", {"classname": _text(each.vantage), "name": _text(each.url), "time": "0"})
    if each.span is not None:
        case.set("file", _text(each.span.file))
        case.set("line", str(each.span.line))
    if not each.met:
        message = f"{'; '.join(each.missed)}: {in_words(each.outcome)}"
        failure = SubElement(case, "failure", {"message": _text(message), "type": code})
        failure.text = _text("; ".join((*each.at_times, why)))
    return case
