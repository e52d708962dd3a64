"""Remeshing: closed, uncrossed, near the original, features and labels kept, sizes as asked; nearest points;
curvature.
"""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.geometry import joined
from zephyrum.geometry.surface.deviation import at_points, split_by_deviation
from zephyrum.geometry.surface.feature_lines import curvatures, find_features
from zephyrum.geometry.surface.nearest_point import distances
from zephyrum.geometry.surface.remeshing import sample_points
from zephyrum.geometry.surface.self_intersection import crossing_triangles


class Parts(unittest.TestCase):
    def test_distances_from_a_box_are_exact(self):
        box = zy.Body.box(2.0, 2.0, 2.0).surface()
        points = np.array([[1.0, 0.0, 0.0], [3.0, 0.0, 0.0], [3.0, 2.0, 0.0], [3.0, 2.0, 2.0], [1.0, 0.0, 0.7]])
        np.testing.assert_allclose(
            distances(points, box.points, box.triangles), [1.0, 1.0, np.sqrt(2.0), np.sqrt(3.0), 0.3], atol=1e-12
        )

    def test_curvature_of_a_ball_and_of_a_cylinder(self):
        ball = zy.Body.ellipsoid(2.0, 2.0).surface(tolerance=1e-4)
        large, small, _ = curvatures(ball, np.zeros(len(ball.triangles), dtype=int))
        away = np.abs(ball.points[:, 0] - 1.0) < 0.8
        self.assertLess(np.abs(large[away] - 1.0).max(), 0.1)
        self.assertLess(np.abs(small[away] - 1.0).max(), 0.15)
        pipe = zy.Body(rings=[zy.Ring(x=0.0, width=2.0), zy.Ring(x=5.0, width=2.0)]).surface(tolerance=1e-4)
        found = find_features(pipe)
        large, small, direction = curvatures(pipe, found.smooth)
        inner = (np.abs(pipe.points[:, 0] - 2.5) < 1.5) & (np.hypot(*pipe.points[:, 1:].T) > 0.9)
        self.assertLess(np.abs(large[inner] - 1.0).max(), 0.05)
        self.assertLess(small[inner].max(), 0.02)
        self.assertGreater(np.abs(direction[inner, 0]).min(), 0.99)

    def test_features_of_a_box_are_its_edges_and_corners(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        found = find_features(box)
        length = np.linalg.norm(box.points[found.edges[:, 0]] - box.points[found.edges[:, 1]], axis=1).sum()
        self.assertAlmostEqual(length, 4 * (2.0 + 1.0 + 0.5), 9)
        self.assertEqual(((found.rank == 2).sum(), found.curve.max() + 1, found.patch.max() + 1), (8, 12, 6))


class Remeshing(unittest.TestCase):
    def valid(self, old, made, count, distance):
        self.assertEqual(made.surface.watertight, old.watertight)
        self.assertEqual(len(crossing_triangles(made.surface)), 0)
        self.assertEqual(made.surface.labels, old.labels)
        self.assertLess(abs(len(made.quality) / count - 1.0), 0.15)
        self.assertLess(made.distance, distance)

    def test_an_ellipsoid_with_and_without_stretch(self):
        ball = zy.Body.ellipsoid(4.0, 1.5, 1.0).surface()
        for stretch in (1.0, 4.0):
            made = zy.remesh(ball, 3000, stretch=stretch)
            self.valid(ball, made, 3000, 0.006)
            self.assertGreater(made.quality.min(), 0.5)
            self.assertGreater(made.quality.mean(), 0.93)
            self.assertLess(abs(made.surface.volume / ball.volume - 1.0), 0.01)

    def test_a_box_stays_a_box_and_zones_are_kept(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        made = zy.remesh(box, 1500)
        self.valid(box, made, 1500, 1e-9)
        self.assertAlmostEqual(made.surface.volume, 1.0, 9)
        self.assertLess(made.feature, 1e-9)
        corner = zy.SizeZone(0.02, box=((1.9, 0.4, 0.15), (2.1, 0.6, 0.35)))
        for count in (800, 1600):  # a zone is not scaled with the number of triangles
            held = zy.remesh(box, count, zones=(corner,)).surface
            near = (np.abs(held.centres - [2.0, 0.5, 0.25]) < 0.06).all(axis=1)
            long = np.linalg.norm(np.diff(held.points[held.triangles[near]][:, [0, 1, 2, 0]], axis=1), axis=2).max()
            self.assertLess(long, 0.045, count)  # 0.1 and more without it
        fine = zy.remesh(box, None, tolerance=0.01, zones=(zy.SizeZone(0.03, "body/base"),)).surface
        edge = np.sqrt(fine.areas[fine.belongs("body/base")] * 4.0 / np.sqrt(3.0))
        self.assertLess(np.median(edge), 0.036)
        self.assertGreater(np.median(np.sqrt(fine.areas[fine.belongs("body/front")])), 0.05)

    def test_a_wing_with_a_blunt_tail_a_flap_and_its_open_half(self):
        wing = zy.Wing(
            planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.6),
            airfoil="NACA 2412",
            tail_gap=0.004,
            controls={"flap": zy.Control(start=0.2, end=0.6, deflection=15.0)},
        ).surface()
        from zephyrum.geometry.surface.solids import half_surface

        half = half_surface(wing)
        made = zy.remesh(half, 6000)
        self.valid(half, made, 6000, 0.01)
        self.assertLess((made.quality < 0.3).mean(), 0.01)
        rim = np.unique(made.surface.open_edges)
        self.assertEqual(np.abs(made.surface.points[rim, 1]).max(), 0.0)
        self.assertAlmostEqual(made.surface.bounds[1, 0], half.bounds[1, 0], 3)

    def test_edges_far_from_the_shape_are_split(self):
        wing = zy.Wing(
            planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.6), airfoil="NACA 2412", tail_gap=0.004
        ).surface()
        from zephyrum.geometry.surface.solids import half_surface

        half = half_surface(wing).welded()
        coarse = zy.remesh(half, 600, stretch_y=20.0).surface
        made, parents = split_by_deviation(coarse, find_features(half), 1e-3)
        samples = sample_points(half)
        before, after = (distances(samples, one.points, one.triangles) > 0.002 for one in (coarse, made))
        self.assertGreater(before.mean(), 0.2)
        self.assertLess(after.mean(), 0.02)  # but for a few beside the tip, where triangles would cross
        self.assertLess(len(made.triangles), 3 * len(coarse.triangles))
        np.testing.assert_array_equal(made.points[: len(coarse.points)], coarse.points)
        self.assertEqual(len(made.points), len(coarse.points) + len(parents))
        self.assertEqual(len(crossing_triangles(made)), 0)
        rim = np.unique(made.open_edges)
        self.assertEqual(np.abs(made.points[rim, 1]).max(), 0.0)  # a half model is still closed by its plane
        self.assertTrue(joined([made, made.mirrored()]).welded().watertight)
        x = at_points(coarse.points[:, 0], parents)
        self.assertLess(np.abs(x - made.points[:, 0]).max(), 0.02)  # midpoints have moved onto the shape
        for label, area in enumerate(np.bincount(made.label, made.areas)):
            self.assertAlmostEqual(area / half.areas[half.label == label].sum(), 1.0, 1, made.labels[label])
        box = zy.Body.box(2.0, 1.0, 0.5).surface().welded()
        flat = zy.remesh(box, 500).surface
        self.assertIs(split_by_deviation(flat, find_features(box), 1e-3)[0], flat)  # nothing to do

    def test_refusals(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        for options, word in (
            ({"triangles": None}, "either"),
            ({"tolerance": 0.1}, "either"),
            ({"stretch": 0.5}, "stretch"),
            ({"zones": (zy.SizeZone(0.1, "wing"),)}, "no label"),
        ):
            with self.assertRaises(zy.InputError) as refused:
                zy.remesh(box, **options)
            self.assertIn(word, str(refused.exception))
