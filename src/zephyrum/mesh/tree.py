"""Quadtrees and octrees as flat arrays: refined to a field of sizes, balanced 2:1 across faces, edges and corners.

The nodes of a level are kept as sorted keys; a level holds all neighbours of every cell that is divided above it, which
is the 2:1 rule itself, so that balancing is one sweep from the finest level up (cf. Sundar, Sampath and Biros 2008,
SIAM J. Sci. Comput. 30:2675). Verified by tests/test_clipped.py.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.errors import MeshError
from zephyrum.mesh.polygons import components

GRID_OFFSET = 1e-6  # of the finest cell: points keep so far from the planes of the grid
MAX_DEPTH = 20  # levels: the finest cell is a millionth of the domain
SIZE_QUANTILE = 0.1  # quantile of the sizes wished for that the sides of the cells are powers of two of
# at least so many of the largest cells along the domain, so that rounding it to whole ones changes little
MIN_ROOTS = 8


@dataclass(frozen=True, eq=False)
class Tree:
    """Cells of sides size / 2^level times `stretch`, in two or three dimensions.

    origin (d,) [m]; size [m] of the root's side; stretch (d,) how much longer the cells are along each axis; level
    (n,), corner (n, d) lowest corner in units of the finest cell, child (n,) first of the 2^d children (in the order of
    bits x + 2 y + 4 z) or -1 for a leaf; depth the finest level; limit (d,): the domain reaches so many finest cells
    along each axis, what lies beyond is no part of it.
    """

    origin: np.ndarray
    size: float
    stretch: np.ndarray
    depth: int
    level: np.ndarray
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

    @property
    def side(self) -> np.ndarray:
        """(n,) sides in units of the finest cell."""
        return 1 << (self.depth - self.level)

    def coordinates(self, axis: int, at: np.ndarray) -> np.ndarray:
        """Coordinates [m] of grid planes: one number for one plane, whoever asks."""
        return self.origin[axis] + self.unit[axis] * np.asarray(at, dtype=float)

    def midpoints(self, cells: np.ndarray) -> np.ndarray:
        """(n, d) centroids [m] of some cells."""
        return self.origin + self.unit * (self.corner[cells] + 0.5 * self.side[cells, None])

    def squares(self, cells: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """(n,) how large [m2] a wall with such unit normals (n, 3) is that one of these cells stands on."""
        return (self.side[cells] * self.unit[0]) ** 2 / stretched_coordinates(normals, self.stretch)


def stretched_coordinates(normals: np.ndarray, stretch: np.ndarray) -> np.ndarray:
    """(n,) fraction of its area that a plane with such unit normals (n, 3) keeps where lengths along the axes are
    divided by `stretch` (3,).
    """
    return np.linalg.norm(normals * stretch, axis=1) / np.prod(stretch)


def whole_cells(size: float, target: float | np.ndarray) -> tuple[float, int]:
    """(side [m] of the largest cells, how many along a domain of about `size` [m]): sides are a low quantile of the
    sizes `target` (n,) times powers of two.

    So the cubes of two meshes whose sizes differ by some factor differ by just this factor, in a domain that is the
    same but for a few per cent.
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
) -> Tree:
    """The balanced tree whose cells are no longer than the field `wanted` (points (k, d) to sizes (k,) [m]) at their
    centroids.

    side [m] of the largest cells, `count` of them along each axis; finest [m]: no cell is divided below this side;
    stretch (d,): factor on the sides along each axis, of cells whose side is measured along the others.
    MeshError above `most` cells.
    """
    origin = np.asarray(origin, dtype=float)
    d = len(origin)
    stretch = np.ones(d) if stretch is None else np.asarray(stretch, dtype=float)
    count = np.broadcast_to(np.asarray(count, dtype=np.int64), (d,))
    above = int(count.max() - 1).bit_length()  # levels above the largest cells
    size = side * 2.0**above
    bits = np.stack([(np.arange(2**d) >> axis) & 1 for axis in range(d)], axis=1)
    levels = [np.zeros((1, d), dtype=np.int64)]  # cells of each level, in units of that level
    total = 1
    for level in range(MAX_DEPTH):
        side = size / 2**level
        cells = levels[-1]
        if level < above:
            divide = (cells << (above - level) < count).all(axis=1)
        elif side <= finest * (1.0 + 1e-9):
            break
        else:
            divide = (cells < count << (level - above)).all(axis=1)
            divide[divide] = wanted(origin + (cells[divide] + 0.5) * side * stretch) < side * (1.0 - 1e-9)  # type: ignore[index]
        if not divide.any():
            break
        levels.append((2 * cells[divide][:, None] + bits).reshape(-1, d))
        total += len(levels[-1])
        if total > most:
            raise MeshError(f"the tree needs more than {most} cells; ask for larger sizes.")
    depth = len(levels) - 1
    around = np.stack(np.meshgrid(*[[-1, 0, 1]] * d, indexing="ij"), axis=-1).reshape(-1, d)

    def keys(cells: np.ndarray) -> np.ndarray:
        out = cells[:, 0]
        for axis in range(1, d):
            out = (out << MAX_DEPTH) | cells[:, axis]
        return out

    def cells_of(key: np.ndarray) -> np.ndarray:
        return np.stack([(key >> (MAX_DEPTH * (d - 1 - axis))) & ((1 << MAX_DEPTH) - 1) for axis in range(d)], axis=1)

    nodes: list[np.ndarray] = [_unique(keys(cells)) for cells in levels]
    for level in range(depth - 1, 0, -1):
        divided = cells_of(_unique(keys(cells_of(nodes[level + 1]) >> 1)))
        near = (divided[:, None] + around).reshape(-1, d)
        near = near[((near >= 0) & (near < 2**level)).all(axis=1)]
        parents = cells_of(_unique(keys(near >> 1)))
        brothers = (2 * parents[:, None] + bits).reshape(-1, d)
        nodes[level] = _unique(np.concatenate([nodes[level], keys(brothers)]))
        total = sum(map(len, nodes))
        if total > most:
            raise MeshError(f"the tree needs more than {most} cells; ask for larger sizes.")
    # top down, brothers together
    level, corner, child = [np.zeros(1, dtype=np.int64)], [np.zeros((1, d), dtype=np.int64)], []
    cells, made = np.zeros((1, d), dtype=np.int64), 1
    for k in range(depth + 1):
        if k < depth:
            below = _unique(keys(cells_of(nodes[k + 1]) >> 1))
            own = keys(cells)
            found = np.minimum(np.searchsorted(below, own), len(below) - 1)
            divided = below[found] == own
        else:
            divided = np.zeros(len(cells), dtype=bool)
        first = np.full(len(cells), -1)
        first[divided] = made + 2**d * np.arange(divided.sum())
        child.append(first)
        if not divided.any():
            break
        cells = (2 * cells[divided][:, None] + bits).reshape(-1, d)
        made += len(cells)
        level.append(np.full(len(cells), k + 1))
        corner.append(cells << (depth - k - 1))
    return Tree(
        origin,
        float(size),
        stretch,
        depth,
        np.concatenate(level),
        np.concatenate(corner),
        np.concatenate(child),
        count << (depth - above),
    )


