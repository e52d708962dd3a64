"""Small parts with exact answers: spacings, marching, gas relations, starts, farfield, histories."""

import math
import unittest

import numpy as np

import zephyrum as zy
from validation.grids import box, of_grid
from zephyrum._core.geometric_steps import growth_ratio
from zephyrum.flow import History, transfer_condition
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.nonlinear.history import COLUMNS
from zephyrum.flow.nonlinear.start_up import alpha_sequence, prolongate
from zephyrum.flow.physics.boundary_conditions import exterior_states
from zephyrum.flow.physics.gas_model import GasModel, Scales, conserved, conserved_jacobian
from zephyrum.mesh import mesh_from_faces
from zephyrum.mesh.structured.hyperbolic import march_grid as march_grid
from zephyrum.mesh.structured.spacing import geometric, steps_for, two_ended


def cube(n: int, role: str = "farfield"):
    """Unit cube of n^3 hexahedra: a three-dimensional mesh for the three-dimensional solver."""
    node = np.arange((n + 1) ** 3).reshape(n + 1, n + 1, n + 1)
    cell = np.arange(n**3).reshape(n, n, n)
    t = np.linspace(0.0, 1.0, n + 1)
    points = np.stack(np.meshgrid(t, t, t, indexing="ij"), axis=-1)
    rng = np.random.default_rng(5)
    points[1:-1, 1:-1, 1:-1] += 0.2 / n * (rng.random((n - 1, n - 1, n - 1, 3)) - 0.5)
    rings, first, second = [], [], []
    for axis in range(3):
        nodes, cells = np.moveaxis(node, axis, 0), np.moveaxis(cell, axis, 0)
        for k in range(n + 1):
            layer = nodes[k]
            ring = np.stack([layer[:-1, :-1], layer[1:, :-1], layer[1:, 1:], layer[:-1, 1:]], axis=-1).reshape(-1, 4)
            if axis == 1:  # the moved axes are left-handed here
                ring = ring[:, ::-1]
            inside = cells[k - 1].ravel() if k else np.full(n * n, -1)
            outside = cells[k].ravel() if k < n else np.full(n * n, -1)
            if k == 0:
                ring, inside, outside = ring[:, ::-1], outside, inside
            rings.append(ring)
            first.append(inside)
            second.append(outside)
    rings = np.concatenate(rings)
    return mesh_from_faces(
        points.reshape(-1, 3),
        np.arange(len(rings) + 1) * 4,
        rings.ravel(),
        np.concatenate(first),
        np.concatenate(second),
        np.zeros(len(rings), dtype=int),
        [("outside", role)],
        3,
    )


class Spacings(unittest.TestCase):
    def test_geometric_series_has_its_first_step_ratio_and_sum(self):
        for first, total, n in ((1e-5, 100.0, 64), (1e-3, 20.0, 32), (0.1, 1.0, 10)):
            x = geometric(first, total, n)
            step = np.diff(x)
            self.assertAlmostEqual(step[0] / first, 1.0, delta=1e-8)
            self.assertAlmostEqual(x[-1], total, delta=1e-9 * total)
            np.testing.assert_allclose(step[1:] / step[:-1], growth_ratio(first, total, n), rtol=1e-8)

    def test_steps_for_is_just_enough(self):
        n = steps_for(1e-3, 50.0, 1.2)
        self.assertLessEqual(growth_ratio(1e-3, 50.0, n), 1.2)
        self.assertGreater(growth_ratio(1e-3, 50.0, n - 1), 1.2)
        with self.assertRaisesRegex(zy.InputError, "growth"):
            steps_for(1e-3, 50.0, 0.9)

    def test_two_ended_is_monotone_with_both_ends_near_those_asked(self):
        for first, last in ((1e-3, 1e-3), (1e-4, 1e-2), (0.05, 0.001), (0.02, 0.02)):
            x = two_ended(50, first, last)
            self.assertTrue((np.diff(x) > 0).all())
            self.assertEqual((x[0], x[-1]), (0.0, 1.0))
            self.assertAlmostEqual((x[1] - x[0]) / first, 1.0, delta=0.3)
            self.assertAlmostEqual((x[-1] - x[-2]) / last, 1.0, delta=0.3)

    def test_half_the_count_keeps_every_second_point(self):
        np.testing.assert_allclose(two_ended(64, 2e-3, 1e-3)[::2], two_ended(32, 4e-3, 2e-3), atol=2e-3)


