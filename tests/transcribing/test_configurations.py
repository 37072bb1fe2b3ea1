"""Forty configurations as people write them, and the default files that are installed: each an estate that loads."""

from pathlib import Path

import pytest

from conformance.unread import configurations, read
from portolan.transcribing.registry import read_web
from portolan.transcribing.sources import SourceError
from tests.conftest import STORIES
from tests.transcribing.test_machine import run

EVERY = list(configurations())


@pytest.mark.parametrize(
    ("program", "title", "text"), EVERY, ids=[f"{program}: {title}" for program, title, _ in EVERY]
)
def test_a_configuration_is_read(program, title, text):
    """What cannot be kept is told with its line; every site is there."""
    made = read(program, text)
    sites = made.documents["server.yaml"]["hosts"]["server"]["services"][program]["sites"]
    hosts = text.count("<VirtualHost") if program == "apache" else text.count("server {")
    assert len(sites) >= min(hosts, 1)
    assert all(
        spot.file == f"etc/{'nginx' if program == 'nginx' else 'apache2'}/sites/site" for spot, _ in made.unread
    ), title


def test_most_is_kept():
    """More than half of them whole; which are not, `python -m conformance.unread` says."""
    whole = [
        title
        for program, title, text in EVERY
        if not [words for _, words in read(program, text).unread if "certificate" not in words]
    ]
    assert len(EVERY) == 40
    assert len(whole) >= 25


@pytest.mark.parametrize("folder", ["/etc/nginx", "/etc/apache2"])
def test_the_installed_defaults_are_read_whole(folder):
    """As the distribution brings them."""
    if not Path(folder).is_dir():
        pytest.skip(f"{folder} is not installed")
    try:
        gathered, _ = read_web(folder)
    except SourceError as error:
        pytest.skip(error.message)
    losses = [f"{spot} {words}" for site in gathered.sites.values() for spot, words in site.losses()]
    assert gathered.sites
    assert [each for each in losses if "was not given" not in each] == []


def test_the_story_is_what_its_machine_says():
    """The shipped estate and the archive beside it agree."""
    story = STORIES / "fresh-ink"
    done = run("transcribe", "machine", story / "answers.tar", "--differs", story, "--name", "orion")
    assert (done.returncode, done.stdout) == (0, "The estate says what the source says.\n")
