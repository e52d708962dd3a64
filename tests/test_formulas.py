"""Formulas of the flow, one face or cell at a time, against what their papers say and against their own differences."""

import math
import unittest

import numpy as np

import zephyrum as zy
from zephyrum.flow.discretization.limiter import (
    Limiter,
    least_weight,
    limiter_weight,
    limiter_weight_derivatives,
    smooth_variation,
    van_albada,
)
from zephyrum.flow.physics.boundary_conditions import (
    FARFIELD,
    IMPOSED,
    NO_SLIP,
    OUTFLOW,
    PERIODIC,
    ROLE_CODES,
    SLIP,
    boundary_code,
    boundary_flux,
)
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.flow.physics.inviscid_flux import euler_flux, roe_flux
from zephyrum.flow.physics.smoothing import smoothstep, smoothstep_array
from zephyrum.flow.physics.transport import diffusion_coefficients, viscosity
from zephyrum.flow.physics.turbulence import MODELS, freestream_turbulence, model_code, sa, sst, typical_turbulence

AIR = (0.0, 0.3, 0.05, -0.02, 1.0)


def turned(state, turn):
    """A state in axes turned by the matrix `turn`."""
    return (state[0], *(turn @ np.array(state[1:4])), state[4])


class Boundaries(unittest.TestCase):
    def flux(self, code, inside, outside, normal=(1.0, 0.0, 0.0)):
        return np.array(
            boundary_flux(code, tuple(map(float, inside)), tuple(map(float, outside)), tuple(map(float, normal)), 1.4)
        )

    def exact(self, state, normal=(1.0, 0.0, 0.0)):
        return np.array(euler_flux(tuple(map(float, state)), tuple(map(float, normal)), 1.4))

    def test_through_walls_goes_nothing_but_pressure(self):
        state = (0.07, 0.3, -0.1, 0.2, 1.05)
        n = np.array([0.6, 0.0, 0.8])
        for code in (SLIP, NO_SLIP):
            np.testing.assert_allclose(self.flux(code, state, (0.0,) * 5, n), [0.0, *(0.07 * n), 0.0], atol=1e-15)
        np.testing.assert_array_equal(self.flux(PERIODIC, state, state, n), 0.0)

    def test_along_a_curved_wall_the_flow_may_pass_its_flat_face(self):
        n, curved = np.array([0.0, 0.0, 1.0]), np.array([math.sin(0.1), 0.0, math.cos(0.1)])
        state = np.array([0.0, 0.3, 0.0, 0.0, 1.0])
        out = self.flux(SLIP, state, (0.0, *curved, 0.0), n)
        along = state[1:4] - (state[1:4] @ curved) * curved
        self.assertAlmostEqual(out[0], along @ n, 12)
        np.testing.assert_allclose(self.flux(SLIP, state, (0.0, *n, 0.0), n), [0.0, 0.0, 0.0, 0.0, 0.0], atol=1e-15)

    def test_a_farfield_lets_its_own_stream_pass_and_what_is_faster_than_sound_undisturbed(self):
        for normal in ((1.0, 0, 0), (0, 0, -1.0), (0.6, 0.0, 0.8)):
            np.testing.assert_allclose(self.flux(FARFIELD, AIR, AIR, normal), self.exact(AIR, normal), atol=1e-12)
        fast, other = (0.0, 1.8, 0.1, 0.0, 1.0), (0.3, 1.5, 0.0, 0.1, 1.2)
        np.testing.assert_allclose(self.flux(FARFIELD, other, fast), self.exact(other), atol=1e-12)  # leaves
        np.testing.assert_allclose(
            self.flux(FARFIELD, other, fast, (-1.0, 0, 0)), self.exact(fast, (-1.0, 0, 0)), atol=1e-12
        )

    def test_speed_along_the_boundary_is_that_of_the_side_the_air_comes_from(self):
        inside, outside = (0.02, 0.45, 0.03, 0.0, 1.01), (0.0, 0.5, 0.0, 0.07, 1.0)
        for normal, side, sign in (((-1.0, 0.0, 0.0), outside, -1.0), ((1.0, 0.0, 0.0), inside, 1.0)):
            mass, _, y, z, _ = self.flux(FARFIELD, inside, outside, normal)
            self.assertGreater(sign * mass, 0.0)
            np.testing.assert_allclose([y / mass, z / mass], side[2:4], atol=1e-12)

    def test_an_outflow_takes_the_pressure_outside_unless_it_is_too_fast(self):
        slow, fast, outside = (0.05, 0.4, 0.1, 0.0, 1.02), (0.05, 1.4, 0.1, 0.0, 1.02), (0.0, 0.5, 0.0, 0.0, 1.0)
        np.testing.assert_allclose(self.flux(OUTFLOW, slow, outside), self.exact((0.0, *slow[1:])), atol=1e-14)
        np.testing.assert_allclose(self.flux(OUTFLOW, fast, outside), self.exact(fast), atol=1e-14)

    def test_an_imposed_state_is_roes_neighbour(self):
        outside = (0.1, 0.2, 0.0, 0.1, 1.1)
        np.testing.assert_allclose(
            self.flux(IMPOSED, AIR, outside), roe_flux(AIR, outside, (1.0, 0.0, 0.0), 1.4), atol=1e-15
        )

    def test_all_of_them_turn_with_their_axes(self):
        turn = np.linalg.qr(np.random.default_rng(3).standard_normal((3, 3)))[0]
        inside, outside = (0.05, 0.4, 0.1, -0.2, 1.02), (0.0, 0.5, 0.05, 0.0, 1.0)
        n = np.array([0.6, 0.0, 0.8])
        for code in (FARFIELD, OUTFLOW, IMPOSED, NO_SLIP):
            one = self.flux(code, inside, outside, n)
            two = self.flux(code, turned(inside, turn), turned(outside, turn), turn @ n)
            np.testing.assert_allclose(two[[0, 4]], one[[0, 4]], atol=1e-12)
            np.testing.assert_allclose(two[1:4], turn @ one[1:4], atol=1e-12)

    def test_walls_slip_in_inviscid_flow_only(self):
        self.assertEqual([boundary_code("wall", model) for model in MODELS], [SLIP, NO_SLIP, NO_SLIP, NO_SLIP])
        for role in ROLE_CODES:
            if role not in ("wall", "ground"):
                self.assertEqual(boundary_code(role, "sa"), boundary_code(role, "euler"))


