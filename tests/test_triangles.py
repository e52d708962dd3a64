"""Surfaces as sets of triangles: what they measure and how they hang together whatever is done to them, and which of
them cross.
"""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.geometry.surface.labels import label_by_box, label_by_edges, label_by_shell, renamed
from zephyrum.geometry.surface.self_intersection import box_tree, crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface, joined
from zephyrum.geometry.surface.visibility import vertex_visibility


def soup(n: int, size: float, seed: int) -> Surface:
    """Loose triangles in a unit cube."""
    rng = np.random.default_rng(seed)
    points = (rng.uniform(size=(n, 1, 3)) + size * rng.standard_normal((n, 3, 3))).reshape(-1, 3)
    return Surface(points, np.arange(3 * n).reshape(-1, 3), name="soup")


def parted(p: np.ndarray, q: np.ndarray) -> bool:
    """Whether a plane parts two triangles (3, 3): tried along both normals and all crossed edges (separating axes)."""
    e, f = np.roll(p, -1, axis=0) - p, np.roll(q, -1, axis=0) - q
    axes = [np.cross(e[0], e[1]), np.cross(f[0], f[1]), *[np.cross(a, b) for a in e for b in f]]
    for axis in axes:
        s, t = p @ axis, q @ axis
        if s.max() <= t.min() or t.max() <= s.min():
            return True
    return False


class Crossing(unittest.TestCase):
    def test_those_found_are_those_that_no_plane_parts(self):
        for seed, size in ((1, 0.08), (2, 0.17)):
            made = soup(60, size, seed)
            corners = made.points[made.triangles]
            meets = np.zeros((60, 60), dtype=bool)
            for i in range(60):
                for j in range(i):
                    meets[i, j] = meets[j, i] = not parted(corners[i], corners[j])
            found = crossing_triangles(made)
            self.assertTrue(meets[found[:, 0], found[:, 1]].all())
            self.assertEqual(set(np.unique(found)), set(np.flatnonzero(meets.any(axis=1))))

    def test_how_deep_they_reach_can_be_asked(self):
        flat = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
        for depth in (1e-3, 1e-5):
            needle = np.array([[0.2, 0.2, -depth], [0.3, 0.2, 0.5], [0.2, 0.3, 0.5]])
            made = Surface(np.concatenate([flat, needle]), np.arange(6).reshape(2, 3))
            self.assertEqual(len(crossing_triangles(made)), 1)
            self.assertEqual(len(crossing_triangles(made, 1e-4)), int(depth > 1e-4))

    def test_neighbours_cross_only_where_they_are_folded_flat(self):
        box = zy.Body.box(1.0, 1.0, 1.0).surface()
        self.assertEqual(len(crossing_triangles(box)), 0)
        points = np.array([[0.0, 0, 0], [1, 0, 0], [0.4, 1, 0], [0.4, 0.9, 0.0]])
        folded = Surface(points, np.array([[0, 1, 2], [1, 0, 3]]))
        self.assertEqual(len(crossing_triangles(folded)), 1)
        opened = Surface(points + np.outer([0, 0, 0, 1], [0, 0, 0.05]), folded.triangles)
        self.assertEqual(len(crossing_triangles(opened)), 0)

    def test_a_tree_of_boxes_holds_every_box_once_within_its_own(self):
        rng = np.random.default_rng(0)
        low = rng.uniform(size=(500, 3))
        high = low + rng.uniform(0.0, 0.1, (500, 3))
        order, bounds, child, span = box_tree(low, high)
        self.assertEqual(sorted(order.tolist()), list(range(500)))
        leaves = np.flatnonzero(child[:, 0] < 0)
        self.assertEqual((span[leaves, 1] - span[leaves, 0]).sum(), 500)
        for node in range(len(bounds)):
            own = order[span[node, 0] : span[node, 1]]
            np.testing.assert_array_equal(bounds[node, :3], low[own].min(axis=0))
            np.testing.assert_array_equal(bounds[node, 3:], high[own].max(axis=0))
        same = box_tree(np.zeros((100, 3)), np.ones((100, 3)))  # no side to halve along
        self.assertEqual(len(same[1]), 1)


