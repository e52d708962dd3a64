"""Studies: sweeps, mesh refinement, study files, and the folder on disk that survives any kill."""

from zephyrum.studies.comparison import Comparison, changed_aircraft, compare
from zephyrum.studies.grid_convergence import Refinement, refine
from zephyrum.studies.observer import Observer, Task
from zephyrum.studies.polar_slopes import PolarSlopes, polar_slopes_of
from zephyrum.studies.results_folder import StoredResults, open_results
from zephyrum.studies.study import Study, open_study, read_study, run_study
from zephyrum.studies.sweeps import sweep
from zephyrum.studies.trim_and_derivatives import Trim, TrimLog, derivatives, lift_for, trim

__all__ = [
    "Comparison",
    "Observer",
    "PolarSlopes",
    "Refinement",
    "StoredResults",
    "Study",
    "Task",
    "Trim",
    "TrimLog",
    "changed_aircraft",
    "compare",
    "derivatives",
    "lift_for",
    "open_results",
    "open_study",
    "polar_slopes_of",
    "read_study",
    "refine",
    "run_study",
    "sweep",
    "trim",
]
