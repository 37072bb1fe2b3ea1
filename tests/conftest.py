"""Shared helpers: estates from text, questions to them, and the installed program on temporary folders."""

import os
import subprocess
import sys
import textwrap
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from portolan.formats.estate_file import Loaded, load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.problem import EstateError
from portolan.views.schemas import schema_of

# How long an example takes is measured in bench/, never by a test. Tests answer the same every time; what they explore at random
# is a step of its own (`pytest tests/property --hypothesis-profile explore --hypothesis-seed N`), and what it finds is kept.
settings.register_profile(
    "portolan", deadline=None, derandomize=True, database=None, suppress_health_check=[HealthCheck.too_slow]
)
settings.register_profile(
    "explore",
    deadline=None,
    max_examples=200,
    database=None,
    print_blob=True,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("portolan")

NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
STORIES = Path(__file__).parent.parent / "src" / "portolan" / "stories"

#: A small estate that works; tests change one fact of it.
OFFICE = """
portolan: 1
at: 2026-03-14T20:00:00Z
networks:
  dome: {subnets: [10.20.0.0/24]}
routers:
  gateway:
    interfaces:
      line: {network: internet, address: 203.0.113.40}
      dome: {address: 10.20.0.1}
    masquerade: [line]
    forwards:
      - {on: line, tcp: 80, to: 10.20.0.15}
      - {on: line, tcp: 443, to: 10.20.0.15}
hosts:
  orion:
    interfaces: {dome: {address: 10.20.0.15}}
    services:
      web:
        program: nginx
        listens: [80, 443 tls]
        sites:
          visit:
            names: [visit.kestrel-ridge.example]
            certificate: visit
            files: [index.html, tonight.html, img/dome.jpg]
          other:
            names: [other.kestrel-ridge.example]
            certificate: visit
            files: [index.html]
certificates:
  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01}
zones:
  kestrel-ridge.example:
    records:
      - visit 3600 A 203.0.113.40
      - other 3600 A 203.0.113.40
vantages:
  street: {network: internet, address: 198.51.100.77, default: true}
  office: {network: dome, address: 10.20.0.50}
expected:
  - {url: "https://visit.kestrel-ridge.example/", from: street, page: visit/index.html}
"""


def loaded(text: str, **files: str | bytes) -> Loaded:
    """An estate from text, with further files (`zones__x` is the file zones/x)."""
    named = {name.replace("__", "/"): content for name, content in files.items()}
    return load(MemoryFiles({"estate.yaml": textwrap.dedent(text), **named}), "estate.yaml")


def problems(text: str | bytes, **files: str | bytes) -> list[str]:
    """What a load complains of, as lines."""
    named = {name.replace("__", "/"): content for name, content in files.items()}
    content = textwrap.dedent(text) if isinstance(text, str) else text
    with pytest.raises(EstateError) as caught:
        load(MemoryFiles({"estate.yaml": content, **named}), "estate.yaml")
    return [str(problem) for problem in caught.value.problems]


def world(text: str, **files: str | bytes) -> World:
    """An estate from text, ready for visits."""
    estate = loaded(text, **files).estate
    return World(estate, estate.at or NOW)


def ask(text: str, url: str = "https://visit.kestrel-ridge.example/", vantage: str = "street", **files: str) -> Visit:
    """One visit."""
    ready = world(text, **files)
    return visit(ready, url, ready.estate.vantages[vantage])


def got(found: Visit) -> str:
    """An outcome as one word: its detail, its page, or its status."""
    outcome = found.outcome
    return outcome.page or (str(outcome.status) if outcome.kind == "http-error" else outcome.detail) or outcome.kind


def all_got(text: str, asked: Iterable[tuple[str, str]]) -> list[str]:
    """What comes for each URL and vantage; the pages of the site `visit` without its name, and `_` for a blank."""
    return [got(ask(text, url, who)).removeprefix("visit/").replace(" ", "_") for url, who in asked]


def swap(text: str, *changes: tuple[str, str]) -> str:
    """Text with replacements, each of which must find its place."""
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return text


#: What would change an answer; and what keeps compiled modules from being kept, as no installation does.
_NOT_HANDED_ON = ("COLUMNS", "PORTOLAN_ESTATE", "NO_COLOR", "PYTHONDONTWRITEBYTECODE")


@pytest.fixture
def program(tmp_path: Path) -> Callable[..., "subprocess.CompletedProcess[str]"]:
    """Runs the installed program in a temporary folder."""

    def run(*arguments: str, stdin: str | None = None, **environment: str) -> "subprocess.CompletedProcess[str]":
        held = {key: value for key, value in os.environ.items() if key not in _NOT_HANDED_ON}
        return subprocess.run(
            [sys.executable, "-m", "portolan", *arguments], input=stdin, capture_output=True, text=True, cwd=tmp_path,
            env={**held, "PYTHONUTF8": "1", **environment}, timeout=300, check=False,
        )  # fmt: skip

    return run


def schema(name: str) -> Any:
    """A shipped JSON Schema."""
    return schema_of(name)
