"""Turbulence models, a file each, named by their trade names; `MODELS` lists what `solve` accepts."""

from zephyrum.flow.turbulence.sa import INFLOW, SCALE, eddy_viscosity, sa_source

MODELS = ("euler", "laminar", "sa")
EULER, LAMINAR, SA = range(3)
EQUATIONS = {"euler": (), "laminar": (), "sa": ("turbulence",)}
INFLOWS = {"euler": (), "laminar": (), "sa": (INFLOW,)}  # in the freestream
SCALES = {"euler": (), "laminar": (), "sa": (SCALE,)}  # typical within a boundary layer

__all__ = ["EQUATIONS", "EULER", "INFLOWS", "LAMINAR", "MODELS", "SA", "SCALES", "eddy_viscosity", "sa_source"]
