"""Public names of the package; `__init__.py` imports each when it is first used."""

from .compared_results import compare_results as compare_results
from .comparison import Comparison as Comparison, changed_aircraft as changed_aircraft, compare as compare
from .grid_convergence import Refinement as Refinement, refine as refine
from .method_comparison import MethodComparison as MethodComparison, compare_polars as compare_polars
from .observer import Observer as Observer, Task as Task
from .panel_count import PanelStudy as PanelStudy, refine_lattice as refine_lattice
from .polar_slopes import PolarSlopes as PolarSlopes, polar_slopes_of as polar_slopes_of
from .results_folder import StoredResults as StoredResults, open_results as open_results
from .study import Study as Study, open_study as open_study, read_study as read_study, run_study as run_study
from .sweeps import SweepOptions as SweepOptions, sweep as sweep
from .trim_and_derivatives import (
    Trim as Trim,
    TrimLog as TrimLog,
    derivatives as derivatives,
    lift_for as lift_for,
    trim as trim,
)
