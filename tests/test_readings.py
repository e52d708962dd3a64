"""Signs and sums of what is read off a flow: forces and moments by part and cause, where friction turns, polars and
their error bars.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import zephyrum as zy
from tests.test_parts import cube
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.results.forces import Forces
from zephyrum.results.iso_surfaces import iso_polygons, point_values
from zephyrum.results.polar import Polar
from zephyrum.results.surface_quantities import stagnation_face, turning_points
from zephyrum.studies.polar_slopes import polar_slopes_of

REFERENCE = zy.Reference(area=10.0, chord=2.0, span=5.0, point=(1.0, 0.0, 0.0))


def forces(*rows, alpha=0.0, beta=0.0) -> Forces:
    """Forces (3,) at places (3,) on parts, by cause."""
    air = zy.Freestream(mach=0.2, altitude=0.0, alpha=alpha, beta=beta)
    return Forces(tuple((part, cause, tuple(f), tuple(np.cross(at, f))) for part, cause, f, at in rows), air, REFERENCE)


class Signs(unittest.TestCase):
    def test_lift_before_the_point_pitches_up(self):
        self.assertGreater(forces(("wing", "pressure", (0, 0, 1.0), (0.0, 0, 0))).CM, 0.0)
        self.assertLess(forces(("tail", "pressure", (0, 0, 1.0), (5.0, 0, 0))).CM, 0.0)
        self.assertAlmostEqual(forces(("wing", "pressure", (0, 0, 1.0), (1.0, 0, 0))).CM, 0.0, 15)
        # drag above the point pitches up
        self.assertGreater(forces(("mast", "pressure", (1.0, 0, 0), (1.0, 0, 2.0))).CM, 0.0)

    def test_lift_to_port_rolls_starboard_down_and_a_push_on_the_fin_yaws_the_nose_back(self):
        self.assertGreater(forces(("wing", "pressure", (0, 0, 1.0), (1.0, -2.0, 0))).coefficients()["C roll"], 0.0)
        self.assertLess(forces(("fin", "pressure", (0, 1.0, 0), (8.0, 0, 0))).coefficients()["C yaw"], 0.0)
        self.assertGreater(forces(("nose", "pressure", (0, 1.0, 0), (-3.0, 0, 0))).coefficients()["C yaw"], 0.0)
        # drag of the starboard wing turns the nose to starboard
        self.assertGreater(forces(("wing", "pressure", (1.0, 0, 0), (1.0, 2.0, 0))).coefficients()["C yaw"], 0.0)

    def test_lift_and_drag_follow_the_wind_and_cx_cz_the_body(self):
        for alpha in (0.0, 10.0, -35.0):
            made = forces(("wing", "pressure", (0.0, 0.0, 100.0), (1.0, 0, 0)), alpha=alpha)
            scale = made.air.dynamic_pressure * 10.0
            c = made.coefficients()
            self.assertAlmostEqual(c["CL"] * scale, 100.0 * np.cos(np.radians(alpha)), 9)
            self.assertAlmostEqual(c["CD"] * scale, 100.0 * np.sin(np.radians(alpha)), 9)
            self.assertAlmostEqual(c["CZ"] * scale, 100.0, 9)
            self.assertAlmostEqual(c["CX"], 0.0, 12)
            self.assertAlmostEqual(c["CL"] ** 2 + c["CD"] ** 2 + c["CY"] ** 2, (100.0 / scale) ** 2, 12)

    def test_parts_and_causes_add_up_and_moments_move(self):
        rng = np.random.default_rng(7)
        rows = [
            (part, cause, rng.standard_normal(3), rng.standard_normal(3))
            for part in ("wing", "body", "fin")
            for cause in ("pressure", "friction")
        ]
        made = forces(*rows, alpha=4.0, beta=2.0)
        table = made.table()
        self.assertEqual(len(table), 7)
        total = table[table["part"] == "total"].iloc[0]
        for name in ("CL", "CD", "CY", "CX", "CZ", "CM", "C roll", "C yaw", "X [N]", "Y [N]", "Z [N]"):
            self.assertAlmostEqual(table[name][:6].sum(), total[name], 12)
        for name in ("wing", "body"):
            by_cause = [made.coefficients(name, cause)["CD"] for cause in ("pressure", "friction")]
            self.assertAlmostEqual(sum(by_cause), made.coefficients(name)["CD"], 12)
        moved = made.about((3.0, 0.5, -1.0))
        np.testing.assert_allclose(moved.newtons(), made.newtons())
        back = moved.about((1.0, 0.0, 0.0))
        self.assertAlmostEqual(back.CM, made.CM, 12)
        arm = np.cross(np.array([-2.0, -0.5, 1.0]), made.newtons())
        scale = made.air.dynamic_pressure * 10.0 * 2.0
        self.assertAlmostEqual(moved.CM - made.CM, arm[1] / scale, 12)
        self.assertEqual(made.coefficients("flap")["CL"], 0.0)


class Turns(unittest.TestCase):
    def section(self, cf):
        """A table along a section, upper tail to nose to lower tail, with friction by distance from the nose on each
        side.
        """
        x = np.r_[np.linspace(1.0, 0.0, 101), np.linspace(0.0, 1.0, 101)[1:]]
        side = np.array(["upper"] * 101 + ["lower"] * 100)
        cp = np.where(x < 0.02, 1.0 - 40.0 * x, -0.3)
        return pd.DataFrame({"part": "wing", "side": side, "x/c": x, "Cp": cp, "Cf": cf(x, side)})

    def test_attached_flow_has_its_stagnation_point_only(self):
        found = turning_points(self.section(lambda x, side: 0.003 + 0.0 * x))
        self.assertEqual(found["kind"].tolist(), ["stagnation"])
        self.assertLess(found["x/c"][0], 0.02)

    def test_a_bubble_has_two_ends_with_their_doubt(self):
        def friction(x, side):
            return np.where(side == "upper", 0.003 * (x - 0.413) * (x - 0.687) / 0.1, 0.002)

        found = turning_points(self.section(friction))
        ends = found[found["kind"] != "stagnation"].set_index("kind")
        self.assertEqual(set(ends.index), {"separation", "reattachment"})
        self.assertLess(abs(ends.loc["separation", "x/c"] - 0.413), 1e-3)
        self.assertLess(abs(ends.loc["reattachment", "x/c"] - 0.687), 1e-3)
        self.assertTrue((ends["side"] == "upper").all())
        np.testing.assert_allclose(ends["+-"], 0.005)

    def test_the_stagnation_point_is_sought_on_the_front_half(self):
        x, cp = np.array([1.0, 0.5, 0.1, 0.0, 0.1, 1.0]), np.array([2.0, 0.0, 0.3, 0.9, 1.0, 2.0])
        self.assertEqual(stagnation_face(x, cp), 4)


class Levels(unittest.TestCase):
    def test_the_level_of_a_linear_field_is_a_plane_that_looks_down_the_slope(self):
        mesh = cube(6)
        low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
        size = high - low
        for normal in (np.array([1.0, 0.0, 0.0]), np.array([0.0, 0.3, 1.0])):
            values = mesh.cell_centroid @ normal
            level = float((low + 0.43 * size) @ normal)
            points, triangles, cell = iso_polygons(mesh, values, level)
            inner = ((points > low + 0.2 * size) & (points < high - 0.2 * size)).all(
                axis=1
            )  # means at the rim are one-sided
            self.assertGreater(inner.sum(), 5)
            self.assertLess(np.abs(points[inner] @ normal - level).max(), 0.15 / 6)  # of the distorted cells
            whole = Surface(points, triangles).area_vectors.sum(axis=0)
            self.assertLess(
                (whole @ normal) / np.linalg.norm(whole) / np.linalg.norm(normal), -0.99
            )  # towards lower values
            self.assertEqual(len(cell), len(triangles))
        self.assertEqual(len(iso_polygons(mesh, values, 1e9)[1]), 0)

    def test_values_at_points_are_those_of_an_even_field(self):
        mesh = cube(4)
        np.testing.assert_allclose(point_values(mesh, np.full(mesh.n_cells, 3.25)), 3.25)


class Tables(unittest.TestCase):
    def polar(self, alphas=(-2.0, 0.0, 2.0, 4.0, 14.0), outcomes=None):
        rows = [
            {
                "mach": 0.2,
                "alpha": a,
                "CL": 0.3 + 0.1 * a,
                "CD": 0.02 + 1e-4 * a * a,
                "CM": -0.02 - 0.012 * a,
                "outcome": "converged",
                "CL_amplitude": 0.0,
            }
            for a in alphas
        ]
        for row, outcome in zip(rows, outcomes or [], strict=False):
            row["outcome"] = outcome
        return Polar.of(rows, {"reference": "typed"})

    def test_slope_neutral_point_and_trim_of_straight_lines_are_exact(self):
        (one,) = polar_slopes_of(self.polar(), REFERENCE)
        self.assertEqual(one.points, 4)  # 14 deg is beyond the straight part
        self.assertAlmostEqual(one.slope[0], 0.1 * 180.0 / np.pi, 9)
        self.assertAlmostEqual(one.no_lift, -3.0, 9)
        self.assertAlmostEqual(one.margin[0], 0.12, 9)
        self.assertAlmostEqual(one.neutral[0], 1.0 + 0.12 * 2.0, 9)
        self.assertAlmostEqual(one.trim[0], -0.02 / 0.012, 6)
        self.assertAlmostEqual(one.trim[1], 0.3 + 0.1 * one.trim[0], 9)
        self.assertLess(one.slope[1], 1e-9)
        self.assertEqual(polar_slopes_of(self.polar(outcomes=["failed"] * 4), REFERENCE), [])

    def test_error_bars_take_the_larger_and_files_come_back(self):
        polar = self.polar().with_errors({"CL": 0.02}, {"CL": 0.005, "CD": 0.0007})
        row = polar.table.set_index("alpha").loc
        self.assertAlmostEqual(row[4.0]["CL_error"], 0.02 * 0.7, 12)
        self.assertAlmostEqual(row[-2.0]["CL_error"], 0.005, 12)
        self.assertAlmostEqual(row[0.0]["CD_error"], 0.0007, 12)
        with tempfile.TemporaryDirectory() as folder:
            path = polar.write(Path(folder) / "polar.csv")
            again = Polar.read(path)
            pd.testing.assert_frame_equal(again.table, polar.table, check_dtype=False)
            self.assertEqual(again.notes["reference"], "typed")
            path.with_suffix(".json").write_text("{", encoding="utf-8")
            with self.assertRaisesRegex(zy.FileError, "can't be read"):
                Polar.read(path)
            with self.assertRaisesRegex(zy.FileError, "does not exist"):
                Polar.read(Path(folder) / "other.csv")


if __name__ == "__main__":
    unittest.main()
