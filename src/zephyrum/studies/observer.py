"""What a study reports while it runs: one observer with three calls.

Verified by tests/test_studies.py.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zephyrum.mesh.planning import MeshPlan


REPORT_INTERVAL = 0.5  # s between two reports about a task that is being computed


@dataclass(frozen=True)
class Task:
    """A part of a job that is computed.

    Attributes
    ----------
    job : str
        Table of the job in the study file.
    label : str
        Condition or mesh.
    index : int
        Number of parts of the job finished, this one included; 0 while it runs.
    total : int
        Number of parts; 0 if it is not known.

    Notes
    -----
    index counts the parts of the job from 1 as they finish (0 while they run), total is how many there are (0: not
    known).

    Examples
    --------
    >>> Task("sweep", "M 0.2 alpha +4").total
    0
    """

    job: str
    label: str
    index: int = 0
    total: int = 0


class Observer:
    """Does nothing; override what you want to see.

    Examples
    --------
    >>> class Printer(Observer):
    ...     def finished(self, task, row):
    ...         print(task.job, task.label, row["CL"])
    >>> Printer().finished(Task("sweep", "M 0.2 alpha +4", 1, 3), {"CL": 0.5})
    sweep M 0.2 alpha +4 0.5
    """

    def planned(self, plan: "MeshPlan") -> None:
        """A mesh in space is about to be made.

        Parameters
        ----------
        plan : MeshPlan
            Its forecast.
        """

    def step(self, task: Task, row: dict) -> None:
        """A step of a run is done; at most twice a second.

        Parameters
        ----------
        task : Task
            The task.
        row : dict
            Columns of its history.

        Examples
        --------
        >>> class Printer(Observer):
        ...     def step(self, task, row):
        ...         print(task.label, row["CL"])
        >>> Printer().step(Task("sweep", "M 0.2 alpha +4"), {"CL": 0.5})
        M 0.2 alpha +4 0.5
        """

    def finished(self, task: Task, row: dict) -> None:
        """A point, a mesh level or a setting is done.

        Parameters
        ----------
        task : Task
            The task.
        row : dict
            Its row in the table of the job.

        Examples
        --------
        >>> class Printer(Observer):
        ...     def finished(self, task, row):
        ...         print(f"{task.index} of {task.total}", row["CL"])
        >>> Printer().finished(Task("sweep", "M 0.2 alpha +4", 1, 3), {"CL": 0.5})
        1 of 3 0.5
        """


def step_reports(observer: Observer | None, task: Task) -> Callable[[dict], None] | None:
    """`on_step` of a run that reports to an observer, at most every `REPORT_INTERVAL` seconds.

    Parameters
    ----------
    observer : Observer or None
        The observer.
    task : Task
        The task.
    """
    if observer is None:
        return None
    last = [0.0]

    def report(row: dict) -> None:
        if time.monotonic() - last[0] >= REPORT_INTERVAL:
            last[0] = time.monotonic()
            observer.step(task, row)

    return report
