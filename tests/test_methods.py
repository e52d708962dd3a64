"""One case by several methods: quick methods in study files, several field models, reference data, comparison."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from click.testing import CliRunner

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.plotting import draw_methods
from zephyrum.plotting.style import save
from zephyrum.studies import open_study
from zephyrum.studies.quick_polars import QuickMethods

AIRCRAFT = """name = "Gannet"

[parts.wing]
kind = "wing"
airfoil = "NACA 2412"
planform = { span = 8.0, root_chord = 1.0, taper = 1.0 }
controls = { aileron = { start = 0.6, end = 0.9, hinge = 0.75, opposite = true } }

[parts.tail]
kind = "wing"
airfoil = "NACA 0012"
position = [5.0, 0.0, 0.4]
planform = { span = 3.0, root_chord = 0.7, taper = 1.0 }
controls = { elevator = { start = 0.0, end = 1.0, hinge = 0.7 } }
"""
STUDY = """title = "Gannet"
reference_data = ["tunnel.csv"]

[aircraft]
file = "gannet.toml"

[air]
altitude = "2000 ft"

[solver]
model = ["lattice", "buildup"]

[lattice]
rows = 6
strips = 12

[buildup]
roughness = "7 um"
increments = [{ name = "gear", value = 20, unit = "counts", group = "gear" }]

[sweep]
mach = 0.15
alpha = [0, 4, 6]

[trim]
mach = 0.15
control = "tail.pitch"
lift = 0.5

[derivatives]
mach = 0.15
alpha = 4
"""
TUNNEL = """# title: Gannet, model
# area: 8 m^2
# chord: 1 m
# point: 0.25, 0, 0 m
# mach: 0.15
alpha,CL,CD,CM
0,0.2,0.02,-0.05
8,0.9,0.05,-0.2
"""
SECTION = """title = "small section"

[section]
naca = "2412"

[air]
reynolds = 3e6

[mesh]
around = 48
outward = 16
farfield = 20
topology = "O"

[solver]
model = ["panel", "euler"]