class Limiting(unittest.TestCase):
    def test_a_smooth_step_is_one(self):
        x = np.linspace(-1.0, 3.0, 401)
        y = smoothstep_array(x, 0.5, 1.5)
        self.assertEqual((y[0], y[-1], smoothstep(1.0, 0.5, 1.5)), (0.0, 1.0, 0.5))
        self.assertTrue((np.diff(y) >= 0.0).all())
        self.assertLess(np.abs(np.diff(y)).max(), 1.5 * 0.0101)
        np.testing.assert_allclose(y + smoothstep_array(2.0 - x, 0.5, 1.5), 1.0)

    def test_the_limiter_keeps_even_slopes_stops_turns_and_knows_its_slope(self):
        self.assertAlmostEqual(van_albada(0.3, 0.3, 1e-12)[0], 1.0, 12)
        self.assertLess(van_albada(0.3, -0.3, 1e-12)[0], 1e-12)
        self.assertAlmostEqual(van_albada(1e-9, -1e-9, 1e-6)[0], 1.0, 9)  # noise is left alone
        for a, b in ((0.2, 0.5), (0.5, 0.2), (0.3, -0.02), (-0.1, -0.4), (0.02, 0.3)):
            value, da, db = van_albada(a, b, 1e-4)
            h = 1e-6
            self.assertAlmostEqual(da, (van_albada(a + h, b, 1e-4)[0] - van_albada(a - h, b, 1e-4)[0]) / (2 * h), 5)
            self.assertAlmostEqual(db, (van_albada(a, b + h, 1e-4)[0] - van_albada(a, b - h, 1e-4)[0]) / (2 * h), 5)
            self.assertAlmostEqual(value, van_albada(b, a, 1e-4)[0], 14)
            self.assertAlmostEqual(value, van_albada(-a, -b, 1e-4)[0], 14)
            self.assertTrue(0.0 <= value <= 1.0)

    def test_it_counts_where_flow_is_fast_or_pressure_steps(self):
        def weight(left, right, floor=0.0, far=(0.0, 0.0)):
            return limiter_weight(floor, left, right, *far, 1.4)

        slow, fast = (0.0, 0.2, 0.0, 0.0, 1.0), (0.0, 1.1, 0.0, 0.0, 1.0)
        self.assertEqual(weight(slow, slow), 0.0)
        self.assertEqual(weight(fast, slow), 1.0)
        self.assertEqual(weight((0.5, 0.2, 0.0, 0.0, 1.0), slow), 1.0)
        self.assertEqual(weight(slow, slow, far=(0.4, 0.0)), 1.0)
        self.assertEqual(weight(slow, slow, 0.25), 0.25)
        self.assertEqual((weight(fast, fast, -1.0), weight(slow, slow, 1.0)), (0.0, 1.0))

    def test_derivatives_of_the_limiter_weight_are_those_of_its_differences(self):
        x = np.array([0.01, 0.8, 0.05, -0.02, 0.99, 0.09, 0.82, 0.01, 0.03, 1.01, 0.05, -0.04])

        def weight(y):
            y = list(map(float, y))
            return limiter_weight(0.1, tuple(y[:5]), tuple(y[5:10]), y[10], y[11], 1.4)

        self.assertTrue(0.1 < weight(x) < 1.0)
        found = limiter_weight_derivatives(0.1, tuple(x[:5].tolist()), tuple(x[5:10].tolist()), x[10], x[11], 1.4)
        steps = 1e-6 * np.eye(12)
        wanted = [(weight(x + h) - weight(x - h)) / 2e-6 for h in steps]
        np.testing.assert_allclose(found, wanted, atol=1e-8)

    def test_modes_and_streams_choose_its_floor(self):
        auto = Limiter()
        floors = [least_weight(Limiter(mode), 0.3, False, False) for mode in ("auto", "on", "off")]
        self.assertEqual(floors, [0.0, 1.0, -1.0])
        self.assertEqual(least_weight(auto, auto.full_mach, True, False), 1.0)
        self.assertEqual(least_weight(auto, auto.fade_in_mach, True, False), 0.0)
        # inviscid flow is limited at shocks only, slow viscous flow in space everywhere
        self.assertEqual([least_weight(auto, mach, False, True) for mach in (0.2, 0.8)], [0.0, 0.0])
        self.assertEqual(least_weight(auto, 0.2, True, True), 1.0)
        self.assertEqual(smooth_variation(auto, 0.2, False, False), auto.smooth_variation)
        self.assertEqual(
            [smooth_variation(auto, 0.2, friction, True) for friction in (False, True)],
            [auto.smooth_variation, auto.smooth_variation_viscous],
        )
        self.assertAlmostEqual(smooth_variation(auto, 0.9, True, True), auto.smooth_variation, 12)


