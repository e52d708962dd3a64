"""Hard to misuse: whatever is given to a public call, it is taken or refused by one sentence that names the argument
and says what to do.
"""

import contextlib
import inspect
import math
import tempfile
import unittest
import warnings
from pathlib import Path

import numpy as np
from click.testing import CliRunner

import zephyrum as zy
from zephyrum._core.validation import Many, takes
from zephyrum.cli.main import main

NONSENSE = (None, "quux", math.nan, -1.0, [], {}, object(), 1e30)


class Nonsense(unittest.TestCase):
    """Every argument of the calls below gets every piece of nonsense, all others being good."""

    @classmethod
    def setUpClass(cls):
        cls.scratch = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.scratch.name)
        cls.foil = zy.Airfoil.naca("0012")
        cls.mesh = zy.mesh_airfoil(cls.foil, 48, 16, topology="O")
        cls.air = zy.Freestream(mach=0.3)
        cls.flow = zy.solve(cls.mesh, cls.air, numerics=zy.Numerics(max_iterations=1))
        cls.ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=0.05)
        wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        cls.aircraft = zy.Aircraft(name="plank", parts={"wing": wing})
        cls.file = zy.write_mesh(cls.mesh, cls.folder / "m.vtu")
        cls.stored = cls.flow.save(cls.folder / "f.npz")
        cls.scan = cls.ball.write(cls.folder / "ball.stl")
        cls.study = cls.folder / "s.toml"
        cls.study.write_text('[section]\nnaca = "0012"\n[air]\nreynolds = 1e6\n')

    @classmethod
    def tearDownClass(cls):
        cls.scratch.cleanup()

    def refused_or_taken(self, call, good: dict, leave: tuple[str, ...] = ()) -> None:
        """Nothing but a ZephyrumError may come of nonsense, and of what is nonsense for any argument one must."""
        taken = []
        names = [
            p.name
            for p in inspect.signature(call).parameters.values()
            if p.kind not in (p.VAR_KEYWORD, p.VAR_POSITIONAL)
        ]
        names = [name for name in names if name not in leave and not name.startswith("on_")]
        for name in names:
            for value in NONSENSE:
                with self.subTest(f"{call.__qualname__}({name}={value!r:.30})"), warnings.catch_warnings():
                    warnings.simplefilter("ignore")
                    try:
                        call(**{**good, name: value})
                        if value is not None and not isinstance(value, str | float | list | dict):
                            taken.append(name)
                        if isinstance(value, float) and math.isnan(value):
                            taken.append(f"{name} = nan")
                    except zy.ZephyrumError as cause:
                        said = str(cause)
                        self.assertGreater(len(said), 15, said)
                        self.assertIn(said[-1], ".)", said)
        self.assertEqual(taken, [], call.__qualname__)

    def test_air_and_references(self):
        self.refused_or_taken(zy.Freestream, {"mach": 0.3})
        self.refused_or_taken(zy.Gas, {})
        self.refused_or_taken(zy.Reference, {"area": 1.0, "chord": 1.0, "span": 1.0, "point": (0, 0, 0)}, ("origin",))
        self.refused_or_taken(zy.standard_atmosphere, {"altitude": 0.0})
        self.refused_or_taken(zy.quantity, {"name": "x", "value": 1.0, "unit": "m"}, ("name",))
        self.refused_or_taken(self.air.turned, {})
        self.refused_or_taken(self.air.at_mach, {"mach": 0.3})

    def test_settings_walls_and_zones(self):
        self.refused_or_taken(zy.Numerics, {}, ("vortex",))
        self.refused_or_taken(zy.Wall, {})
        self.refused_or_taken(zy.Zone, {"size": 0.1, "box": ((0, 0, 0), (1, 1, 1))}, ("part",))
        self.refused_or_taken(zy.SizeZone, {"size": 0.1}, ("part",))
        self.refused_or_taken(zy.wall_layers, {"reynolds": 1e6})

    def test_sections_and_outlines(self):
        foil = self.foil
        self.refused_or_taken(zy.Airfoil.naca, {"digits": "0012"})
        self.refused_or_taken(zy.Airfoil.read, {"path": self.study}, ("name", "flip"))
        self.refused_or_taken(foil.rotated, {"angle": 3.0})
        self.refused_or_taken(foil.scaled, {"factor": 2.0})
        self.refused_or_taken(foil.moved, {"x": 1.0, "z": 0.0})
        self.refused_or_taken(foil.with_flap, {"hinge": 0.7, "angle": 10.0})
        self.refused_or_taken(zy.Outline.circle, {"diameter": 1.0})
        self.refused_or_taken(zy.Outline.ellipse, {"length": 1.0, "height": 0.5})
        self.refused_or_taken(zy.Outline.rounded_rectangle, {"length": 1.0, "height": 0.5, "radius": 0.1})

    def test_parts_of_an_aircraft(self):
        self.refused_or_taken(zy.Ring, {"x": 0.0, "width": 1.0})
        self.refused_or_taken(zy.Planform, {"span": 6.0, "root_chord": 1.0, "taper": 1.0})
        self.refused_or_taken(zy.Control, {"start": 0.1, "end": 0.5, "hinge": 0.7})
        self.refused_or_taken(
            zy.changed_aircraft, {"aircraft": self.aircraft, "path": "wing.position", "values": [(0, 0, 0)]}
        )

    def test_surfaces(self):
        self.refused_or_taken(zy.joined, {"surfaces": [self.ball]}, ("name",))
        self.refused_or_taken(zy.measure_surface, {"surface": self.ball})
        self.refused_or_taken(
            zy.repair_surface, {"surface": self.ball}, ("flat_holes", "keep_separate", "label_shells")
        )
        self.refused_or_taken(zy.import_surface, {"path": self.scan, "unit": "m"})
        self.refused_or_taken(zy.remesh, {"surface": self.ball, "triangles": 100, "rounds": 1})

    def test_meshes(self):
        self.refused_or_taken(zy.mesh_airfoil, {"foil": self.foil, "around": 48, "outward": 16, "topology": "O"})
        self.refused_or_taken(zy.mesh_outline, {"outline": zy.Outline.circle(1.0), "around": 32, "outward": 16})
        self.refused_or_taken(zy.mesh_revolved, {"body": zy.Outline.circle(1.0), "around": 32, "outward": 16})
        self.refused_or_taken(zy.mesh_plate, {"along": 16, "ahead": 8, "outward": 16})
        self.refused_or_taken(zy.mesh_bodies, {"bodies": {"a": self.foil}, "resolution": "coarse"})
        self.refused_or_taken(zy.mesh_sector, {"mesh": self.mesh, "count": 3})
        self.refused_or_taken(zy.plan_mesh, {"aircraft": self.aircraft, "resolution": 4.0}, ("half",))

    def test_meshes_about_aircraft_refuse_before_they_begin(self):
        for call, good in ((zy.mesh_aircraft, {"aircraft": self.aircraft}), (zy.mesh_surface, {"surface": self.ball})):
            for wrong in (
                {"zones": "quux"},
                {"zones": [1.0]},
                {"ground": "low"},
                {"alpha": 4.0},
                {"alpha": (0.0, 1.0, 2.0)},
                {"reference": 28.0},
                {"farfield": "far"},
                {"wake": -1.0},
                {"layers": (1e-3, 1.2)},
                {next(iter(good)): "skerry.toml"},
            ):
                with self.subTest(f"{call.__name__} {wrong}"):
                    with self.assertRaises(zy.InputError) as caught:
                        call(**good | wrong)
                    self.assertIn(next(iter(wrong)), str(caught.exception))

    def test_files(self):
        self.refused_or_taken(zy.read_mesh, {"path": self.file})
        self.refused_or_taken(zy.write_mesh, {"mesh": self.mesh, "path": self.folder / "n.vtu"})
        self.refused_or_taken(zy.read_study, {"path": self.study})
        self.refused_or_taken(zy.load_solution, {"path": self.stored})

    def test_solving(self):
        quick = zy.Numerics(max_iterations=1)
        for call, good in (
            (zy.solve, {"mesh": self.mesh, "air": self.air}),
            (zy.sweep, {"shape": self.mesh, "alpha": [0.0], "mach": [0.3], "processes": 1}),
            (zy.refine, {"shape": self.foil, "air": self.air, "around": 96, "outward": 32, "topology": "O"}),
            (zy.derivatives, {"mesh": self.mesh, "air": self.air}),
            (zy.compare, {"shapes": {"a": self.foil, "b": self.foil}, "air": self.air}),
            (zy.trim, {"aircraft": self.aircraft, "air": self.air, "lift": 0.2, "control": "wing.twist_at"}),
        ):
            known = inspect.signature(call).parameters
            for name, value in (
                ("mesh", "m.vtu"),
                ("shape", None),
                ("aircraft", 3.0),
                ("shapes", "ab"),
                ("air", 0.3),
                ("model", "viscid"),
                ("model", 3),
                ("numerics", {"residual_drop": 4}),
                ("reference", 28.0),
                ("start", "f.npz"),
                ("walls", "hot"),
                ("walls", {"airfoil": 300.0}),
                ("keep", 1.0),
                ("alpha", None),
                ("mach", "fast"),
                ("folder", 3.0),
                ("scheduler", 8786),
                ("levels", 2.5),
                ("alpha_step", 0.0),
                ("control", None),
            ):
                if name not in known:
                    continue
                wrong = {"numerics": quick, **good, name: value}
                with self.subTest(f"{call.__name__}({name}={value!r})"):
                    with self.assertRaises(zy.InputError) as caught:
                        call(**wrong)
                    self.assertIn(name, str(caught.exception))


