"""What is read off numbers that are there: histories, paces, polars, lift maxima, error bars, comparisons, folders."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.flow.nonlinear.history import COEFFICIENTS, COLUMNS, History, TimeForecast, residual_decades
from zephyrum.flow.nonlinear.step_control import Regime, StepTaken, next_cfl
from zephyrum.results import Polar
from zephyrum.studies import polar_slopes_of
from zephyrum.studies.grid_convergence import refinement_of, with_errors
from zephyrum.studies.jobs.sweep import stall_warning
from zephyrum.studies.mesh_error import estimate
from zephyrum.studies.point_store import Store, write_text
from zephyrum.studies.points import Point, plan, refine_near_clmax


def history(lift, drag=None, level=0, residual=1e-3) -> History:
    made = History()
    for step, value in enumerate(lift):
        row = dict.fromkeys(COLUMNS, 0.0) | {
            "step": step,
            "level": level,
            "seconds": 2.0 * step,
            "CL": value,
            "CD": 0.02 if drag is None else drag[step],
        }
        row |= {name: residual for name in COLUMNS if name.startswith("residual")}
        made.add(*(row[name] for name in COLUMNS))
    return made


class TimeSteps(unittest.TestCase):
    def test_the_cfl_number_grows_with_success_and_falls_with_trouble(self):
        control, solver = zy.CFLControl(), zy.LinearSolver()
        for viscous in (False, True):
            for space in (False, True):
                for cfl in (1.0, 100.0, 1e4, 1e7):

                    def after(factor=1.0, ratio=0.1, krylov=8, viscous=viscous, space=space, cfl=cfl):
                        return next_cfl(control, Regime(viscous, space), StepTaken(cfl, factor, ratio, krylov))

                    good = after()
                    self.assertGreater(good, cfl)
                    self.assertLessEqual(good, 10.0 * cfl)
                    self.assertLessEqual(
                        after(ratio=0.9), good
                    )  # the more the residual falls, the longer the next step
                    self.assertLess(after(factor=0.2), cfl)
                    self.assertLessEqual(after(factor=0.05), after(factor=0.2))
                    self.assertLessEqual(after(factor=0.6), cfl)
                    self.assertGreater(after(factor=0.01), 0.0)
                    self.assertLess(after(ratio=2.0), good)
                    if viscous and space and cfl < 1e3:  # many vectors at a low CFL number: a few cells are to blame
                        self.assertLess(after(krylov=60), cfl)
        layers, plane = Regime(True, True), Regime(True, False)
        self.assertLessEqual(next_cfl(control, Regime(False, False), StepTaken(1e8, 1.0, 1e-9, 8)), 1e8)
        # with friction layers are built slowly; at the target only the coefficients drift, and high CFL numbers end
        # that
        fast = StepTaken(100.0, 1.0, 0.05, 8)
        self.assertLess(next_cfl(control, layers, fast), next_cfl(control, plane, fast))
        drifting, falling = StepTaken(2e3, 1.0, 1.1, 25, at_target=True), StepTaken(2e3, 1.0, 1.1, 25)
        self.assertGreater(next_cfl(control, layers, drifting), next_cfl(control, layers, falling))
        self.assertLess(layers.max_krylov_vectors(solver, control, 10.0), 120)
        self.assertEqual(layers.max_krylov_vectors(solver, control, 1e7), 120)
        self.assertEqual(Regime(False, True).max_krylov_vectors(solver, control, 10.0), 120)


def row(alpha, lift, mach=0.2, outcome="converged", drag=0.02, moment=0.0) -> dict:
    return {
        "mach": mach,
        "alpha": alpha,
        "CL": lift,
        "CD": drag,
        "CM": moment,
        "outcome": outcome,
        "CL_amplitude": 0.0,
        "CD_amplitude": 0.0,
    }


class Histories(unittest.TestCase):
    def test_a_swing_has_its_period_and_a_drift_has_none(self):
        steps = np.arange(120)
        for period in (7.0, 12.0):
            made = history(0.5 + 0.01 * np.sin(2.0 * np.pi * steps / period))
            self.assertAlmostEqual(made.period() / period, 1.0, delta=0.1)
        self.assertTrue(np.isnan(history(0.5 + 0.001 * steps).period()))
        self.assertTrue(np.isnan(history([0.5] * 6).period()))

    def test_rest_is_of_both_coefficients_and_over_the_steps_asked(self):
        still = [0.5] * 9
        self.assertTrue(history(still).resting(4, 1e-3))
        self.assertFalse(history(still, [0.02, *[0.02] * 6, 0.021, 0.021]).resting(4, 1e-3))
        self.assertTrue(history(still, [0.03, 0.025, *[0.02] * 7]).resting(4, 1e-3))

    def test_drift_is_that_of_the_finest_mesh(self):
        made = history([0.1, 0.2, 0.3, 0.4])
        self.assertAlmostEqual(made.drift(), 0.3)
        self.assertEqual(history([0.1, 0.2]).drift(), np.inf)
        self.assertTrue(history([0.1, 0.2]).drifts())
        self.assertEqual(history([0.1] * 9, level=1).drift(), np.inf)
        self.assertEqual(set(COEFFICIENTS), {"CL", "CD", "CM"})

    def test_drag_may_drift_by_less_than_lift(self):
        lift, drag = [0.5, 0.5, 0.5, 0.5 + 5e-5], [0.02, 0.02, 0.02, 0.02 + 5e-5]
        self.assertFalse(history(lift, [0.02] * 4).drifts())
        self.assertTrue(history([0.5] * 4, drag).drifts())

    def test_the_time_left_follows_the_slope(self):
        pace = TimeForecast(6.0)
        left = []
        for step in range(12):
            one = dict.fromkeys(COLUMNS, 0.0) | {"seconds": 3.0 * step, "level": 0}
            one |= {name: 10.0 ** (-0.25 * step) for name in COLUMNS if name.startswith("residual")}
            self.assertAlmostEqual(residual_decades(one), 0.25 * step, 10)
            left.append(pace.left(one))
        self.assertTrue(np.isnan(left[:7]).all())
        self.assertAlmostEqual(left[-1], (6.0 - 0.25 * 11) / 0.25 * 3.0, 8)
        self.assertTrue(np.isnan(pace.left(one | {"level": 1})))  # a coarser mesh tells nothing
        flat = TimeForecast(6.0)
        self.assertTrue(np.isnan([flat.left(one | {"seconds": float(k)}) for k in range(12)]).all())


class Polars(unittest.TestCase):
    def test_the_top_of_a_parabola_is_found_between_the_points(self):
        def lift(a):
            return 1.5 - 0.01 * (a - 13.4) ** 2

        polar = Polar.of([row(a, lift(a)) for a in (8.0, 11.0, 13.0, 15.0, 18.0)])
        top = polar.lift_maximum(0.2)
        self.assertAlmostEqual(top["CL"], 1.5, 10)
        self.assertAlmostEqual(top["alpha"], 13.4, 10)
        self.assertEqual(top["alpha +-"], 1.0)
        self.assertTrue(top["converged"])
        rising = Polar.of([row(a, 0.1 * a) for a in range(5)])
        self.assertIsNone(rising.lift_maximum(0.2))
        self.assertEqual(stall_warning(rising, 0.2), "")
        self.assertIn("several steady solutions", stall_warning(polar, 0.2))
        self.assertIsNone(polar.lift_maximum(0.7))
        rows = [
            row(a, lift(a), outcome="oscillating" if a == 15.0 else "converged") for a in (8.0, 11.0, 13.0, 15.0, 18.0)
        ]
        self.assertFalse(Polar.of(rows).lift_maximum(0.2)["converged"])

    def test_points_about_the_maximum_are_halved_until_fine_enough(self):
        points = plan([8.0, 12.0, 16.0, 0.0], [0.2])
        rows = {p.name: row(p.alpha, 1.5 - 0.01 * (p.alpha - 12.6) ** 2) for p in points}
        for alphas in ([10.0, 14.0], [11.0, 13.0], [12.5, 13.5], []):
            found = refine_near_clmax(rows, points, 0.5)
            self.assertEqual(sorted(p.alpha for p in found), alphas)
            for p in found:
                self.assertLess(abs(p.after.alpha), abs(p.alpha))
            rows |= {p.name: row(p.alpha, 1.5 - 0.01 * (p.alpha - 12.6) ** 2) for p in found}
            points += found

    def test_a_rising_polar_or_failed_points_ask_for_nothing(self):
        points = plan([0.0, 2.0, 4.0], [0.2])
        self.assertEqual(refine_near_clmax({p.name: row(p.alpha, p.alpha) for p in points}, points, 0.1), [])
        dead = {
            p.name: row(p.alpha, -abs(p.alpha - 2.0), outcome="failed" if p.alpha != 2.0 else "converged")
            for p in points
        }
        self.assertEqual(refine_near_clmax(dead, points, 0.1), [])

    def test_every_point_starts_from_its_neighbour_towards_zero(self):
        points = plan([-4.0, 6.0, 2.0, -2.0], [0.3, 0.2])
        self.assertEqual(len(points), 8)
        for p in points:
            if p.after is None:
                self.assertEqual(abs(p.alpha), 2.0)
            else:
                self.assertEqual(p.after.mach, p.mach)
                self.assertIn(p.after, points[: points.index(p)])
        self.assertEqual(Point(0.2, -4.0, None).name, "m0.2000_a-004.000")

    def test_slopes_of_scattered_points_are_within_their_error(self):
        rng = np.random.default_rng(5)
        alpha = np.linspace(-4.0, 8.0, 13)
        within = 0
        for _ in range(200):
            lift = 5.0 * np.radians(alpha) + 0.1 + 0.005 * rng.standard_normal(13)
            one = polar_slopes_of(
                Polar.of([row(a, c, moment=0.05 - 0.2 * c) for a, c in zip(alpha, lift, strict=True)]),
                zy.Reference(1.0, 1.0, 1.0, (0.25, 0, 0)),
            )[0]
            within += abs(one.slope[0] - 5.0) < one.slope[1]
        self.assertTrue(100 < within < 165, within)  # 65 % of a t distribution of 11
        self.assertEqual(
            polar_slopes_of(Polar.of([row(2.0, 0.3), row(40.0, 0.9)]), zy.Reference(1.0, 1.0, 1.0, (0, 0, 0))), []
        )
        two = polar_slopes_of(Polar.of([row(0.0, 0.0), row(2.0, 0.2)]), zy.Reference(1.0, 1.0, 1.0, (0, 0, 0)))[0]
        self.assertTrue(np.isnan(two.slope[1]))


class Errors(unittest.TestCase):
    def test_known_orders_are_found_at_any_ratios(self):
        for sizes in ([1.0, 1.3, 1.69], [0.1, 0.2, 0.4], [11.6, 12.6, 13.3], [1.0, 1.245, 1.627], [1.0, 1.6, 1.7]):
            for order in (1.0, 1.5, 2.0, 3.0):
                values = [0.5 + 0.01 * (h / sizes[0]) ** order for h in sizes]
                one = estimate("CL", values, sizes)
                self.assertAlmostEqual(one.order, order, 8)
                self.assertTrue(one.asymptotic)
                if order <= 2.0:
                    self.assertAlmostEqual(one.extrapolated, 0.5, 10)
                    self.assertAlmostEqual(one.error, 1.25 * 0.01, 10)
                self.assertGreaterEqual(one.error, abs(one.finest - 0.5))

    def test_what_has_no_order_gets_a_wide_bar(self):
        for values, word in (([0.5, 0.51, 0.505], "oscillates"), ([0.5, 0.53, 0.54], "does not converge")):
            one = estimate("CD", values, [1.0, 2.0, 4.0])
            self.assertFalse(one.asymptotic)
            self.assertIn(word, one.words)
            self.assertAlmostEqual(one.error, 3.0 * (max(values) - min(values)))
        # the same differences converge or not by how far apart the meshes are
        self.assertEqual(estimate("CD", [0.5, 0.51, 0.525], [1.0, 1.1, 1.4]).words[:17], "does not converge")
        self.assertAlmostEqual(estimate("CD", [0.5, 0.51, 0.525], [1.0, 1.3, 1.4]).order, 12.01, 2)
        self.assertEqual(estimate("CD", [0.5, 0.5001, 0.6], [1.0, 1.1, 1.15]).order, 20.0)
        same = estimate("CM", [0.1, 0.1, 0.1], [1.0, 2.0, 4.0])
        self.assertTrue(same.asymptotic)
        self.assertGreater(same.error, 0.0)

    def test_four_scattered_meshes_are_fitted_and_their_bar_holds(self):
        sizes = [1.0, 1.25, 1.6, 2.0, 2.5]
        for order in (1.0, 1.5, 2.0):
            clean = estimate("CL", [0.5 + 0.01 * h**order for h in sizes], sizes)
            self.assertAlmostEqual(clean.order, order, 2)
            self.assertAlmostEqual(clean.extrapolated, 0.5, 4)
            self.assertTrue(clean.asymptotic, clean.words)
            self.assertAlmostEqual(clean.error, 1.25 * 0.01, 4)
        held, widths = [], []
        for seed in range(40):
            scatter = np.random.default_rng(seed).normal(0.0, 0.004, len(sizes))
            one = estimate("CD", [0.5 + 0.01 * h**2 + s for h, s in zip(sizes, scatter, strict=True)], sizes)
            held.append(abs(one.finest - 0.5) <= one.error)
            widths.append(one.error)
        self.assertGreater(np.mean(held), 0.9)
        self.assertLess(np.median(widths), 5 * 0.014)
        flat = estimate("CM", [0.1, 0.1, 0.1, 0.1], sizes[:4])
        self.assertTrue(flat.asymptotic)

    def test_bars_of_one_point_are_taken_over_to_the_polar(self):
        rows = [
            {
                "level": k,
                "cells": 4000 // 4**k,
                "h": 2.0**k,
                "CL": 0.5 - 0.01 * 4**k,
                "CD": 0.02 + 1e-3 * 4**k,
                "CM": -0.05 + 1e-3 * 4**k,
                "outcome": "converged",
            }
            for k in range(3)
        ]
        made = refinement_of(rows, zy.Freestream(mach=0.2, alpha=4.0))
        polar = with_errors(Polar.of([row(0.0, 0.01), row(8.0, 1.0)]), made)
        lift = polar.table["CL_error"].tolist()
        self.assertAlmostEqual(lift[0], made.estimates["CL"].error)
        self.assertAlmostEqual(lift[1], made.estimates["CL"].error / made.estimates["CL"].finest)
        self.assertAlmostEqual(polar.table["CD_error"].iloc[0], made.estimates["CD"].error)
        self.assertIn("mesh error found at", polar.notes["errors"])
        self.assertEqual(len(made.rows()), 3)


class Comparisons(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.air = zy.Freestream(mach=0.3, alpha=2.0)
        cls.foils = {"plain": zy.Airfoil.naca("0012"), "cambered": zy.Airfoil.naca("2412")}
        cls.made = zy.compare(cls.foils, cls.air, around=48, outward=16)

    def test_a_change_is_reported_with_its_size(self):
        table, changes = self.made.table.set_index("state"), self.made.changes.set_index("coefficient")
        self.assertEqual(list(table["outcome"]), ["converged", "converged"])
        self.assertAlmostEqual(changes.loc["CL", "change"], table.loc["cambered", "CL"] - table.loc["plain", "CL"])
        self.assertAlmostEqual(
            changes.loc["CL", "percent"], 100.0 * changes.loc["CL", "change"] / table.loc["plain", "CL"]
        )
        self.assertGreater(changes.loc["CL", "change"], 0.2)  # camber of 2 % moves alpha of no lift by 2 degrees
        self.assertEqual(set(changes["beyond mesh error"]), {"mesh error unknown"})
        self.assertEqual(list(self.made.solutions), ["plain", "cambered"])

    def test_it_is_beyond_the_mesh_error_or_not(self):
        rows = [
            {
                "level": k,
                "cells": 768 // 4**k,
                "h": 2.0**k,
                "CL": 0.25 - 0.01 * 4**k,
                "CD": 1e-3 * 4**k,
                "CM": -0.02 * 4**k,
                "outcome": "converged",
            }
            for k in range(3)
        ]
        error = refinement_of(rows, self.air)
        seen, observer = [], zy.Observer()
        observer.finished = lambda task, row: seen.append(task.label)
        changes = zy.compare(
            self.foils, self.air, error=error, observer=observer, around=48, outward=16
        ).changes.set_index("coefficient")
        self.assertEqual(changes.loc["CL", "beyond mesh error"], "yes")
        self.assertEqual(changes.loc["CD", "beyond mesh error"], "no")
        self.assertEqual(seen, ["plain", "cambered"])
        hasty = zy.compare(
            self.foils, self.air, numerics=zy.Numerics(max_iterations=1), error=error, around=48, outward=16
        )
        self.assertEqual(set(hasty.changes["beyond mesh error"]), {"not converged"})
        with self.assertRaisesRegex(zy.InputError, "at least two"):
            zy.compare({"plain": self.foils["plain"]}, self.air)

    def test_states_of_an_aircraft_are_named_by_what_was_changed(self):
        aircraft = zy.Aircraft.read(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml")
        states = zy.changed_aircraft(aircraft, "tailplane.pitch", [-2.0, 0.0, 2.0])
        self.assertEqual(list(states), ["tailplane.pitch = -2.0", "tailplane.pitch = 0.0", "tailplane.pitch = 2.0"])
        self.assertEqual([s.parts["tailplane"].pitch for s in states.values()], [-2.0, 0.0, 2.0])
        with self.assertRaisesRegex(zy.InputError, "tailplane"):
            zy.changed_aircraft(aircraft, "tailplane.colour", [1.0])


class Folders(unittest.TestCase):
    def setUp(self):
        self.root = Path(tempfile.mkdtemp()) / "study"

    def test_a_point_is_finished_when_its_row_is_there_and_whole(self):
        store = Store.open(self.root)
        self.assertIsNone(store.row("p"))
        store.state("p").write_bytes(b"half")
        self.assertIsNone(store.row("p"))
        store.keep("p", {"CL": 0.5, "CM": float("nan")}, b"whole")
        self.assertEqual(store.row("p")["CL"], 0.5)
        self.assertEqual(store.state("p").read_bytes(), b"whole")
        self.assertEqual([f.name for f in (self.root / "points").iterdir() if f.name.endswith(".part")], [])
        whole = (self.root / "points" / "p.json").read_text()
        for damage in (
            lambda: store.state("p").write_bytes(b"wholf"),
            lambda: (self.root / "points" / "p.json").write_text(whole.replace("0.5", "0.6")),
            lambda: (self.root / "points" / "p.json").write_text("{"),
            lambda: store.state("p").unlink(),
        ):
            store.keep("p", {"CL": 0.5}, b"whole")
            damage()
            with self.assertLogs("zephyrum", "WARNING") as printed:
                self.assertIsNone(store.row("p"))
            self.assertIn("computed again", printed.output[0])
        write_text(self.root / "plain", "x")
        with self.assertRaisesRegex(zy.FileError, "is a file"):
            Store.open(self.root / "plain")

    def test_a_polar_comes_back_as_it_was_and_a_torn_one_is_refused(self):
        polar = Polar.of([row(2.0, 0.25), row(0.0, 0.0), row(0.0, 0.1, mach=0.1)], {"made": "by hand"})
        self.assertEqual(polar.table["mach"].tolist(), [0.1, 0.2, 0.2])
        self.root.mkdir()
        path = polar.write(self.root / "polar.csv")
        again = Polar.read(path)
        np.testing.assert_array_equal(again.table["CL"], polar.table["CL"])
        self.assertEqual(again.notes["made"], "by hand")
        self.assertIn("alpha", json.loads(path.with_suffix(".json").read_text())["columns"])
        path.with_suffix(".json").write_text("{")
        with self.assertRaisesRegex(zy.FileError, "run the study again"):
            Polar.read(path)
        with self.assertRaisesRegex(zy.FileError, "does not exist"):
            Polar.read(self.root / "nothing.csv")


class References(unittest.TestCase):
    def test_disagreement_is_reported_for_what_disagrees(self):
        own = zy.Reference(10.0, 1.5, 8.0, (0.5, 0.0, 0.0), "measured")
        self.assertEqual(own.disagreement(own), [])
        printed = replace(own, area=10.5, span=8.1).disagreement(own)
        self.assertEqual(len(printed), 1)
        self.assertIn("area", printed[0])


if __name__ == "__main__":
    unittest.main()
