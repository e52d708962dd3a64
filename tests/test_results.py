"""Solutions: forces, pressures, extremes, outcomes, files."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy


class Section(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 128, 32, topology="O")
        cls.air = zy.Freestream(mach=0.3, alpha=3.0)
        cls.seen = []
        cls.solution = zy.solve(cls.mesh, cls.air, on_step=cls.seen.append)

    def test_converged_and_near_theory(self):
        self.assertEqual(self.solution.outcome, "converged")
        c = self.solution.forces.coefficients()
        slope = c["CL"] / np.radians(3.0) * np.sqrt(1 - 0.09)
        self.assertAlmostEqual(slope / (2 * np.pi), 1.09, delta=0.02)  # thickness adds about 0.77 t
        self.assertLess(abs(c["CD"]), 5e-4)
        self.assertEqual(self.solution.checks(), [])

    def test_history_reports_every_step(self):
        self.assertEqual(len(self.seen), len(self.solution.history.rows))
        self.assertAlmostEqual(self.solution.history.column("CL")[-1], self.solution.forces.CL, delta=1e-10)

    def test_what_holds_arrays_is_shown_by_one_sentence_instead(self):
        made = self.solution
        polar = zy.sweep(self.mesh, alpha=[0.0, 3.0], mach=[0.3], processes=1)
        proof = zy.refine(self.mesh, self.air, levels=3)
        ball = zy.Body.ellipsoid(1.0, 0.5).surface()
        wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        plank = zy.Aircraft(name="plank", parts={"wing": wing})
        for held, words in (
            (made, "CL 0.3"),
            (made.forces, "of airfoil"),
            (made.history, f"{len(self.seen)} steps"),
            (polar, "2 points, M 0.3, alpha 0 to 3 deg: 2 converged"),
            (proof, "on 4,096, 1,024, 256 cells"),
            (zy.Airfoil.naca("2412"), "12 % thick, camber 2 %"),
            (ball, "5,760 triangles, 1 x"),
            (plank, "plank of wing"),
            (zy.remesh(ball, 300), "quality mean"),
            (plank.measures(), "6.12 x 0.1197 m, wetted area"),
            (
                zy.compare(
                    {"a": zy.Airfoil.naca("0009"), "b": zy.Airfoil.naca("0012")}, self.air, around=64, outward=16
                ),
                "a, b: ",
            ),
        ):
            shown = repr(held)
            self.assertIn(words, shown)
            self.assertTrue(shown.startswith(f"<{type(held).__name__}") and shown.endswith(">"), shown)
            self.assertLess(len(shown), 250)
            self.assertNotIn("array(", shown)

    def test_mirrored_attitude_mirrors_the_forces(self):
        other = zy.solve(self.mesh, self.air.turned(alpha=-3.0))
        a, b = self.solution.forces, other.forces
        self.assertAlmostEqual(a.CL, -b.CL, delta=1e-6)
        self.assertAlmostEqual(a.CD, b.CD, delta=1e-6)
        self.assertAlmostEqual(a.CM, -b.CM, delta=1e-6)

    def test_size_does_not_change_coefficients_but_newtons(self):
        big = zy.solve(zy.mesh_airfoil(zy.Airfoil.naca("0012").scaled(2.0), 128, 32, topology="O"), self.air)
        self.assertAlmostEqual(big.forces.CL, self.solution.forces.CL, delta=1e-6)
        self.assertAlmostEqual(big.forces.newtons()[2] / self.solution.forces.newtons()[2], 2.0, delta=1e-5)

    def test_parts_add_up_and_axes_agree(self):
        table = self.solution.forces.table()
        self.assertAlmostEqual(table["CL"].iloc[:-1].sum(), table["CL"].iloc[-1], delta=1e-15)
        c, a = self.solution.forces.coefficients(), np.radians(3.0)
        self.assertAlmostEqual(c["CL"], c["CZ"] * np.cos(a) - c["CX"] * np.sin(a), delta=1e-14)
        self.assertAlmostEqual(c["CD"], c["CX"] * np.cos(a) + c["CZ"] * np.sin(a), delta=1e-14)

    def test_moment_moves_without_a_rerun(self):
        f = self.solution.forces
        moved = f.about((0.0, 0.0, 0.0))
        self.assertAlmostEqual(moved.CM, f.CM - 0.25 * f.coefficients()["CZ"], delta=1e-4)

    def test_cp_integrates_back_to_the_force(self):
        table = self.solution.cp()
        self.assertEqual(set(table["side"]), {"upper", "lower"})
        loop = table[["x", "z", "Cp"]].to_numpy()
        ahead = np.roll(loop, -1, axis=0)
        normal_force = float(np.sum(0.5 * (loop[:, 2] + ahead[:, 2]) * (ahead[:, 0] - loop[:, 0])))
        self.assertAlmostEqual(abs(normal_force), self.solution.forces.coefficients()["CZ"], delta=4e-3)
        self.assertLessEqual(table["Cp"].max(), self.air.cp_stagnation + 0.02)

    def test_extremes_hold_their_bounds_with_places(self):
        self.assertTrue(self.solution.extremes()["holds"].all())

    def test_neighbour_start_gives_the_same_answer(self):
        near = zy.solve(self.mesh, self.air.turned(alpha=5.0), start=self.solution)
        cold = zy.solve(self.mesh, self.air.turned(alpha=5.0))
        self.assertAlmostEqual(near.forces.CL, cold.forces.CL, delta=2e-6)
        self.assertAlmostEqual(near.forces.CD, cold.forces.CD, delta=2e-6)

    def test_saved_solution_comes_back_and_a_stale_one_is_refused(self):
        s = self.solution
        with tempfile.TemporaryDirectory() as folder:
            path = s.save(Path(folder) / "s.npz")
            again = zy.load_solution(path)
            self.assertEqual((again.forces.CL, again.case.fingerprint), (s.forces.CL, s.case.fingerprint))
            with self.assertRaisesRegex(zy.FileError, "stale"):
                zy.load_solution(path, self.mesh.coarser)
            path.write_bytes(path.read_bytes()[:100])
            with self.assertRaisesRegex(zy.FileError, "can't be read"):
                zy.load_solution(path)
            self.assertTrue(s.write(Path(folder) / "s.vtu").stat().st_size > 1000)

    def test_what_can_not_be_solved_is_refused(self):
        mesh, air = self.mesh, self.air
        for call, words in (
            (lambda: zy.solve(mesh, air, "magic"), "model"),
            (lambda: zy.solve(mesh, air.turned(beta=3.0)), "beta"),
            (lambda: zy.solve(mesh.with_roles(airfoil="farfield"), air), "wall"),
            (lambda: zy.solve(mesh, zy.Freestream(mach=0.2), walls=zy.Wall(roughness=1e-4)), "no friction"),
            (lambda: zy.solve(mesh.coarser, air, start=self.solution), "another mesh"),
            (lambda: mesh.with_roles(tail="wall"), "no group"),
        ):
            with self.assertRaisesRegex(zy.InputError, words):
                call()

    def test_an_unfinished_run_is_not_called_converged(self):
        cut = zy.solve(self.mesh, self.air, numerics=zy.Numerics(max_iterations=1))
        self.assertEqual(cut.outcome, "oscillating")
        self.assertIn("oscillating", cut.checks()[0])

    def test_typed_reference_that_disagrees_is_reported(self):
        typed = zy.Reference(2.0, 1.0, 1.0, (0.25, 0, 0))
        s = zy.solve(self.mesh, self.air, reference=typed, numerics=zy.Numerics(residual_drop=1))
        self.assertIn("typed", s.checks()[0])
