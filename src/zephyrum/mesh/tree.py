"""Quadtrees and octrees as flat arrays: refined to a field of sizes, balanced 2:1 across faces, edges and corners.

The nodes of a level are kept as sorted keys; a level holds all neighbours of every cell that is divided above it, which
is the 2:1 rule itself, so that balancing is one sweep from the finest level up (cf. Sundar, Sampath and Biros 2008,
SIAM J. Sci. Comput. 30:2675).

An octree may have directional cells. The domain is cut into slabs along y, each with a length below which no cell is
divided along y: smaller cells are divided into four, along x and z. Since the slabs depend on y only, the common
face of two neighbours is the whole face of one of them, as in an octree of cubes. Verified by tests/test_clipped.py.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.errors import MeshError
from zephyrum.mesh.polygons import components

GRID_OFFSET = 1e-6  # of the finest cell: points keep so far from the planes of the grid
MAX_DEPTH = 20  # levels: the finest cell is a millionth of the domain
SIZE_QUANTILE = 0.1  # quantile of the sizes wished for that the sides of the cells are powers of two of
# at least so many of the largest cells along the domain, so that rounding it to whole ones changes little
MIN_ROOTS = 8
LONG_CELL_SAMPLES = (0.125, 0.375, 0.625, 0.875)  # fractions of its length at which a long cell looks up its size


@dataclass(frozen=True, eq=False)
class Tree:
    """Quadtree or octree of cells of sides size / 2^level times `stretch`, or longer along y.

    Attributes
    ----------
    origin : (d,) array
        Lowest corner [m].
    size : float
        Side of the root [m].
    stretch : (d,) array
        How much longer all cells are along each axis.
    depth : int
        Finest level.
    level : (n,) array
        Level of each cell.
    level_y : (n,) array
        Level of its length along y, at most `level`; in two dimensions the same.
    corner : (n, d) array
        Lowest corner in units of the finest cell.
    child : (n,) array
        First of the 2^d children (in the order of bits x + 2 y + 4 z) or of the four (x + 2 z) of a cell that is not
        divided along y; -1 for a leaf.
    limit : (d,) array
        Finest cells along each axis of the domain; what lies beyond is no part of it.

    Examples
    --------
    >>> tree = grow_tree(np.zeros(2), 1.0, lambda points: np.full(len(points), 0.3), 0.1)
    >>> tree.dimension, len(tree.leaves)
    (2, 16)
    """

    origin: np.ndarray
    size: float
    stretch: np.ndarray
    depth: int
    level: np.ndarray
    level_y: np.ndarray
    corner: np.ndarray
    child: np.ndarray
    limit: np.ndarray

    @property
    def dimension(self) -> int:
        """2 or 3."""
        return self.corner.shape[1]

    @property
    def unit(self) -> np.ndarray:
        """(d,) sides of the finest cell [m]."""
        return self.size / 2**self.depth * self.stretch

    @property
    def leaves(self) -> np.ndarray:
        """Indices of the cells of the domain that are not divided."""
        return np.flatnonzero((self.child < 0) & (self.corner < self.limit).all(axis=1))

    @cached_property
    def extent(self) -> np.ndarray:
        """(n, d) sides in units of the finest cell."""
        out = np.repeat((1 << (self.depth - self.level))[:, None], self.dimension, axis=1)
        if self.dimension == 3:
            out[:, 1] = 1 << (self.depth - self.level_y)
        return out

    def coordinates(self, axis: int, at: np.ndarray) -> np.ndarray:
        """Coordinates of grid planes: the same number for the same plane in every call.

        Parameters
        ----------
        axis : int
            0, 1 or 2.
        at : array
            Positions in units of the finest cell.

        Returns
        -------
        array
            [m]

        Examples
        --------
        >>> tree = grow_tree(np.zeros(2), 1.0, lambda points: np.full(len(points), 0.6), 0.1)
        >>> tree.coordinates(0, [0, 1, 2]).tolist()
        [0.0, 0.5, 1.0]
        """
        return self.origin[axis] + self.unit[axis] * np.asarray(at, dtype=float)

    def midpoints(self, cells: np.ndarray) -> np.ndarray:
        """Centroids of cells.

        Parameters
        ----------
        cells : (n,) array
            Cells.

        Returns
        -------
        (n, d) array
            [m]

        Examples
        --------
        >>> tree = grow_tree(np.zeros(2), 1.0, lambda points: np.full(len(points), 0.6), 0.1)
        >>> tree.midpoints(tree.leaves).tolist()
        [[0.25, 0.25], [0.75, 0.25], [0.25, 0.75], [0.75, 0.75]]
        """
        return self.origin + self.unit * (self.corner[cells] + 0.5 * self.extent[cells])

    def squares(self, cells: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """Area of the wall that a whole cell stands on.

        Parameters
        ----------
        cells : (n,) array
            Cells.
        normals : (n, 3) array
            Unit normals of the wall.

        Returns
        -------
        (n,) array
            [m^2]
        """
        extent = self.unit * self.extent[cells]
        return np.prod(extent, axis=1) / np.linalg.norm(normals * extent, axis=1)


def whole_cells(size: float, target: float | np.ndarray) -> tuple[float, int]:
    """Side of the largest cells and their number along a domain.

    Parameters
    ----------
    size : float
        About the size of the domain [m].
    target : float or array
        Wanted sizes (n,) [m].

    Returns
    -------
    side : float
        [m]
    count : int

    Notes
    -----
    The side is a low quantile of the wanted sizes times a power of two. So the cubes of two meshes whose sizes differ
    by some factor differ by just this factor, in a domain that is the same but for a few per cent.

    Examples
    --------
    >>> whole_cells(10.0, np.array([0.1, 0.1]))
    (0.8, 12)
    """
    grain = float(np.quantile(target, SIZE_QUANTILE))
    side = grain * 2.0 ** np.floor(np.log2(size / MIN_ROOTS / grain))
    return float(side), int(np.round(size / side))


def grow_tree(
    origin: np.ndarray,
    side: float,
    wanted: Callable[[np.ndarray], np.ndarray],
    finest: float,
    count: int | np.ndarray = 1,
    most: int = 20_000_000,
    stretch: np.ndarray | None = None,
    length_y: Callable[[np.ndarray], np.ndarray] | None = None,
) -> Tree:
    """Build the balanced tree whose cells are no longer than a size field asks for at their centroids.

    Parameters
    ----------
    origin : (d,) array
        Lowest corner of the domain [m]; d is 2 or 3.
    side : float
        Side of the largest cells [m].
    wanted : callable
        Size field: maps points (k, d) [m] to cell sizes (k,) [m].
    finest : float
        No cell is divided below this side [m].
    count : int or (d,) array, optional
        Number of the largest cells along each axis.
    most : int, optional
        Largest number of cells.
    stretch : (d,) array, optional
        Factor on the sides along each axis.
    length_y : callable, optional
        Maps positions along y (k,) [m] to the lengths (k,) [m] there to which alone cells are divided along y.

    Raises
    ------
    MeshError
        The tree needs more than `most` cells.

    Examples
    --------
    >>> len(grow_tree(np.zeros(2), 1.0, lambda points: np.full(len(points), 0.3), 0.1).leaves)
    16
    """
    origin = np.asarray(origin, dtype=float)
    d = len(origin)
    stretch = np.ones(d) if stretch is None else np.asarray(stretch, dtype=float)
    count = np.broadcast_to(np.asarray(count, dtype=np.int64), (d,))
    above = int(count.max() - 1).bit_length()  # levels above the largest cells
    root = _Root(origin, side * 2.0**above, stretch, count, above)
    slabs = _Slabs.of(root, finest, length_y)
    nodes = _balanced(
        [_sorted_unique(_keys(cells)) for cells in _refined(root, wanted, finest, slabs, most)], slabs, most
    )
    depth = len(nodes) - 1
    return Tree(origin, float(root.size), stretch, depth, *_linked(nodes, slabs), count << (depth - above))


@dataclass(frozen=True, eq=False)
class _Root:
    """Root cell of a tree: origin (d,) and size [m], stretch (d,), largest cells along each axis (d,), levels above
    these.
    """

    origin: np.ndarray
    size: float
    stretch: np.ndarray
    count: np.ndarray
    above: int


@dataclass(frozen=True, eq=False)
class _Slabs:
    """Slabs along y: the level to which cells in each are divided along y.

    dimension: of the tree. level: of each of 2^depth equal parts of the root's side; none for a tree of cubes. A slab
    of level m is 2^(depth - m) of them, beginning at a multiple of their number.
    """

    dimension: int
    depth: int
    level: np.ndarray

    @classmethod
    def of(cls, root: _Root, finest: float, length_y: Callable[[np.ndarray], np.ndarray] | None) -> "_Slabs":
        """Slabs that are as long as the lengths within them allow."""
        d = len(root.origin)
        depth = min(MAX_DEPTH, max(root.above, int(np.ceil(np.log2(root.size / finest) - 1e-9))))
        if length_y is None or d == 2:
            return cls(d, depth, np.zeros(0, dtype=np.int64))
        n, size = 1 << depth, root.size * root.stretch[1]
        shortest = np.asarray(length_y(root.origin[1] + size / n * (np.arange(n) + 0.5)), dtype=float)
        level = np.full(n, depth)
        for m in range(depth - 1, root.above - 1, -1):  # a slab is one where both of its halves are long enough
            shortest = shortest.reshape(-1, 2).min(axis=1)
            whole = shortest >= size / 2**m * (1.0 - 1e-9)
            rows = np.repeat(whole, n >> m)
            level[rows] = m
        return cls(d, depth, level)

    def levels(self, level: int, y: np.ndarray) -> np.ndarray:
        """(n,) level of the length along y of cells of a level, y in units of that level."""
        if not len(self.level):
            return np.full(len(y), level)
        at = y << (self.depth - level) if level <= self.depth else y >> (level - self.depth)
        return np.minimum(self.level[at], level)

    def lengths(self, level: int, cells: np.ndarray) -> np.ndarray:
        """(n,) lengths along y of cells (n, d) of a level, in units of that level."""
        return 1 << (level - self.levels(level, cells[:, 1]))

    def aligned(self, level: int, cells: np.ndarray) -> np.ndarray:
        """The cells (n, d) of a level in which such cells lie: y at the low end of the slab where it is longer."""
        if not len(self.level):
            return cells
        cells = cells.copy()
        shift = level - self.levels(level, cells[:, 1])
        cells[:, 1] = (cells[:, 1] >> shift) << shift
        return cells

    def children(self, level: int, cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Children (m, d) of cells (n, d) of a level, siblings together, and how many each cell has (n,)."""
        d = self.dimension
        offsets = np.stack([(np.arange(2**d) >> axis) & 1 for axis in range(d)], axis=1)
        out = (2 * cells[:, None] + offsets).reshape(-1, d)
        if not len(self.level):
            return out, np.full(len(cells), 2**d)
        undivided = self.levels(level + 1, 2 * cells[:, 1]) <= level
        keep = ~undivided[:, None] | (offsets[:, 1] == 0)
        return out[keep.ravel()], np.where(undivided, 2 ** (d - 1), 2**d)


