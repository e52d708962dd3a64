"""Friction: exact channel flows, wall distance, wall layers, laminar and turbulent airfoils, and what is refused."""

import importlib
import unittest

import numpy as np

import zephyrum as zy
from tests.test_parts import cube
from validation import channels
from zephyrum.flow import FlowProblem
from zephyrum.flow.nonlinear.start_up import initial_state
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence.sa import TYPICAL_RATIO, sa_eddy_viscosity, sa_source
from zephyrum.geometry.surface.nearest_point import distances

UNIT = zy.Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))


class Channels(unittest.TestCase):
    def test_couette_flow_is_linear(self):
        mesh, flow, u = channels.couette(10)
        self.assertEqual(flow.outcome, "converged")
        np.testing.assert_allclose(u, mesh.cell_centroid[:, 2], atol=2e-3)

    def test_poiseuille_flow_is_a_parabola_to_second_order(self):
        errors = []
        for n in (8, 16):
            error, outcome = channels.poiseuille(n)
            self.assertEqual(outcome, "converged")
            errors.append(error)
        self.assertLess(errors[1], 5e-3)
        self.assertGreater(np.log2(errors[0] / errors[1]), 1.6)

    def test_friction_of_a_channel_is_that_of_the_law(self):
        mesh, flow, _ = channels.couette(12)
        low = mesh.faces_of("wall") - mesh.n_interior
        shear = flow.traction[low, 0]  # mu U / height in scaled units: mach * (mach / reynolds)
        np.testing.assert_allclose(shear, 0.02 * 0.02 / 20.0, rtol=5e-3)


class WallDistance(unittest.TestCase):
    def test_in_two_dimensions_it_is_that_of_the_nearest_point_of_the_section(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("4412"), 64, 16, topology="C")
        wall = mesh.faces_of("wall")
        ends = mesh.points[mesh.face_points.reshape(-1, 4)[wall][:, [0, 3]]][:, :, [0, 2]]
        fraction = np.linspace(0.0, 1.0, 401)[:, None, None]
        cloud = (ends[:, 0] * (1.0 - fraction) + ends[:, 1] * fraction).reshape(-1, 2)
        for c in range(0, mesh.n_cells, 97):
            brute = np.linalg.norm(cloud - mesh.cell_centroid[c, [0, 2]], axis=1).min()
            self.assertAlmostEqual(mesh.wall_distance[c], brute, delta=1e-3 * brute + 1e-9)

    def test_in_three_dimensions_it_is_exact_for_triangles_of_any_size(self):
        rng = np.random.default_rng(2)
        corners, points = rng.random((60, 3)), 2.0 * rng.random((50, 3)) - 0.5
        corners[30:] *= 0.02  # one part of the faces is tiny
        found = distances(points, corners, np.arange(60).reshape(20, 3))
        s, t = (a.ravel() for a in np.meshgrid(np.linspace(0, 1, 200), np.linspace(0, 1, 200)))
        s, t = s[s + t <= 1.0], t[s + t <= 1.0]
        cloud = np.concatenate(
            [np.outer(1 - s - t, a) + np.outer(s, b) + np.outer(t, c) for a, b, c in corners.reshape(20, 3, 3)]
        )
        brute = np.array([np.linalg.norm(cloud - p, axis=1).min() for p in points])
        self.assertTrue((found <= brute + 1e-12).all())
        np.testing.assert_allclose(found, brute, atol=6e-3)

    def test_without_walls_it_is_infinite(self):
        self.assertTrue(np.isinf(cube(2).wall_distance).all())


