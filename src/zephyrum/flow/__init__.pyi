"""Public names of the package; `__init__.py` imports each when it is first used."""

from .discretization.limiter import Limiter as Limiter
from .discretization.scheme import Reconstruction as Reconstruction
from .linear.shift_invert import EigenvalueOptions as EigenvalueOptions
from .nonlinear.continuation import Start as Start, solve_steady as solve_steady, transfer_mesh as transfer_mesh
from .nonlinear.discrete_problem import FlowState as FlowState
from .nonlinear.flow_problem import FlowProblem as FlowProblem
from .nonlinear.history import COLUMNS as COLUMNS, History as History
from .nonlinear.numerics import Numerics as Numerics
from .nonlinear.policies import (
    CFLControl as CFLControl,
    FirstOrderFallback as FirstOrderFallback,
    InnerIteration as InnerIteration,
    LinearSolver as LinearSolver,
    LineSearch as LineSearch,
    LocalCFL as LocalCFL,
    StartUp as StartUp,
)
from .nonlinear.start_up import transfer_condition as transfer_condition
from .nonlinear.time_integration import (
    TimeIntegration as TimeIntegration,
    TimeReports as TimeReports,
    TimeSteps as TimeSteps,
    integrate_in_time as integrate_in_time,
)
from .outcome import Outcome as Outcome
from .physics.boundary_conditions import WallData as WallData
from .physics.turbulence import MODELS as MODELS
