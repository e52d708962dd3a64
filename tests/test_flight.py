"""Trim and derivatives of a small described aircraft, and the tables of a study that ask for them."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.studies import lift_for, open_study, run_study
from zephyrum.studies.jobs.trim import wanted_lift
from zephyrum.studies.study import Study
from zephyrum.studies.workspace import Workspace

COARSE = {"fineness": 3.2, "farfield": 5.0}
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
place = [3.2, 0.0, 0.4]
airfoil = "NACA 0012"
tip = "flat"
planform = { span = 2.2, root_chord = 0.6, taper = 1.0, sweep = 0.0 }

[parts.fin]
kind = "wing"
symmetric = false
place = [3.2, 0.0, 0.6]
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
fineness = 2.6
farfield = 5
[solver]
orders = 3
[trim]
mach = 0.2
control = "tailplane.pitch"
lift = 0.4
"""


class TestFlight(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "glider.toml").write_text(CRAFT)
        self.craft = zy.Aircraft.read(self.folder / "glider.toml")

    def test_a_study_trims_keeps_it_and_opens_again(self):
        (self.folder / "study.toml").write_text(STUDY)
        run_study(self.folder / "study.toml", self.folder / "out")
        outcome = open_study(self.folder / "out")
        self.assertEqual(
            outcome.mesh.reference, outcome.source.reference
        )  # a kept mesh is that of the first run, to the word
        made = outcome.results["trim"]
        self.assertTrue(made["trimmed"], made["text"])
        self.assertAlmostEqual(made["CL"], 0.4, delta=3e-3)
        self.assertAlmostEqual(made["CM"], 0.0, delta=3e-3)
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
        mesh = zy.mesh_aircraft(self.craft, half=False, **COARSE)
        air = zy.Freestream(mach=0.2, alpha=2.0)
        table = zy.derivatives(mesh, air, settings=zy.Settings(orders=3), beta_step=4.0).set_index("derivative")
        self.assertTrue(table["settled"].all())
        slope = 2.0 * np.pi / (1.0 + 2.0 / (36.0 / self.craft.measured_reference.area))
        self.assertLess(abs(table.loc["CL by alpha", "value"] / slope - 1.0), 0.35)
        self.assertLess(table.loc["CM by alpha", "value"], 0.0)
        self.assertLess(table.loc["CY by beta", "value"], 0.0)  # wind from starboard pushes to port
        self.assertGreater(table.loc["C yaw by beta", "value"], 0.02)  # and the fin turns the nose into it
        self.assertTrue((table["bend"] < 0.3 * table["value"].abs() + 0.02).all(), table)

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
            zy.trim(self.craft.surface(), air, 0.4, "tailplane.pitch")
        with self.assertRaisesRegex(zy.InputError, "beam"):
            zy.trim(self.craft, air, 0.4, "beam.pitch", **COARSE)

    def _study(self, text: str) -> Study:
        path = self.folder / "other.toml"
        path.write_text('title = "t"\n[aircraft]\nfile = "glider.toml"\n[trim]\nmach = 0.2\n' + text)
        spec = zy.read_study(path)
        return Study(spec, spec.source(), Workspace(self.folder / "none"))


if __name__ == "__main__":
    unittest.main()
