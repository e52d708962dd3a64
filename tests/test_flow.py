"""The solver's parts against their formulas, and the whole against exact flows."""

import unittest

import numpy as np

import zephyrum as zy
from tests.test_parts import cube
from validation import manufactured
from validation.cases import freestream_preserved, oblique_shock
from validation.grids import box, of_grid
from zephyrum.flow import FlowProblem, solve_steady
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.limiter import van_albada
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.linear.block_ilu import Preconditioner
from zephyrum.flow.linear.gmres import gmres
from zephyrum.flow.linear.ordering import elimination_order
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.level_iteration import LevelIteration
from zephyrum.flow.physics.boundary_conditions import exterior_states
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.flow.physics.inviscid_flux import euler_flux, roe_flux


def perturbed_state(mesh, air, size=0.05):
    rng = np.random.default_rng(3)
    scales = Scales.of(air)
    q = np.tile(scales.freestream, (mesh.n_cells, 1)) + size * (rng.random((mesh.n_cells, 5)) - 0.5)
    q[:, 2] = 0.0
    return q, Residual(FaceData.of(mesh), Scheme(), GasModel(1.4), air.mach, exterior_states(mesh, scales, 0.0, False))


class Parts(unittest.TestCase):
    def test_flux_is_consistent_upwind_and_turns_with_its_axes(self):
        left, right = (0.1, 0.5, 0.1, -0.2, 1.1), (-0.05, 0.6, -0.1, 0.1, 0.95)
        n = np.array([0.6, 0.48, 0.64])
        np.testing.assert_allclose(
            roe_flux(tuple(left), tuple(left), tuple(n), 1.4), euler_flux(tuple(left), tuple(n), 1.4), rtol=1e-13
        )
        forward, backward = roe_flux(left, right, tuple(n), 1.4), roe_flux(right, left, tuple(-n), 1.4)
        np.testing.assert_allclose(forward, -np.array(backward), rtol=1e-12)
        fast = (0.1, 3.0, 0.0, 0.0, 1.0)
        np.testing.assert_allclose(
            roe_flux(fast, (0.0, 2.8, 0.0, 0.0, 1.1), (1.0, 0.0, 0.0), 1.4),
            euler_flux(fast, (1.0, 0.0, 0.0), 1.4),
            rtol=1e-10,
        )

    def test_flow_that_parts_at_a_face_is_not_driven_apart(self):
        # the mean of both fluxes alone would push each side off with its own rho u^2: a jet for ever on a coarse nose
        n = (1.0, 0.0, 0.0)
        for speed in (0.02, 0.1, 0.3):
            still, parting, meeting = (
                roe_flux((0.0, -u, 0.0, 0.0, 1.0), (0.0, u, 0.0, 0.0, 1.0), tuple(n), 1.4) for u in (0.0, speed, -speed)
            )
            self.assertLess(abs(parting[1] - still[1]), 0.05 * speed**2)
            self.assertGreater(meeting[1] - still[1], speed**2)
        near = roe_flux(
            (0.0, 0.1, 0.0, 0.0, 1.0), (0.0, 0.1002, 0.0, 0.0, 1.0), tuple(n), 1.4
        )  # smooth flow is left alone
        self.assertLess(abs(near[1] - 0.5 * (0.1**2 + 0.1002**2)), 0.002 * 0.1**2)

    def test_gradients_are_exact_for_linear_fields(self):
        for mesh in (box(10, 0.35, 0.1), zy.mesh_airfoil(zy.Airfoil.naca("2412", "blunt"), 64, 16, topology="C")):
            for method in ("green-gauss", "least-squares"):
                d = FaceData.of(mesh, method)
                q, g = (mesh.cell_centroid @ np.array([1.5, 0.0, -2.0]))[:, None], np.zeros((mesh.n_cells, 1, 3))
                d.gradient(q, g)
                np.testing.assert_allclose(g[:, 0], np.tile([1.5, 0.0, -2.0], (mesh.n_cells, 1)), atol=1e-9)

    def test_beside_planes_of_symmetry_velocity_is_mirrored(self):
        t = np.linspace(0.0, 1.0, 9)
        x, z = np.meshgrid(t, t**1.3, indexing="ij")
        x, z = x, z + 0.06 * np.sin(2.0 * np.pi * x) * z * (1.0 - z)  # bent but for the plane itself
        mesh = of_grid(x, z, {"low": "symmetry", "high": "farfield", "left": "farfield", "right": "farfield"})
        c = mesh.cell_centroid
        beside = mesh.left[mesh.faces_of("symmetry")]
        q = np.stack([2.0 * c[:, 0], 1.5 * c[:, 0], 0.0 * c[:, 0], -0.7 * c[:, 2], 1.0 - c[:, 0]], axis=1)
        for method in ("by-cell", "green-gauss", "least-squares"):
            d = FaceData.of(mesh, method)
            g = np.zeros((mesh.n_cells, 5, 3))
            d.gradient(q, g)
            for k, slope in enumerate(((2.0, 0, 0), (1.5, 0, 0), (0, 0, 0), (0, 0, -0.7), (-1.0, 0, 0))):
                np.testing.assert_allclose(g[:, k], np.tile(slope, (mesh.n_cells, 1)), atol=1e-9)
            # a stream through the plane is what no mirror image has: it rises within the cell from nothing
            through = np.tile([0.0, 0.0, 0.0, 1.0, 1.0], (mesh.n_cells, 1))
            d.gradient(through, g)
            high = c[beside, 2]
            self.assertGreater((g[beside, 3, 2] * high).min(), 0.2)
            self.assertEqual(np.abs(np.delete(g[:, 3], beside, axis=0)).max(), 0.0)
            v = np.ascontiguousarray(q[:, d.axes], dtype=np.float32)
            own = np.zeros((mesh.n_cells, len(d.axes), 3), dtype=np.float32)
            d.gradient.single(d.axes)(v, own)
            np.testing.assert_allclose(own[:, 2], np.tile([0, 0, -0.7], (mesh.n_cells, 1)), atol=1e-4)

    def test_mirror_images_make_gradients_second_order_in_space(self):
        errors = []
        for n in (4, 8):
            mesh = cube(n, "symmetry")
            c, domain = mesh.cell_centroid, FaceData.of(mesh, "green-gauss")
            q = np.zeros((mesh.n_cells, 5))
            q[:, 0] = np.cos(np.pi * c[:, 1])  # even at both ends, velocity through them odd
            q[:, 2] = np.sin(np.pi * c[:, 1])
            g = np.zeros((mesh.n_cells, 5, 3))
            domain.gradient(q, g)
            beside = mesh.left[mesh.faces_of("symmetry")]
            errors.append(
                [
                    np.sqrt(np.mean((g[beside, k, 1] - s[beside]) ** 2))
                    for k, s in ((0, -np.pi * q[:, 2]), (2, np.pi * q[:, 0]))
                ]
            )
        self.assertGreater(np.min(np.array(errors[0]) / errors[1]), 2.2)

    def test_limiter_keeps_smooth_slopes_and_stops_extremes(self):
        self.assertAlmostEqual(van_albada(1.0, 1.0, 1e-9)[0], 1.0)
        self.assertLess(van_albada(-1.0, 1.0, 1e-9)[0], 1e-12)
        for a, b in ((0.3, 0.8), (1.0, -0.05), (0.2, 0.02)):
            s, s_a, s_b = van_albada(a, b, 0.01)
            self.assertAlmostEqual(s_a, (van_albada(a + 1e-6, b, 0.01)[0] - s) / 1e-6, delta=1e-4)
            self.assertAlmostEqual(s_b, (van_albada(a, b + 1e-6, 0.01)[0] - s) / 1e-6, delta=1e-4)

    def test_freestream_is_preserved_to_round_off(self):
        for row in freestream_preserved():
            self.assertLess(row[4], row[3], row[0])

    def test_residual_conserves_mass_and_energy(self):
        mesh = box(12, 0.3, role="slip")
        q, residual = perturbed_state(mesh, zy.Freestream(mach=0.5))
        total = residual(q).sum(axis=0)
        self.assertLess(abs(total[0]) + abs(total[4]), 1e-12)

    def test_exact_product_is_the_derivative_of_the_residual(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 16, topology="O")
        for mach in (0.3, 0.85):
            q, residual = perturbed_state(mesh, zy.Freestream(mach=mach, alpha=2), 0.02)
            jacobian = Jacobian(residual)
            jacobian.linearise(residual.differentiate(q))
            v = np.random.default_rng(1).standard_normal((mesh.n_cells, 4)).astype(np.float32)
            out = np.empty_like(v)
            jacobian.product(v, out)
            step = np.zeros_like(q)
            step[:, [0, 1, 3, 4]] = 1e-6 * v
            exact = ((residual(q + step) - residual(q - step)) / 2e-6)[:, [0, 1, 3, 4]]
            self.assertLess(np.linalg.norm(out - exact) / np.linalg.norm(exact), 2e-3)

    def test_krylov_solution_solves_the_system(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 16, topology="O")
        q, residual = perturbed_state(mesh, zy.Freestream(mach=0.4), 0.01)
        jacobian = Jacobian(residual)
        state = residual.differentiate(q)
        R = residual.balance(state)
        jacobian.linearise(state)
        jacobian.set_inertia(jacobian.wave_sum() / 50.0)
        preconditioner = Preconditioner(residual.domain)
        preconditioner.update(jacobian)
        rhs = -R[:, [0, 1, 3, 4]].astype(np.float32)
        x, count, _ = gmres(jacobian, preconditioner, rhs, 1e-3, 80)
        out = np.empty_like(x)
        jacobian.product(x, out)
        self.assertLess(np.linalg.norm(out - rhs) / np.linalg.norm(rhs), 2e-3)
        self.assertLess(count, 30)


