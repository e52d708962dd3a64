"""Sections with boundary layers: response to displacement, Newton's equations, polars, the command line."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from click.testing import CliRunner

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.loworder.panel.coupled_layers import CoupledLayers, CouplingOptions
from zephyrum.loworder.panel.displacement import DisplacedSection, PanelLayout, _flux
from zephyrum.loworder.panel.layer_march import exponent_in_interval
from zephyrum.loworder.panel.reduced_system import eliminated
from zephyrum.loworder.panel.stream_function import source_velocity, surface_sources, vortex_panels, wake_sources
from zephyrum.loworder.panel.transition_search import TransitionSearch

COARSE = PanelLayout(panels=100, wake_nodes=18)


class Influence(unittest.TestCase):
    def test_stream_functions_have_the_velocity_of_their_sources(self):
        first, last, step = np.array([[0.2, 0.1]]), np.array([[1.0, 0.4]]), 1e-5
        for at in ([0.3, 1.0], [2.0, 0.9], [-0.5, -0.3], [0.5, 0.8]):
            at = np.array([at])
            velocity = source_velocity(at, first, last)
            for call in (surface_sources, wake_sources, vortex_panels):
                turn = 1j if call is vortex_panels else 1.0
                for end in (0, 1):
                    by_x, by_z = (
                        (call(at + d, first, last)[end] - call(at - d, first, last)[end]) / (2.0 * step)
                        for d in (np.array([step, 0.0]), np.array([0.0, step]))
                    )
                    w = turn * velocity[end][0, 0]
                    self.assertAlmostEqual(by_z[0, 0], w.real, 6)
                    self.assertAlmostEqual(-by_x[0, 0], -w.imag, 6)

    def test_displacement_of_a_thin_section_is_a_thicker_one(self):
        # a constant displacement added to a section is the flow about the section that much thicker
        foil, d = zy.Airfoil.naca("0012"), 1e-3
        section = DisplacedSection(foil, PanelLayout(panels=240, wake_nodes=30))
        response = section.response(0.0)
        n = section.count
        speed = np.abs(response.inviscid)
        defect = np.where(np.arange(len(speed)) < n, d, 2.0 * d) * speed  # that of both sides in the wake
        moved = response.inviscid + response.matrix @ (np.sign(response.inviscid) * defect)
        thicker = section.points.copy()
        tangent = np.gradient(thicker, section.arc, axis=0)
        thicker += d * np.stack([tangent[:, 1], -tangent[:, 0]], axis=1)
        other = zy.panel_section(zy.Airfoil(thicker, "thicker"), 240).solve(0.0)
        nodes = np.concatenate(other.section.points)
        x = section.points[:, 0]
        upper, inside = np.arange(n) < n // 2, (x > 0.1) & (x < 0.8)
        order = np.argsort(nodes[:120, 0])
        found = np.interp(x[upper & inside], nodes[:120][order, 0], other.speed[:120][order])
        gained = found - np.interp(x[upper & inside], x[: n // 2][::-1], response.inviscid[: n // 2][::-1])
        # on a curved wall the speed falls outwards by its curvature times the displacement
        bend = np.gradient(np.unwrap(np.arctan2(tangent[:, 1], tangent[:, 0])), section.arc)
        outside = moved[:n] - response.inviscid[:n] - bend * d * speed[:n]
        self.assertLess(np.abs(outside[upper & inside] - gained).max(), 4e-4)
        self.assertGreater(np.abs(gained).max(), 2e-3)

    def test_bumps_speed_up_the_flow_on_top_of_them(self):
        for foil in (zy.Airfoil.naca("2412"), zy.Airfoil.naca("0012").blunted(0.01)):
            matrix = DisplacedSection(foil, COARSE).response(3.0).matrix
            self.assertGreater(matrix.diagonal()[1 : COARSE.panels].min(), 0.0)


class Newton(unittest.TestCase):
    def test_equations_are_met_and_steps_are_those_of_differences(self):
        section = DisplacedSection(zy.Airfoil.naca("2412"), COARSE)
        layers = CoupledLayers(section, 3.0, 1e-6, 9.0, (1.0, 1.0), CouplingOptions())
        layers.begin()
        self.assertTrue(layers.solve())
        coupling = layers.coupling()
        changed = np.array([own[int(place) + 1] for own, place in zip(layers.sides, layers.place)])
        residuals = eliminated(layers.stations(), layers.panel(), changed)[2]
        slow = layers.values[:, 3] < 0.02  # stations at rest take no part
        self.assertLess(np.abs(residuals[~slow]).max(), 1e-6)
        self.assertLess(np.abs(coupling.mismatch[~slow]).max(), 1e-6)
        for side in (0, 1):
            self.assertLess(abs(layers.excess(side)[0]) * (layers.place[side] < layers.latest[side] - 0.01), 1e-2)
        # far from the solution a step brings the residuals down by its square
        layers.values[:, 1] *= 1.0 + 1e-4 * np.sin(np.arange(len(slow)))
        before = np.abs(eliminated(layers.stations(), layers.panel(), changed)[2][~slow]).max()
        layers._apply(layers._linearized().change[:, :, 0])
        after = np.abs(eliminated(layers.stations(), layers.panel(), changed)[2][~slow]).max()
        self.assertLess(after, 0.02 * before)

    def test_a_state_goes_back_and_a_failed_advance_changes_nothing(self):
        section = DisplacedSection(zy.Airfoil.naca("0012"), COARSE)
        layers = CoupledLayers(section, 2.0, 1e-6, 9.0, (1.0, 1.0), CouplingOptions(steps=2))
        layers.begin()
        before = layers.values.copy()
        self.assertFalse(layers.advance(3.0, 0))
        np.testing.assert_array_equal(layers.values, before)
        self.assertEqual(layers.alpha, 2.0)

    def test_a_solution_is_not_changed_by_the_march(self):
        section = DisplacedSection(zy.Airfoil.naca("4412"), COARSE)
        layers = CoupledLayers(section, 4.0, 5e-6, 9.0, (1.0, 1.0), CouplingOptions(tolerance=1e-9))
        self.assertTrue(layers.solve())
        before, places = layers.values.copy(), list(layers.place)
        layers._consistent((TransitionSearch((1.0,)), TransitionSearch((1.0,))))
        np.testing.assert_allclose(layers.values[:, 1:], before[:, 1:], rtol=1e-6, atol=1e-9)
        np.testing.assert_allclose(layers.place, places, atol=1e-5)

    def test_stations_keep_their_order_while_the_stagnation_point_is_near(self):
        section = DisplacedSection(zy.Airfoil.naca("0012"), COARSE)
        layers = CoupledLayers(section, 2.0, 1e-6, 9.0, (1.0, 1.0), CouplingOptions())
        k, speeds = layers.split, layers.response.inviscid.copy()
        gradient = speeds[k] - speeds[k + 1]
        for beyond, moves in ((0.1, False), (0.4, True)):
            layers._lay_out(layers.response.inviscid, fresh=True)
            shifted = speeds.copy()
            shifted[: section.count] -= speeds[k] + beyond * gradient
            layers._lay_out(shifted)
            self.assertEqual(layers.split != k, moves, beyond)


class Transition(unittest.TestCase):
    def test_the_exponent_is_continuous_where_transition_passes_a_station(self):
        # four stations of a separating layer: exponent, theta, delta, edge velocity, distance
        rows = np.array(
            [
                [1.0, 1.00e-3, 2.9e-3, 1.10, 0.30],
                [1.8, 1.04e-3, 3.3e-3, 1.08, 0.33],
                [3.5, 1.07e-3, 4.4e-3, 1.06, 0.37],
                [8.0, 1.09e-3, 6.5e-3, 1.05, 0.40],
            ]
        )
        slopes, viscosity = np.empty(16), 1e-6
        before = exponent_in_interval(rows[:3].ravel(), 0.03, viscosity, 1.0, slopes)
        after = exponent_in_interval(rows[1:].ravel(), 0.05, viscosity, 0.0, slopes)
        self.assertAlmostEqual(before, after, 12)
        self.assertGreater(abs(before - rows[3, 0]), 0.3)  # it is not that of the station, which it reaches later
        x = rows[:3].ravel()
        for j in range(15):
            step = 1e-6 * abs(x[j])
            up, down = x.copy(), x.copy()
            up[j], down[j] = x[j] + step, x[j] - step
            exponent_in_interval(x, 0.03, viscosity, 0.6, slopes)
            own = slopes[j]
            found = (
                exponent_in_interval(up, 0.03, viscosity, 0.6, np.empty(16))
                - exponent_in_interval(down, 0.03, viscosity, 0.6, np.empty(16))
            ) / (2.0 * step)
            self.assertAlmostEqual(found, own, delta=1e-5 * (1.0 + abs(own)))

    def test_a_kink_at_a_station_does_not_keep_the_search_going(self):
        def exponent(place):  # steep before station 20, flat behind it, with its root close to the station
            return 28.0 * (place - 20.0) + 0.7 if place < 20.0 else 3.3 * (place - 20.0) + 0.7

        def slope(place):
            return 6.0 if place < 19.95 else 28.0 if place < 20.0 else 3.3

        search, place = TransitionSearch((4.0, 1.5)), 20.2
        for _ in range(25):
            over = exponent(place)
            place += search.move(place, -over / slope(place), over, slope(place), False)
        self.assertTrue(search.fixed)
        self.assertLess(abs(exponent(place)), 1e-4)
        search.follow(3)
        self.assertEqual(search.bounds(0.0, 60.0), (search.predicted, search.predicted))

    def test_long_bubbles_and_sharp_noses_converge(self):
        for digits, alphas, reynolds in (
            ("0012", np.arange(-2.0, 7.0, 2.0), 1e5),  # bubbles at both tails: by the critical exponent
            ("6409", np.arange(0.0, 9.0, 2.0), 1e5),
            ("0006", np.arange(0.0, 9.0, 2.0), 1e7),  # bubbles of two panels at the nose
        ):
            with self.subTest(digits):
                polar = zy.panel_polar(zy.Airfoil.naca(digits), alphas, reynolds)
                self.assertEqual(len(polar.flows), len(alphas), polar.table[["alpha", "converged"]])


class PolarsOverLift(unittest.TestCase):
    def test_lift_coefficients_are_met_and_agree_with_the_polar_over_alpha(self):
        foil, lifts = zy.Airfoil.naca("2412"), [0.3, 0.8]
        found = zy.panel_polar_at_lift(foil, lifts, 3e6)
        np.testing.assert_allclose(found.table["CL"], lifts, atol=2e-4)
        again = zy.panel_polar(foil, found.alphas, 3e6)
        np.testing.assert_allclose(again.table["CL"], lifts, atol=2e-3)
        np.testing.assert_allclose(again.table["CD"], found.table["CD"], rtol=0.01)

    def test_beyond_stall_nothing_is_found(self):
        found = zy.panel_polar_at_lift(zy.Airfoil.naca("0012"), [0.5, 3.0], 3e6)
        self.assertEqual(len(found.flows), 1)
        self.assertAlmostEqual(found.flows[0].cl, 0.5, delta=2e-4)


class Polars(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.polar = zy.panel_polar(zy.Airfoil.naca("0012"), np.arange(-2.0, 9.0, 2.0), 3e6)

    def test_a_symmetric_section_mirrors_itself(self):
        table = self.polar.table.set_index("alpha")
        self.assertTrue(table.converged.all())
        self.assertAlmostEqual(table.CL[0.0], 0.0, 6)
        self.assertAlmostEqual(table.CL[-2.0], -table.CL[2.0], 4)
        self.assertAlmostEqual(table.CD[-2.0], table.CD[2.0], 5)
        self.assertAlmostEqual(table.transition_upper[-2.0], table.transition_lower[2.0], 3)

    def test_numbers_of_naca_0012(self):
        # Abbott, von Doenhoff and Stivers (1945), charts at Re 3e6: slope 0.105 per degree, least drag 0.0058
        self.assertAlmostEqual(self.polar.lift_slope / 0.106, 1.0, delta=0.03)
        self.assertAlmostEqual(self.polar.zero_lift, 0.0, delta=0.01)
        least = min(flow.cd for flow in self.polar.flows)
        self.assertAlmostEqual(least / 0.0058, 1.0, delta=0.08)
        flow = self.polar.flows[-1]
        self.assertLess(flow.transition[0], 0.05)
        self.assertGreater(flow.cd_friction, 0.5 * flow.cd * 0.8)
        self.assertEqual(list(flow.table.side.unique()), ["upper", "lower", "wake"])
        self.assertAlmostEqual(flow.cp.max(), 1.0, delta=0.02)
        with self.assertRaisesRegex(zy.FlowError, "last angle"):
            _ = self.polar.maximum_lift

    def test_panels_do_not_change_the_answer(self):
        coarse, fine = (
            zy.panel_polar(
                zy.Airfoil.naca("4412"), [6.0], 6e6,
                options=zy.LayerOptions(panels=PanelLayout(panels=panels, wake_nodes=panels // 6)),
            ).flows[0]
            for panels in (120, 200)
        )  # fmt: skip
        self.assertAlmostEqual(coarse.cl, fine.cl, delta=3e-3)
        self.assertAlmostEqual(coarse.cd / fine.cd, 1.0, delta=0.01)

    def test_trips_and_turbulence_move_transition(self):
        foil = zy.Airfoil.naca("0012")
        free = zy.panel_polar(foil, [2.0], 3e6).flows[0]
        tripped = zy.panel_polar(foil, [2.0], 3e6, options=zy.LayerOptions(trip_upper=0.1, trip_lower=0.1)).flows[0]
        noisy = zy.panel_polar(foil, [2.0], 3e6, options=zy.LayerOptions(turbulence=0.5)).flows[0]
        for place in tripped.transition:
            self.assertAlmostEqual(place, 0.1, delta=0.01)
        self.assertGreater(tripped.cd, 1.3 * free.cd)
        self.assertLess(noisy.transition[0], free.transition[0])

    def test_a_laminar_bubble_at_low_reynolds_number(self):
        flow = zy.panel_polar(zy.Airfoil.naca("4412"), [4.0], 2e5).flows[0]
        begin, end = flow.bubbles[0]
        self.assertTrue(0.3 < begin < flow.transition[0] < end < 0.7, (begin, flow.transition, end))
        self.assertIsNone(flow.bubbles[1])
        self.assertGreater(flow.cd, 1.8 * zy.panel_polar(zy.Airfoil.naca("4412"), [4.0], 6e6).flows[0].cd)

    def test_stall_and_separation(self):
        polar = zy.panel_polar(zy.Airfoil.naca("4412"), np.arange(4.0, 13.0), 2e5)
        top, at = polar.maximum_lift
        self.assertTrue(1.1 < top < 1.35 and 8.0 < at < 12.0, (top, at))
        apart = polar.table.separation_upper.dropna()
        self.assertTrue((np.diff(apart) < 0.0).all())

    def test_families_in_processes_are_those_of_one(self):
        foils = {"thin": zy.Airfoil.naca("0010"), "thick": zy.Airfoil.naca("2415")}
        said = []
        one = zy.polar_family(foils, [0.0, 2.0], [2e6], report=said.append)
        two = zy.polar_family(foils, [0.0, 2.0], [2e6], processes=2)
        np.testing.assert_allclose(one.CL, two.CL, atol=1e-9)
        self.assertEqual(len(said), 2)
        self.assertEqual(set(one.section), {"thin", "thick"})

    def test_what_does_not_fit_is_refused(self):
        foil = zy.Airfoil.naca("0012")
        for call, said in (
            (lambda: zy.panel_polar(foil, [0.0], 1e3), "reynolds"),
            (lambda: zy.panel_polar(foil, [90.0], 1e6), "within 40 deg"),
            (lambda: zy.panel_polar(foil, [0.0], 1e6, mach=0.7), "too high for incompressible layers"),
            (lambda: zy.LayerOptions(critical=50.0), "critical"),
            (lambda: zy.LayerOptions(turbulence=10.0), "relation of Mack"),
            (lambda: zy.polar_family({}, [0.0], [1e6]), "one section"),
        ):
            with self.subTest(said), self.assertRaisesRegex(zy.InputError, said):
                call()


class SeveralElements(unittest.TestCase):
    FOIL = zy.Airfoil.naca("2412")
    FLAP = zy.Airfoil.naca("0012").scaled(0.3).rotated(15.0).moved(1.01, -0.04)
    FAST = zy.LayerOptions(panels=COARSE)

    def polar(self, elements, alphas, **more):
        return zy.panel_polar(elements, alphas, 3e6, options=more.pop("options", self.FAST), **more)

    def test_sources_elsewhere_flow_through_an_element_as_their_stream_function_says(self):
        section = DisplacedSection(self.FOIL, COARSE)
        ends = (section.response(2.0).wake[3:-1], section.response(2.0).wake[4:])
        first, last = wake_sources(section.points, *ends)
        known = np.zeros((section.count, len(ends[0]) + 1))
        known[:, :-1] += first
        known[:, 1:] += last
        np.testing.assert_allclose(_flux(section.points, ends), known - known[:1], atol=1e-9)

    def test_one_element_is_a_section_and_far_ones_do_not_feel_each_other(self):
        alone = self.polar(self.FOIL, [2.0, 4.0]).table
        names = ["CL", "CD", "CM", "CD_friction"]
        np.testing.assert_allclose(self.polar({"only": self.FOIL}, [2.0, 4.0]).table[names], alone[names], rtol=1e-4)
        pair = self.polar({"low": self.FOIL, "high": self.FOIL.moved(0.0, 400.0)}, [2.0, 4.0])
        for name in ("low", "high"):
            np.testing.assert_allclose(pair.table[f"CL_{name}"], alone.CL, rtol=5e-4)
            np.testing.assert_allclose(pair.table[f"CD_{name}"], alone.CD, rtol=2e-3)

    def test_mirrored_elements_mirror_their_flow(self):
        # a section over a ground and its image
        low = self.FOIL.moved(0.0, 0.5)
        image = zy.Airfoil((low.points * [1.0, -1.0])[::-1], "image")
        flow = self.polar({"section": low, "image": image}, [0.0]).flows[0]
        self.assertAlmostEqual(flow.share("section", "cl"), -flow.share("image", "cl"), delta=2e-4)
        self.assertAlmostEqual(flow.share("section", "cd"), flow.share("image", "cd"), delta=2e-6)
        self.assertAlmostEqual(flow.cl, 0.0, delta=2e-4)
        self.assertGreater(flow.rounds, 1)

    def test_a_slotted_flap(self):
        polar = self.polar({"wing": self.FOIL, "flap": self.FLAP}, [0.0, 4.0, 8.0])
        self.assertTrue(polar.table.converged.all())
        # Spalart-Allmaras on 26,049 cells at M 0.15, all turbulent: 1.297, 1.867, 2.401 (validation/section_elements)
        np.testing.assert_allclose(polar.table.CL, [1.30, 1.86, 2.40], atol=0.02)
        np.testing.assert_allclose(polar.table.CL_wing + polar.table.CL_flap, polar.table.CL)
        np.testing.assert_allclose(polar.table.CD_wing + polar.table.CD_flap, polar.table.CD)
        tripped = zy.LayerOptions(panels=COARSE, trip_upper=0.03, trip_lower=0.03)
        self.assertGreater(
            self.polar({"wing": self.FOIL, "flap": self.FLAP}, [4.0], options=tripped).flows[0].cd,
            1.05 * polar.flows[1].cd,
        )
        inviscid = zy.panel_section({"wing": self.FOIL, "flap": self.FLAP}).solve(4.0).cl
        self.assertLess(polar.flows[1].cl, 0.95 * inviscid)
        self.assertEqual(set(polar.flows[1].table.element), {"wing", "flap"})
        self.assertIn("wing, flap", str(polar))
        with self.assertRaisesRegex(zy.InputError, "no element"):
            self.polar({}, [0.0])
        inside = {"wing": self.FOIL, "flap": zy.Airfoil.naca("0012").scaled(0.3).moved(0.8, 0.0)}
        for call in (lambda: self.polar(inside, [2.0]), lambda: zy.panel_section(inside)):
            with self.assertRaisesRegex(zy.InputError, "'wing' reaches into 'flap'|'flap' reaches into 'wing'"):
                call()

    def test_on_the_command_line(self):
        with tempfile.TemporaryDirectory() as folder:
            flap, figure = Path(folder, "flap.dat"), Path(folder, "elements.png")
            self.FLAP.write(flap)
            words = ["section-polar", "naca2412", "--reynolds", "3e6", "--alpha", "0:4:4"]
            done = CliRunner().invoke(
                main, [*words, "--element", f"flap={flap}", "--csv", folder, "--figure", str(figure)]
            )
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn("CL_flap", done.output)
            assert_picture(self, figure)
            table = pd.read_csv(Path(folder, "section_polar.csv"))
            np.testing.assert_allclose(table.CL, [1.30, 1.86], atol=0.02)
            for bad, said in (("flap", "NAME=FILE"), (f"main={flap}", "taken")):
                self.assertIn(said, str(CliRunner().invoke(main, [*words, "--element", bad]).output))
            lift = CliRunner().invoke(main, [*words, "--element", f"flap={flap}", "--lift", "0.5"])
            self.assertIn("--lift is for a section alone", str(lift.output))


class CommandLine(unittest.TestCase):
    def run_words(self, *words):
        return CliRunner().invoke(main, ["section-polar", *words])

    def test_it_prints_writes_and_draws(self):
        with tempfile.TemporaryDirectory() as folder:
            figure = Path(folder, "polar.png")
            done = self.run_words(
                "naca2412", "--reynolds", "3e6", "--alpha", "0:4:2", "--csv", folder, "--figure", str(figure)
            )
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn("lift slope 0.10", done.output)
            self.assertTrue(figure.stat().st_size > 20_000)
            self.assertEqual(len(Path(folder, "section_polar.csv").read_text().splitlines()), 4)
            self.assertIn("delta_star_m", Path(folder, "section_layers.csv").read_text().splitlines()[0])

    def test_several_reynolds_and_mach_numbers(self):
        with tempfile.TemporaryDirectory() as folder:
            figure = Path(folder, "polars.png")
            words = ("naca2412", "--reynolds", "1e6,3e6", "--mach", "0,0.3", "--alpha", "0:4:4")
            done = self.run_words(*words, "--csv", folder, "--figure", str(figure))
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertEqual(done.output.count("lift slope"), 4)
            assert_picture(self, figure)
            table = pd.read_csv(Path(folder, "section_polar.csv"))
        self.assertEqual(len(table), 8)
        family = zy.polar_family({"own": zy.Airfoil.naca("2412")}, [0.0, 4.0], [1e6, 3e6], [0.0, 0.3])
        np.testing.assert_allclose(family.CL, table.CL, atol=1e-9)
        lift = table.set_index(["Re", "mach", "alpha"]).CL
        self.assertAlmostEqual(lift[3e6, 0.3, 4.0] / lift[3e6, 0.0, 4.0], 1.0 / np.sqrt(1.0 - 0.09), delta=0.02)
        self.assertIn("between commas", self.run_words("naca2412", "--reynolds", "1e6;2e6").output)
        with self.assertRaisesRegex(zy.InputError, "too high for incompressible"):
            zy.polar_family({"own": zy.Airfoil.naca("2412")}, [0.0], [1e6], [0.0, 0.7])

    def test_mistakes_are_said(self):
        done = self.run_words("naca2412", "--reynolds", "3e6", "--alpha", "4:0:1")
        self.assertNotEqual(done.exit_code, 0)
        self.assertIn("first:last:step", str(done.output) + str(done.exception))


if __name__ == "__main__":
    unittest.main()
