"""The sizes that triangles of a surface are to have: from its curvature, a tolerance or a number of triangles, narrow
strips, and zones of the user's.

A metric at every point, in which the wanted edges are 1 long. Verified by tests/test_remesh.py.
"""

from dataclasses import dataclass, replace

import numpy as np

from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.geometry.surface.feature_lines import SIZE_GROWTH, Features, limit_growth
from zephyrum.geometry.surface.triangulation import Surface

TRIANGLES_PER_METRIC_AREA = 2.6  # triangles per unit of area in the metric, as measured: a little more than 4 / sqrt(3)
MIN_CURVATURE_SIZE = 0.02  # of the largest size: curvature asks for no less
MAX_TURN = 0.4  # rad by which the surface may turn along an edge, however loose the tolerance
# of it where the surface bends one way only, as leading edges do: triangles long the other way make that cheap
UNIDIRECTIONAL_RATIO = 0.5
MIN_TIP_SIZE = 0.0025  # of the largest size: what that may ask for at most, towards the tip of a cone
MIN_TIP_CURVATURE = 4.0  # curvature times size of the surface above which a position may be a tip
MIN_STRIP_RATIO = 0.05  # of the size: narrower strips are taken for as wide
MAX_WALL_SHIFT = 1.0  # of its size across: way of the wall across within a cell or triangle that is long along y
MIN_ALIGNED = 0.9  # cosine to y from which on a direction on a surface runs along y
MIN_STRIP_WIDTH = 1e-6  # of the size of the surface: what is narrower still is no strip


@dataclass(frozen=True)
class SizeZone:
    """A largest edge length in a region; sizes grow from there by the ratio of the surface.

    Attributes
    ----------
    size : float
        [m]
    part : str, optional
        Label or part; everywhere without it.
    box : tuple, optional
        Two corners ((3,), (3,)) [m].

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.SizeZone(size=0.01, part="wing").part
    'wing'
    """

    size: float
    part: str | None = None
    box: tuple | None = None

    def __post_init__(self) -> None:
        number("size", self.size, 0.0, open_low=True)
        if self.box is not None and np.shape(self.box) != (2, 3):
            raise InputError(f"zone: box = {self.box!r} should be two corners of x, y, z [m].")


def aspect_along_y(normals: np.ndarray) -> np.ndarray:
    """Largest length along y over size across of cells at a wall, as far as the wall runs along y.

    Parameters
    ----------
    normals : (n, 3) array
        Unit normals of the wall.

    Returns
    -------
    (n,) array

    Notes
    -----
    A wall inclined to y by a slope moves across by slope x length within a cell; that may be its size across.

    Examples
    --------
    >>> dihedral = np.radians(5.0)
    >>> aspect_along_y(np.array([[0.0, -np.sin(dihedral), np.cos(dihedral)]])).round(1).tolist()
    [11.4]
    """
    across = np.hypot(normals[:, 0], normals[:, 2])
    return MAX_WALL_SHIFT * np.maximum(across, 1e-9) / np.maximum(np.abs(normals[:, 1]), 1e-9)


def stretch_limits(found: Features, stretch: float, stretch_y: float | None) -> float | np.ndarray:
    """Largest ratio of long to short size at the points of a surface.

    Parameters
    ----------
    found : Features
        Features of the surface.
    stretch : float
        Largest ratio.
    stretch_y : float or None
        Largest ratio where the surface runs along y.

    Returns
    -------
    float or (n,) array

    Examples
    --------
    >>> from zephyrum import Body
    >>> from zephyrum.geometry.surface.feature_lines import find_features
    >>> features = find_features(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.005).welded())
    >>> stretch_limits(features, 4.0, None)
    4.0
    """
    if stretch_y is None or stretch_y <= stretch:
        return stretch
    surface = found.surface
    least = np.full(len(surface.points), np.inf)
    np.minimum.at(least, surface.triangles, aspect_along_y(surface.normals)[:, None])
    aligned = np.abs(found.curvature[2][:, 1]) > MIN_ALIGNED
    return np.where(aligned, np.clip(least, stretch, stretch_y), stretch)


