"""Whole flows on small meshes: physics that must come out whatever the mesh and the settings."""

import unittest

import numpy as np

import zephyrum as zy
from validation.potential import MappedAirfoil

FAST = zy.Numerics(residual_drop=6)


def solved(foil, mach, alpha, around=96, outward=32, topology="O", numerics=FAST, **more):
    mesh = zy.mesh_airfoil(foil, around, outward, topology=topology, **more)
    return zy.solve(mesh, zy.Freestream(mach=mach, alpha=alpha), numerics=numerics)


class Subsonic(unittest.TestCase):
    def test_conformal_airfoil(self):
        shape = MappedAirfoil(0.1, 0.05, 12.0)
        foil = zy.Airfoil(shape.surface(801)[1], "Karman-Trefftz")
        solution = solved(foil, 0.05, 3.0, 128, 32)
        self.assertEqual(solution.outcome, "converged")
        self.assertAlmostEqual(solution.forces.CL / shape.flow(3.0, 8001)[2], 1.0, delta=5e-3)
        self.assertLess(abs(solution.forces.CD), 5e-4)

    def test_exact_solutions_are_consistent_with_each_other(self):
        for shape in (MappedAirfoil(0.1, 0.0, 0.0), MappedAirfoil(0.08, 0.06, 15.0)):
            points, cp, lift = shape.flow(4.0, 40001)
            loop = 0.5 * (cp[1:] + cp[:-1])
            normal = float(np.sum(loop * np.diff(points[:, 0])))
            axial = -float(np.sum(loop * np.diff(points[:, 1])))
            a = np.radians(4.0)
            self.assertAlmostEqual(normal * np.cos(a) - axial * np.sin(a), lift, delta=2e-3)
            self.assertAlmostEqual(normal * np.sin(a) + axial * np.cos(a), 0.0, delta=2e-3)

    def test_accuracy_does_not_degrade_as_mach_falls(self):
        foil = zy.Airfoil.naca("0012")
        lift = {mach: solved(foil, mach, 2.0).forces for mach in (0.02, 0.1)}
        self.assertAlmostEqual(lift[0.02].CL / lift[0.1].CL, np.sqrt(1 - 0.1**2), delta=4e-3)
        self.assertLess(abs(lift[0.02].CD), 5e-4)

    def test_lift_grows_with_mach_as_theory_says(self):
        foil = zy.Airfoil.naca("0006")
        slow, fast = solved(foil, 0.1, 1.0).forces.CL, solved(foil, 0.6, 1.0).forces.CL
        self.assertAlmostEqual(fast / slow, np.sqrt((1 - 0.01) / (1 - 0.36)), delta=0.03)

    def test_c_and_o_meshes_agree(self):
        foil = zy.Airfoil.naca("2412")
        a, b = (solved(foil, 0.3, 3.0, 128, 32, topology).forces for topology in "CO")
        self.assertAlmostEqual(a.CL / b.CL, 1.0, delta=0.01)
        self.assertAlmostEqual(a.CM, b.CM, delta=2e-3)

    def test_schemes_agree_on_a_smooth_flow(self):
        foil = zy.Airfoil.naca("0012")
        reference = solved(foil, 0.3, 2.0).forces.CL
        for numerics in (
            zy.Numerics(residual_drop=6, reconstruction=zy.Reconstruction(gradient="least-squares")),
            zy.Numerics(residual_drop=6, reconstruction=zy.Reconstruction(kappa=0.0)),
            zy.Numerics(residual_drop=6, limiter=zy.Limiter("on")),
            zy.Numerics(residual_drop=6, limiter=zy.Limiter("off")),
        ):
            with self.subTest(numerics):
                solution = solved(foil, 0.3, 2.0, numerics=numerics)
                self.assertEqual(solution.outcome, "converged")
                self.assertAlmostEqual(solution.forces.CL / reference, 1.0, delta=0.02)

    def test_first_order_settles_and_pays_with_drag(self):
        foil = zy.Airfoil.naca("0012")
        rough = solved(foil, 0.3, 2.0, numerics=zy.Numerics(residual_drop=6, reconstruction=zy.Reconstruction(order=1)))
        self.assertEqual(rough.outcome, "converged")
        self.assertGreater(rough.forces.CD, 10 * abs(solved(foil, 0.3, 2.0).forces.CD))
        self.assertTrue(any("too coarse" in sentence for sentence in rough.checks()))

    def test_high_alpha_from_a_cold_start(self):
        solution = solved(zy.Airfoil.naca("0012"), 0.2, 14.0, 128, 32)
        self.assertEqual(solution.outcome, "converged")
        self.assertAlmostEqual(solution.forces.CL, 1.71, delta=0.04)

    def test_blunt_and_flapped_sections_settle(self):
        for foil in (zy.Airfoil.naca("2412").blunted(0.01), zy.Airfoil.naca("0012").with_flap(0.75, 10.0)):
            for topology in "CO":
                with self.subTest(foil.notes, topology=topology):
                    solution = solved(foil, 0.3, 1.0, 128, 32, topology)
                    self.assertEqual(solution.outcome, "converged")
                    self.assertGreater(solution.forces.CL, 0.2)

    def test_blunt_tail_has_a_base_in_its_pressures(self):
        table = solved(zy.Airfoil.naca("0012").blunted(0.01), 0.3, 0.0, 128, 32, "C").cp()
        self.assertEqual(set(table["side"]), {"upper", "lower", "base"})
        base = table[table["side"] == "base"]
        self.assertGreater(base["x/c"].min(), 0.97)


