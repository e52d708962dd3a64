"""Marching in time: order of accuracy, periodic flow recognised, clear refusals."""

import itertools
import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from validation.grids import box
from zephyrum.conditions import Reference
from zephyrum.flow import FlowProblem, Numerics, TimeSteps, integrate_in_time


class Time(unittest.TestCase):
    def test_a_decaying_vortex_is_followed_to_second_order_in_time(self):
        # steps of one length against half of it and a quarter: differences of the state fall by four
        mesh = box(16, role="slip")
        air = zy.Freestream(mach=0.2, reynolds=50.0)
        reference = Reference(1.0, 1.0, 1.0, (0.5, 0.0, 0.5))
        x, z = mesh.cell_centroid[:, 0], mesh.cell_centroid[:, 2]
        start = np.zeros((mesh.n_cells, 5))
        start[:, 4] = 1.0
        start[:, 1] = 0.2 * np.sin(np.pi * x) * np.cos(np.pi * z)
        start[:, 3] = -0.2 * np.cos(np.pi * x) * np.sin(np.pi * z)
        start[:, 0] = 0.01 * (np.cos(2 * np.pi * x) + np.cos(2 * np.pi * z))
        made = [
            integrate_in_time(
                FlowProblem(mesh, air, reference, Numerics(vortex=False), "laminar"), TimeSteps(0.5 / n, n, 6.0), start
            ).flow.q
            for n in (64, 128, 256)
        ]
        first, second = (np.abs(b - a)[:, [1, 3]].mean() for a, b in itertools.pairwise(made))
        self.assertGreater(np.log2(first / second), 1.8)
        self.assertLess(np.log2(first / second), 2.2)

    def test_a_flow_at_rest_in_time_is_called_so(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 48, 32, 40.0, 2e-2)
        air, numerics = zy.Freestream(mach=0.1, reynolds=20.0), zy.Numerics(vortex=False)
        steady = zy.solve(mesh, air, "laminar", numerics=numerics)
        seen = []
        s = zy.solve_unsteady(mesh, air, "laminar", 2.0, 0.2, steady, seen.append, numerics=numerics)
        self.assertEqual((s.last.outcome, len(seen), len(s.time)), ("converged", 10, 11))
        self.assertAlmostEqual(s.summary()["CD"][0], steady.forces.CD, places=5)
        self.assertTrue(np.isnan(s.strouhal))
        self.assertAlmostEqual(s.time[-1], 2.0 / air.speed, places=9)
        self.assertIn("travelled [chords]", s.table())

    def test_a_march_broken_off_goes_on_as_if_nothing_had_happened(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 24, 16, 10.0, 5e-2)
        air, numerics = zy.Freestream(mach=0.1, reynolds=20.0), zy.Numerics(vortex=False)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "march.npz"
            whole = zy.solve_unsteady(mesh, air, "laminar", 1.0, 0.1, numerics=numerics)
            zy.solve_unsteady(mesh, air, "laminar", 0.5, 0.1, numerics=numerics, keep=path)
            seen = []
            parts = zy.solve_unsteady(mesh, air, "laminar", 1.0, 0.1, numerics=numerics, keep=path, on_step=seen.append)
            self.assertEqual(len(seen), 5)
            np.testing.assert_array_equal(parts.CD, whole.CD)
            with self.assertRaisesRegex(zy.FileError, "another one"):
                zy.solve_unsteady(mesh, air.turned(alpha=3.0), "laminar", 1.0, 0.1, numerics=numerics, keep=path)
            path.write_bytes(b"damaged")
            with self.assertRaisesRegex(zy.FileError, "remove it"):
                zy.solve_unsteady(mesh, air, "laminar", 1.0, 0.1, numerics=numerics, keep=path)

    def test_a_known_signal_is_read_back(self):
        x = np.linspace(0.0, 40.0, 801)
        amplitude = 0.3 * np.sin(2 * np.pi * 0.165 * x)
        s = zy.TimeSeries(x, x, amplitude, 1.3 + 0.01 * np.cos(4 * np.pi * 0.165 * x), 0.0 * x, None)
        self.assertAlmostEqual(s.strouhal, 0.165, places=4)
        self.assertTrue(s.periodic)
        self.assertAlmostEqual(s.summary()["CD"][0], 1.3, places=4)
        self.assertAlmostEqual(s.summary()["CL"][1], 0.3, places=3)

    def test_bad_durations_are_refused(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 16, 8, 10.0, 5e-2)
        for duration, step in ((0.0, 0.1), (1.0, 2.0), (1.0, -1.0)):
            with self.subTest(step), self.assertRaises(zy.InputError):
                zy.solve_unsteady(mesh, zy.Freestream(mach=0.1, reynolds=20.0), "laminar", duration, step)
