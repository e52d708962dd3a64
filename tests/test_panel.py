"""Inviscid panels about sections: conformal maps, order, blunt tails, several elements, compressibility, refusals."""

import unittest

import numpy as np

import zephyrum as zy
from validation.potential import MappedAirfoil
from zephyrum.loworder.panel.inviscid import PanelSection
from zephyrum.loworder.panel.stream_function import source_panels, vortex_panels


def mapped(section: MappedAirfoil, count: int, alpha: float = 4.0):
    """(flow by panels, exact Cp at the nodes, exact cl)."""
    points, cp, cl = section.flow(alpha, count + 1)
    return PanelSection((points,), ("map",), 1.0, (0.25, 0.0)).solve(alpha), cp, cl


class Maps(unittest.TestCase):
    def test_cusped_and_wedge_tails_to_second_order(self):
        for section in (MappedAirfoil(0.1, 0.05, 0.0), MappedAirfoil(0.08, 0.06, 15.0)):
            lift, pressure = [], []
            for count in (100, 200, 400):
                flow, cp, cl = mapped(section, count)
                lift.append(abs(flow.cl / cl - 1.0))
                pressure.append(np.sqrt(np.mean((flow.cp - cp)[2:-2] ** 2)))
                self.assertAlmostEqual(
                    flow._forces()[0] @ [-np.sin(np.radians(4)), np.cos(np.radians(4))], cl, delta=2e-3
                )
            self.assertLess(lift[1], 3e-4)
            self.assertLess(pressure[1], 0.004)
            self.assertGreater(np.log2(lift[0] / lift[2]) / 2.0, 1.8)
            self.assertGreater(np.log2(pressure[0] / pressure[2]) / 2.0, 1.5)

    def test_a_panel_is_what_gauss_integrates(self):
        rng = np.random.default_rng(3)
        a, b, points = rng.normal(size=(1, 2)), rng.normal(size=(1, 2)), rng.normal(loc=3.0, size=(20, 2))
        nodes, weights = np.polynomial.legendre.leggauss(60)
        place = 0.5 * ((1 - nodes)[:, None] * a + (1 + nodes)[:, None] * b)
        logs = np.log(np.linalg.norm(points[:, None] - place[None], axis=2)) * 0.5 * weights * np.linalg.norm(b - a)
        first, last = vortex_panels(points, a, b)
        np.testing.assert_allclose(first[:, 0], (logs * 0.5 * (1 - nodes)).sum(axis=1) / (2 * np.pi), atol=1e-12)
        np.testing.assert_allclose(last[:, 0], (logs * 0.5 * (1 + nodes)).sum(axis=1) / (2 * np.pi), atol=1e-12)
        # a closed circuit round a source panel passes its flux: ends just above and below the cut downstream
        square = np.array([[20.0, 0.31], [20.0, 20.0], [-20.0, 20.0], [-20.0, -20.0], [20.0, -20.0], [20.0, -0.31]])
        passed = source_panels(square, np.array([[0.0, -0.3]]), np.array([[0.0, 0.3]]))[:, 0]
        self.assertAlmostEqual(passed[0] - passed[-1], -0.6, delta=0.005)


class Sections(unittest.TestCase):
    def test_a_symmetric_section_has_no_lift_and_thin_ones_the_slope_of_theory(self):
        model = zy.panel_section(zy.Airfoil.naca("0012"))
        self.assertAlmostEqual(model.solve(0.0).cl, 0.0, 9)
        self.assertAlmostEqual(model.solve(0.0).cm, 0.0, 9)
        self.assertAlmostEqual(model.solve(3.0).cl, -model.solve(-3.0).cl, 9)
        thin = zy.panel_section(zy.Airfoil.naca("0003"), 300)
        # 2 pi (1 + 0.77 t) of a thin section (Abbott and von Doenhoff 1959)
        self.assertAlmostEqual(thin.solve(1.0).cl / (2 * np.pi * np.radians(1.0)), 1.0 + 0.77 * 0.03, delta=0.004)

    def test_a_blunt_tail_changes_little(self):
        sharp = zy.panel_section(zy.Airfoil.naca("4412")).solve(4.0)
        for gap, least in ((0.0025, 3e-3), (0.005, 6e-3), (0.01, 0.012)):
            blunt = zy.panel_section(zy.Airfoil.naca("4412").blunted(gap)).solve(4.0)
            self.assertLess(abs(blunt.cl / sharp.cl - 1.0), least)
            self.assertLess(abs(blunt.cm - sharp.cm), least)
            self.assertAlmostEqual(blunt.speed[0], -blunt.speed[-1], 12)

    def test_two_elements_do_not_depend_on_their_panels(self):
        wing = zy.Airfoil.naca("4415").blunted(0.002)
        flap = zy.Airfoil.naca("4412").scaled(0.3).rotated(30.0)
        flap = flap.moved(0.99 - flap.nose[0], -0.024 - flap.nose[1])
        found = [zy.panel_section({"wing": wing, "flap": flap}, n).solve(4.0) for n in (120, 240)]
        self.assertAlmostEqual(found[0].cl / found[1].cl, 1.0, delta=2e-3)
        self.assertTrue(3.0 < found[1].cl < 4.0)
        table = found[1].table
        self.assertEqual(list(dict.fromkeys(table["element"])), ["wing", "flap"])
        # far apart, each of two equal sections lifts as it does alone
        alone = zy.panel_section(zy.Airfoil.naca("2412")).solve(2.0).cl
        pair = {"low": zy.Airfoil.naca("2412"), "high": zy.Airfoil.naca("2412").moved(0.0, 500.0)}
        self.assertAlmostEqual(zy.panel_section(pair).solve(2.0).cl / (2.0 * alone), 1.0, delta=2e-3)

    def test_the_field_solution_agrees(self):
        foil = zy.Airfoil.naca("2412")
        flow = zy.panel_section(foil).solve(2.0)
        air = zy.Freestream(mach=0.1, alpha=2.0)
        solved = zy.solve(zy.mesh_airfoil(foil, 128, 32, topology="O"), air)
        self.assertAlmostEqual(zy.panel_section(foil).solve(2.0, 0.1).cl / solved.forces.CL, 1.0, delta=0.01)
        self.assertLess(flow.cl, zy.panel_section(foil).solve(2.0, 0.5).cl)

    def test_what_does_not_fit_is_refused(self):
        model = zy.panel_section(zy.Airfoil.naca("0012"))
        for call, said in (
            (lambda: model.solve(2.0, 0.9), "mach = 0.9 is too high"),
            (lambda: model.solve(200.0), "alpha"),
            (lambda: zy.panel_section({}), "no element"),
            (lambda: zy.panel_section(zy.Airfoil.naca("0012"), 5), "panels = 5"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                call()


if __name__ == "__main__":
    unittest.main()
