"""Studies: sweeps, mesh refinement, study files, and the store on disk that survives any kill."""

from zephyrum.studies.aircraft import AircraftOutcome, AircraftStudy
from zephyrum.studies.compare import Comparison, compare, varied
from zephyrum.studies.derived import Derived, derived
from zephyrum.studies.flight import Trim, derivatives, lift_for, trim
from zephyrum.studies.refine import Refinement, refine
from zephyrum.studies.run import Outcome, open_study, run_study
from zephyrum.studies.study import Study, read_study
from zephyrum.studies.sweep import sweep

__all__ = [
    "AircraftOutcome",
    "AircraftStudy",
    "Comparison",
    "Derived",
    "Outcome",
    "Refinement",
    "Study",
    "Trim",
    "compare",
    "derivatives",
    "derived",
    "lift_for",
    "open_study",
    "read_study",
    "refine",
    "run_study",
    "sweep",
    "trim",
    "varied",
]
