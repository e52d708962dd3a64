"""Defects of surfaces from outside: what was found, how often and where, and what can't be repaired.

Verified by tests/test_adopt.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.errors import InputError
from zephyrum.geometry.surface.triangulation import Surface


@dataclass(frozen=True)
class Defect:
    """One kind of defect of a surface.

    Attributes
    ----------
    kind : str
        What was found.
    count : int
        How many.
    positions : (k, 3) array
        Up to ten positions [m].
    size : float
        Largest size [m].
    done : str
        What was done.

    Examples
    --------
    >>> defect = defect_at("holes", np.zeros((2, 3)), 0.01, "filled")
    >>> defect.count, str(defect)
    (2, '2 holes, at (0, 0, 0); (0, 0, 0) m, up to 0.01 m: filled')
    """

    kind: str
    count: int
    positions: np.ndarray
    size: float
    done: str

    def __str__(self) -> str:
        locations = "; ".join("({:.4g}, {:.4g}, {:.4g})".format(*location) for location in self.positions[:3])
        more = ", ..." if self.count > 3 else ""
        return f"{self.count} {self.kind}, at {locations}{more} m, up to {self.size:.3g} m: {self.done}"


class NotRepairable(InputError):
    """A surface that can't be repaired; `defect` holds the positions, `surface` what was made so far.

    Examples
    --------
    >>> from zephyrum import Body, repair_surface
    >>> half = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01).selected(slice(0, 20))
    >>> try:
    ...     repair_surface(half)
    ... except NotRepairable as error:
    ...     print(error.defect.kind)
    holes too large to guess what was there
    """

    def __init__(self, surface: Surface, defect: Defect, advice: str):
        self.surface, self.defect = surface, defect
        locations = "; ".join("({:.4g}, {:.4g}, {:.4g})".format(*location) for location in defect.positions[:5])
        super().__init__(
            f"surface {surface.name!r} can't be repaired: {defect.count} {defect.kind} at {locations} m, up to "
            f"{defect.size:.3g} m; {advice}."
        )


def defect_at(kind: str, positions: np.ndarray, size: float, done: str, count: int | None = None) -> Defect:
    """Describe a defect by the places where it was found.

    Parameters
    ----------
    kind : str
        What was found, plural.
    positions : (n, 3) array
        Places [m].
    size : float
        Largest size [m].
    done : str
        What was done about it.
    count : int, optional
        How many; the number of positions without it.

    Examples
    --------
    >>> defect_at("holes", np.zeros((2, 3)), 0.01, "filled").count
    2
    """
    positions = np.asarray(positions, dtype=float).reshape(-1, 3)
    return Defect(kind, len(positions) if count is None else count, positions[:10], float(size), done)


def defect_of_pieces(kind: str, pieces: list, done: str) -> Defect:
    """Describe a defect of whole shells or holes by their centroids and the largest size.

    Parameters
    ----------
    kind : str
        What was found, plural.
    pieces : list
        Surfaces or holes.
    done : str
        What was done about it.
    """
    return defect_at(kind, np.array([one.midpoint for one in pieces]), max(one.size for one in pieces), done)
