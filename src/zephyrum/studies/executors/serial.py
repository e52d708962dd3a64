"""Points computed in this process, with all its threads."""

from zephyrum.studies.executors.base import Reports, Work
from zephyrum.studies.observer import step_reports
from zephyrum.studies.points import Point


class SerialExecutor:
    """Computes one point after the other."""

    def __init__(self, work: Work):
        self.work = work

    def compute(self, todo: list[Point], rows: dict, reports: Reports) -> None:
        """Compute points in this process.

        Parameters
        ----------
        todo : list[Point]
            Points.
        rows : dict
            Receives their rows by name.
        reports : Reports
            Reports to the observer.
        """
        for point in todo:
            rows[point.name] = self.work.compute(point, step_reports(reports.observer, reports.task(point)))
            reports.finished(point, rows[point.name], len(rows))

    def close(self) -> None:
        """Nothing to end."""
