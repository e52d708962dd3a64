"""Shapes: airfoil sections for now; how they are made, read, changed, measured and written."""

from zephyrum.shape.airfoil import Airfoil

__all__ = ["Airfoil"]
