"""The field of cell sizes: what the surface asks for, growing with the distance from it, and zones of the user's.

The size at a position is the least of (size of a point of the surface + growth x distance), found by branch and bound
in a tree of boxes, and of (size of a zone + growth x distance from it). So the field changes nowhere faster than
`growth`, which keeps the tree nearly balanced by itself. Verified by tests/test_clipped.py.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.jit import exact, exact_parallel, prange
from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.geometry.surface.self_intersection import box_tree

RESOLUTIONS = {"coarse": 1.6, "medium": 1.0, "fine": 0.63}  # factors on all sizes of a mesh, in the plane and in space
SIZE_GROWTH = 0.2  # of the size with distance
MAX_GROWTH = 0.5  # the same in the coarsest meshes of a family


@dataclass(frozen=True)
class Zone:
    """A largest cell size in a region: a box, a rod, or the space about a part.

    Attributes
    ----------
    size : float
        [m]
    box : tuple, optional
        Two corners [m].
    start, end : tuple, optional
        Ends of a rod [m].
    radius : float
        Of the rod, or distance from the part [m].
    end_radius : float, optional
        Of the rod at its end [m].
    end_size : float, optional
        Size at its end [m].
    part : str, optional
        Part of the surface (in space only).

    Notes
    -----
    All in body axes (x aft, y starboard, z up); in two dimensions y does not count. A rod whose start and end are alike
    is a ball.

    Examples
    --------
    >>> Zone(0.05, start=(1.0, 0.0, 0.0), end=(4.0, 0.0, 0.2), radius=0.1, end_radius=0.4)  # a wake
    Zone(size=0.05, ...)
    """

    size: float
    box: tuple | None = None
    start: tuple | None = None
    end: tuple | None = None
    radius: float = 0.0
    end_radius: float | None = None
    end_size: float | None = None
    part: str | None = None

    def __post_init__(self) -> None:
        number("size of a zone", self.size, 0.0, open_low=True)
        if sum(one is not None for one in (self.box, self.start, self.part)) != 1:
            raise InputError(
                "a zone is either a box (two corners), a rod (start and end) or the space about a part; give one of "
                "them."
            )
        for name in () if self.part else ("box",) if self.start is None else ("start", "end"):
            value = getattr(self, name)
            if value is None or np.shape(value) != ((2, 3) if name == "box" else (3,)):
                raise InputError(
                    f"zone: {name} = {value!r} should be {'two corners' if name == 'box' else 'a point'} of x, y, z "
                    f"[m]."
                )
        number("radius of a zone", self.radius, 0.0)
        for name, value in (("end", self.end), ("end_radius", self.end_radius), ("end_size", self.end_size)):
            if self.start is None and value is not None:
                raise InputError(f"zone: {name} = {value!r} has no effect without start; it is for rods.")
            if name != "end" and value is not None:
                number(f"{name} of a zone", value, 0.0, open_low=name == "end_size")

    def scaled(self, factor: float) -> "Zone":
        """The same region with its sizes scaled.

        Parameters
        ----------
        factor : float
            Scale factor.

        Examples
        --------
        >>> Zone(0.05, box=((0.0, 0.0, 0.0), (1.0, 1.0, 1.0))).scaled(2.0).size
        0.1
        """
        return replace(
            self, size=factor * self.size, end_size=None if self.end_size is None else factor * self.end_size
        )

    def wanted(self, points: np.ndarray, growth: float) -> np.ndarray:
        """Sizes that the zone allows.

        Parameters
        ----------
        points : (n, 3) array
            [m]
        growth : float
            Growth of the size with distance.

        Returns
        -------
        (n,) array
            [m]

        Examples
        --------
        >>> zone = Zone(0.05, box=((0.0, 0.0, 0.0), (1.0, 1.0, 1.0)))
        >>> zone.wanted(np.array([[0.5, 0.5, 0.5], [2.0, 0.5, 0.5]]), 0.2).round(6).tolist()
        [0.05, 0.25]
        """
        if self.part is not None:
            raise InputError(f"the zone about the part {self.part!r} needs a surface in space; give a box or a rod.")
        if self.box is not None:
            low, high = np.min(self.box, axis=0), np.max(self.box, axis=0)
            far = np.linalg.norm(np.maximum(np.maximum(low - points, points - high), 0.0), axis=1)
            return self.size + growth * far
        a, b = np.asarray(self.start, dtype=float), np.asarray(self.end, dtype=float)
        along = b - a
        fraction = np.clip((points - a) @ along / max(float(along @ along), 1e-300), 0.0, 1.0)
        thick = self.radius + fraction * ((self.radius if self.end_radius is None else self.end_radius) - self.radius)
        far = np.maximum(np.linalg.norm(points - a - fraction[:, None] * along, axis=1) - thick, 0.0)
        return self.size + fraction * ((self.end_size or self.size) - self.size) + growth * far


class PartZone:
    """A zone about a part, knowing the points (k, 3) of that part."""

    def __init__(self, zone: Zone, points: np.ndarray):
        self.size, self.radius, self.tree = zone.size, zone.radius, cKDTree(points)

    def wanted(self, points: np.ndarray, growth: float) -> np.ndarray:
        """Sizes that the zone allows.

        Parameters
        ----------
        points : (n, 3) array
            [m]
        growth : float
            Growth of the size with distance.

        Returns
        -------
        (n,) array
            [m]
        """
        return self.size + growth * np.maximum(self.tree.query(points)[0] - self.radius, 0.0)


class SizeField:
    """Sizes [m] wanted at positions: from `points` (n, 3) with sizes `h` (n,) and from zones.

    Examples
    --------
    >>> field = SizeField(np.zeros((1, 3)), np.array([0.1]), growth=0.5)
    >>> field(np.array([[2.0, 0.0, 0.0]])).round(6)  # 0.1 + 0.5 times the distance
    array([1.1])
    """

    def __init__(self, points: np.ndarray, h: np.ndarray, growth: float = SIZE_GROWTH, zones: tuple[Zone, ...] = ()):
        self.points, self.h = np.ascontiguousarray(points, dtype=float), np.ascontiguousarray(h, dtype=float)
        self.growth, self.zones = growth, tuple(zones)
        self.tree = box_tree(self.points, self.points)
        order, _, child, span = self.tree
        self.least = _least(self.h, order, child, span)

    def __call__(self, positions: np.ndarray) -> np.ndarray:
        """(k,) sizes at positions (k, 3), or (k, 2) in x and z."""
        if positions.shape[1] == 2:
            positions = np.stack([positions[:, 0], np.zeros(len(positions)), positions[:, 1]], axis=1)
        out = _target_sizes(np.ascontiguousarray(positions), self.points, self.h, self.least, self.tree, self.growth)
        for zone in self.zones:
            out = np.minimum(out, zone.wanted(positions, self.growth))
        return out


@exact
def _least(h, order, child, span):
    """Least size below every node; children come after their parents."""
    out = np.empty(len(child))
    for node in range(len(child) - 1, -1, -1):
        if child[node, 0] >= 0:
            out[node] = min(out[child[node, 0]], out[child[node, 1]])
        else:
            out[node] = np.inf
            for k in range(span[node, 0], span[node, 1]):
                out[node] = min(out[node], h[order[k]])
    return out


@exact_parallel
def _target_sizes(positions, points, h, least, tree, growth):
    """Smallest of h + growth * distance over all points (n,), found by branch and bound.

    Parameters
    ----------
    positions : (n, 3) array
    points : (m, 3) array
    h : (m,) array
        Sizes at the points [m].
    least : (nodes,) array
        Least size below each node of `tree`.
    tree : BoxTree
    growth : float
    """
    order, bounds, child, span = tree
    n = len(positions)
    out = np.empty(n)
    for block in prange((n + 255) // 256):
        stack = np.empty(128, dtype=np.int64)
        floor = np.empty(128)
        for i in range(np.int64(block) * 256, min(n, np.int64(block) * 256 + 256)):
            best = np.inf
            stack[0], floor[0], top = 0, 0.0, 1
            while top > 0:
                top -= 1
                if floor[top] >= best:
                    continue
                node = stack[top]
                if child[node, 0] < 0:
                    for k in range(span[node, 0], span[node, 1]):
                        p = order[k]
                        far = 0.0
                        for d in range(3):
                            far += (positions[i, d] - points[p, d]) ** 2
                        best = min(best, h[p] + growth * np.sqrt(far))
                    continue
                low0, low1 = 0.0, 0.0
                for d in range(3):
                    a, b = child[node, 0], child[node, 1]
                    gap = max(bounds[a, d] - positions[i, d], positions[i, d] - bounds[a, 3 + d], 0.0)
                    low0 += gap * gap
                    gap = max(bounds[b, d] - positions[i, d], positions[i, d] - bounds[b, 3 + d], 0.0)
                    low1 += gap * gap
                low0 = least[child[node, 0]] + growth * np.sqrt(low0)
                low1 = least[child[node, 1]] + growth * np.sqrt(low1)
                # the more promising child last, so that it is looked at first
                first = 1 if low0 <= low1 else 0
                stack[top], floor[top] = child[node, first], low1 if first == 1 else low0
                stack[top + 1], floor[top + 1] = child[node, 1 - first], low0 if first == 1 else low1
                top += 2
            out[i] = best
    return out
