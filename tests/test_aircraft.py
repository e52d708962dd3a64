"""The described aircraft: files, dotted paths, measures, mass properties, drawings and the command `shape`."""

import contextlib
import io
import tempfile
import unittest
from importlib import resources
from pathlib import Path

import numpy as np

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.geometry.aircraft.mass_properties import of_skin, of_solid

SKERRY = Path(str(resources.files("zephyrum") / "data" / "skerry-mailplane.toml"))


def run(*words: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            main([str(word) for word in words], standalone_mode=False)
            code = 0
        except SystemExit as stop:
            code = int(stop.code or 0)
    return code, out.getvalue(), err.getvalue()


class Described(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.craft = zy.Aircraft.read(SKERRY)
        cls.measures = cls.craft.measures()

    def test_the_union_is_closed_and_its_labels_sum_to_the_total(self):
        surface = self.measures.surface
        self.assertTrue(surface.watertight)
        self.assertEqual(surface.parts, ("wing", "fuselage", "tailplane", "fin", "nacelle", "nacelle port"))
        self.assertAlmostEqual(sum(self.measures.whole.labels.values()), surface.area(), 9)
        self.assertAlmostEqual(self.measures.parts["wetted"].sum(), surface.area(), 9)
        self.assertAlmostEqual(surface.centroid[1], 0.0, 9)

    def test_the_reference_is_that_of_the_stations_and_a_typed_one_is_compared(self):
        area = 2.0 * (3.4 * 1.95 + 4.8 * 0.5 * (1.95 + 1.12))
        reference, notes = self.craft.reference_quantities()
        self.assertAlmostEqual(reference.area, area, 9)
        self.assertEqual((reference.span, notes), (16.4, []))
        typed = self.craft.changed(
            {"reference": {"area": 301.3, "chord": 1.75, "span": 16.4, "point": [4.0, 0.0, 1.7]}}
        )
        (note,) = typed.reference_quantities()[1]
        self.assertIn("check its unit", note)
        bare = zy.Aircraft(name="pod", parts={"pod": zy.Body.capsule(3.0, 1.0)})
        self.assertIsNone(bare.measures().reference)
        self.assertRaises(zy.InputError, bare.reference_quantities)

    def test_any_number_is_reached_by_its_path_and_written_again(self):
        other = self.craft.changed(
            {
                "wing.controls.flap.deflection": 25,
                "wing.stations.tip.twist": "0.05 rad",
                "fin.stations.1.chord": 0.9,
                "points.crew.mass": 85.0,
                "nacelle.mass": {"skin": 5.0},
                "tailplane.planform.sweep": 10.0,
            }
        )
        with tempfile.TemporaryDirectory() as folder:
            again = zy.Aircraft.read(other.write(Path(folder) / "other.toml"))
        self.assertEqual(again.surface().fingerprint, other.surface().fingerprint)
        self.assertEqual(again.table(), other.table())
        self.assertEqual(again.parts["wing"].controls["flap"].deflection, 25.0)
        self.assertAlmostEqual(again.parts["wing"].stations[2].twist, np.degrees(0.05), 9)
        self.assertEqual(self.craft.parts["wing"].controls["flap"].deflection, 0.0)

    def test_sections_from_coordinate_files_travel_with_the_aircraft(self):
        with tempfile.TemporaryDirectory() as folder:
            zy.Airfoil.naca("23012").write(Path(folder) / "own.dat")
            table = {
                "name": "glider",
                "parts": {"wing": {"kind": "wing", "airfoil": "own.dat", "planform": {"span": 15.0, "area": 10.0}}},
            }
            craft = zy.Aircraft.from_table(table, folder)
            other = Path(folder) / "elsewhere"
            other.mkdir()
            self.assertEqual(
                zy.Aircraft.read(craft.write(other / "g.toml")).surface().fingerprint[:6],
                craft.surface().fingerprint[:6],
            )

    def test_mistakes_are_reported_with_their_line_or_their_path(self):
        text = SKERRY.read_text()
        cases = (
            ("chord = 1.12", "chrod = 1.12", 31, "chrod"),
            ("hinge = 0.76", "hinge = 2", 47, "hinge"),
            ("chord = 1.95\ntwist", 'chord = "3 kg"\ntwist', 17, "kg"),
            ('kind = "body"\nnose', 'kind = "blimp"\nnose', 52, "kind"),
            ("area, chord", "area,\nchord", 6, "TOML"),
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "bad.toml"
            for old, new, line, word in cases:
                path.write_text(text.replace(old, new, 1))
                with self.assertRaises(zy.InputError) as refused:
                    zy.Aircraft.read(path)
                self.assertIn(word, str(refused.exception))
                self.assertRegex(
                    str(refused.exception),
                    rf"bad.toml:({line - 4}|{line - 3}|{line - 2}|{line - 1}|{line}|{line + 1}|{line + 2}|{line + 3}):",
                )
        for changes, word in (
            ({"wing.stations.tipp.twist": 1}, "root, crank, tip"),
            ({"wink.twist": 1}, "choose one of: wing"),
            ({"wing.position.7": 1}, "3 items"),
            ({"wing.tip": "sharp"}, "round"),
            ({"reference": "fuselage"}, "not a wing"),
            ({"wing.position.0.1": 1}, "is a value"),
        ):
            with self.assertRaises(zy.InputError) as refused:
                self.craft.changed(changes)
            self.assertIn(word, str(refused.exception))

    def test_drawings_and_pictures(self):
        from zephyrum.plotting import draw_area_distribution, draw_sketch, draw_span, draw_surface, draw_three_view
        from zephyrum.plotting.surface_pictures import _drawn

        figure = draw_three_view(self.measures, alpha=3.0)
        self.assertTrue(any("span 16.53 m" in text.get_text() for ax in figure.axes for text in ax.texts))
        self.assertIn("m^2", draw_area_distribution(self.measures).get_ylabel())
        self.assertIn("deg", draw_span(self.craft)[1].get_ylabel())
        self.assertEqual(len(draw_sketch(self.measures.whole).axes), 4)
        with tempfile.TemporaryDirectory() as folder:
            for k, view in enumerate(("quarter", "above")):
                path = Path(folder) / f"{k}.png"
                draw_surface(self.measures.surface, path, view, alpha=3.0, marks=[(0, 0, 0)])
                assert_picture(self, path)
            _drawn(self.measures.surface, Path(folder) / "flat.png", "quarter", 3.0, True, [(0, 0, 0)], "label")
            assert_picture(self, Path(folder) / "flat.png")
        self.assertRaises(zy.InputError, draw_surface, self.measures.surface, "x.png", "nose")


class Masses(unittest.TestCase):
    def test_a_box_its_skin_and_points_have_their_textbook_inertia(self):
        box = zy.Body.box(3.0, 2.0, 1.0).surface().transformed(np.eye(3), (4.0, 5.0, 6.0))
        m = of_solid(box, 2.0)
        self.assertAlmostEqual(m.mass, 12.0, 9)
        np.testing.assert_allclose(m.centre, (5.5, 5.0, 6.0), atol=1e-12)
        np.testing.assert_allclose(m.inertia, np.diag([5.0, 10.0, 13.0]), atol=1e-9)
        shell = of_skin(zy.Body.ellipsoid(2.0, 2.0).surface(tolerance=2e-5), 1.0)
        np.testing.assert_allclose(np.diag(shell.inertia), 2.0 / 3.0 * 4.0 * np.pi, rtol=1e-3)

    def test_groups_are_independent_and_overlap_counts_once(self):
        parts = {
            "a": zy.Body(rings=zy.Body.box(2.0, 1.0, 1.0).rings, mass=zy.Mass(density=10.0)),
            "b": zy.Body(rings=zy.Body.box(2.0, 1.0, 1.0).rings, position=(1.0, 0.0, 0.0), mass=zy.Mass(density=20.0)),
            "ballast": zy.Body(
                rings=zy.Body.box(0.1, 0.1, 0.1).rings,
                position=(0.5, 0, 0),
                mass=zy.Mass(total="3 kg"),
                aerodynamic=False,
            ),
        }
        craft = zy.Aircraft(name="blocks", parts=parts, points={"p": zy.PointMass(mass=7.0, position=(0.0, 0.0, 2.0))})
        m = craft.measures()
        self.assertAlmostEqual(m.mass.mass, 20.0 + 20.0 + 3.0 + 7.0, 6)
        self.assertAlmostEqual(m.masses["b"].centre[0], 2.5, 6)
        self.assertEqual(m.parts.set_index("part").loc["ballast", "wetted"], 0.0)
        self.assertAlmostEqual(m.whole.volume, 3.0, 9)
        self.assertAlmostEqual(m.whole.frontal, 1.0, 9)
        self.assertAlmostEqual(m.mass.centre @ [0, 0, 50.0], 14.0, 6)
        self.assertRaises(zy.InputError, lambda: zy.Mass(density=1.0, total=2.0))

    def test_attitudes_turn_as_their_names_say(self):
        wing = {"planform": zy.Planform(span=4.0, root_chord=1.0), "airfoil": "NACA 0012"}

        def solid(**given):
            return zy.Aircraft(name="x", parts={"wing": zy.Wing(**wing, **given)}).surface()

        up = solid(pitch=10.0).points
        self.assertLess(up[np.argmax(up[:, 0]), 2], -0.15)  # nose up: the tail goes down
        roll = solid(roll=10.0).points
        self.assertLess(roll[np.argmax(roll[:, 1]), 2], -0.3)  # starboard down
        yaw = solid(yaw=10.0).points
        self.assertGreater(
            yaw[yaw[:, 1] > 1.8, 0].mean(), yaw[yaw[:, 1] < -1.8, 0].mean() + 0.3
        )  # nose to starboard: that tip aft
        twins = zy.Aircraft(
            name="x", parts={"fin": zy.Wing(**wing, symmetric=False, position=(0.0, 3.0, 0.0), mirrored=True)}
        ).surface()
        self.assertEqual(twins.parts, ("fin", "fin port"))
        self.assertAlmostEqual(twins.centroid[1], 0.0, 9)


class Command(unittest.TestCase):
    def test_shape_measures_changes_draws_and_writes(self):
        with tempfile.TemporaryDirectory() as folder:
            f = Path(folder)
            code, said, _ = run(
                "shape",
                SKERRY,
                "--set",
                "wing.controls.flap.deflection=20",
                "--write",
                f / "s.obj",
                "--figures",
                f / "figures",
                "--alpha",
                4,
                "--half",
            )
            self.assertEqual(code, 0)
            for word in (
                "changed: wing.controls.flap.deflection = 20",
                "reference area",
                "27.9960",
                "gravity centre x",
                "half model",
                "nacelle",
            ):
                self.assertIn(word, said)
            self.assertEqual(
                {p.name for p in (f / "figures").iterdir()},
                {"three_view.png", "span.png", "area.png", "quarter.png", "below.png"},
            )
            self.assertIn("g wing/flap upper", (f / "s.obj").read_text())

    def test_shape_refuses_in_one_sentence(self):
        for words, part in (
            (("naca2412",), "zephyrum section"),
            ((SKERRY, "--unit", "mm"), "--unit"),
            ((SKERRY, "--set", "wing"), "PATH=VALUE"),
            ((SKERRY, "--set", "wing.controls.flap.deflection=99"), "60"),
        ):
            code, _, said = run("shape", *words)
            self.assertEqual((code, said.count("\n")), (2, 1), said)
            self.assertIn(part, said)
