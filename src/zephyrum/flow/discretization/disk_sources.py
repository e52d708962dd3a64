"""Sources of propeller disks: a fixed force on the air in each cell, and the work that it does.

The work is fixed, that of the shaft, or that of the force at the local velocity, which keeps the entropy (an ideal
disk). Verified by tests/test_propellers.py and validation/propellers.py.
"""

from typing import NamedTuple

import numpy as np


class DiskSources(NamedTuple):
    """Forces of the disks on the air in k cells, in scaled units.

    Attributes
    ----------
    cells : (k,) array of int
        A cell may occur once for each disk.
    force : (k, 3) array
        [m^2]
    work : (k,) array
        [m^2]; NaN for that of the force at the local velocity.
    disk : (k,) array of int
        Number of the disk.

    Examples
    --------
    >>> DiskSources(np.array([3]), np.array([[0.1, 0.0, 0.0]]), np.array([np.nan]), np.array([0])).ideal.tolist()
    [True]
    """

    cells: np.ndarray
    force: np.ndarray
    work: np.ndarray
    disk: np.ndarray

    @property
    def ideal(self) -> np.ndarray:
        """(k,) whether the work is that of the force at the local velocity."""
        return np.isnan(self.work)

    def work_on(self, q: np.ndarray) -> np.ndarray:
        """(k,) work on the air at states q (n, m)."""
        return np.where(self.ideal, np.einsum("kj,kj->k", self.force, q[self.cells, 1:4]), self.work)

    def subtract(self, q: np.ndarray, out: np.ndarray) -> None:
        """Subtract force and work from the net outflow of the cells.

        Parameters
        ----------
        q : (n, m) array
            States.
        out : (n, m) array
            Changed in place.
        """
        np.subtract.at(out[:, 1:4], self.cells, self.force)
        np.subtract.at(out[:, 4], self.cells, self.work_on(q))

    def subtract_jacobian(self, axes: np.ndarray, blocks: np.ndarray) -> None:
        """Subtract the derivatives of the work to the velocity from the blocks of the cells.

        Parameters
        ----------
        axes : (n_active,) array
            Columns of the unknowns that are solved for.
        blocks : (n, nb, nb) array
            Changed in place.
        """
        own, energy = self.ideal, int(np.flatnonzero(axes == 4)[0])
        for column in np.flatnonzero((axes >= 1) & (axes <= 3)):
            force = self.force[own, axes[column] - 1].astype(blocks.dtype)
            np.subtract.at(blocks[:, energy, column], self.cells[own], force)