class Marching(unittest.TestCase):
    def test_off_a_circle_come_circles(self):
        theta = -np.linspace(0.0, 2 * np.pi, 64, endpoint=False)  # clockwise: the outside is on the left
        wall = np.stack([np.cos(theta), np.sin(theta)], axis=1)
        heights = np.tile(np.diff(geometric(0.01, 10.0, 24)), (64, 1))
        grid = march_grid(wall, heights, True)
        radius = np.linalg.norm(grid, axis=2)
        np.testing.assert_allclose(radius, np.broadcast_to(radius.mean(axis=0), radius.shape), rtol=1e-9)
        self.assertTrue((np.diff(radius.mean(axis=0)) > 0).all())
        self.assertAlmostEqual(radius[0, 1] - 1.0, 0.01, delta=5e-4)

    def test_off_a_straight_wall_come_parallel_lines(self):
        wall = np.stack([np.linspace(0.0, 1.0, 21), np.zeros(21)], axis=1)
        grid = march_grid(wall, np.full((21, 5), 0.1), False)
        np.testing.assert_allclose(grid[:, :, 0], wall[:, :1].repeat(6, axis=1), atol=1e-12)
        np.testing.assert_allclose(grid[:, :, 1], np.tile(0.1 * np.arange(6), (21, 1)), atol=1e-12)


class GasRelations(unittest.TestCase):
    def test_conserved_jacobian_is_the_derivative(self):
        q = np.array([[0.07, 0.4, -0.2, 0.3, 1.2]])
        exact = np.empty((5, 5))
        conserved_jacobian(*q[0], 1.4, exact)
        for k in range(5):
            step = np.zeros((1, 5))
            step[0, k] = 1e-6
            difference = (conserved(q + step, 1.4) - conserved(q - step, 1.4))[0] / 2e-6
            np.testing.assert_allclose(exact[:, k], difference, atol=1e-8)

    def test_scales_turn_the_freestream_into_its_own_units(self):
        air = zy.Freestream(mach=0.6, altitude=3000, alpha=5.0)
        scales = Scales.of(air)
        self.assertAlmostEqual(np.linalg.norm(scales.freestream[1:4]), 0.6)
        self.assertEqual(scales.freestream[0], 0.0)
        self.assertAlmostEqual(
            scales.density * scales.speed**2 / air.gas.gamma, air.pressure, delta=1e-6 * air.pressure
        )

    def test_normal_shock_and_isentropic_relations(self):
        gas = zy.Gas()
        self.assertAlmostEqual(gas.total_pressure_ratio(1.0), 1.892929, delta=1e-6)
        self.assertAlmostEqual(gas.total_temperature_ratio(2.0), 1.8)
        self.assertAlmostEqual(gas.pitot_pressure_ratio(0.5), gas.total_pressure_ratio(0.5))
        self.assertAlmostEqual(gas.viscosity(288.15), 1.7894e-5, delta=1e-9)
        with self.assertRaisesRegex(zy.InputError, "gas.gamma"):
            zy.Gas(gamma=1.0)


