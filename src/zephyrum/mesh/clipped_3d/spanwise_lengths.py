"""Sizes of cells at walls, and their lengths along y beside walls that run along y, as those of wings do.

A wall that is inclined to y by a slope moves across by slope x length within a cell. Cells are as long as keeps this to
their size across (see `aspect_along_y`); that is a length for every y, the least of all walls there, which
grows no faster than by a ratio with the distance from tips, kinks and bodies. Verified by tests/test_similar.py and
validation/space.py.
"""

from dataclasses import dataclass, replace

import numpy as np

from zephyrum.geometry.surface.metric_field import aspect_along_y
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.size_field import Zone

LENGTH_GROWTH = 0.5  # of the length with the distance along y
# of the longest length: cells are no shorter along y than this or than their least ratio. With 0.25 faces at the tip of
# a wing are non-orthogonal by up to 159 deg, with 0.125 by 132 deg, with as many cells
SHORTEST_FRACTION = 0.125
SHARP_EDGE_COSINE = -0.5  # between the normals on both sides of an edge as sharp as a trailing edge
LONG_TRIANGLE = 2.0  # lengths of a triangle along y over the size of its cells from which it is sampled within
# cells at edges as sharp as trailing edges, over those at the surface beside them. Even wing of aspect ratio 6 at alpha
# 0, 25k cells: CL -73e-4 and CD 9.5 counts with 1, +6e-4 and 6.6 with 0.5, +3e-4 and 5.0 with 0.25 and 11 % more cells
SHARP_EDGE_RATIO = 0.25


@dataclass(frozen=True, eq=False)
class SpanwiseLengths:
    """Longest cells along y.

    Attributes
    ----------
    low, high : (k,) arrays
        Intervals of y [m].
    length : (k,) array
        Length allowed within each [m].
    longest : float
        Length allowed elsewhere [m].

    Examples
    --------
    >>> lengths = SpanwiseLengths(np.array([1.0]), np.array([1.2]), np.array([0.1]), 0.5)
    >>> lengths(np.linspace(0.0, 2.0, 201))[[0, 50, 110, 130]].round(6).tolist()  # at 0, 0.5, 1.1 and 1.3 m
    [0.5, 0.35, 0.1, 0.15]
    """

    low: np.ndarray
    high: np.ndarray
    length: np.ndarray
    longest: float

    def __call__(self, y: np.ndarray) -> np.ndarray:
        """(n,) lengths allowed at increasing y (n,)."""
        out = np.full(len(y), self.longest)
        first = np.minimum(np.searchsorted(y, self.low, "right") - 1, len(y) - 1)
        first, last = np.maximum(first, 0), np.searchsorted(y, self.high, "left")
        order = np.argsort(-self.length)
        for a, b, length in zip(first[order], last[order], self.length[order], strict=True):
            out[a : max(b, a) + 1] = length
        slope = LENGTH_GROWTH * y
        upward = np.minimum.accumulate(out - slope) + slope
        downward = np.minimum.accumulate((out + slope)[::-1])[::-1] - slope
        return np.minimum(upward, downward)

    def with_zones(self, zones: tuple[Zone, ...], surface: Surface) -> "SpanwiseLengths":
        """The same where zones of smaller cells allow no more than their size.

        Parameters
        ----------
        zones : tuple of Zone
            Zones.
        surface : Surface
            Surface with the parts that zones name.
        """
        ends = [_extent_along_y(zone, surface) for zone in zones]
        low, high = np.array(ends).reshape(-1, 2).T
        return SpanwiseLengths(
            np.r_[self.low, low],
            np.r_[self.high, high],
            np.r_[self.length, [zone.size for zone in zones]],
            self.longest,
        )


def _extent_along_y(zone: Zone, surface: Surface) -> tuple[float, float]:
    """Least and largest y [m] of a zone."""
    if zone.box is not None:
        y = np.asarray(zone.box, dtype=float)[:, 1]
        return float(y.min()), float(y.max())
    if zone.part is not None:
        y = surface.points[np.unique(surface.triangles[surface.belongs(zone.part)]), 1]
        return float(y.min()) - zone.radius, float(y.max()) + zone.radius
    wide = max(zone.radius, zone.end_radius or 0.0)
    return min(zone.start[1], zone.end[1]) - wide, max(zone.start[1], zone.end[1]) + wide


