"""What a solved flow says: forces, surface pressures, field extremes, polars."""

from zephyrum.results.forces import Forces
from zephyrum.results.polar import Polar
from zephyrum.results.solution import Solution, load_solution
from zephyrum.results.solve import solve
from zephyrum.results.unsteady import TimeSeries, solve_in_time
from zephyrum.results.walls import Wall

__all__ = ["Forces", "Polar", "Solution", "TimeSeries", "Wall", "load_solution", "solve", "solve_in_time"]
