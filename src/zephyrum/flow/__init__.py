"""The finite-volume flow solver. It sees a Mesh and a Freestream; `march` is its door."""

from zephyrum.flow.history import COLUMNS, DRIFT, History
from zephyrum.flow.march import Flow, Settings, march
from zephyrum.flow.start import carry_over

__all__ = ["COLUMNS", "DRIFT", "Flow", "History", "Settings", "carry_over", "march"]
