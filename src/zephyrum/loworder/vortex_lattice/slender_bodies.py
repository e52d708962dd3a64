"""Bodies beside a lattice as lines of doublets: upwash at the wings, and forces by slender-body theory.

The flow across a slender body is that of its cross-section in two dimensions (Munk 1924). A doublet of strength
2 A w for each unit of length displaces the crossflow w, with the area A of the apparent mass: pi b^2 for a crossflow
along the height and pi h^2 for one along the width of an ellipse of half width b and half height h. The force on a
slice is rho U d(A w)/dx. The crossflow is that of the stream, the rotation and the vortices of the lattice, so that
upwash ahead of a wing and downwash behind it act on the body (Multhopp 1941), and the doublets act on the lattice.
Verified by tests/test_lattice.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.geometry import Aircraft, Body
from zephyrum.geometry.aircraft.part import attitude_matrix

SLICES = 40  # along a body at least: the moment of a spheroid is exact to 1e-3
SLICES_OF_WIDTH = 6.0  # for each width of the body in its length: upwash at its side within 2 %


@dataclass(frozen=True)
class SlenderBodies:
    """Bodies of an aircraft as doublets at the middle of slices; n slices of all bodies.

    Attributes
    ----------
    bodies : tuple of (Body, (3, 3) array, (3,) array, float)
        Each body, its attitude, its position [m], and -1 for a mirror image, else 1.
    names : tuple of str
        Names of the parts.
    part : (n,) array
        Number of the part of each slice.
    points : (n, 3) array
        Middles of the slices, body axes of the aircraft [m].
    ends : (n, 2, 3) array
        Front and rear of the slices [m].
    area : (n, 3, 3) array
        Apparent areas: what doublets make of a crossflow [m^2].
    length : (n,) array
        Of the slices [m].
    base : (n, 3, 3) array
        Apparent area at the rear end of the last slice of a body, zero for the others.
    last : (n,) bool array
        Whether it is the last slice of a body.
    axis : (n, 3) array
        Unit vector along the body.
    """

    bodies: tuple
    names: tuple[str, ...]
    part: np.ndarray
    points: np.ndarray
    ends: np.ndarray
    area: np.ndarray
    length: np.ndarray
    base: np.ndarray
    last: np.ndarray
    axis: np.ndarray

    @classmethod
    def of(cls, aircraft: Aircraft, chosen: tuple[str, ...] | None = None) -> "SlenderBodies | None":
        """Bodies of an aircraft; None without any.

        Parameters
        ----------
        aircraft : Aircraft
            The aircraft.
        chosen : tuple of str, optional
            Names of parts or groups; without it all bodies.

        Examples
        --------
        >>> import zephyrum as zy
        >>> pod = zy.Body.ellipsoid(4.0, 0.5)
        >>> bodies = SlenderBodies.of(zy.Aircraft(name="pod", parts={"pod": pod}))
        >>> round(float((bodies.area[:, 2, 2] * bodies.length).sum() / (4.0 / 6.0 * np.pi * 0.5**2)), 3)  # its volume
        1.0
        """
        wanted = None if chosen is None else aircraft.parts_of(chosen)
        bodies, names, rows = [], [], []
        for name, one in aircraft.parts.items():
            if not isinstance(one, Body) or not one.aerodynamic or (wanted is not None and name not in wanted):
                continue
            names.append(name)
            for mirror in (1.0, -1.0)[: 1 + one.mirrored]:
                turn = attitude_matrix(one.roll, one.pitch, one.yaw)
                bodies.append((one, turn, np.asarray(one.position, dtype=float), mirror))
                rows.append(_slices(*bodies[-1], len(names) - 1))
        if not bodies:
            return None
        joined = {key: np.concatenate([row[key] for row in rows]) for key in rows[0]}
        return cls(tuple(bodies), tuple(names), **joined)

    def outside(self, points: np.ndarray) -> np.ndarray:
        """(m,) whether points (m, 3) lie outside all bodies.

        Parameters
        ----------
        points : (m, 3) array
            [m]
        """
        out = np.ones(len(points), dtype=bool)
        for body, turn, position, mirror in self.bodies:
            local = (points * [1.0, mirror, 1.0] - position) @ turn
            b, h, y, z = body.sizes(local[:, 0]).T
            along = (local[:, 0] > body.rings[0].x) & (local[:, 0] < body.rings[-1].x)
            reach = ((local[:, 1] - y) / np.maximum(b, 1e-9)) ** 2 + ((local[:, 2] - z) / np.maximum(h, 1e-9)) ** 2
            out &= ~(along & (reach < 1.0))
        return out

    def influence(self, points: np.ndarray, beta: float) -> np.ndarray:
        """Velocities of the doublets for unit crossflows; none inside a body, where wings carry their lift across.

        Parameters
        ----------
        points : (m, 3) array
            [m]
        beta : float
            sqrt(1 - M^2)

        Returns
        -------
        (m, n, 3, 3) array
            In the axes of Prandtl and Glauert, x over `beta`: component, component of the crossflow.
        """
        shrink = np.array([1.0 / beta, 1.0, 1.0])
        arm = (points[:, None, :] - self.points) * shrink
        square = (arm**2).sum(axis=2)
        square[~self.outside(points)] = np.inf
        third = square**-1.5
        kernel = -3.0 * (third / square)[..., None, None] * (arm[..., :, None] * arm[..., None, :])
        kernel += third[..., None, None] * np.eye(3)
        return kernel @ (self.area * (self.length / (2.0 * np.pi * beta))[:, None, None])

    def loads(self, crossflow: np.ndarray, motion: np.ndarray, centre: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Force and moment of each part, quadratic forms in the sets of a basis.

        Parameters
        ----------
        crossflow : (n, n_sets, 3) array
            Velocities at the slices.
        motion : (n, 6, 3) array
            Velocities of unit motions at the slices.
        centre : (3,) array
            Moment point [m].

        Returns
        -------
        force, moment : (n_parts, n_sets, n_sets, 3) array
            The first set is that of the motion, the second that of the crossflow.
        """
        n_sets = crossflow.shape[1]
        force = np.zeros((len(self.names), n_sets, n_sets, 3))
        moment = np.zeros_like(force)
        momentum = np.einsum("nij,nsj->nsi", self.area, crossflow)
        along = np.zeros((len(self.points), n_sets))
        along[:, : motion.shape[1]] = np.einsum("nmk,nk->nm", motion, self.axis)
        # d(A w) comes in at the front of a slice and goes out at its rear; the base of a cut body keeps its own
        left = np.where(self.last[:, None, None], np.einsum("nij,nsj->nsi", self.base, crossflow), 0.0)
        for sign, at, value in ((1.0, 0, momentum), (-1.0, 1, momentum), (1.0, 1, left)):
            made = sign * along[:, :, None, None] * value[:, None, :, :]
            np.add.at(force, self.part, made)
            np.add.at(moment, self.part, np.cross((self.ends[:, at] - centre)[:, None, None, :], made))
        return force, moment


