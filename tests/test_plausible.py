"""Nothing wrong without a word: what a converged solution may not show, and what is refused before it is computed."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from click.testing import CliRunner

import zephyrum as zy
from zephyrum.cli.main import main
from zephyrum.geometry.surface.solids import asymmetry
from zephyrum.geometry.surface.surface_import import attitude_warnings, surface_warnings

QUICK = zy.Numerics(residual_drop=4, vortex=False)


class Outcomes(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 96, 32, topology="O")
        cls.solution = zy.solve(cls.mesh, zy.Freestream(mach=0.3, alpha=2.0))

    def changed(self, **flow) -> zy.Solution:
        return replace(self.solution, flow=replace(self.solution.flow, **flow))

    def test_a_sound_one_has_converged(self):
        self.assertEqual((self.solution.outcome, self.solution.implausible), ("converged", ()))

    def test_negative_drag_heat_and_pressure_are_reported_first(self):
        flow = self.solution.flow
        faces = self.mesh.faces_of("wall") - self.mesh.n_interior
        pushed = flow.boundary_pressure.copy()
        pushed[faces] += 0.004 * np.sign(-self.mesh.face_area[faces + self.mesh.n_interior][:, 0])
        hot = flow.q.copy()
        hot[7, 4] = 16.0
        high = flow.boundary_pressure.copy()
        high[faces[:4]] = 1.4 * 0.5 * 0.3**2
        for change, words in (
            ({"boundary_pressure": pushed}, "CD is negative"),
            ({"q": hot}, "temperature 4610 K"),
            ({"boundary_pressure": high}, "above the 1.023 of a stagnation point"),
        ):
            made = self.changed(**change)
            with self.subTest(words):
                self.assertEqual(made.outcome, "implausible")
                self.assertRegex(made.reason, f"implausible: .*{words}")
                self.assertIn("implausible", made.checks()[0])
                self.assertEqual(made.row()["outcome"], "implausible")
        self.assertEqual(self.changed(boundary_pressure=pushed, outcome="oscillating").outcome, "oscillating")

    def test_the_command_says_so_first_and_in_its_exit_code(self):
        text = (
            "[section]\n"
            'naca = "0012"\n'
            "flap = { hinge = 0.7, angle = 5 }\n"
            "[mesh]\n"
            "around = 64\n"
            "outward = 24\n"
            "[solver]\n"
            "residual_drop = 4\n"
            "[sweep]\n"
            "mach = 0.3\n"
            "alpha = 2\n"
            "[run]\n"
            "processes = 1\n"
        )
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "s.toml").write_text(text)
            words = ["run", f"{folder}/s.toml", "--out", f"{folder}/o"]
            for command in (words, ["show", f"{folder}/o"]):
                result = CliRunner().invoke(main, command)
                self.assertEqual(result.exit_code, 4, result.output)
                self.assertRegex(result.output, r"IMPLAUSIBLE: M 0.3, alpha 2 deg: .*has no drag, but CD is")
            page = (Path(folder) / "o" / "report.html").read_text()
            self.assertIn("Implausible: 1 of 1 points", page)
            self.assertNotIn("largest L/D", page)

    def test_no_lift_to_drag_where_the_error_of_drag_is_large(self):
        rows = [
            {
                "mach": 0.2,
                "alpha": a,
                "CL": 0.5,
                "CD": cd,
                "CM": 0.0,
                "L/D": 0.5 / cd,
                "outcome": "converged",
                "CL_amplitude": 0.0,
                "CD_amplitude": 0.0,
            }
            for a, cd in ((0.0, 0.01), (4.0, 0.1))
        ]
        polar = zy.Polar.of(rows).with_errors({}, {"CL": 0.0, "CD": 0.005, "CM": 0.0})
        self.assertEqual(polar.table["L/D"].isna().tolist(), [True, False])


class LaminarWakes(unittest.TestCase):
    def test_one_that_would_not_be_steady_is_reported(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 48, 32, 40.0, 1.5e-2)
        for reynolds, printed in ((30.0, False), (120.0, True)):
            made = zy.solve(mesh, zy.Freestream(mach=0.1, reynolds=reynolds), "laminar", numerics=QUICK)
            self.assertEqual(made.outcome, "converged")
            self.assertEqual(
                any("does not occur" in check and "in time" in check for check in made.checks()), printed, reynolds
            )


class ReynoldsNumbers(unittest.TestCase):
    def test_density_speed_and_viscosity_stay_whatever_length_is_named(self):
        mesh = zy.mesh_revolved(zy.Outline.ellipse(0.06, 0.18), around=48, outward=24, farfield=60.0)
        self.assertAlmostEqual(mesh.reference.chord, 0.18, 6)  # its diameter
        drags = []
        for more in ({}, {"length": 0.18}, {"length": 1.0}):
            case = zy.Case(mesh, zy.Freestream(speed=8.115e-3, altitude=0.0, **more), "laminar")
            self.assertAlmostEqual(case.reynolds, 100.0, delta=0.1)
            drags.append(zy.solve_case(replace(case, numerics=QUICK)).forces.CD)
        self.assertAlmostEqual(drags[0], drags[1], 6)
        self.assertAlmostEqual(drags[0], drags[2], 6)

    def test_one_without_a_length_is_on_the_chord_and_says_so(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012").scaled(2.0), 48, 24, topology="O", first_height=1e-3)
        air = zy.Freestream(mach=0.2, reynolds=1e4)
        self.assertAlmostEqual(zy.Case(mesh, air, "laminar").reynolds, 1e4, delta=1e-6)
        self.assertIn("Re 1e+04 on the reference length", air.describe())
        self.assertAlmostEqual(
            zy.Case(mesh, zy.Freestream(mach=0.2, reynolds=1e4, length=1.0), "laminar").reynolds, 2e4, delta=1e-6
        )
        self.assertIn("on 1 m", zy.Freestream(mach=0.2, reynolds=1e4, length=1.0).describe())
        own = zy.Freestream(mach=0.2, altitude=0.0)
        fixed = zy.Freestream(
            mach=0.2, altitude=0.0, reynolds=own.density * own.speed / own.viscosity
        )  # that on one metre
        with self.assertRaisesRegex(zy.InputError, "belongs to a length of 1 m .* chord is 2 m"):
            zy.Case(mesh, fixed, "laminar")


class Shapes(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        wing = zy.Wing(
            planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0),
            airfoil="NACA 0012",
            tip="flat",
            controls={"aileron": zy.Control(start=0.6, end=0.95, hinge=0.75, opposite=True)},
        )
        cls.aircraft = zy.Aircraft(name="plank", parts={"wing": wing})

    def test_half_of_an_unsymmetric_aircraft_is_refused_and_the_whole_is_taken(self):
        rolled = self.aircraft.changed({"wing.controls.aileron.deflection": 12})
        self.assertLess(asymmetry(self.aircraft.surface())[0], 1e-9)
        with self.assertRaisesRegex(zy.InputError, "not symmetric about the plane y = 0: at .* .half = False."):
            zy.mesh_aircraft(rolled, 4.0, half=True)
        with self.assertLogs("zephyrum", "WARNING"):
            self.assertFalse(zy.plan_mesh(rolled, 4.0).half)
        self.assertTrue(zy.plan_mesh(self.aircraft, 4.0).half)
        with self.assertRaisesRegex(zy.InputError, "not symmetric"):
            rolled.surface(half=True)

    def test_axes_that_are_exchanged_and_fins_at_the_wrong_end_are_reported(self):
        parts = dict(self.aircraft.parts)
        parts["fuselage"] = zy.Body(
            rings=[
                zy.Ring(x=-2.0, width=0.0),
                zy.Ring(x=-1.0, width=0.6, height=0.6),
                zy.Ring(x=5.0, width=0.1, height=0.1),
            ]
        )
        fin = zy.Wing(
            planform=zy.Planform(span=2.4, root_chord=0.8, taper=1.0),
            airfoil="NACA 0012",
            tip="flat",
            symmetric=False,
            roll=-90.0,
            position=(4.0, 0.0, 0.0),
        )
        upright = zy.Aircraft(name="plane", parts=parts | {"fin": fin}).surface()
        self.assertEqual(surface_warnings(upright), [])
        down = zy.Aircraft(name="plane", parts=parts | {"fin": replace(fin, roll=90.0)}).surface()
        self.assertIn("fin, upside down", attitude_warnings(down)[0])
        quarter = upright.transformed(np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]))
        self.assertTrue(
            any("`nose` is the wrong axis" in one for one in surface_warnings(quarter)), surface_warnings(quarter)
        )
        back = upright.transformed(np.diag([-1.0, -1.0, 1.0]))
        self.assertTrue(any("tail first" in one for one in surface_warnings(back)))
        rocket = zy.Body(
            rings=[zy.Ring(x=0.0, width=0.0), zy.Ring(x=1.0, width=0.3), zy.Ring(x=4.0, width=0.3)]
        ).surface()
        self.assertEqual(attitude_warnings(rocket), [])

    def test_fins_of_a_rocket_are_no_reference_wing(self):
        body = zy.Body(rings=[zy.Ring(x=0.0, width=0.0), zy.Ring(x=1.0, width=0.2), zy.Ring(x=4.0, width=0.2)])
        fins = zy.Wing(
            planform=zy.Planform(span=0.6, root_chord=0.3, taper=1.0), airfoil="NACA 0006", position=(3.6, 0.0, 0.0)
        )
        rocket = zy.Aircraft(name="rocket", parts={"body": body, "fins": fins})
        self.assertIsNone(rocket.measured_reference)
        self.assertFalse(rocket.has_reference)
        typed = replace(rocket, reference=zy.TypedReference(area=0.0314, chord=0.2, span=0.2, point=(2.0, 0.0, 0.0)))
        self.assertEqual(typed.reference_quantities()[1], [])

    def test_quantities_carry_units_or_are_numbers(self):
        self.assertAlmostEqual(zy.PointMass(mass="0.9 kg", position=(0.0, 0.0, 0.0)).mass, 0.9)
        self.assertAlmostEqual(zy.PointMass(mass="80 lb", position=(0.0, 0.0, 0.0)).mass, 36.287, 3)
        self.assertAlmostEqual(zy.quantity("t", "59 F", "K"), 288.15, 2)
        self.assertAlmostEqual(zy.quantity("t", "15 C", "K"), 288.15, 2)
        with self.assertRaisesRegex(zy.InputError, "has no unit; write 3 for m"):
            zy.Freestream(mach=0.2, altitude="3")
        with self.assertRaisesRegex(zy.InputError, "is a quantity in farad, where m is needed"):
            zy.quantity("x", "3 F", "m")


class MeshOfAnotherCondition(unittest.TestCase):
    def test_a_y_plus_far_from_what_was_asked_is_reported(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, growth=1.3, farfield=20.0, y_plus=1.0, reynolds=3e5)
        for reynolds, printed in ((3e5, False), (2e6, True)):
            made = zy.solve(
                mesh, zy.Freestream(mach=0.2, reynolds=reynolds), "sa", numerics=zy.Numerics(residual_drop=4)
            )
            self.assertEqual(any("the mesh was made for 1" in check for check in made.checks()), printed, made.checks())


if __name__ == "__main__":
    unittest.main()
