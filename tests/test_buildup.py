"""Drag build-up: every law against its formula, a wing and a fuselage worked by hand, tables, spread, refusals."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from click.testing import CliRunner

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.loworder.drag_buildup.components import components_of
from zephyrum.loworder.drag_buildup.form_factors import FORM_FACTORS, FormShape, form_factor
from zephyrum.loworder.drag_buildup.friction import (
    LAWS,
    PlateFlow,
    blasius,
    friction_chart,
    laminar_friction,
    mean_friction,
    rough_friction,
    schoenherr,
    turbulent_friction,
    van_driest,
)

SKERRY = Path(zy.__file__).parent / "data" / "skerry-mailplane.toml"
AIR = zy.Freestream(speed=60.0)
WING = zy.Component("wing", "wing", 12.0, 1.0, thickness=0.12)
BODY = zy.Component("fuselage", "body", 16.0, 8.0, fineness=8.0)


class Friction(unittest.TestCase):
    def test_laws_are_their_published_formulas(self):
        for r in (1e6, 3e7, 5e8):
            expected = {
                "prandtl_power": 0.074 * r**-0.2,
                "prandtl_schlichting": 0.455 / math.log10(r) ** 2.58,
                "white": 0.523 / math.log(0.06 * r) ** 2,
            }
            for name, value in expected.items():
                self.assertAlmostEqual(turbulent_friction(r, name) / value, 1.0, 9)
            cf = schoenherr(r)
            self.assertAlmostEqual(math.log10(r * cf) * math.sqrt(cf), 0.242, 9)
            self.assertAlmostEqual(van_driest(r, 0.0), cf, 12)
        self.assertAlmostEqual(blasius(4e5), 1.328 / math.sqrt(4e5), 12)
        self.assertAlmostEqual(rough_friction(1e-5), (1.89 + 1.62 * 5.0) ** -2.5, 12)
        # Schoenherr's table: 4.41, 2.94, 2.07, 1.53 thousandths
        for r, table in ((1e6, 4.41e-3), (1e7, 2.94e-3), (1e8, 2.07e-3), (1e9, 1.53e-3)):
            self.assertAlmostEqual(schoenherr(r) / table, 1.0, delta=5e-3)

    def test_turbulent_laws_agree_where_they_were_made(self):
        found = friction_chart(np.array([3e6]))
        values = [found[name][0] for name in LAWS]
        self.assertLess(max(values) / min(values), 1.06)

    def test_speed_lowers_friction(self):
        for name in LAWS:
            ratio = [turbulent_friction(1e7, name, mach) / turbulent_friction(1e7, name) for mach in (0.5, 1.0, 2.0)]
            self.assertTrue(1.0 > ratio[0] > ratio[1] > ratio[2] > 0.65, (name, ratio))
        # measured on plates without heat transfer (Hopkins and Inouye 1971): 0.74 to 0.79 at Mach 2
        self.assertAlmostEqual(van_driest(1e7, 2.0) / schoenherr(1e7), 0.765, delta=0.025)
        self.assertAlmostEqual(laminar_friction(1e6, 2.0) / blasius(1e6), 0.95, delta=0.01)

    def test_laminar_fronts_and_rough_surfaces(self):
        r = 1e7
        share = 0.4
        expected = schoenherr(r) - share * (schoenherr(share * r) - blasius(share * r))
        self.assertAlmostEqual(mean_friction(PlateFlow(r, laminar=share), "schoenherr"), expected, 12)
        self.assertAlmostEqual(mean_friction(PlateFlow(r, laminar=1.0), "schoenherr"), blasius(r), 12)
        self.assertEqual(mean_friction(PlateFlow(r, roughness=1e-9), "schoenherr"), schoenherr(r))
        self.assertEqual(mean_friction(PlateFlow(r, roughness=1e-4), "schoenherr"), rough_friction(1e-4))


class Forms(unittest.TestCase):
    def test_factors_are_their_published_formulas(self):
        t, f = 0.12, 8.0
        wing, body = FormShape(thickness=t, sweep=20.0, mach=0.6), FormShape(fineness=f)
        cosine = math.cos(math.radians(20.0))
        for name, value in (
            ("hoerner_wing", 1.0 + 2.0 * t + 60.0 * t**4),
            ("torenbeek_wing", 1.0 + 2.7 * t + 100.0 * t**4),
            (
                "shevell_wing",
                1.0 + (2.0 - 0.36) * cosine / math.sqrt(1.0 - (0.6 * cosine) ** 2) * t + 100.0 * t**4,
            ),
            ("raymer_wing", (1.0 + 2.0 * t + 100.0 * t**4) * 1.34 * 0.6**0.18 * cosine**0.28),
            ("jenkinson_wing", 1.0 + (3.3 * t - 0.008 * t**2 + 27.0 * t**3) * cosine**2),
        ):
            self.assertAlmostEqual(form_factor(name, wing), value, 9)
        for name, value in (
            ("hoerner_body", 1.0 + 1.5 / f**1.5 + 7.0 / f**3),
            ("torenbeek_body", 1.0 + 2.2 / f**1.5 + 3.8 / f**3),
            ("raymer_body", 1.0 + 60.0 / f**3 + f / 400.0),
            ("jenkinson_body", 1.0 + 2.2 / f**1.5 - 0.9 / f**3),
            ("raymer_nacelle", 1.0 + 0.35 / f),
        ):
            self.assertAlmostEqual(form_factor(name, body), value, 9)
        self.assertEqual(
            form_factor("hoerner_wing", FormShape(thickness=t, thickness_at=0.5)), 1.0 + 1.2 * t + 70 * t**4
        )
        self.assertEqual({one.kind for one in FORM_FACTORS.values()}, {"wing", "body", "nacelle"})


class Sums(unittest.TestCase):
    def test_a_wing_and_a_fuselage_worked_by_hand(self):
        # 60 m/s at sea level: 1.225 kg/m^3, 1.789e-5 Pa s; Re 4.108e6 on 1 m and 3.287e7 on 8 m.
        # At Mach 0.1763 the reference temperature is 1.00360 times that of the stream, its viscosity 1.0027 times;
        # Schoenherr at Re / 1.0063: 0.0034104 and 0.0024379 (0.242 / sqrt(Cf) = log10(Re Cf)), over 1.0036: 0.0033982
        # and 0.0024291. Form: 1 + 2 0.12 + 60 0.12^4 = 1.25244; 1 + 1.5 / 8^1.5 + 7 / 8^3 = 1.07996.
        # Drag areas: 12 0.0033982 1.25244 = 0.051072 m^2 and 16 0.0024291 1.07996 = 0.041974 m^2.
        found = zy.zero_lift_drag([WING, BODY], AIR, zy.BuildupOptions(law="schoenherr"), area=6.0)
        for row, value in zip(found.table["drag_area_m2"], (0.051072, 0.041974, 0.093046)):
            self.assertAlmostEqual(row / value, 1.0, delta=2e-4)
        self.assertAlmostEqual(found.CD, 0.093046 / 6.0, delta=2e-5)

    def test_increments_base_and_interference(self):
        more = (
            zy.Increment("antennas", 0.01),
            zy.Increment("leaks", 5.0, "percent", "leaks"),
            zy.Increment("gear", 20.0, "counts", "gear"),
        )
        plain = zy.zero_lift_drag([WING, BODY], AIR, area=6.0)
        options = zy.BuildupOptions(increments=more, interference={"fuselage": 1.2}, base={"fuselage": 0.1})
        found = zy.zero_lift_drag([WING, BODY], AIR, options, area=6.0)
        rows, bare = found.table.set_index("part")["drag_area_m2"], plain.table.set_index("part")["drag_area_m2"]
        self.assertAlmostEqual(rows["fuselage"] / bare["fuselage"], 1.2, 12)
        self.assertEqual(rows["antennas"], 0.01)
        self.assertAlmostEqual(rows["leaks"], 0.05 * (rows["wing"] + rows["fuselage"]), 12)
        self.assertAlmostEqual(rows["gear"], 0.002 * 6.0, 12)
        self.assertAlmostEqual(rows["base of fuselage"], 0.1 * 0.029 / math.sqrt(rows["fuselage"] / 0.1), 12)
        self.assertAlmostEqual(rows["all"], rows.drop("all").sum(), 12)
        self.assertAlmostEqual(found.table["share_percent"].iloc[:-1].sum(), 100.0, 9)
        self.assertEqual(list(found.sorted()["part"])[-1], "all")
        drags = list(found.sorted()["drag_area_m2"])[:-1]
        self.assertEqual(drags, sorted(drags, reverse=True))
        self.assertEqual(found.sorted("group")["group"].iloc[0], "base")

    def test_the_skerry(self):
        aircraft = zy.Aircraft.read(SKERRY)
        found = zy.zero_lift_drag(aircraft, zy.Freestream(mach=0.2, altitude="5000 ft"))
        measures = aircraft.measures()
        self.assertAlmostEqual(found.table["wetted_m2"].iloc[-1], measures.surface.areas.sum(), delta=1e-6)
        by_name = {one.name: one for one in found.components}
        self.assertAlmostEqual(by_name["wing"].length, aircraft.parts["wing"].measures.mean_chord, delta=0.01)
        self.assertAlmostEqual(by_name["fuselage"].length, 11.1, delta=1e-6)
        self.assertTrue(0.012 < found.CD < 0.022)
        low, high = found.spread
        self.assertTrue(low <= found.CD <= high < 1.4 * low)
        streams = [zy.Freestream(speed=v) for v in (40.0, 60.0, 80.0)]
        table = found.conditions(streams)
        self.assertTrue((np.diff(table["CD"]) < 0.0).all() and (np.diff(table["drag_N"]) > 0.0).all())
        changed = zy.zero_lift_drag(aircraft.changed({"tailplane.planform.span": 6.0}), found.air)
        self.assertNotEqual(changed.fingerprint, found.fingerprint)
        with tempfile.TemporaryDirectory() as folder:
            text = found.write_csv(Path(folder) / "drag.csv").read_text()
        self.assertIn(found.fingerprint, text)
        self.assertIn("fuselage,body", text)

    def test_command_prints_writes_and_draws(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ["buildup", str(SKERRY), "--speed", "130 kt", "--altitude", "5000 ft", "--roughness", "7 um"]
            words += ["--laminar", "wing=0.2", "--interference", "nacelle=1.3", "--sort", "part"]
            words += ["--csv", f"{folder}/drag.csv", "--figure", f"{folder}/drag.png"]
            made = CliRunner().invoke(main, words)
            self.assertEqual(made.exit_code, 0, made.output)
            for said in ("fuselage", "by other published laws", "form factor hoerner_body"):
                self.assertIn(said, made.output)
            assert_picture(self, f"{folder}/drag.png")
            self.assertEqual(list(pd.read_csv(f"{folder}/drag.csv")["part"])[-1], "all")
            for wrong, said in (
                (["--laminar", "wing"], "--laminar 'wing': write NAME=VALUE"),
                (["--law", "guess"], "guess"),
                (["--roughness", "7 kg"], "roughness"),
            ):
                refused = CliRunner().invoke(main, ["buildup", str(SKERRY), "--mach", "0.2", *wrong])
                self.assertEqual(refused.exit_code, 2)
                self.assertIn(said, refused.output)

    def test_components_of_a_labelled_surface(self):
        surface = zy.Aircraft.read(SKERRY).surface()
        kinds = {
            name: "wing" if name in ("wing", "tailplane", "fin") else "body"
            for name in dict.fromkeys(label.split("/")[0] for label in surface.labels)
        }
        found = {one.name: one for one in zy.components_of_surface(surface, kinds)}
        own = {one.name: one for one in components_of(zy.Aircraft.read(SKERRY))}
        self.assertAlmostEqual(found["wing"].wetted, own["wing"].wetted, delta=0.01)
        self.assertAlmostEqual(found["wing"].length / own["wing"].length, 1.0, delta=0.15)
        self.assertAlmostEqual(found["fuselage"].fineness / own["fuselage"].fineness, 1.0, delta=0.15)

    def test_what_does_not_fit_is_refused(self):
        for call, said in (
            (lambda: zy.zero_lift_drag([WING], AIR), "no reference area"),
            (lambda: zy.zero_lift_drag([], AIR, area=6.0), "at least one"),
            (lambda: zy.zero_lift_drag(zy.Aircraft.read(SKERRY), AIR, area=0.0), "area = 0"),
            (lambda: zy.BuildupOptions(law="guess"), "guess"),
            (lambda: zy.BuildupOptions(forms={"wing": "none"}), "none"),
            (lambda: zy.BuildupOptions(laminar={"wing": 1.5}), "laminar"),
            (lambda: zy.Increment("gear", 1.0, "pounds"), "pounds"),
            (lambda: zy.Increment("gear", -1.0), "gear"),
            (
                lambda: zy.zero_lift_drag([WING], AIR, zy.BuildupOptions(laminar={"keel": 0.1}), 6.0),
                "'keel' is no part",
            ),
            (lambda: zy.Component("pod", "boat", 1.0, 1.0), "boat"),
            (lambda: zy.components_of_surface(zy.Body.capsule(3.0, 1.0).surface("pod"), {"boom": "body"}), "'boom'"),
            (lambda: zy.zero_lift_drag([WING], AIR, area=6.0).sorted("weight"), "weight"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                call()


if __name__ == "__main__":
    unittest.main()
