"""Sweeps, resumption, refinement, study files, command line, examples, figures."""

import json
import math
import os
import runpy
import subprocess
import sys
import tempfile
import unittest
import unittest.mock
from pathlib import Path

import numpy as np

import zephyrum as zy
from tests.pictures import assert_picture
from validation import kills
from zephyrum.studies import open_study, run_study
from zephyrum.studies.mesh_error import estimate
from zephyrum.studies.points import plan
from zephyrum.studies.spec import template

TOP = Path(__file__).parents[1]
SMALL = {"around": 64, "outward": 16, "topology": "O"}
STUDY = """title = "small"
[section]
naca = "0012"
[mesh]
around = 96
outward = 32
[solver]
residual_drop = 6
[sweep]
mach = [0.3, 0.5]
alpha = { from = -2, to = 4, step = 2 }
[refine]
mach = 0.3
alpha = 2
[run]
processes = 2
"""


def command(*words, folder=None):
    """Run the command line; (exit code, stdout, stderr)."""
    done = subprocess.run(
        [sys.executable, "-m", "zephyrum.cli.main", *map(str, words)],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=300,
    )
    return done.returncode, done.stdout, done.stderr


def physics(table):
    """The table without its times, as text to the last digit."""
    return table.drop(columns=["seconds"]).to_csv(index=False)


class Watch(zy.Observer):
    """Remembers what it is told."""

    def __init__(self):
        self.steps, self.done = [], []

    def step(self, task, row):
        self.steps.append((task, row))

    def finished(self, task, row):
        self.done.append(task)


class Estimates(unittest.TestCase):
    def test_what_extrapolates_to_the_other_sign_is_not_trusted(self):
        made = estimate("CD", [0.037, 0.0455, 0.055], [1.0, 1.11, 1.2321])
        self.assertFalse(made.asymptotic)
        self.assertEqual(made.extrapolated, 0.037)
        self.assertGreater(made.error, 0.05)
        self.assertIn("beyond zero", made.words)
        # a drag that falls so fast on very coarse meshes has an order, but not that of the scheme
        for values, words in (
            ([0.0389, 0.0492, 0.057], "beyond zero"),
            ([0.03, 0.0333, 0.0361], "by more than half"),
        ):
            made = estimate("CD", values, [11.61, 12.6, 13.28])
            self.assertFalse(made.asymptotic, made)
            self.assertIn(words, made.words)
            self.assertGreaterEqual(made.error, 3.0 * (values[2] - values[0]))

    def test_made_up_sequences(self):
        for order in (1.5, 2.0, 2.5):
            values = [1.0 + 0.01 * h**order for h in (1.0, 2.0, 4.0)]
            e = estimate("CL", values, [1.0, 2.0, 4.0])
            self.assertAlmostEqual(e.order, order, delta=1e-9)
            self.assertTrue(e.asymptotic)
            self.assertGreaterEqual(e.error, abs(values[0] - 1.0) * 0.99)
        self.assertAlmostEqual(estimate("CL", [1.01, 1.04, 1.16], [1.0, 2.0, 4.0]).extrapolated, 1.0, delta=1e-12)
        self.assertFalse(estimate("CL", [1.0, 1.1, 1.0], [1.0, 2.0, 4.0]).asymptotic)
        self.assertFalse(estimate("CL", [1.0, 1.1, 1.15], [1.0, 2.0, 4.0]).asymptotic)
        self.assertTrue(math.isnan(estimate("CL", [0.0, 1e-9, -1e-9], [1.0, 2.0, 4.0]).order))

    def test_refine_proves_a_lift(self):
        made = zy.refine(
            zy.Airfoil.naca("0012"), zy.Freestream(mach=0.3, alpha=2), levels=3, around=128, outward=32, topology="O"
        )
        self.assertTrue((made.table["outcome"] == "converged").all())
        self.assertLess(made.estimates["CL"].error, 0.01)
        with self.assertRaisesRegex(zy.InputError, "nested"):
            zy.refine(zy.Airfoil.naca("0012"), zy.Freestream(mach=0.3), levels=5, **SMALL)


