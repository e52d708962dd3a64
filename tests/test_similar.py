"""What a mesh may not hang on: the unit of length, the place in space, the order of what is given; and the rules sizes
keep.
"""

import unittest
from dataclasses import replace

import numpy as np

import zephyrum as zy
from zephyrum._core.geometric_steps import growth_ratio
from zephyrum.errors import MeshError
from zephyrum.geometry.airfoil.polygon import inside_polygon
from zephyrum.mesh.clipped_2d.curves import limit_growth
from zephyrum.mesh.clipped_2d.wall_layers import total_height
from zephyrum.mesh.size_field import SizeField
from zephyrum.mesh.structured.spacing import geometric, steps_for, two_ended
from zephyrum.mesh.tree import MIN_ROOTS, grow_tree, leaves_at, merged, moved_off_planes, whole_cells


class Similar(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ball = zy.remesh(zy.Body.ellipsoid(2.0, 1.0).surface(), 700, stretch=1.0).surface
        cls.mesh = zy.mesh_surface(cls.ball, farfield=3.0, growth=0.5, layers=(2e-3, 1.3, 6))

    def test_a_body_in_feet_gives_the_mesh_of_that_in_metres(self):
        for factor in (1000.0, 1.0 / 0.3048):
            made = zy.mesh_surface(self.ball.scaled(factor), farfield=3.0, growth=0.5, layers=(2e-3 * factor, 1.3, 6))
            self.assertLess(abs(made.n_cells / self.mesh.n_cells - 1.0), 2e-3)
            self.assertLess(abs(made.cell_volume.sum() / factor**3 / self.mesh.cell_volume.sum() - 1.0), 1e-9)
            wall, own = (m.face_area[m.faces_of("wall")] for m in (made, self.mesh))
            self.assertLess(
                abs(np.linalg.norm(wall, axis=1).sum() / factor**2 / np.linalg.norm(own, axis=1).sum() - 1.0), 1e-4
            )

    def test_nor_does_it_hang_on_where_the_body_lies(self):
        moved = zy.mesh_surface(
            self.ball.transformed(np.eye(3), (40.0, -7.0, 12.0)), farfield=3.0, growth=0.5, layers=(2e-3, 1.3, 6)
        )
        self.assertLess(abs(moved.n_cells / self.mesh.n_cells - 1.0), 2e-3)
        self.assertLess(abs(moved.cell_volume.sum() / self.mesh.cell_volume.sum() - 1.0), 1e-6)

    def test_all_sizes_times_a_factor_are_cubes_times_this_factor(self):
        sides = []
        for factor in (1.0, 1.3, 1.69):
            scale = factor if factor != 1.3 else np.full(len(self.ball.points), factor)
            made = zy.mesh_surface(self.ball, farfield=3.0, growth=0.5, layers=(2e-3, 1.1, 2), scale=scale)
            far = made.faces_of("farfield")
            sides.append(np.unique(np.sqrt(np.linalg.norm(made.face_area[far], axis=1)).round(6)).max())
            self.assertLess(abs(0.5 * np.ptp(made.points[:, 0]) / (3.0 * self.ball.size) - 1.0), 1.0 / MIN_ROOTS)
        for side, factor in zip(sides[1:], (1.3, 1.69), strict=True):
            times = side / sides[0] / factor
            self.assertAlmostEqual(np.log2(times), round(np.log2(times)), 4)

    def test_half_of_it_is_that_of_half_the_body(self):
        from zephyrum.geometry.surface.solids import half_surface

        half = zy.mesh_surface(
            zy.remesh(half_surface(zy.Body.ellipsoid(2.0, 1.0).surface()), 350, stretch=1.0).surface,
            farfield=3.0,
            growth=0.5,
            layers=(2e-3, 1.3, 6),
            half=True,
        )
        body = [np.ptp(m.points, axis=0).prod() - m.cell_volume.sum() for m in (half, self.mesh)]
        self.assertLess(abs(2.0 * body[0] / body[1] - 1.0), 0.02)
        self.assertTrue(half.mirrored)
        self.assertFalse(self.mesh.mirrored)
        np.testing.assert_allclose(half.multiples[0], [2.0, 0.0, 2.0])

    def test_cells_longer_along_y_fill_the_same_space(self):
        egg = zy.remesh(zy.Body.ellipsoid(1.0, 6.0).surface(), 700, stretch_y=12.0).surface
        alike, long = (
            zy.mesh_surface(
                egg,
                farfield=3.0,
                growth=0.5,
                layers=(2e-3, 1.3, 6),
                longest_y=longest,
                zones=(zy.Zone(0.1, box=((2.0, 4.0, 2.0), (3.0, 5.0, 3.0))),),
            )
            for longest in (None, 0.5)
        )
        rooms = [np.ptp(m.points, axis=0).prod() - m.cell_volume.sum() for m in (alike, long)]
        self.assertLess(abs(rooms[1] / rooms[0] - 1.0), 5e-3)
        self.assertGreater(long.cell_volume.min(), 0.0)
        # long beside the middle of the wall, cubes far away and in a zone
        middle = long.faces_of("wall")[np.abs(long.face_centroid[long.faces_of("wall"), 1]) < 1.0]
        _, projected = long.area_tensors()
        cells = np.unique(long.left[middle])
        neighbour = np.unique(long.right[np.isin(long.left[: long.n_interior], cells)])
        self.assertGreater(float(np.median(projected[neighbour].max(axis=1) / projected[neighbour].min(axis=1))), 2.0)
        inside = (np.abs(long.cell_centroid - [2.5, 4.5, 2.5]) < 0.4).all(axis=1)
        self.assertLess(long.cell_volume[inside].max() ** (1 / 3), 0.101)
        with self.assertRaises(zy.InputError) as refused:
            zy.mesh_surface(egg, longest_y=0.0)
        self.assertIn("longest_y", str(refused.exception))


class Fields(unittest.TestCase):
    def test_the_field_is_the_least_of_all_that_is_asked_and_grows_no_faster(self):
        rng = np.random.default_rng(2)
        points, h = rng.uniform(-1.0, 1.0, (300, 3)), rng.uniform(0.01, 0.3, 300)
        box = zy.Zone(0.02, box=((2.0, -1.0, -1.0), (3.0, 1.0, 1.0)))
        field = SizeField(points, h, 0.3, (box,))
        positions = rng.uniform(-4.0, 4.0, (200, 3))
        far = np.linalg.norm(positions[:, None] - points[None], axis=2)
        np.testing.assert_allclose(
            field(positions), np.minimum((h + 0.3 * far).min(axis=1), box.wanted(positions, 0.3))
        )
        step = rng.standard_normal((200, 3)) * 0.05
        rise = np.abs(field(positions + step) - field(positions)) / np.linalg.norm(step, axis=1)
        self.assertLessEqual(rise.max(), 0.3 + 1e-9)
        flat = SizeField(points * [1.0, 0.0, 1.0], h, 0.3)
        np.testing.assert_allclose(flat(positions[:, [0, 2]]), flat(positions * [1.0, 0.0, 1.0]))

    def test_sizes_scale_with_their_zone_and_parts_need_a_surface(self):
        rod = zy.Zone(0.1, start=(0, 0, 0), end=(2, 0, 0), radius=0.2, end_radius=0.6, end_size=0.3)
        half = rod.scaled(0.5)
        self.assertEqual((half.size, half.end_size, half.radius), (0.05, 0.15, 0.2))
        inside_rod = np.array([[0.0, 0.1, 0.0], [2.0, 0.0, 0.55], [1.0, 0.39, 0.0]])
        np.testing.assert_allclose(rod.wanted(inside_rod, 0.2), [0.1, 0.3, 0.2])
        with self.assertRaisesRegex(zy.InputError, "needs a surface"):
            zy.Zone(0.1, part="fin").wanted(inside_rod, 0.2)

    def test_domains_are_whole_numbers_of_the_largest_cubes(self):
        for size in (10.0, 33.3, 500.0):
            for grain in (0.01, 0.013, 0.0199):
                side, count = whole_cells(size, grain)
                self.assertAlmostEqual(np.log2(side / grain), round(np.log2(side / grain)), 9)
                self.assertTrue(MIN_ROOTS <= count <= 2 * MIN_ROOTS)
                self.assertLess(abs(side * count / size - 1.0), 0.5 / MIN_ROOTS + 1e-9)

    def test_points_leave_the_planes_and_places_find_their_cube(self):
        tree = grow_tree(np.zeros(3), 1.0, lambda p: 0.1 + 0.5 * np.linalg.norm(p - 1.0, axis=1), 0.01, 3)
        on = np.array([[1.0, 0.3, 2.0], [0.0, 1.5, 0.4], [0.77, 0.31, 1.9]])
        off = moved_off_planes(on, tree)
        away = np.abs((off - tree.origin) / tree.unit - np.round((off - tree.origin) / tree.unit))
        self.assertTrue(((away > 5e-7) | (off == 0.0)).all())
        self.assertLess(np.abs(off - on).max(), 1e-5 * tree.unit[0])
        np.testing.assert_array_equal(off[2], on[2])
        rng = np.random.default_rng(7)
        locations = rng.integers(0, tree.limit, (500, 3)) * 2 + 1
        found = leaves_at(locations, tree.depth, tree.level_y, tree.child)
        low = 2 * tree.corner[found]
        self.assertTrue(((locations > low) & (locations < low + 2 * tree.extent[found])).all())
        self.assertTrue(np.isin(found, tree.leaves).all())
        with self.assertRaisesRegex(MeshError, "more than"):
            grow_tree(np.zeros(3), 1.0, lambda p: np.full(len(p), 1e-3), 1e-4, 1, most=5000)

    def test_small_cells_go_to_their_neighbour_across_the_largest_face(self):
        small = np.array([False, True, True, False, True])
        left, right, size = np.array([0, 1, 2, 3]), np.array([1, 2, 3, 4]), np.array([1.0, 3.0, 2.0, 0.5])
        into = merged(small, left, right, size)
        self.assertEqual(into[1], into[2])  # across the largest face of both
        self.assertEqual(into[3], into[4])
        self.assertEqual(len(set(into.tolist())), 3)


class Lines(unittest.TestCase):
    def test_steps_begin_as_asked_and_fill_the_length(self):
        for first, total, n in ((1e-5, 1.0, 60), (0.01, 1.0, 40), (0.1, 1.0, 10)):
            s = geometric(first, total, n)
            step = np.diff(s)
            self.assertAlmostEqual(s[-1], total, 12)
            if n * first < total:
                self.assertAlmostEqual(step[0] / first, 1.0, 6)
                ratio = growth_ratio(first, total, n)
                np.testing.assert_allclose(step[1:] / step[:-1], ratio, rtol=1e-8)
                self.assertLessEqual(steps_for(first, total, ratio * 1.0000001), n)
            np.testing.assert_allclose(geometric(first, total, n)[:1], 0.0)
        with self.assertRaisesRegex(zy.InputError, "above 1"):
            steps_for(1e-3, 1.0, 1.0)

    def test_both_ends_get_their_step_and_halving_nests(self):
        for first, last in ((0.001, 0.02), (0.02, 0.001), (0.02, 0.02), (0.3, 0.3)):
            fine, half = two_ended(80, first, last), two_ended(40, 2.0 * first, 2.0 * last)
            self.assertTrue((np.diff(fine) > 0.0).all())
            self.assertEqual((fine[0], round(fine[-1], 12)), (0.0, 1.0))
            if first < 0.1:
                self.assertLess(abs(np.log((fine[1] - fine[0]) / first)), 0.2)
                self.assertLess(abs(np.log((fine[-1] - fine[-2]) / last)), 0.2)
                np.testing.assert_allclose(fine[::2], half, atol=1e-12)

    def test_the_height_of_layers_is_the_sum_of_their_steps(self):
        whole = total_height(1e-3, np.array([1e-2, 1e-3, 1.0]), 1.2, 10)
        free = 1e-3 * (1.2**10 - 1.0) / 0.2
        self.assertAlmostEqual(whole[2], free, 10)  # growth holds it
        self.assertAlmostEqual(whole[1], 1e-2, 10)  # ten alike
        self.assertTrue(whole[1] < whole[0] <= free + 1e-12)
        np.testing.assert_allclose(total_height(np.inf, np.array([0.2]), 1.2, 3), 0.6)

    def test_sizes_along_a_curve_grow_no_faster_than_asked_round_its_end_too(self):
        s = np.linspace(0.0, 10.0, 201)
        h = np.full(201, 5.0)
        h[3] = 0.1
        for closed in (False, True):
            out = limit_growth(s, h, 0.2, closed)
            self.assertLessEqual(np.abs(np.diff(out) / np.diff(s)).max(), 0.2 + 1e-12)
            self.assertTrue((out <= h).all())
            self.assertAlmostEqual(out[3], 0.1)
        self.assertAlmostEqual(out[-5], 0.1 + 0.2 * (10.0 - s[-5] + s[3]), 10)

    def test_points_within_a_polygon_that_is_not_convex(self):
        loop = np.array([[0, 0], [4, 0], [4, 4], [2, 1], [0, 4]], dtype=float)
        points = np.array([[2.0, 0.5], [2.0, 2.0], [0.5, 3.0], [3.5, 3.0], [-1.0, 1.0], [5.0, 0.5]])
        self.assertEqual(inside_polygon(points, loop).tolist(), [True, False, True, True, False, False])


class Planned(unittest.TestCase):
    CRAFT = zy.Aircraft(
        name="one",
        parts={"wing": zy.Wing(planform=zy.Planform(span=4.0, root_chord=0.8), airfoil="NACA 0012", tip="flat")},
    )

    def test_finer_plans_cost_more_of_everything(self):
        plans = [zy.plan_mesh(self.CRAFT, factor, layers=(1e-4, 1.25, 20)) for factor in (4.0, 2.0, 1.0)]
        for name in ("cells", "triangles", "seconds", "memory", "disk"):
            values = [getattr(plan, name) for plan in plans]
            self.assertEqual(values, sorted(values), name)
        self.assertEqual(len({plan.farfield for plan in plans}), 1)
        for word in ("half model", "wall layers from 0.0004 m", "farfield at 40 m", "blockage", "on disk"):
            self.assertIn(word, str(plans[0]))

    def test_what_can_not_be_planned_is_refused_with_the_remedy(self):
        for options, word in (
            ({"resolution": "tiny"}, "coarse"),
            ({"resolution": 99.0}, "resolution"),
            ({"cells": 10}, "cells"),
            ({"cells": 90_000_000}, "out of reach"),
            ({"y_plus": 1.0}, "Reynolds"),
            ({"y_plus": 1.0, "layers": (1e-3, 1.2, 9), "reynolds": 1e6}, "not both"),
            ({"layers": (1e-3, 0.9, 9)}, "growth"),
            ({"farfield": 0.1}, "farfield"),
            ({"wake": -1.0}, "wake"),
        ):
            with self.subTest(word), self.assertRaisesRegex(zy.InputError, word):
                zy.plan_mesh(self.CRAFT, **options)

    def test_the_whole_has_twice_the_triangles_of_the_half(self):
        half, whole = (zy.plan_mesh(self.CRAFT, 2.0, half=side) for side in (True, False))
        self.assertEqual(whole.triangles, 2 * half.triangles)
        self.assertEqual((half.half, whole.half), (True, False))
        self.assertEqual(replace(half, cells=1).triangles, half.triangles)


if __name__ == "__main__":
    unittest.main()