def _keys(cells: np.ndarray) -> np.ndarray:
    """Key (n,) of every cell (n, d) of one level; keys sort as the coordinates do."""
    out = cells[:, 0]
    for axis in range(1, cells.shape[1]):
        out = (out << MAX_DEPTH) | cells[:, axis]
    return out


def _cells(key: np.ndarray, d: int) -> np.ndarray:
    """Cells (n, d) of keys (n,): the inverse of `_keys`."""
    return np.stack([(key >> (MAX_DEPTH * (d - 1 - axis))) & ((1 << MAX_DEPTH) - 1) for axis in range(d)], axis=1)


def _check_count(total: int, most: int) -> None:
    if total > most:
        raise MeshError(f"the tree needs more than {most} cells; ask for larger sizes.")


def _refined(
    root: _Root, wanted: Callable[[np.ndarray], np.ndarray], finest: float, slabs: _Slabs, most: int
) -> list[np.ndarray]:
    """Cells (n, d) of each level, in units of that level, divided until they meet the size field; not yet balanced."""
    d = len(root.origin)
    levels, total = [np.zeros((1, d), dtype=np.int64)], 1
    for level in range(MAX_DEPTH):
        side = root.size / 2**level
        cells = levels[-1]
        if level < root.above:
            divide = (cells << (root.above - level) < root.count).all(axis=1)
        elif side <= finest * (1.0 + 1e-9):
            break
        else:
            divide = np.asarray((cells < root.count << (level - root.above)).all(axis=1))
            size = _least_wanted(root, wanted, side, cells[divide], slabs.lengths(level, cells[divide]))
            divide[divide] = size < side * (1.0 - 1e-9)
        if not divide.any():
            break
        levels.append(slabs.children(level, cells[divide])[0])
        total += len(levels[-1])
        _check_count(total, most)
    return levels