[sweep]
mach = 0.2
alpha = [0, 4]
"""


def written(text: str, name: str = "study.toml", **files: str) -> Path:
    """A study file in a new folder, with other files beside it."""
    folder = Path(tempfile.mkdtemp())
    for other, content in {name: text, **files}.items():
        (folder / other.replace("_toml", ".toml").replace("_csv", ".csv")).write_text(content, encoding="utf-8")
    return folder / name


class AircraftByQuickMethods(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.file = written(STUDY, gannet_toml=AIRCRAFT, tunnel_csv=TUNNEL)
        cls.folder = cls.file.parent / "results"
        cls.made = CliRunner().invoke(main, ["run", str(cls.file), "--out", str(cls.folder)])

    def test_one_command_gives_polars_parts_trim_and_comparison(self):
        self.assertEqual(self.made.exit_code, 0, self.made.output)
        for words in ("lattice + buildup", "zero-lift drag by part", "trim by the lattice", "methods side by side"):
            self.assertIn(words, self.made.output)
        for name in ("methods", "quick_lattice", "quick_buildup"):
            assert_picture(self, self.folder / "figures" / f"{name}.png")
        self.assertIn("Methods side by side", (self.folder / "report.html").read_text(encoding="utf-8"))

    def test_values_are_those_of_the_calls(self):
        craft = zy.Aircraft.read(self.file.parent / "gannet.toml")
        study = zy.open_study(self.folder)
        table = study.results["quick"].polars["lattice + buildup"].set_index("alpha")
        air = study.freestream(0.15, 4.0)
        found = zy.lattice_model(craft, zy.LatticeOptions(6, 12)).solve(air)
        self.assertAlmostEqual(table.loc[4.0, "CL"], found.CL, places=12)
        gear = zy.Increment("gear", 20.0, "counts", "gear")
        zero = zy.zero_lift_drag(craft, air, zy.BuildupOptions(roughness=7e-6, increments=(gear,)))
        self.assertAlmostEqual(table.loc[4.0, "CD"], found.CDi + zero.CD, places=12)
        trim = study.results["quick"].trim
        self.assertAlmostEqual(trim["CL"], 0.5)
        turned = craft.changed({"tail.pitch": trim["setting"]})
        model = replace(zy.lattice_model(turned, zy.LatticeOptions(6, 12)), reference=craft.reference_quantities()[0])
        flow = model.solve(air.turned(trim["alpha"]))
        self.assertAlmostEqual(flow.CL, 0.5, places=6)
        self.assertAlmostEqual(flow.coefficients["CM"], 0.0, places=6)

    def test_results_are_read_not_computed_and_stale_ones_refused(self):
        record = self.folder / "quick.json"
        before = record.stat().st_mtime_ns
        self.assertEqual(CliRunner().invoke(main, ["show", str(self.folder)]).exit_code, 0)
        CliRunner().invoke(main, ["run", str(self.file), "--out", str(self.folder), "--no-figures"])
        self.assertEqual(record.stat().st_mtime_ns, before)
        stale = written(STUDY, gannet_toml=AIRCRAFT, tunnel_csv=TUNNEL)
        zy.run_study(stale, stale.parent / "results")
        own = stale.parent / "results" / "gannet.toml"
        own.write_text(own.read_text(encoding="utf-8").replace("span = 8.0", "span = 9.0"), encoding="utf-8")
        with self.assertRaisesRegex(zy.FileError, "stale"):
            zy.open_study(stale.parent / "results")

    def test_differences_are_from_the_reference_data(self):
        table = zy.open_study(self.folder).results["methods"].table
        row = table[(table["method"] == "lattice + buildup") & (table["alpha"] == 4.0)].iloc[0]
        self.assertAlmostEqual(
            row["counts"], 1e4 * (row["CD"] - 0.035), places=1
        )  # the data at 4 deg, area within 1e-9
        self.assertAlmostEqual(row["CL %"], 100.0 * (row["CL"] / 0.55 - 1.0), places=6)

    def test_wakes_that_do_not_rest_are_said_and_end_nothing(self):
        hasty = zy.LatticeOptions(rows=4, strips=8, wake="relaxed", relaxation=zy.WakeRelaxation(iterations=1))
        methods = QuickMethods(open_study(self.folder))
        with mock.patch.object(QuickMethods, "lattice_options", lambda _self: hasty):
            self.assertRegex(methods._lattice_error(0.2), "not known; the wakes do not come to rest")
            with self.assertRaisesRegex(zy.InputError, "no Mach number to solve; .*do not come to rest"):
                methods._lattice({"lines": []})

    def test_the_folder_has_no_field_solution(self):
        with self.assertRaisesRegex(zy.InputError, "need no mesh"):
            _ = zy.open_study(self.folder).mesh


class SectionByPanelsAndField(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.file = written(SECTION)
        cls.study = zy.run_study(cls.file, cls.file.parent / "results")

    def test_both_are_on_one_chart(self):
        found = self.study.results["methods"]
        self.assertEqual(list(found.polars), ["panel", "euler"])
        lift = found.table.set_index(["method", "alpha"])["CL"]
        for alpha in (0.0, 4.0):  # friction takes lift
            self.assertLess(lift["panel", alpha], lift["euler", alpha])
            self.assertGreater(lift["panel", alpha], 0.8 * lift["euler", alpha])
        self.assertEqual(found.warnings, [])
        kinds = {figure.kind for figure in self.study.figures()}
        self.assertLessEqual({"methods", "method pressures"}, kinds)

    def test_command_compares_folders_and_data(self):
        data = self.file.parent / "data.csv"
        data.write_text("# chord: 2 m\n# mach: 0.2\nalpha,CL\n0,0.25\n4,0.7\n", encoding="utf-8")
        out = self.file.parent / "table.csv"
        picture = self.file.parent / "methods.png"
        words = ["compare", str(self.file.parent / "results"), str(data), "--csv", str(out), "--figure", str(picture)]
        made = CliRunner().invoke(main, words)
        self.assertEqual(made.exit_code, 0, made.output)
        self.assertEqual(set(pd.read_csv(out)["method"]), {"panel", "euler", "data"})
        assert_picture(self, picture)
        refused = CliRunner().invoke(main, ["compare", str(data)])
        self.assertEqual(refused.exit_code, 2)
        self.assertIn("no folder of a study", refused.output)

    def test_several_field_models_have_a_folder_each(self):
        text = SECTION.replace('["panel", "euler"]', '["euler", "laminar"]').replace("3e6", "2000")
        text = text.replace("alpha = [0, 4]", "alpha = [0, 1]").replace('topology = "O"', "y_plus = 1")
        file = written(text.replace("outward = 16\n", "growth = 1.4\n"))
        folder = file.parent / "results"
        study = zy.run_study(file, folder)
        self.assertEqual(list(study.results["methods"].polars), ["euler", "laminar"])
        self.assertEqual(study.missing(), [])
        member = zy.open_study(folder / "laminar")
        self.assertEqual(member.spec.field_model, "laminar")
        self.assertGreater(member.polar.table["CD_friction"].min(), 0.0)
        again = zy.open_study(folder)
        pd.testing.assert_frame_equal(again.results["methods"].table, study.results["methods"].table)
        own = folder / "study.toml"
        own.write_text(own.read_text(encoding="utf-8").replace("[0, 1]", "[0, 2]"), encoding="utf-8")
        with self.assertRaisesRegex(zy.FileError, "stale"):
            zy.open_study(folder)


class LabelledSurface(unittest.TestCase):
    TEXT = """title = "pod"