class Gas(unittest.TestCase):
    def test_viscosity_follows_sutherland(self):
        air = zy.Freestream(mach=0.2, altitude=0.0)
        law = Scales.law(air, 1.0)
        self.assertAlmostEqual(viscosity(1.0, law) / law.viscosity, 1.0, 14)
        hot = 400.0 / air.temperature
        book = 1.716e-5 * (400.0 / 273.15) ** 1.5 * (273.15 + 110.4) / (400.0 + 110.4)  # White 2006, ch. 1
        self.assertLess(abs(viscosity(hot, law) * air.density * air.sound_speed / book - 1.0), 2e-3)
        np.testing.assert_allclose(law.viscosity_at(np.array([1.0, hot])), [viscosity(1.0, law), viscosity(hot, law)])

    def test_a_reynolds_number_makes_its_own_viscosity(self):
        law = Scales.law(zy.Freestream(mach=0.3, reynolds=2e6), 1.7)
        self.assertAlmostEqual(0.3 * 1.7 / law.viscosity / 2e6, 1.0, 12)

    def test_conduction_has_both_prandtl_numbers(self):
        law = GasModel(1.4, 1e-5)
        for model in ("laminar", "sa"):
            mu, heat, _, _ = diffusion_coefficients(0.0, 1.0, 50.0, 0.0, (0.0, 1.0), model_code(model), law)
            eddy = mu - 1e-5
            self.assertAlmostEqual(heat / ((1e-5 / 0.72 + eddy / 0.9) / 0.4), 1.0, 12)
            self.assertEqual(eddy > 1e-5, model == "sa")

    def test_unknowns_of_the_inflow(self):
        law = GasModel(1.4, 1e-6, k_unit=1e-3 * 0.2**2)
        self.assertEqual(
            (freestream_turbulence("euler", law, 0.2, 1.0), freestream_turbulence("laminar", law, 0.2, 1.0)), ((), ())
        )
        self.assertEqual(freestream_turbulence("sa", law, 0.2, 1.0), (3.0,))
        k, w = freestream_turbulence("sst", law, 0.2, 2.0)
        self.assertAlmostEqual(math.exp(w), 5.0 * 0.2 / 2.0, 12)
        self.assertAlmostEqual(k * law.k_unit / math.exp(w) / law.viscosity, 0.01, 12)
        for model in MODELS:
            self.assertEqual(len(typical_turbulence(model)), max(model_code(model) - 1, 0))


