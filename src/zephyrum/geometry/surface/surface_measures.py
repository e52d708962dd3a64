"""What a closed surface measures: lengths, areas, shadows, volume. Verified by tests/test_solids.py."""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import takes
from zephyrum.geometry.surface.solids import projection, section_area
from zephyrum.geometry.surface.triangulation import Surface


@dataclass(frozen=True, eq=False)
class SurfaceMeasures:
    """Measures of one closed surface.

    Attributes
    ----------
    surface : Surface
        The surface.
    size : (3,) array
        Length, span, height [m].
    wetted : float
        Area [m^2].
    planform, frontal, side : float
        Shadows from above, from ahead and from the side [m^2].
    volume : float
        [m^3]
    centroid : (3,) array
        [m]
    labels : dict[str, float]
        Area of each label [m^2].

    Examples
    --------
    >>> from zephyrum import Body
    >>> measures = measure_surface(Body.box(1.0, 2.0, 3.0).surface())
    >>> round(measures.frontal, 6), round(measures.wetted, 6)
    (6.0, 22.0)
    """

    surface: Surface
    size: np.ndarray
    wetted: float
    planform: float
    frontal: float
    side: float
    volume: float
    centroid: np.ndarray
    labels: dict[str, float]

    __repr__ = short_repr

    def __str__(self) -> str:
        return (
            f"{self.surface.name}, {' x '.join(f'{v:.4g}' for v in self.size)} m, wetted area {self.wetted:.4g} m^2, "
            f"volume {self.volume:.4g} m^3"
        )

    def rows(self) -> list[tuple[str, float, str]]:
        """(name, value, unit) for tables.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.measure_surface(zy.Body.capsule(3.0, 1.0).surface()).rows()[0][0]
        'length'
        """
        return [
            ("length", self.size[0], "m"),
            ("span over all", self.size[1], "m"),
            ("height", self.size[2], "m"),
            ("wetted area", self.wetted, "m^2"),
            ("planform area", self.planform, "m^2"),
            ("frontal area", self.frontal, "m^2"),
            ("side area", self.side, "m^2"),
            ("volume", self.volume, "m^3"),
            *((f"centroid {axis}", v, "m") for axis, v in zip("xyz", self.centroid)),
        ]

    def area_distribution(self, n: int = 201) -> tuple[np.ndarray, np.ndarray]:
        """Areas of the cross-sections from nose to tail.

        Parameters
        ----------
        n : int, optional
            Number of positions.

        Returns
        -------
        x : (n,) array
            [m]
        area : (n,) array
            [m^2]

        Examples
        --------
        >>> import zephyrum as zy
        >>> x, area = zy.measure_surface(zy.Body.capsule(3.0, 1.0).surface()).area_distribution(11)
        >>> float(x[5]), float(area[5].round(3))
        (1.5, 0.784)
        """
        low, high = self.surface.bounds[:, 0]
        x = np.linspace(low, high, n)
        return x, section_area(self.surface, x)


@takes(surface=Surface)
def measure_surface(surface: Surface) -> SurfaceMeasures:
    """Measure a closed surface: size, areas, volume, reference quantities.

    Parameters
    ----------
    surface : Surface
        Closed surface [m].

    Raises
    ------
    InputError
        The surface is not closed.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(round(zy.measure_surface(zy.Body.box(2.0, 1.0, 0.5).surface()).volume, 6))
    1.0
    """
    return SurfaceMeasures(
        surface,
        np.ptp(surface.bounds, axis=0),
        surface.area(),
        projection(surface, "z"),
        projection(surface, "x"),
        projection(surface, "y"),
        surface.volume,
        surface.centroid,
        {name: surface.area(name) for name in surface.labels},
    )
