"""Who computes the points of a sweep: this process, several processes, or the workers of a dask scheduler.

Every executor has `compute(todo, rows, reports)`, which adds the rows of the points `todo` to `rows`, and `close()`.
"""

from zephyrum.studies.executors.base import Reports, Work
from zephyrum.studies.executors.cluster import ClusterExecutor
from zephyrum.studies.executors.processes import ProcessExecutor
from zephyrum.studies.executors.serial import SerialExecutor

__all__ = ["ClusterExecutor", "ProcessExecutor", "Reports", "SerialExecutor", "Work"]
