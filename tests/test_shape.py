"""Sections: families, reading, changing, measuring."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy


def read(text: str, unit=None):
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "section.txt"
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return zy.Airfoil.read(path, unit)


class Families(unittest.TestCase):
    def test_tabulated_ordinates(self):
        # NACA Report 460: 0012 at x = 0.3 has half thickness 0.06002; Report 537: 23012 has 0.0760 above at x = 0.3
        foil = zy.Airfoil.naca("0012", tail="blunt")
        self.assertAlmostEqual(np.interp(0.3, foil.points[200:, 0], -foil.points[200:, 1]), 0.06002, delta=2e-5)
        self.assertAlmostEqual(foil.gap, 0.00252, delta=1e-5)
        five = zy.Airfoil.naca("23012", tail="blunt")
        self.assertAlmostEqual(np.interp(0.3, five.points[200::-1, 0], five.points[200::-1, 1]), 0.0755, delta=6e-4)

    def test_measures_against_theory(self):
        m = zy.Airfoil.naca("0015").measures
        self.assertAlmostEqual(m.thickness, 0.15, delta=1e-3)
        self.assertAlmostEqual(m.thickness_at, 0.3, delta=5e-3)
        self.assertAlmostEqual(m.nose_radius, 1.1019 * 0.15**2, delta=2e-4)
        self.assertAlmostEqual(zy.Airfoil.naca("0015", "blunt").measures.area, 0.6851 * 0.15, delta=3e-4)
        self.assertEqual(m.gap, 0.0)
        self.assertAlmostEqual(zy.Airfoil.naca("4412").measures.camber, 0.04, delta=2.5e-3)

    def test_names_that_are_no_sections(self):
        for bad in ("24", "abcd", "2012", "29912", "00120012", 2412):
            with self.subTest(bad), self.assertRaisesRegex(zy.InputError, "NACA|n = |tail"):
                zy.Airfoil.naca(bad)

    def test_class_shape_and_control_points(self):
        foil = zy.Airfoil.from_class_shape([0.2, 0.2], [-0.2, -0.2], gap=0.004)
        self.assertAlmostEqual(foil.gap, 0.004, delta=1e-12)
        self.assertAlmostEqual(foil.measures.nose_radius, 0.2**2 / 2, delta=1e-3)  # Kulfan: A0 = sqrt(2 r)
        control = [(1, 0), (0.7, 0.06), (0.3, 0.1), (0, 0.08), (0, 0), (0, -0.05), (0.4, -0.06), (0.7, -0.02), (1, 0)]
        self.assertGreater(zy.Airfoil.from_control_points(control).measures.thickness, 0.1)
        with self.assertRaisesRegex(zy.InputError, "control points"):
            zy.Airfoil.from_control_points([(0, 0)])


class Reader(unittest.TestCase):
    def setUp(self):
        self.foil = zy.Airfoil.naca("2412", n=61)
        self.loop = self.foil.points
        self.up, self.low = self.loop[30::-1], self.loop[30:]

    def lines(self, points, form="{:.8f} {:.8f}"):
        return "\n".join(form.format(x, z) for x, z in points)

    def test_every_plain_layout_gives_the_same_section(self):
        def semicolon(points):
            return self.lines(points, "{:.8f};{:.8f}").replace(".", ",")

        layouts = {
            "one loop": self.lines(self.loop),
            "header": "Skerry tip\n" + self.lines(self.loop),
            "other way round": self.lines(self.loop[::-1]),
            "two surfaces": self.lines(self.up) + "\n\n" + self.lines(self.low),
            "two surfaces, lower first, no gap": self.lines(self.low) + "\n" + self.lines(self.up),
            "two surfaces, tail to nose": self.lines(self.up[::-1]) + "\n\n" + self.lines(self.low[::-1]),
            "counts line": "x\n31. 31.\n\n" + self.lines(self.up) + "\n\n" + self.lines(self.low),
            "one count": "61\n" + self.lines(self.loop),
            "commas": self.lines(self.loop, "{:.8f}, {:.8f}"),
            "tabs": self.lines(self.loop, "{:.8f}\t{:.8f}"),
            "decimal commas": semicolon(self.loop),
            "percent": self.lines(self.loop * 100),
            "millimetres": self.lines(self.loop * 1600),
            "duplicates": self.lines(np.repeat(self.loop, 2, axis=0)),
            "comments": "# made by hand\n" + self.lines(self.loop) + "\n# end",
            "from the nose": self.lines(np.roll(self.loop[:-1], -30, axis=0)),
            "last point missing": self.lines(self.loop[:-1]),
            "a column of zeros": self.lines(self.loop, "{:.8f} {:.8f} 0.0"),
            "words between": "upper surface\n" + self.lines(self.up) + "\nlower surface\n" + self.lines(self.low),
            "exponents": self.lines(self.loop, "{:.8E} {:.8E}"),
        }
        for name, text in layouts.items():
            with self.subTest(name):
                foil = read(text)
                self.assertTrue(foil.notes)
                self.assertAlmostEqual(foil.measures.thickness, self.foil.measures.thickness, delta=2e-4)
                self.assertAlmostEqual(foil.measures.camber, self.foil.measures.camber, delta=2e-4)
                self.assertAlmostEqual(foil.chord, self.foil.chord, delta=1e-3)

    def test_true_size_is_kept_with_a_unit(self):
        self.assertAlmostEqual(read(self.lines(self.loop * 1600), "mm").chord, 1.6, delta=1e-3)

    def test_written_file_reads_back_the_same(self):
        with tempfile.TemporaryDirectory() as folder:
            again = zy.Airfoil.read(self.foil.write(Path(folder) / "a.csv"))
        np.testing.assert_array_equal(again.points, self.foil.points)
        self.assertEqual(again.name, self.foil.name)

    def test_what_is_ambiguous_or_damaged_is_refused_with_its_place(self):
        lost = self.loop.copy()
        lost[45, 1] *= -1
        broken = self.lines(self.loop).splitlines()
        broken[10] = "0.5 zero"
        three = self.lines(self.up) + "\n\n" + self.lines(self.low) + "\n\n" + self.lines(self.low)
        for name, text, words in (
            ("lost minus", self.lines(lost), "line 46"),
            ("a word", "\n".join(broken), "line 11"),
            ("half a section", self.lines(self.up), "half of the section"),
            ("third run", three, "third run"),
            ("truncated", "x\n31 31\n" + self.lines(self.loop[:50]), "truncated"),
            ("too few", "1 0\n0 0\n1 0", "at least 7"),
            ("empty", "", "no coordinates"),
            ("one column", "\n".join(str(x) for x in self.loop[:, 0]), "two columns|x and z"),
            ("not finite", self.lines(self.loop).replace("0.0", "nan ", 1), "not finite|not a pair|numbers where"),
            ("binary", b"\x00\x01\x02" * 50, "binary"),
        ):
            with self.subTest(name), self.assertRaisesRegex(zy.InputError, words):
                read(text)
        with self.assertRaisesRegex(zy.FileError, "does not exist"):
            zy.Airfoil.read("/no/such/file")


class Changes(unittest.TestCase):
    def test_resampled_count_is_exact_and_the_curve_kept(self):
        foil = zy.Airfoil.naca("23012")
        for n in (41, 80, 161):
            new = foil.resampled(n)
            self.assertEqual(len(new.points), n)
            self.assertAlmostEqual(new.measures.thickness, foil.measures.thickness, delta=1e-3)

    def test_tail_opened_and_closed_with_the_chord_kept(self):
        foil = zy.Airfoil.naca("2412")
        blunt = foil.blunted(0.01)
        self.assertAlmostEqual(blunt.gap, 0.01, delta=1e-4)
        self.assertAlmostEqual(blunt.chord, foil.chord, delta=1e-5)
        self.assertEqual(blunt.closed().gap, 0.0)

    def test_turn_flip_scale(self):
        foil = zy.Airfoil.naca("2412")
        self.assertAlmostEqual(foil.rotated(4.0).measures.incidence - foil.measures.incidence, 4.0, delta=1e-6)
        self.assertAlmostEqual(foil.flipped().measures.camber, -foil.measures.camber, delta=1e-6)
        self.assertAlmostEqual(foil.scaled(1.6).chord, 1.6 * foil.chord, delta=1e-9)
        with self.assertRaisesRegex(zy.InputError, "wrong way round"):
            zy.Airfoil(foil.points[::-1])

    def test_flap_turns_the_tail_by_its_angle_and_stays_closed(self):
        foil = zy.Airfoil.naca("0012")
        for angle in (-25.0, 10.0, 30.0):
            flapped = foil.with_flap(0.7, angle)
            drop = np.degrees(np.arctan2(-(flapped.tail[1]), flapped.tail[0] - 0.7))
            self.assertAlmostEqual(drop, angle, delta=0.1)
            self.assertEqual(flapped.gap, 0.0)
            self.assertTrue(flapped.corners)
        for hinge, angle in ((0.1, 10), (0.7, 90)):
            with self.assertRaises(zy.InputError):
                foil.with_flap(hinge, angle)
