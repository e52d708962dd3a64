"""Shapes and gas against closed forms: masses, shadows, sections of solids, families of sections, stations, nearest
points.
"""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.conditions.axes import angles_of, wind_axes, wind_vector
from zephyrum.geometry.aircraft.mass_properties import NONE, of_point, of_skin, of_solid
from zephyrum.geometry.aircraft.stations import (
    airfoils_between,
    interpolate_airfoils,
    outer_end,
    panel_of,
    span_lengths,
    station_at,
)
from zephyrum.geometry.surface.nearest_point import distances
from zephyrum.geometry.surface.solids import common_volume, difference, outline_of, projection, section_area, union


class Masses(unittest.TestCase):
    def test_a_full_box_has_the_inertia_of_the_books(self):
        a, b, c = 2.0, 1.0, 0.5
        made = of_solid(zy.Body.box(a, b, c).surface(), 700.0)
        mass = 700.0 * a * b * c
        self.assertAlmostEqual(made.mass, mass, 8)
        np.testing.assert_allclose(made.centre, [0.5 * a, 0.0, 0.0], atol=1e-12)
        exact = mass / 12.0 * np.array([b**2 + c**2, a**2 + c**2, a**2 + b**2])
        np.testing.assert_allclose(made.inertia, np.diag(exact), atol=1e-9 * mass)

    def test_a_hollow_box_has_the_inertia_of_its_six_plates(self):
        a, b, c, skin = 2.0, 1.0, 0.5, 3.0
        made = of_skin(zy.Body.box(a, b, c).surface(), skin)
        self.assertAlmostEqual(made.mass, skin * 2.0 * (a * b + b * c + a * c), 9)
        sides = ((a * b, 2, (a, b), (0, 1)), (b * c, 0, (b, c), (1, 2)), (a * c, 1, (a, c), (0, 2)))
        second = np.zeros(3)  # int x^2, y^2, z^2 about the centre
        size = np.array([a, b, c])
        for area, normal, lengths, along in sides:
            mass = 2.0 * skin * area
            second[normal] += mass * (0.5 * size[normal]) ** 2
            for length, axis in zip(lengths, along, strict=True):
                second[axis] += mass * length**2 / 12.0
        np.testing.assert_allclose(np.diag(made.inertia), second.sum() - second, rtol=1e-10)

    def test_a_ball_full_and_hollow(self):
        ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=2e-5)
        full, hollow = of_solid(ball, 1000.0), of_skin(ball, 10.0)
        np.testing.assert_allclose(full.inertia, np.eye(3) * 0.4 * full.mass * 0.25, atol=2e-3 * full.mass * 0.1)
        np.testing.assert_allclose(hollow.inertia, np.eye(3) * 2.0 / 3.0 * hollow.mass * 0.25, atol=2e-3 * hollow.mass)

    def test_masses_add_about_their_common_centre(self):
        one, two = of_point(2.0, (0.0, 0.0, 0.0)), of_point(6.0, (0.0, 4.0, 0.0))
        both = one + two
        self.assertEqual(both.mass, 8.0)
        np.testing.assert_allclose(both.centre, [0.0, 3.0, 0.0])
        reduced = 2.0 * 6.0 / 8.0 * 16.0
        np.testing.assert_allclose(both.inertia, np.diag([reduced, 0.0, reduced]), atol=1e-12)
        self.assertIs(NONE + one, one)
        self.assertIs(one + NONE, one)

    def test_inertia_does_not_hang_on_where_the_body_lies(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        far = box.transformed(np.eye(3), (1e3, -2e3, 5e2))
        np.testing.assert_allclose(of_solid(far, 1.0).inertia, of_solid(box, 1.0).inertia, atol=1e-7)

    def test_a_turned_body_has_the_turned_tensor(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        c, s = np.cos(0.4), np.sin(0.4)
        turn = np.array([[c, 0.0, -s], [0.0, 1.0, 0.0], [s, 0.0, c]])
        plain, turned = of_solid(box, 2.0).inertia, of_solid(box.transformed(turn), 2.0).inertia
        options = [turn @ plain @ turn.T, turn.T @ plain @ turn]
        self.assertTrue(any(np.allclose(turned, one, atol=1e-10) for one in options))
        self.assertAlmostEqual(np.trace(turned), np.trace(plain), 10)


class Solids(unittest.TestCase):
    def test_shadows_and_sections_of_a_box_and_a_ball(self):
        box = zy.Body.box(3.0, 2.0, 1.0).surface()
        for along, exact in (("x", 2.0), ("y", 3.0), ("z", 6.0)):
            self.assertAlmostEqual(projection(box, along), exact, 9)
        np.testing.assert_allclose(section_area(box, np.array([0.5, 1.5, 2.9])), 2.0, rtol=1e-9)
        ball = zy.Body.ellipsoid(2.0, 2.0).surface(tolerance=5e-5)
        x = np.linspace(0.2, 1.8, 9)
        np.testing.assert_allclose(section_area(ball, x), np.pi * (1.0 - (x - 1.0) ** 2), rtol=2e-3)
        np.testing.assert_allclose(section_area(ball, np.array([-1.0, 5.0])), 0.0)
        rims = outline_of(ball, "x")
        self.assertEqual(len(rims), 1)
        np.testing.assert_allclose(np.linalg.norm(rims[0], axis=1), 1.0, atol=2e-3)

    def test_booleans_of_two_boxes_are_exact(self):
        one = zy.Body.box(2.0, 1.0, 1.0).surface("one")
        two = one.transformed(np.eye(3), (1.5, 0.25, 0.0)).labelled("two/side")
        self.assertAlmostEqual(common_volume(one, two), 0.5 * 0.75, 9)
        both = union([one, two])
        self.assertTrue(both.watertight)
        self.assertAlmostEqual(both.volume, 4.0 - 0.375, 9)
        self.assertEqual({name.split("/")[0] for name in both.labels}, {"one", "two"})
        rest = difference(one, [two])
        self.assertAlmostEqual(rest.volume, 2.0 - 0.375, 9)
        self.assertAlmostEqual(common_volume(one, one.transformed(np.eye(3), (9.0, 0.0, 0.0))), 0.0, 12)
        torn = one.selected(np.arange(len(one.triangles)) > 0)
        with self.assertRaises(zy.InputError):
            union([torn, two])

    def test_what_a_cone_measures(self):
        cone = zy.Body(rings=[zy.Ring(x=0.0, width=0.0), zy.Ring(x=3.0, width=2.0)], nose="pointed", straight=True)
        sizes = zy.measure_surface(cone.surface(tolerance=5e-5))
        printed = {name: value for name, value, _ in sizes.rows()}
        self.assertAlmostEqual(printed["length"], 3.0, 9)
        for name, exact in (("volume", np.pi), ("frontal area", np.pi), ("planform area", 3.0), ("side area", 3.0)):
            self.assertLess(abs(printed[name] / exact - 1.0), 3e-3, name)
        self.assertLess(abs(printed["wetted area"] / (np.pi * (1.0 + np.sqrt(10.0))) - 1.0), 3e-3)
        self.assertLess(abs(printed["centroid x"] - 2.25), 3e-3)
        x, area = sizes.area_distribution(31)
        np.testing.assert_allclose(area[1:-1], np.pi * (x[1:-1] / 3.0) ** 2, atol=0.01)
        torn = sizes.surface.selected(np.arange(len(sizes.surface.triangles)) > 0)
        with self.assertRaises(zy.InputError):
            zy.measure_surface(torn)

    def test_the_nearest_point_is_that_of_all_triangles_tried(self):
        rng = np.random.default_rng(3)
        surface = zy.Body.ellipsoid(2.0, 1.0).surface(tolerance=5e-3)
        positions = rng.uniform(-1.0, 3.0, (60, 3))
        corners = surface.points[surface.triangles]
        fractions = rng.dirichlet([1.0, 1.0, 1.0], 400)
        tried = np.concatenate([np.einsum("sk,tkd->std", fractions, corners).reshape(-1, 3), surface.points])
        brute = np.array([np.linalg.norm(tried - position, axis=1).min() for position in positions])
        found = distances(positions, surface.points, surface.triangles)
        self.assertTrue((found <= brute + 1e-12).all())
        self.assertLess(float((brute - found).max()), 0.02)
        self.assertTrue(np.isinf(distances(positions, surface.points, surface.triangles[:0])).all())
        line = np.array([[0, 1, 1]])
        np.testing.assert_allclose(
            distances(np.array([[0.5, 2.0, 0.0]]), np.eye(3) * 0.0 + [[0, 0, 0], [1, 0, 0], [1, 0, 0]], line), 2.0
        )


class Stations(unittest.TestCase):
    ROOT = zy.Station(position=(1.0, 0.5, 0.2), chord=2.0, twist=1.0, airfoil="NACA 0012")

    def test_panels_go_where_sweep_and_dihedral_say(self):
        end = outer_end(self.ROOT, zy.Panel(span=2.0, taper=0.5, sweep=30.0, sweep_at=0.5, dihedral=90.0, twist=-2.0))
        x = 1.0 + 2.0 * np.tan(np.radians(30.0)) + 0.5 * (2.0 - 1.0)
        np.testing.assert_allclose(end.position, [x, 0.5, 2.2], atol=1e-12)
        self.assertEqual((end.chord, end.twist), (1.0, -2.0))
        flat = outer_end(self.ROOT, zy.Panel(span=2.0, chord=1.5))
        np.testing.assert_allclose(flat.position, [1.0 + 0.25 * 0.5, 2.5, 0.2], atol=1e-12)
        with self.assertRaisesRegex(zy.InputError, "both given"):
            zy.Panel(span=1.0, chord=1.0, taper=0.5)

    def test_numbers_of_a_planform_are_two_and_only_two(self):
        for given in ({}, {"span": 8.0}, {"span": 8.0, "area": 8.0, "root_chord": 1.0}):
            with self.subTest(given), self.assertRaisesRegex(zy.InputError, "exactly two"):
                zy.Planform(**given)
        with self.assertRaises(zy.InputError):
            zy.Planform(span=-1.0, area=2.0)

    def test_sections_between_stations_lie_between_them(self):
        tip = zy.Station(position=(1.0, 4.5, 0.2), chord=1.0, airfoil="NACA 0024")
        midpoint = zy.Station(position=(1.0, 2.5, 0.2), chord=1.5)
        np.testing.assert_allclose(span_lengths([self.ROOT, midpoint, tip]), [0.0, 2.0, 4.0])
        foils = airfoils_between([self.ROOT, midpoint, tip], [self.ROOT.airfoil, None, tip.airfoil])
        self.assertAlmostEqual(foils[1].measures.thickness, 0.18, 4)
        self.assertIs(interpolate_airfoils(foils[0], foils[2], 0.0), foils[0])
        self.assertIs(interpolate_airfoils(foils[0], foils[2], 1.0), foils[2])
        self.assertIs(interpolate_airfoils(foils[0], foils[0], 0.5), foils[0])
        tree = np.array([0.0, 0.5, 1.0])
        self.assertEqual(panel_of(tree, 0.0), (0, 0.0))
        self.assertEqual(panel_of(tree, 0.75), (1, 0.5))
        self.assertEqual(panel_of(tree, 1.0), (1, 1.0))
        wing = zy.Wing(stations=[self.ROOT, midpoint, tip])
        there = station_at(wing.sections, tree, 0.25)
        self.assertAlmostEqual(there.chord, 1.75)
        self.assertAlmostEqual(there.position[1], 1.5)
        self.assertAlmostEqual(wing.at(0.25).chord, 1.75)


class Families(unittest.TestCase):
    def test_a_spline_moves_with_its_control_points(self):
        control = np.array([[1, 0], [0.7, 0.08], [0.3, 0.12], [0, 0.06], [0, -0.05], [0.4, -0.05], [1, 0]], dtype=float)
        foil = zy.Airfoil.from_control_points(control)
        moved = zy.Airfoil.from_control_points(2.0 * control + [3.0, -1.0])
        np.testing.assert_allclose(moved.points, 2.0 * foil.points + [3.0, -1.0], atol=1e-12)
        np.testing.assert_allclose(foil.points[[0, -1]], control[[0, -1]], atol=1e-12)
        for wrong in (control[:4], np.zeros((6, 3)), np.where(control > 0.5, np.nan, control)):
            with self.assertRaisesRegex(zy.InputError, "at least 5 finite rows"):
                zy.Airfoil.from_control_points(wrong)

    def test_constant_class_shape_weights_are_the_class_function(self):
        foil = zy.Airfoil.from_class_shape([0.2, 0.2, 0.2], [-0.1], gap=0.004)
        x, z = foil.points.T
        up = np.arange(len(x)) < np.argmin(x)
        exact = np.sqrt(x) * (1.0 - x)
        np.testing.assert_allclose(z[up], 0.2 * exact[up] + 0.002 * x[up], atol=1e-12)
        np.testing.assert_allclose(z[~up], -0.1 * exact[~up] - 0.002 * x[~up], atol=1e-12)
        self.assertAlmostEqual(foil.gap, 0.004, 10)
        for upper, lower, options, word in (
            ([], [0.1], {}, "upper"),
            ([0.1], [np.nan], {}, "lower"),
            ([0.1], [-0.1], {"gap": 0.5}, "gap"),
        ):
            with self.subTest(word), self.assertRaisesRegex(zy.InputError, word):
                zy.Airfoil.from_class_shape(upper, lower, **options)

    def test_digits_that_are_no_section_are_refused_with_the_reason(self):
        for digits, word in (
            ("12", "four or five"),
            ("24a2", "four or five"),
            ("2400", "thickness"),
            ("2099", "thickness"),
            ("2012", "no place"),
            ("23912", "one of"),
            ("03012", "first not 0"),
        ):
            with self.subTest(digits), self.assertRaisesRegex(zy.InputError, word):
                zy.Airfoil.naca(digits)

    def test_reflexed_sections_level_their_tail(self):
        plain, reflexed = zy.Airfoil.naca("23012"), zy.Airfoil.naca("23112")
        for foil in (plain, reflexed):
            self.assertAlmostEqual(foil.measures.thickness, 0.12, 3)

        def tail_slope(foil):
            up, low = foil.points[3], foil.points[-4]
            return (0.5 * (up + low) - foil.tail)[1] / (foil.tail[0] - 0.5 * (up + low)[0])

        self.assertLess(tail_slope(reflexed), 0.2 * tail_slope(plain))


class Winds(unittest.TestCase):
    def test_angles_and_vectors_are_each_others_inverse(self):
        for alpha, beta in ((0.0, 0.0), (12.0, -7.0), (-30.0, 44.0), (89.0, 0.0)):
            wind = wind_vector(alpha, beta)
            self.assertAlmostEqual(np.linalg.norm(wind), 1.0, 14)
            np.testing.assert_allclose(angles_of(7.0 * wind), (alpha, beta), atol=1e-10)
            axes = wind_axes(alpha, beta)
            np.testing.assert_allclose(axes @ axes.T, np.eye(3), atol=1e-14)
            np.testing.assert_allclose(axes[0], wind, atol=1e-14)  # drag is along the moving air
        with self.assertRaises(zy.InputError):
            angles_of(np.zeros(3))

    def test_pressure_coefficients_of_the_books(self):
        air = zy.Freestream(mach=0.8, altitude=0.0)
        self.assertAlmostEqual(air.cp_critical, -0.4346, 4)  # Liepmann and Roshko (1957), gamma 1.4
        self.assertAlmostEqual(air.cp_vacuum, -2.0 / (1.4 * 0.64), 12)
        self.assertAlmostEqual(air.cp_stagnation, ((1.0 + 0.2 * 0.64) ** 3.5 - 1.0) / (0.7 * 0.64), 12)
        fast = zy.Freestream(mach=2.0, altitude=0.0)
        self.assertAlmostEqual(fast.cp_stagnation, (5.640440812823 - 1.0) / (0.7 * 4.0), 5)  # NACA Report 1135
        self.assertAlmostEqual(fast.cp_vacuum, -1.0 / (0.7 * 4.0), 12)


if __name__ == "__main__":
    unittest.main()
