"""Propeller disks: momentum theory, swirl, blade elements, aircraft files, studies, refusals."""

import tempfile
import unittest
from dataclasses import replace
from importlib import resources
from pathlib import Path

import numpy as np
from click.testing import CliRunner

import zephyrum as zy
from validation.propellers import angular_momentum, disk_in_open_air
from zephyrum.cli.main import main
from zephyrum.errors import InputError
from zephyrum.flow import FlowProblem
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.loworder.propeller.blade_elements import disk_loading
from zephyrum.mesh.planning import propeller_zones
from zephyrum.solver.propellers import momentum_speed

AIR = zy.Freestream(mach=0.1, pressure=1e5, temperature=288.0)
DISK = zy.PropellerDisk(position=(-0.1, 0.0, 0.0), diameter=2.4, thrust=800.0)
BLADES = zy.Blades(count=4, radius=(0.2, 0.4, 0.7, 1.0), chord=(0.18, 0.22, 0.2, 0.12), pitch=(55.0, 42.0, 28.0, 20.0))
POD = """name = "tractor pod"
[parts.pod]
kind = "body"
rings = [ { x = 0.0, width = 0.0 }, { x = 0.4, width = 0.5 }, { x = 2.0, width = 0.6 }, { x = 3.5, width = 0.0 } ]
[propellers.tractor]
position = [-0.1, 0.0, 0.0]
diameter = 2.4
thrust = 0.0
power = "60 kW"
speed = 1500
"""
STUDY = """title = "pod with a tractor propeller"
[aircraft]
file = "pod.toml"
set = { "propellers.tractor.thrust" = 800 }
reference = { area = 1.0, chord = 3.5, span = 2.4, point = [0.0, 0.0, 0.0] }
[air]
pressure = "1000 hPa"
temperature = "288 K"
[mesh]
cells = 20000
farfield = 3
[solver]
residual_drop = 3
[sweep]
mach = 0.1
alpha = 0
"""


class Alone(unittest.TestCase):
    def test_an_ideal_disk_obeys_momentum_theory(self):
        thrust = 0.5 * AIR.dynamic_pressure * np.pi
        disk = zy.PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, hub_diameter=0.0, thrust=thrust)
        mesh, flow, sources = disk_in_open_air(8, disk, AIR)
        self.assertEqual(flow.outcome, "converged", flow.reason)
        unit = AIR.density * AIR.sound_speed**2 * mesh.multiples[0][0]
        self.assertAlmostEqual(float(sources.force[:, 0].sum()) * unit / thrust, 1.0, places=9)
        induced = momentum_speed(thrust, disk.area, AIR.speed, AIR.density)
        power = float(sources.work_on(flow.q).sum()) * unit * AIR.sound_speed
        self.assertAlmostEqual(power / (thrust * (AIR.speed + induced)), 1.0, delta=0.01)
        c = mesh.cell_centroid
        far = (np.abs(c[:, 0] - 5.0) < 0.2) & (c[:, 2] < 0.5)
        speed = float(flow.q[far, 1].mean()) * AIR.sound_speed
        self.assertAlmostEqual(speed / (AIR.speed + 2.0 * induced), 1.0, delta=0.01)

    def test_the_jacobian_knows_the_work_of_an_ideal_disk(self):
        disk = zy.PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=900.0)
        mesh, _, sources = disk_in_open_air(4, disk, AIR)
        problem = DiscreteProblem(FlowProblem(mesh, AIR, mesh.reference, disks=lambda _: sources))
        rng = np.random.default_rng(2)
        q = np.tile(problem.scales.freestream, (mesh.n_cells, 1)) + 0.01 * rng.standard_normal((mesh.n_cells, 5))
        q[:, 2] = 0.0
        axes = problem.domain.axes
        v, change, h = rng.standard_normal((mesh.n_cells, len(axes))), np.zeros_like(q), 1e-6
        change[:, axes] = v
        expected = (problem.evaluate(q + h * change).R - problem.evaluate(q - h * change).R)[:, axes] / (2.0 * h)
        problem.linearise(problem.evaluate(q))
        problem.jacobian.row_scale[:] = 1.0
        problem.jacobian.set_inertia(np.zeros(mesh.n_cells))
        product = np.empty((mesh.n_cells, len(axes)), dtype=np.float32)
        problem.jacobian.product(v.astype(np.float32), product)
        inside = np.unique(sources.cells)
        error = np.linalg.norm((product - expected)[inside]) / np.linalg.norm(expected[inside])
        self.assertLess(error, 1e-3)


