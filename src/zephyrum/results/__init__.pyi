"""Public names of the package; `__init__.py` imports each when it is first used."""

from .far_field_drag import DragRegions as DragRegions, FarFieldDrag as FarFieldDrag
from .forces import Forces as Forces
from .linear_stability import Mode as Mode, Stability as Stability, linear_stability as linear_stability
from .polar import Polar as Polar
from .reference_data import ReferenceData as ReferenceData, read_reference_data as read_reference_data
from .solution import Solution as Solution
from .solution_file import load_solution as load_solution
from .steady_solution import solve as solve, solve_case as solve_case
from .time_series import TimeSeries as TimeSeries, solve_unsteady as solve_unsteady
