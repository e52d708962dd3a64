"""Exhausts and intakes: exact duct flows, a nozzle, thrust account of a pod, study file, refusals."""

import functools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner

import zephyrum as zy
from zephyrum.cli.main import main
from zephyrum.errors import FileError, InputError
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem

AIR = zy.Freestream(mach=0.5, pressure=1e5, temperature=288.0)
JET = zy.Exhaust(total_pressure=1.2e5, total_temperature=350.0)
POD = """name = "engine pod of the Skerry"
[parts.pod]
kind = "body"
rings = [ { x = 0.0, width = 0.8 }, { x = 0.5, width = 1.0 }, { x = 1.6, width = 1.0 }, { x = 2.2, width = 0.7 } ]
"""
STUDY = """title = "engine pod under power"
[aircraft]
file = "pod.toml"
reference = { area = 1.0, chord = 1.0, span = 1.0, point = [0.0, 0.0, 0.0] }
[air]
pressure = "1000 hPa"
temperature = "288 K"
[mesh]
cells = 4000
farfield = 3
[powered."pod/front"]
kind = "intake"
mass_flow = "60 kg/s"
[powered."pod/base"]
kind = "exhaust"
pressure_ratio = 1.6
total_temperature = "500 K"
[solver]
residual_drop = 3
[sweep]
mach = 0.5
alpha = 2
"""


@functools.cache
def duct() -> zy.Mesh:
    """Straight duct with walls of its own at both ends."""
    return zy.mesh_duct([(0.0, 0.5), (3.0, 0.5)], along=32, across=8).with_roles(outlet="wall")


def through_duct(outlet: zy.Exhaust | zy.Intake) -> zy.Solution:
    """Flow of `JET` through the duct."""
    return zy.solve(duct(), AIR, powered={"inlet": JET, "outlet": outlet})


class Ducts(unittest.TestCase):
    def test_the_flow_in_a_straight_duct_is_exact(self):
        open_end = zy.mesh_duct([(0.0, 0.5), (3.0, 0.5)], along=32, across=8)
        found = zy.solve(open_end, AIR, powered={"inlet": JET})
        self.assertEqual(found.outcome, "converged")
        expected = AIR.gas.mach_of_pressure_ratio(1.2)
        np.testing.assert_allclose(found.fields()["mach"], expected, atol=1e-10)
        face = found.thrust_account().faces[0]
        self.assertAlmostEqual(face.mach, expected, places=6)
        self.assertAlmostEqual(face.mass_flow, face.area * AIR.gas.mass_flux(expected, 1.2e5, 350.0), places=6)

    def test_an_intake_takes_what_is_asked_for(self):
        found = through_duct(zy.Intake(mass_flow=150.0))
        self.assertEqual(found.outcome, "converged")
        inlet, outlet = found.thrust_account().faces
        self.assertAlmostEqual(outlet.mass_flow / 150.0, 1.0, places=9)
        self.assertAlmostEqual(inlet.mass_flow / 150.0, 1.0, places=7)
        mach = found.fields()["mach"].mean()
        self.assertAlmostEqual(inlet.area * AIR.gas.mass_flux(mach, 1.2e5, 350.0) / 150.0, 1.0, places=6)
        self.assertAlmostEqual(outlet.mach, mach, places=5)
        by_mach = through_duct(zy.Intake(face_mach=0.5))
        np.testing.assert_allclose(by_mach.fields()["mach"], 0.5, atol=1e-6)

    def test_an_intake_at_a_static_pressure(self):
        found = through_duct(zy.Intake(static_pressure=1.1e5))
        np.testing.assert_allclose(found.fields()["mach"], AIR.gas.mach_of_pressure_ratio(1.2 / 1.1), atol=1e-6)

    def test_a_supersonic_exhaust_keeps_its_mach_number(self):
        open_end = zy.mesh_duct([(0.0, 0.5), (3.0, 0.5)], along=32, across=8)
        found = zy.solve(open_end, AIR, powered={"inlet": zy.Exhaust(mach=2.0, static_pressure=1.5e5)})
        np.testing.assert_allclose(found.fields()["mach"], 2.0, atol=1e-9)
        np.testing.assert_allclose(found.fields()["pressure"], 1.5e5, rtol=1e-6)
        self.assertAlmostEqual(found.thrust_account().faces[0].mach, 2.0, places=6)

    def test_the_jacobian_knows_the_response_of_the_pressure_to_the_mass_flow(self):
        case = zy.Case(duct(), AIR, powered={"inlet": JET, "outlet": zy.Intake(mass_flow=150.0)})
        problem = DiscreteProblem(case.problem())
        rng = np.random.default_rng(1)
        q = np.tile([0.05, 0.45, 0.0, 0.0, 1.1], (case.mesh.n_cells, 1)) + 0.01 * rng.standard_normal(
            (case.mesh.n_cells, 5)
        )
        q[:, 2] = 0.0
        now = problem.evaluate(q)
        problem.linearise(now)
        self.assertEqual(len(problem.jacobian.couplings), 1)
        v = rng.standard_normal((case.mesh.n_cells, 4))
        change, h = np.zeros_like(q), 1e-6
        change[:, problem.domain.axes] = v
        difference = (problem.evaluate(q + h * change).R - problem.evaluate(q - h * change).R) / (2.0 * h)
        product = np.empty((case.mesh.n_cells, 4), dtype=np.float32)
        problem.jacobian.row_scale[:] = 1.0
        problem.jacobian.set_inertia(np.zeros(case.mesh.n_cells))
        problem.jacobian.product(v.astype(np.float32), product)
        expected = difference[:, problem.domain.axes]
        self.assertLess(np.linalg.norm(product - expected), 1e-3 * np.linalg.norm(expected))

    def test_a_nozzle_follows_one_dimensional_flow(self):
        x = np.linspace(0.0, 3.0, 31)
        down, up = np.clip(x, 0.0, 1.0), np.clip((x - 1.0) / 2.0, 0.0, 1.0)
        area = 1.5 + 0.5 * np.cos(np.pi * down) + 0.4 * (1.0 - np.cos(np.pi * up))
        mesh = zy.mesh_duct(np.stack([x, 0.15 * np.sqrt(area)], axis=1), along=96, across=12)
        found = zy.solve(mesh, AIR, powered={"inlet": zy.Exhaust(total_pressure=8e5, total_temperature=1000.0)})
        self.assertEqual(found.outcome, "converged", found.reason)
        leaving = found.fields()["mach"][mesh.left[mesh.group("outlet").faces]].mean()
        self.assertAlmostEqual(leaving, 2.077, delta=0.02)  # area ratio 1.8
        account = found.thrust_account()
        exit_area = np.pi * (0.15 * np.sqrt(1.8)) ** 2
        static = 8e5 / AIR.gas.total_pressure_ratio(2.077)
        thrust = (static * (1.0 + 1.4 * 2.077**2) - 1e5) * exit_area
        self.assertAlmostEqual((account.net_thrust - account.drag) / thrust, 1.0, delta=0.005)


