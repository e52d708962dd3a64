"""The finite-volume flow solver. It sees a mesh and a freestream; `solve_steady` and `integrate_in_time` run it."""

from zephyrum.flow.nonlinear.continuation import Start, solve_steady
from zephyrum.flow.nonlinear.discrete_problem import FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.nonlinear.start_up import transfer_condition
from zephyrum.flow.nonlinear.time_integration import TimeIntegration, TimeReports, integrate_in_time
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.turbulence import MODELS

__all__ = [
    "COLUMNS",
    "MODELS",
    "FlowProblem",
    "FlowState",
    "History",
    "Numerics",
    "Outcome",
    "Start",
    "TimeIntegration",
    "TimeReports",
    "WallData",
    "integrate_in_time",
    "solve_steady",
    "transfer_condition",
]
