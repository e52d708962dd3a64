"""What all executors share: the work, and one point of it computed into the folder."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zephyrum.flow.outcome import Outcome
from zephyrum.solver import Case
from zephyrum.studies.observer import Observer, Task
from zephyrum.studies.point_store import Store
from zephyrum.studies.points import Point, solved


@dataclass(frozen=True)
class Work:
    """What the points of a sweep have in common.

    Attributes
    ----------
    base : Case
        Case that all points are variants of.
    store : Store
        Folder.
    mesh_file : path
        File of the kept mesh.
    """

    base: Case
    store: Store
    mesh_file: Path

    def start_of(self, point: Point) -> Path | None:
        """File of the solution that a point starts from; None for a cold start.

        Parameters
        ----------
        point : Point
            The point.
        """
        if point.after is None:
            return None
        row = self.store.row(point.after.name)
        return self.store.state(point.after.name) if row is not None and row["outcome"] != Outcome.FAILED else None

    def compute(self, point: Point, on_step: Callable[[dict], None] | None = None) -> dict:
        """Solve a point, keep its solution and its row.

        Parameters
        ----------
        point : Point
            The point.
        on_step : callable, optional
            Receives the columns of the history after every step.

        Returns
        -------
        dict
            The row.
        """
        keep = self.store.root / "points" / f"{point.name}.going"
        solution, row = solved(point, self.base, self.start_of(point), keep, on_step)
        solution.save(self.store.state(point.name), self.mesh_file)
        self.store.keep_row(point.name, row)
        return row


@dataclass(frozen=True)
class Reports:
    """Reports of points to an observer.

    Attributes
    ----------
    observer : Observer, optional
        The observer.
    total : int
        Number of points.
    job : str
        Name of the job.
    """

    observer: Observer | None
    total: int
    job: str = "sweep"

    def task(self, point: Point, index: int = 0) -> Task:
        """Task of a point.

        Parameters
        ----------
        point : Point
            The point.
        index : int, optional
            Number of points finished.
        """
        return Task(self.job, point.label, index, self.total)

    def finished(self, point: Point, row: dict, count: int) -> None:
        """Report that a point is done.

        Parameters
        ----------
        point : Point
            The point.
        row : dict
            Its row.
        count : int
            Number of points finished.
        """
        if self.observer is not None:
            self.observer.finished(self.task(point, count), row)
