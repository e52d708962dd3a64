"""Periodic sides: every pair of faces is one face between two cells, the second turned about the x axis into the frame
of the first.

States and gradients of the cells on either side are gathered, turned and given to the same kernels as any face within
the mesh; what they yield goes to both faces of the pair. So the scheme is the same everywhere and what leaves one side
enters the other to round-off. Only the preconditioner does not see across. Verified by tests/test_sectors.py.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zephyrum.flow.discretization.kernel_arrays import Faces
from zephyrum.mesh import Mesh
from zephyrum.mesh.periodic_sectors import periodic_pairs


@dataclass(frozen=True, eq=False)
class PeriodicInterface:
    """Pairs of periodic faces.

    Attributes
    ----------
    one, two : (k,) arrays
        Faces of the pairs.
    cells : (2 k,) array
        Their cells, the first k those beside `one`.
    turn : (3, 3) array
        From vectors at the second face to those at the first.
    faces : Faces
        Geometry of a mesh of these 2 k cells.

    Notes
    -----
    turn (3, 3) takes vectors at the second face to the first; `faces` is the geometry of a mesh of these 2 k cells.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> from zephyrum.flow.discretization.face_data import FaceData
    >>> FaceData.of(mesh_airfoil(Airfoil.naca("0012"), 32, 8)).periodic is None  # no periodic sides
    True
    """

    one: np.ndarray
    two: np.ndarray
    cells: np.ndarray
    turn: np.ndarray
    faces: Faces

    @classmethod
    def of(cls, mesh: Mesh, directions: np.ndarray, fractions: Callable) -> "PeriodicInterface | None":
        """Interface of a mesh with periodic sides; None without.

        Parameters
        ----------
        mesh : Mesh
            Mesh.
        directions : (nf, 3) array
            From the cells to their faces [m].
        fractions : callable
            Gives the fractions of `FaceData`.
        """
        if mesh.sectors == 1:
            return None
        one, two, turn = periodic_pairs(mesh)
        k = len(one)
        area = np.linalg.norm(mesh.face_area[one], axis=1)
        to_left, to_right = directions[one], directions[two] @ turn.T
        separation = to_left - to_right
        rows = np.arange(2 * k, dtype=np.int32)
        fraction = fractions(to_left, to_right, separation, -separation)
        normal = mesh.face_area[one] / area[:, None]
        faces = Faces(rows[:k], rows[k:], normal, area, to_left, to_right, separation, separation, fraction)
        return cls(one, two, np.r_[mesh.left[one], mesh.left[two]], turn, faces)

    def rows(self, values: np.ndarray) -> np.ndarray:
        """States of the cells on both sides, velocities of the second half rotated.

        Parameters
        ----------
        values : (n, m) array
            States.

        Returns
        -------
        (2 k, m) array
        """
        out, k = values[self.cells], len(self.one)
        out[k:, 1:4] = out[k:, 1:4] @ self.turn.T.astype(out.dtype)
        return out

    def gradients(self, g: np.ndarray) -> np.ndarray:
        """Gradients of the cells on both sides, those of the second half rotated.

        Parameters
        ----------
        g : (n, m, 3) array
            Gradients.

        Returns
        -------
        (2 k, m, 3) array
        """
        out, k, turn = g[self.cells], len(self.one), self.turn.astype(g.dtype)
        out[k:] = out[k:] @ turn.T
        out[k:, 1:4] = turn @ out[k:, 1:4]
        return out

    def closure(self, closure: np.ndarray) -> np.ndarray:
        """Scalars of the cells on both sides; none where there are none.

        Parameters
        ----------
        closure : (n, 2) array
            Closure of the turbulence model.
        """
        return closure[self.cells] if len(closure) else closure

    def give(self, flux: np.ndarray, out: np.ndarray) -> None:
        """Write the flux out of the first cells to both faces of every pair.

        Parameters
        ----------
        flux : (k, m) array
            Flux.
        out : (nf, m) array
            Written.
        """
        out[self.one] = flux
        opposite = -flux
        opposite[:, 1:4] = opposite[:, 1:4] @ self.turn.astype(flux.dtype)
        out[self.two] = opposite

    def turned_back(self, blocks: np.ndarray) -> np.ndarray:
        """Rotate blocks to the frame of the second faces.

        Parameters
        ----------
        blocks : (k, nb, nb) array
            Blocks.

        Returns
        -------
        (k, nb, nb) array
        """
        whole = np.eye(blocks.shape[-1])
        whole[1:4, 1:4] = self.turn
        return whole.T @ blocks @ whole

    def with_first_order(self, cells: np.ndarray) -> "PeriodicInterface":
        """Interface that extrapolates nothing from marked cells; see `FaceData.with_first_order`.

        Parameters
        ----------
        cells : (n,) array
            Mask of the cells.
        """
        k, first_order = len(self.one), cells[self.cells]
        to_left, to_right, fraction = (a.copy() for a in (self.faces.to_left, self.faces.to_right, self.faces.fraction))
        to_left[first_order[:k]] = to_right[first_order[k:]] = 0.0
        fraction[first_order[:k], 0] = fraction[first_order[k:], 1] = 0.0
        return replace(self, faces=self.faces._replace(to_left=to_left, to_right=to_right, fraction=fraction))
