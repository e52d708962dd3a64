"""What is read off a finished flow, on pressures that are known: span loading, sections, wake planes, resting points of
the theory.
"""

import unittest
from types import SimpleNamespace

import numpy as np

import zephyrum as zy
from zephyrum.mesh.polygons import polygon_geometry
from zephyrum.report.columns import cell
from zephyrum.results.section_cuts import _sums_below, cut_table, span_loading
from zephyrum.studies.jobs.sweep import POLAR

SPAN, CHORD = 8.0, 1.0


def plate(pressure, chord=lambda y: CHORD + 0.0 * y, mirrored=False, friction=None, across=90, along=6, bent=0.0):
    """A flat wing in the x-y plane with a pressure [Pa] at (x, y) on its lower side, and nothing on the upper one, as
    if it had been solved.
    """
    low = 0.0 if mirrored else -0.5 * SPAN
    y = np.linspace(low, 0.5 * SPAN, across + 1)
    fraction = np.linspace(-0.25, 0.75, along + 1)  # quarter points in a line
    grid = np.stack(
        [
            fraction[None] * chord(y)[:, None],
            np.broadcast_to(y[:, None], (across + 1, along + 1)),
            np.zeros((across + 1, along + 1)),
        ],
        axis=-1,
    )
    grid[1:-1:2, 1:-1:2, 0] += bent * CHORD / along  # points drawn beyond the next ones: faces that are not convex
    number = np.arange((across + 1) * (along + 1)).reshape(across + 1, along + 1)
    ring = np.stack([number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]], axis=-1).reshape(-1, 4)
    n = len(ring)
    corners = np.concatenate([ring, ring[:, ::-1]])  # faces leave the fluid: the lower side upwards
    points = grid.reshape(-1, 3)
    start = np.arange(0, 8 * n + 1, 4)
    midpoint, area = polygon_geometry(points, start, corners.ravel())
    group = SimpleNamespace(name="wing", role="wall", start=0, stop=2 * n)
    mesh = SimpleNamespace(
        planar=False,
        mirrored=mirrored,
        n_interior=0,
        groups=[group],
        points=points,
        face_start=start,
        face_points=corners.ravel(),
        face_centroid=midpoint,
        face_area=area,
    )
    air = zy.Freestream(mach=0.2, altitude=0.0)
    value = np.where(np.arange(2 * n) < n, pressure(midpoint[:, 0], midpoint[:, 1]), 0.0)
    drag = None if friction is None else np.tile([friction, 0.0, 0.0], (2 * n, 1))
    return SimpleNamespace(
        mesh=mesh,
        air=air,
        computed=air,
        case=SimpleNamespace(ground=None),
        wall_pressure=value,
        wall_friction=drag,
        viscous=friction is not None,
        reference=zy.Reference(area=SPAN * CHORD, chord=CHORD, span=SPAN, point=(0.0, 0.0, 0.0)),
    )


