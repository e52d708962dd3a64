"""Forces and moments of the body, by part and by cause, in wind and body axes.

Lift and drag follow the wind (see `air.axes`); CX, CY, CZ lie along body axes x aft, y starboard, z up; CM is nose-up
positive about the reference point, C roll starboard side down and C yaw nose to starboard positive. Of a half model, a
sector or a wedge, they are those of the whole body. Moments move to another point without a rerun. Verified by
tests/test_results.py.
"""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum.conditions import Freestream, Reference
from zephyrum.conditions.axes import turned_body

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


@dataclass(frozen=True)
class Forces:
    """Forces and moments of every part and cause, with all that turns them into coefficients.

    Attributes
    ----------
    parts : tuple[tuple[str, str, tuple, tuple], ...]
        (part, cause, force [N], moment about the origin of the mesh [N m]), in the axes of the mesh.
    air : Freestream
        Freestream.
    reference : Reference
        Reference quantities; its point is in the axes of the mesh.
    attitude : float
        Angle by which the body is turned nose-up in the mesh [deg].
    planar : bool
        Whether they are those of a section or an axisymmetric body.

    Notes
    -----
    `parts` holds (part, cause, force, moment about the origin of the mesh), in the axes of the mesh, in which the body
    is turned nose-up by `attitude` [deg]; `planar`: of a section or an axisymmetric body; `reference.point` is in these
    axes too.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> forces = solution.forces
    >>> round(forces.CL / forces.coefficients()["CL"], 6)
    1.0
    """

    parts: tuple[tuple[str, str, tuple, tuple], ...]
    air: Freestream
    reference: Reference
    attitude: float = 0.0
    planar: bool = False

    __repr__ = short_repr

    def __str__(self) -> str:
        found = self.coefficients()
        parts = ", ".join(dict.fromkeys(row[0] for row in self.parts))
        return f"{', '.join(f'{name} {found[name]:.4g}' for name in ('CL', 'CD', 'CM'))} of {parts}"

    def _sum(self, part: str | None, cause: str | None) -> tuple[np.ndarray, np.ndarray]:
        chosen = [row for row in self.parts if part in (None, row[0]) and cause in (None, row[1])]
        force = np.sum([row[2] for row in chosen], axis=0) if chosen else np.zeros(3)
        moment = np.sum([row[3] for row in chosen], axis=0) if chosen else np.zeros(3)
        moment = moment - np.cross(np.asarray(self.reference.point), force)
        return turned_body(force, -self.attitude), turned_body(moment, -self.attitude)

    def newtons(self, part: str | None = None, cause: str | None = None) -> np.ndarray:
        """Force in body axes; of a two-dimensional mesh, on its slab.

        Parameters
        ----------
        part : str, optional
            Wall; all without it.
        cause : str, optional
            "pressure" or "friction"; both without it.

        Returns
        -------
        (3,) array
            [N]

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("2412"), 32, 16, topology="O")
        >>> forces = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3)).forces
        >>> bool(forces.newtons()[2] > 0.0)
        True
        """
        return self._sum(part, cause)[0]

    def coefficients(self, part: str | None = None, cause: str | None = None) -> dict[str, float]:
        """Force and moment coefficients.

        Parameters
        ----------
        part : str, optional
            Wall; all without it.
        cause : str, optional
            "pressure" or "friction"; both without it.

        Returns
        -------
        dict of str to float
            CL, CD (wind axes), CM, CX, CZ (body axes), and in space CY and the moments of roll and yaw over the span.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
        >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
        >>> sorted(solution.forces.coefficients())
        ['CD', 'CL', 'CM', 'CX', 'CZ']
        """
        force, moment = self._sum(part, cause)
        scale = self.air.dynamic_pressure * self.reference.area
        drag, side, lift = self.air.axes @ force / scale
        out = {
            "CL": float(lift),
            "CD": float(drag),
            "CM": float(moment[1] / (scale * self.reference.chord)),
            "CX": float(force[0] / scale),
            "CZ": float(force[2] / scale),
        }
        if not self.planar:  # those of a section hang on the thickness of its slab
            out |= {
                "CY": float(side),
                "C roll": float(-moment[0] / (scale * self.reference.span)),
                "C yaw": float(-moment[2] / (scale * self.reference.span)),
            }
        return out

    @property
    def CL(self) -> float:
        """Lift coefficient."""
        return self.coefficients()["CL"]

    @property
    def CD(self) -> float:
        """Drag coefficient."""
        return self.coefficients()["CD"]

    @property
    def CM(self) -> float:
        """Pitching-moment coefficient about the reference point, nose-up positive."""
        return self.coefficients()["CM"]

    def about(self, point: tuple[float, float, float]) -> "Forces":
        """The same forces with moments about another point.

        Parameters
        ----------
        point : tuple[float, float, float]
            [m]

        Examples
        --------
        >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
        >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
        >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
        >>> moved = solution.forces.about((0.0, 0.0, 0.0))
        >>> moved.CM < solution.forces.CM  # nose-up positive, lift behind the nose
        True
        """
        return replace(self, reference=self.reference.about(point))

    def table(self):
        """DataFrame: a row for every part and cause, and for the total, with coefficients and newtons.

        Examples
        --------
        >>> import zephyrum as zy
        >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("2412"), 32, 16, topology="O")
        >>> forces = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3)).forces
        >>> list(forces.table().columns)
        ['part', 'cause', 'CL', 'CD', 'CM', 'CX', 'CZ', 'X [N]', 'Y [N]', 'Z [N]']
        """
        import pandas as pd

        rows = []
        for part, cause in [(row[0], row[1]) for row in self.parts] + [(None, None)]:
            force = self.newtons(part, cause)
            names = {"part": part or "total", "cause": cause or "all"}
            rows.append(
                names | self.coefficients(part, cause) | {"X [N]": force[0], "Y [N]": force[1], "Z [N]": force[2]}
            )
        return pd.DataFrame(rows)


def wall_forces(
    mesh: "Mesh", pressure: np.ndarray, friction: np.ndarray | None, air: Freestream, reference: Reference
) -> Forces:
    """Forces on every wall.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    pressure : (n_boundary,) array
        Gauge pressure [Pa].
    friction : (n_boundary, 3) array or None
        [Pa]; None in inviscid flow.
    air : Freestream
        Freestream.
    reference : Reference
        Reference quantities.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> forces = wall_forces(mesh, solution.wall_pressure, None, solution.air, solution.reference)
    >>> round(forces.CL / solution.forces.CL, 6)
    1.0
    """
    parts = []
    on_force, on_moment = mesh.multiples
    for group in mesh.groups:
        if group.role != "wall":
            continue
        local = slice(group.start - mesh.n_interior, group.stop - mesh.n_interior)
        area = mesh.face_area[group.faces]
        causes = {"pressure": pressure[local, None] * area}
        if friction is not None:
            causes["friction"] = friction[local] * np.linalg.norm(area, axis=1)[:, None]
        for cause, force in causes.items():
            moment = np.cross(mesh.face_centroid[group.faces], force) * on_moment
            force = force * on_force
            parts.append((group.name, cause, tuple(force.sum(axis=0)), tuple(moment.sum(axis=0))))
    return Forces(tuple(parts), air, reference, mesh.attitude, mesh.planar)