def sizes_across(surface: Surface, aspect_y: int = 1, directional: bool = True) -> np.ndarray:
    """Size across y of the cells on every triangle.

    Parameters
    ----------
    surface : Surface
        Surface with m triangles.
    aspect_y : int, optional
        Least length of the cells along y over that across.
    directional : bool, optional
        Whether cells may be longer where the wall runs along y.

    Returns
    -------
    (m,) array
        [m]

    Examples
    --------
    >>> from zephyrum import Body
    >>> sizes = sizes_across(Body.box(1.0, 1.0, 1.0).surface())
    >>> bool((sizes > 0.0).all())
    True
    """
    edge = np.sqrt(4.0 / np.sqrt(3.0) * surface.areas)
    along = np.ptp(surface.points[surface.triangles, 1], axis=1) if directional else None
    return directional_sizes(edge, along, surface.normals, aspect_y)


def directional_sizes(edge: np.ndarray, along: np.ndarray | None, normals: np.ndarray, aspect_y: int = 1) -> np.ndarray:
    """Size across y of cells as large on the wall as triangles, but as long along y as these or as the wall allows.

    Parameters
    ----------
    edge : (m,) array
        Edges of the equilateral triangles as large [m].
    along : (m,) array or None
        Lengths of the triangles along y [m]; None for cells of one ratio.
    normals : (m, 3) array
        Unit normals.
    aspect_y : int, optional
        Least length of the cells along y over that across.

    Returns
    -------
    (m,) array
        [m]

    Examples
    --------
    >>> up, side = np.array([[0.0, 0.0, 1.0]]), np.array([[0.0, 1.0, 0.0]])
    >>> directional_sizes(np.array([0.1]), np.array([0.4]), up).round(4).tolist()
    [0.0217]
    >>> directional_sizes(np.array([0.1]), np.array([0.0]), side).tolist()
    [0.1]
    """
    # with the least ratio, on the same area
    largest = edge * np.sqrt(np.linalg.norm(normals * [1.0, aspect_y, 1.0], axis=1) / aspect_y)
    if along is None:
        return largest
    aspect = np.maximum(aspect_along_y(normals), aspect_y)
    across = 0.5 * np.sqrt(3.0) * edge**2 / np.maximum(along, 1e-300)  # twice the area over the length
    return np.minimum(largest, np.maximum(across, edge / np.sqrt(aspect)))


def sizes_at_points(surface: Surface, sizes: np.ndarray) -> np.ndarray:
    """Means of sizes of the triangles (m,) round every point.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    sizes : (m,) array
        [m]

    Returns
    -------
    (n,) array
        [m]
    """
    n, corners = len(surface.points), surface.triangles.ravel()
    count = np.bincount(corners, minlength=n)
    return np.bincount(corners, np.repeat(sizes, 3), n) / np.maximum(count, 1)