class BladeElements(unittest.TestCase):
    def test_forces_are_those_of_their_momentum(self):
        disk = zy.PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.4, speed=1700.0, blades=BLADES)
        slow, fast = (disk_loading(disk, airspeed, 1.1) for airspeed in (40.0, 70.0))
        self.assertGreater(slow.thrust, fast.thrust)
        for loading, airspeed in ((slow, 40.0), (fast, 70.0)):
            ideal = airspeed + momentum_speed(loading.thrust, disk.area, airspeed, 1.1)
            efficiency = loading.thrust * airspeed / loading.power
            self.assertLess(efficiency, airspeed / ideal)  # that of the ideal disk
            self.assertGreater(efficiency, 0.5 * airspeed / ideal)
        perfect = replace(disk, blades=replace(BLADES, drag=0.0, drag_of_lift=0.0))
        without_drag = disk_loading(perfect, 70.0, 1.1)
        self.assertGreater(without_drag.thrust * 70.0 / without_drag.power, fast.thrust * 70.0 / fast.power)

    def test_what_blades_cannot_be(self):
        with self.assertRaisesRegex(InputError, "give as many of each"):
            zy.Blades(count=2, radius=(0.2, 1.0), chord=(0.1,), pitch=(30.0, 20.0))
        with self.assertRaisesRegex(InputError, "must increase"):
            zy.Blades(count=2, radius=(1.0, 0.2), chord=(0.1, 0.1), pitch=(30.0, 20.0))
        with self.assertRaisesRegex(InputError, "need a stream towards the disk"):
            disk_loading(zy.PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.4, speed=10.0, blades=BLADES), 0.0, 1.1)


