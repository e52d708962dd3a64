"""Solids united, halved and projected; labels; triangles that cross; files."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.geometry.surface.labels import label_by_box, label_by_edges, label_by_shell, renamed
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.solids import (
    common_volume,
    difference,
    half_surface,
    outline_of,
    projection,
    section_area,
    simplified,
    union,
)
from zephyrum.geometry.surface.surface_reader import read_triangles
from zephyrum.geometry.surface.triangulation import Surface, joined


def ball(diameter: float, position=(0.0, 0.0, 0.0), name: str = "ball", tolerance: float = 5e-4) -> Surface:
    return (
        zy.Body.ellipsoid(diameter, diameter)
        .surface(name, tolerance)
        .transformed(np.eye(3), np.add(position, (-0.5 * diameter, 0.0, 0.0)))
    )


class Unions(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.one, cls.two = ball(2.0, name="one"), ball(2.0, (1.0, 0.0, 0.0), "two")
        cls.both = union([cls.one, cls.two])

    def test_volume_by_inclusion_and_exclusion_and_the_lens_of_two_balls(self):
        shared = common_volume(self.one, self.two)
        self.assertAlmostEqual(self.both.volume, self.one.volume + self.two.volume - shared, 12)
        self.assertAlmostEqual(difference(self.one, [self.two]).volume, self.one.volume - shared, 12)
        self.assertLess(abs(shared / (np.pi / 12.0 * 5.0) - 1.0), 8e-3)  # r = 1 at a distance of 1

    def test_labels_survive_and_their_areas_sum_to_the_total(self):
        self.assertTrue(self.both.watertight)
        self.assertEqual(self.both.parts, ("one", "two"))
        self.assertAlmostEqual(self.both.area("one") + self.both.area("two"), self.both.area(), 12)
        self.assertLess(abs(self.both.area("one") / (3.0 * np.pi) - 1.0), 5e-3)  # a ball less a cap of height 1/2

    def test_half_a_model_is_open_on_the_plane_and_half_in_everything(self):
        half = half_surface(self.both)
        self.assertEqual(np.abs(half.points[np.unique(half.open_edges), 1]).max(), 0.0)
        self.assertAlmostEqual(2.0 * half.area(), self.both.area(), 9)
        closed = half_surface(self.both, keep_cap=True)
        self.assertTrue(closed.watertight)
        self.assertAlmostEqual(2.0 * closed.volume, self.both.volume, 9)
        with self.assertRaises(zy.InputError):
            half_surface(ball(1.0, (0.0, -3.0, 0.0)))

    def test_shadows_and_sections_of_a_ball(self):
        for axis in "xyz":
            self.assertLess(abs(projection(self.one, axis) / np.pi - 1.0), 4e-3)
            self.assertEqual(len(outline_of(self.one, axis)), 1)
        np.testing.assert_allclose(
            section_area(self.one, [-0.5, 0.0, 0.6]), np.pi * np.array([0.75, 1.0, 0.64]), rtol=5e-3
        )
        sizes = zy.measure_surface(self.both)
        self.assertLess(abs(sizes.size[0] - 3.0), 1e-9)

    def test_what_is_open_is_refused_with_the_place(self):
        broken = self.one.selected(self.one.centres[:, 0] < 0.9)
        with self.assertRaises(zy.InputError) as refused:
            union([broken, self.two])
        self.assertIn("not closed", str(refused.exception))

    def test_simplified_within_the_distance_asked(self):
        fewer = simplified(self.both, 0.01)
        self.assertTrue(fewer.watertight)
        self.assertLess(len(fewer.triangles), 0.7 * len(self.both.triangles))
        self.assertLess(np.abs(np.linalg.norm(fewer.points[fewer.points[:, 0] < 0.3], axis=1) - 1.0).max(), 0.012)
        self.assertEqual(fewer.labels, self.both.labels)


class Crossings(unittest.TestCase):
    def test_two_balls_cross_and_one_does_not(self):
        one, two = ball(2.0), ball(2.0, (1.0, 0.1, 0.0))
        self.assertEqual(len(crossing_triangles(one)), 0)
        pairs = crossing_triangles(joined([one, two]))
        self.assertGreater(len(pairs), 20)
        self.assertTrue(((pairs[:, 0] < len(one.triangles)) & (pairs[:, 1] >= len(one.triangles))).all())
        self.assertEqual(len(crossing_triangles(joined([one, two]), 10.0)), 0)  # none is that deep

    def test_a_fold_is_found(self):
        points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0.2, 0.7, 0]], dtype=float)
        fold = Surface(points, np.array([[0, 1, 2], [1, 0, 3]]))
        self.assertEqual(len(crossing_triangles(fold)), 1)


class Labels(unittest.TestCase):
    def test_by_shell_by_sharp_edges_and_by_box(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        six = label_by_edges(box)
        self.assertEqual(len(six.labels), 6)
        self.assertAlmostEqual(six.area("patch 1"), 2.0, 9)
        two = label_by_shell(joined([box, ball(1.0, (9.0, 0.0, 0.0))]))
        self.assertEqual(set(two.labels), {"shell 1", "shell 2"})
        rear = label_by_box(box, "rear", (1.9, -9, -9), (9, 9, 9))
        self.assertAlmostEqual(rear.area("rear"), 0.5, delta=0.35)
        named = renamed(six, {"patch 1": "top", "patch 2": "top"})
        self.assertAlmostEqual(named.area("top"), 4.0, 9)
        for call in (
            lambda: renamed(six, {"nose": "x"}),
            lambda: label_by_box(box, "far", (50, 0, 0), (51, 1, 1)),
            lambda: box.area("wing"),
        ):
            self.assertRaises(zy.InputError, call)


class Files(unittest.TestCase):
    def test_what_is_written_is_read_again(self):
        surface = union([ball(2.0, name="one"), ball(2.0, (1.0, 0.0, 0.0), "two")])
        with tempfile.TemporaryDirectory() as folder:
            for ending, labels in (("stl", 1), ("obj", 2), ("ply", 1), ("vtu", 2)):
                again = read_triangles(surface.write(Path(folder) / f"s.{ending}", "mm")).scaled(1e-3)
                self.assertEqual(len(again.labels), labels)
                self.assertAlmostEqual(again.volume, surface.volume, 5)
                self.assertTrue(again.welded(1e-6).watertight)

    def test_text_stl_keeps_its_solids_and_damaged_files_are_refused(self):
        with tempfile.TemporaryDirectory() as folder:
            text = Path(folder) / "two.stl"
            facet = "facet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 {}\nendloop\nendfacet\n"
            text.write_text(f"solid top\n{facet.format(0)}endsolid\nsolid side\n{facet.format(2)}endsolid\n")
            self.assertEqual(read_triangles(text).labels, ("top", "side"))
            whole = ball(1.0).write(Path(folder) / "w.stl").read_bytes()
            bad = {
                "cut.stl": whole[:3000],
                "empty.stl": b"",
                "noise.stl": b"solid a\nfacet\nvertex 1 2 x\n",
                "none.obj": b"v 0 0 0\n",
                "a.xyz": b"1",
                "wrong.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n",
                "nan.obj": b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
                "cut.ply": b"ply\nformat ascii 1.0\n",
            }
            for name, data in bad.items():
                path = Path(folder) / name
                path.write_bytes(data)
                with self.assertRaises(zy.FileError, msg=name):
                    read_triangles(path)
