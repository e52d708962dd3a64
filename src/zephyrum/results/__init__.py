"""What a solved flow says: forces, surface pressures, field extremes, polars."""

from zephyrum.results.forces import Forces
from zephyrum.results.polar import Polar
from zephyrum.results.solution import Solution
from zephyrum.results.solution_file import load_solution
from zephyrum.results.steady_solution import solve, solve_case
from zephyrum.results.time_series import TimeSeries, solve_unsteady

__all__ = ["Forces", "Polar", "Solution", "TimeSeries", "load_solution", "solve", "solve_case", "solve_unsteady"]
