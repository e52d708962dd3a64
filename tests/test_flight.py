"""Trim and derivatives of a small described aircraft, and the tables of a study that ask for them."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

import zephyrum as zy
from zephyrum.studies import lift_for, open_study, run_study
from zephyrum.studies.jobs import JOBS
from zephyrum.studies.jobs.trim import wanted_lift
from zephyrum.studies.study import Study
from zephyrum.studies.workspace import Workspace

COARSE = {"resolution": 5.2, "farfield": 5.0}
CRAFT = """
name = "glider"
reference = "wing"

[parts.wing]
kind = "wing"
airfoil = "NACA 2412"
tip = "flat"
roll = 0.0
planform = { span = 6.0, root_chord = 1.0, taper = 0.7, sweep = 0.0 }
mass = { total = 200.0 }

[parts.tailplane]
kind = "wing"
position = [3.2, 0.0, 0.4]
airfoil = "NACA 0012"
tip = "flat"
planform = { span = 2.2, root_chord = 0.6, taper = 1.0, sweep = 0.0 }

[parts.fin]
kind = "wing"
symmetric = false
position = [3.2, 0.0, 0.6]
airfoil = "NACA 0012"
tip = "flat"
roll = -90.0
planform = { span = 1.6, root_chord = 0.7, taper = 1.0, sweep = 0.0 }
"""
STUDY = """
title = "glider in trim"
[aircraft]
file = "glider.toml"
[mesh]
resolution = 5
farfield = 5
[solver]
residual_drop = 3
[trim]
mach = 0.2
control = "tailplane.pitch"
lift = 0.4
"""


class TestFlight(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "glider.toml").write_text(CRAFT)
        self.aircraft = zy.Aircraft.read(self.folder / "glider.toml")

    def test_a_study_trims_keeps_it_and_opens_again(self):
        (self.folder / "study.toml").write_text(STUDY)
        run_study(self.folder / "study.toml", self.folder / "out")
        study = open_study(self.folder / "out")
        self.assertEqual(
            study.mesh.reference, study.source.reference
        )  # a kept mesh is that of the first run, to the word
        made = study.results["trim"]
        self.assertTrue(made["trimmed"], made["text"])
        self.assertAlmostEqual(made["CL"], 0.4, delta=3e-3)
        table = pd.read_csv(self.folder / "out" / "trim.csv")
        by_setting = (table["CM"][2] - table["CM"][1]) / (table["tailplane.pitch"][2] - table["tailplane.pitch"][1])
        self.assertLess(by_setting, 0.0)
        self.assertLess(abs(made["CM"] / by_setting), 0.1)  # deg of the control, as documented
        np.testing.assert_array_equal(table[["alpha", "tailplane.pitch"]].round(3), table[["alpha", "tailplane.pitch"]])
        # the wing's own moment is nose-down, so the tail is pitched down to hold it
        self.assertLess(made["setting"], 1.0)
        self.assertIn("trimmed", made["text"])
        changed = (self.folder / "out" / "study.toml").read_text().replace("lift = 0.4", "lift = 0.5")
        (self.folder / "out" / "study.toml").write_text(changed)
        with self.assertRaisesRegex(zy.FileError, "stale"):
            open_study(self.folder / "out")
        rows = (self.folder / "out" / "trim.csv").read_text().splitlines()
        self.assertGreater(len(rows), 4)
        self.assertEqual(
            json.loads((self.folder / "out" / "trim.json").read_text())["made"]["setting"], made["setting"]
        )

    def test_derivatives_of_the_whole_aircraft_have_the_signs_and_sizes_of_the_books(self):
        mesh = zy.mesh_aircraft(self.aircraft, half=False, **COARSE)
        air = zy.Freestream(mach=0.2, alpha=2.0)
        table = zy.derivatives(mesh, air, numerics=zy.Numerics(residual_drop=3), beta_step=4.0).set_index("derivative")
        self.assertTrue(table["converged"].all())
        slope = 2.0 * np.pi / (1.0 + 2.0 / (36.0 / self.aircraft.measured_reference.area))
        self.assertLess(abs(table.loc["CL by alpha", "value"] / slope - 1.0), 0.35)
        self.assertLess(table.loc["CM by alpha", "value"], 0.0)
        self.assertLess(table.loc["CY by beta", "value"], 0.0)  # wind from starboard pushes to port
        self.assertGreater(table.loc["C yaw by beta", "value"], 0.02)  # and the fin turns the nose into it
        self.assertTrue((table["one_sided_difference"] < 0.3 * table["value"].abs() + 0.02).all(), table)

    def test_trim_and_derivatives_broken_off_go_on_and_fly_nothing_twice(self):
        (self.folder / "study.toml").write_text(
            STUDY.replace("resolution = 6", "resolution = 5") + "[derivatives]\nmach = 0.2\nalpha = 2\n"
        )

        class Breaks(zy.Observer):
            def __init__(self, after: int):
                self.after, self.seen = after, []

            def finished(self, task, row):
                self.seen.append((task.job, row.get("alpha"), row.get("setting")))
                if len(self.seen) == self.after:
                    raise KeyboardInterrupt

        flown = []
        for after in (2, 2, 4, 100):
            observer = Breaks(after)
            try:
                study = zy.run_study(self.folder / "study.toml", self.folder / "out", observer)
            except KeyboardInterrupt:
                self.assertLess(after, 100)
            flown += [one for one in observer.seen if one[0] == "trim"]
        self.assertEqual(len(set(flown)), len(flown))  # no setting twice
        self.assertEqual(
            len(flown), len(study.workspace.record("trim-progress", JOBS["trim"]._key(study, study.spec.trim))["rows"])
        )
        stamps = {
            p.name: p.stat().st_mtime_ns for p in (self.folder / "out").rglob("*") if p.is_file() and p.suffix != ".txt"
        }
        zy.run_study(self.folder / "study.toml", self.folder / "out")
        points = [name for name in stamps if name.startswith("m0.2")]
        self.assertEqual(len([name for name in points if name.endswith(".json")]), 3)
        for name in points:
            self.assertEqual((self.folder / "out" / "points" / name).stat().st_mtime_ns, stamps[name])
        shown = open_study(self.folder / "out")
        self.assertEqual(set(shown.results), {"trim", "derivatives"})

    def test_walls_count_in_trim_derivatives_and_comparisons(self):
        warm = {"wing": zy.Wall(temperature=320.0)}
        with self.assertRaisesRegex(zy.InputError, "no friction"):
            zy.trim(self.aircraft, zy.Freestream(mach=0.2, alpha=2.0), 0.4, "tailplane.pitch", walls=warm, **COARSE)
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 24, topology="O", first_height=1e-3, farfield=20)
        air = zy.Freestream(mach=0.2, reynolds=1e3, alpha=2.0)
        plain, heated = (
            zy.derivatives(mesh, air, "laminar", zy.Numerics(residual_drop=4), walls=walls)
            for walls in (None, zy.Wall(temperature=500.0))
        )
        self.assertGreater(abs(plain["value"][0] - heated["value"][0]), 1e-3)
        foils = {"a": zy.Airfoil.naca("0012"), "b": zy.Airfoil.naca("0015")}
        options = {"around": 48, "outward": 24, "topology": "O", "first_height": 1e-3, "farfield": 20}
        cold, warm = (
            zy.compare(foils, air, "laminar", zy.Numerics(residual_drop=4), walls=walls, **options)
            for walls in (None, zy.Wall(temperature=500.0))
        )
        self.assertGreater(abs(cold.table["CD"][0] - warm.table["CD"][0]), 1e-3)
        self.assertEqual(warm.solutions["b"].case.walls["airfoil"].temperature, 500.0)

    def test_a_trim_that_can_not_be_flown_is_refused_before_anything_is_made(self):
        ball = zy.Body.ellipsoid(1.0, 0.5).surface().write(self.folder / "ball.stl")
        text = STUDY.replace(
            'file = "glider.toml"',
            f'file = "{ball.name}"\nunit = "m"\nreference = {{ area = 1.0, chord = 1.0, span = 1.0, point = [0, 0, 0] '
            f"}}",
        )
        for wrong, words in (
            (text, "a surface has none"),
            (STUDY.replace("tailplane.pitch", "tailplane.fold"), "trim.control = 'tailplane.fold'"),
            (STUDY.replace("farfield = 5", "farfield = 5\nground = -2"), "over a ground"),
        ):
            (self.folder / "study.toml").write_text(wrong)
            with self.subTest(words), self.assertRaisesRegex(zy.InputError, words):
                zy.run_study(self.folder / "study.toml", self.folder / "none")
            self.assertFalse((self.folder / "none").exists())

    def test_the_lift_for_a_mass_and_what_is_refused(self):
        air = zy.Freestream(mach=0.2, altitude=0.0)
        self.assertAlmostEqual(lift_for(air.dynamic_pressure * 2.0, air, 4.0), 0.5)
        study = self._study('control = "tailplane.pitch"\n')
        lift, origin = wanted_lift(study, study.spec.trim)
        self.assertIn("200 kg", origin)
        expected = 200.0 * 9.80665 / (study.freestream(0.2).dynamic_pressure * study.source.reference.area)
        self.assertAlmostEqual(lift, expected, 8)
        both = self._study('control = "tailplane.pitch"\nlift = 0.4\nmass = "300 kg"\n')
        with self.assertRaisesRegex(zy.InputError, "both lift and mass"):
            wanted_lift(both, both.spec.trim)
        with self.assertRaisesRegex(zy.InputError, "described Aircraft"):
            zy.trim(self.aircraft.surface(), air, 0.4, "tailplane.pitch")
        with self.assertRaisesRegex(zy.InputError, "beam"):
            zy.trim(self.aircraft, air, 0.4, "beam.pitch", **COARSE)

    def _study(self, text: str) -> Study:
        path = self.folder / "other.toml"
        path.write_text('title = "t"\n[aircraft]\nfile = "glider.toml"\n[trim]\nmach = 0.2\n' + text)
        spec = zy.read_study(path)
        return Study(spec, spec.source(), Workspace(self.folder / "none"))


if __name__ == "__main__":
    unittest.main()