def _least_wanted(root: _Root, wanted: Callable[[np.ndarray], np.ndarray], side: float, cells, length) -> np.ndarray:
    """(n,) least size wanted in cells (n, d) of some side: at the centroid, and at more places of long ones."""
    out = np.full(len(cells), np.inf)
    long = np.flatnonzero(length > 1)
    for rows, fractions in ((np.flatnonzero(length == 1), (0.5,)), (long, LONG_CELL_SAMPLES)):
        for fraction in fractions if len(rows) else ():
            at = cells[rows] + 0.5
            at[:, 1] = cells[rows, 1] + fraction * length[rows]
            out[rows] = np.minimum(out[rows], wanted(root.origin + at * side * root.stretch))
    return out


def _balanced(nodes: list[np.ndarray], slabs: _Slabs, most: int) -> list[np.ndarray]:
    """Sorted keys of each level, completed from the finest level up so that neighbours differ by one level at most."""
    d = slabs.dimension
    around = np.stack(np.meshgrid(*[[-1, 0, 1]] * d, indexing="ij"), axis=-1).reshape(-1, d)
    for level in range(len(nodes) - 2, 0, -1):
        divided = _cells(_sorted_unique(_keys(_cells(nodes[level + 1], d) >> 1)), d)
        steps = np.ones((len(divided), 1, d), dtype=np.int64)
        steps[:, 0, 1] = slabs.lengths(level, divided)
        near = (divided[:, None] + around * np.where(around > 0, steps, 1)).reshape(-1, d)
        near = slabs.aligned(level, near[((near >= 0) & (near < 2**level)).all(axis=1)])
        parents = _cells(_sorted_unique(_keys(near >> 1)), d)
        siblings, _ = slabs.children(level - 1, parents)
        nodes[level] = _sorted_unique(np.concatenate([nodes[level], _keys(siblings)]))
        _check_count(sum(map(len, nodes)), most)
    return nodes


