"""Points of a sweep on other machines, through a scheduler of dask.distributed (extra `cluster`).

The mesh goes to the workers once; a point travels with the state that it starts from, and its row and last state come back into the folder of the study,
which the workers need not see. Start them with one thread of dask each, since a point uses all cores that NUMBA_NUM_THREADS leaves it. Same points, same
numbers as with local processes. Verified by tests/test_cluster.py.
"""

import tempfile
from pathlib import Path

import zephyrum
from zephyrum.errors import FlowError, InputError
from zephyrum.mesh import Mesh
from zephyrum.studies.points import Point, solved

PATIENCE = 5.0  # s for the scheduler to answer


def _version() -> str:
    return zephyrum.__version__


def _far(point: Point, mesh: Mesh, base, settings, model: str, walls, state: bytes | None) -> tuple[dict, bytes]:
    """On a worker: (row, last state) of a point."""
    with tempfile.TemporaryDirectory() as scratch:
        start = None
        if state is not None:
            start = Path(scratch) / "start.npz"
            start.write_bytes(state)
        solution, row = solved(point, mesh, base, settings, model, walls, start)
        return row, solution.save(Path(scratch) / "end.npz").read_bytes()


class Cluster:
    """Computes points on the workers of a scheduler, every point once its predecessor is there."""

    def __init__(self, mesh: Mesh, work: tuple, scheduler: str):
        try:
            from distributed import Client
        except ImportError:
            raise InputError("a scheduler needs dask.distributed; install it with: pip install 'zephyrum[cluster]'.") from None  # fmt: skip
        _, _, self.air, self.settings, self.model, self.store, self.walls = work
        try:
            self.client = Client(scheduler, timeout=PATIENCE)
        except (OSError, ValueError) as cause:
            raise InputError(f"scheduler {scheduler!r} does not answer ({type(cause).__name__}); start one with: dask scheduler, and give the address that it prints.") from None  # fmt: skip
        versions = set(self.client.run(_version).values())
        if not versions:
            self.client.close()
            raise InputError(f"scheduler {scheduler!r} has no workers; start them with: dask worker {scheduler} --nthreads 1.")  # fmt: skip
        if versions != {_version()}:
            self.client.close()
            raise InputError(f"workers of {scheduler!r} have Zephyrum {', '.join(sorted(versions))}, here it is {_version()}; install the same.")  # fmt: skip
        self.mesh = self.client.scatter(mesh, broadcast=True)

    def compute(self, todo: list[Point], rows: dict, total: int, on_point, on_step) -> None:
        """Add the rows of the points `todo` to `rows`; FlowError if workers die."""
        from distributed import as_completed
        from distributed.client import FutureCancelledError
        from distributed.scheduler import KilledWorker

        waiting, running = list(todo), {}
        queue = as_completed()

        def send() -> None:
            for point in [p for p in waiting if p.after is None or p.after.name in rows]:
                state = None
                if point.after is not None and rows[point.after.name]["verdict"] != "failed":
                    state = self.store.state(point.after.name).read_bytes()
                future = self.client.submit(_far, point, self.mesh, self.air, self.settings, self.model, self.walls, state, pure=False)  # fmt: skip
                running[future.key] = point
                waiting.remove(point)
                queue.add(future)

        send()
        try:
            for future in queue:
                row, state = future.result()
                point = running.pop(future.key)
                self.store.keep(point.name, row, state)
                rows[point.name] = row
                if on_point is not None:
                    on_point(row, len(rows), total)
                send()
        except (KilledWorker, FutureCancelledError, OSError):
            raise FlowError("workers of the scheduler died; finished points are kept: run the same study again to go on.") from None  # fmt: skip

    def dismiss(self) -> None:
        """Leave the scheduler."""
        self.client.close()
