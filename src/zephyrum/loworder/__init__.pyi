"""Public names of the package; `__init__.py` imports each when it is first used."""

from .vortex_lattice.lattice import LatticeOptions as LatticeOptions
from .vortex_lattice.model import VortexLattice as VortexLattice, vortex_lattice as vortex_lattice
from .vortex_lattice.solution import LatticeSolution as LatticeSolution, Rates as Rates
