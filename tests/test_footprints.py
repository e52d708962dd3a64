"""Trees of long cells, columns that stand under cubes, and closed curves divided into edges: against counts and lengths
by hand.
"""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.errors import InputError, MeshError
from zephyrum.mesh.clipped_2d.curves import CORNER_ANGLE, distance_to_others, divide, sampled_curve
from zephyrum.mesh.clipped_3d.prism_columns import WallPolygons, build_prism_columns
from zephyrum.mesh.clipped_3d.spanwise_lengths import SpanwiseLengths
from zephyrum.mesh.polygons import polygon_geometry
from zephyrum.mesh.size_field import SizeField
from zephyrum.mesh.tree import grow_tree, leaves_at, moved_off_planes, neighbours

N = 4  # squares along every edge of the cube below


class LongCells(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        rng = np.random.default_rng(3)
        points = rng.uniform(-1.0, 1.0, (60, 3))
        cls.field = SizeField(points, np.full(60, 0.11), 0.4)
        cls.lengths = SpanwiseLengths(np.array([0.9]), np.array([1.0]), np.array([0.1]), 0.8)
        cls.tree = grow_tree(np.full(3, -6.0), 1.5, cls.field, 0.05, 8, length_y=cls.lengths)

    def test_they_fill_the_domain_and_are_as_short_as_asked(self):
        tree, leaves = self.tree, self.tree.leaves
        side = tree.unit * tree.extent[leaves]
        self.assertAlmostEqual(side.prod(axis=1).sum(), 12.0**3, 9)
        np.testing.assert_array_equal(side[:, 0], side[:, 2])
        self.assertTrue((side[:, 1] >= side[:, 0]).all())
        self.assertGreater((side[:, 1] / side[:, 0]).max(), 3.9)
        midpoint = tree.midpoints(leaves)
        self.assertTrue((side[:, 0] <= self.field(midpoint) * (1.0 + 1e-9)).all())
        self.assertTrue((np.abs(midpoint) < 6.0).all())
        # no longer than asked for anywhere within, unless they are cubes
        y = np.linspace(-6.0, 6.0, 2001)
        asked = self.lengths(y)
        for k in np.flatnonzero(side[:, 1] > side[:, 0]):
            within = np.abs(y - midpoint[k, 1]) < 0.49 * side[k, 1]
            self.assertLessEqual(side[k, 1], asked[within].min() * 1.05)

    def test_neighbours_differ_by_one_level_and_the_face_of_one_is_within_that_of_the_other(self):
        tree, leaves = self.tree, self.tree.leaves
        across = neighbours(tree)
        low, high = tree.corner[leaves], tree.corner[leaves] + tree.extent[leaves]
        for direction in range(6):
            axis, sign = direction // 2, 1 if direction % 2 else 0
            own = np.flatnonzero(across[:, direction] >= 0)
            other = across[own, direction]
            self.assertLessEqual(np.abs(tree.level[other] - tree.level[leaves[own]]).max(), 1)
            theirs = tree.corner[other], tree.corner[other] + tree.extent[other]
            np.testing.assert_array_equal(theirs[1 - sign][:, axis], (low, high)[sign][own, axis])
            for plane in {0, 1, 2} - {axis}:
                inside = (theirs[0][:, plane] <= low[own, plane]) & (theirs[1][:, plane] >= high[own, plane])
                self.assertTrue(inside.all())
            rim = (high[:, axis] == tree.limit[axis]) if sign else (low[:, axis] == 0)
            np.testing.assert_array_equal(across[:, direction] == -1, rim)

    def test_places_find_the_cell_that_holds_them(self):
        tree = self.tree
        locations = moved_off_planes(np.random.default_rng(1).uniform(-5.9, 5.9, (400, 3)), tree)
        at = np.round(2.0 * (locations - tree.origin) / tree.unit).astype(np.int64)
        found = leaves_at(at, tree.depth, tree.level_y, tree.child)
        off = np.abs(locations - tree.midpoints(found)) / (tree.extent[found] * tree.unit)
        self.assertLess(off.max(), 0.5 + 0.26)  # to the nearest half of the finest cell
        self.assertTrue((tree.child[found] < 0).all())

    def test_a_wall_that_stands_on_a_cell_is_as_large_as_its_cut(self):
        cell = self.tree.leaves[
            [np.argmax(self.tree.extent[self.tree.leaves, 1] / self.tree.extent[self.tree.leaves, 0])]
        ]
        a, b, _ = self.tree.unit * self.tree.extent[cell[0]]
        for normal, area in (([1.0, 0, 0], a * b), ([0, 1.0, 0], a * a), ([0, 0, 1.0], a * b)):
            self.assertAlmostEqual(self.tree.squares(cell, np.array([normal]))[0] / area, 1.0, 12)
        c = np.sqrt(0.5)
        self.assertAlmostEqual(self.tree.squares(cell, np.array([[c, 0.0, c]]))[0] / (a * b), 1.0, 12)


def cube():
    """(points, start, corners, middles, normals, face): the skin of a unit cube in N x N squares a side, seen from
    outside.
    """
    index, points, corners, normals, faces = {}, [], [], [], []

    def number(location):
        key = tuple(np.round(np.array(location) * N).astype(int))
        if key not in index:
            index[key] = len(points)
            points.append(np.array(key) / N + [0.0, 1.0, 0.0])  # off the plane of symmetry
        return index[key]

    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        for end in (0, 1):
            for i in range(N):
                for j in range(N):
                    ring = [(i, j), (i + 1, j), (i + 1, j + 1), (i, j + 1)]
                    for a, b in ring if end else ring[::-1]:
                        location = np.zeros(3)
                        location[axis], location[u], location[v] = end, a / N, b / N
                        corners.append(number(location))
                    normal = np.zeros(3)
                    normal[axis] = 1.0 if end else -1.0
                    normals.append(normal)
                    faces.append(2 * axis + end)
    points, corners = np.array(points), np.array(corners)
    midpoints = points[corners].reshape(-1, 4, 3).mean(axis=1) - [0.0, 1.0, 0.0]
    return points, np.arange(0, 4 * 6 * N * N + 1, 4), corners, midpoints, np.array(normals), np.array(faces)


class Footprints(unittest.TestCase):
    def setUp(self):
        self.points, self.start, self.corners, self.midpoints, self.normals, self.faces = cube()
        n = len(self.faces)
        self.octant = (self.midpoints > 0.5) @ np.array([1, 2, 4])
        self.kind, self.split, self.square = np.zeros(n, dtype=int), np.zeros(n, dtype=int), np.full(n, 0.25)

    def columns(self, cell=None, triangle=None):
        cell = self.octant if cell is None else cell
        triangle = np.arange(len(self.faces)) if triangle is None else triangle
        polygons = WallPolygons(
            self.start, self.corners, cell, triangle, self.normals, self.kind, self.square, self.split
        )
        return build_prism_columns(self.points, polygons)

    def area(self, rings):
        return np.linalg.norm(polygon_geometry(self.points, rings.start, rings.corners)[1], axis=1)

    def test_one_stands_under_every_cube_on_every_side_of_an_edge(self):
        made = self.columns()
        self.assertEqual(made.count, 24)  # eight cubes, three sides each
        np.testing.assert_allclose(self.area(made.floor), 0.25)
        np.testing.assert_allclose(self.area(made.roof), 0.25)
        self.assertEqual(np.diff(made.floor.start).tolist(), [8] * 24)
        np.testing.assert_allclose(self.area(made.tiles), 1.0 / N**2)
        np.testing.assert_array_equal(np.bincount(made.of), N * N // 4)
        self.assertTrue((made.cube == self.octant[made.polygon][made.roof.group]).all())

    def test_two_that_meet_share_one_path_and_all_are_met(self):
        made = self.columns()
        pairs = list(zip(made.one.tolist(), made.two.tolist(), strict=True))
        self.assertEqual(len(pairs), 24 + 24)  # on the sides, and across the edges, of the cube
        self.assertEqual(len({frozenset(pair) for pair in pairs}), len(pairs))
        self.assertTrue((np.diff(made.start) == 3).all())
        self.assertNotIn(-1, made.two)

    def test_small_ones_join_their_neighbour_and_no_other_side(self):
        cell = self.octant.copy()
        cell[5] = 99  # one square under a cube of its own: a quarter of what its cube could stand on
        made = self.columns(cell)
        self.assertEqual(made.count, 24)
        own = np.flatnonzero(made.of == made.of[5])
        self.assertEqual(set(self.faces[own]), {self.faces[5]})
        self.assertIn(len(own), (4, 5))
        self.square[5] = 0.1  # a finer cube: large enough for it
        self.assertEqual(self.columns(cell).count, 25)

    def test_what_belongs_to_another_part_or_is_to_stand_alone_is_kept_apart(self):
        block = np.flatnonzero((self.faces == 1) & (self.octant == self.octant[np.argmax(self.faces == 1)]))
        self.square[:] = 0.1
        self.kind[block[:2]] = 1
        self.assertEqual(self.columns().count, 25)
        self.kind[:] = 0
        self.split[block] = 1
        self.assertEqual(self.columns().count, 27)
        self.assertEqual(self.columns(triangle=self.faces).count, 24)  # all of one triangle: together again
        self.split[block] = 2  # across edges with those under the same cube, and all of these with a neighbour's
        self.assertEqual(self.columns().count, 24 - 2 - 1)

    def test_a_finer_neighbours_points_are_taken_into_the_coarse_side(self):
        # one side of the cube in one square
        coarse = self.faces == 0
        rest = np.flatnonzero(~coarse)
        ring = [
            c
            for c in np.unique(self.corners[self.start[:-1][coarse][:, None] + np.arange(4)])
            if np.isin(self.points[c] - [0, 1, 0], (0.0, 1.0)).all()
        ]
        flat = self.points[ring] - [0.0, 1.5, 0.5]
        ring = [ring[k] for k in np.argsort(np.arctan2(flat[:, 1], flat[:, 2]))]  # seen from -x
        corners = np.concatenate([self.corners.reshape(-1, 4)[rest].ravel(), ring])
        start = np.r_[0, np.cumsum(np.full(len(rest) + 1, 4))]
        cell = np.r_[self.octant[rest], 50]
        n = len(cell)
        normal = np.concatenate([self.normals[rest], [[-1.0, 0, 0]]])
        zero = np.zeros(n, dtype=int)
        polygons = WallPolygons(start, corners, cell, np.arange(n), normal, zero, np.full(n, 0.25), zero)
        made = build_prism_columns(self.points, polygons)
        self.assertEqual(made.count, 21)
        self.assertEqual(np.diff(made.floor.start).max(), 4 * N)
        self.assertAlmostEqual(self.area(made.floor).sum(), 6.0, 12)

    def test_one_that_goes_round_another_is_parted_so_that_every_one_stands_on_one_face(self):
        side = self.faces == 0
        inner = side & (np.abs(self.midpoints - 0.5) < 0.25)[:, 1:].all(axis=1)
        self.square[:] = 0.1
        made = self.columns(np.where(inner, 50, np.where(side, 60, self.octant)))
        self.assertEqual(made.count, 20 + 1 + 12)  # the ring has a column a triangle
        self.assertEqual(made.floor.group.tolist(), list(range(made.count)))
        self.assertEqual(len(set(made.of[inner])), 1)
        self.assertAlmostEqual(self.area(made.floor).sum(), 6.0, 12)

    def test_an_open_skin_is_reported_with_its_place(self):
        own = (np.arange(len(self.faces)), self.normals, self.kind, self.square, self.split)
        polygons = WallPolygons(self.start[:-1], self.corners[:-4], self.octant[:-1], *(values[:-1] for values in own))
        with self.assertRaises(MeshError) as printed:
            build_prism_columns(self.points, polygons)
        self.assertIn("open at", str(printed.exception))
        self.assertTrue((np.abs(printed.exception.position - [1.0, 2.0, 1.0]) < 1.0 + 1e-12).all())


class Curves(unittest.TestCase):
    def divided(self, *curves, size=0.1, turn=0.3, sharpest=0.05, at_corners=0.5, gap_share=0.5, ground=None):
        return divide(list(curves), {c.name: size for c in curves}, turn, sharpest, at_corners, gap_share, ground)

    def test_every_kind_runs_clockwise_and_closes(self):
        square = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
        for shape in (
            zy.Airfoil.naca("2412"),
            zy.Airfoil.naca("0012").blunted(0.01),
            zy.Outline.circle(1.0),
            square,
            square[::-1],
        ):
            made = sampled_curve("one", shape)
            x, z = made.points.T
            self.assertLess(np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z), 0.0)
            for one, two in zip(made.pieces, made.pieces[1:] + made.pieces[:1], strict=True):
                np.testing.assert_allclose(one[-1], two[0], atol=1e-12)

    def test_a_square_has_four_pieces_and_a_circle_of_points_is_smooth(self):
        self.assertEqual(len(sampled_curve("s", [[0, 0], [1, 0], [1, 1], [0, 1], [0, 0]]).pieces), 4)
        turn = np.linspace(0.0, 2.0 * np.pi, 40, endpoint=False)
        ring = sampled_curve("r", np.stack([np.cos(turn), np.sin(turn)], axis=1))
        self.assertTrue(ring.smooth)
        self.assertLess(np.abs(np.hypot(*ring.points.T) - 1.0).max(), 2e-5)  # splined, not a polygon
        self.assertGreater(360.0 / 8, CORNER_ANGLE)
        self.assertEqual(len(sampled_curve("o", np.stack([np.cos(turn[::5]), np.sin(turn[::5])], axis=1)).pieces), 8)

    def test_edges_turn_as_little_and_are_as_short_as_asked(self):
        (ring,) = self.divided(sampled_curve("ring", zy.Outline.circle(1.0)), size=0.4, turn=0.2)
        edge = np.linalg.norm(np.roll(ring.points, -1, axis=0) - ring.points, axis=1)
        np.testing.assert_allclose(edge, 0.1, rtol=0.03)  # radius 1/2
        self.assertFalse(ring.corner.any())
        (square,) = self.divided(sampled_curve("s", [[0, 0], [1, 0], [1, 1], [0, 1]]), size=0.1, at_corners=0.25)
        self.assertEqual(square.corner.sum(), 4)
        edge = np.linalg.norm(np.roll(square.points, -1, axis=0) - square.points, axis=1)
        self.assertLess(edge.max(), 0.105)
        self.assertLess(edge.min(), 0.03)
        self.assertLess(np.maximum(edge[1:] / edge[:-1], edge[:-1] / edge[1:]).max(), 1.2)

    def test_gaps_make_edges_short_and_touching_bodies_are_refused(self):
        one, two = (
            sampled_curve(name, zy.Outline("circle", 1.0, 1.0, position=(x, 0.0)))
            for name, x in (("one", 0.0), ("two", 1.05))
        )
        gap = distance_to_others(one.points, [one, two], 0, None)
        self.assertAlmostEqual(gap.min(), 0.05, 4)
        self.assertAlmostEqual(gap.max(), 1.05, 4)
        self.assertAlmostEqual(distance_to_others(one.points, [one], 0, -0.7).min(), 0.2, 6)
        near, _ = self.divided(one, two, size=0.2)
        edge = np.linalg.norm(np.roll(near.points, -1, axis=0) - near.points, axis=1)
        self.assertLess(edge[np.argmax(near.points[:, 0])], 0.03)
        self.assertGreater(edge[np.argmin(near.points[:, 0])], 0.1)
        with self.assertRaises(MeshError) as printed:
            self.divided(one, sampled_curve("two", zy.Outline("circle", 1.0, 1.0, position=(0.5, 0.0))), ground=-0.5)
        self.assertIn("touches", str(printed.exception))

    def test_what_is_no_curve_is_refused_by_name(self):
        for shape, word in (
            ([[0, 0], [1, 1]], "at least three"),
            ("airfoil", "at least three"),
            ([[0, 0], [1, 0], [2, 0]], "no area"),
            ([[0, 0], [1, 0], [1, 0], [0, 1]], "twice in a row"),
            ([[0, 0], [1, np.nan], [0, 1]], "at least three"),
        ):
            with self.assertRaises(InputError) as refused:
                sampled_curve("fin", shape)
            self.assertIn("'fin'", str(refused.exception))
            self.assertIn(word, str(refused.exception))


if __name__ == "__main__":
    unittest.main()
