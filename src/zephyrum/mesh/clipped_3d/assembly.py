"""The faces of a mesh in space: clipped cubes, small cells merged, and under them columns of layer cells, level by
level.

A point of the layers keeps its fractions of the corners of its triangle on every level; on the wall it is displaced
from the flat triangle to the smooth surface that this stands for. Where a cell would turn inside out the wall stays
flat, and where that does not help columns are kept to one triangle, and what is still inside out joins its neighbour.
Verified by tests/test_clipped.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.geometry.surface.feature_lines import corner_fans
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.clipped_3d.clipping import ClippedCubes
from zephyrum.mesh.clipped_3d.prism_columns import PolygonLoops, PrismColumns, WallPolygons, build_prism_columns
from zephyrum.mesh.clipped_3d.prism_layers import PrismLayers
from zephyrum.mesh.polygons import volumes_between
from zephyrum.mesh.tree import Tree, merged

SMALL_CELL_FRACTION = 0.2  # fraction of its cube below which a cell is merged with a neighbour
SMALL_COLUMN_FRACTION = 0.02  # volume of an inviscid column over that of its cube below which it becomes part of it
MAX_DISPLACEMENT = 0.4  # of the layers' height: what a point may be displaced from its flat triangle
MAX_SPLITTING_ROUNDS = 4  # rounds in which columns are divided or joined
MAX_FLATTENING_ROUNDS = 3  # rounds in which more of the wall is left flat
MIN_CURVED_COSINE = 0.5  # cosine between the normals at both ends of a side below which it is left straight


def joined_faces(
    surface: Surface,
    prisms: PrismLayers,
    even: bool,
    space: ClippedCubes,
    tree: Tree,
    half: bool,
    ground: bool,
    separate: tuple[str, ...] = (),
) -> tuple:
    """Faces of clipped cubes and of the columns of layers under them, as `mesh_from_kept` takes them.

    Parameters
    ----------
    surface : Surface
        Surface that the layers start from.
    prisms : PrismLayers
        Layers.
    even : bool
        Whether the layers are even (inviscid flow).
    space : ClippedCubes
        Clipped cubes.
    tree : Tree
        Their octree.
    half : bool
        Whether the domain ends at y = 0.
    ground : bool
        Whether the lowest side of the domain is a ground.
    separate : tuple[str, ...], optional
        Labels that become wall groups of their own; all others become the group of their part.
    """
    size = np.diff(space.wall_start)
    into = _small_cells(
        space.points,
        np.r_[space.start, space.start[-1] + space.wall_start[1:]],
        np.r_[space.corners, _backwards(space.wall_start, space.wall_corners)],
        np.r_[space.left, space.wall_cell],
        np.r_[space.right, np.full(len(size), -1)],
        space,
        tree,
    )
    parts = (*surface.parts, *separate)
    wall_of = [name if name in separate else name.split("/")[0] for name in surface.labels]
    part_of = np.array([parts.index(name) for name in wall_of])[surface.label]
    triangle = space.wall_triangle
    square = tree.squares(space.cube[space.wall_cell], surface.normals[triangle])
    split = np.zeros(len(triangle), dtype=np.int64)
    for _ in range(MAX_SPLITTING_ROUNDS):
        polygons = WallPolygons(
            space.wall_start,
            space.wall_corners,
            into[space.wall_cell],
            triangle,
            surface.normals[triangle],
            part_of[triangle],
            square,
            split,
        )
        columns = build_prism_columns(space.points, polygons)
        stacks = PrismStacks(surface, prisms, even, space, columns, half)
        turned = stacks.untangled()
        if not turned.any():
            break
        # where they bend too much they are kept to one triangle each, and slivers that still do join their neighbour
        split = np.minimum(split + turned[columns.of], 2)
    else:
        position = space.points[columns.floor.corners[columns.floor.start[np.argmax(turned[columns.floor.group])]]]
        raise MeshError(f"layers: {turned.sum()} columns are inside out, one at {position.round(5)} m.", position)
    names = [("farfield", "farfield"), ("symmetry", "symmetry"), ("ground", "ground")] + [
        (name, "wall") for name in parts
    ]
    points, start, corners, left, right, tag = stacks.faces(into, half, ground, part_of[triangle[columns.polygon]])
    if even:
        left, right = _without_small_columns(points, start, corners, left, right, columns, int(into.max()) + 1)
    return points, start, corners, left, right, tag, names, left != right


def _without_small_columns(points, start, corners, left, right, columns: PrismColumns, cubes: int) -> tuple:
    """(left, right) with columns far smaller than the cube above them made part of it.

    The base of a blunt tail that is narrower than the cubes behind it carries such columns. Their cells oscillate, and
    the flow about the base is not resolved with them either.
    """
    total = int(max(left.max(), right.max()) + 1)
    volume, area = volumes_between(points, start, corners, left, right, total, points.mean(axis=0))
    layers = (total - cubes) // columns.count
    column = np.arange(columns.count).repeat(layers)
    size = np.bincount(column, volume[cubes:])
    roofs = np.flatnonzero((left < cubes) & (right >= cubes))
    below = column[right[roofs] - cubes]
    order = np.argsort(area[roofs], kind="stable")
    above = np.full(columns.count, -1)
    above[below[order]] = left[roofs[order]]  # across the largest face
    small = size < SMALL_COLUMN_FRACTION * volume[above]
    into = np.arange(total)
    into[cubes:][small[column]] = above[column[small[column]]]
    number = np.unique(into, return_inverse=True)[1]
    return number[left], np.where(right < 0, right, number[right])


class PrismStacks:
    """Columns of layer cells between the wall (level 0) and the clipped cubes (level k)."""

    def __init__(
        self, surface: Surface, prisms: PrismLayers, even: bool, space: ClippedCubes, columns: PrismColumns, half: bool
    ):
        self.surface, self.prisms, self.space, self.columns = surface, prisms, space, columns
        self.k = prisms.height.shape[1] - 1
        # seen from the cubes down to the wall: there outward is into the body
        self.roof, self.floor = _turned(columns.roof), _turned(columns.floor)
        # thin layers need the same outline on the wall and above it, else they would cross; even ones leave
        # the wall as it is
        self.wall = _turned(columns.tiles) if even else self.floor
        self.used = np.unique(np.concatenate([self.wall.corners, self.floor.corners, columns.path]))
        self.at = np.full(len(space.points), -1)
        self.at[self.used] = np.arange(len(self.used))
        self.flat = half & (space.points[self.used, 1] == 0.0)
        self.curved = np.ones(len(self.used), dtype=bool)
        self._spread()
        # sides: along a path and back on the next level
        run = np.diff(columns.start)
        there = np.repeat(np.cumsum(2 * run) - 2 * run, run)
        within = np.arange(columns.start[-1]) - np.repeat(columns.start[:-1], run)
        self.run, self.forth, self.back = run, there + within, there + 2 * np.repeat(run, run) - 1 - within

    def _spread(self) -> None:
        """Triangle, fractions of its corners and displacement of every point used."""
        space, t = self.space, self.surface.triangles
        on = np.zeros(len(space.points), dtype=np.int64)
        on[space.wall_corners] = np.repeat(space.wall_triangle, np.diff(space.wall_start))
        triangle = on[self.used]
        on = t[triangle]
        n = len(self.surface.points)
        a, b, c = (space.points[on[:, k]] for k in range(3))
        u, v, w = b - a, c - a, space.points[self.used] - a
        uu, uv, vv = (np.einsum("ij,ij->i", *pair) for pair in ((u, u), (u, v), (v, v)))
        wu, wv = np.einsum("ij,ij->i", w, u), np.einsum("ij,ij->i", w, v)
        det = uu * vv - uv * uv
        two, three = (vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det
        fraction = np.clip(np.stack([1.0 - two - three, two, three], axis=1), 0.0, 1.0)
        corner = self.used < n
        fraction[corner] = on[corner] == self.used[corner, None]
        fraction /= fraction.sum(axis=1)[:, None]
        self.total = np.einsum("ij,ij->i", fraction, self.prisms.height[on, -1])
        displacement = np.einsum(
            "ij,ijk->ik", fraction * np.roll(fraction, -1, axis=1), _side_displacements(self.surface)[triangle]
        )
        displacement *= np.minimum(
            1.0, MAX_DISPLACEMENT * self.total / np.maximum(np.linalg.norm(displacement, axis=1), 1e-300)
        )[:, None]
        self.on, self.fraction, self.displacement = on, fraction, displacement

    def points(self, level: int) -> np.ndarray:
        """Points used, on a level.

        Parameters
        ----------
        level : int
            0 at the wall.

        Returns
        -------
        (n, 3) array
            [m]
        """
        if level == self.k:
            return self.space.points[self.used]
        out = np.einsum("ij,ijk->ik", self.fraction, self.prisms.points(self.surface, level)[self.on])
        high = np.einsum("ij,ij->i", self.fraction, self.prisms.height[self.on, level])
        out += (self.curved * (1.0 - high / self.total))[:, None] * self.displacement
        out[self.flat, 1] = 0.0
        return out

    def sides(self, low: np.ndarray, high: np.ndarray) -> np.ndarray:
        """Corners of the sides between two levels.

        Parameters
        ----------
        low, high : array
            Points of the two levels along the paths.
        """
        corners = np.empty(2 * len(low), dtype=np.int64)
        corners[self.forth], corners[self.back] = low, high
        return corners

    def untangled(self) -> np.ndarray:
        """(columns,) those with a cell that stays inside out however flat the wall is left there."""
        k = self.k
        ends = np.unique([0, min(1, k - 1), k // 2, k - 1])  # most of what turns inside out is seen on a few levels
        for levels in (ends, np.arange(k)):
            for _ in range(MAX_FLATTENING_ROUNDS):
                turned = self.turned(levels)
                if not turned.any():
                    break
                of = np.repeat(self.wall.group, np.diff(self.wall.start))
                self.curved[self.at[self.wall.corners[turned[of]]]] = False
            if turned.any():
                break
        return turned

    def turned(self, levels: np.ndarray) -> np.ndarray:
        """Columns with a cell of no positive volume.

        Parameters
        ----------
        levels : array
            Levels; the cells just above them are tested.

        Returns
        -------
        (columns,) array of bool
        """
        n, used, columns = self.columns.count, len(self.used), self.columns
        low, high = self.at, self.at + used
        bad = np.zeros(n, dtype=bool)
        for level in levels:
            points = [self.points(level), self.points(level + 1)]
            bottom, top = self.wall if level == 0 else self.floor, self.floor
            above = high[top.corners]
            if level == self.k - 1:
                top, above = self.roof, 2 * used + self.roof.corners
                points.append(self.space.points)
            points = np.concatenate(points)
            size = np.concatenate([np.diff(bottom.start), np.diff(top.start), 2 * self.run])
            corners = np.concatenate([low[bottom.corners], above, self.sides(low[columns.path], high[columns.path])])
            left = np.concatenate([bottom.group, np.full(len(top.group), n), columns.one])
            right = np.concatenate([np.full(len(bottom.group), -1), top.group, columns.two])
            start = np.r_[0, np.cumsum(size)]
            volume, _ = volumes_between(points, start, corners, left, right, n + 1, points[:used].mean(axis=0))
            bad |= volume[:n] <= 0.0
        return bad

    def faces(self, into: np.ndarray, half: bool, ground: bool, part: np.ndarray) -> tuple:
        """All faces as (points, start, corners, left, right, tag).

        Parameters
        ----------
        into : array
            Cell of every piece of a cube.
        half : bool
            Whether the domain ends at y = 0.
        ground : bool
            Whether the lowest side of the domain is a ground.
        part : array
            Number of the wall of every column.
        """
        space, columns, k = self.space, self.columns, self.k
        cubes, base = int(into.max()) + 1, len(space.points)
        roof, floor, wall = self.roof, self.floor, self.wall
        column = cubes + np.arange(columns.count)[:, None] * k + np.arange(k)
        side = np.zeros(6, dtype=np.int64)
        side[2], side[4] = 1 if half else 0, 2 if ground else 0

        def node(level: int, p: np.ndarray) -> np.ndarray:
            return p if level == k else base + level * len(self.used) + self.at[p]

        def blocks():
            """(corners of each, corners, left, right, tag) of one kind of faces after the other."""
            yield (
                np.diff(space.start),
                space.corners,
                into[space.left],
                np.where(space.right >= 0, into[space.right], -1),
                side[space.outside],
            )
            yield np.diff(roof.start), roof.corners, columns.cube, column[roof.group, k - 1], 0
            yield np.diff(wall.start), node(0, wall.corners), column[wall.group, 0], -1, 3 + part[wall.group]
            for level in range(1, k):
                yield (
                    np.diff(floor.start),
                    node(level, floor.corners),
                    column[floor.group, level],
                    column[floor.group, level - 1],
                    0,
                )
            for level in range(k):
                two = np.where(columns.two < 0, -1, column[columns.two, level])
                yield (
                    2 * self.run,
                    self.sides(node(level, columns.path), node(level + 1, columns.path)),
                    column[columns.one, level],
                    two,
                    1,
                )

        faces = len(space.left) + len(roof.group) + len(wall.group) + (k - 1) * len(floor.group) + k * len(columns.one)
        filled = (
            len(space.corners)
            + len(roof.corners)
            + len(wall.corners)
            + (k - 1) * len(floor.corners)
            + 2 * k * len(columns.path)
        )
        counts, left, right, tag = np.empty((4, faces), dtype=np.int64)
        corners = np.empty(filled, dtype=np.int64)
        row = at = 0
        for size, these, one, two, kind in blocks():
            rows = slice(row, row + len(size))
            counts[rows], left[rows], right[rows], tag[rows] = size, one, two, kind
            corners[at : at + len(these)] = these
            row, at = rows.stop, at + len(these)
        points = np.concatenate([space.points, *(self.points(level) for level in range(k))])
        return points, np.r_[0, np.cumsum(counts)], corners, left, right, tag


def _side_displacements(surface: Surface) -> np.ndarray:
    """(m, 3, 3) of every triangle and side (0-1, 1-2, 2-0) a vector [m]: times the fractions of both ends it displaces
    a point to the curved surface.

    Along a side the height over the chord is that of the parabola with the normals at both ends (cf. Nagata 2005,
    Comput. Aided Geom. Des. 22:327); none where the surface has an edge.
    """
    t, x, fan = surface.triangles, surface.points, corner_fans(surface)
    long = np.linalg.norm(x[np.roll(t, -1, axis=1)] - x[t], axis=2)
    # weights that give the exact normal of a sphere whatever the triangles (Max 1999, J. Graphics Tools 4:1)
    weight = surface.areas[:, None] / np.maximum(long * np.roll(long, 1, axis=1), 1e-300) ** 2
    normal = np.stack(
        [np.bincount(fan.ravel(), (weight * surface.normals[:, j, None]).ravel()) for j in range(3)], axis=1
    )
    rim = np.zeros(len(x), dtype=bool)
    rim[np.unique(surface.open_edges)] = True
    normal[fan[rim[t]], 1] = 0.0
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    near = surface.neighbours
    out = np.zeros((len(t), 3, 3))
    for side in range(3):
        i, j = side, (side + 1) % 3
        a, b = normal[fan[:, i]], normal[fan[:, j]]
        turn = np.einsum("ij,ij->i", b - a, x[t[:, j]] - x[t[:, i]])
        along = (a + b) / np.maximum(np.linalg.norm(a + b, axis=1), 1e-300)[:, None]
        other = np.maximum(near[:, side], 0)
        # the same fan on both sides of it: no sharp edge
        joined = (near[:, side] < 0) | (fan[other] == fan[:, i, None]).any(axis=1)
        straight = ~joined | (np.einsum("ij,ij->i", a, b) < MIN_CURVED_COSINE)
        out[:, side] = np.where(straight, 0.0, 0.5 * turn)[:, None] * along
    return out


def _turned(rings: PolygonLoops) -> PolygonLoops:
    """The same polygons the other way round."""
    return replace(rings, corners=_backwards(rings.start, rings.corners))


def _backwards(start: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """The corners of polygons (CSR) the other way round."""
    size = np.diff(start)
    return corners[np.repeat(start[1:] - 1, size) - (np.arange(size.sum()) - np.repeat(start[:-1], size))]


def _small_cells(points, start, corners, left, right, space: ClippedCubes, tree: Tree) -> np.ndarray:
    """New number of every cell: those below a fifth of their cube are merged with the neighbour across their largest
    face.
    """
    cubes = len(space.cube)
    total = int(max(left.max(), right.max()) + 1)
    volume, area = volumes_between(points, start, corners, left, right, total, tree.origin)
    whole_cube = np.prod(tree.unit * tree.extent[space.cube], axis=1)
    if (volume[:cubes] < -1e-9 * whole_cube).any():
        worst = int(np.argmin(volume[:cubes] / whole_cube))
        position = tree.midpoints(space.cube[[worst]])[0]
        raise MeshError(f"a cell at {position.round(5)} m is inside out.", position)
    small = np.zeros(total, dtype=bool)
    small[:cubes] = volume[:cubes] < SMALL_CELL_FRACTION * whole_cube
    faces = np.flatnonzero((right >= 0) & (left < cubes) & (right < cubes))
    return np.unique(merged(small, left[faces], right[faces], area[faces]), return_inverse=True)[1]
