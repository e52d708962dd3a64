"""Wings: exact areas and volumes of prisms and tapered blocks, measures of cranked planforms, controls, refusals."""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.geometry.aircraft.stations import interpolate_airfoils
from zephyrum.geometry.aircraft.wing_surface import section_points
from zephyrum.geometry.surface.self_intersection import crossing_triangles

ROOT = zy.Station(position=(0.0, 0.0, 0.0), chord=2.0, airfoil="NACA 0012")


def straight(**changes) -> zy.Wing:
    return zy.Wing(planform=zy.Planform(span=8.0, root_chord=1.0), airfoil="NACA 2412", tip="flat", **changes)


class Planforms(unittest.TestCase):
    def test_two_numbers_fix_a_trapezoid_whichever_they_are(self):
        same = {"taper": 0.5, "sweep": 20.0, "washout": 2.0}
        directions = (
            {"span": 10.0, "aspect_ratio": 8.0},
            {"area": 12.5, "aspect_ratio": 8.0},
            {"span": "1000 cm", "area": 12.5},
            {"root_chord": 10.0 / 6.0, "span": 10.0},
            {"root_chord": 10.0 / 6.0, "area": 12.5},
            {"root_chord": 10.0 / 6.0, "aspect_ratio": 8.0},
        )
        for direction in directions:
            m = zy.Wing(planform=zy.Planform(**direction, **same), airfoil="NACA 0012").measures
            for value, exact in (
                (m.area, 12.5),
                (m.span, 10.0),
                (m.aspect_ratio, 8.0),
                (m.sweep, 20.0),
                (m.mean_chord, 35.0 / 27.0),
            ):
                self.assertAlmostEqual(value, exact, 9, direction)

    def test_a_cranked_wing_has_the_mean_chord_of_its_integrals(self):
        wing = zy.Wing(
            stations=[
                ROOT,
                zy.Station(position=(0.1, 3.0, 0.1), chord=1.6),
                zy.Station(position=(0.9, 7.0, 0.4), chord=0.8),
            ]
        )
        y = np.linspace(0.0, 7.0, 700_001)
        chord, nose = np.interp(y, [0, 3, 7], [2.0, 1.6, 0.8]), np.interp(y, [0, 3, 7], [0.0, 0.1, 0.9])
        area = np.trapezoid(chord, y)
        m = wing.measures
        self.assertAlmostEqual(m.area, 2 * area, 9)
        self.assertAlmostEqual(m.mean_chord, np.trapezoid(chord**2, y) / area, 9)
        self.assertAlmostEqual(m.mean_nose[0], np.trapezoid(chord * nose, y) / area, 9)
        self.assertAlmostEqual(wing.reference().point[0], m.mean_nose[0] + 0.25 * m.mean_chord, 12)

    def test_panels_stations_and_planform_make_the_same_wing(self):
        flat = zy.Wing(
            planform=zy.Planform(span=6.0, root_chord=2.0, taper=0.5, sweep=10.0, sweep_at=0.0), airfoil="NACA 0012"
        )
        panels = zy.Wing(root=ROOT, panels=[zy.Panel(span=3.0, taper=0.5, sweep=10.0, sweep_at=0.0)])
        back = 3.0 * np.tan(np.radians(10.0))
        stations = zy.Wing(stations=[ROOT, zy.Station(position=(back, 3.0, 0.0), chord=1.0)])
        prints = {np.round(wing.surface().points, 9).tobytes() for wing in (flat, panels, stations)}
        self.assertEqual(len(prints), 1)


