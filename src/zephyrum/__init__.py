"""Zephyrum: aerodynamics of airfoils, wings and aircraft, with the evidence that the numbers can be trusted.

Everything a script needs is here; see README.md for a ten-line example.
"""

from zephyrum.air import Freestream, Gas, Reference, quantity, standard_atmosphere
from zephyrum.errors import FileError, FlowError, InputError, MeshError, ZephyrumError
from zephyrum.flow import Settings
from zephyrum.mesh import (
    Layers,
    Mesh,
    MeshPlan,
    Zone,
    mesh_aircraft,
    mesh_airfoil,
    mesh_bodies,
    mesh_outline,
    mesh_plate,
    mesh_revolved,
    mesh_sector,
    mesh_surface,
    plan_mesh,
    quality,
    read_mesh,
    wall_layers,
    write_mesh,
)
from zephyrum.results import Polar, Solution, TimeSeries, Wall, load_solution, solve, solve_in_time
from zephyrum.shape import (
    Aircraft,
    Airfoil,
    Body,
    Control,
    Duct,
    Mass,
    Outline,
    Panel,
    Planform,
    Plate,
    PointMass,
    Ring,
    SizeZone,
    Station,
    Strut,
    Surface,
    TypedReference,
    Wing,
    adopt,
    joined,
    measure_surface,
    mend,
    remesh,
)
from zephyrum.studies import (
    Comparison,
    Refinement,
    Study,
    Trim,
    compare,
    derivatives,
    read_study,
    refine,
    sweep,
    trim,
    varied,
)

__version__ = "0.1.0"
__all__ = [
    "Aircraft", "Airfoil", "Body", "Comparison", "Control", "Duct", "FileError", "FlowError", "Freestream", "Gas", "InputError",
    "Layers", "Mass", "Mesh", "MeshError", "MeshPlan", "Outline", "Panel", "Planform", "Plate", "PointMass", "Polar", "Reference",
    "Refinement", "Ring", "Settings", "SizeZone", "Solution", "Station", "Strut", "Study", "Surface", "TimeSeries",
    "Trim", "TypedReference", "Wall", "Wing", "ZephyrumError", "Zone", "adopt", "compare", "derivatives", "joined", "load_solution", "measure_surface", "mend",
    "mesh_aircraft", "mesh_airfoil", "mesh_bodies", "mesh_outline", "mesh_plate", "mesh_revolved", "mesh_sector", "mesh_surface", "plan_mesh", "quality", "quantity", "read_mesh", "read_study",
    "refine", "remesh", "solve", "solve_in_time", "standard_atmosphere", "sweep", "trim", "varied", "wall_layers", "write_mesh",
]  # fmt: skip