def _linked(nodes: list[np.ndarray], slabs: _Slabs) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Arrays (level, level_y, corner, child) of a `Tree` from the sorted keys of each level: top down, siblings
    together.
    """
    depth, d = len(nodes) - 1, slabs.dimension
    level, corner, child = [np.zeros(1, dtype=np.int64)], [np.zeros((1, d), dtype=np.int64)], []
    cells, made, along = np.zeros((1, d), dtype=np.int64), 1, [np.zeros(1, dtype=np.int64)]
    for k in range(depth + 1):
        divided = np.zeros(len(cells), dtype=bool)
        if k < depth:
            below = _sorted_unique(_keys(_cells(nodes[k + 1], d) >> 1))
            own = _keys(cells)
            divided = below[np.minimum(np.searchsorted(below, own), len(below) - 1)] == own
        first = np.full(len(cells), -1)
        below, many = slabs.children(k, cells[divided])
        first[divided] = made + np.cumsum(many) - many
        child.append(first)
        if not divided.any():
            break
        cells = below
        made += len(cells)
        level.append(np.full(len(cells), k + 1))
        along.append(slabs.levels(k + 1, cells[:, 1]))
        corner.append(cells << (depth - k - 1))
    return np.concatenate(level), np.concatenate(along), np.concatenate(corner), np.concatenate(child)


def _sorted_unique(key: np.ndarray) -> np.ndarray:
    """The distinct keys, sorted."""
    key = np.sort(key)
    return key[np.r_[True, key[1:] != key[:-1]]] if len(key) else key


@exact
def cell_at(location: np.ndarray, d: int, depth: int, level_y: np.ndarray, child: np.ndarray):
    """Leaf that holds a position.

    Parameters
    ----------
    location : (d,) array of int
        Position in half units of the finest cell, so that it lies on no plane.
    d : int
        Dimension.
    depth : int
        Finest level.
    level_y, child : array
        Of the tree.
    """
    node = 0
    half = np.int64(1) << depth  # of the root's side, in half units
    low = np.zeros(3, dtype=np.int64)
    while child[node] >= 0:
        k, bit = 0, 1
        divided = d == 2 or level_y[child[node]] > level_y[node]
        for axis in range(d):
            if axis == 1 and not divided:
                continue
            if location[axis] > low[axis] + half:
                k |= bit
                low[axis] += half
            bit <<= 1
        node = child[node] + k
        half >>= 1
    return node


@exact
def leaves_at(locations: np.ndarray, depth: int, level_y: np.ndarray, child: np.ndarray):
    """Leaves that hold positions.

    Parameters
    ----------
    locations : (n, 3) array
        Positions in half units of the finest cell.
    depth : int
        Finest level.
    level_y, child : array
        Of the tree.

    Returns
    -------
    (n,) array
    """
    out = np.empty(len(locations), dtype=np.int64)
    for i in range(len(locations)):
        out[i] = cell_at(locations[i], 3, depth, level_y, child)
    return out


def neighbours(tree: Tree) -> np.ndarray:
    """Leaf across each side of the leaves of a tree.

    Parameters
    ----------
    tree : Tree
        Tree with k leaves in d dimensions.

    Returns
    -------
    (k, 2 d) array
        Across low x, high x, low y, ...: -1 outside, -2 if smaller leaves lie there.

    Examples
    --------
    >>> tree = grow_tree(np.zeros(2), 1.0, lambda points: np.full(len(points), 0.6), 0.1)
    >>> neighbours(tree)[0].tolist()  # of the lowest of four leaves
    [-1, 2, -1, 3]
    """
    cells = _CellArrays(tree.level, tree.level_y, tree.corner, tree.extent, tree.child)
    return _neighbours(tree.dimension, tree.depth, tree.limit, cells, tree.leaves)


class _CellArrays(NamedTuple):
    """Arrays of the cells of a `Tree` for kernels."""

    level: np.ndarray
    level_y: np.ndarray
    corner: np.ndarray
    extent: np.ndarray
    child: np.ndarray


@exact
def _neighbours(d, depth, limit, cells, leaves):
    """`neighbours` from the arrays of the tree."""
    corner, extent = cells.corner, cells.extent
    out = np.full((len(leaves), 2 * d), -1, dtype=np.int64)
    location = np.zeros(3, dtype=np.int64)
    for k in range(len(leaves)):
        c = leaves[k]
        for axis in range(d):
            for end in range(2):
                for a in range(d):
                    location[a] = 2 * corner[c, a] + extent[c, a]  # the centroid, in half units
                location[axis] = 2 * corner[c, axis] + (2 * extent[c, axis] + 1 if end else -1)
                if location[axis] < 0 or location[axis] > 2 * limit[axis]:
                    continue
                # in the centre of the side there is a plane if smaller cells lie there: step off it
                for a in range(d):
                    if a != axis:
                        location[a] -= 1 if extent[c, a] > 1 else 0
                found = cell_at(location, d, depth, cells.level_y, cells.child)
                out[k, 2 * axis + end] = -2 if cells.level[found] > cells.level[c] else found
    return out


def moved_off_planes(points: np.ndarray, tree: Tree) -> np.ndarray:
    """Move points off the planes of the finest grid by a millionth of a cell.

    Parameters
    ----------
    points : (n, d) array
        [m]
    tree : Tree
        The tree.

    Returns
    -------
    (n, d) array
        [m]
    """
    off = (points - tree.origin) / tree.unit
    near = (np.abs(off - np.round(off)) < GRID_OFFSET) & (points != tree.origin)
    return np.where(near, tree.origin + (np.round(off) + 2.0 * GRID_OFFSET) * tree.unit, points)


def merged(small: np.ndarray, left: np.ndarray, right: np.ndarray, size: np.ndarray) -> np.ndarray:
    """Merge small cells with their neighbour across their largest face.

    Parameters
    ----------
    small : (n,) array of bool
        Cells to be merged.
    left, right : (k,) arrays
        Cells on both sides of the faces that may vanish.
    size : (k,) array
        Sizes of these faces.

    Returns
    -------
    (n,) array
        First of the cells that each cell is merged with.

    Examples
    --------
    >>> merged(np.array([True, False]), np.array([0]), np.array([1]), np.array([1.0])).tolist()
    [0, 0]
    """
    into = np.arange(len(small))
    one, two = np.r_[left, right], np.r_[right, left]
    order = np.argsort(np.r_[size, size], kind="stable")
    order = order[small[one[order]]]
    into[one[order]] = two[order]  # the largest face is written last
    label = components(np.arange(len(into)), into, len(into))
    return np.unique(label, return_index=True)[1][label]
