"""The fast kernels against their formulas written out plainly: flux, Jacobian product, Krylov sums, at every order."""

import os
import subprocess
import sys
import unittest

import numpy as np

import zephyrum as zy
from tests.test_parts import cube
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.limiter import limiter_weight, van_albada
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.discretization.source_jacobians import SourceJacobians, source_jacobians
from zephyrum.flow.discretization.turbulence_sources import subtract_sources, update_closure
from zephyrum.flow.physics.boundary_conditions import FARFIELD, boundary_flux, exterior_states
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.flow.physics.inviscid_flux import roe_flux

SCHEMES = [(1, "auto"), (2, "auto"), (2, "on"), (2, "off")]


def setting(mesh, order, limiter, size, mach=0.8):
    """A rough state on `mesh` and the residual that works on it."""
    scales = Scales.of(zy.Freestream(mach=mach, alpha=3.0))
    rng = np.random.default_rng(11)
    q = np.tile(scales.freestream, (mesh.n_cells, 1)) + size * (rng.random((mesh.n_cells, 5)) - 0.5)
    if mesh.dimension == 2:
        q[:, 2] = 0.0
    exterior = exterior_states(mesh, scales, 0.0, False)
    return q, Residual(
        FaceData.of(mesh), Scheme(zy.Reconstruction(order=order), zy.Limiter(limiter)), GasModel(1.4), mach, exterior
    )


def plain_states(residual, state, f):
    """Both states at interior face f from the published formulas, one number at a time."""
    q, d, kappa = state.q, residual.domain, residual.scheme.reconstruction.kappa
    if residual.scheme.reconstruction.order == 1:
        return q[d.faces.left[f]], q[d.faces.right[f]]
    faces = d.faces
    a, b = faces.left[f], faces.right[f]
    jump = q[b] - q[a]
    far = [
        2.0 * state.gradients[c] @ direction[f] - jump
        for c, direction in ((a, faces.vector_to_right), (b, faces.vector_to_left))
    ]
    weight = limiter_weight(residual.numbers.limiter_floor, tuple(q[a]), tuple(q[b]), far[0][0], far[1][0], 1.4)
    states = []
    for c, r, fraction, sign, upwind in (
        (a, faces.to_left[f], faces.fraction[f, 0], 1.0, far[0]),
        (b, faces.to_right[f], faces.fraction[f, 1], -1.0, far[1]),
    ):
        increment = state.gradients[c] @ r + sign * kappa * fraction * 0.5 * (jump - upwind)
        limiter_factor = np.array(
            [van_albada(u, j, e)[0] for u, j, e in zip(upwind, jump, residual.numbers.smooth_squares, strict=True)]
        )
        extrapolated = q[c] + increment * (1.0 - weight * (1.0 - limiter_factor))
        unsafe = 1.0 + 1.4 * extrapolated[0] < 0.2 * (1.0 + 1.4 * q[c, 0]) or extrapolated[4] < 0.2 * q[c, 4]
        states.append(q[c] if unsafe else extrapolated)
    return states


class Farfield(unittest.TestCase):
    def test_a_slow_wake_leaves_at_the_pressure_outside(self):
        outside = (0.0, 0.05, 0.0, 0.0, 1.0)
        for deficit in (0.0, 0.01, 0.03):
            flux = boundary_flux(FARFIELD, (0.0, 0.05 - deficit, 0.0, 0.0, 1.0), outside, (1.0, 0.0, 0.0), 1.4)
            pressure = flux[1] - flux[0] ** 2  # less the momentum, at a density of nearly 1
            # a sound wave would have half of density, speed of sound and deficit: 12 dynamic pressures for the last one
            self.assertLessEqual(abs(pressure), 0.1 * deficit + 1e-12, deficit)