class Pods(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.path = Path(folder.name)
        (cls.path / "pod.toml").write_text(POD, encoding="utf-8")
        (cls.path / "study.toml").write_text(STUDY, encoding="utf-8")
        words = ["run", str(cls.path / "study.toml"), "--out", str(cls.path / "out"), "--no-figures"]
        cls.made = CliRunner().invoke(main, words)
        cls.found = zy.open_results(cls.path / "out").solution(alpha=0.0)

    def test_the_study_runs_with_the_propeller_of_the_aircraft_file(self):
        self.assertEqual(self.made.exit_code, 0, self.made.output)
        self.assertIn("propeller disks at", self.made.output)
        self.assertFalse(self.found.mesh.mirrored)  # its swirl has no mirror image
        account = self.found.thrust_account()
        disk = account.disks[0]
        self.assertAlmostEqual(disk.thrust / 800.0, 1.0, places=6)
        self.assertAlmostEqual(disk.power / 6e4, 1.0, places=6)
        self.assertAlmostEqual(disk.torque / (6e4 / (1500.0 * np.pi / 30.0)), 1.0, places=6)
        self.assertAlmostEqual(account.drag - account.net_thrust, account.wall_drag - 800.0, places=2)
        self.assertGreater(disk.through, self.found.air.speed)
        with self.assertRaisesRegex(InputError, "propellers is not known"):
            self.found.far_field_drag()

    def test_the_slipstream_turns_clockwise_seen_from_behind(self):
        flux = angular_momentum(self.found, 1.0)
        self.assertAlmostEqual(flux / self.found.thrust_account().disks[0].torque, 1.0, delta=0.1)

    def test_a_stored_solution_keeps_its_propellers(self):
        file = self.found.save(self.path / "point.npz")
        again = zy.load_solution(file)
        self.assertEqual(again.case.fingerprint, self.found.case.fingerprint)
        self.assertEqual(again.case.propellers, self.found.case.propellers)
        self.assertIn("propeller disk of 2.4 m", " ".join(again.notes))

    def test_a_mesh_that_is_too_coarse_is_refused(self):
        small = zy.PropellerDisk(position=(-0.1, 0.0, 0.0), diameter=0.2, thrust=10.0)
        with self.assertRaisesRegex(InputError, "too coarse for 'small'"):
            zy.Case(self.found.mesh, AIR, propellers={"small": small})

    def test_mistakes_are_named_with_their_line(self):
        for old, new, words in (
            ('power = "60 kW"', 'power = "60 kg"', "power"),
            ("thrust = 0.0\n", "", "needs thrust"),
            ("diameter", "diametre", "unknown"),
            ('power = "60 kW"\n', "", "no effect without power or blades"),
        ):
            (self.path / "wrong.toml").write_text(POD.replace(old, new), encoding="utf-8")
            with self.assertRaises(InputError) as caught:
                zy.Aircraft.read(self.path / "wrong.toml")
            self.assertIn(words, str(caught.exception))
            self.assertIn("wrong.toml", str(caught.exception))


class Aircraft(unittest.TestCase):
    def test_the_skerry_turns_its_propellers_on_by_a_number(self):
        with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
            off = zy.Aircraft.read(file)
        self.assertEqual(propeller_zones(off), ())
        on = off.changed({"propellers.propeller.thrust": 4000.0})
        self.assertEqual(len(propeller_zones(on)), 4)  # disk and slipstream on both sides
        with tempfile.TemporaryDirectory() as folder:
            again = zy.Aircraft.read(on.write(Path(folder) / "on.toml"))
        self.assertEqual(again.propellers, on.propellers)

    def test_half_models_need_mirror_images(self):
        body = zy.Body.capsule(3.0, 0.5)
        pair = replace(DISK, position=(-0.1, 2.0, 0.0), mirrored=True)
        turning = replace(pair, power=6e4, speed=1500.0)
        mesh = zy.mesh_aircraft(
            zy.Aircraft(name="pod", parts={"pod": body}, propellers={"pair": pair}),
            cells=8000,
            farfield=3.0,
            reference=zy.Reference(1.0, 3.0, 1.0, (0.0, 0.0, 0.0)),
        )
        self.assertTrue(mesh.mirrored)
        for disk, fits in ((pair, True), (turning, False), (replace(turning, counter_rotating=True), True)):
            if fits:
                self.assertEqual(len(zy.Case(mesh, AIR, propellers={"pair": disk}).propellers), 2)
                continue
            with self.assertRaisesRegex(InputError, "no mirror image"):
                zy.Case(mesh, AIR, propellers={"pair": disk})

    def test_loadings_along_the_radius(self):
        for loading in ("uniform", "peaked", ((0.2, 0.0), (0.7, 1.0), (1.0, 0.0))):
            made = disk_loading(replace(DISK, loading=loading), 50.0, 1.2)
            edges = np.linspace(0.2, 1.0, len(made.fraction) + 1)
            rings = np.pi * DISK.radius**2 * np.diff(edges**2)
            self.assertAlmostEqual(float(made.axial @ rings), 800.0, places=6)
        for given, words in (
            ({"thrust": None}, "needs thrust"),
            ({"loading": ((0.5, 1.0), (0.2, 1.0))}, "rising"),
            ({"loading": ((0.2, 0.0), (1.0, 0.0))}, "0 everywhere"),
            ({"blades": BLADES, "thrust": None}, "need its speed"),
            ({"blades": BLADES, "speed": 1500.0}, "leave it out"),
        ):
            with self.assertRaisesRegex(InputError, words):
                replace(DISK, **given)
        with self.assertRaisesRegex(InputError, "a section has no propeller disk"):
            zy.Case(zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8), AIR, propellers={"disk": DISK})
