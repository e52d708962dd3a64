"""What a solved flow says: forces, surface pressures, field extremes, polars."""

from zephyrum.results.forces import Forces
from zephyrum.results.polar import Polar
from zephyrum.results.solution import Solution, load_solution, solve

__all__ = ["Forces", "Polar", "Solution", "load_solution", "solve"]
