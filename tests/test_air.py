"""Atmosphere, freestream, axes, units, references."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.conditions import wind_axes
from zephyrum.conditions.stream_turbulence import StreamTurbulence


class Atmosphere(unittest.TestCase):
    def test_published_values(self):
        for altitude, pressure, temperature in (
            (0, 101325, 288.15),
            (11000, 22632, 216.65),
            (20000, 5474.9, 216.65),
            (32000, 868.02, 228.65),
            (5000, 54019.9, 255.65),
        ):
            p, t = zy.standard_atmosphere(altitude)
            self.assertAlmostEqual(p / pressure, 1.0, delta=2e-5)
            self.assertAlmostEqual(t, temperature, delta=1e-9)

    def test_continuous_and_bounded(self):
        for edge in (11000.0, 20000.0):
            below, above = zy.standard_atmosphere(edge - 1e-6), zy.standard_atmosphere(edge + 1e-6)
            self.assertAlmostEqual(below[0] / above[0], 1.0, delta=1e-6)
        with self.assertRaisesRegex(zy.InputError, "40000"):
            zy.standard_atmosphere(40000)


class Stream(unittest.TestCase):
    def test_any_sufficient_set_gives_the_same_stream(self):
        full = zy.Freestream(mach=0.3, altitude="8000 ft", length=1.6)
        sets = (
            {"speed": full.speed, "altitude": 2438.4, "length": 1.6},
            {"mach": 0.3, "pressure": full.pressure, "temperature": full.temperature, "length": 1.6},
            {"reynolds": full.reynolds, "altitude": "8000 ft", "length": 1.6},
            {"mach": 0.3, "temperature": full.temperature, "reynolds": full.reynolds, "length": 1.6},
            {"speed": full.speed, "mach": 0.3, "density": full.density, "length": "160 cm"},
        )
        for given in sets:
            other = zy.Freestream(**given)
            for name in ("mach", "speed", "pressure", "temperature", "density", "reynolds"):
                self.assertAlmostEqual(
                    getattr(other, name) / getattr(full, name), 1.0, delta=1e-6, msg=f"{name} of {list(given)}"
                )

    def test_disagreement_is_refused_by_name_and_agreement_welcome(self):
        zy.Freestream(mach=0.3, speed=102.09, altitude=0)
        with self.assertRaisesRegex(zy.InputError, "mach = 0.4"):
            zy.Freestream(mach=0.4, speed=102.09, altitude=0)
        with self.assertRaisesRegex(zy.InputError, "altitude and temperature disagree"):
            zy.Freestream(mach=0.4, temperature=300, altitude=3000)
        with self.assertRaisesRegex(zy.InputError, "reynolds"):
            zy.Freestream(mach=0.3, altitude=0, length=1.0, reynolds=1e6)

    def test_under_specified_and_impossible_are_refused(self):
        for bad, words in (
            ({"altitude": 0}, "under-specified"),
            ({"mach": -1}, "mach"),
            ({"mach": "fast"}, "mach"),
            ({"mach": float("nan")}, "finite"),
            ({"speed": "240 kg"}, "where m/s is needed"),
            ({"speed": "240 quux"}, "unknown unit"),
            ({"mach": 0.3, "alpha": 5, "wind": (1, 0, 0)}, "alpha"),
            ({"mach": 0.3, "wind": (0, 0, 0)}, "not a direction"),
            ({"mach": 50}, "above 10"),
        ):
            with self.subTest(bad), self.assertRaisesRegex(zy.InputError, words):
                zy.Freestream(**bad)

    def test_origin_of_every_quantity_is_reported(self):
        rows = {name: origin for name, _, _, origin in zy.Freestream(mach=0.3).table()}
        self.assertEqual((rows["mach"], rows["temperature"], rows["speed"]), ("given", "assumed", "derived"))

    def test_turned_and_at_mach_keep_the_air(self):
        air = zy.Freestream(mach=0.3, altitude=1000, length=2.0, alpha=1.0)
        self.assertEqual(air.turned(alpha=5).alpha, 5)
        self.assertEqual(air.at_mach(0.6).mach, 0.6)
        self.assertAlmostEqual(air.at_mach(0.6).reynolds / air.reynolds, 2.0)

    def test_pressure_bounds(self):
        air = zy.Freestream(mach=0.8)
        self.assertAlmostEqual(air.cp_critical, -0.4346, delta=1e-3)
        self.assertAlmostEqual(zy.Freestream(mach=2.0).gas.pitot_pressure_ratio(2.0), 5.6404, delta=1e-3)
        self.assertAlmostEqual(zy.Freestream(mach=1e-2).cp_stagnation, 1.0, delta=1e-4)


class AxesAndUnits(unittest.TestCase):
    def test_wind_axes_are_a_right_frame_and_signs_hold(self):
        for alpha, beta in ((0, 0), (7, 0), (-20, 12), (40, -30)):
            frame = wind_axes(alpha, beta)
            np.testing.assert_allclose(frame @ frame.T, np.eye(3), atol=1e-14) if beta == 0 else None
            self.assertAlmostEqual(frame[0] @ frame[2], 0.0, delta=1e-14)
        self.assertGreater(wind_axes(5.0)[0][2], 0.0)  # nose-up: the air comes from below
        self.assertLess(wind_axes(0.0, 5.0)[0][1], 0.0)  # wind from starboard blows to port

    def test_wind_vector_and_angles_are_inverse(self):
        air = zy.Freestream(mach=0.5, alpha=3.3, beta=-4.4)
        again = zy.Freestream(mach=0.5, wind=tuple(10 * x for x in air.wind))
        self.assertAlmostEqual(again.alpha, 3.3)
        self.assertAlmostEqual(again.beta, -4.4)

    def test_quantities(self):
        for text, unit, value in (
            ("240 kt", "m/s", 123.4667),
            ("8000 ft", "m", 2438.4),
            ("15 degC", "K", 288.15),
            ("950 hPa", "Pa", 95000),
            (3, "m", 3.0),
        ):
            self.assertAlmostEqual(zy.quantity("x", text, unit) / value, 1.0, delta=1e-6)

    def test_reference_is_never_one_by_default_and_disagreement_is_reported(self):
        with self.assertRaises(TypeError):
            zy.Reference()
        with self.assertRaisesRegex(zy.InputError, "reference.area"):
            zy.Reference(0.0, 1.0, 1.0, (0, 0, 0))
        measured = zy.Reference.of_section(1.6, (0, 0, 0))
        self.assertIn("+150.0 %", zy.Reference(4.0, 1.6, 1.0, (0.4, 0, 0)).disagreement(measured)[0])


class Turbulence(unittest.TestCase):
    def test_levels_and_pairs(self):
        self.assertEqual(zy.Freestream(mach=0.2, turbulence="quiet tunnel").turbulence.intensity, 1e-3)
        air = zy.Freestream(mach=0.2, turbulence=(0.01, 5.0)).turned(alpha=2.0)
        self.assertEqual((air.turbulence.intensity, air.turbulence.viscosity_ratio), (0.01, 5.0))
        self.assertIn("turbulence intensity", str(air))
        for given, words in (
            ("calm", "'flight' .intensity 0.0003"),
            ((0.5, 1.0), "at most 0.3"),
            ((0.01,), "a pair of intensity"),
            ((0.01, 0.0), "above 0"),
        ):
            with self.assertRaisesRegex(zy.InputError, words):
                zy.Freestream(mach=0.2, turbulence=given)
        with self.assertRaisesRegex(zy.InputError, "no effect with model 'euler'"):
            zy.Case(zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8), air)

    def test_it_decays_as_in_a_uniform_stream(self):
        begin = StreamTurbulence.of("gusty")
        half = begin.decayed(5.0, 50.0, 1.5e-5)
        whole, twice = begin.decayed(10.0, 50.0, 1.5e-5), half.decayed(5.0, 50.0, 1.5e-5)
        self.assertAlmostEqual(whole.intensity / twice.intensity, 1.0, places=9)
        self.assertAlmostEqual(whole.viscosity_ratio / twice.viscosity_ratio, 1.0, places=9)
        self.assertLess(half.intensity, begin.intensity)

    def test_the_models_start_from_it(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, topology="C", first_height=3e-5, farfield=10.0)
        for model in ("sa", "sst"):
            air = zy.Freestream(mach=0.2, reynolds=1e6, turbulence="gusty")
            found = zy.solve(mesh, air, model, numerics=zy.Numerics(residual_drop=3))
            self.assertIn("turbulence of the stream (gusty)", found.notes[0])
            far = mesh.left[mesh.group("farfield").faces]
            upstream = far[np.argmin(mesh.cell_centroid[far, 0])]
            self.assertGreater(found.flow.eddy_ratio[upstream], 5.0)
        self.assertIn("half a chord ahead", " ".join(found.checks()))
        with tempfile.TemporaryDirectory() as folder:
            again = zy.load_solution(found.save(Path(folder) / "point.npz"))
        self.assertEqual(again.air.turbulence, found.air.turbulence)