[aircraft]
file = "pod.stl"
unit = "m"
reference = { area = 2.0, chord = 1.0, span = 2.0, point = [2.0, 0.0, 0.0] }

[air]
altitude = "0 m"

[solver]
model = "buildup"

[buildup]
kinds = { pod = "body" }

[sweep]
mach = 0.2
alpha = [0]
"""

    def test_its_labels_are_built_up_and_need_a_kind(self):
        file = written(self.TEXT)
        pod = zy.Body.ellipsoid(4.0, 0.5).surface("pod")
        pod.write(file.with_name("pod.stl"))
        study = zy.run_study(file, file.parent / "results")
        found = study.results["quick"]
        air = study.freestream(0.2)
        expected = zy.zero_lift_drag(zy.components_of_surface(pod, {"pod": "body"}), air, area=2.0)
        self.assertAlmostEqual(found.polars["buildup"]["CD"][0] / expected.CD, 1.0, delta=2e-3)
        for old, new, words in (
            ('kinds = { pod = "body" }', "", "say for each of pod"),
            ("pod = ", "wing = ", "is no part of the surface"),
            ('"buildup"', '"lattice"', "needs the description of an aircraft"),
        ):
            bad = file.with_name("bad.toml")
            bad.write_text(self.TEXT.replace(old, new), encoding="utf-8")
            made = CliRunner().invoke(main, ["run", str(bad), "--out", str(file.parent / "bad")])
            self.assertEqual(made.exit_code, 2, made.output)
            self.assertIn(words, " ".join(made.output.split()))


class Mistakes(unittest.TestCase):
    def refusal(self, text: str, **files: str) -> str:
        file = written(text, **files)
        made = CliRunner().invoke(main, ["run", str(file), "--out", str(file.parent / "results")])
        self.assertEqual(made.exit_code, 2, made.output)
        self.assertNotIn("Traceback", made.output)
        self.assertFalse((file.parent / "results").exists())
        return made.output

    def test_models_that_do_not_fit(self):
        two = {"gannet_toml": AIRCRAFT, "tunnel_csv": TUNNEL}
        for old, new, words in (
            ('["lattice", "buildup"]', '"panel"', "is not for an aircraft"),
            ('["lattice", "buildup"]', '["lattice", "lattice"]', "given once"),
            ('["lattice", "buildup"]', '"lattices"', "solver.model"),
            ("rows = 6", "rows = 1", "rows"),
            ('unit = "counts"', 'unit = "pounds"', "buildup.increments"),
            ('"7 um"', '"7 kg"', "buildup.roughness"),
        ):
            self.assertIn(words, self.refusal(STUDY.replace(old, new), **two))
        self.assertIn("is not for a section", self.refusal(SECTION.replace('["panel", "euler"]', '"lattice"')))

    def test_reference_data_that_carry_too_little(self):
        for old, new, words in (
            ("# chord: 1 m\n", "", "does not carry its chord"),
            ("# mach: 0.15\n", "", "does not carry its mach"),
            ("# area: 8 m^2\n", "", "moment point of a section"),
            ("# point: 0.25, 0, 0 m", "# point: 0.25 m", "x, y, z and a unit"),
            ("# point: 0.25, 0, 0 m\n", "", "without its moment point"),
            ("# area: 8 m^2", "# area: 8 kg", "area"),
            ("alpha,CL,CD,CM", "alpha,Cl,CD,CM", "unknown column Cl"),
            ("0.9", "zero point nine", "tunnel.csv"),
        ):
            text = self.refusal(STUDY, gannet_toml=AIRCRAFT, tunnel_csv=TUNNEL.replace(old, new))
            self.assertIn(words, text)

    def test_a_slope_that_no_mesh_explains_is_doubtful(self):
        alpha = np.array([0.0, 2.0, 4.0])
        quick = pd.DataFrame({"mach": 0.2, "alpha": alpha, "CL": 0.1 * alpha})
        good = zy.compare_polars({"lattice": quick, "euler": quick.assign(CL=1.1 * quick["CL"])})
        wrong = zy.compare_polars({"lattice": quick, "euler": quick.assign(CL=2.0 * quick["CL"])})
        shifted = zy.compare_polars({"lattice": quick, "euler": quick.assign(CL=quick["CL"] + 0.2)})
        self.assertEqual(good.warnings, [])
        self.assertIn("lift slope", wrong.warnings[0])
        self.assertIn("alpha of no lift", shifted.warnings[0])
        with tempfile.TemporaryDirectory() as folder:
            save(draw_methods(wrong), Path(folder) / "wrong.png")
            assert_picture(self, Path(folder) / "wrong.png")


class ReferenceDataConversion(unittest.TestCase):
    """Coefficients of one flow about two references are each other's conversion."""

    def test_area_chord_and_moment_point(self):
        wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 4412")
        model = zy.lattice_model(zy.Aircraft(name="plank", parts={"wing": wing}), zy.LatticeOptions(6, 12))
        references = [zy.Reference(5.0, 0.8, 6.0, (0.1, 0.0, -0.3)), zy.Reference(7.0, 1.2, 5.0, (0.6, 0.0, 0.4))]
        streams = [zy.Freestream(mach=0.1, alpha=alpha) for alpha in (-3.0, 2.0, 9.0)]
        one, other = (replace(model, reference=reference).conditions(streams) for reference in references)
        # surface forces, of which the moment is made
        tables = [
            pd.DataFrame({"alpha": t["alpha"], "CL": t["CL"], "CD": t["CDi_surface"], "CM": t["CM"]})
            for t in (one, other)
        ]
        data = zy.ReferenceData("lattice", tables[0], 0.8, 0.1, area=5.0, point=(0.1, 0.0, -0.3))
        found = data.converted(references[1], 0.1)
        for name in ("CL", "CD", "CM"):
            np.testing.assert_allclose(found[name], tables[1][name], atol=1e-10)

    def test_what_cannot_be_converted(self):
        table = pd.DataFrame({"alpha": [0.0, 4.0], "CL": [0.1, 0.5], "CD": [0.01, 0.012]})
        reference = zy.Reference(8.0, 1.0, 8.0, (0.0, 0.0, 0.0))
        data = zy.ReferenceData("model", table, 0.5, 0.2, area=2.0, reynolds=1e6)
        with self.assertRaisesRegex(zy.InputError, r"Mach 0\.2 are not converted to Mach 0\.6"):
            data.converted(reference, 0.6)
        near = data.converted(reference, 0.2, 2.5e6)  # 2e6 on the chord of the reference
        self.assertEqual(near.attrs["refused"], [])
        far = data.converted(reference, 0.2, 2e7)
        self.assertTrue(far["CD"].isna().all())
        self.assertIn("Reynolds number", far.attrs["refused"][0])
        np.testing.assert_allclose(far["CL"], 0.25 * table["CL"])