def metric_field(
    found: Features,
    tolerance: float,
    largest: float,
    stretch: float | np.ndarray,
    zones: "tuple[SizeZone, ...]" = (),
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Sizes wanted at the points of a surface.

    Parameters
    ----------
    found : Features
        Features of the surface.
    tolerance : float
        Distance [m] of the triangles from the shape.
    largest : float
        Longest edge [m].
    stretch : float or (n,) array
        Largest ratio of long to short size.
    zones : tuple[SizeZone, ...], optional
        Regions with sizes of their own.

    Returns
    -------
    short, long : (n,) array
        [m]
    direction : (n, 3) array
        Of the long size.

    Examples
    --------
    >>> from zephyrum import Body
    >>> from zephyrum.geometry.surface.feature_lines import find_features
    >>> features = find_features(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.005).welded())
    >>> short, long, direction = metric_field(features, 0.01, 0.5, 1.0)
    >>> bool((short <= 0.5).all())
    True
    """
    surface = found.surface
    large, small, direction = found.curvature
    h1 = np.clip(np.sqrt(8.0 * tolerance / np.maximum(large, 1e-12)), MIN_CURVATURE_SIZE * largest, largest)
    least = np.maximum(UNIDIRECTIONAL_RATIO, 1.0 / stretch)
    turn = MAX_TURN * np.maximum(np.sqrt(small / np.maximum(large, 1e-12)), least)
    h1 = np.minimum(h1, np.maximum(turn / np.maximum(large, 1e-12), MIN_TIP_SIZE * largest))
    h2 = np.clip(np.sqrt(8.0 * tolerance / np.maximum(small, 1e-12)), h1, np.minimum(stretch * h1, largest))
    most = zone_sizes(surface, zones)
    h1, h2 = np.minimum(h1, most), np.minimum(h2, most)
    edges = surface._edge_table[0]
    length = np.linalg.norm(surface.points[edges[:, 0]] - surface.points[edges[:, 1]], axis=1)
    direction = np.array(direction, order="C")  # a copy: limited here
    limit_growth(h1, h2, direction, edges, length, SIZE_GROWTH)
    return h1, np.maximum(h1, np.minimum(h2, stretch * h1)), direction


def zone_sizes(surface: Surface, zones: tuple) -> np.ndarray:
    """Longest edges that the zones allow at the points of a surface.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    zones : tuple
        Of `SizeZone`.

    Returns
    -------
    (n,) array
        [m]; infinite outside.

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface = Body.box(1.0, 1.0, 1.0).surface()
    >>> zone = SizeZone(size=0.1, box=((-0.1, -1.0, -1.0), (0.1, 1.0, 1.0)))
    >>> float(zone_sizes(surface, (zone,)).min())
    0.1
    """
    out = np.full(len(surface.points), np.inf)
    for zone in zones:
        size = number("size", zone.size, 0.0, open_low=True)
        inside = np.zeros(len(surface.points), dtype=bool)
        if zone.box is not None:
            low, high = (np.asarray(corner, dtype=float) for corner in zone.box)
            inside |= ((surface.points >= low) & (surface.points <= high)).all(axis=1)
        else:
            which = slice(None) if zone.part is None else surface.belongs(zone.part)
            inside[np.unique(surface.triangles[which])] = True
        if not inside.any():
            raise InputError(f"size zone {zone}: no point of the surface lies in it.")
        out[inside] = np.minimum(out[inside], size)
    return out


def fixed_points(found: Features, h1: np.ndarray) -> np.ndarray:
    """Points kept where they are: tips of noses, where the surface bends most in both directions.

    Parameters
    ----------
    found : Features
        Features of the surface.
    h1 : (n,) array
        Short size [m].

    Returns
    -------
    array
        Indices of points.
    """
    surface = found.surface
    _, small, _ = found.curvature
    edges = surface._edge_table[0]
    top = small * (found.rank == 0)
    for _ in range(3):
        for a, b in ((0, 1), (1, 0)):
            np.maximum.at(top, edges[:, a], top[edges[:, b]].copy())
    best = np.flatnonzero((small >= top) & (small * surface.size > MIN_TIP_CURVATURE) & (found.rank == 0))
    stored: list[int] = []
    for k in best[np.argsort(-small[best])]:
        if all(np.linalg.norm(surface.points[k] - surface.points[j]) > 3.0 * h1[k] for j in stored):
            stored.append(int(k))
    return np.array(stored, dtype=int)


def metric_tensors(h1: np.ndarray, h2: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """Metric in which the wanted sizes are 1.

    Parameters
    ----------
    h1, h2 : (n,) arrays
        Short and long size [m].
    direction : (n, 3) array
        Of the long size.

    Returns
    -------
    (n, 6) array
        xx, yy, zz, xy, xz, yz [1/m^2].

    Examples
    --------
    >>> metric_tensors(np.array([0.5]), np.array([0.5]), np.array([[1.0, 0.0, 0.0]]))
    array([[4., 4., 4., 0., 0., 0.]])
    """
    a, b = 1.0 / h1**2, 1.0 / h2**2
    outer = direction[:, :, None] * direction[:, None, :]
    m = a[:, None, None] * np.eye(3) + (b - a)[:, None, None] * outer
    return np.ascontiguousarray(m[:, [0, 1, 2, 0, 0, 1], [0, 1, 2, 1, 2, 2]])


def refined_across_strips(found: Features, metric: np.ndarray) -> np.ndarray:
    """Refine a metric across strips between two feature lines nearer than its size, such as the bases of blunt tails.

    Parameters
    ----------
    found : Features
        Features of the surface.
    metric : (n, 6) array
        See `metric_tensors`.

    Returns
    -------
    (n, 6) array
    """
    surface = found.surface
    p = surface.points[surface.triangles]
    side = np.roll(p, -1, axis=1) - p
    length = np.linalg.norm(side, axis=2)
    ends = np.stack([surface.triangles, np.roll(surface.triangles, -1, axis=1)], axis=2)
    keys = ends.min(axis=2) * len(surface.points) + ends.max(axis=2)
    of_line = np.isin(keys, found.edges.min(axis=1) * len(surface.points) + found.edges.max(axis=1))
    which = np.argmax(of_line * length, axis=1)
    row = np.arange(len(p))
    along = side[row, which] / np.maximum(length[row, which], 1e-300)[:, None]
    gap = 2.0 * surface.areas / np.maximum(length[row, which], 1e-300)
    across = np.cross(surface.normals, along)
    m = metric[surface.triangles].mean(axis=1)
    x, y, z = across.T
    now = (
        m[:, 0] * x * x
        + m[:, 1] * y * y
        + m[:, 2] * z * z
        + 2.0 * (m[:, 3] * x * y + m[:, 4] * x * z + m[:, 5] * y * z)
    )
    own = (
        (of_line.sum(axis=1) == 1)
        & (found.rank[surface.triangles] > 0).all(axis=1)
        & (gap**2 * now < 0.25)
        & (gap > MIN_STRIP_WIDTH * surface.size)
    )
    # a strip is a patch most of whose area is such triangles
    fraction = np.bincount(found.patch, own * surface.areas) / np.maximum(
        np.bincount(found.patch, surface.areas), 1e-300
    )
    own &= fraction[found.patch] > 0.5
    out = metric.copy()
    increment = 1.0 / np.maximum(gap, MIN_STRIP_RATIO / np.sqrt(np.maximum(now, 1e-300))) ** 2 - now
    outer = np.stack([x * x, y * y, z * z, x * y, x * z, y * z], axis=1)
    done = np.zeros(len(surface.points), dtype=bool)
    for k in np.flatnonzero(own)[np.argsort(gap[own])]:
        for point in surface.triangles[k]:
            if not done[point] and found.rank[point] == 1:  # at corners other lines may run across
                out[point] += increment[k] * outer[k]
                done[point] = True
    return out


def equilateral_edges(found: Features, h1: np.ndarray, h2: np.ndarray, direction: np.ndarray) -> np.ndarray:
    """Edges of equilateral triangles as large as those that a remesh by these sizes makes.

    Parameters
    ----------
    found : Features
        Features of the surface.
    h1, h2 : (n,) arrays
        Short and long size [m].
    direction : (n, 3) array
        Of the long size.

    Returns
    -------
    (n,) array
        [m]
    """
    metric = refined_across_strips(found, metric_tensors(h1, h2, direction))
    whole = metric[:, [0, 3, 4, 3, 1, 5, 4, 5, 2]].reshape(-1, 3, 3)
    # 1 / h1^2 of the determinant belongs to the normal
    return np.sqrt(4.0 / np.sqrt(3.0) / TRIANGLES_PER_METRIC_AREA) * (np.linalg.det(whole) * h1**2) ** -0.25


def sizes_for(
    found: Features,
    triangles: int | None,
    tolerance: float | None,
    largest: float,
    stretch: float | np.ndarray,
    zones: "tuple[SizeZone, ...]" = (),
    coarsening: float = 1.0,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Sizes of `metric_field` for a number of triangles or for a tolerance.

    Parameters
    ----------
    found : Features
        Features of the surface.
    triangles : int or None
        About how many.
    tolerance : float or None
        Distance [m] of the triangles from the shape, with `triangles` None.
    largest : float
        Longest edge [m].
    stretch : float or (n,) array
        Largest ratio of long to short size.
    zones : tuple[SizeZone, ...], optional
        Regions with sizes of their own.
    coarsening : float, optional
        Factor on all sizes but those of the zones, once they are found.

    Returns
    -------
    short, long : (n,) array
        [m]
    direction : (n, 3) array
        Of the long size.

    Examples
    --------
    >>> from zephyrum import Body
    >>> from zephyrum.geometry.surface.feature_lines import find_features
    >>> features = find_features(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.005).welded())
    >>> short, long, direction = sizes_for(features, None, 0.01, 0.5, 1.0)
    >>> len(short) == len(features.surface.points)
    True
    """
    surface = found.surface
    zones = tuple(replace(zone, size=zone.size / coarsening) for zone in zones)

    def sizes(scale: float):
        t = (
            2e-4 * surface.size if tolerance is None else number("tolerance", tolerance, 0.0, open_low=True)
        ) * scale**2
        return metric_field(found, t, largest * scale, stretch, zones)

    def count(h1, h2) -> float:
        each = (h1 * h2)[surface.triangles].mean(axis=1)
        return float((surface.areas / each).sum()) * TRIANGLES_PER_METRIC_AREA

    scale = 1.0
    made = sizes(scale)
    if triangles:
        for _ in range(8):
            scale *= float(np.sqrt(count(*made[:2]) / triangles))
            made = sizes(scale)
    return coarsening * made[0], coarsening * made[1], made[2]