class Surfaces(unittest.TestCase):
    def test_a_straight_wing_is_a_prism(self):
        foil = zy.Airfoil.naca("2412")
        for tolerance, bound in ((1e-3, 0.012), (2.5e-4, 0.003), (6e-5, 8e-4)):
            surface = straight().surface(tolerance=tolerance)
            self.assertTrue(surface.watertight)
            self.assertLess(abs(surface.volume / (8.0 * foil.measures.area) - 1.0), bound)

    def test_a_tapered_wing_has_the_volume_of_a_frustum(self):
        area = zy.Airfoil.naca("0012").measures.area
        wing = zy.Wing(stations=[ROOT, zy.Station(position=(0.5, 4.0, 0.0), chord=1.0)], tip="flat")
        exact = 2.0 * 4.0 / 3.0 * area * (4.0 + 2.0 + 1.0)
        self.assertLess(abs(wing.surface(tolerance=5e-5).volume / exact - 1.0), 1e-3)

    def test_a_round_tip_is_half_a_body_of_revolution(self):
        x = np.linspace(0.0, 1.0, 20001)
        from zephyrum.geometry.airfoil.section_measures import mean_line

        at, _, thick = mean_line(zy.Airfoil.naca("0012"))
        tip = np.trapezoid(0.5 * np.pi * (0.5 * np.interp(x, at, thick)) ** 2, x)
        made = {
            t: zy.Wing(planform=zy.Planform(span=8.0, root_chord=1.0), airfoil="NACA 0012", tip=t).surface(
                tolerance=5e-5
            )
            for t in ("round", "flat")
        }
        self.assertLess(abs((made["round"].volume - made["flat"].volume) / (2 * tip) - 1.0), 0.03)

    def test_halves_mirror_each_other_and_labels_cover_everything(self):
        surface = straight(controls={"flap": zy.Control(start=0.1, end=0.5, deflection=20.0)}).surface()
        self.assertAlmostEqual(surface.area("wing/flap upper"), surface.area("wing/flap port upper"), 9)
        self.assertAlmostEqual(sum(surface.area(label) for label in surface.labels), surface.area(), 12)
        self.assertAlmostEqual(abs(surface.centroid[1]), 0.0, 9)
        self.assertEqual({"wing/upper", "wing/lower", "wing/tip"} - set(surface.labels), set())
        self.assertIn("wing/tail", straight(tail_gap=0.01).surface().labels)

    def test_a_fin_and_a_bent_wing_keep_their_thickness_square_to_the_span(self):
        fin = zy.Wing(
            stations=[ROOT, zy.Station(position=(0.0, 0.0, 3.0), chord=2.0)], symmetric=False, tip="flat"
        ).surface("fin")
        self.assertAlmostEqual(np.ptp(fin.bounds[:, 1]), 0.24, delta=1e-3)
        self.assertAlmostEqual(np.ptp(fin.bounds[:, 2]), 3.0, 9)
        bent = zy.Wing(
            root=ROOT, panels=[zy.Panel(span=3.0, dihedral=0.0), zy.Panel(span=1.0, dihedral=80.0)], tip="flat"
        )
        area = zy.Airfoil.naca("0012").measures.area * 4.0
        self.assertLess(abs(bent.surface(tolerance=1e-4).volume / (2.0 * area * 4.0) - 1.0), 2e-3)
        self.assertAlmostEqual(bent.measures.true_area, 16.0, 9)

    def test_controls_turn_the_tail_by_their_angle_and_nothing_crosses(self):
        for angle in (-25.0, 35.0):
            wing = straight(
                controls={
                    "flap": zy.Control(start=0.2, end=0.7, hinge=0.7, deflection=angle),
                    "aileron": zy.Control(start=0.7, end=0.98, hinge=0.75, deflection=12.0, opposite=True),
                }
            )
            surface = wing.surface()
            self.assertTrue(surface.watertight)
            self.assertEqual(len(crossing_triangles(surface)), 0)
            own = surface.points[np.unique(surface.triangles[surface.belongs("wing/flap upper")])]
            tail = own[(abs(own[:, 1] - 1.8) < 0.4) & (own[:, 0] > 0.9)]
            end = tail[np.argmax(tail[:, 0])]
            self.assertAlmostEqual(np.degrees(np.arctan2(-end[2], end[0] - 0.7)), angle, delta=2.5)
        rear = surface.points[surface.points[:, 0] > 0.97]
        port, starboard = rear[rear[:, 1] < -3.0][:, 2].mean(), rear[rear[:, 1] > 3.0][:, 2].mean()
        self.assertGreater(port, starboard + 0.05)

    def test_a_section_between_two_lies_between_them(self):
        one, two = zy.Airfoil.naca("0008"), zy.Airfoil.naca("0016")
        self.assertAlmostEqual(interpolate_airfoils(one, two, 0.5).measures.thickness, 0.12, 3)
        upper, lower = section_points(one, np.linspace(0.0, 2.0, 41), 0.75, None)
        np.testing.assert_allclose(upper[:, 1], -lower[:, 1], atol=2e-4)


class Refusals(unittest.TestCase):
    def test_what_does_not_fit_is_refused_by_name(self):
        cases = (
            (lambda: zy.Planform(span=8.0, area=8.0, root_chord=1.0), "exactly two"),
            (lambda: zy.Planform(span=8.0, root_chord="1 kg"), "mass"),
            (lambda: zy.Wing(airfoil="NACA 2412"), "exactly one of stations"),
            (lambda: zy.Wing(planform=zy.Planform(span=8.0, root_chord=1.0)), "no airfoil"),
            (lambda: zy.Wing(stations=[ROOT]), "at least two"),
            (lambda: zy.Control(start=0.5, end=0.4), "not inboard"),
            (lambda: zy.Control(start=0.1, end=0.4, hinge=1.2), "hinge"),
            (
                lambda: straight(controls={"a": zy.Control(start=0.1, end=0.5), "b": zy.Control(start=0.4, end=0.9)}),
                "overlap",
            ),
            (
                lambda: straight(controls={"a": zy.Control(start=0.5, end=0.501, deflection=5.0)}).surface(),
                "shorter than its own seals",
            ),
            (lambda: zy.Panel(span=1.0, chord=1.0, taper=0.5), "drop one"),
            (lambda: zy.Station(position=(0, 0, 0), chord=-1.0), "chord"),
            (lambda: zy.Station(position=(0, 0, 0), chord=1.0, airfoil="NACA 99"), "four or five"),
            (lambda: straight(sweeep=3.0), "sweeep"),
            (lambda: straight().surface(tolerance=0.5), "tolerance"),
        )
        for call, word in cases:
            with self.assertRaises(zy.InputError) as refused:
                call()
            self.assertIn(word, str(refused.exception))
