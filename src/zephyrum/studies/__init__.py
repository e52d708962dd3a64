"""Studies: sweeps, mesh refinement, study files, and the store on disk that survives any kill."""

from zephyrum.studies.refine import Refinement, refine
from zephyrum.studies.study import Study, read_study
from zephyrum.studies.sweep import sweep

__all__ = ["Refinement", "Study", "read_study", "refine", "sweep"]
