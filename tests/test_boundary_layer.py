"""Integral boundary layers: similar flows, separation of a linearly retarded flow, transition, turbulent plates."""

import unittest

import numpy as np
from scipy.integrate import solve_bvp

import zephyrum as zy
from zephyrum.loworder.drag_buildup.friction import schoenherr
from zephyrum.loworder.panel.boundary_layer import march_layer
from zephyrum.loworder.panel.falkner_skan import SIMILAR, similar_shape_factor
from zephyrum.loworder.panel.integral_closures import laminar_closure
from zephyrum.loworder.panel.layer_equations import LAMINAR, TURBULENT, WAKE, interval_derivatives


class Similar(unittest.TestCase):
    def test_the_table_solves_the_equation(self):
        for m, slope in ((0.0, 0.332057), (1.0, 1.232588), (-0.0717, None)):

            def rate(eta, f, m=m):
                return np.vstack([f[1], f[2], -0.5 * (m + 1.0) * f[0] * f[2] - m * (1.0 - f[1] ** 2)])

            eta = np.linspace(0.0, 14.0, 300)
            guess = np.vstack([eta - 1.3 * (1.0 - np.exp(-eta)), 1.0 - np.exp(-eta), np.exp(-eta)])
            found = solve_bvp(rate, lambda a, b: np.array([a[0], a[1], b[1] - 1.0]), eta, guess, tol=1e-8)
            fine = np.linspace(0.0, 14.0, 20001)
            u = found.sol(fine)[1]
            displacement, momentum = np.trapezoid(1.0 - u, fine), np.trapezoid(u * (1.0 - u), fine)
            h = displacement / momentum
            if slope is not None:
                self.assertAlmostEqual(found.sol(0.0)[2], slope, 5)
            self.assertAlmostEqual(similar_shape_factor(m), h, delta=1e-3)
            energy, friction, _ = (value.real for value in laminar_closure(h + 0j, 1.0 + 0j))
            self.assertAlmostEqual(energy, np.trapezoid(u * (1.0 - u**2), fine) / momentum, 4)
            self.assertAlmostEqual(friction, momentum * found.sol(0.0)[2], 4)

    def test_momentum_and_energy_balance_along_the_whole_table(self):
        for m, h, _, friction, dissipation in SIMILAR:
            growth = 0.5 * (1.0 - m) + (h + 2.0) * m  # s Cf / (2 theta)
            if abs(friction) > 1e-3:
                self.assertAlmostEqual((1.0 - h) * m + growth * (1.0 - dissipation / friction), 0.0, 4)

    def test_marches_keep_similar_flows(self):
        s = np.linspace(0.0, 1.0, 41)[1:]
        for m, theta, wall in (
            (0.0, 0.66411, 0.33206),
            (1.0, 0.29234, 1.23259),
            (-0.0717, None, 0.14),
            (-0.09, None, 0.0189),
        ):
            found = march_layer(s, s**m, 1e-4, critical=30.0, start=m)
            self.assertAlmostEqual(found.h[-1] / similar_shape_factor(m), 1.0, delta=2e-4)
            if theta is not None:
                self.assertAlmostEqual(100.0 * found.theta[-1] / theta, 1.0, delta=1e-4)
            self.assertAlmostEqual(50.0 * found.friction[-1] / wall, 1.0, delta=5e-3)

    def test_a_linearly_retarded_flow_separates_where_it_should(self):
        # Howarth (1938): 0.1199 of the length in which the velocity would fall to zero
        for n in (100, 200):
            s = np.linspace(0.0, 0.2, n + 1)[1:]
            found = march_layer(s, 1.0 - s, 1e-5, critical=30.0)
            self.assertAlmostEqual(found.separation / 0.1199, 1.0, delta=0.01)
            self.assertLess(len(found.s), n)


