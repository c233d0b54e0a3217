"""Where work runs: in this process, in worker processes, or on a Dask cluster. What runs is the same function on the same values.

An executor maps a function over tasks: function(shared, task) -> result. `shared` is large and sent to each worker once. Results come
as they finish, with the task's number; who wants them in order sorts them. Functions and values must pickle.
"""

import multiprocessing
import pickle
import tempfile
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any, Protocol

Work = Callable[[Any, Any], Any]
MOST_ATTEMPTS = 3


class Executor(Protocol):
    """Runs tasks somewhere."""

    def run(self, work: Work, shared: Any, tasks: Sequence[Any]) -> Iterator[tuple[int, Any]]:
        """(number of the task, its result) as they finish."""
        ...


class Here:
    """In this process, one task after the other."""

    def run(self, work: Work, shared: Any, tasks: Sequence[Any]) -> Iterator[tuple[int, Any]]:
        for number, task in enumerate(tasks):
            yield number, work(shared, task)


class Processes:
    """In `count` worker processes of this machine. Each is a pool of its own, so that one that dies takes only its task with it: the
    task is run again elsewhere, at most three times."""

    def __init__(self, count: int) -> None:
        self.count = count
        self.pids: list[int] = []

    def run(self, work: Work, shared: Any, tasks: Sequence[Any]) -> Iterator[tuple[int, Any]]:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "shared.pickle"
            path.write_bytes(pickle.dumps(shared, protocol=5))
            pools = [self._pool(path) for _ in range(min(self.count, max(len(tasks), 1)))]
            try:
                yield from self._drive(pools, path, work, tasks)
            finally:
                for pool in pools:
                    pool.shutdown(wait=False, cancel_futures=True)

    def _drive(self, pools: list[ProcessPoolExecutor], path: Path, work: Work, tasks: Sequence[Any]) -> Iterator[tuple[int, Any]]:
        waiting = list(range(len(tasks)))[::-1]
        attempts = [0] * len(tasks)
        running: dict[Future[Any], tuple[int, int]] = {}
        idle = list(range(len(pools)))
        while waiting or running:
            while idle and waiting:
                slot, number = idle.pop(), waiting.pop()
                attempts[number] += 1
                running[pools[slot].submit(_in_worker, work, str(path), tasks[number])] = (slot, number)
            self.pids = [pid for pool in pools for pid in getattr(pool, "_processes", None) or ()]
            done, _ = wait(running, return_when=FIRST_COMPLETED)
            for future in done:
                slot, number = running.pop(future)
                try:
                    result = future.result()
                except BrokenProcessPool:
                    if attempts[number] >= MOST_ATTEMPTS:
                        raise
                    pools[slot].shutdown(wait=False)
                    pools[slot] = self._pool(path)
                    waiting.append(number)
                    idle.append(slot)
                    continue
                idle.append(slot)
                yield number, result

    def _pool(self, path: Path) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(1, multiprocessing.get_context("spawn"), _load, (str(path),))


class DaskCluster:
    """On the workers of a dask.distributed client (an optional extra). A worker that is lost is dealt with by the cluster."""

    def __init__(self, client: Any) -> None:
        self.client = client

    def run(self, work: Work, shared: Any, tasks: Sequence[Any]) -> Iterator[tuple[int, Any]]:
        from distributed import as_completed

        held = self.client.scatter(shared, broadcast=True, hash=False)
        futures = {self.client.submit(work, held, task, pure=False): number for number, task in enumerate(tasks)}
        try:
            for future in as_completed(list(futures)):  # type: ignore[no-untyped-call]
                yield futures[future], future.result()
        finally:
            self.client.cancel(list(futures))


_shared: dict[str, Any] = {}


def _load(path: str) -> None:
    """Read what all tasks share, once for each worker process."""
    _shared.clear()
    _shared[path] = pickle.loads(Path(path).read_bytes())


def _in_worker(work: Work, path: str, task: Any) -> Any:
    return work(_shared[path], task)
