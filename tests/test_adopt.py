"""Surfaces from outside: units and axes, every kind of damage repaired or refused with its place, labels, command."""

import tempfile
import unittest
from importlib.util import find_spec
from pathlib import Path

import numpy as np

import zephyrum as zy
from tests.test_aircraft import SKERRY, run
from validation.damage import KINDS, reading
from zephyrum.geometry.surface.defects import NotRepairable
from zephyrum.geometry.surface.surface_import import axes_matrix
from zephyrum.geometry.surface.surface_repair import repair_surface
from zephyrum.geometry.surface.triangulation import Surface, joined


def soup(surface: Surface, noise: float = 0.0) -> Surface:
    rng = np.random.default_rng(7)
    points = surface.points[surface.triangles].reshape(-1, 3)
    points = points + noise * rng.standard_normal(points.shape)
    return Surface(points, np.arange(len(points)).reshape(-1, 3), surface.label, surface.labels, "soup")


def without(surface: Surface, position, radius: float) -> Surface:
    return surface.selected(np.linalg.norm(surface.centres - position, axis=1) > radius)


class Repairs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.aircraft = zy.Aircraft.read(SKERRY)
        cls.whole = cls.aircraft.surface()

    def repaired(self, surface: Surface, kind: str | None = None, **options):
        made = repair_surface(surface, **options)
        self.assertTrue(made.surface.watertight)
        self.assertLess(abs(made.surface.volume / self.whole.volume - 1.0), 1e-3)
        if kind:
            self.assertIn(kind, made.report())
        return made

    def test_soup_noise_and_doubles(self):
        self.repaired(soup(self.whole))
        self.repaired(soup(self.whole, 1e-6), "apart by noise")
        again = np.concatenate([self.whole.triangles, self.whole.triangles[::40], self.whole.triangles[::90, ::-1]])
        made = self.repaired(Surface(self.whole.points, again), "more than once")
        self.assertGreater(sum(d.count for d in made.defects if "more than once" in d.kind), 1000)

    def test_turned_triangles_and_shells(self):
        rng = np.random.default_rng(3)
        flipped = self.whole.triangles.copy()
        some = rng.random(len(flipped)) < 0.3
        flipped[some] = flipped[some][:, ::-1]
        made = self.repaired(Surface(self.whole.points, flipped), "turned over")
        (count,) = [d.count for d in made.defects if "turned over" in d.kind]
        self.assertAlmostEqual(count, some.sum(), delta=5)
        self.repaired(self.whole.flipped(), "inside out")

    def test_small_holes_are_filled_where_they_are(self):
        rng = np.random.default_rng(5)
        made = self.repaired(self.whole.selected(rng.random(len(self.whole.triangles)) > 0.002), "holes")
        self.assertLess(made.uncertainty, 1e-3)
        made = self.repaired(without(self.whole, (4.0, 4.0, 1.9), 0.2))
        (hole,) = [d for d in made.defects if d.kind == "holes"]
        self.assertLess(np.linalg.norm(hole.positions - [4.0, 4.0, 1.8], axis=1).max(), 0.4)

    def test_a_hole_too_large_is_refused_with_its_place_unless_said_to_be_flat(self):
        cut = without(self.whole, (0.0, 0.0, 0.5), 0.7)
        with self.assertRaises(NotRepairable) as refused:
            repair_surface(cut)
        self.assertLess(np.linalg.norm(refused.exception.defect.positions[0] - [0.5, 0.0, 0.6]), 0.5)
        self.assertIn("flat_holes", str(refused.exception))
        self.assertTrue(repair_surface(cut, flat_holes=True).surface.watertight)

    def test_overlapping_shells_are_united_and_separate_ones_listed(self):
        pieces = [solid for own in self.aircraft.solids().values() for solid in own]
        self.repaired(joined(pieces), "overlapping shells")
        small_body = zy.Body.ellipsoid(0.1, 0.1).surface().transformed(np.eye(3), (20.0, 0.0, 0.0))
        self.repaired(joined([self.whole, small_body]), "separate")
        self.assertEqual(repair_surface(joined([self.whole, small_body]), keep_separate=True).surface.shells()[0], 2)

    def test_points_on_edges_and_boxes_that_share_an_edge(self):
        box = zy.Body.box(2.0, 1.0, 1.0).surface()
        shifted = box.triangles.tolist()
        edge = box.points[shifted[0][0]], box.points[shifted[0][1]]
        points = np.concatenate([box.points, [0.5 * (edge[0] + edge[1])]])
        a, b, c = shifted[0]
        split = [[a, len(box.points), c], [len(box.points), b, c], *shifted[1:]]
        made = repair_surface(Surface(points, np.array(split)))
        self.assertAlmostEqual(made.surface.volume, 2.0, 12)
        self.assertIn("middle of a neighbour's edge", made.report())
        plain = zy.Body.box(1.0, 1.0, 1.0).surface()
        touching = joined([plain, plain.transformed(np.eye(3), (0.0, 1.0, 1.0))]).welded()
        self.assertGreater(len(touching.crowded_edges), 0)
        made = repair_surface(touching)
        self.assertAlmostEqual(made.surface.volume, 2.0, 9)

    def test_what_has_no_inside_is_refused(self):
        strip = np.array(
            [
                [np.cos(a) * (1 + w * np.cos(a / 2)), np.sin(a) * (1 + w * np.cos(a / 2)), w * np.sin(a / 2)]
                for a in np.linspace(0, 2 * np.pi, 60, endpoint=False)
                for w in (-0.3, 0.3)
            ]
        )
        rows = []
        for k in range(60):
            a, b = 2 * k, 2 * k + 1
            c, d = ((2 * k + 2), (2 * k + 3)) if k < 59 else (1, 0)
            rows += [(a, c, b), (b, c, d)]
        with self.assertRaises(NotRepairable) as refused:
            repair_surface(Surface(strip, np.array(rows)))
        self.assertIn("one-sided", str(refused.exception))
        ball = zy.Body.ellipsoid(2.0, 2.0).surface()
        pushed = ball.points.copy()
        pushed[np.argmin(ball.points[:, 0])] = (2.5, 0.3, 0.1)  # the nose pulled out through the tail
        with self.assertRaises(NotRepairable) as refused:
            repair_surface(Surface(pushed, ball.triangles))
        self.assertIn("cut through each other", str(refused.exception))