class OneEquation(unittest.TestCase):
    NU = 1e-6

    def source(self, x, wall=0.01, vorticity=100.0, shift=0.0, active=1.0):
        return sa.sa_source(1.0, self.NU, x, (wall, shift, active), vorticity, 0.0, 0.0, self.NU)

    def test_eddy_viscosity_is_that_of_the_paper(self):
        for chi in (0.1, 1.0, 7.1, 50.0, 1e4):
            fv1 = chi**3 / (chi**3 + 7.1**3)
            self.assertAlmostEqual(sa.sa_eddy_viscosity(chi * self.NU, self.NU, 0.0) / (chi * self.NU * fv1), 1.0, 12)
        self.assertEqual(sa.sa_eddy_viscosity(-3.0 * self.NU, self.NU, 0.0), 0.0)
        rough = sa.sa_eddy_viscosity(5.0 * self.NU, self.NU, 10.0)
        self.assertAlmostEqual(rough / (5.0 * self.NU * 15.0**3 / (15.0**3 + 7.1**3)), 1.0, 12)

    def test_what_spreads_it_never_turns_negative(self):
        chi = np.linspace(-50.0, 50.0, 2001)
        spread = np.array([sa.sa_diffusivity(c * self.NU, self.NU) for c in chi])
        self.assertGreater(spread.min(), 0.0)
        self.assertAlmostEqual(sa.sa_diffusivity(0.0, self.NU) * sa.SIGMA / self.NU, 1.0, 12)
        self.assertLess(np.abs(np.diff(spread)).max(), 2e-7)  # no step at 0

    def test_without_shear_it_decays_as_the_wall_destroys_it(self):
        x, wall = 40.0, 0.02
        r = 10.0  # the limit where there is no shear
        g = r + 0.3 * (r**6 - r)
        fw = g * ((1.0 + 2.0**6) / (g**6 + 2.0**6)) ** (1.0 / 6.0)
        expected = -sa.CW1 * fw * (x * self.NU) ** 2 / wall**2 / self.NU
        self.assertLess(abs(self.source(x, wall, 1e-12, active=0.0) / expected - 1.0), 1e-6)

    def test_production_counts_where_it_is_active_only(self):
        on, half, off = (self.source(30.0, 0.05, 2000.0, active=a) for a in (1.0, 0.5, 0.0))
        self.assertGreater(on, 0.0)
        self.assertLess(off, 0.0)
        self.assertAlmostEqual(half, 0.5 * (on + off), 12)

    def test_below_zero_it_is_driven_back(self):
        for x in (-0.5, -5.0, -50.0):
            self.assertGreater(self.source(x, vorticity=0.0), 0.0)
        self.assertLess(abs(self.source(-1e-9) - self.source(1e-9)), 1e-6)

    def test_gradient_terms_return_their_derivatives(self):
        square, product = 2e4, 30.0
        for x in (30.0, 0.5, -0.7, -12.0):
            value, by_square, by_product = sa.sa_gradient_terms(1.1, self.NU, x, square, product, self.NU)
            for da, db, slope in ((1.0, 0.0, by_square), (0.0, 1.0, by_product)):
                moved, _, _ = sa.sa_gradient_terms(1.1, self.NU, x, square + da, product + db, self.NU)
                self.assertLess(abs(moved - value - slope), 1e-9 * abs(value))


