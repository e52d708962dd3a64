"""What the matrix of a lattice depends on besides its shape. Verified by tests/test_lattice.py."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class LatticeSetting:
    """What the matrix of a lattice depends on besides its shape.

    Attributes
    ----------
    mach : float
        Mach number of the stream.
    wake : tuple of float
        Unit vector along the wakes, in body axes.
    ground : tuple of float, optional
        Unit vector up from a ground and the height of the origin of the body axes above it [m].
    nodes : tuple of float
        Coordinates of the nodes of relaxed wakes, by filament, from the trailing edge [m].

    Examples
    --------
    >>> LatticeSetting(0.2).wake
    (1.0, 0.0, 0.0)
    """

    mach: float
    wake: tuple[float, float, float] = (1.0, 0.0, 0.0)
    ground: tuple[float, float, float, float] | None = None
    nodes: tuple[float, ...] = ()

    def reflected(self, vectors: np.ndarray, points: bool) -> np.ndarray:
        """Mirror images in the ground.

        Parameters
        ----------
        vectors : (..., 3) array
            Points [m] or directions.
        points : bool
            Whether they are points.

        Examples
        --------
        >>> LatticeSetting(0.2, ground=(0.0, 0.0, 1.0, 2.0)).reflected(np.array([1.0, 0.0, 1.0]), True).tolist()
        [1.0, 0.0, -5.0]
        """
        up, height = np.array(self.ground[:3]), self.ground[3]
        above = vectors @ up + (height if points else 0.0)
        return vectors - 2.0 * above[..., None] * up
