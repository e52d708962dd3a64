"""The finite-volume flow solver. It sees a Mesh and a Freestream; `solve_steady` is its door."""

from zephyrum.flow.nonlinear.continuation import solve_steady
from zephyrum.flow.nonlinear.discrete_problem import FlowState
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.nonlinear.start_up import transfer_condition
from zephyrum.flow.nonlinear.time_integration import TimeIntegration, integrate_in_time
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.turbulence import MODELS

__all__ = [
    "COLUMNS",
    "MODELS",
    "FlowState",
    "History",
    "Numerics",
    "TimeIntegration",
    "WallData",
    "integrate_in_time",
    "solve_steady",
    "transfer_condition",
]
