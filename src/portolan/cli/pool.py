"""Processes side by side, each of which reads the same files and asks what it is told; one that dies costs its chunk only."""

import os
import signal
import threading
from collections.abc import Generator, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context, parent_process

from portolan.cli.jobs import Task
from portolan.journey.world import World
from portolan.surveying.answered import Chunk
from portolan.surveying.survey import CHUNK, Asked, chunk

#: So many chunks wait for each process: enough that none is ever idle.
_WAITING = 2


#: What a process was told to ask, ready.
_HELD: list[tuple[World, list[Asked]]] = []


def _begin(task: Task) -> None:
    """Makes a process ready; it ends with the one that began it, and leaves a stop at the keyboard to that."""
    import gc

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    parent = parent_process()
    assert parent is not None

    def ends_too() -> None:
        parent.join()
        os._exit(1)

    threading.Thread(target=ends_too, daemon=True).start()
    gc.disable()
    _HELD[:] = [task.prepared()]
    gc.enable()
    gc.freeze()


def _ask(first: int) -> Chunk:
    """The answers to one chunk."""
    world, asked = _HELD[0]
    return chunk(world, asked, first)


def pooled(task: Task, firsts: list[int], count: int, jobs: int) -> Iterator[Chunk]:
    """The chunks from a pool; when it breaks, those that were under way are asked again, each in a process of its own."""
    waiting = list(reversed(firsts))
    while waiting:
        doubtful = yield from _until_broken(task, waiting, jobs)
        for first in doubtful:
            yield from _alone(task, first, count)


def _pool(task: Task, jobs: int) -> ProcessPoolExecutor:
    return ProcessPoolExecutor(jobs, get_context("spawn"), _begin, (task,))


def _until_broken(task: Task, waiting: list[int], jobs: int) -> Generator[Chunk, None, list[int]]:
    """Yields chunks and takes them from `waiting`, until there are none or a process dies; then returns what was under way."""
    with _pool(task, jobs) as pool:
        asked: dict[Future[Chunk], int] = {}
        while waiting or asked:
            try:
                while waiting and len(asked) < _WAITING * jobs:
                    asked[pool.submit(_ask, waiting[-1])] = waiting[-1]
                    waiting.pop()
                finished, _ = wait(asked, return_when=FIRST_COMPLETED)
                for each in sorted(finished, key=lambda future: asked[future]):
                    found = each.result()
                    del asked[each]
                    yield found
            except BrokenProcessPool:
                return sorted(asked.values())
    return []


def _alone(task: Task, first: int, count: int) -> Iterator[Chunk]:
    """A chunk asked once more, where nobody else is hurt."""
    try:
        with _pool(task, 1) as pool:
            yield pool.submit(_ask, first).result()
    except BrokenProcessPool:
        why = "the process that asked them ended, twice; there may be too little memory"
        yield Chunk(first, min(CHUNK, count - first), failed=why)
