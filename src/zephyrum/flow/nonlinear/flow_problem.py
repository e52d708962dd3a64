"""What is to be solved, as the solver of one mesh or of a family of meshes takes it."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from zephyrum.conditions import Freestream, Reference
from zephyrum.flow.discretization.disk_sources import DiskSources
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.powered_boundaries import PoweredGroup
from zephyrum.mesh import Mesh


@dataclass(frozen=True, eq=False)
class FlowProblem:
    """Mesh, freestream, reference quantities, numerics, model and walls.

    Attributes
    ----------
    mesh : Mesh
    air : Freestream
    reference : Reference
    numerics : Numerics
    model : str
        One of `MODELS`.
    walls : callable, optional
        Gives the `WallData` of a mesh; without it walls are at rest, adiabatic, smooth and fully turbulent.
    source : array (n, m), optional
        Source of every equation, in scaled units, for manufactured solutions.
    exterior : array (nb, m), optional
        States outside every boundary face, in scaled units, for manufactured solutions.
    powered : tuple of PoweredGroup
        What engines do at their boundary groups.
    disks : callable, optional
        Gives the `DiskSources` of the propeller disks on a mesh.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = FlowProblem(mesh, Freestream(mach=0.5), mesh.reference)
    >>> problem.viscous, problem.space
    (False, False)
    >>> problem.at(air=Freestream(mach=0.6)).air.mach
    0.6
    """

    mesh: Mesh
    air: Freestream
    reference: Reference
    numerics: Numerics = field(default_factory=Numerics)
    model: str = "euler"
    walls: Callable[[Mesh], WallData] | None = None
    source: np.ndarray | None = None
    exterior: np.ndarray | None = None
    powered: tuple[PoweredGroup, ...] = ()
    disks: Callable[[Mesh], DiskSources | None] | None = None

    @property
    def viscous(self) -> bool:
        """Whether the model has friction.

        Examples
        --------
        >>> from zephyrum import Airfoil, Case, Freestream, mesh_airfoil
        >>> Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)).problem().viscous
        False
        """
        return self.model != "euler"

    @property
    def space(self) -> bool:
        """Whether the mesh is three-dimensional and not planar.

        Examples
        --------
        >>> from zephyrum import Airfoil, Case, Freestream, mesh_airfoil
        >>> Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)).problem().space
        False
        """
        return self.mesh.dimension == 3 and not self.mesh.planar

    def wall_data(self) -> WallData:
        """`WallData` of the mesh."""
        return WallData.plain(self.mesh) if self.walls is None else self.walls(self.mesh)

    def at(self, **changes) -> "FlowProblem":
        """The same problem with other mesh, freestream or numerics.

        Examples
        --------
        >>> from zephyrum import Airfoil, Case, Freestream, Numerics, mesh_airfoil
        >>> problem = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)).problem()
        >>> problem.at(numerics=Numerics(residual_drop=3)).numerics.residual_drop
        3.0
        """
        return replace(self, **changes)