class Pods(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.path = Path(cls.folder.name)
        (cls.path / "pod.toml").write_text(POD, encoding="utf-8")
        (cls.path / "study.toml").write_text(STUDY, encoding="utf-8")
        cls.made = CliRunner().invoke(
            main, ["run", str(cls.path / "study.toml"), "--out", str(cls.path / "out"), "--no-figures"]
        )

    def test_the_study_computes_the_pod_under_power(self):
        self.assertEqual(self.made.exit_code, 0, self.made.output)
        results = zy.open_results(self.path / "out")
        found = results.solution(alpha=2.0)
        account = found.thrust_account()
        exhaust, intake = account.faces
        self.assertAlmostEqual(intake.mass_flow / 60.0, 1.0, places=6)
        self.assertAlmostEqual(exhaust.area, np.pi * 0.35**2, delta=0.02)
        self.assertAlmostEqual(account.ram_drag / (60.0 * AIR.speed), 1.0, places=6)
        # by the definition of the account: all forces along the wind together
        faces = [found.mesh.group(name).faces for name in ("pod", "pod/front", "pod/base")]
        ni = found.mesh.n_interior
        force = (
            sum(
                (found.flow.traction[f.start - ni : f.stop - ni] * found.stress_unit)
                * np.linalg.norm(found.mesh.face_area[f], axis=1)[:, None]
                for f in [faces[0]]
            ).sum(axis=0)
            * 2.0
        )
        self.assertAlmostEqual(force @ found.air.axes[0] / account.wall_drag, 1.0, places=6)
        whole = account.wall_drag + sum(face.force for face in account.faces)
        self.assertAlmostEqual(whole, account.drag - account.net_thrust, places=6)
        self.assertIn("additive drag", str(account))
        with self.assertRaisesRegex(InputError, "exhausts, intakes or propellers"):
            found.far_field_drag()

    def test_the_polar_and_the_notes_tell_the_thrust(self):
        table = zy.open_results(self.path / "out").table()
        self.assertTrue((table["net_thrust"] > 5e3).all())
        self.assertIn("an intake of", " ".join(zy.open_results(self.path / "out").solution(alpha=2.0).notes))

    def test_a_stored_solution_belongs_to_its_engine_setting(self):
        file = self.path / "point.npz"
        found = zy.open_results(self.path / "out").solution(alpha=2.0)
        found.save(file)
        again = zy.load_solution(file)
        self.assertEqual(again.thrust_account().net_thrust, found.thrust_account().net_thrust)
        plain = found.mesh.with_roles(**{"pod/front": "wall", "pod/base": "wall"})
        self.assertEqual(zy.load_solution(file, plain).case.fingerprint, found.case.fingerprint)
        with self.assertRaises(FileError):
            zy.load_solution(file, duct())

    def test_mistakes_in_the_study_are_named(self):
        for old, new, words in (
            (
                'mass_flow = "60 kg/s"',
                "pressure_ratio = 2",
                "powered.pod/front.pressure_ratio: an intake has no such key",
            ),
            ('"60 kg/s"', '"60 kg"', "kg/s"),
            ("pod/front", "pod/nose", "no label 'pod/nose'; it has: pod/base, pod/front, pod/side"),
            ('"60 kg/s"', "6000", "fits through"),
        ):
            file = self.path / "wrong.toml"
            file.write_text(STUDY.replace(old, new), encoding="utf-8")
            made = CliRunner().invoke(main, ["run", str(file), "--out", str(self.path / "wrong")])
            self.assertNotEqual(made.exit_code, 0)
            self.assertIn(words, " ".join(made.output.split()))


class Refusals(unittest.TestCase):
    def test_what_an_exhaust_cannot_be(self):
        for given, words in (
            ({}, "needs total_pressure"),
            ({"total_pressure": 2e5, "pressure_ratio": 2.0}, "give one of them"),
            ({"total_pressure": 2e5, "mach": 0.5}, "a subsonic Mach number follows"),
            ({"total_pressure": 2e5, "static_pressure": 1e5}, "belongs to a Mach number"),
            ({"pressure_ratio": 0.5}, "out of range"),
            ({"pressure_ratio": 2.0, "direction": (0.0, 0.0, 0.0)}, "no length"),
        ):
            with self.assertRaisesRegex(InputError, words):
                zy.Exhaust(**given)

    def test_total_static_and_mach_must_agree(self):
        mesh = duct()
        powered = {"inlet": zy.Exhaust(total_pressure=2e5, static_pressure=1e5, mach=2.0), "outlet": zy.Intake(1.0)}
        with self.assertRaisesRegex(InputError, "total pressure of 782445"):
            zy.Case(mesh, AIR, powered=powered)
        agreed = zy.Exhaust(total_pressure=1.8929e5, static_pressure=1e5, mach=1.0)
        self.assertAlmostEqual(agreed.total(AIR), 1.8929e5, delta=10.0)

    def test_what_an_intake_cannot_be(self):
        for given, words in (
            ({}, "needs one of"),
            ({"mass_flow": 1.0, "face_mach": 0.3}, "needs one of"),
            ({"face_mach": 1.2}, "below 1"),
            ({"mass_flow": -1.0}, "out of range"),
        ):
            with self.assertRaisesRegex(InputError, words):
                zy.Intake(**given)

    def test_a_mesh_without_the_face_is_refused(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8)
        with self.assertRaisesRegex(InputError, "no wall named 'base'; it has: airfoil"):
            zy.Case(mesh, AIR, powered={"base": JET})
        with self.assertRaisesRegex(InputError, "'inlet' of the mesh is an exhaust; say what it does"):
            zy.Case(duct(), AIR)
        with self.assertRaisesRegex(InputError, "no exhaust, no intake"):
            zy.solve(mesh, AIR, numerics=zy.Numerics(residual_drop=2)).thrust_account()
        with self.assertRaisesRegex(InputError, "not computed below Mach"):
            zy.Case(duct(), zy.Freestream(mach=0.01), powered={"inlet": JET, "outlet": zy.Intake(1.0)})

    def test_bases_and_exits_of_bodies_of_revolution(self):
        pointed = zy.Airfoil.naca("0020")
        blunt = zy.Airfoil.naca("0020", "blunt")
        names = [g.name for g in zy.mesh_revolved(blunt, 64, 32, 20.0, base_cells=8, exit_radius=1e-3).groups]
        self.assertEqual(names[:3], ["body", "base", "exit"])
        mesh = zy.mesh_revolved(blunt, 64, 32, 20.0, base_cells=8, exit_radius=1e-3)
        exit_area = zy.Case(mesh, AIR, powered={"exit": JET}).notes[0]
        self.assertIn("3.14", exit_area)
        with self.assertRaisesRegex(InputError, "blunt tails"):
            zy.mesh_revolved(pointed, 64, 32, base_cells=8)
        with self.assertRaisesRegex(InputError, "even number"):
            zy.mesh_revolved(blunt, 64, 32, base_cells=7)