class Layers(unittest.TestCase):
    def test_they_follow_from_y_plus_and_reynolds_number(self):
        thin, thick = zy.wall_layers(6e6), zy.wall_layers(6e6, y_plus=2.0)
        self.assertAlmostEqual(2.0 * thin.first_height, thick.first_height, delta=1e-12)
        self.assertGreater(thin.count, thick.count - 1)
        self.assertIn("y+ 1", thin.describe())
        for bad in ({"reynolds": -1}, {"reynolds": 1e6, "y_plus": 0}, {"reynolds": 1e6, "growth": 1.0}):
            with self.subTest(bad), self.assertRaises(zy.InputError):
                zy.wall_layers(**bad)

    def test_a_turbulence_model_refuses_a_mesh_without_them(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")
        with self.assertRaisesRegex(zy.InputError, "first_height"):
            zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=1e6), model="sa")
        with self.assertRaisesRegex(zy.InputError, "model"):
            zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=1e6), model="none")


class Turbulence(unittest.TestCase):
    def test_eddy_viscosity_fades_in_and_is_never_negative(self):
        self.assertEqual(sa_eddy_viscosity(-3.0, 1.0, 0.0), 0.0)
        self.assertLess(sa_eddy_viscosity(1.0, 1.0, 0.0), 0.01)
        self.assertAlmostEqual(sa_eddy_viscosity(1000.0, 1.0, 0.0), 1000.0, delta=1.0)

    def test_log_layer_is_in_equilibrium(self):
        # in the log layer nu~ = kappa u_tau y, vorticity = u_tau / (kappa y): production and diffusion
        # balance destruction
        kappa, nu, friction, y = 0.41, 1e-8, 0.04, 0.01
        x = kappa * friction * y / nu
        slope = kappa * friction / nu
        source = sa_source(1.0, nu, x, (y, 0.0, 1.0), friction / (kappa * y), slope * slope, 0.0, nu)
        diffusion = nu * slope * slope / (2.0 / 3.0)  # d/dy((nu~ / sigma) dx/dy)
        self.assertLess(abs(source + diffusion), 0.02 * diffusion)

    def test_source_is_continuous_through_zero(self):
        args = (1e-6, (0.01, 0.0, 1.0), 3.0, 125.0, 2.0, 1e-6)
        below, above = (sa_source(1.0, args[0], x, *args[1:]) for x in (-1e-6, 1e-6))
        self.assertAlmostEqual(below, above, delta=1e-4)


class Linearised(unittest.TestCase):
    def test_product_is_the_derivative_with_friction_and_turbulence(self):
        levels = importlib.import_module("zephyrum.flow.nonlinear.discrete_problem")
        numerics = zy.Numerics(vortex=False, reconstruction=zy.Reconstruction(turbulence_order=2))
        for model, topology in (("laminar", "O"), ("sa", "C"), ("sst", "C")):
            mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 32, topology=topology, farfield=20, first_height=1e-5)
            air = zy.Freestream(mach=0.15, reynolds=6e6, alpha=3)
            level = levels.DiscreteProblem(FlowProblem(mesh, air, mesh.reference, numerics, model))
            q = initial_state(mesh, level.law, level.scales.freestream, 1.0, True)
            rng = np.random.default_rng(0)
            fade = np.minimum(1.0, mesh.wall_distance / 1e-2)[:, None]
            q[:, [0, 1, 3, 4]] += 1e-3 * rng.random((len(q), 4)) * fade
            q[::7, 5:6] *= -0.3
            level.linearise(level.evaluate(q))
            axes = level.domain.axes
            level.jacobian.row_scale[:] = 1.0
            v = rng.standard_normal((len(q), len(axes))).astype(np.float32)
            v[:, axes > 4] *= TYPICAL_RATIO if model == "sa" else 1.0
            out, step = np.empty_like(v), np.zeros_like(q)
            level.jacobian.product(v, out)
            step[:, axes] = 1e-6 * v
            exact = ((level.evaluate(q + step).R - level.evaluate(q - step).R) / 2e-6)[:, axes]
            for k in range(len(axes)):
                gap = np.linalg.norm(out[:, k] - exact[:, k]) / np.linalg.norm(exact[:, k])
                self.assertLess(gap, 5e-3, (model, k))