class Sweeps(unittest.TestCase):
    def test_plan_makes_short_chains_from_the_middle(self):
        points = plan([4, -2, 0, 2], [0.3])
        after = {p.alpha: None if p.after is None else p.after.alpha for p in points}
        self.assertEqual(after, {0: None, 2: 0, 4: 2, -2: 0})

    def test_a_program_without_a_guard_and_one_from_standard_input_use_workers(self):
        program = (
            "import zephyrum as zy\n"
            f"found = zy.sweep(zy.Airfoil.naca('0012'), [0, 2], [0.3], processes=2, **{SMALL})\n"
            "print(len(found.table))\n"
        )
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "program.py")
            file.write_text(program)
            for words, given in (([str(file)], None), (["-"], program)):
                done = subprocess.run(
                    [sys.executable, *words], input=given, capture_output=True, text=True, timeout=300
                )
                self.assertEqual((done.returncode, done.stdout.strip(), done.stderr), (0, "2", ""))

    def test_one_and_two_processes_agree_and_a_rerun_computes_nothing(self):
        foil, counts = zy.Airfoil.naca("2412"), []
        with tempfile.TemporaryDirectory() as folder:
            watched = [Watch(), Watch()]
            one = zy.sweep(foil, [0, 2], [0.3], processes=1, observer=watched[0], **SMALL)
            two = zy.sweep(foil, [0, 2], [0.3], processes=2, folder=folder, observer=watched[1], **SMALL)
            for watch in watched:  # a report about each point at least
                self.assertEqual({task.label for task, _ in watch.steps}, {"M 0.3 alpha +0", "M 0.3 alpha +2"})
                self.assertEqual([(task.index, task.total) for task in watch.done], [(1, 2), (2, 2)])
            third = Watch()
            again = zy.sweep(foil, [0, 2], [0.3], folder=folder, observer=third, **SMALL)
            counts += third.done
            for name in ("CL", "CD", "CM"):
                for a, b in zip(one.table[name], two.table[name]):
                    self.assertAlmostEqual(a, b, delta=1e-7)
            self.assertEqual(two.table.to_csv(), again.table.to_csv())
            self.assertEqual(counts, [])
            with self.assertRaisesRegex(zy.InputError, "holds another study"):
                zy.sweep(zy.Airfoil.naca("2415"), [0], [0.3], folder=folder, **SMALL)
            path = two.write(Path(folder) / "p.csv")
            self.assertEqual(zy.Polar.read(path).table["CL"].tolist(), two.table["CL"].tolist())

    def test_bad_conditions(self):
        for alpha, mach, words in (
            ([], [0.3], "alpha is empty"),
            ([1, 1], [0.3], "twice"),
            ([0], [9], "mach"),
            (["x"], [0.3], "alpha"),
        ):
            with self.assertRaisesRegex(zy.InputError, words):
                zy.sweep(zy.Airfoil.naca("0012"), alpha, mach, **SMALL)


