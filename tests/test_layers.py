"""Layers on walls before they are cells: their heights, marching directions and the room they leave."""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.errors import MeshError
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.solids import difference, half_surface
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.clipped_2d.curves import distance_to_others, divide, sampled_curve
from zephyrum.mesh.clipped_2d.wall_layers import MIN_DIRECTION_ANGLE, heights, marching_directions, total_height
from zephyrum.mesh.clipped_3d.generation import local_edges
from zephyrum.mesh.clipped_3d.prism_layers import (
    LAST_LAYER_HEIGHT,
    MAX_GAP_FRACTION,
    MAX_HEIGHT_SLOPE,
    MIN_AREA_RATIO,
    grow_prisms,
)
from zephyrum.mesh.layer_spacing import first_height, given_layers, wall_layers


def divided(*shapes, size=0.05, ground=None):
    """Curves of the shapes by number, and their distance from each other."""
    curves = divide(
        [sampled_curve(str(k), s) for k, s in enumerate(shapes)],
        {str(k): size for k in range(len(shapes))},
        0.15,
        0.05,
        0.3,
        0.3,
        ground,
    )
    lines = [sampled_curve(str(k), s) for k, s in enumerate(shapes)]
    return curves, [distance_to_others(c.points, lines, k, ground) for k, c in enumerate(curves)]


class Heights(unittest.TestCase):
    def test_they_are_a_geometric_series_with_the_first_step_asked(self):
        total = np.array([0.1, 0.37, 2.0])
        made = heights(1e-3, total, 12)
        np.testing.assert_allclose(made[:, 0], 0.0)
        np.testing.assert_allclose(made[:, -1], total)
        step = np.diff(made, axis=1)
        np.testing.assert_allclose(step[:, 0], 1e-3, rtol=1e-6)
        ratio = step[:, 1:] / step[:, :-1]
        np.testing.assert_allclose(ratio, ratio[:, :1] * np.ones((1, 11)), rtol=1e-9)

    def test_where_there_is_less_room_than_even_steps_need_all_are_thinner(self):
        made = heights(1e-2, np.array([0.06]), 12)
        np.testing.assert_allclose(np.diff(made[0]), 0.005, rtol=1e-6)

    def test_the_total_stops_at_the_last_step_or_the_growth(self):
        first, growth, count = 1e-4, 1.2, 20
        free = total_height(first, np.array([1e9]), growth, count)[0]
        self.assertAlmostEqual(free / (first * (growth**count - 1.0) / (growth - 1.0)), 1.0, 9)
        held = total_height(first, np.array([2e-3]), growth, count)
        last = np.diff(heights(first, held, count)[0])[-1]
        self.assertAlmostEqual(last / 2e-3, 1.0, 6)
        np.testing.assert_allclose(total_height(np.inf, np.array([0.1, 0.2]), 1.0, 3), [0.3, 0.6])

    def test_the_first_height_is_that_of_the_plate_law(self):
        for reynolds, y_plus in ((1e6, 1.0), (8e6, 30.0)):
            friction = 0.026 * reynolds ** (-1.0 / 7.0)
            self.assertAlmostEqual(first_height(reynolds, y_plus) * reynolds * np.sqrt(0.5 * friction), y_plus, 9)
        made = wall_layers(3e6, 1.0, 1.2, 50.0)
        self.assertEqual(made.count % 8, 0)
        reach = made.first_height * (1.2**made.count - 1.0) / 0.2
        self.assertTrue(50.0 <= reach <= 50.0 * 1.2**9)
        for bad in ((0.0, 1.0), (1e6, 0.0), (np.nan, 1.0), ("a lot", 1.0)):
            with self.assertRaises(zy.InputError):
                first_height(*bad)
        for bad in ((1e-3, 1.2), (0.0, 1.2, 5), (1e-3, 0.9, 5), (1e-3, 1.2, 2.5), "thin"):
            with self.assertRaises(zy.InputError):
                given_layers(bad)