class BlocksOfFaces(unittest.TestCase):
    def setUp(self):
        # 4 x 4 x 4 cubes have 144 interior faces, the O mesh 1472: the last block of either is part-filled
        self.meshes = (cube(4), zy.mesh_airfoil(zy.Airfoil.naca("2412"), 48, 16, topology="O"))

    def test_flux_is_that_of_the_face_alone(self):
        for mesh in self.meshes:
            for order, limiter in SCHEMES:
                with self.subTest(dimension=mesh.dimension, order=order, limiter=limiter):
                    q, residual = setting(mesh, order, limiter, 0.3)
                    state = residual.differentiate(q)
                    fluxes, d = residual.fluxes(state), residual.domain
                    for f in (0, 63, 64, mesh.n_interior // 2, mesh.n_interior - 1):
                        left, right = plain_states(residual, state, f)
                        flux = d.faces.area[f] * np.array(
                            roe_flux(tuple(left), tuple(right), tuple(d.faces.normal[f]), 1.4)
                        )
                        np.testing.assert_allclose(fluxes[f], flux, atol=1e-13)

    def test_an_unsafe_rise_is_refused_and_its_cell_used(self):
        mesh = self.meshes[1]
        q, residual = setting(mesh, 2, "off", 0.0)
        q[40, 4] = 12.0  # one hot cell: its neighbours would extrapolate to negative temperatures
        state = residual.differentiate(q)
        fluxes, refused = residual.fluxes(state), 0
        for f in range(mesh.n_interior):
            left, right = plain_states(residual, state, f)
            d = residual.domain
            hit = np.array_equal(left, q[d.faces.left[f]]) and state.gradients[d.faces.left[f]].any()
            refused += bool(hit)
            flux = d.faces.area[f] * np.array(roe_flux(tuple(left), tuple(right), tuple(d.faces.normal[f]), 1.4))
            np.testing.assert_allclose(fluxes[f], flux, atol=1e-12)
        self.assertGreater(refused, 0)

    def test_product_is_the_derivative_at_every_order_and_with_every_limiter(self):
        for mesh in self.meshes:
            axes = [0, 1, 3, 4] if mesh.dimension == 2 else [0, 1, 2, 3, 4]
            for order, limiter in SCHEMES:
                with self.subTest(dimension=mesh.dimension, order=order, limiter=limiter):
                    q, residual = setting(mesh, order, limiter, 0.05, 0.85)
                    jacobian = Jacobian(residual)
                    jacobian.linearise(residual.differentiate(q))
                    v = np.random.default_rng(5).standard_normal((mesh.n_cells, len(axes))).astype(np.float32)
                    out, step = np.empty_like(v), np.zeros_like(q)
                    jacobian.product(v, out)
                    step[:, axes] = 1e-6 * v
                    exact = ((residual(q + step) - residual(q - step)) / 2e-6)[:, axes]
                    self.assertLess(np.linalg.norm(out - exact) / np.linalg.norm(exact), 2e-3)

    def test_product_is_the_derivative_where_rises_are_refused_or_wholly_limited(self):
        mesh = self.meshes[1]
        for limiter in ("on", "off"):
            q, residual = setting(mesh, 2, limiter, 0.0)
            q[40, 4], q[200, 0] = 12.0, 3.0
            jacobian = Jacobian(residual)
            jacobian.linearise(residual.differentiate(q))
            v = np.random.default_rng(5).standard_normal((mesh.n_cells, 4)).astype(np.float32)
            out, step = np.empty_like(v), np.zeros_like(q)
            jacobian.product(v, out)
            step[:, [0, 1, 3, 4]] = 1e-7 * v
            exact = ((residual(q + step) - residual(q - step)) / 2e-7)[:, [0, 1, 3, 4]]
            self.assertLess(np.linalg.norm(out - exact) / np.linalg.norm(exact), 5e-3)


class Sources(unittest.TestCase):
    """Jacobians of the turbulence sources and of the closure against central differences of both."""

    GAS = GasModel(1.4, viscosity=2e-7, k_unit=1e-4)
    WALL = np.array([[1e-3, 0.0, 1.0], [0.02, 3.0, 1.0], [0.3, 0.0, 1.0], [0.05, 0.0, 0.0]])

    def setUp(self):
        rng = np.random.default_rng(3)
        n = len(self.WALL)
        self.q = np.concatenate([0.1 * rng.standard_normal((n, 4)), 1.0 + 0.1 * rng.random((n, 3))], axis=1)
        self.g = rng.standard_normal((n, 7, 3)) * np.array([0.1, 3.0, 3.0, 3.0, 0.1, 2.0, 2.0])[:, None]
        self.volume = 0.5 + rng.random(n)

    def values(self, q, g, equations):
        """Sources times volume, then the closure."""
        balance, closure = np.zeros_like(q), np.zeros((len(q), 2))
        subtract_sources(q, g, self.WALL, self.volume, self.GAS, equations, balance)
        if len(equations) == 1:
            return -balance[:, 5:]
        update_closure(q, g, self.WALL, self.GAS, closure)
        return np.concatenate([-balance[:, 5:], closure], axis=1)

    def check(self, q, equations, axes):
        g, n, nt = np.ascontiguousarray(self.g[:, : q.shape[1]]), len(q), len(equations)
        changing, nb = 2 * (nt - 1), len(axes)
        found = SourceJacobians(
            np.zeros((n, nt, nb)), np.zeros((n, nt, nb, 3)), np.zeros((n, changing, nb)), np.zeros((n, changing, nb, 3))
        )
        source_jacobians(q, g, self.WALL, self.volume, self.GAS, np.array(axes), equations, found)
        by_state = np.concatenate([found.by_state, found.closure_state], axis=1)
        by_gradient = np.concatenate([found.by_gradient, found.closure_gradient], axis=1)
        scale = np.abs(self.values(q, g, equations)) + 1e-12
        for j, k in enumerate(axes):
            for d in (-1, 0, 1, 2):
                if d >= 0 and k in (0, 4):
                    continue  # gradients of density are held fixed
                h = 1e-5 * (1.0 if d < 0 else np.abs(g[:, k, d]).max())
                made = []
                for sign in (1.0, -1.0):
                    moved, slopes = q.copy(), g.copy()
                    if d < 0:
                        moved[:, k] += sign * h
                    else:
                        slopes[:, k, d] += sign * h
                    made.append(self.values(moved, slopes, equations))
                expected = (made[0] - made[1]) / (2.0 * h)
                given = by_state[:, :, j] if d < 0 else by_gradient[:, :, j, d]
                np.testing.assert_array_less(np.abs(given - expected), 1e-4 * (np.abs(expected) + scale))

    def test_derivatives_of_one_equation(self):
        for factor in (1.0, 30.0, -2.0):  # little turbulence, much, and below zero
            q = np.ascontiguousarray(self.q[:, :6])
            q[:, 5] *= factor
            self.check(q, (0,), [0, 1, 2, 3, 4, 5])

    def test_derivatives_of_two_equations_and_their_closure(self):
        for omega in (3.0, 1000.0):
            q = self.q.copy()
            q[:, 6] = np.log(omega)
            self.check(q, (0, 0), [0, 1, 2, 3, 4, 5, 6])


class Threads(unittest.TestCase):
    def test_a_march_does_not_depend_on_the_number_of_threads(self):
        run = (
            "import zephyrum as zy, hashlib;"
            "m = zy.mesh_airfoil(zy.Airfoil.naca('0012'), 64, 16, topology='O');"
            "s = zy.solve(m, zy.Freestream(mach=0.75, alpha=2));"
            "print(hashlib.sha256(s.flow.q.tobytes()).hexdigest())"
        )
        answers = set()
        for threads in ("1", "2"):
            environment = os.environ | {"NUMBA_NUM_THREADS": threads, "OPENBLAS_NUM_THREADS": threads}
            done = subprocess.run([sys.executable, "-c", run], env=environment, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stderr)
            answers.add(done.stdout)
        self.assertEqual(len(answers), 1)


class Workers(unittest.TestCase):
    def test_what_goes_wrong_in_a_worker_reaches_the_caller(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")
        with self.assertRaisesRegex(zy.InputError, "model"):
            zy.sweep(mesh, [0, 2], [0.3], model="no such model", processes=2)