class Airfoils(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.foil = zy.Airfoil.naca("0012")
        thick = zy.mesh_airfoil(cls.foil, 96, 48, topology="C", farfield=30, first_height=2e-3)
        cls.laminar = zy.solve(thick, zy.Freestream(mach=0.5, reynolds=5000), model="laminar")
        cls.thin = zy.mesh_airfoil(cls.foil, 96, 56, topology="C", farfield=20, first_height=5e-6)
        cls.turbulent = zy.solve(cls.thin, zy.Freestream(mach=0.15, reynolds=6e6, alpha=4), model="sa")

    def test_laminar_drag_and_separation_are_in_the_published_range(self):
        s = self.laminar
        self.assertEqual(s.outcome, "converged")
        self.assertTrue(0.053 < s.forces.CD < 0.058, s.forces.CD)
        table = s.forces.table().set_index("cause")
        self.assertAlmostEqual(table.loc["pressure", "CD"] + table.loc["friction", "CD"], s.forces.CD, delta=1e-12)
        found = s.turning_points()
        positions = found[found["kind"] == "separation"]["x/c"]
        self.assertTrue(((positions > 0.78) & (positions < 0.85)).all() and len(positions) == 2, found)

    def test_turbulent_airfoil_settles_from_a_cold_start_near_the_fine_value(self):
        s = self.turbulent
        self.assertEqual(s.outcome, "converged")
        self.assertTrue(0.42 < s.forces.CL < 0.46, s.forces.CL)
        self.assertTrue(0.0083 < s.forces.CD < 0.0100, s.forces.CD)
        surface = s.surface()
        self.assertTrue((surface["y+"] < 4.0).all() and surface["y+"].median() > 0.3)
        self.assertTrue((s.flow.q[:, 5] > -1.0).all())
        self.assertGreater(s.fields()["eddy viscosity ratio"].max(), 50.0)
        self.assertEqual(s.checks(), [])

    def test_long_thin_cells_of_a_wake_are_stable_at_low_mach(self):
        # sheared cells a hundred times as long as high: gradients with weights found along the centroids blew up here
        layers = zy.wall_layers(1e6, 1.0, 1.35, 30.0)
        mesh = zy.mesh_airfoil(
            zy.Airfoil.naca("0006"), 64, layers.count, farfield=30.0, first_height=layers.first_height
        )
        air = zy.Freestream(mach=0.05, reynolds=1e6)
        s = zy.solve(mesh, air, "sa", numerics=zy.Numerics(residual_drop=6.0, max_iterations=60))
        self.assertEqual((s.outcome, s.notes), ("converged", ()))
        self.assertAlmostEqual(s.forces.CD, 0.0094, delta=2e-4)
        self.assertAlmostEqual(s.forces.CL, 0.0, delta=1e-4)

    def test_row_of_a_polar_reports_friction_and_the_reynolds_number_computed_with(self):
        row = self.turbulent.row()
        self.assertAlmostEqual(row["reynolds"], 6e6, delta=1.0)
        self.assertAlmostEqual(row["CD_pressure"] + row["CD_friction"], row["CD"], delta=1e-12)

    def test_mesh_of_another_size_gives_the_same_coefficients(self):
        big = zy.mesh_airfoil(self.foil.scaled(2.5), 96, 48, topology="C", farfield=30, first_height=2e-3)
        s = zy.solve(big, zy.Freestream(mach=0.5, reynolds=5000), model="laminar")
        self.assertAlmostEqual(s.forces.CD, self.laminar.forces.CD, delta=1e-6)

    def test_start_of_another_model_is_refused(self):
        with self.assertRaisesRegex(zy.InputError, "model"):
            zy.solve(self.thin, zy.Freestream(mach=0.15, reynolds=6e6), model="laminar", start=self.turbulent)

    def test_air_without_a_reynolds_number_brings_its_own_viscosity(self):
        air = zy.Freestream(mach=0.3)
        law = Scales.law(air, 2.0)
        self.assertAlmostEqual(law.viscosity, air.viscosity / (air.density * air.sound_speed), delta=1e-18)