class TrimByNumber(unittest.TestCase):
    def test_agrees_with_the_control_of_the_lattice(self):
        craft = zy.Aircraft.read(written(AIRCRAFT, "gannet.toml"))
        air, options = zy.Freestream(mach=0.1), zy.LatticeOptions(6, 12)
        path = "tail.controls.elevator.deflection"
        found = zy.trim_lattice_by_number(craft, air, 0.4, path, options=options)
        other = zy.trim_lattice(
            zy.lattice_model(craft, options), air, {"CL": 0.4, "CM": 0.0}, ("alpha", "tail.elevator")
        )
        self.assertAlmostEqual(found.alpha, other.air.alpha, places=5)
        self.assertAlmostEqual(found.setting, other.deflections["tail.elevator"], places=4)

    def test_numbers_that_do_not_trim(self):
        craft = zy.Aircraft.read(written(AIRCRAFT, "gannet.toml"))
        air, options = zy.Freestream(mach=0.1), zy.LatticeOptions(4, 8)
        with self.assertRaisesRegex(zy.InputError, "changes CM by"):
            zy.trim_lattice_by_number(craft, air, 0.4, "wing.controls.aileron.deflection", options=options)
        with self.assertRaises(zy.ZephyrumError):
            zy.trim_lattice_by_number(craft, air, 9.0, "tail.pitch", options=options)


if __name__ == "__main__":
    unittest.main()
