"""Periodic sides: every pair of faces is one face between two cells, the second turned about the x axis into the frame of the first.

States and gradients of the cells on either side are gathered, turned and given to the same kernels as any face within the
mesh; what they yield goes to both faces of the pair. So the scheme is the same everywhere and what leaves one side enters the
other to round-off. Only the preconditioner does not see across. Verified by tests/test_sectors.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.mesh import Mesh
from zephyrum.mesh.periodic_sectors import periodic_pairs


@dataclass(frozen=True, eq=False)
class PeriodicInterface:
    """k pairs of faces `one` and `two`, and their cells; `turn` (3, 3) takes vectors at the second to the first.

    The others are those of `FaceData` for a mesh of 2 k cells, the first k those beside `one`.
    """

    one: np.ndarray
    two: np.ndarray
    cells: np.ndarray
    turn: np.ndarray
    left: np.ndarray
    right: np.ndarray
    normal: np.ndarray
    area: np.ndarray
    to_left: np.ndarray
    to_right: np.ndarray
    separation: np.ndarray
    fraction: np.ndarray

    @classmethod
    def of(cls, mesh: Mesh, directions: np.ndarray, fractions) -> "PeriodicInterface | None":
        """That of a mesh with periodic sides, None without; ways (nf, 3) from the cells to their faces; shares: see `FaceData`."""
        if mesh.sectors == 1:
            return None
        one, two, turn = periodic_pairs(mesh)
        k = len(one)
        area = np.linalg.norm(mesh.face_area[one], axis=1)
        to_left, to_right = directions[one], directions[two] @ turn.T
        separation = to_left - to_right
        rows = np.arange(2 * k, dtype=np.int32)
        return cls(one, two, np.r_[mesh.left[one], mesh.left[two]], turn, rows[:k], rows[k:], mesh.face_area[one] / area[:, None], area,
                   to_left, to_right, separation, fractions(to_left, to_right, separation, -separation))  # fmt: skip

    def rows(self, values: np.ndarray) -> np.ndarray:
        """(2 k, m) states of the cells, velocities of the second half turned."""
        out, k = values[self.cells], len(self.one)
        out[k:, 1:4] = out[k:, 1:4] @ self.turn.T.astype(out.dtype)
        return out

    def gradients(self, g: np.ndarray) -> np.ndarray:
        """(2 k, m, 3) gradients of the cells, those of the second half turned."""
        out, k, turn = g[self.cells], len(self.one), self.turn.astype(g.dtype)
        out[k:] = out[k:] @ turn.T
        out[k:, 1:4] = turn @ out[k:, 1:4]
        return out

    def closure(self, closure: np.ndarray) -> np.ndarray:
        """(2 k, ...) scalars of the cells; none where there are none."""
        return closure[self.cells] if len(closure) else closure

    def give(self, flux: np.ndarray, out: np.ndarray) -> None:
        """Write the flux (k, m) out of the first cells to both faces of every pair in out (nf, m)."""
        out[self.one] = flux
        opposite = -flux
        opposite[:, 1:4] = opposite[:, 1:4] @ self.turn.astype(flux.dtype)
        out[self.two] = opposite

    def turned_back(self, blocks: np.ndarray) -> np.ndarray:
        """(k, nb, nb) blocks in the frame of the second faces."""
        whole = np.eye(blocks.shape[-1])
        whole[1:4, 1:4] = self.turn
        return whole.T @ blocks @ whole

    def set_first_order(self, cells: np.ndarray) -> None:
        """See `Domain.set_first_order`."""
        k, first_order = len(self.one), cells[self.cells]
        self.to_left[first_order[:k]] = self.to_right[first_order[k:]] = 0.0
        self.fraction[first_order[:k], 0] = self.fraction[first_order[k:], 1] = 0.0
