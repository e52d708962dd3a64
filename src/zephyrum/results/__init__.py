"""What a solved flow says: forces, surface pressures, field extremes, polars."""

from zephyrum.results.forces import Forces
from zephyrum.results.polar import Polar
from zephyrum.results.solution import Solution
from zephyrum.results.solution_file import load_solution
from zephyrum.results.solve import solve, solve_case
from zephyrum.results.unsteady import TimeSeries, solve_in_time

__all__ = ["Forces", "Polar", "Solution", "TimeSeries", "load_solution", "solve", "solve_case", "solve_in_time"]
