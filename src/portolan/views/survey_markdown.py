"""A survey as Markdown, short enough for the comment of a merge request."""

import re
from collections.abc import Iterator

from portolan.source.plain import one_line
from portolan.surveying.answered import Answered
from portolan.surveying.survey import Group, Survey
from portolan.views.style import Style
from portolan.views.survey_text import said, verdict
from portolan.views.words import counted

#: So many causes, and questions of each, are named.
_MOST_CAUSES, _MOST_NAMED = 50, 5
#: What CommonMark takes for markup anywhere in a line, and what begins an address that is made a link by itself.
_SIGNS = re.compile(r"([\\`*_{}\[\]<>()#+!|~&$@]|:(?=//)|(?<=\bwww)\.)", re.IGNORECASE)


def text_of(text: object, most: int = 600) -> str:
    """Foreign text as Markdown shows it: no sign of it is markup, and no address a link (CommonMark 2.4)."""
    return _SIGNS.sub(r"\\\1", one_line(str(text), most))


def code_of(text: object) -> str:
    """Foreign text in code: a fence longer than any in it (CommonMark 6.1)."""
    held = one_line(str(text), 600).replace("|", "\\|")
    longest = max((len(run) for run in re.findall("`+", held)), default=0)
    fence = "`" * (longest + 1)
    return f"{fence} {held} {fence}" if longest else f"`{held}`"


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The document, section by section."""
    del style
    ink, text = verdict(survey)
    sign = {"bad": "Missed", "warn": "Nothing asked", "good": "Met"}[ink]
    yield f"## {sign}: {text_of(text)}\n\n"
    if survey.since is not None:
        since = survey.since
        yield f"New: **{len(since.new):,}**, mended: **{len(since.mended):,}**, still missed: **{len(since.still):,}**.\n\n"
    for chunk in survey.failed:
        yield f"- not answered: {counted(chunk.count, 'question')} from number {chunk.first + 1:,} on: {text_of(chunk.failed)}\n"
    if survey.groups:
        yield "| missed | cause | what is wrong | where |\n| ---: | --- | --- | --- |\n"
        yield from (_line(group) for group in survey.groups[:_MOST_CAUSES])
        if len(survey.groups) > _MOST_CAUSES:
            yield f"\nand {len(survey.groups) - _MOST_CAUSES:,} causes more\n"
        yield "\n<details><summary>The questions</summary>\n\n"
        for group in survey.groups[:_MOST_CAUSES]:
            yield from (f"- {_named(each)}\n" for each in group.missed[:_MOST_NAMED])
            if len(group.missed) > _MOST_NAMED:
                yield f"- and {len(group.missed) - _MOST_NAMED:,} more of that cause\n"
        yield "\n</details>\n"


def _line(group: Group) -> str:
    cause = group.cause
    code = code_of(cause.rule) if cause is not None else "no known fault"
    where = code_of(cause.span.short) if cause is not None and cause.span is not None else ""
    return f"| {len(group.missed):,} | {code} | {text_of(group.text)} | {where} |\n"


def _named(each: Answered) -> str:
    return text_of(said(each))