class TransitionAndTurbulence(unittest.TestCase):
    def test_a_plate_in_quiet_and_in_turbulent_air(self):
        s = np.geomspace(1e-3, 5.0, 300)
        quiet = march_layer(s, np.ones_like(s), 1e-6)
        self.assertTrue(2.6 < quiet.transition < 3.4)
        noisy = march_layer(s, np.ones_like(s), 1e-6, critical=3.0)
        self.assertLess(noisy.transition, quiet.transition)
        finer = np.geomspace(1e-3, 5.0, 1200)
        self.assertAlmostEqual(
            march_layer(finer, np.ones_like(finer), 1e-6).transition / quiet.transition, 1.0, delta=0.01
        )
        tripped = march_layer(s, np.ones_like(s), 1e-6, trip=0.5)
        self.assertAlmostEqual(tripped.transition, 0.5)
        self.assertGreater(tripped.theta[-1], quiet.theta[-1])
        self.assertEqual(list(tripped.table.columns)[:2], ["s_m", "edge_m_s"])

    def test_turbulent_plates_follow_schoenherr(self):
        s = np.geomspace(3e2, 6e8, 140) * 1e-6
        found = march_layer(s, np.ones_like(s), 1e-6, trip=5e-3)
        for reynolds in (1e6, 1e7, 1e8, 5e8):
            mean = 2.0 * np.interp(reynolds * 1e-6, found.s, found.theta) / (reynolds * 1e-6)
            self.assertAlmostEqual(mean / schoenherr(reynolds), 1.0, delta=0.03)
        # in equilibrium on a plate, G = (H - 1) / H sqrt(2 / Cf) is 6.7 (Clauser 1954)
        g = (found.h - 1.0) / found.h * np.sqrt(2.0 / found.friction)
        self.assertAlmostEqual(g[-1], 6.7, delta=0.1)

    def test_pressure_rises_separate_and_falls_thin(self):
        s = np.linspace(0.01, 1.0, 200)
        rise = march_layer(s, 1.0 - 0.6 * s, 1e-7, trip=0.01)
        self.assertTrue(0.3 < rise.separation < 1.0)
        fall = march_layer(s, 1.0 + 0.6 * s, 1e-7, trip=0.01)
        self.assertTrue(np.isnan(fall.separation))
        plate = march_layer(s, np.ones_like(s), 1e-7, trip=0.01)
        self.assertLess(fall.h[-1], plate.h[-1])

    def test_derivatives_of_an_interval_are_those_of_differences(self):
        laminar = [3.0, 4e-4, 1.1e-3, 1.2, 0.3, 5.0, 4.5e-4, 1.3e-3, 1.18, 0.32]
        turbulent = [0.05, 4e-4, 7e-4, 1.2, 0.3, 0.055, 4.5e-4, 9e-4, 1.18, 0.32]
        between = laminar[:5] + turbulent[5:]
        for kinds, x, gap in (
            ((LAMINAR, LAMINAR), laminar, 0.0),
            ((LAMINAR, TURBULENT), between, 0.0),
            ((TURBULENT, TURBULENT), turbulent, 0.0),
            ((WAKE, WAKE), turbulent, 1e-4),
        ):
            x = np.array([*x, 0.4])

            def found(x, kinds=kinds, gap=gap):
                residuals, slopes = np.empty(3), np.empty((3, 11))
                interval_derivatives(np.array(kinds), x[:10], np.full(2, gap), 1e-6, x[10], residuals, slopes)
                return residuals, slopes

            for j in range(11):
                step = np.zeros(11)
                step[j] = 1e-6 * x[j]
                difference = (found(x + step)[0] - found(x - step)[0]) / (2.0 * step[j])
                np.testing.assert_allclose(
                    found(x)[1][:, j], difference, rtol=1e-5, atol=1e-6 * abs(difference).max() + 1e-9
                )

    def test_what_does_not_fit_is_refused(self):
        s = np.linspace(0.1, 1.0, 10)
        for call, said in (
            (lambda: march_layer(s[::-1], np.ones(10), 1e-6), "must rise"),
            (lambda: march_layer(s, np.ones(9), 1e-6), "must rise"),
            (lambda: march_layer(s, 0.5 - s, 1e-6), "not positive"),
            (lambda: march_layer(s, np.ones(10), -1.0), "viscosity"),
            (lambda: march_layer(s, np.ones(10), 1e-6, critical=99.0), "critical"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                call()


if __name__ == "__main__":
    unittest.main()