class Loading(unittest.TestCase):
    def test_an_elliptic_one_has_the_least_induced_drag(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        for mirrored in (False, True):
            flow = plate(
                lambda x, y: 0.8 * q * np.sqrt(np.maximum(1.0 - (2.0 * y / SPAN) ** 2, 0.0)), mirrored=mirrored
            )
            found = span_loading(flow)
            self.assertLess(abs(found.CL / (0.8 * np.pi / 4.0) - 1.0), 2e-3)
            self.assertLess(abs(found.efficiency - 1.0), 0.01)
            self.assertLess(abs(found.induced - found.CL**2 / (np.pi * SPAN)), 0.01 * found.induced)
            self.assertEqual(found.span, SPAN)
            self.assertAlmostEqual((found.table["cl c"] * found.table["width"]).sum() / (SPAN * CHORD), found.CL, 10)
            self.assertIn("span efficiency", str(found))

    def test_a_loading_that_ends_bluntly_costs_more(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        even = span_loading(plate(lambda x, y: 0.6 * q + 0.0 * y))
        self.assertAlmostEqual(even.CL, 0.6, 9)
        self.assertLess(even.efficiency, 0.95)
        self.assertGreater(even.uncertainty, 0.0)
        np.testing.assert_allclose(even.table["load"], 1.0, rtol=1e-6)
        tapered = span_loading(plate(lambda x, y: 0.6 * q * (1.0 - np.abs(2.0 * y / SPAN))))
        self.assertTrue(0.6 < tapered.efficiency < 0.95)

    def test_it_does_not_hang_on_the_number_of_strips_and_adds_up_over_a_taper(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        flow = plate(lambda x, y: 0.5 * q * (1.0 + 0.2 * y), chord=lambda y: 1.4 - 0.2 * np.abs(y))
        whole = 0.5 * (1.4 + 0.6) * 0.5  # the slope of the pressure cancels, the mean chord is 1
        found = [span_loading(flow, strips) for strips in (20, 60, 200)]
        for one in found:
            self.assertAlmostEqual(one.CL, whole, 6)
        y = found[1].table["y"].to_numpy()
        inner = np.abs(y) < 3.0
        exact = 0.5 * (1.0 + 0.2 * y) * (1.4 - 0.2 * np.abs(y))
        self.assertLess(np.abs(found[1].table["cl c"].to_numpy() - exact)[inner].max(), 0.01)

    def test_friction_is_drag_and_no_lift(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        found = span_loading(plate(lambda x, y: 0.0 * y, friction=0.003 * q))
        self.assertAlmostEqual(found.CL, 0.0, 12)
        drag = (found.table["cd c"] * found.table["width"]).sum() / (SPAN * CHORD)
        self.assertAlmostEqual(drag, 2.0 * 0.003, 9)  # both sides

    def test_what_is_asked_wrongly_is_reported(self):
        flow = plate(lambda x, y: 0.0 * y)
        for strips in (3, 2.5, "many"):
            with self.assertRaises(zy.InputError):
                span_loading(flow, strips)
        with self.assertRaisesRegex(zy.InputError, "no wall 'fin'; it has: wing"):
            span_loading(flow, part="fin")
        flow.mesh.planar = True
        with self.assertRaisesRegex(zy.InputError, "in space"):
            span_loading(flow)

    def test_sums_below_a_place_are_those_of_the_triangles_cut_there(self):
        rng = np.random.default_rng(2)
        y = np.sort(rng.uniform(-1.0, 1.0, (50, 3)), axis=1)
        y[0], y[1], y[2] = (0.1, 0.1, 0.5), (0.1, 0.5, 0.5), (0.2, 0.2, 0.2)
        values = rng.standard_normal((50, 2))
        at = np.array([-2.0, -0.3, 0.15, 0.3, 2.0])
        u, v = rng.uniform(size=(2, 200_000))
        u, v = np.where(u + v > 1.0, 1.0 - u, u), np.where(u + v > 1.0, 1.0 - v, v)
        spread = y[:, 0, None] + (y[:, 1] - y[:, 0])[:, None] * u + (y[:, 2] - y[:, 0])[:, None] * v
        tried = np.stack([(spread < position).mean(axis=1) @ values for position in at])
        np.testing.assert_allclose(_sums_below(y, values, at), tried, atol=0.03)
        np.testing.assert_allclose(_sums_below(y, values, at)[-1], values.sum(axis=0))


class Sections(unittest.TestCase):
    def test_a_cut_integrates_back_to_the_pressure_there(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        flow = plate(
            lambda x, y: q * (0.4 + 0.3 * x) * (1.0 + 0.1 * y), chord=lambda y: 1.4 - 0.2 * np.abs(y), along=40
        )
        for y in (-3.01, 0.52, 2.22):
            rows = cut_table(flow, y)
            chord = 1.4 - 0.2 * abs(y)
            self.assertAlmostEqual(rows["chord"].iloc[0], chord, 9)
            exact = (0.4 + 0.3 * 0.25 * chord) * (1.0 + 0.1 * y)
            self.assertLess(abs(rows["cz"].sum() - exact), 0.01)
            self.assertAlmostEqual(rows["cx"].sum(), 0.0, 12)
            under = rows[rows["side"] == "lower"]
            self.assertLess(np.abs(under["Cp"] - (0.4 + 0.3 * under["x"]) * (1.0 + 0.1 * y)).max(), 0.02)
            self.assertTrue((rows["fraction"].between(0.0, 1.0)).all())
            self.assertTrue((under["fraction"].diff().dropna() >= 0.0).all())

    def test_pressure_that_varies_linearly_is_exact_and_continuous_along_a_cut(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        for mirrored in (False, True):
            flow = plate(lambda x, y: q * (0.4 + 0.3 * x - 0.05 * y), mirrored=mirrored, bent=0.3, across=30, along=9)
            rows = cut_table(flow, [0.52, 1.3, 2.22])
            under = rows[rows["side"] == "lower"]
            np.testing.assert_allclose(under["Cp"], 0.4 + 0.3 * under["x"] - 0.05 * under["y"], atol=1e-6)
            np.testing.assert_allclose(rows.loc[rows["side"] == "upper", "Cp"], 0.0, atol=1e-12)
            lift = rows.groupby("y")["cz"].sum()
            np.testing.assert_allclose(lift, 0.4 + 0.3 * 0.25 - 0.05 * lift.index, atol=1e-6)

    def test_a_step_of_pressure_does_not_overshoot(self):
        q = zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure
        flow = plate(lambda x, y: np.where(x < 0.2, q, 0.0), along=12)
        cp = cut_table(flow, 0.52)["Cp"]
        self.assertGreaterEqual(cp.min(), -1e-12)
        self.assertLessEqual(cp.max(), 1.0 + 1e-12)

    def test_sides_are_those_of_the_faces_even_where_a_face_is_bent(self):
        flow = plate(lambda x, y: zy.Freestream(mach=0.2, altitude=0.0).dynamic_pressure + 0.0 * y, bent=1.2)
        rows = cut_table(flow, [0.05 * k + 0.013 for k in range(12)])
        self.assertEqual(set(rows["Cp"].round(9)), {0.0, 1.0})
        self.assertTrue(((rows["Cp"] > 0.5) == (rows["side"] == "lower")).all())

    def test_many_cuts_are_one_table_and_across_x_they_reach_from_tip_to_tip(self):
        flow = plate(lambda x, y: 0.0 * y, friction=1.0)
        rows = cut_table(flow, [-1.0, 0.3, 2.0])
        self.assertEqual(sorted(rows["y"].round(9).unique()), [-1.0, 0.3, 2.0])
        np.testing.assert_allclose(rows["Cf"], 1.0 / flow.air.dynamic_pressure)
        across = cut_table(flow, 0.31, axis="x")
        self.assertAlmostEqual(np.ptp(across["y"]), SPAN, delta=2.0 * SPAN / 90)

    def test_cuts_that_can_not_be_are_reported(self):
        flow = plate(lambda x, y: 0.0 * y)
        for at, options, word in (
            (9.0, {}, "meets no wall"),
            (0.0, {"axis": "z"}, "axis"),
            (float("nan"), {}, "at"),
            (0.0, {"part": "tail"}, "no wall 'tail'"),
        ):
            with self.assertRaises(zy.InputError) as printed:
                cut_table(flow, at, **options)
            self.assertIn(word, str(printed.exception))


class Shown(unittest.TestCase):
    def test_values_that_are_not_there_are_a_dash(self):
        for value, form, text in (
            (None, ".4f", "-"),
            (float("nan"), ".2g", "-"),
            (0.12345, ".4f", "0.1235"),
            (3, "d", "3"),
            ("converged", "", "converged"),
            (-1.5, "+.2f", "-1.50"),
        ):
            self.assertEqual(cell(value, form), text)
        row = {"alpha": 4.0, "CL": 0.71, "CD": 0.0387, "outcome": "converged", "steps": 19, "mach": 0.2}
        printed = {name: cell(row.get(name), form) for name, form in POLAR.items()}
        self.assertEqual(
            (printed["alpha"], printed["CD"], printed["steps"], printed["CL_error"]), ("+4.00", "0.03870", "19", "-")
        )


if __name__ == "__main__":
    unittest.main()