class Farfield(unittest.TestCase):
    def setUp(self):
        self.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")
        self.air = zy.Freestream(mach=0.5, alpha=2.0)
        self.scales = Scales.of(self.air)

    def test_vortex_keeps_total_enthalpy_and_entropy(self):
        group = self.mesh.group("farfield")
        own = slice(group.start - self.mesh.n_interior, group.stop - self.mesh.n_interior)
        states = exterior_states(self.mesh, self.scales, 0.8, True)[own]
        speed2 = np.einsum("ij,ij->i", states[:, 1:4], states[:, 1:4])
        total = states[:, 4] + 0.2 * speed2
        np.testing.assert_allclose(total, 1.0 + 0.2 * 0.25, rtol=1e-12)
        np.testing.assert_allclose((1.0 + 1.4 * states[:, 0]) / states[:, 4] ** 3.5, 1.0, rtol=1e-12)

    def test_vortex_has_the_circulation_of_the_lift(self):
        states = exterior_states(self.mesh, self.scales, 0.8, True)
        group = self.mesh.group("farfield")
        own = slice(group.start - self.mesh.n_interior, group.stop - self.mesh.n_interior)
        edge = self.mesh.points[self.mesh.face_points.reshape(-1, 4)[group.faces][:, [0, 3]]]
        along = edge[:, 1] - edge[:, 0]
        gamma = abs(np.einsum("ij,ij->", states[own, 1:4] - self.scales.freestream[1:4], along))
        self.assertAlmostEqual(gamma / (0.5 * 0.8 * 0.5), 1.0, delta=0.02)

    def test_without_lift_it_is_the_free_stream(self):
        np.testing.assert_array_equal(exterior_states(self.mesh, self.scales, 0.0, True)[-1], self.scales.freestream)

    def test_a_near_boundary_acts_like_a_far_one(self):
        lift = []
        for farfield, outward in ((25.0, 32), (200.0, 32)):
            mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 96, outward, farfield=farfield, topology="O")
            lift.append(zy.solve(mesh, self.air, numerics=zy.Numerics(residual_drop=6)).forces.CL)
        self.assertAlmostEqual(lift[0] / lift[1], 1.0, delta=4e-3)


class Starts(unittest.TestCase):
    def test_walk_ends_at_alpha_in_small_steps(self):
        for alpha in (0.0, 3.0, -4.0, 10.0, -17.0):
            walk = alpha_sequence(alpha, 4.0)
            self.assertEqual(walk[-1], alpha)
            self.assertLessEqual(max(np.abs(np.diff([0.0, *walk]))), 4.0 + 1e-9)

    def test_carry_over_turns_and_scales_a_uniform_stream_exactly(self):
        mesh = box(6, role="farfield")
        old, new = zy.Freestream(mach=0.3, alpha=1.0), zy.Freestream(mach=0.5, alpha=7.0)
        q = np.tile(Scales.of(old).freestream, (mesh.n_cells, 1))
        np.testing.assert_allclose(
            transfer_condition(q, mesh, old, new, 1.0),
            np.tile(Scales.of(new).freestream, (mesh.n_cells, 1)),
            atol=1e-14,
        )

    def test_prolongation_is_exact_for_linear_fields(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 96, 32, topology="O")
        fine, coarse = FaceData.of(mesh), FaceData.of(mesh.coarser)

        def field(domain):
            x = domain.mesh.cell_centroid
            return np.stack(
                [1e-4 * x[:, 0], 0.3 + 1e-3 * x[:, 2], 0 * x[:, 0], 1e-3 * x[:, 0], 1.0 + 1e-4 * x[:, 2]], axis=1
            )

        np.testing.assert_allclose(prolongate(field(coarse), coarse, fine, GasModel(1.4)), field(fine), atol=1e-12)

    def test_air_that_a_coarse_mesh_made_dead_is_not_handed_on(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 96, 32, topology="O")
        fine, coarse = FaceData.of(mesh), FaceData.of(mesh.coarser)
        q = np.tile([0.0, 0.2, 0.0, 0.0, 1.0], (coarse.mesh.n_cells, 1))
        x = coarse.mesh.cell_centroid
        location = np.hypot(x[:, 0] - 1.1, x[:, 2]) < 0.25
        q[location] = [0.001, -0.1, 0.0, 0.3, 1.4]
        made = prolongate(q, coarse, fine, GasModel(1.4), mach=0.2)
        self.assertGreater(location.sum(), 15)
        np.testing.assert_allclose(made[:, 4] + 0.2 * np.sum(made[:, 1:4] ** 2, axis=1), 1.008, atol=1e-12)
        self.assertLess(np.abs(made[:, 1:4] - [0.2, 0.0, 0.0]).max(), 0.06)
        self.assertLess(
            np.abs(prolongate(q, coarse, fine, GasModel(1.4))[:, 1:4] - [0.2, 0.0, 0.0]).max(), 0.5
        )  # else it is
        self.assertGreater(np.abs(prolongate(q, coarse, fine, GasModel(1.4))[:, 3]).max(), 0.25)