class Measures(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.box = zy.Body.box(2.0, 1.0, 0.5).surface("box")

    def test_they_follow_what_is_done_to_the_surface(self):
        box = self.box
        turn = np.linalg.qr(np.random.default_rng(5).standard_normal((3, 3)))[0]
        turn *= np.sign(np.linalg.det(turn))
        for made, volume, area in (
            (box.transformed(turn, (3.0, -1.0, 2.0)), 1.0, 7.0),
            (box.mirrored(), 1.0, 7.0),
            (box.transformed(np.diag([1.0, -1.0, 1.0])), 1.0, 7.0),
            (box.scaled(2.0), 8.0, 28.0),
            (box.flipped(), -1.0, 7.0),
            (box.flipped().outward(), 1.0, 7.0),
        ):
            self.assertAlmostEqual(made.volume, volume, 12)
            self.assertAlmostEqual(made.area(), area, 12)
            self.assertTrue(made.watertight)
        np.testing.assert_allclose(
            box.transformed(turn, (3, -1, 2)).centroid, turn @ box.centroid + [3, -1, 2], atol=1e-12
        )
        np.testing.assert_allclose(box.area_vectors.sum(axis=0), 0.0, atol=1e-12)

    def test_neighbours_lie_across_the_side_and_know_it(self):
        near = self.box.neighbours
        t = self.box.triangles
        for k in range(len(t)):
            for side in range(3):
                other = near[k, side]
                shared = {t[k, side], t[k, (side + 1) % 3]}
                self.assertLessEqual(shared, set(t[other].tolist()))
                self.assertIn(k, near[other])
        torn = self.box.selected(np.arange(len(t)) > 0)
        self.assertEqual((torn.neighbours < 0).sum(), 3)
        self.assertEqual(len(torn.open_edges), 3)

    def test_parts_taken_out_and_put_together_are_the_whole(self):
        front = self.box.label == self.box.labels.index("box/front")
        one, rest = self.box.selected(front), self.box.selected(~front)
        self.assertAlmostEqual(one.area(), 0.5, 12)
        self.assertEqual(len(one.labels), 1)
        both = joined([one, rest], "box").welded()
        self.assertTrue(both.watertight)
        self.assertAlmostEqual(both.volume, 1.0, 12)
        self.assertEqual(set(both.labels), set(self.box.labels))

    def test_shells_are_counted_and_labelled_by_their_size(self):
        small = zy.Body.box(0.3, 0.3, 0.3).surface("dice").transformed(np.eye(3), (9.0, 0.0, 0.0))
        both = joined([small, self.box], "both")
        self.assertEqual(both.shells()[0], 2)
        named = label_by_shell(both)
        self.assertEqual(set(named.labels), {"shell 1", "shell 2"})
        self.assertAlmostEqual(named.area("shell 1"), 7.0, 12)
        self.assertAlmostEqual(named.area("shell 2"), 6 * 0.09, 12)

    def test_patches_boxes_and_new_names(self):
        plain = self.box.labelled("skin")
        patches = label_by_edges(plain)
        self.assertEqual(len(patches.labels), 6)
        self.assertAlmostEqual(patches.area("patch 1"), 2.0, 12)
        self.assertAlmostEqual(patches.area("patch 6"), 0.5, 12)
        self.assertEqual(len(label_by_edges(plain, 95.0).labels), 1)
        nose = label_by_box(plain, "nose", (-1.0, -9.0, -9.0), (1e-6, 9.0, 9.0))
        self.assertAlmostEqual(nose.area("nose"), 0.5, 12)
        one = renamed(patches, {"patch 1": "wing/upper", "patch 2": "wing/lower"})
        self.assertAlmostEqual(one.area("wing"), 4.0, 12)
        self.assertIn("wing", one.parts)
        for call, word in (
            (lambda: renamed(patches, {"patch 9": "x"}), "no label 'patch 9'"),
            (lambda: label_by_box(plain, "n", (5, 5, 5), (6, 6, 6)), "no triangle lies"),
            (lambda: label_by_box(plain, "n", (1, 1, 1), (0, 0, 0)), "lower one first"),
            (lambda: label_by_edges(plain, 0.0), "angle"),
            (lambda: plain.area("fin"), "no label 'fin'"),
        ):
            with self.assertRaises(zy.InputError) as printed:
                call()
            self.assertIn(word, str(printed.exception))

    def test_what_is_no_surface_is_refused(self):
        good = np.eye(3)
        for points, triangles, word in (
            (np.eye(2), [[0, 1, 2]], "shape"),
            (good, [[0, 1]], "rows of three"),
            (good, [[0, 1, 3]], "does not exist"),
            (good * np.nan, [[0, 1, 2]], "not finite"),
        ):
            with self.assertRaises(zy.InputError) as printed:
                Surface(points, np.array(triangles))
            self.assertIn(word, str(printed.exception))
        with self.assertRaises(ValueError):
            self.box.points[0, 0] = 5.0  # not to be changed behind its back


class Visibility(unittest.TestCase):
    def test_at_a_corner_of_a_box_it_is_the_diagonal_and_on_a_face_the_normal(self):
        box = zy.remesh(zy.Body.box(1.0, 1.0, 1.0).surface(), 600).surface
        direction, seen, (start, _, flat) = vertex_visibility(box)
        self.assertFalse(flat.any())
        low, high = box.bounds
        ends = (np.abs(box.points - low) < 1e-9).sum(axis=1) + (np.abs(box.points - high) < 1e-9).sum(axis=1)
        for sides in (1, 2, 3):
            own = ends == sides
            self.assertGreater(own.sum(), 0)
            self.assertLess(np.abs(seen[own] - 1.0 / np.sqrt(sides)).max(), 0.02)
        out = box.points - box.midpoint
        self.assertGreater(np.einsum("ij,ij->i", direction, out).min(), 0.0)
        np.testing.assert_allclose(np.linalg.norm(direction, axis=1), 1.0)
        self.assertEqual(start[-1], 3 * len(box.triangles))

    def test_no_other_direction_sees_more(self):
        ball = zy.remesh(zy.Body.ellipsoid(2.0, 0.7, 1.0).surface(), 500).surface
        direction, seen, (start, around, _) = vertex_visibility(ball)
        rng = np.random.default_rng(9)
        for p in rng.choice(len(ball.points), 60, replace=False):
            normals = ball.normals[around[start[p] : start[p + 1]]]
            self.assertAlmostEqual((normals @ direction[p]).min(), seen[p], 12)
            tried = direction[p] + 0.2 * rng.standard_normal((400, 3))
            tried /= np.linalg.norm(tried, axis=1)[:, None]
            self.assertLess((tried @ normals.T).min(axis=1).max(), seen[p] + 0.005)


if __name__ == "__main__":
    unittest.main()
