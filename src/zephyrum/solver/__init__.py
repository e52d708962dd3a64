"""Cases: what a solution depends on, checked before the run; steady and time-accurate runs, and their checkpoints."""

from zephyrum.solver.case import Case
from zephyrum.solver.steady import Run, run_case
from zephyrum.solver.unsteady import TimeRun, run_unsteady
from zephyrum.solver.walls import Wall

__all__ = ["Case", "Run", "TimeRun", "Wall", "run_case", "run_unsteady"]