class TwoEquations(unittest.TestCase):
    RHO, MU = 1.0, 1e-6

    def test_rounded_extremes_are_those_of_the_two(self):
        for a, b in ((1.0, 3.0), (0.2, 0.1), (5.0, 5.0), (1e-6, 1e3)):
            self.assertLess(abs(sst.smooth_max(a, b) / max(a, b) - 1.0), 0.011)
            self.assertLess(abs(sst.smooth_min(a, b) / min(a, b) - 1.0), 0.011)
            self.assertAlmostEqual(sst.smooth_max(a, b) / sst.smooth_max(b, a), 1.0, 14)

    def test_it_is_k_omega_at_the_wall_and_k_epsilon_far_from_it(self):
        k, w = 1e-5, math.log(50.0)
        _, near = sst.sst_closure(self.RHO, self.MU, k, w, 1e-3, 100.0, 0.0)
        _, far = sst.sst_closure(self.RHO, self.MU, k, w, 10.0, 100.0, 1e-3)
        self.assertGreater(near, 0.99)
        self.assertLess(far, 0.01)
        np.testing.assert_allclose(sst.sst_diffusivities(1.0, 2.0, 1.0), [1.0 + 0.85 * 2.0, 1.0 + 0.5 * 2.0])
        np.testing.assert_allclose(sst.sst_diffusivities(1.0, 2.0, 0.0), [3.0, 1.0 + 0.856 * 2.0])

    def test_shear_stress_is_limited_by_k(self):
        k, w, strain = 1e-4, math.log(10.0), 1000.0
        floor, _ = sst.sst_closure(self.RHO, self.MU, k, w, 1e-2, strain, 0.0)
        eddy = sst.sst_eddy_viscosity(self.RHO, k, w, floor)
        self.assertLess(abs(eddy * strain / (sst.A1 * self.RHO * k) - 1.0), 0.02)
        self.assertAlmostEqual(sst.sst_eddy_viscosity(self.RHO, k, w, 1e-9) / (k / 10.0), 1.0, 2)
        self.assertEqual(sst.sst_eddy_viscosity(self.RHO, -k, w, floor), 0.0)

    def test_in_a_free_stream_both_decay_as_they_should(self):
        k, w = 1e-5, math.log(40.0)
        dk, dw, _, _ = sst.sst_source(self.RHO, self.MU, k, w, (1e3, 1.0), 1e-9, 0.0, 0.0)
        self.assertAlmostEqual(dk / (-0.09 * k * 40.0), 1.0, 6)
        self.assertAlmostEqual(dw / (-0.0828 * 40.0), 1.0, 2)

    def test_production_is_never_more_than_ten_times_destruction(self):
        k, w = 1e-6, math.log(5.0)
        destroyed = 0.09 * self.RHO * k * 5.0
        for strain in (1.0, 10.0, 1e3, 1e5):
            made = sst.sst_source(self.RHO, self.MU, k, w, (1.0, 1.0), strain, 0.0, 0.0)[0] + destroyed
            self.assertLess(made, 10.3 * destroyed)
        laminar = sst.sst_source(self.RHO, self.MU, k, w, (1.0, 0.0), 1e3, 0.0, 0.0)[0]
        self.assertAlmostEqual(laminar / -destroyed, 1.0, 9)


if __name__ == "__main__":
    unittest.main()


class Outflow(unittest.TestCase):
    def test_the_flux_has_no_step_at_the_speed_of_sound(self):
        outside = (0.0, 0.0, 0.0, 0.0, 1.0)
        fluxes = [
            np.array(boundary_flux(OUTFLOW, (0.1, speed, 0.0, 0.0, 1.0), outside, (1.0, 0.0, 0.0), 1.4))
            for speed in (0.5, 0.8999, 0.9001, 0.9999, 1.0001)
        ]
        self.assertAlmostEqual(fluxes[0][0], 0.5)  # the density of the pressure outside
        self.assertLess(np.abs(fluxes[2] - fluxes[1]).max(), 1e-3)
        self.assertLess(np.abs(fluxes[4] - fluxes[3]).max(), 1e-3)
        self.assertAlmostEqual(fluxes[4][0], 1.14 * 1.0001)  # its own