class CommandLine(unittest.TestCase):
    """Every command refuses what it can't use with exit code 2 and one sentence."""

    def test_bad_words_and_files(self):
        skerry = str(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml")
        runner = CliRunner()
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            for name, text in (
                ("empty.toml", ""),
                ("torn.toml", "x = = 3"),
                ("text.stl", "nothing"),
                ("key.toml", '[section]\nnaca = "0012"\n[sweeep]\nmach = 0.2\n'),
                ("type.toml", '[section]\nnaca = "0012"\n[air]\nreynolds = "many"\n'),
                ("idle.toml", '[section]\nnaca = "0012"\n'),
                ("lost.toml", '[aircraft]\nfile = "nowhere.toml"\n[sweep]\nmach = 0.2\nalpha = [0]\n'),
                ("part.toml", 'name = "x"\n[parts.wing]\nkind = "wyng"\n'),
            ):
                Path(name).write_text(text)
            Path("bytes.dat").write_bytes(bytes(range(256)) * 4)
            Path("folder").mkdir()
            for words, said in (
                ("run missing.toml", "'missing.toml' does not exist; make one with: zephyrum new"),
                ("run empty.toml", "section: is missing; add it"),
                ("run torn.toml", "torn.toml:1: not valid TOML"),
                ("run folder", "is not a file"),
                ("run key.toml", "key.toml:3: sweeep: unknown key; known here: title"),
                ("run type.toml", "type.toml:4: air.reynolds: input should be a valid number"),
                ("run idle.toml", "nothing to compute; add one"),
                ("run lost.toml", "'nowhere.toml' does not exist beside the study"),
                ("run bytes.dat", "is not text; give a TOML file"),
                ("show folder", "is not the folder of a study"),
                ("animate missing", "is not the folder of a study"),
                ("report torn.toml", "is not the folder of a study"),
                ("new folder", "should end in .toml"),
                ("new torn.toml", "exists already; choose another name"),
                ("section missing.dat", "does not exist; check the name"),
                ("section bytes.dat", "is binary; give a text file"),
                ("section naca00", "is not four or five digits"),
                ("section naca0012 --flap 2 10", "hinge = 2 is out of range"),
                ("section naca0012 --flap a b", "'a' is not a valid float"),
                ("shape missing.toml", "does not exist"),
                ("shape empty.toml", "name: is missing"),
                ("shape part.toml", "parts.wing"),
                ("shape text.stl", "is no STL file, or is cut short (7 bytes); export it again"),
                ("shape bytes.dat", "ends in .dat; give one of"),
                (f"shape {skerry} --set wing.sweep", "write PATH=VALUE"),
                (f"shape {skerry} --set wing.nothing=3", "wing.nothing"),
                (f"shape {skerry} --set wing.controls.flap.deflection=high", "is not a quantity"),
                ("mesh naca0012 --around 7", "around = 7 is out of range"),
                ("mesh naca0012 --y-plus 1", "give --reynolds"),
                ("mesh naca0012 --around 32 --outward 8 --out m.xyz", "use .vtu or .cgns"),
                ("mesh naca0012 --around 32 --outward 8 --out torn.toml/m.vtu", "can't be written"),
                (f"mesh {skerry} --cells 5", "cells = 5 is out of range"),
                (f"mesh {skerry} --y-plus 1", "give reynolds"),
                (f"mesh {skerry} --resolution enormous", "choose one of: coarse, medium, fine"),
                ("mesh naca0012 --sectors 3", "--sectors has no effect on a section"),
                (f"mesh {skerry} --first-height 1e-5", "--first-height has no effect on an aircraft"),
                ("refine naca0012 --mach -1", "mach = -1 is out of range"),
                ("refine naca0012 --mach 0.3 --levels 2", "levels = 2 is out of range"),
                ("demo --out torn.toml", "can't be written"),
            ):
                with self.subTest(words):
                    result = runner.invoke(main, words.split())
                    self.assertEqual(result.exit_code, 2, result.output)
                    self.assertIn(said, " ".join(result.output.split()))
                    self.assertNotIn("Traceback", result.output)

    def test_a_study_for_an_aircraft_that_is_not_there_yet_says_so(self):
        runner = CliRunner()
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            first = runner.invoke(main, ["new", "cruise.toml", "--aircraft", "gull.toml"])
            Path("gull.toml").write_text('name = "gull"\n')
            second = runner.invoke(main, ["new", "climb.toml", "--aircraft", "gull.toml"])
        self.assertEqual((first.exit_code, second.exit_code), (0, 0))
        self.assertIn("when 'gull.toml' is there: it is not yet", first.output)
        self.assertNotIn("not yet", second.output)


class Takes(unittest.TestCase):
    """The decorator behind it."""

    def test_numbers_are_handed_on_as_such_and_lists_as_tuples(self):
        @takes(a=float, b=Many(float, 2), c=Many(object), d=str)
        def call(a, b=(0.0, 1.0), c=(), d=None):
            "What it does."
            return a, b, c, d

        self.assertEqual(call("2.5"), (2.5, (0.0, 1.0), (), None))
        self.assertEqual(call(1, [3, "4"], (k for k in "xy"), d="z"), (1.0, (3.0, 4.0), ("x", "y"), "z"))
        self.assertEqual(call(np.float32(0.5), b=np.array([1, 2]))[1], (1.0, 2.0))
        self.assertEqual((call.__doc__, call.__name__), ("What it does.", "call"))
        self.assertEqual(list(inspect.signature(call).parameters), ["a", "b", "c", "d"])
        for wrong, words in (
            ({"a": None}, "a = None is not a number"),
            ({"a": 1.0, "b": (1.0,)}, r"b = \(1.0,\) must be a list of 2, not of 1"),
            ({"a": 1.0, "b": (1.0, "x")}, r"b\[1\] = 'x' is not a number"),
            ({"a": 1.0, "c": "text"}, "c = 'text' must be a list"),
            ({"a": 1.0, "d": 5}, "d = 5 is not a str; give text"),
        ):
            with self.subTest(wrong), self.assertRaisesRegex(zy.InputError, words):
                call(**wrong)

    def test_what_is_wrong_with_the_call_itself_is_python_s_own_error(self):
        with self.assertRaises(TypeError):
            zy.quality()
        with self.assertRaises(TypeError):
            zy.quality(mesh=None, colour="red")


if __name__ == "__main__":
    unittest.main()
