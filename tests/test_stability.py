"""Stability of steady solutions: eigenvalues against a dense solution, growth in time, study table, refusals."""

import functools
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import scipy.linalg

import zephyrum as zy
from zephyrum.errors import InputError
from zephyrum.flow.discretization.jacobian import pseudo_time_blocks
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.plotting import draw_mode

STUDY = """title = "wake of a strut at an invented Reynolds number"
[section]
naca = "0030"
[air]
reynolds = 300
[mesh]
topology = "C"
around = 32
first_height = 0.03
farfield = 10
[solver]
model = "laminar"
[stability]
mach = 0.2
alpha = 10
strouhal = [0.3]
"""


@functools.cache
def circle(reynolds: float, around: int = 32, outward: int = 20) -> zy.Solution:
    """Steady flow past a circle."""
    mesh = zy.mesh_outline(zy.Outline.circle(1.0), around, outward, first_height=0.6 / outward, farfield=30.0)
    return zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=reynolds), "laminar")


class Eigenvalues(unittest.TestCase):
    def test_modes_are_those_of_the_dense_matrix(self):
        solution = circle(40.0, 16, 10)
        level = DiscreteProblem(solution.case.problem())
        level.linearise(level.evaluate(solution.flow.q))
        jacobian, domain = level.jacobian, level.domain
        n, nb = jacobian.inertia.shape[:2]
        jacobian.set_inertia(np.zeros(n))
        J, unit, out = np.empty((n * nb, n * nb)), np.zeros((n, nb), np.float32), np.empty((n, nb), np.float32)
        for k in range(n * nb):
            unit.flat[k] = 1.0
            jacobian.product(unit, out)
            J[:, k], unit.flat[k] = (out / jacobian.row_scale).ravel(), 0.0
        blocks = np.zeros((n, nb, nb), np.float32)
        pseudo_time_blocks(solution.flow.q, domain.volume, domain.axes, level.scales.gamma, blocks)
        exact = scipy.linalg.eigvals(-J, scipy.linalg.block_diag(*blocks.astype(float)))
        exact = exact / (solution.computed.mach / solution.reference.chord)
        options = zy.EigenvalueOptions(wanted=2, max_vectors=24, accuracy=1e-3, solver_tolerance=1e-5)
        found = zy.linear_stability(solution, (0.12,), options)
        for mode in found.modes:
            value = complex(mode.growth, 2.0 * np.pi * mode.strouhal)
            self.assertLess(np.abs(exact - value).min(), max(10.0 * mode.error, 1e-3))
        leading = exact[np.argmin(np.abs(exact - complex(0.4, 2.0 * np.pi * 0.12)))]
        self.assertAlmostEqual(found.modes[0].growth, leading.real, delta=2e-3)
        self.assertAlmostEqual(2.0 * np.pi * found.modes[0].strouhal, abs(leading.imag), delta=2e-3)

    def test_a_wake_becomes_unstable_with_the_reynolds_number(self):
        few = zy.EigenvalueOptions(max_vectors=6)
        slow, fast = (zy.linear_stability(circle(reynolds), (0.13,), few) for reynolds in (25.0, 100.0))
        self.assertEqual((slow.stable, str(slow.outcome)), (True, "converged"))
        self.assertEqual((fast.stable, str(fast.outcome)), (False, "converged, but unstable"))
        self.assertGreater(fast.modes[0].growth, slow.modes[0].growth)
        self.assertTrue(0.1 < fast.modes[0].strouhal < 0.15, fast.modes[0].strouhal)
        self.assertIn("sheds at Strouhal number 0.1", fast.words)
        self.assertIn("run", fast.outcome.remedy + "run")
        self.assertIn("along the span", fast.excluded)
        frequency = fast.modes[0].strouhal * fast.solution.air.speed / 1.0
        self.assertAlmostEqual(fast.modes[0].frequency, frequency, places=9)

    def test_a_mode_added_to_the_solution_grows_at_its_rate_in_time(self):
        found = zy.linear_stability(circle(100.0), (0.13,))
        mode, start = found.modes[0], found.disturbed(1e-3)
        change = np.linalg.norm(start.flow.q[:, 1:4] - found.solution.flow.q[:, 1:4], axis=1).max()
        self.assertTrue(0.7e-3 < change / found.solution.computed.mach < 1.001e-3, change)
        numerics, chords = found.solution.numerics, 2.0
        series = zy.solve_unsteady(
            start.mesh, start.air, "laminar", chords, 0.1, start, numerics=numerics, reference=start.reference
        )
        grown = series.last.flow.q - found.solution.flow.q
        wave = mode.disturbance * np.exp((mode.growth + 2j * np.pi * mode.strouhal) * chords)
        expected = 1e-3 * start.computed.mach * wave.real
        near = np.linalg.norm(start.mesh.cell_centroid, axis=1) < 8.0
        weight = start.mesh.cell_volume[near, None]
        error = np.sum(weight * (grown - expected)[near, 1:4] ** 2) / np.sum(weight * expected[near, 1:4] ** 2)
        self.assertLess(np.sqrt(error), 0.1)

    def test_a_plate_along_the_stream_has_no_height_and_is_stable(self):
        solution = zy.solve(zy.mesh_plate(32, 16), zy.Freestream(mach=0.2, reynolds=1000.0), "laminar")
        for strouhal in (None, (0.2,)):
            found = zy.linear_stability(solution, strouhal, zy.EigenvalueOptions(max_vectors=4))
            self.assertTrue(found.stable, found.words)
            self.assertTrue(np.isfinite([mode.growth for mode in found.modes]).all())

    def test_what_has_no_stability_is_refused(self):
        solution = circle(25.0)
        going = replace(solution, flow=replace(solution.flow, outcome="oscillating"))
        with self.assertRaisesRegex(InputError, "oscillating: only a converged one"):
            zy.linear_stability(going)
        changed = replace(solution, flow=replace(solution.flow, q=solution.flow.q * 1.01))
        with self.assertRaisesRegex(InputError, "no steady state"):
            zy.linear_stability(changed)
        for bad, words in (((-0.1,), "strouhal = -0.1"), ((), "strouhal is empty"), (("a",), "strouhal")):
            with self.assertRaisesRegex(InputError, words):
                zy.linear_stability(solution, bad)
        found = zy.linear_stability(solution, (0.13,), zy.EigenvalueOptions(max_vectors=3))
        with self.assertRaisesRegex(InputError, "mode = 9"):
            found.disturbed(0.01, 9)
        with self.assertRaisesRegex(InputError, "amplitude = 3"):
            found.disturbed(3.0)
        rough = zy.linear_stability(solution, (0.13,), zy.EigenvalueOptions(max_vectors=2))
        self.assertEqual((rough.missed, rough.modes[0].certain), ((0.13,), False))
        self.assertIn("Strouhal", draw_mode(found).get_title())


class InAStudy(unittest.TestCase):
    def test_the_table_asks_for_it_and_what_is_kept_is_read_again(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "strut.toml"
            file.write_text(STUDY, encoding="utf-8")
            study = zy.run_study(file, Path(folder) / "strut")
            found = study.results["stability"]
            table = study.tables()[0]
            self.assertIn("Strouhal number", " ".join(table.lines))
            again = zy.open_study(study.folder).results["stability"]
            self.assertEqual(again.rows, found.rows)
            self.assertEqual(again.words, found.words)
            np.testing.assert_array_equal(again.modes[0].disturbance, found.modes[0].disturbance)
            self.assertTrue((study.folder / "stability.csv").is_file())
            kept = study.folder / "stability.npz"
            kept.write_bytes(kept.read_bytes()[:100])
            self.assertNotIn("stability", zy.open_study(study.folder).results)
            file.write_text(STUDY.replace("[0.3]", "[-1.0]"), encoding="utf-8")
            with self.assertRaisesRegex(InputError, "-1 is out of range"):
                zy.run_study(file, Path(folder) / "other")
