"""Chunks of questions asked by a cluster that runs already (dask.distributed), or by one that is started here for the while.

The estate's files are sent once to each worker, which makes them ready by itself; a chunk is one task, and what a worker that dies
had under way is asked again by another one.
"""

import logging
import socket
from collections.abc import Iterator
from contextlib import AbstractContextManager, ExitStack
from typing import Any

from portolan.cli.errors import UsageError
from portolan.cli.jobs import Task
from portolan.source.plain import one_line
from portolan.surveying.answered import Chunk
from portolan.surveying.survey import CHUNK, chunk
from portolan.version import VERSION

#: How long a cluster may take to answer, in seconds.
_PATIENCE = 20
#: So many chunks wait for each worker.
_WAITING = 3
#: So often a chunk is asked again that takes its worker down.
_TRIES = 2
#: What each worker holds ready, by the survey's name.
_HELD = "portolan"


def _engine() -> Any:
    try:
        import distributed
    except ImportError:
        message = "--cluster needs the package 'distributed', which is not installed"
        raise UsageError(message, "Install it: pip install 'portolan-sites[cluster]'.") from None
    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    return distributed


def on_cluster(task: Task, count: int, address: str, workers: int) -> Iterator[Chunk]:
    """Every chunk of so many questions, as they come; `local` starts so many workers here. Raises UsageError."""
    engine = _engine()
    with ExitStack() as held:
        client = held.enter_context(_client(engine, address, workers, held))
        client.register_plugin(_plugin(engine, task))
        yield from _asked(engine, client, count)


def _client(engine: Any, address: str, workers: int, held: ExitStack) -> AbstractContextManager[Any]:
    try:
        if address == "local":
            cluster = engine.LocalCluster(
                n_workers=workers,
                threads_per_worker=1,
                processes=True,
                dashboard_address=None,
                silence_logs=logging.CRITICAL,
            )
            held.enter_context(cluster)
            return _connected(engine, cluster)
        _reached(address)
        return _connected(engine, address)
    except (OSError, TimeoutError, ValueError) as error:
        message = f"no cluster answers at '{one_line(address)}': {one_line(str(error) or type(error).__name__)}"
        raise UsageError(message, "Name its scheduler, such as tcp://192.0.2.9:8786, or 'local'.") from None


def _connected(engine: Any, to: Any) -> AbstractContextManager[Any]:
    client: AbstractContextManager[Any] = engine.Client(to, timeout=_PATIENCE)
    return client


def _reached(address: str) -> None:
    """Whether anything takes a connection there: the engine itself would try until its time is over. Raises OSError."""
    host, _, port = address.rpartition("://")[2].rpartition(":")
    if address.startswith(("tcp://", "tls://")) and port.isdecimal():
        socket.create_connection((host.strip("[]"), int(port)), _PATIENCE).close()


def _plugin(engine: Any, task: Task) -> Any:
    """What makes a worker ready: it loads the files that are sent with it."""

    class Ready(engine.WorkerPlugin):  # type: ignore[misc]
        name = _HELD
        version = VERSION

        def setup(self, worker: Any) -> None:
            from portolan import version

            if self.version != version.VERSION:
                raise RuntimeError(f"the worker has Portolan {version.VERSION}, and is asked by {self.version}")
            setattr(worker, _HELD, task.prepared())

    return Ready()


def _ask(first: int) -> Chunk:
    """The answers to one chunk, by whatever worker this is."""
    from distributed import get_worker

    world, asked = getattr(get_worker(), _HELD)
    return chunk(world, asked, first)


def _asked(engine: Any, client: Any, count: int) -> Iterator[Chunk]:
    """Chunks as they come, a few of them waiting at a time; one that takes every worker down is told as not answered."""
    firsts = list(range(0, count, CHUNK))
    many = max(1, _WAITING * len(client.scheduler_info()["workers"]))
    coming = engine.as_completed()
    under_way: dict[Any, int] = {}

    def send(first: int) -> None:
        future = client.submit(_ask, first, key=f"portolan-{first}", retries=_TRIES, pure=False)
        under_way[future.key] = first
        coming.add(future)

    for first in firsts[:many]:
        send(first)
    waiting = iter(firsts[many:])
    for future in coming:
        first = under_way.pop(future.key)
        try:
            found: Chunk = future.result()
        except Exception as error:
            found = Chunk(first, min(CHUNK, count - first), failed=f"the cluster gave it up: {one_line(str(error))}")
        future.release()
        yield found
        following = next(waiting, None)
        if following is not None:
            send(following)