def points_on_sharp_edges(surface: Surface, tips: np.ndarray, sizes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points on the edges of a surface that are as sharp as trailing edges, as far apart as sizes ask.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    tips : (n, 3) array
        Positions of these points now [m].
    sizes : (n,) array
        [m]

    Returns
    -------
    points : (k, 3) array
        [m]
    sizes : (k,) array
        [m]

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
    >>> len(points_on_sharp_edges(box, box.points, np.ones(len(box.points)))[0])  # a right angle is not so sharp
    0
    """
    t, near, normal = surface.triangles, surface.neighbours, surface.normals
    row, side = np.nonzero((near >= 0) & (np.arange(len(t))[:, None] < near))
    sharp = np.einsum("ij,ij->i", normal[row], normal[near[row, side]]) < SHARP_EDGE_COSINE
    a, b = t[row, side][sharp], t[row, (side + 1) % 3][sharp]
    least = np.minimum(sizes[a], sizes[b])
    count = np.ceil(np.linalg.norm(tips[b] - tips[a], axis=1) / least).astype(np.int64)
    owner = np.repeat(np.arange(len(a)), count)
    fraction = (np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count) + 0.5) / count[owner]
    points = tips[a[owner]] + fraction[:, None] * (tips[b] - tips[a])[owner]
    return points, sizes[a[owner]] + fraction * (sizes[b] - sizes[a])[owner]


@dataclass(frozen=True, eq=False)
class WallSamples:
    """Pieces of a surface, about one for every cell that will stand on it, with the sizes of the cells there.

    Attributes
    ----------
    points : (n, 3) array
        Centres of the pieces [m].
    sizes : (n,) array
        Sizes of the cells [m].
    areas : (n,) array
        [m^2]
    normals : (n, 3) array
        Unit normals.
    low, high : (n,) arrays
        Extents along y of the triangles that they are pieces of [m].
    sources : tuple of arrays
        Points (k, 3) with sizes (k,) that the field of sizes grows from [m].
    typical : (k,) array
        Sizes that the sides of the cells are powers of two of [m].

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
    >>> samples = WallSamples.of(box, np.full(len(box.points), 0.25))
    >>> round(float(samples.areas.sum()), 6)
    6.0
    """

    points: np.ndarray
    sizes: np.ndarray
    areas: np.ndarray
    normals: np.ndarray
    low: np.ndarray
    high: np.ndarray
    sources: tuple[np.ndarray, np.ndarray]
    typical: np.ndarray

    @classmethod
    def of(
        cls, surface: Surface, sizes: np.ndarray, tips: np.ndarray | None = None, even: bool = True
    ) -> "WallSamples":
        """Samples of a surface.

        Parameters
        ----------
        surface : Surface
            Surface with n points.
        sizes : (n,) array
            Sizes of the cells at its points [m].
        tips : (n, 3) array, optional
            Positions of its points after layers were grown [m].
        even : bool, optional
            Whether its triangles are as large as the cells, so that its points stand for them.
        """
        t = surface.triangles
        roof = surface if tips is None else replace(surface, points=tips)
        count = np.maximum(np.ceil(roof.areas / sizes[t].mean(axis=1) ** 2), 1.0).astype(np.int64)
        points, fraction, owner = lattice(roof.points[t], count)
        y = roof.points[t, 1]
        own = np.einsum("ij,ij->i", fraction, sizes[t[owner]])
        sharp, sharp_sizes = points_on_sharp_edges(surface, roof.points, SHARP_EDGE_RATIO * sizes)
        places, there = (roof.points, sizes) if even else (points, own)
        # long triangles are sampled within, too
        within = np.ptp(y, axis=1)[owner] > LONG_TRIANGLE * own if even else np.zeros(len(own), dtype=bool)
        return cls(
            points,
            own,
            (roof.areas / count)[owner],
            roof.normals[owner],
            y.min(axis=1)[owner],
            y.max(axis=1)[owner],
            (np.concatenate([places, points[within], sharp]), np.concatenate([there, own[within], sharp_sizes])),
            there,
        )

    def lengths(self, aspect_y: int, longest: float) -> SpanwiseLengths:
        """Longest cells along y beside them.

        Parameters
        ----------
        aspect_y : int
            Least length of the cells along y over that across.
        longest : float
            Length nowhere exceeded [m].
        """
        length = np.maximum(aspect_along_y(self.normals), aspect_y) * self.sizes
        length = np.maximum(length, SHORTEST_FRACTION * longest)
        short = length < longest
        return SpanwiseLengths(self.low[short], self.high[short], length[short], longest)


def lattice(corners: np.ndarray, count: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points spread evenly over triangles.

    Parameters
    ----------
    corners : (m, 3, 3) array
        Corners of the triangles [m].
    count : (m,) array
        Points in each.

    Returns
    -------
    points : (k, 3) array
        [m]
    fraction : (k, 3) array
        Barycentric coordinates.
    owner : (k,) array
        Triangle of each.

    Notes
    -----
    A rank-1 lattice folded at the diagonal (Basu and Owen 2015, SIAM J. Numer. Anal. 53:743).

    Examples
    --------
    >>> points, fraction, owner = lattice(np.eye(3)[None], np.array([4]))
    >>> points.shape, bool(np.allclose(fraction.sum(axis=1), 1.0))
    ((4, 3), True)
    """
    owner = np.repeat(np.arange(len(corners)), count)
    within = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
    u, v = (within + 0.5) / count[owner], ((within + 0.5) * 0.6180339887) % 1.0
    fold = u + v > 1.0
    u, v = np.where(fold, 1.0 - u, u), np.where(fold, 1.0 - v, v)
    fraction = np.stack([1.0 - u - v, u, v], axis=1)
    return np.einsum("ij,ijk->ik", fraction, corners[owner]), fraction, owner
