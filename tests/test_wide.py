"""Breadth: many sections, many meshes, mirrored and moved shapes, odd inputs."""

import unittest

import numpy as np

import zephyrum as zy


class ManySections(unittest.TestCase):
    DIGITS = ("0006", "0012", "0024", "1408", "2412", "4415", "6409", "23012", "24112", "23115")

    def test_every_section_measures_what_its_name_says(self):
        for digits in self.DIGITS:
            for tail in ("closed", "blunt"):
                with self.subTest(digits, tail=tail):
                    m = zy.Airfoil.naca(digits, tail).measures
                    self.assertAlmostEqual(m.thickness, int(digits[-2:]) / 100, delta=2e-3)
                    self.assertAlmostEqual(m.thickness_at, 0.30, delta=0.03)
                    self.assertAlmostEqual(m.chord, 1.0, delta=2e-3)
                    if len(digits) == 4:
                        self.assertAlmostEqual(m.camber, int(digits[0]) / 100, delta=3e-3)
                    self.assertEqual(m.gap > 0, tail == "blunt")

    def test_every_section_meshes_in_both_topologies(self):
        for digits in self.DIGITS:
            for topology in "CO":
                with self.subTest(digits, topology=topology):
                    mesh = zy.mesh_airfoil(zy.Airfoil.naca(digits), 128, 32, topology=topology)
                    self.assertGreaterEqual(len(mesh.family()), 2)
                    for relative in mesh.family():
                        relative.check()

    def test_reflexed_line_pitches_up_against_the_plain_one(self):
        plain, reflexed = (
            zy.solve(
                zy.mesh_airfoil(zy.Airfoil.naca(digits), 96, 32, topology="O"),
                zy.Freestream(mach=0.2, alpha=0.0),
                numerics=zy.Numerics(residual_drop=5),
            ).forces.CM
            for digits in ("23012", "23112")
        )
        self.assertGreater(reflexed, plain + 0.005)

    def test_mean_line_of_a_symmetric_section_is_straight(self):
        for digits in ("0008", "0015"):
            m = zy.Airfoil.naca(digits).measures
            self.assertAlmostEqual(m.camber, 0.0, delta=1e-6)
            self.assertAlmostEqual(m.incidence, 0.0, delta=1e-6)


class MovedShapes(unittest.TestCase):
    def setUp(self):
        self.numerics = zy.Numerics(residual_drop=6)
        self.air = zy.Freestream(mach=0.3, alpha=4.0)

    def forces(self, foil, air=None):
        mesh = zy.mesh_airfoil(foil, 96, 32, topology="O")
        return zy.solve(mesh, air or self.air, numerics=self.numerics).forces

    def test_turning_the_section_is_turning_the_wind(self):
        foil = zy.Airfoil.naca("0012")
        turned = self.forces(foil.rotated(4.0), self.air.turned(alpha=0.0))
        self.assertAlmostEqual(turned.CL / self.forces(foil).CL, 1.0, delta=6e-3)

    def test_upside_down_is_mirrored(self):
        foil = zy.Airfoil.naca("2412")
        a, b = self.forces(foil), self.forces(foil.flipped(), self.air.turned(alpha=-4.0))
        self.assertAlmostEqual(a.CL, -b.CL, delta=2e-4)
        self.assertAlmostEqual(a.CM, -b.CM, delta=2e-4)

    def test_shifting_the_section_changes_nothing(self):
        foil = zy.Airfoil.naca("2412")
        moved = zy.Airfoil(foil.points + np.array([3.0, -2.0]), "moved")
        a, b = self.forces(foil), self.forces(moved)
        self.assertAlmostEqual(a.CL, b.CL, delta=1e-5)
        self.assertAlmostEqual(a.CM, b.CM, delta=1e-5)

    def test_air_changes_newtons_and_not_coefficients(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 96, 32, topology="O")
        low, high = (
            zy.solve(mesh, zy.Freestream(mach=0.3, altitude=h, alpha=4.0), numerics=self.numerics)
            for h in (0.0, 9000.0)
        )
        self.assertAlmostEqual(low.forces.CL, high.forces.CL, delta=1e-6)
        ratio = high.air.pressure / low.air.pressure
        self.assertAlmostEqual(high.forces.newtons()[2] / low.forces.newtons()[2], ratio, delta=1e-4)


class OddInputs(unittest.TestCase):
    def test_points_that_are_no_section(self):
        good = zy.Airfoil.naca("0012").points
        twice, hole = good.copy(), good.copy()
        twice[10] = twice[11]
        hole[5, 1] = np.inf
        for points, words in (
            (good[:4], "at least 7"),
            (good[:, :1], "shape"),
            (twice, "are the same"),
            (hole, "not finite"),
            (good[::-1], "wrong way round"),
            (good * 0.0, "the same|no area"),
        ):
            with self.subTest(words), self.assertRaisesRegex(zy.InputError, words):
                zy.Airfoil(points)

    def test_changes_that_make_no_sense(self):
        foil = zy.Airfoil.naca("0012")
        for call in (
            lambda: foil.resampled(2),
            lambda: foil.resampled(10.5),
            lambda: foil.blunted(-0.01),
            lambda: foil.blunted(0.5),
            lambda: foil.scaled(0.0),
            lambda: foil.scaled("big"),
            lambda: foil.rotated(float("nan")),
            lambda: foil.with_flap(0.7, 10.0, height=2.0),
            lambda: zy.Airfoil.from_class_shape([], [0.1]),
            lambda: zy.Airfoil.from_class_shape([0.1, float("inf")], [-0.1]),
            lambda: zy.quantity("x", True, "m"),
            lambda: zy.quantity("x", "12 3 m", "m"),
            lambda: zy.quantity("x", None, "m"),
        ):
            with self.assertRaises(zy.InputError):
                call()

    def test_data_can_not_be_changed_behind_ones_back(self):
        foil, air = zy.Airfoil.naca("0012"), zy.Freestream(mach=0.3)
        with self.assertRaises(ValueError):
            foil.points[0, 0] = 5.0
        with self.assertRaises(AttributeError):
            air.mach = 0.4
        with self.assertRaises(AttributeError):
            zy.Numerics().residual_drop = 3


if __name__ == "__main__":
    unittest.main()
