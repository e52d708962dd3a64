"""Bodies, ducts, struts and plates: exact volumes and areas, convergence with the tolerance, refusals."""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.geometry.surface.self_intersection import crossing_triangles


class Exact(unittest.TestCase):
    def converges(self, make, volume, area=None):
        errors = []
        for tolerance in (2e-3, 5e-4, 1.25e-4):
            surface = make(tolerance)
            self.assertTrue(surface.watertight)
            errors.append((1.0 - surface.volume / volume, 0.0 if area is None else 1.0 - surface.area() / area))
        errors = np.array(errors)
        self.assertLess(errors[-1].max(), 1.5e-3)
        ratio = errors[:-1, 0] / errors[1:, 0]  # a quarter of the tolerance, a quarter of the error
        self.assertTrue(((ratio > 3.0) & (ratio < 5.5)).all(), errors)

    def test_an_ellipsoid_and_a_capsule_converge(self):
        self.converges(lambda t: zy.Body.ellipsoid(4.0, 1.5, 1.0).surface(tolerance=t), np.pi / 6.0 * 6.0)
        self.converges(lambda t: zy.Body.capsule(5.0, 1.0).surface(tolerance=t), np.pi / 6.0 + np.pi, 5.0 * np.pi)

    def test_a_box_is_exact_and_its_faces_have_their_names(self):
        box = zy.Body.box(2.0, 1.0, 0.5).surface()
        self.assertAlmostEqual(box.volume, 1.0, 12)
        for label, area in (("body/front", 0.5), ("body/base", 0.5), ("body/side", 6.0)):
            self.assertAlmostEqual(box.area(label), area, 12)
        np.testing.assert_allclose(box.centroid, (1.0, 0.0, 0.0), atol=1e-12)

    def test_a_cone_a_frustum_and_a_prism_over_a_free_outline(self):
        cone = zy.Body(rings=[zy.Ring(x=0, width=0), zy.Ring(x=3, width=2)], nose="pointed").surface(tolerance=1e-4)
        self.assertLess(abs(cone.volume / np.pi - 1.0), 1e-3)
        frustum = zy.Body(rings=[zy.Ring(x=0, width=1), zy.Ring(x=3, width=2)], straight=True).surface(tolerance=1e-4)
        self.assertLess(abs(frustum.volume / (np.pi / 12.0 * 3.0 * 7.0) - 1.0), 1e-3)
        house = ((1.0, -1.0), (1.0, 0.5), (0.0, 1.0), (-1.0, 0.5), (-1.0, -1.0))
        rings = [zy.Ring(x=x, width=2.0, height=2.0, form="free", outline=house) for x in (0.0, 2.0)]
        self.assertAlmostEqual(zy.Body(rings=rings).surface().volume, 2.0 * 3.5, 9)

    def test_rounded_corners_take_away_what_they_should(self):
        rings = [zy.Ring(x=x, width=2.0, height=1.0, form="rectangle", radius="20 cm") for x in (0.0, 3.0)]
        exact = 3.0 * (2.0 - (4.0 - np.pi) * 0.04)
        self.assertLess(abs(zy.Body(rings=rings).surface(tolerance=1e-4).volume / exact - 1.0), 1e-3)

    def test_an_open_duct_is_a_ring_and_a_faired_one_is_whole(self):
        duct = zy.Duct(length=1.5, inlet=0.8, exit=0.8, airfoil="NACA 0010")
        area = zy.Airfoil.naca("0010").measures.area * 1.5**2
        hollow = duct.surface(tolerance=5e-5)
        self.assertLess(abs(hollow.volume / (np.pi * 0.8 * area) - 1.0), 2e-3)  # Pappus
        self.assertEqual(set(hollow.labels), {"duct/outer", "duct/inner"})
        full = zy.Duct(length=1.5, inlet=0.8, exit=0.8, airfoil="NACA 0010", faired=True).surface()
        self.assertTrue(full.watertight)
        self.assertGreater(full.volume, hollow.volume + 0.25 * np.pi * 0.64)

    def test_struts_and_plates(self):
        strut = zy.Strut(start=(0, 0, 0), end=(0.3, 3.0, 4.0), chord=0.2, airfoil="NACA 0020").surface(tolerance=1e-4)
        self.assertLess(abs(strut.volume / (5.0 * zy.Airfoil.naca("0020").measures.area * 0.04) - 1.0), 2e-3)
        plate = zy.Plate(corners=((0, 0), (1, 0), (1, 1), (0, 2)), thickness="2 cm").surface()
        self.assertAlmostEqual(plate.volume, 0.03, 12)
        self.assertAlmostEqual(plate.area("plate/upper"), 1.5, 12)

    def test_a_smooth_fuselage_has_no_waves_and_no_crossings(self):
        rings = [
            zy.Ring(x=0, width=0, z=-0.2),
            zy.Ring(x=1, width=0.9, height=0.8),
            zy.Ring(x=2, width=1.4, height=1.6, form="rectangle", radius=0.3, z=0.2),
            zy.Ring(x=6, width=1.4, height=1.6, form="rectangle", radius=0.3, z=0.2),
            zy.Ring(x=10, width=0.3, height=0.5, z=0.5),
        ]
        body = zy.Body(rings=rings)
        x = np.linspace(0.0, 10.0, 500)
        width = body.sizes(x)[:, 0]
        self.assertTrue(
            (np.diff(width[x < 2]) > 0).all()
            and np.ptp(width[(x > 2) & (x < 6)]) < 1e-12
            and (np.diff(width[x > 6]) < 0).all()
        )
        self.assertEqual(len(crossing_triangles(body.surface())), 0)


class Refusals(unittest.TestCase):
    def test_what_does_not_fit_is_refused_by_name(self):
        cases = (
            (lambda: zy.Ring(x=0, width=1, height=0), "is a line"),
            (lambda: zy.Ring(x=0, width=1, form="rectangle", radius=0.6), "radius"),
            (lambda: zy.Ring(x=0, width=1, radius=0.1), "belongs to form"),
            (lambda: zy.Ring(x=0, width=1, form="free"), "go together"),
            (lambda: zy.Ring(x=0, width=1, form="free", outline=((0, 0), (0, 1), (1, 0))), "counter-clockwise"),
            (lambda: zy.Body(rings=[zy.Ring(x=0, width=1)]), "at least two"),
            (lambda: zy.Body(rings=[zy.Ring(x=1, width=1), zy.Ring(x=0, width=1)]), "nose to tail"),
            (lambda: zy.Body(rings=[zy.Ring(x=0, width=0), zy.Ring(x=1, width=0)]), "no size"),
            (
                lambda: zy.Body(rings=[zy.Ring(x=0, width=1), zy.Ring(x=1, width=0), zy.Ring(x=2, width=1)]),
                "only the first and the last",
            ),
            (lambda: zy.Strut(start=(0, 0, 0), end=(1, 0, 0), chord=0.1, airfoil="NACA 0012"), "sideways"),
            (lambda: zy.Plate(corners=((0, 0), (1, 0), (0.5, 0.1), (0, 2)), thickness=0.1), "wrong way"),
            (lambda: zy.Duct(length=1.0, inlet=0.05, exit=0.05, airfoil="NACA 0024").surface(), "too thick"),
        )
        for call, word in cases:
            with self.assertRaises(zy.InputError) as refused:
                call()
            self.assertIn(word, str(refused.exception))