class Transonic(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.solution = solved(zy.Airfoil.naca("0012"), 0.8, 1.25, 128, 32, numerics=zy.Numerics())

    def test_forces_near_the_published_band(self):
        self.assertEqual(self.solution.outcome, "converged")
        self.assertAlmostEqual(self.solution.forces.CL, 0.352, delta=0.02)
        self.assertAlmostEqual(self.solution.forces.CD, 0.0228, delta=0.0015)

    def test_shock_stands_where_it_should_and_does_not_ring(self):
        table = self.solution.cp()
        upper = table[table["side"] == "upper"].sort_values("x/c")
        x, cp = upper["x/c"].to_numpy(), upper["Cp"].to_numpy()
        inside = (x > 0.2) & (x < 0.9)
        jump = int(np.argmax(np.diff(cp[inside])))
        self.assertAlmostEqual(x[inside][jump], 0.62, delta=0.05)
        behind = cp[(x > x[inside][jump] + 0.1) & (x < 0.95)]
        self.assertTrue((np.diff(behind) > -0.02).all())
        self.assertGreater(self.solution.row()["mach_max"], 1.2)
        self.assertLess(self.solution.row()["mach_max"], 1.5)

    def test_total_temperature_is_kept(self):
        fields, air = self.solution.fields(), self.solution.air
        total = fields["temperature"] * (1.0 + 0.2 * fields["mach"] ** 2)
        error = np.abs(total / air.total_temperature - 1.0)
        self.assertLess(float(np.percentile(error, 99)), 0.01)

    def test_entropy_rises_only_through_the_shock(self):
        fields, air = self.solution.fields(), self.solution.air
        loss = 1.0 - fields["pressure"] * (1.0 + 0.2 * fields["mach"] ** 2) ** 3.5 / air.total_pressure
        ahead = self.solution.mesh.cell_centroid[:, 0] < -0.05
        self.assertLess(float(np.abs(loss[ahead]).max()), 2e-3)
        self.assertGreater(float(loss.max()), 0.005)

    def test_supersonic_wave_drag(self):
        solution = solved(zy.Airfoil.naca("0012"), 1.5, 0.0, 96, 32)
        self.assertEqual(solution.outcome, "converged")
        self.assertAlmostEqual(solution.forces.CL, 0.0, delta=1e-5)
        self.assertAlmostEqual(solution.forces.CD, 0.096, delta=0.006)
        self.assertAlmostEqual(solution.cp()["Cp"].max(), solution.air.cp_stagnation, delta=0.06)
