"""Sections by control points, drawn in a figure with sent events, and written for CAD programs."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner
from matplotlib.backend_bases import KeyEvent, MouseEvent

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.geometry import shape_warnings, space_curve
from zephyrum.plotting import SectionEditor, edit_section
from zephyrum.plotting.style import save

FLAT = [(1, 0), (0.6, 0.08), (0.2, 0.1), (0, 0.08), (0, 0), (0, -0.08), (0.2, -0.05), (0.6, -0.03), (1, 0)]


class ControlPoints(unittest.TestCase):
    def test_fits_come_closer_with_more_points(self):
        for digits in ("0012", "2412", "4415", "23012"):
            foil = zy.Airfoil.naca(digits)
            few, many = (zy.SplineAirfoil.fit(foil, count) for count in (13, 31))
            self.assertLess(few.distance_from(foil), 1.5e-3)
            self.assertLess(many.distance_from(foil), 1e-4)
            np.testing.assert_allclose(many.points[[0, -1]], foil.points[[0, -1]], atol=1e-12)

    def test_a_moved_point_changes_the_shape_near_it_only(self):
        drawn = zy.SplineAirfoil.fit(zy.Airfoil.naca("2412"), 21)
        moved = drawn.with_point(4, z=drawn.points[4, 1] + 0.01)
        away = np.linalg.norm(moved.airfoil.points - drawn.airfoil.points, axis=1)
        self.assertGreater(away.max(), 0.005)
        self.assertLess(away.max(), 0.01)  # a spline stays within its control points
        self.assertEqual(away[len(away) // 2 :].max(), 0.0)  # the lower side
        np.testing.assert_array_equal(np.delete(moved.points, 4, axis=0), np.delete(drawn.points, 4, axis=0))

    def test_added_and_removed_points(self):
        drawn = zy.SplineAirfoil.fit(zy.Airfoil.naca("2412"))
        self.assertEqual(len(drawn.with_added_point(3).without_point(4).points), len(drawn.points))
        for wrong in (
            lambda: drawn.without_point(0),
            lambda: drawn.with_added_point(14),
            lambda: drawn.with_point(99, z=0.0),
            lambda: drawn.with_point(3, z=float("nan")),
            lambda: zy.SplineAirfoil(np.zeros((3, 2))),
            lambda: zy.SplineAirfoil.fit(zy.Airfoil.naca("0012"), 3),
        ):
            with self.assertRaises(zy.InputError):
                wrong()

    def test_a_section_file_keeps_its_control_points(self):
        drawn = zy.SplineAirfoil.fit(zy.Airfoil.naca("4412"), 17)
        with tempfile.TemporaryDirectory() as folder:
            file = drawn.write(Path(folder) / "mine.dat")
            np.testing.assert_array_equal(zy.SplineAirfoil.read(file).points, drawn.points)
            np.testing.assert_allclose(zy.Airfoil.read(file, "m").points, drawn.airfoil.points, atol=1e-15)
            lines = file.read_text(encoding="utf-8").splitlines()
            lines[100] = "0.5 0.2"
            file.write_text("\n".join(lines), encoding="utf-8")
            with self.assertRaises(zy.InputError):
                zy.SplineAirfoil.read(file)
            plain = zy.Airfoil.naca("4412").write(Path(folder) / "plain.dat")
            with self.assertRaisesRegex(zy.InputError, "no control points"):
                zy.SplineAirfoil.read(plain)

    def test_poor_shapes_are_said(self):
        for digits in ("0012", "2412", "4415", "23012", "0006"):
            self.assertEqual(shape_warnings(zy.Airfoil.naca(digits)), ())
        flat = zy.SplineAirfoil(np.array(FLAT, dtype=float))
        self.assertIn("the nose is flat", flat.shape_warnings[0])
        wavy = zy.SplineAirfoil.fit(zy.Airfoil.naca("0012"))
        for k in (2, 3, 4):
            wavy = wavy.with_point(k, z=wavy.points[k, 1] + (0.02 if k % 2 else -0.02))
        self.assertTrue(any("wavy" in one or "jumps" in one for one in wavy.shape_warnings))

    def test_measures_are_exact(self):
        found = zy.Airfoil.naca("4414").measures
        self.assertAlmostEqual(found.camber, 0.04, delta=1e-5)
        self.assertAlmostEqual(found.camber_at, 0.4, delta=2e-3)
        self.assertAlmostEqual(found.chord, 1.0, delta=1e-9)


class Editor(unittest.TestCase):
    """The figure without a screen: events are sent to it."""

    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.path = Path(self.folder.name) / "drawn.dat"
        self.editor = SectionEditor(zy.Airfoil.naca("2412"), self.path, angles=(0.0, 4.0, 8.0))

    def mouse(self, name: str, place: np.ndarray, **more):
        canvas = self.editor.figure.canvas
        x, y = self.editor.shape.transData.transform(place)
        canvas.callbacks.process(name, MouseEvent(name, canvas, x, y, **more))

    def key(self, key: str):
        canvas = self.editor.figure.canvas
        canvas.callbacks.process("key_press_event", KeyEvent("key_press_event", canvas, key))

    def drag(self, index: int, *moves: tuple[float, float]) -> np.ndarray:
        start = self.editor.section.points[index].copy()
        self.mouse("button_press_event", start, button=1)
        for move in moves:
            self.mouse("motion_notify_event", start + move, button=1)
        self.mouse("button_release_event", start, button=1)
        return start

    def test_a_dragged_point_moves_measures_and_pressures(self):
        before = self.editor.section.airfoil.measures
        lift = self.editor.pressures.get_title()
        start = self.drag(4, (0.01, 0.01), (0.02, 0.02), (0.02, 0.03))
        self.assertEqual(self.editor.chosen, 4)
        np.testing.assert_allclose(self.editor.section.points[4] - start, [0.02, 0.03], atol=1e-9)
        self.assertGreater(self.editor.section.airfoil.measures.thickness, before.thickness + 0.005)
        self.assertIn(f"{100 * self.editor.section.airfoil.measures.thickness:.2f} %", self.editor.shape.get_title())
        self.assertNotEqual(self.editor.pressures.get_title(), lift)
        self.key("u")  # one step for the whole drag
        np.testing.assert_array_equal(self.editor.section.points[4], start)

    def test_a_press_beside_all_points_moves_nothing(self):
        points = self.editor.section.points.copy()
        self.mouse("button_press_event", np.array([0.5, 0.12]), button=1)
        self.mouse("motion_notify_event", np.array([0.6, 0.15]), button=1)
        self.assertIsNone(self.editor.chosen)
        np.testing.assert_array_equal(self.editor.section.points, points)
        for key in ("a", "d"):
            self.key(key)
            self.assertIn("choose a control point", self.editor.message)

    def test_what_is_no_section_is_refused_and_the_point_stays(self):
        start = self.drag(4, (0.0, -0.22))
        self.assertIn("no section: the surfaces", self.editor.message)
        np.testing.assert_array_equal(self.editor.section.points[4], start)

    def test_keys_add_delete_write_and_solve(self):
        self.drag(4, (0.0, 0.001))
        self.key("v")
        self.assertEqual(len(self.editor.polar.flows), 3)
        self.assertGreater(np.ptp(self.editor.drag.lines[0].get_ydata()), 0.5)
        self.key("a")
        self.assertEqual(len(self.editor.section.points), 16)
        self.key("d")
        self.assertEqual(len(self.editor.section.points), 15)
        self.key("w")
        np.testing.assert_array_equal(zy.SplineAirfoil.read(self.path).points, self.editor.section.points)
        picture = Path(self.folder.name) / "editor.png"
        save(self.editor.figure, picture)
        assert_picture(self, picture)

    def test_without_a_window_it_says_so(self):
        with self.assertRaisesRegex(zy.InputError, "shows no window"):
            edit_section(zy.Airfoil.naca("0012"), self.path)
        made = CliRunner().invoke(main, ["draw-section", "naca0012", "--out", str(self.path)])
        self.assertEqual(made.exit_code, 2)
        self.assertIn("shows no window", made.output)


class SpaceCurves(unittest.TestCase):
    def test_chord_twist_and_place(self):
        foil = zy.Airfoil.naca("4412").rotated(-7.0).moved(0.3, 0.1)
        points = space_curve(foil, 2.0, 5.0, (1.0, 4.0, 0.5))
        tail, nose = 0.5 * (points[0] + points[-1]), np.array([1.0, 4.0, 0.5])
        along = tail - nose
        self.assertAlmostEqual(np.linalg.norm(along), 2.0, places=9)
        self.assertAlmostEqual(np.degrees(np.arctan2(-along[2], along[0])), 5.0, places=9)  # nose-up
        self.assertEqual(np.ptp(points[:, 1]), 0.0)
        upper = points[len(points) // 4] - nose
        self.assertGreater(along[0] * upper[2] - along[2] * upper[0], 0.0)  # not mirrored

    def test_command_writes_columns_in_the_unit(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "rib.txt"
            words = ["--cad", str(file), "--chord", "160 cm", "--position", "1", "2", "0", "--unit", "mm"]
            made = CliRunner().invoke(main, ["section", "naca2412", *words])
            self.assertEqual(made.exit_code, 0, made.output)
            table = np.loadtxt(file)
            self.assertEqual(table.shape[1], 3)
            self.assertAlmostEqual(table[:, 0].max(), 2600.0, places=6)
            self.assertEqual(set(table[:, 1]), {2000.0})
            refused = CliRunner().invoke(main, ["section", "naca2412", "--cad", str(file), "--unit", "kg"])
            self.assertEqual(refused.exit_code, 2)


if __name__ == "__main__":
    unittest.main()