def _unique(key: np.ndarray) -> np.ndarray:
    key = np.sort(key)
    return key[np.r_[True, key[1:] != key[:-1]]] if len(key) else key


@exact
def cell_at(location, d, depth, child: np.ndarray):
    """Leaf that holds the integer place spot (d,), in half units of the finest cell so that it lies on no plane."""
    node = 0
    half = np.int64(1) << depth  # of the root's side, in half units
    low = np.zeros(3, dtype=np.int64)
    while child[node] >= 0:
        k = 0
        for axis in range(d):
            if location[axis] > low[axis] + half:
                k |= 1 << axis
                low[axis] += half
        node = child[node] + k
        half >>= 1
    return node


@exact
def leaves_at(locations: np.ndarray, depth: int, child: np.ndarray):
    """(n,) leaves that hold the positions (n, 3) in half units of the finest cell."""
    out = np.empty(len(locations), dtype=np.int64)
    for i in range(len(locations)):
        out[i] = cell_at(locations[i], 3, depth, child)
    return out


@exact
def neighbours(
    d: int, depth: int, limit: np.ndarray, level: np.ndarray, corner: np.ndarray, child: np.ndarray, leaves: np.ndarray
):
    """(k, 2 d) leaf across each side (low x, high x, low y, ...) of the leaves: -1 outside, -2 if smaller ones lie
    there.
    """
    out = np.full((len(leaves), 2 * d), -1, dtype=np.int64)
    location = np.zeros(3, dtype=np.int64)
    for k in range(len(leaves)):
        c = leaves[k]
        side = np.int64(2) << (depth - level[c])  # in half units
        for axis in range(d):
            for end in range(2):
                for a in range(d):
                    location[a] = 2 * corner[c, a] + side // 2
                location[axis] = 2 * corner[c, axis] + (side + 1 if end else -1)
                if location[axis] < 0 or location[axis] > 2 * limit[axis]:
                    continue
                # in the centre of the side there is a plane if smaller cells lie there: step off it
                for a in range(d):
                    if a != axis:
                        location[a] -= 1 if side > 2 else 0
                found = cell_at(location, d, depth, child)
                out[k, 2 * axis + end] = -2 if level[found] > level[c] else found
    return out


def moved_off_planes(points: np.ndarray, tree: Tree) -> np.ndarray:
    """Points (n, d) moved off the planes of the finest grid by a millionth of a cell where they lie on one inside the
    domain.
    """
    off = (points - tree.origin) / tree.unit
    near = (np.abs(off - np.round(off)) < GRID_OFFSET) & (points != tree.origin)
    return np.where(near, tree.origin + (np.round(off) + 2.0 * GRID_OFFSET) * tree.unit, points)


def merged(small: np.ndarray, left: np.ndarray, right: np.ndarray, size: np.ndarray) -> np.ndarray:
    """(n,) for each cell the first one of those it is merged with: `small` ones (n, bool) with their neighbour across
    their largest face.

    left, right, size (k,): cells on both sides of the faces that may vanish, and how large these are.
    """
    into = np.arange(len(small))
    one, two = np.r_[left, right], np.r_[right, left]
    order = np.argsort(np.r_[size, size], kind="stable")
    order = order[small[one[order]]]
    into[one[order]] = two[order]  # the largest face is written last
    label = components(np.arange(len(into)), into, len(into))
    return np.unique(label, return_index=True)[1][label]
