"""The finite-volume flow solver. It sees a Mesh and a Freestream; `march` is its door."""

from zephyrum.flow.boundary import Walls
from zephyrum.flow.history import COLUMNS, History
from zephyrum.flow.level import Flow
from zephyrum.flow.march import march
from zephyrum.flow.settings import Settings
from zephyrum.flow.start import carry_over
from zephyrum.flow.turbulence import MODELS
from zephyrum.flow.unsteady import TimeMarch, march_in_time

__all__ = [
    "COLUMNS",
    "MODELS",
    "Flow",
    "History",
    "Settings",
    "TimeMarch",
    "Walls",
    "carry_over",
    "march",
    "march_in_time",
]
