"""Surfaces at work below the calls: holes and their fillings, lofts, sizes of triangles, what is tidied before repair;
against areas and volumes by hand.
"""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.geometry.aircraft.loft import GROWTH, grid_triangles, lofted, positions, sagitta_spacing
from zephyrum.geometry.surface.feature_lines import find_features, limit_growth
from zephyrum.geometry.surface.hole_filling import MAX_CORNERS, fill_hole, hole_boundaries
from zephyrum.geometry.surface.metric_field import MAX_TURN, UNIDIRECTIONAL_RATIO, metric_tensors, sizes_for, zone_sizes
from zephyrum.geometry.surface.surface_cleaning import check_connected, clean_triangles, split_edges, split_sheets
from zephyrum.geometry.surface.triangulation import Surface


def sheet(nx: int, ny: int, without=()) -> Surface:
    """A flat grid of unit squares, some of them left out."""
    x, y = np.meshgrid(np.arange(nx + 1.0), np.arange(ny + 1.0), indexing="ij")
    points = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    triangles, quad = grid_triangles(nx + 1, ny + 1, points, wrap=False)
    gone = [i * ny + j for i, j in without]
    return Surface(points, triangles[~np.isin(quad, gone), ::-1], name="sheet")


def areas(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Area vectors of triangles."""
    p = points[triangles]
    return 0.5 * np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])


class Holes(unittest.TestCase):
    def test_a_closed_surface_has_none_and_a_lost_triangle_is_one(self):
        box = zy.Body.box(1.0, 1.0, 1.0).surface()
        self.assertEqual(hole_boundaries(box), [])
        torn = box.selected(np.arange(len(box.triangles)) != 3)
        (hole,) = hole_boundaries(torn)
        self.assertEqual(len(hole.loop), 3)
        patch, _ = fill_hole(torn, hole)
        np.testing.assert_allclose(areas(torn.points, patch)[0], areas(box.points, box.triangles[3:4])[0], atol=1e-15)

    def test_the_filling_of_a_flat_hole_has_its_area_whatever_its_outline(self):
        bent = [(3, 3), (4, 3), (5, 3), (3, 4), (3, 5)]  # an L
        made = sheet(10, 9, bent)
        holes = sorted(hole_boundaries(made), key=lambda hole: hole.size)
        self.assertEqual(len(holes), 2)  # and the outer rim
        patch, uncertainty = fill_hole(made, holes[0])
        self.assertAlmostEqual(areas(made.points, patch)[:, 2].sum(), 5.0, 12)
        self.assertAlmostEqual(np.linalg.norm(areas(made.points, patch), axis=1).sum(), 5.0, 12)
        self.assertAlmostEqual(uncertainty, 0.0, 12)
        np.testing.assert_allclose(holes[0].size, np.hypot(3.0, 3.0))

    def test_holes_that_touch_in_a_point_stay_two(self):
        made = sheet(6, 6, [(1, 1), (2, 2)])
        holes = sorted(hole_boundaries(made), key=lambda hole: hole.size)
        self.assertEqual([len(hole.loop) for hole in holes[:2]], [4, 4])
        np.testing.assert_allclose(sorted(hole.midpoint[0] for hole in holes[:2]), [1.5, 2.5])

    def test_long_rims_are_clipped_first_and_still_filled_whole(self):
        n = 4 * MAX_CORNERS
        turn = 2.0 * np.pi * np.arange(n) / n
        pipe = np.stack([np.stack([np.full(n, x), np.cos(turn), np.sin(turn)], axis=1) for x in (0.0, 1.0)])
        triangles, _ = grid_triangles(2, n, pipe.reshape(-1, 3), wrap=True)
        pipe = Surface(pipe.reshape(-1, 3), triangles, name="pipe")
        holes = hole_boundaries(pipe)
        self.assertEqual([len(hole.loop) for hole in holes], [n, n])
        closed = pipe.triangles
        for hole in holes:
            patch, uncertainty = fill_hole(pipe, hole)
            self.assertEqual(len(patch), n - 2)
            self.assertAlmostEqual(
                np.linalg.norm(areas(pipe.points, patch), axis=1).sum(), 0.5 * n * np.sin(2.0 * np.pi / n), 9
            )
            self.assertTrue(0.1 < uncertainty < np.pi)  # the walls meet it at right angles: it may be half a ball
            closed = np.concatenate([closed, patch])
        made = Surface(pipe.points, closed, name="drum")
        self.assertTrue(made.watertight)
        self.assertAlmostEqual(abs(made.volume), 0.5 * n * np.sin(2.0 * np.pi / n), 9)


class Lofts(unittest.TestCase):
    def test_points_keep_the_spacing_asked_grow_slowly_and_hit_what_is_fixed(self):
        t = np.linspace(0.0, 10.0, 2001)
        spacing = np.where(np.abs(t - 5.0) < 0.5, 0.02, 2.0)
        made = positions(t, spacing, t, fixed=(3.0, 7.5))
        step = np.diff(made)
        self.assertTrue(np.isin([0.0, 3.0, 7.5, 10.0], made).all())
        midpoint = 0.5 * (made[1:] + made[:-1])
        self.assertLess(step[np.abs(midpoint - 5.0) < 0.45].max(), 0.0205)
        self.assertLess(np.maximum(step[1:] / step[:-1], step[:-1] / step[1:]).max(), GROWTH + 0.1)
        self.assertEqual(len(positions(t, np.full(2001, 3.0), t, even=True)) % 2, 1)

    def test_the_sagitta_of_a_circle_is_the_one_asked(self):
        turn = np.linspace(0.0, np.pi, 4001)
        circle = 2.0 * np.stack([np.cos(turn), np.sin(turn)], axis=1)
        h, s = sagitta_spacing(circle, 1e-3, 10.0)
        self.assertAlmostEqual(s[-1], 2.0 * np.pi, 5)
        np.testing.assert_allclose(h, np.sqrt(8.0 * 1e-3 * 2.0), rtol=1e-3)
        at = positions(turn, h, s)
        chord = np.linalg.norm(np.diff(2.0 * np.stack([np.cos(at), np.sin(at)], axis=1), axis=0), axis=1)
        rise = 2.0 - np.sqrt(4.0 - 0.25 * chord**2)
        self.assertTrue(0.5e-3 < rise.max() <= 1.0e-3, rise.max())
        self.assertEqual(sagitta_spacing(np.array([[0.0, 0.0], [1.0, 0.0], [3.0, 0.0]]), 1e-3, 0.7)[0].max(), 0.7)

    def test_a_grid_is_split_along_the_shorter_diagonals(self):
        made = sheet(3, 2)
        self.assertEqual(len(made.triangles), 12)
        np.testing.assert_allclose(areas(made.points, made.triangles)[:, 2], 0.5)
        skewed = np.array([[0.0, 0.0, 0.0], [0.0, 1.0, 0.0], [1.0, 0.8, 0.0], [1.0, 1.8, 0.0]])
        triangles, quad = grid_triangles(2, 2, skewed, wrap=False)
        sides = {frozenset(pair) for row in triangles.tolist() for pair in zip(row, row[1:] + row[:1], strict=True)}
        self.assertIn(frozenset((1, 2)), sides)
        self.assertNotIn(frozenset((0, 3)), sides)
        np.testing.assert_array_equal(quad, [0, 0])

    def test_a_frustum_has_the_volume_and_the_caps_of_the_books(self):
        corner = np.array([[0.0, -1.0, -1.0], [0.0, 1.0, -1.0], [0.0, 1.0, 1.0], [0.0, -1.0, 1.0]])
        rings = np.stack([corner, 0.5 * corner + [3.0, 0.0, 0.0]])
        names = np.array([["under", "right", "top", "left"]], dtype=object)
        for fan in (False, True):
            made = lofted(rings, names, "frustum", ("front", "back"), fan=fan)
            self.assertAlmostEqual(made.volume, 3.0 / 3.0 * (4.0 + 1.0 + 2.0), 12)
            self.assertAlmostEqual(made.area("front"), 4.0, 12)
            self.assertAlmostEqual(made.area("back"), 1.0, 12)
            self.assertAlmostEqual(made.area("top"), 1.5 * np.hypot(3.0, 0.5), 12)
            self.assertEqual(set(made.labels), {"under", "right", "top", "left", "front", "back"})

    def test_a_closed_loft_is_a_ring(self):
        n, m = 40, 60
        turn, around = 2.0 * np.pi * np.arange(n) / n, 2.0 * np.pi * np.arange(m) / m
        r = 3.0 + 0.5 * np.cos(turn)
        rings = np.stack([np.stack([r * np.cos(a), r * np.sin(a), 0.5 * np.sin(turn)], axis=1) for a in around])
        made = lofted(rings, np.full((m, n), "ring", dtype=object), "torus", closed=True)
        self.assertTrue(made.watertight)
        self.assertAlmostEqual(made.volume / (2.0 * np.pi**2 * 3.0 * 0.25), 1.0, delta=0.01)
        with self.assertRaisesRegex(zy.InputError, "does not close"):
            lofted(rings, np.full((m - 1, n), "ring", dtype=object), "torn")


class Sizes(unittest.TestCase):
    def test_the_metric_makes_both_sizes_one_long(self):
        rng = np.random.default_rng(5)
        direction = rng.standard_normal((20, 3))
        direction /= np.linalg.norm(direction, axis=1)[:, None]
        across = np.cross(direction, rng.standard_normal((20, 3)))
        across /= np.linalg.norm(across, axis=1)[:, None]
        h1, h2 = rng.uniform(0.1, 1.0, 20), rng.uniform(1.0, 4.0, 20)
        m = metric_tensors(h1, h2, direction)

        def length(v):
            x, y, z = v.T
            return np.sqrt(
                m[:, 0] * x * x
                + m[:, 1] * y * y
                + m[:, 2] * z * z
                + 2.0 * (m[:, 3] * x * y + m[:, 4] * x * z + m[:, 5] * y * z)
            )

        np.testing.assert_allclose(length(direction * h2[:, None]), 1.0)
        np.testing.assert_allclose(length(across * h1[:, None]), 1.0)

    def test_what_bends_one_way_turns_less_along_an_edge_than_what_bends_both_ways(self):
        pipe = zy.Body(rings=[zy.Ring(x=0.0, width=2.0), zy.Ring(x=20.0, width=2.0)]).surface(tolerance=1e-4)
        ball = zy.Body.ellipsoid(2.0, 2.0).surface(tolerance=1e-4)
        for shape, stretch, turn in (
            (pipe, 4.0, UNIDIRECTIONAL_RATIO * MAX_TURN),
            (pipe, 1.0, MAX_TURN),
            (ball, 4.0, MAX_TURN),
        ):
            found = find_features(shape)
            loose = 0.2 * shape.size  # a tolerance that asks for nothing
            h1, h2, _ = sizes_for(found, None, loose, 5.0, stretch)
            inner = (np.abs(shape.points[:, 0] - shape.midpoint[0]) < 0.3) & (found.rank == 0)
            self.assertLess(abs(np.median(h1[inner]) / turn - 1.0), 0.15)
            self.assertLessEqual((h2 / h1).max(), stretch * (1.0 + 1e-12))

    def test_four_times_the_triangles_have_half_the_edges(self):
        shape = zy.Body.ellipsoid(4.0, 1.5, 1.0).surface()
        found = find_features(shape)
        coarse, fine = (sizes_for(found, n, None, 1.0, 4.0) for n in (4000, 16000))
        times = np.sqrt(coarse[0] * coarse[1] / (fine[0] * fine[1]))
        self.assertLess(abs(np.median(times) - 2.0), 0.05)

    def test_zones_lower_the_sizes_of_their_part_or_box_only(self):
        box = zy.Body.box(2.0, 1.0, 1.0).surface()
        sizes = zone_sizes(
            box, [zy.SizeZone(0.1, part=box.labels[0]), zy.SizeZone(0.05, box=((1.9, -1, -1), (2.1, 1, 1)))]
        )
        own = np.unique(box.triangles[box.belongs(box.labels[0])])
        behind = box.points[:, 0] > 1.9
        self.assertTrue((sizes[behind] == 0.05).all())
        rest = np.setdiff1d(own, np.flatnonzero(behind))
        self.assertTrue((sizes[rest] == 0.1).all())
        other = np.setdiff1d(np.flatnonzero(~behind), own)
        self.assertTrue(np.isinf(sizes[other]).all())
        with self.assertRaisesRegex(zy.InputError, "no point of the surface"):
            zone_sizes(box, [zy.SizeZone(0.1, box=((9, 9, 9), (10, 10, 10)))])
        with self.assertRaisesRegex(zy.InputError, "two corners"):
            zy.SizeZone(0.1, box=(1, 2, 3))

    def test_sizes_are_only_lowered_until_none_grows_too_fast(self):
        made = sheet(12, 12)
        edges = made._edge_table[0]
        length = np.linalg.norm(made.points[edges[:, 0]] - made.points[edges[:, 1]], axis=1)
        rng = np.random.default_rng(0)
        h1 = rng.uniform(0.05, 5.0, len(made.points))
        before, h2, direction = h1.copy(), 3.0 * h1, np.tile([1.0, 0.0, 0.0], (len(h1), 1))
        limit_growth(h1, h2, direction, edges, length, 0.3)
        self.assertTrue((h1 <= before).all())
        self.assertEqual(h1.min(), before.min())
        self.assertTrue((np.abs(h1[edges[:, 0]] - h1[edges[:, 1]]) <= 0.3 * length * (1.0 + 1e-6)).all())
        self.assertTrue((h2 >= h1 * (1.0 - 1e-12)).all())


class Tidied(unittest.TestCase):
    def setUp(self):
        self.box = zy.Body.box(1.0, 2.0, 3.0).surface()

    def test_triangles_given_twice_or_without_area_go_and_are_counted(self):
        doubled = np.concatenate([self.box.triangles, self.box.triangles[2:4], [[0, 1, 1]]])
        found = []
        made, _ = clean_triangles(Surface(self.box.points, doubled, name="box"), None, found)
        self.assertTrue(made.watertight)
        self.assertAlmostEqual(made.volume, 6.0, 12)
        printed = {defect.kind: defect.count for defect in found}
        self.assertEqual(printed["triangles given more than once"], 2)
        self.assertEqual(printed["triangles with fewer than three corners"], 1)

    def test_points_apart_by_noise_become_one_without_a_word_of_how_far(self):
        soup = self.box.points[self.box.triangles].reshape(-1, 3)
        rng = np.random.default_rng(4)
        soup = soup + rng.uniform(-1e-6, 1e-6, soup.shape)
        found = []
        made, gap = clean_triangles(Surface(soup, np.arange(len(soup)).reshape(-1, 3), name="box"), None, found)
        self.assertTrue(made.watertight)
        self.assertEqual(len(np.unique(made.triangles)), len(np.unique(self.box.triangles)))
        self.assertTrue(2e-6 < gap < 1e-2)
        self.assertEqual([defect.kind for defect in found], ["points apart by noise"])

    def test_a_point_in_the_middle_of_a_neighbours_edge_splits_it(self):
        points = np.array([[0.0, 0, 0], [2, 0, 0], [1, 1, 0], [1, 0, 0], [0.5, -1, 0], [1.5, -1, 0]])
        made = Surface(points, np.array([[0, 1, 2], [0, 4, 3], [3, 5, 1]]), name="joint")
        found = []
        repaired = split_edges(made, found)
        self.assertEqual(len(repaired.triangles), 4)
        self.assertAlmostEqual(repaired.area(), made.area(), 12)
        self.assertEqual(len(repaired.open_edges), 6)
        self.assertEqual(found[0].count, 1)

    def test_two_boxes_on_a_common_edge_are_cut_apart(self):
        other = self.box.transformed(np.eye(3), (1.0, 2.0, 0.0))
        both = Surface(
            np.concatenate([self.box.points, other.points]),
            np.concatenate([self.box.triangles, other.triangles + len(self.box.points)]),
            name="both",
        ).welded()
        self.assertGreater(len(both.crowded_edges), 0)
        found = []
        made = split_sheets(both, found)
        self.assertEqual(len(made.crowded_edges), 0)
        self.assertTrue(made.watertight)
        self.assertAlmostEqual(made.volume, 12.0, 12)
        self.assertEqual(found[0].kind, "edges shared by more than two triangles")
        self.assertIs(split_sheets(self.box, []), self.box)

    def test_scattered_triangles_are_no_surface(self):
        rng = np.random.default_rng(8)
        loose = Surface(rng.uniform(size=(90, 3)), np.arange(90).reshape(-1, 3), name="dust")
        with self.assertRaisesRegex(zy.ZephyrumError, "weld_distance"):
            check_connected(loose)
        check_connected(self.box)


if __name__ == "__main__":
    unittest.main()