class Damage(unittest.TestCase):
    """Kinds and severities of validation/damage.py on a coarser Skerry: repaired to the true volume, or refused with
    the place.
    """

    @classmethod
    def setUpClass(cls):
        cls.whole = zy.Aircraft.read(SKERRY).surface(density=0.3)

    def test_every_kind_of_damage_lightest_and_worst(self):
        for kind, make, levels in KINDS:
            for level in (levels[0], levels[-1]):
                with self.subTest(kind=kind, level=level):
                    said, off, far, good = reading(*make(self.whole, level), self.whole.volume)
                    if "inside each other" in kind or ("crumbs" in kind and level > 100):
                        good = said.startswith("repaired") and off < 1.0  # made of finer parts than this surface
                    self.assertTrue(good, f"{said}, volume off {off} %, place off {far} m")

    def test_a_sheet_without_thickness_goes_and_a_doubled_triangle_stays(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        a, b = box.triangles[0, :2]
        fin = np.array([[a, b, len(box.points)], [b, a, len(box.points)]])
        points = np.concatenate([box.points, [[1.0, 0.0, 2.0]]])
        turned = box.triangles[[0, 3]][:, ::-1]
        made = repair_surface(Surface(points, np.concatenate([box.triangles, fin, turned])))
        self.assertAlmostEqual(made.surface.volume, 1.0, 12)
        self.assertEqual(len(made.surface.triangles), len(box.triangles))

    def test_what_does_not_hang_together_is_refused_at_once(self):
        with self.assertRaises(NotRepairable) as refused:
            repair_surface(soup(self.whole, 5e-3))
        self.assertIn("weld_distance", str(refused.exception))


class Taken(unittest.TestCase):
    def test_axes_are_right_handed_and_turn_the_nose_forward(self):
        for nose, up in (("-x", "+z"), ("+x", "+z"), ("+y", "-x"), ("-z", "+y")):
            matrix = axes_matrix(nose, up)
            self.assertAlmostEqual(np.linalg.det(matrix), 1.0, 12)
        np.testing.assert_array_equal(axes_matrix("+y", "+z") @ [0, 1, 0], [-1, 0, 0])
        self.assertRaises(zy.InputError, axes_matrix, "+x", "-x")

    def test_unit_and_attitude_are_stated_and_checked(self):
        aircraft = zy.Aircraft.read(SKERRY).surface(density=0.4)
        with tempfile.TemporaryDirectory() as folder:
            path = aircraft.transformed(axes_matrix("+y", "+z").T).write(Path(folder) / "model.obj", "mm")
            with self.assertRaises(zy.InputError) as refused:
                zy.import_surface(path)
            self.assertIn('unit="mm": 16.53 x 11.1 x 3.602 m', str(refused.exception))
            with self.assertRaises(zy.InputError) as refused:
                zy.import_surface(path, "in")
            self.assertIn("no aircraft", str(refused.exception))
            good = zy.import_surface(path, "mm", "+y", "+z", span=16.5)
            self.assertEqual(good.notes, ())
            self.assertEqual(set(good.surface.labels), set(aircraft.labels))
            np.testing.assert_allclose(good.surface.bounds, aircraft.bounds, atol=1e-5)
            for nose, up, word in (("-y", "+z", "tail first"), ("+y", "-z", "upside down"), ("-z", "+y", "")):
                notes = " ".join(zy.import_surface(path, "mm", nose, up).notes)
                self.assertIn(word, notes)
                self.assertTrue(notes)
            self.assertIn("span", " ".join(zy.import_surface(path, "mm", "+y", "+z", span=15.0).notes))
            patches = zy.import_surface(path, "mm", "+y", "+z", labels="edges", simplify=0.01).surface
            self.assertLess(len(patches.triangles), 0.7 * len(aircraft.triangles))
            self.assertGreater(len(patches.labels), 5)
            self.assertTrue(zy.import_surface(path, "mm", "+y", "+z").surface.watertight)

    @unittest.skipUnless(find_spec("OCP"), "needs the extra cad")
    def test_step_round_trip_and_refusals(self):
        with tempfile.TemporaryDirectory() as folder:
            f = Path(folder)
            pod = zy.Body.ellipsoid(2.0, 0.8).surface(tolerance=5e-3)
            made = zy.import_surface(pod.write(f / "pod.step")).surface  # the format states its unit
            self.assertTrue(made.watertight)
            self.assertAlmostEqual(made.volume / pod.volume, 1.0, 9)
            np.testing.assert_allclose(made.bounds, pod.bounds, atol=1e-9)
            with self.assertRaises(zy.InputError) as refused:
                without(pod, (0.0, 0.0, 0.0), 0.3).write(f / "open.step")
            self.assertIn("not closed", str(refused.exception))
            (f / "no.step").write_text("ISO-10303-21;")
            self.assertRaises(zy.ZephyrumError, zy.import_surface, f / "no.step")

    def test_the_command_repairs_reports_and_draws(self):
        with tempfile.TemporaryDirectory() as folder:
            f = Path(folder)
            whole = zy.Aircraft.read(SKERRY).surface(density=0.4)
            soup(without(whole, (4.0, 4.0, 1.9), 0.25)).write(f / "torn.stl", "mm")
            code, said, _ = run(
                "shape",
                f / "torn.stl",
                "--unit",
                "mm",
                "--labels",
                "edges",
                "--figures",
                f / "figures",
                "--write",
                f / "out.vtu",
            )
            self.assertEqual(code, 0)
            for word in ("holes, at", "wetted area", "patch 1", "written"):
                self.assertIn(word, said)
            self.assertEqual({p.name for p in (f / "figures").iterdir()}, {"sketch.png", "labels.png", "repaired.png"})
            without(whole, (0.0, 0.0, 0.5), 0.7).write(f / "cut.stl")
            code, _, said = run("shape", f / "cut.stl", "--unit", "m", "--figures", f / "where")
            self.assertEqual(code, 2)
            self.assertIn("not_repaired.png", said)
            self.assertTrue((f / "where" / "not_repaired.png").exists())
