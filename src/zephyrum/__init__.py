"""Zephyrum: aerodynamics of airfoils, wings and aircraft, with the evidence that the numbers can be trusted.

Everything a script needs is here; see README.md for a ten-line example.
"""

from zephyrum.air import Freestream, Gas, Reference, quantity, standard_atmosphere
from zephyrum.errors import FileError, FlowError, InputError, MeshError, ZephyrumError
from zephyrum.flow import Settings
from zephyrum.mesh import (
    Layers,
    Mesh,
    mesh_airfoil,
    mesh_outline,
    mesh_plate,
    mesh_revolved,
    quality,
    read_mesh,
    wall_layers,
    write_mesh,
)
from zephyrum.results import Polar, Solution, TimeSeries, Wall, load_solution, solve, solve_in_time
from zephyrum.shape import Airfoil, Outline
from zephyrum.studies import Refinement, Study, read_study, refine, sweep

__version__ = "0.1.0"
__all__ = [
    "Airfoil", "FileError", "FlowError", "Freestream", "Gas", "InputError", "Layers", "Mesh", "MeshError", "Outline", "Polar", "Reference", "Refinement",
    "Settings", "Solution", "Study", "TimeSeries", "Wall", "ZephyrumError", "load_solution", "mesh_airfoil", "mesh_outline", "mesh_plate", "mesh_revolved", "quality", "quantity", "read_mesh", "read_study",
    "refine", "solve", "solve_in_time", "standard_atmosphere", "sweep", "wall_layers", "write_mesh",
]  # fmt: skip
