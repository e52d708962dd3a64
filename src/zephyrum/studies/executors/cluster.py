"""Points of a sweep on other machines, through a scheduler of dask.distributed (extra `cluster`).

The case with its mesh goes to the workers once; a point travels with the solution that it starts from, and its row and
solution come back into the folder of the study, which the workers need not see. Start them with one thread of dask
each, since a point uses all cores that NUMBA_NUM_THREADS leaves it. Same points, same numbers as with local processes.
Verified by tests/test_cluster.py.
"""

import tempfile
from importlib.metadata import version
from pathlib import Path

from zephyrum.errors import FlowError, InputError
from zephyrum.results import load_solution
from zephyrum.solver import Case
from zephyrum.studies.executors.base import Reports, Work
from zephyrum.studies.points import Point, solved

PATIENCE = 5.0  # s for the scheduler to answer


def _version() -> str:
    return version("zephyrum")


def _solved_there(point: Point, base: Case, state: bytes | None) -> tuple[dict, bytes]:
    """On a worker: (row, file of the solution) of a point."""
    with tempfile.TemporaryDirectory() as scratch:
        start = None
        if state is not None:
            start = Path(scratch) / "start.npz"
            start.write_bytes(state)
        solution, row = solved(point, base, start)
        # the mesh stays where it is: the file refers to it by a name that is replaced when it has come back
        return row, solution.save(Path(scratch) / "end.npz", Path(scratch) / "mesh.cgns").read_bytes()


class ClusterExecutor:
    """Computes points on the workers of a scheduler, every point once its predecessor is there."""

    def __init__(self, work: Work, scheduler: str):
        try:
            from distributed import Client
        except ImportError:
            raise InputError(
                "a scheduler needs dask.distributed; install it with: pip install 'zephyrum[cluster]'."
            ) from None
        self.work = work
        try:
            self.client = Client(scheduler, timeout=PATIENCE)
        except (OSError, ValueError) as cause:
            raise InputError(
                f"scheduler {scheduler!r} does not answer ({type(cause).__name__}); start one with: dask scheduler, "
                f"and give the address that it prints."
            ) from None
        versions = set(self.client.run(_version).values())
        if not versions:
            self.client.close()
            raise InputError(
                f"scheduler {scheduler!r} has no workers; start them with: dask worker {scheduler} --nthreads 1."
            )
        if versions != {_version()}:
            self.client.close()
            raise InputError(
                f"workers of {scheduler!r} have Zephyrum {', '.join(sorted(versions))}, here it is {_version()}; "
                f"install the same."
            )
        self.base = self.client.scatter(work.base, broadcast=True)

    def compute(self, todo: list[Point], rows: dict, reports: Reports) -> None:
        """Compute points on the workers of a scheduler.

        Parameters
        ----------
        todo : list[Point]
            Points.
        rows : dict
            Receives their rows by name.
        reports : Reports
            Reports to the observer.

        Raises
        ------
        FlowError
            Workers die.
        """
        from distributed import as_completed
        from distributed.client import FutureCancelledError
        from distributed.scheduler import KilledWorker

        waiting, running = list(todo), {}
        queue = as_completed()

        def send() -> None:
            for point in [p for p in waiting if p.after is None or p.after.name in rows]:
                start = self.work.start_of(point)
                future = self.client.submit(_solved_there, point, self.base, start and start.read_bytes(), pure=False)
                running[future.key] = point
                waiting.remove(point)
                queue.add(future)

        send()
        try:
            for future in queue:
                row, state = future.result()
                point = running.pop(future.key)
                self._keep(point, row, state)
                rows[point.name] = row
                reports.finished(point, row, len(rows))
                send()
        except (KilledWorker, FutureCancelledError, OSError):
            raise FlowError(
                "workers of the scheduler died; finished points are kept: run the same study again to go on."
            ) from None

    def _keep(self, point: Point, row: dict, state: bytes) -> None:
        with tempfile.TemporaryDirectory() as scratch:
            path = Path(scratch) / "end.npz"
            path.write_bytes(state)
            load_solution(path, self.work.base.mesh).save(self.work.store.state(point.name), self.work.mesh_file)
        self.work.store.keep_row(point.name, row)

    def close(self) -> None:
        """Leave the scheduler."""
        self.client.close()
