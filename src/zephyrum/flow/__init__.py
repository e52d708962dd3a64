"""The finite-volume flow solver. It sees a mesh and a freestream; `solve_steady` and `integrate_in_time` run it."""

from zephyrum.flow.discretization.limiter import Limiter
from zephyrum.flow.discretization.scheme import Reconstruction
from zephyrum.flow.nonlinear.continuation import Start, solve_steady
from zephyrum.flow.nonlinear.discrete_problem import FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.nonlinear.policies import (
    CFLControl,
    FirstOrderFallback,
    InnerIteration,
    LinearSolver,
    LineSearch,
    StartUp,
)
from zephyrum.flow.nonlinear.start_up import transfer_condition
from zephyrum.flow.nonlinear.time_integration import TimeIntegration, TimeReports, TimeSteps, integrate_in_time
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.turbulence import MODELS

__all__ = [
    "COLUMNS",
    "MODELS",
    "CFLControl",
    "FirstOrderFallback",
    "FlowProblem",
    "FlowState",
    "History",
    "InnerIteration",
    "Limiter",
    "LineSearch",
    "LinearSolver",
    "Numerics",
    "Outcome",
    "Reconstruction",
    "Start",
    "StartUp",
    "TimeIntegration",
    "TimeReports",
    "TimeSteps",
    "WallData",
    "integrate_in_time",
    "solve_steady",
    "transfer_condition",
]