class Whole(unittest.TestCase):
    def test_pieces_are_kept_apart_and_columns_are_eliminated_from_the_wall_outwards(self):
        ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 500, stretch=1.0).surface
        mesh = zy.mesh_surface(ball, farfield=3.0, growth=0.5, layers=(1e-4, 1.4, 12))
        order, piece = elimination_order(mesh)
        np.testing.assert_array_equal(np.sort(order), np.arange(mesh.n_cells))
        row = np.empty(mesh.n_cells, dtype=np.int64)
        row[order] = np.arange(mesh.n_cells)
        of = np.searchsorted(piece, row, side="right")
        one, two = of[mesh.left[: mesh.n_interior]], of[mesh.right]
        self.assertTrue(((one == two) | (np.maximum(one, two) == len(piece))).all())
        self.assertLess(piece[0], piece[1])
        self.assertGreater(piece[-1], 0.5 * mesh.n_cells)
        foot = mesh.wall_face_of_cell
        for face in np.unique(foot[foot >= 0])[::20]:
            cells = np.flatnonzero(foot == face)
            cells = cells[np.argsort(mesh.wall_distance[cells])]
            np.testing.assert_array_equal(np.diff(row[cells]), 1)

    def test_manufactured_solution_converges_at_second_order(self):
        smooth, _ = manufactured.orders((16, 32), perturbed=0.0, smooth=0.08)
        rough, _ = manufactured.orders((16, 32), perturbed=0.25, smooth=0.0)
        self.assertTrue((smooth > 1.75).all(), smooth)
        self.assertTrue((rough > 1.6).all(), rough)

    def test_oblique_shock(self):
        for row in oblique_shock(48):
            self.assertTrue(row[2] <= row[4] <= row[3], row)

    def test_uniform_flow_in_an_empty_box_settles_at_once(self):
        mesh = box(8, role="farfield")
        flow = solve_steady(FlowProblem(mesh, zy.Freestream(mach=0.5, alpha=10), zy.Reference(1, 1, 1, (0, 0, 0))))
        self.assertEqual(flow.outcome, "converged")
        self.assertEqual(flow.history.column("step", 0).tolist(), [0.0])

    def test_settings_are_checked(self):
        for kind, bad in (
            (zy.Numerics, {"residual_drop": 0}),
            (zy.Numerics, {"max_iterations": 1.5}),
            (zy.Numerics, {"limiter": "off"}),
            (zy.Limiter, {"mode": "maybe"}),
            (zy.Limiter, {"full_mach": 0.2}),
            (zy.Reconstruction, {"order": 3}),
            (zy.Reconstruction, {"gradient": "x"}),
            (zy.Reconstruction, {"kappa": 2}),
            (zy.CFLControl, {"initial": -1}),
            (zy.CFLControl, {"max_growth": 0.5}),
            (zy.LineSearch, {"max_halvings": 0}),
            (zy.LinearSolver, {"max_vectors": 2}),
            (zy.CFLControl, {"minimum": 20.0}),
            (zy.CFLControl, {"max_growth": 1.2}),
            (zy.StartUp, {"alpha_step": 0.0}),
            (zy.FirstOrderFallback, {"max_cells": 1.5}),
            (zy.LocalCFL, {"max_cfl": 0.5}),
            (zy.LocalCFL, {"min_cfl": 200.0}),
            (zy.InnerIteration, {"tolerance": "loose"}),
        ):
            with self.subTest(bad), self.assertRaisesRegex(zy.InputError, next(iter(bad)).split("_")[-1]):
                kind(**bad)

    def test_a_few_cells_that_oscillate_do_not_hold_up_a_run(self):
        egg = zy.remesh(zy.Body.ellipsoid(2.0, 1.0).surface(), 400, stretch=1.0).surface
        mesh = zy.mesh_surface(egg, farfield=3.0, growth=0.5, reference=zy.Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0)))
        problem = DiscreteProblem(
            FlowProblem(mesh, zy.Freestream(mach=0.3), mesh.reference, zy.Numerics(residual_drop=6.0))
        )
        run = LevelIteration(problem, np.tile(problem.scales.freestream, (mesh.n_cells, 1)), cfl=1e7)
        run.now, run.step = problem.evaluate(run.q), 0
        run._measure()
        run.step = 20
        problem.linearise(run.now)
        waves = problem.jacobian.wave_sum()
        row, history = np.full(len(COLUMNS), 0.5), History()
        history.rows = [tuple(row)] * 12

        def oscillate(cells, size):
            run.now.R[:] = 1e-9 * problem.start_norm / problem.rows
            run.now.R[cells] *= 1e9 * size
            run._measure()
            return run._at_rest(history)

        self.assertEqual(oscillate([40], 3e-4), "")  # no cell has a bounded CFL number yet
        run._bound_cfl()
        beside = np.isin(mesh.left[: mesh.n_interior], 40) | np.isin(mesh.right, 40)
        ring = np.unique(np.r_[mesh.left[: mesh.n_interior][beside], mesh.right[beside]])
        np.testing.assert_array_equal(np.flatnonzero(run.bounded), ring)
        rate = run._pseudo_time_rate(waves)
        np.testing.assert_allclose(rate[ring], waves[ring] / 100.0)
        np.testing.assert_allclose(np.delete(rate, ring), np.delete(waves, ring) / 1e7)
        self.assertRegex(
            oscillate([40], 0.1), r"at rest, residuals down 6.* of [\d,]+ cells that oscillate, one at .* m"
        )
        self.assertEqual(oscillate([40, 900], 3e-3), "")  # elsewhere too
        run._bound_cfl()
        self.assertEqual(run.local_cfl, 100.0)  # it has just been bounded
        run.step = 30
        run._bound_cfl()
        np.testing.assert_allclose(run._pseudo_time_rate(waves)[ring], waves[ring] / 30.0)  # it still holds things up
        for size, bound in (
            (0.05, 30.0),
            (0.02, 75.0),
            (0.002, 225.0),
            (0.004, 112.5),
        ):  # it follows the residual
            oscillate([40], size)
            run.bounded_before = np.inf if size == 0.05 else run.bounded_before
            run._bound_cfl()
            self.assertAlmostEqual(run.local_cfl, bound, delta=1e-3)
        history.rows[-3] = tuple(1.001 * row)
        self.assertEqual(oscillate([40], 3e-4), "")  # the coefficients move

    def test_numbers_of_settings_are_converted(self):
        for made, wanted in (
            (zy.Numerics(max_iterations=5.0).max_iterations, 5),
            (zy.LineSearch(max_halvings=5.0).max_halvings, 5),
            (zy.CFLControl(initial=5).initial, 5.0),
            (zy.MeshOptions(farfield=5).farfield, 5.0),
            (zy.BodyMeshOptions(growth=np.float32(0.5)).growth, 0.5),
            (zy.SurfaceMeshOptions(farfield=5).farfield, 5.0),
            (zy.AirfoilMeshOptions(around=64.0).around, 64),
            (zy.SweepOptions(processes=2.0).processes, 2),
        ):
            self.assertEqual((made, type(made)), (wanted, type(wanted)))