class StudyFiles(unittest.TestCase):
    def setUp(self):
        self.scratch = tempfile.TemporaryDirectory()
        self.folder = Path(self.scratch.name)
        self.file = self.folder / "study.toml"

    def tearDown(self):
        self.scratch.cleanup()

    def test_killed_at_any_moment_and_run_again_gives_the_same_tables(self):
        wrong, runs, stored = kills.killed(STUDY, 1, 5, (0.2, 0.6), new_point=1.0)
        self.assertEqual(wrong, [])
        self.assertGreaterEqual(runs, 2)
        self.assertGreater(stored, 0)  # the kill found finished points

    def test_a_disk_that_is_full_or_read_only_is_reported_and_nothing_half_is_left(self):
        self.file.write_text(STUDY.replace("processes = 2", "processes = 1"))
        real = os.replace

        def full(source, target):
            if str(target).endswith("m0.5000_a+000.000.npz"):
                raise OSError(28, "No space left on device", str(target))
            return real(source, target)

        with (
            unittest.mock.patch("os.replace", full),
            self.assertRaisesRegex(zy.FileError, "No space left on device.*free space"),
        ):
            run_study(self.file, self.folder / "out")
        names = {path.name for path in (self.folder / "out" / "points").iterdir()}
        self.assertIn("m0.3000_a+000.000.json", names)
        self.assertFalse({name for name in names if name.endswith(".part")})
        self.assertNotIn("m0.5000_a+000.000.json", names)
        run_study(self.file, self.folder / "out")  # and with room again it goes on
        folder = self.folder / "read-only"
        folder.mkdir()

        def refused(*_, **__):
            raise PermissionError(13, "Permission denied", str(folder))

        with (
            unittest.mock.patch("pathlib.Path.mkdir", refused),
            self.assertRaisesRegex(zy.FileError, "Permission denied"),
        ):
            run_study(self.file, folder)

    def test_showing_and_reporting_neither_compute_nor_write(self):
        self.file.write_text(
            STUDY.replace("to = 4", "to = 0") + '[vary]\nnumber = "chord"\nvalues = [1, 2]\nmach = 0.3\nalpha = 0\n'
        )
        out = self.folder / "out"
        run_study(self.file, out)
        stamps = {p: (p.stat().st_mtime_ns, p.stat().st_size) for p in out.rglob("*")}
        with (
            unittest.mock.patch("zephyrum.results.steady_solution.run_case") as solver,
            unittest.mock.patch("zephyrum.mesh.mesh_airfoil") as mesher,
        ):
            study = open_study(out)
            self.assertTrue(study.tables() and study.figures())
            self.assertIn("small", str(study))
        self.assertFalse(solver.called or mesher.called)
        self.assertEqual(command("show", out)[0], 0)
        self.assertEqual({p: (p.stat().st_mtime_ns, p.stat().st_size) for p in out.rglob("*")}, stamps)
        for path in (out / "points").glob("m0.5*"):  # a study that is only half done is shown as far as it is
            path.unlink()
        (out / "refinement.json").unlink()
        (out / "polar.csv").unlink()
        code, said, _ = command("show", out)
        self.assertEqual(code, 1)
        self.assertIn("2 points are finished, 2 more are to be computed", said)
        self.assertIn("not finished: refine, sweep", said)
        self.assertEqual(len(zy.open_results(out).table()), 4)  # two of the sweep, two variants

    def test_a_mesh_study_broken_off_goes_on_from_the_step_it_had_reached(self):
        head, _, rest = STUDY.partition("[sweep]")
        self.file.write_text(head + rest[rest.index("[refine]") :])
        heard = []

        class Listener(zy.Observer):
            def step(self, task, row):
                coarser = next((k for k in (1, 2) if f"mesh {k + 1} " in task.label), 0)
                heard.append((coarser, row["level"], row["step"]))
                if heard[-1] == (1, 0, 4) and heard.count((1, 0, 4)) == 1:
                    raise KeyboardInterrupt

        listen = Listener()
        with unittest.mock.patch("zephyrum.studies.observer.REPORT_INTERVAL", 0.0):
            with self.assertRaises(KeyboardInterrupt):
                run_study(self.file, self.folder / "broken", listen)
            stored = [path.name for path in (self.folder / "broken" / "points").iterdir()]
            self.assertEqual(stored, ["m0.3000_a+002.000_mesh-1.going"])
            before = len(heard)
            resumed = run_study(self.file, self.folder / "broken", listen)
        self.assertEqual(heard[before], (1, 0, 3))  # the last whole step
        self.assertEqual({coarser for coarser, _, _ in heard[before:]}, {1, 2})
        whole = run_study(self.file, self.folder / "whole")
        for name in ("CL", "CD", "CM"):
            np.testing.assert_allclose(resumed.refinement.table[name], whole.refinement.table[name], atol=1e-6)
        self.assertFalse(list((self.folder / "broken" / "points").iterdir()))

    def test_command_line_from_new_to_show(self):
        self.assertEqual(command("new", "mine.toml", folder=self.folder)[0], 0)
        text = (
            (self.folder / "mine.toml").read_text().replace("around = 128", "around = 96").replace("to = 8", "to = -2")
        )
        (self.folder / "mine.toml").write_text(text)
        code, out, err = command("run", "mine.toml", folder=self.folder)
        self.assertEqual(code, 0, err)
        self.assertEqual(len(err.splitlines()), 7)  # a line for every finished point and mesh
        self.assertRegex(err, r"3 of 3, refine, 192 cells: converged, CL 0\.4")
        self.assertIn("converged", out)
        self.assertNotIn("\x1b", out)
        results = self.folder / "mine-results"
        for name in (
            "README.txt",
            "polar.csv",
            "polar.json",
            "refinement.csv",
            "section.dat",
            "figures/polar.png",
            "figures/mesh.png",
            "figures/refinement.png",
        ):
            if name.endswith(".png"):
                assert_picture(self, results / name)
            else:
                self.assertGreater(len((results / name).read_text().splitlines()), 1, name)
        code, out, _ = command("show", results)
        self.assertEqual(code, 0)
        self.assertIn("observed_order", json.dumps(json.loads((results / "refinement.json").read_text())))
        changed = (results / "study.toml").read_text().replace('naca = "2412"', 'naca = "2415"')
        (results / "study.toml").write_text(changed)
        code, _, err = command("show", results)
        self.assertEqual(code, 2)
        self.assertIn("stale", err)

    def test_shape_mesh_and_refine_commands(self):
        code, out, _ = command(
            "section",
            "naca2412",
            "--blunt",
            "0.01",
            "--points",
            "81",
            "--write",
            self.folder / "s.csv",
            "--figure",
            self.folder / "s.png",
        )
        self.assertEqual(code, 0)
        self.assertIn("tail gap               0.01", out)
        code, out, _ = command(
            "mesh",
            self.folder / "s.csv",
            "--topology",
            "C",
            "--out",
            self.folder / "m.cgns",
            "--figures",
            self.folder,
        )
        self.assertEqual(code, 0)
        self.assertIn("non-orthogonality", out)
        self.assertGreater(zy.read_mesh(self.folder / "m.cgns").n_cells, 1000)
        code, out, _ = command("refine", "naca0012", "--mach", "0.3", "--alpha", "2", "--figure", self.folder / "r.png")
        self.assertEqual(code, 0)
        self.assertIn("outcome", out)

    def test_bad_input_is_one_sentence_and_exit_code_2(self):
        good = template("section").format(file="s.toml", title="t")
        edits = [
            ("naca = ", "nacca = ", ":5: section.nacca"),
            ('"2412"', "2412", ":5: section.naca"),
            ('tail = "closed"', 'tail = "open"', "section.tail"),
            ("mach = [0.2, 0.6]", "mach = []", "sweep.mach"),
            ("mach = [0.2, 0.6]", 'mach = ["a"]', "sweep.mach"),
            ("step = 2", "step = 0", "sweep.alpha"),
            ("to = 8", "to = -9", "below from"),
            ("around = 128", "around = 127", "odd"),
            ("around = 128", "around = 1.5", "mesh.around"),
            ("[section]", "[sektion]", "sektion"),
            ("residual_drop = 8", "residual_drop = 99", "residual_drop"),
            ("residual_drop = 8", "orders = 8", "solver.orders: unknown key; it is now called residual_drop"),
            ('model = "euler"', 'model = "magic"', "solver.model"),
            ('chord = "1 m"', 'chord = "1 kg"', "section.chord"),
            ('chord = "1 m"', 'chord = "-1 m"', "chord"),
            ('altitude = "0 ft"', 'altitude = "90 km"', "standard atmosphere"),
            ('altitude = "0 ft"', 'altitude = "high"', "altitude"),
            ('altitude = "0 ft"', "altitude = 0\npressure = 5e4", "disagree"),
            ("processes = 2", "processes = 0", "run.processes"),
            ("levels = 3", "levels = 2", "refine.levels"),
            ("levels = 3", "levels = 6", "nested"),
            ('naca = "2412"', 'naca = "99"', "four or five"),
            ('naca = "2412"', 'file = "none.csv"', "does not exist"),
            ("[run]", "[run", "not valid TOML"),
            ("farfield = 100", "farfield = 0", "farfield"),
            ('naca = "2412"', "", "exactly one"),
        ]
        from click.testing import CliRunner

        from zephyrum.cli.main import main

        def refused(words: list[str], expected: str) -> None:
            result = CliRunner().invoke(main, words)
            self.assertEqual(result.exit_code, 2, f"{words}: {result.output}")
            self.assertIsInstance(result.exception, SystemExit)
            self.assertIn(expected, result.output)
            self.assertNotIn("Traceback", result.output)

        for old, new, expected in edits:
            with self.subTest(new or old):
                self.assertIn(old, good)
                self.file.write_text(good.replace(old, new, 1))
                refused(["run", str(self.file), "--out", str(self.folder / "o")], expected)
        binary, empty = self.folder / "b.toml", self.folder / "e.toml"
        binary.write_bytes(bytes(range(256)))
        empty.write_text("")
        for words, expected in (
            (["run", str(binary)], "not text"),
            (["run", str(empty)], "section"),
            (["run", str(self.folder)], "not a file"),
            (["run", "none.toml"], "does not exist"),
            (["show", str(self.folder / "nothing")], "not the folder of a study"),
            (["section", "naca12"], "four or five"),
            (["section", "none.csv"], "does not exist"),
            (["section", str(binary)], "binary"),
            (["section", "naca0012", "--points", "3"], "n = 3"),
            (["section", "naca0012", "--figure", "x.gif"], "ending"),
            (["mesh", "naca0012", "--around", "-4"], "around"),
            (["mesh", "naca0012", "--out", "m.xyz"], "ending"),
            (["refine", "naca0012", "--mach", "-1"], "mach"),
            (["new", "x.txt"], ".toml"),
            (["run"], "Missing argument"),
            (["refine", "naca0012", "--mach", "fast"], "mach"),
        ):
            with self.subTest(words):
                refused(words, expected)


class Examples(unittest.TestCase):
    def test_every_example_runs(self):
        import contextlib
        import io

        with tempfile.TemporaryDirectory() as folder:  # one for all: some take what another has made
            for path in sorted((TOP / "examples").glob("*.py")):
                with self.subTest(path.name), contextlib.redirect_stdout(io.StringIO()) as said:
                    runpy.run_path(str(path))["main"](Path(folder))
                    self.assertTrue(said.getvalue())