class OffCurves(unittest.TestCase):
    def test_off_a_circle_they_are_radii(self):
        curves, room = divided(zy.Outline.circle(1.0))
        (made,) = marching_directions(curves, (1e-3, 1.3, 10), room)
        out = made.curve.points[made.base] / np.linalg.norm(made.curve.points[made.base], axis=1)[:, None]
        self.assertLess(np.abs(np.einsum("ij,ij->i", out, made.direction) - 1.0).max(), 1e-4)
        radius = np.linalg.norm(made.front, axis=1)
        self.assertLess(np.ptp(radius), 1e-3)
        self.assertEqual(len(made.base), len(made.curve.points))

    def test_sharp_corners_have_fans_of_rays_that_stay_apart(self):
        curves, room = divided([[0, 0], [2, 0], [0, 1]], size=0.1)
        (made,) = marching_directions(curves, (1e-3, 1.3, 8), room)
        directions = np.bincount(made.base)
        corner = np.flatnonzero(made.curve.corner)
        self.assertEqual(np.flatnonzero(directions > 1).tolist(), corner.tolist())
        for k in corner:
            angle = np.unwrap(np.arctan2(made.direction[made.base == k, 1], made.direction[made.base == k, 0]))
            step = -np.diff(angle)  # clockwise
            self.assertTrue((step > 0.0).all() and (step <= MIN_DIRECTION_ANGLE + 1e-9).all())
            self.assertAlmostEqual(step.max(), step.min(), 9)

    def test_gaps_and_the_ground_leave_room_for_both(self):
        # 4 % of the diameter between two circles
        curves, room = divided(
            zy.Outline.circle(1.0), zy.Outline("circle", 1.0, 1.0, position=(1.04, 0.0)), ground=-0.53
        )
        made = marching_directions(curves, (1e-3, 1.4, 12), room)
        (one, two) = (ray.front for ray in made)
        self.assertGreater(two[:, 0].min() - one[:, 0].max(), 0.2 * 0.04)
        self.assertGreater(min(one[:, 1].min(), two[:, 1].min()) + 0.53, 0.5 * 0.03)
        apart = np.linalg.norm(one[:, None] - two[None], axis=2)
        self.assertGreater(apart.min(), 0.2 * 0.04)

    def test_in_a_hollow_their_front_does_not_cross_itself(self):
        notch = np.array([[0, 0], [1.0, 0], [1.0, 0.5], [0.55, 0.5], [0.5, 0.2], [0.45, 0.5], [0, 0.5]])
        curves, room = divided(notch, size=0.05)
        (made,) = marching_directions(curves, (1e-3, 1.5, 14), room)
        front = made.front
        a, b = front, np.roll(front, -1, axis=0)
        n = len(a)
        for k in range(n):
            other = np.array([j for j in range(n) if j not in ((k - 1) % n, k, (k + 1) % n)])
            d, e, w = b[k] - a[k], b[other] - a[other], a[other] - a[k]
            cross = d[0] * e[:, 1] - d[1] * e[:, 0]
            with np.errstate(divide="ignore", invalid="ignore"):
                t = (w[:, 0] * e[:, 1] - w[:, 1] * e[:, 0]) / cross
                u = (w[:, 0] * d[1] - w[:, 1] * d[0]) / cross
            self.assertFalse(((t > 1e-9) & (t < 1 - 1e-9) & (u > 1e-9) & (u < 1 - 1e-9)).any())


