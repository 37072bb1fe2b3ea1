"""Chunks of questions, asked here or by others: what others need for it, and how many of them."""

import os
from collections.abc import Callable, Iterator
from datetime import datetime

from portolan.cli.question import Given, with_changes
from portolan.formats.estate_file import load
from portolan.formats.files import Files
from portolan.journey.world import World
from portolan.source.value import Value
from portolan.surveying.answered import Chunk
from portolan.surveying.survey import CHUNK, Asked, questions, standing


class Task(Value, frozen=True):
    """All that somebody else needs to ask the same questions: the files as they were read, and what is asked."""

    files: Files
    main: str
    changes: tuple[Given, ...]
    at: datetime
    booted: frozenset[str] | None
    vantages: tuple[str, ...]
    only: str | None

    def prepared(self) -> tuple[World, list[Asked]]:
        """The world and its questions."""
        loaded = with_changes(load(self.files, self.main), self.changes, lambda _: None)
        world, people = standing(World(loaded.estate, self.at, None, self.booted), self.vantages)
        return world, questions(world, people, self.only)


def side_by_side(task: Task, count: int, jobs: int, here: Callable[[int], Chunk]) -> Iterator[Chunk]:
    """Every chunk of so many questions, as they come; where one process is enough it is this one, which asks `here`."""
    firsts = list(range(0, count, CHUNK))
    jobs = min(jobs, len(firsts))
    if jobs < 2:
        return (here(first) for first in firsts)
    from portolan.cli.pool import pooled

    return pooled(task, firsts, count, jobs)


def cores() -> int:
    """How many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