class ThreeDimensions(unittest.TestCase):
    """The solver is written for three dimensions; two are a special case."""

    def test_cube_is_closed_and_filled(self):
        mesh = cube(4)
        self.assertAlmostEqual(mesh.cell_volume.sum(), 1.0, delta=1e-12)
        self.assertEqual(mesh.n_cells, 64)
        self.assertEqual(mesh.n_interior, 3 * 4 * 4 * 3)

    def test_freestream_and_linear_fields(self):
        mesh = cube(4)
        domain = FaceData.of(mesh)
        air = zy.Freestream(mach=0.7, alpha=20.0, beta=-35.0)
        scales = Scales.of(air)
        residual = Residual(domain, Scheme(), GasModel(1.4), 0.7, exterior_states(mesh, scales, 0.0, False))
        R = residual(np.tile(scales.freestream, (mesh.n_cells, 1)))
        self.assertLess(np.abs(R).max(), 1e-14)
        q = (mesh.cell_centroid @ np.array([1.0, -2.0, 0.5]))[:, None]
        g = np.zeros((mesh.n_cells, 1, 3))
        domain.gradient(q, g)
        np.testing.assert_allclose(g[:, 0], np.tile([1.0, -2.0, 0.5], (mesh.n_cells, 1)), atol=1e-11)

    def test_the_march_restores_a_disturbed_stream(self):
        from zephyrum.flow import FlowProblem, Numerics, Start, solve_steady

        mesh, air = cube(4), zy.Freestream(mach=0.5, alpha=10.0, beta=15.0)
        scales = Scales.of(air)
        start = np.tile(scales.freestream, (mesh.n_cells, 1))
        start[30] += [0.05, 0.02, -0.03, 0.01, 0.04]
        flow = solve_steady(
            FlowProblem(mesh, air, zy.Reference(1, 1, 1, (0, 0, 0)), Numerics(max_iterations=25)), Start(start)
        )
        np.testing.assert_allclose(flow.q, np.tile(scales.freestream, (mesh.n_cells, 1)), atol=1e-6)

    def test_quality_of_a_cube(self):
        report = zy.quality(cube(4))
        self.assertTrue(report.passed)
        self.assertLess(report.rows[3][4], 1.5)


class Records(unittest.TestCase):
    def _row(self, step, level, lift):
        values = dict.fromkeys(COLUMNS, 0.0) | {"step": step, "level": level, "CL": lift}
        return tuple(values[name] for name in COLUMNS)

    def test_drift_is_that_of_the_finest_level_over_the_window(self):
        history = History()
        self.assertEqual(history.drift(), math.inf)
        for step, (level, lift) in enumerate([(1, 9.0), (0, 0.5), (0, 0.6), (0, 0.61), (0, 0.611), (0, 0.6111)]):
            history.add(*self._row(step, level, lift))
        self.assertAlmostEqual(history.drift(), 0.0111, delta=1e-12)
        self.assertEqual(len(history.column("CL", 0)), 5)
        self.assertEqual(history.drop().shape, (5, 7))

    def test_grid_helper_makes_named_sides(self):
        x, z = np.meshgrid(np.linspace(0, 2, 5), np.linspace(0, 1, 4), indexing="ij")
        mesh = of_grid(x, z, {"low": "wall", "high": "slip", "left": "farfield", "right": "farfield"})
        self.assertEqual([g.name for g in mesh.groups], ["low", "high", "left", "right"])
        self.assertEqual(len(mesh.faces_of("farfield")), 6)
        with self.assertRaisesRegex(zy.InputError, "role"):
            mesh.with_roles(low="magic")
        with self.assertRaisesRegex(zy.InputError, "it has: low"):
            mesh.group("none")