class OffSurfaces(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ball = zy.remesh(zy.Body.ellipsoid(2.0, 2.0).surface(), 1200, stretch=1.0).surface

    def test_off_a_ball_they_are_radii_of_one_length(self):
        made = grow_prisms(self.ball, (1e-3, 1.3, 10), local_edges(self.ball))
        out = self.ball.points - [1.0, 0.0, 0.0]
        out /= np.linalg.norm(out, axis=1)[:, None]
        self.assertGreater(np.einsum("ij,ij->i", out, made.direction).min(), 0.999)
        np.testing.assert_allclose(made.thickness_fraction, 1.0)
        np.testing.assert_allclose(made.height[:, 1], 1e-3, rtol=0.03)  # measured along the normals of the triangles
        shells = [Surface(made.points(self.ball, level), self.ball.triangles).volume for level in (0, 5, 10)]
        self.assertTrue(self.ball.volume == shells[0] < shells[1] < shells[2])

    def test_no_last_layer_is_higher_than_half_an_edge(self):
        made = grow_prisms(self.ball, (1e-3, 1.9, 20), local_edges(self.ball))
        last = made.height[:, -1] - made.height[:, -2]
        self.assertLess((last / local_edges(self.ball)).max(), LAST_LAYER_HEIGHT * 1.05)

    def test_at_the_corners_of_a_box_every_side_is_seen_and_prisms_stand(self):
        box = zy.remesh(zy.Body.box(1.0, 1.0, 1.0).surface(), 1500).surface
        made = grow_prisms(box, (2e-3, 1.4, 10), local_edges(box))
        seen = np.einsum("tkj,tj->tk", made.direction[box.triangles], box.normals)
        self.assertGreater(seen.min(), 0.5)  # 1 / sqrt(3) at a corner
        tips = Surface(made.points(box, 10), box.triangles)
        self.assertEqual(len(crossing_triangles(tips)), 0)
        stored = np.einsum("ij,ij->i", tips.area_vectors, box.normals) / box.areas
        self.assertGreater(stored.min(), MIN_AREA_RATIO)

    def test_thickness_changes_slowly_along_the_surface_and_leaves_room_opposite(self):
        slot = zy.Body.box(0.4, 3.0, 0.12).surface().transformed(np.eye(3), (0.8, 0.0, 0.1))
        block = zy.Body.box(1.0, 1.0, 0.5).surface()
        made = zy.remesh(difference(block, [slot]), 1500).surface
        prisms = grow_prisms(made, (1e-3, 1.6, 12), local_edges(made))
        edges = made._edge_table[0]
        length = np.linalg.norm(made.points[edges[:, 0]] - made.points[edges[:, 1]], axis=1)
        thick = prisms.height[:, -1]
        self.assertLess(
            (np.abs(thick[edges[:, 0]] - thick[edges[:, 1]]) / length).max(), MAX_HEIGHT_SLOPE * (1.0 + 1e-9)
        )
        inner = (made.points[:, 0] > 0.85) & (np.abs(made.points[:, 2] - 0.1) < 0.0601) & (made.points[:, 0] < 0.93)
        self.assertGreater(inner.sum(), 10)
        self.assertLess(thick[inner].max(), MAX_GAP_FRACTION * 0.12 * 1.2)
        self.assertEqual(len(crossing_triangles(Surface(prisms.points(made, 12), made.triangles))), 0)

    def test_half_a_body_keeps_its_rim_on_the_plane(self):
        half = zy.remesh(half_surface(zy.Body.ellipsoid(2.0, 1.0).surface()), 600, stretch=1.0).surface
        made = grow_prisms(half, (1e-3, 1.3, 8), local_edges(half))
        rim = np.unique(half.open_edges)
        np.testing.assert_array_equal(made.points(half, 8)[rim, 1], 0.0)
        self.assertGreater(np.linalg.norm(made.direction[rim], axis=1).min(), 1.0 - 1e-9)

    def test_a_point_that_not_all_its_triangles_see_is_reported(self):
        # two tetrahedra that touch in a point: no direction off it is outside both
        corner = np.array([[0.0, 0, 0], [1, 0.2, 0], [1, -0.1, 0.2], [1, -0.1, -0.2]])
        sides = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 1], [1, 3, 2]])
        both = (
            Surface(np.concatenate([corner, -corner]), np.concatenate([sides, sides[:, ::-1] + 4])).welded().outward()
        )
        with self.assertRaises(MeshError) as printed:
            grow_prisms(both, (1e-3, 1.3, 5), local_edges(both))
        np.testing.assert_allclose(printed.exception.position, 0.0, atol=1e-12)


if __name__ == "__main__":
    unittest.main()
