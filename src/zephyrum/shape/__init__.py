"""Shapes: airfoil sections and plain outlines; how they are made, read, changed, measured and written."""

from zephyrum.shape.airfoil import Airfoil
from zephyrum.shape.outline import Outline

__all__ = ["Airfoil", "Outline"]
