"""Studies: sweeps, mesh refinement, study files, and the folder on disk that survives any kill."""

from zephyrum.studies.compare import Comparison, compare, varied
from zephyrum.studies.derived import Derived, derived
from zephyrum.studies.flight import Trim, TrimLog, derivatives, lift_for, trim
from zephyrum.studies.observer import Observer, Task
from zephyrum.studies.refine import Refinement, refine
from zephyrum.studies.results_folder import StoredResults, open_results
from zephyrum.studies.study import Study, open_study, read_study, run_study
from zephyrum.studies.sweep import sweep

__all__ = [
    "Comparison",
    "Derived",
    "Observer",
    "Refinement",
    "StoredResults",
    "Study",
    "Task",
    "Trim",
    "TrimLog",
    "compare",
    "derivatives",
    "derived",
    "lift_for",
    "open_results",
    "open_study",
    "read_study",
    "refine",
    "run_study",
    "sweep",
    "trim",
    "varied",
]
