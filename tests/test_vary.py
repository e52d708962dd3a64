"""[vary]: any number of the geometry over a list, with its tables, pictures, resumption and refusals."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd

import zephyrum as zy
from zephyrum.studies import open_study
from zephyrum.studies.jobs import JOBS
from zephyrum.studies.jobs.base import KINDS

SECTION = """title = "flap"
[section]
naca = "0012"
flap = { hinge = 0.7, angle = 0 }
[mesh]
around = 96
outward = 32
[solver]
residual_drop = 5
[vary]
number = "flap.angle"
values = [0, 5]
mach = 0.3
alpha = 2
"""
AIRCRAFT = """title = "tail"
[aircraft]
file = "craft.toml"
[mesh]
resolution = 5
farfield = 4
[solver]
residual_drop = 2.5
[vary]
number = "tailplane.pitch"
values = [0, 4]
mach = 0.2
alpha = 2
"""
CRAFT = """name = "glider"
[parts.wing]
kind = "wing"
airfoil = "NACA 2412"
tip = "flat"
planform = { span = 6.0, root_chord = 1.0, taper = 1.0 }
[parts.tailplane]
kind = "wing"
position = [3.2, 0.0, 0.4]
airfoil = "NACA 0012"
tip = "flat"
planform = { span = 2.2, root_chord = 0.6, taper = 1.0 }
"""


class Vary(unittest.TestCase):
    def setUp(self):
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.folder = Path(scratch.name)

    def write(self, text: str) -> Path:
        path = self.folder / "s.toml"
        path.write_text(text)
        return path

    def test_a_flap_lifts_and_the_rerun_computes_nothing(self):
        path = self.write(SECTION)
        study = zy.run_study(path, self.folder / "out")
        made = study.results["vary"]
        lift = made.table.set_index("state")["CL"]
        self.assertGreater(lift["flap.angle = 5"] - lift["flap.angle = 0"], 0.3)
        parts = pd.read_csv(self.folder / "out" / "vary-parts.csv").set_index(["state", "part"])
        newtons = (
            made.solutions["flap.angle = 5"].forces.newtons()[2] - made.solutions["flap.angle = 0"].forces.newtons()[2]
        )
        self.assertAlmostEqual(
            parts.loc[("flap.angle = 5", "total"), "change Z [N]"], newtons, delta=1e-6 * abs(newtons)
        )
        stamps = {p.name: p.stat().st_mtime_ns for p in (self.folder / "out" / "points").iterdir()}
        again = zy.run_study(path, self.folder / "out")
        self.assertEqual(stamps, {p.name: p.stat().st_mtime_ns for p in (self.folder / "out" / "points").iterdir()})
        pd.testing.assert_frame_equal(again.results["vary"].table, made.table)
        opened = open_study(self.folder / "out")
        pd.testing.assert_frame_equal(opened.results["vary"].parts, made.parts)
        self.assertEqual([figure.name for figure in opened.figures()], ["vary_cp"])
        self.assertEqual(opened.outcomes(), ["converged", "converged"])
        self.assertIn("vary.csv", (self.folder / "out" / "README.txt").read_text())
        # another list of values: the results of the folder are told to be unfinished, not taken for it
        text = (self.folder / "out" / "study.toml").read_text().replace("[0, 5]", "[0, 6]")
        (self.folder / "out" / "study.toml").write_text(text)
        with self.assertRaisesRegex(zy.FileError, "stale"):
            open_study(self.folder / "out")

    def test_of_an_aircraft_every_part_is_set_against_the_first(self):
        (self.folder / "craft.toml").write_text(CRAFT)
        study = zy.run_study(self.write(AIRCRAFT), self.folder / "out")
        parts = study.results["vary"].parts.set_index(["state", "part"])
        self.assertEqual(set(parts.index.get_level_values("part")), {"wing", "tailplane", "total"})
        tail = parts.loc[("tailplane.pitch = 4", "tailplane"), "change Z [N]"]
        self.assertGreater(tail, 0.0)
        self.assertGreater(abs(tail), 3.0 * abs(parts.loc[("tailplane.pitch = 4", "wing"), "change Z [N]"]))
        figures = study.figures()
        self.assertEqual(len({figure.options["limits"] for figure in figures}), 1)  # one range of colours
        self.assertEqual(len(figures), 2)

    def test_what_can_not_be_varied_is_refused_before_anything_is_made(self):
        (self.folder / "craft.toml").write_text(CRAFT)
        for text, old, new, words in (
            (SECTION, "flap.angle", "flap.colour", "choose one of: chord, flap.hinge, flap.angle"),
            (SECTION, "[0, 5]", "[5]", "at least two"),
            (SECTION, "[0, 5]", "[0, 400]", "angle"),
            (AIRCRAFT, "tailplane.pitch", "tailplane.fold", "tailplane.fold"),
            (AIRCRAFT, "craft.toml", "none.toml", "does not exist"),
        ):
            with self.subTest(new), self.assertRaisesRegex(zy.InputError, words):
                zy.run_study(self.write(text.replace(old, new)), self.folder / "refused")
            self.assertFalse((self.folder / "refused").exists())


class Jobs(unittest.TestCase):
    def test_every_job_is_complete(self):
        self.assertEqual(
            list(JOBS),
            ["quick", "sweep", "refine", "time", "stability", "trim", "derivatives", "vary", "fields", "methods"],
        )
        for name, job in JOBS.items():
            self.assertTrue(set(job.template) <= set(job.kinds) <= set(KINDS), name)
            self.assertTrue(job.files and job.__doc__, name)
            for text in job.template.values():
                self.assertIn(f"[{name}]", text)


if __name__ == "__main__":
    unittest.main()