def _slices(body: Body, turn: np.ndarray, position: np.ndarray, mirror: float, part: int) -> dict[str, np.ndarray]:
    """Arrays of the slices of one body; names as of `SlenderBodies`."""
    count = max(SLICES, round(SLICES_OF_WIDTH * body.length / max(one.width for one in body.rings)))
    nodes = body.rings[0].x + body.length * 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, count + 1)))
    middle = 0.5 * (nodes[1:] + nodes[:-1])
    flip = np.array([1.0, mirror, 1.0])

    def placed(x: np.ndarray) -> np.ndarray:
        y, z = body.sizes(x)[:, 2:].T
        return (np.stack([x, y, z], axis=1) @ turn.T + position) * flip

    def areas(x: np.ndarray) -> np.ndarray:
        b, h = body.sizes(x)[:, :2].T
        local = np.zeros((len(x), 3, 3))
        local[:, 1, 1], local[:, 2, 2] = np.pi * h**2, np.pi * b**2
        return np.einsum("ik,nkl,jl->nij", turn * flip[:, None], local, turn * flip[:, None])

    at = placed(nodes)
    last = np.arange(count) == count - 1
    return {
        "part": np.full(count, part),
        "points": placed(middle),
        "ends": np.stack([at[:-1], at[1:]], axis=1),
        "area": areas(middle),
        "length": np.diff(nodes),
        "base": np.where(last[:, None, None], areas(nodes[-1:]), 0.0),
        "last": last,
        "axis": np.tile(turn[:, 0] * flip, (count, 1)),
    }
