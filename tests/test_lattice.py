"""Vortex lattices: lifting surfaces, thin airfoils, drag in the far plane and at the surface, derivatives."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
from click.testing import CliRunner

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.geometry import Aircraft
from zephyrum.loworder.vortex_lattice.spacing import chordwise_points, section_constants

SLOW = 0.001
SKERRY = Path(zy.__file__).parent / "data" / "skerry-mailplane.toml"


def wing(aspect=6.0, **given) -> Aircraft:
    """A wing without camber of that aspect ratio."""
    own = {name: given.pop(name) for name in ("controls", "mirrored", "position") if name in given}
    planform = zy.Planform(**({"span": aspect, "area": aspect} | given))
    return zy.Aircraft(name="wing", parts={"wing": zy.Wing(planform=planform, airfoil="NACA 0006", **own)})


def slope(model) -> tuple[float, float]:
    """(lift slope [1/rad], aerodynamic centre behind the moment point [chords])."""
    found = model.solve(zy.Freestream(mach=SLOW)).derivatives["alpha"]
    return found["CL"], -found["CM"] / found["CL"]


class LiftingSurfaceTheory(unittest.TestCase):
    def test_halves_with_a_gap_between_them_are_said(self):
        planform = zy.Planform(span=3.0, root_chord=1.0, taper=1.0)
        stations = [zy.Station(position=(0.0, y, 0.0), chord=1.0) for y in (0.4, 3.4)]
        apart = zy.Aircraft(name="apart", parts={"wing": zy.Wing(stations=tuple(stations), airfoil="NACA 0006")})
        fins = zy.Wing(
            planform=planform, airfoil="NACA 0006", symmetric=False, mirrored=True, roll=90.0, position=(0, 2, 0)
        )
        whole = zy.Aircraft(name="whole", parts={**wing().parts, "fins": fins})
        self.assertIn("begin at y = 0.4 m", zy.lattice_model(apart).notes[0])
        self.assertEqual(zy.lattice_model(whole).notes, ())
        halves = zy.Wing(planform=planform, airfoil="NACA 0006", symmetric=False, mirrored=True)
        self.assertEqual(zy.lattice_model(zy.Aircraft(name="halves", parts={"wing": halves})).notes, ())
        air = zy.Freestream(mach=SLOW, alpha=4.0)
        joined = zy.lattice_model(wing(6.8, root_chord=1.0, area=None)).solve(air)
        lift = zy.lattice_model(apart, reference=joined.model.reference).solve(air).CL
        self.assertLess(lift, 0.9 * joined.CL)  # far more than the area between them

    def test_flat_rectangular_wings(self):
        for aspect, lift, centre in ((2.0, 2.4745, 0.2094), (6.0, 4.2146, 0.2388), (20.0, 5.4335, 0.2471)):
            found = slope(zy.lattice_model(wing(aspect)))
            self.assertAlmostEqual(found[0] / lift, 1.0, delta=1e-3)
            self.assertAlmostEqual(0.25 + found[1], centre, delta=1e-3)

    def test_swept_wing(self):
        model = zy.lattice_model(wing(5.0, sweep=45.0))
        found = slope(model)
        chord = model.reference.chord
        self.assertAlmostEqual(found[0] / 3.181, 1.0, delta=2e-3)
        behind_the_nose = (model.reference.point[0] - model.lattice.leading[:, 0].min()) / chord + found[1]
        self.assertAlmostEqual(behind_the_nose, 1.425, delta=0.01)

    def test_elliptic_wing_has_the_least_induced_drag(self):
        y = 4.0 * np.sin(np.linspace(0.0, 0.5 * np.pi, 25))
        chord = np.maximum(4.0 / np.pi * np.sqrt(np.maximum(1.0 - (y / 4.0) ** 2, 0.0)), 1e-4)
        stations = tuple(zy.Station(position=(-0.25 * c, s, 0.0), chord=c) for c, s in zip(chord, y))
        one = zy.Aircraft(name="ellipse", parts={"wing": zy.Wing(stations=stations, airfoil="NACA 0006")})
        model = zy.lattice_model(one)
        found = model.solve(zy.Freestream(mach=SLOW, alpha=1.0))
        aspect = model.reference.span**2 / model.reference.area
        self.assertAlmostEqual(found.CL**2 / (np.pi * aspect * found.CDi), 1.0, delta=3e-3)
        self.assertAlmostEqual(found.coefficients["CDi_surface"] / found.CDi, 1.0, delta=5e-3)

    def test_roll_damping_and_dihedral(self):
        rolling = zy.lattice_model(wing()).solve(zy.Freestream(mach=SLOW)).derivatives
        self.assertAlmostEqual(rolling.loc["Cl", "roll"] / -0.4402, 1.0, delta=2e-3)
        bent = zy.lattice_model(wing(dihedral=3.0)).solve(zy.Freestream(mach=SLOW)).derivatives
        self.assertAlmostEqual(bent.loc["Cl", "beta"] / np.radians(3.0) / -0.731, 1.0, delta=5e-3)

    def test_compressibility_stretches_the_chord(self):
        # Prandtl and Glauert: the slope of a wing at Mach M is that of one of aspect ratio beta A, over beta
        mach = 0.6
        beta = np.sqrt(1.0 - mach**2)
        at_speed = zy.lattice_model(wing(6.0)).solve(zy.Freestream(mach=mach, alpha=1.0))
        slender = zy.lattice_model(wing(6.0 * beta)).solve(zy.Freestream(mach=SLOW, alpha=1.0))
        self.assertAlmostEqual(at_speed.CL * beta / slender.CL, 1.0, delta=1e-3)
        self.assertAlmostEqual(at_speed.coefficients["CDi_surface"] / at_speed.CDi, 1.0, delta=5e-3)
        with self.assertRaisesRegex(zy.InputError, "mach = 1.2 is too high"):
            zy.lattice_model(wing()).solve(zy.Freestream(mach=1.2))

    def test_drag_at_the_surface_is_that_in_the_far_plane(self):
        shapes = {
            "rectangle": wing(),
            "tapered": wing(taper=0.4),
            "cambered": Aircraft(
                name="c", parts={"wing": zy.Wing(planform=zy.Planform(span=6.0, area=6.0), airfoil="NACA 4415")}
            ),
        }
        for name, shape in shapes.items():
            with self.subTest(name):
                found = zy.lattice_model(shape).solve(zy.Freestream(mach=SLOW, alpha=2.0))
                self.assertAlmostEqual(found.coefficients["CDi_surface"] / found.CDi, 1.0, delta=5e-3)


class ThinAirfoils(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        flap = {"flap": zy.Control(start=0.0, end=1.0, hinge=0.75)}
        cls.model = zy.lattice_model(wing(9000.0, controls=flap), zy.LatticeOptions(strips=12))

    def test_a_very_long_wing(self):
        self.assertAlmostEqual(slope(self.model)[0] / (2.0 * np.pi), 1.0, delta=2e-3)

    def test_a_flap_of_a_quarter_chord(self):
        found = self.model.solve(zy.Freestream(mach=SLOW))
        lift, rates = slope(self.model)[0], found.derivatives["wing.flap"]
        self.assertAlmostEqual(rates["CL"] / 3.826, 1.0, delta=3e-3)
        self.assertAlmostEqual(rates["CL"] / lift / 0.609, 1.0, delta=2e-3)
        # hinge moment of a flap of a quarter chord, from the vorticity of thin-airfoil theory (Glauert 1927)
        bent = self.model.solve(zy.Freestream(mach=SLOW), deflections={"wing.flap": 0.1})
        self.assertAlmostEqual(bent.hinge_moments["wing.flap"] / np.radians(0.1) / -0.9436, 1.0, delta=0.01)
        tilted = self.model.solve(zy.Freestream(mach=SLOW, alpha=0.1))
        self.assertAlmostEqual(tilted.hinge_moments["wing.flap"] / np.radians(0.1) / -0.5653, 1.0, delta=0.01)

    def test_the_chordwise_rule_is_exact_for_flat_and_cambered_plates(self):
        for rows, hinge in ((4, None), (12, 0.75), (9, 0.6)):
            q, t = chordwise_points(rows, hinge)
            influence = 1.0 / (2.0 * np.pi * (t[:, None] - q[None, :]))
            for shape, lift, moment in ((np.ones(rows), 2.0 * np.pi, 0.0), (2.0 * t - 1.0, np.pi, -0.25 * np.pi)):
                circulation = np.linalg.solve(influence, shape)
                self.assertAlmostEqual(2.0 * circulation.sum(), lift, 10)
                self.assertAlmostEqual(-2.0 * (circulation * (q - 0.25)).sum(), moment, 9 if hinge is None else 3)
            self.assertGreater(section_constants(rows, hinge)[0], 0.0)


class Arrangements(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.aircraft = Aircraft.read(SKERRY)
        cls.model = zy.lattice_model(cls.aircraft, zy.LatticeOptions(rows=6, strips=12))

    def test_derivatives_are_those_of_differences(self):
        attitude, rates = {"alpha": 3.0, "beta": 1.0}, {"roll": 0.02, "pitch": 0.01, "yaw": -0.01}
        bent = {"wing.flap": 5.0, "tailplane.elevator": -3.0, "wing.aileron": 2.0, "fin.rudder": 1.0}

        def at(name=None, step=0.0):
            a, r, d = ({k: v + (step if k == name else 0.0) for k, v in one.items()} for one in (attitude, rates, bent))
            return self.model.solve(zy.Freestream(mach=0.2, **a), zy.Rates(**r), d)

        exact = at().derivatives
        for name in exact.columns:
            step = 1e-4 if name in rates else 1e-3
            width = 2.0 * step if name in rates else np.radians(2.0 * step)
            high, low = at(name, step).coefficients, at(name, -step).coefficients
            for key, value in high.items():
                self.assertAlmostEqual((value - low[key]) / width, exact.loc[key, name], delta=1e-6)

    def test_signs_are_those_of_the_books(self):
        found = self.model.solve(zy.Freestream(mach=0.2, alpha=2.0)).derivatives
        for key, name, sign in (
            ("CL", "alpha", 1), ("CM", "alpha", -1), ("CM", "pitch", -1), ("Cl", "beta", -1), ("Cn", "beta", 1),
            ("CY", "beta", -1), ("Cl", "roll", -1), ("Cn", "yaw", -1), ("Cl", "yaw", 1), ("CL", "wing.flap", 1),
            ("CM", "tailplane.elevator", -1), ("Cl", "wing.aileron", -1), ("Cn", "fin.rudder", 1),
        ):  # fmt: skip
            self.assertGreater(sign * found.loc[key, name], 0.0, (key, name))

    def test_symmetric_flow_has_no_side_force_and_parts_add_up(self):
        found = self.model.solve(zy.Freestream(mach=0.2, alpha=4.0))
        for key in ("CY", "Cl", "Cn"):
            self.assertAlmostEqual(found.coefficients[key], 0.0, delta=1e-5)
        table = found.table.set_index("part")
        for key in table.columns:
            self.assertAlmostEqual(table.loc["all", key], table.drop("all")[key].sum(), 12)
        lift = (found.loading["cl"] * found.loading["chord_m"] * found.loading["width_m"]).sum()
        self.assertAlmostEqual(lift / self.model.reference.area / found.CL, 1.0, delta=0.01)

    def test_two_stacked_wings_induce_less_drag_than_one(self):
        # Munk (1923): two equal wings a span apart induce less drag than one wing of the same lift
        one = zy.lattice_model(wing()).solve(zy.Freestream(mach=SLOW, alpha=2.0))
        parts = {
            name: zy.Wing(planform=zy.Planform(span=6.0, area=6.0), airfoil="NACA 0006", position=(0.0, 0.0, z))
            for name, z in (("low", 0.0), ("high", 1.5))
        }
        both = zy.lattice_model(Aircraft(name="biplane", parts=parts, reference="low"))
        found = both.solve(zy.Freestream(mach=SLOW, alpha=2.0))
        self.assertLess(found.CDi / found.CL**2, 0.75 * one.CDi / one.CL**2)
        # factor of interference of elliptic wings at a gap of a quarter of the span, Prandtl (1924)
        factor = (1.0 - 0.66 * 0.25) / (1.055 + 3.7 * 0.25)
        self.assertAlmostEqual(found.CDi / found.CL**2 / (one.CDi / one.CL**2), 0.5 * (1.0 + factor), delta=0.02)

    def test_a_mirrored_part_and_two_halves_are_the_whole(self):
        whole = zy.lattice_model(wing()).solve(zy.Freestream(mach=0.1, alpha=3.0, beta=2.0))
        stations = tuple(zy.Station(position=(0.0, y, 0.0), chord=1.0) for y in (1e-7, 3.0))
        half = zy.Wing(stations=stations, symmetric=False, airfoil="NACA 0006", mirrored=True)
        reference = zy.TypedReference(area=6.0, chord=1.0, span=6.0, point=(0.25, 0.0, 0.0))
        two = zy.lattice_model(Aircraft(name="halves", parts={"wing": half}, reference=reference))
        found = two.solve(zy.Freestream(mach=0.1, alpha=3.0, beta=2.0))
        for key in ("CL", "CDi", "CM", "CY"):
            self.assertAlmostEqual(found.coefficients[key], whole.coefficients[key], delta=2e-3)

    def test_many_conditions_are_those_one_by_one(self):
        streams = [zy.Freestream(mach=m, alpha=a, beta=a) for m in (0.2, 0.4) for a in (0.0, 3.0)]
        table = self.model.conditions(streams, {"wing.flap": 5.0})
        for air, (_, row) in zip(streams, table.iterrows()):
            one = self.model.solve(air, deflections={"wing.flap": 5.0})
            self.assertEqual((row["mach"], row["alpha"]), (air.mach, air.alpha))
            for name, value in one.coefficients.items():
                self.assertAlmostEqual(row[name], value, 11)

    def test_error_bars_hold_the_finer_lattice(self):
        air = zy.Freestream(mach=0.2, alpha=4.0)
        study = zy.refine_lattice(self.aircraft, air, zy.LatticeOptions(rows=9, strips=18))
        finer = zy.lattice_model(self.aircraft, zy.LatticeOptions(rows=16, strips=32)).solve(air).coefficients
        for name in ("CL", "CDi", "CM"):
            found = study.estimates[name]
            self.assertLess(abs(finer[name] - found.finest), found.error, (name, found))
        self.assertLess(study.estimates["CL"].error, 0.02 * finer["CL"])
        self.assertEqual(len(study.table), 3)

    def test_trim_holds_the_weight_without_a_moment(self):
        air = zy.Freestream(mach=0.2, altitude="5000 ft")
        mass = self.aircraft.mass_properties()[0].mass
        lift = mass * 9.80665 / (air.dynamic_pressure * self.model.reference.area)
        found = zy.trim_lattice(self.model, air, {"CL": lift, "CM": 0.0}, ("alpha", "tailplane.elevator"))
        self.assertAlmostEqual(found.CL, lift, 8)
        self.assertAlmostEqual(found.coefficients["CM"], 0.0, 8)
        self.assertNotEqual(found.deflections["tailplane.elevator"], 0.0)
        # a steady turn to starboard without sideslip: the controls hold it
        turn = zy.trim_lattice(
            self.model, air.turned(alpha=4.0), {"Cl": 0.0, "Cn": 0.0}, ("wing.aileron", "fin.rudder")
        )
        self.assertAlmostEqual(turn.coefficients["Cl"], 0.0, 8)
        for targets, unknowns, error, said in (
            ({"CL": 0.5}, ("alpha", "beta"), zy.InputError, "1 targets"),
            ({"CL": 0.5}, ("flap",), zy.InputError, "'flap' is neither"),
            ({"CZZ": 0.5}, ("alpha",), zy.InputError, "'CZZ' is no coefficient"),
            ({"CL": 9.0}, ("alpha",), zy.FlowError, "no trim with CL = 9"),
            ({"Cn": 0.1}, ("alpha",), zy.FlowError, "no trim with Cn = 0.1"),
        ):
            with self.assertRaisesRegex(error, said):
                zy.trim_lattice(self.model, air, targets, unknowns)

    def test_the_moment_of_a_body_is_that_of_its_volume(self):
        # Munk (1924): a slender closed body has no lift and the moment 2 q alpha V
        far = zy.Wing(planform=zy.Planform(span=0.2, area=0.004), airfoil="NACA 0006", position=(0.0, 0.0, 50.0))
        pod = zy.Body.ellipsoid(4.0, 0.5)
        craft = Aircraft(name="pod", parts={"wing": far, "pod": pod}, reference="wing")
        model = zy.lattice_model(craft, zy.LatticeOptions(bodies=True))
        self.assertIn("with pod as slender bodies", str(model))
        found, scale = model.solve(zy.Freestream(mach=SLOW, alpha=3.0, beta=2.0)), model.reference
        row, wind = found.table.set_index("part").loc["pod"], np.array(found.air.wind)
        moment = 2.0 * pod.surface(tolerance=1e-4).volume * wind[0] / scale.area
        self.assertAlmostEqual(row["CM"] * scale.chord / (moment * wind[2]), 1.0, delta=5e-3)
        self.assertAlmostEqual(row["Cn"] * scale.span / (moment * wind[1]), 1.0, delta=5e-3)
        self.assertAlmostEqual(row["CL"], 0.0, 9)
        # the same body, mirrored, to one side: twice the moment
        two = replace(pod, position=(0.0, 3.0, 0.0), mirrored=True)
        both = Aircraft(name="pods", parts={"wing": far, "pod": two}, reference="wing")
        again = zy.lattice_model(both, zy.LatticeOptions(bodies=True)).solve(zy.Freestream(mach=SLOW, alpha=3.0))
        alone = model.solve(zy.Freestream(mach=SLOW, alpha=3.0))
        ratio = again.table.set_index("part").loc["pod", "CM"] / alone.table.set_index("part").loc["pod", "CM"]
        self.assertAlmostEqual(ratio, 2.0, 3)

    def test_a_body_turns_the_flow_up_beside_it(self):
        # a long circular body of radius R raises the angle of attack at y by R^2 / y^2
        pod = zy.Body(rings=zy.Body.capsule(40.0, 1.0).rings, position=(-20.0, 0.0, 0.0))
        for y in (1.0, 2.0):
            small = zy.Wing(planform=zy.Planform(span=0.2, area=0.004), airfoil="NACA 0006", position=(0.0, y, 0.0))
            craft = Aircraft(name="probe", parts={"wing": small, "pod": pod}, reference="wing")
            without, found = (
                zy.lattice_model(craft, zy.LatticeOptions(rows=4, strips=6, bodies=bodies))
                .solve(zy.Freestream(mach=SLOW, alpha=2.0)).table.set_index("part").loc["wing", "CL"]
                for bodies in (False, True)
            )  # fmt: skip
            self.assertAlmostEqual(found / without - 1.0, 0.25 / y**2, delta=0.02 * 0.25 / y**2 + 2e-3)

    def test_bodies_move_the_neutral_point_of_the_skerry_forward(self):
        air = zy.Freestream(mach=0.2, alpha=2.0)
        found = zy.lattice_model(self.aircraft, zy.LatticeOptions(rows=6, strips=12, bodies=True)).solve(air)
        plain = self.model.solve(air)
        shift = (plain.neutral_point - found.neutral_point) / self.model.reference.chord
        self.assertTrue(0.05 < shift < 0.15, shift)
        # inviscid flow on a mesh of 22,000 cells has CM_alpha -0.88
        slopes = [one.derivatives.loc["CM", "alpha"] for one in (plain, found)]
        self.assertLess(abs(slopes[1] + 0.88), 0.4 * abs(slopes[0] + 0.88))
        with self.assertRaisesRegex(zy.InputError, "bodies over a ground"):
            zy.LatticeOptions(ground=2.0, bodies=True)

    def test_relaxed_wakes_follow_the_flow(self):
        air = zy.Freestream(mach=SLOW, alpha=10.0)
        straight, found = (
            zy.lattice_model(wing(), zy.LatticeOptions(rows=4, strips=12, wake=wake)).solve(air)
            for wake in ("wind", "relaxed")
        )
        self.assertAlmostEqual(found.CL / straight.CL, 1.0, delta=3e-3)
        tails, wind = found.basis.lattice.filaments[:, -1], np.array(air.wind)
        nodes = np.reshape(found.basis.factor.setting.nodes, (len(tails), -1, 3))
        middle = nodes[len(tails) // 2] - tails[len(tails) // 2]
        down = -middle @ np.array([-wind[2], 0.0, wind[0]]) / (middle @ wind)
        far = 2.0 * found.CL / (np.pi * 6.0)  # of an elliptic wing, far behind it
        self.assertTrue(0.6 * far < down[8] < far, (down[8], far))
        self.assertLess(nodes[-1, -1, 1], 0.95 * tails[-1, 1])  # tip vortices roll up inwards
        np.testing.assert_allclose(nodes[0, :, 1], -nodes[-1, :, 1], atol=1e-3)
        again = found.derivatives.loc["CL", "alpha"]
        self.assertAlmostEqual(again / straight.derivatives.loc["CL", "alpha"], 1.0, delta=0.01)
        hasty = zy.LatticeOptions(rows=4, strips=8, wake="relaxed", relaxation=zy.WakeRelaxation(iterations=1))
        with self.assertRaisesRegex(zy.FlowError, "do not come to rest.*after 1 iterations"):
            zy.lattice_model(wing(), hasty).solve(air)
        with self.assertRaisesRegex(zy.InputError, "damping"):
            zy.WakeRelaxation(damping=1.5)
        with self.assertRaisesRegex(zy.InputError, "relaxed wakes over a ground"):
            zy.LatticeOptions(ground=2.0, wake="relaxed")

    def test_named_groups_take_part_and_are_saved(self):
        self.assertEqual(self.aircraft.groups["tail"], ("tailplane", "fin"))
        self.assertEqual(Aircraft.from_table(self.aircraft.table(), SKERRY.parent).groups, self.aircraft.groups)
        model = zy.lattice_model(self.aircraft, zy.LatticeOptions(rows=4, strips=6, parts=("tail",)))
        self.assertEqual(model.lattice.parts, ("tailplane", "fin"))
        mixed = zy.LatticeOptions(rows=4, strips=6, parts=("wing", "fuselage"), bodies=True)
        self.assertEqual(zy.lattice_model(self.aircraft, mixed).bodies.names, ("fuselage",))
        for parts, said in ((("tails",), "choose of: wing, tailplane, fin, tail"), (("fuselage",), "no lifting surf")):
            with self.assertRaisesRegex(zy.InputError, said):
                zy.lattice_model(self.aircraft, zy.LatticeOptions(parts=parts))
        wing = self.aircraft.parts["wing"]
        for groups, said in (
            ({"wing": ("wing",)}, "name of a part"),
            ({"a": ("b",)}, "'b' is no part"),
            ({"a": ()}, "empty"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                Aircraft(name="x", parts={"wing": wing}, groups=groups)

    def test_a_wing_over_the_ground_is_one_of_a_mirrored_pair(self):
        high, low = (
            zy.Wing(planform=zy.Planform(span=6.0, area=6.0), airfoil="NACA 0006", pitch=a, position=(0.0, 0.0, z))
            for a, z in ((3.0, 1.0), (-3.0, -1.0))
        )
        air = zy.Freestream(mach=SLOW)
        reference = zy.TypedReference(area=6.0, chord=1.0, span=6.0, point=(0.25, 0.0, 1.0))
        pair = zy.lattice_model(Aircraft(name="pair", parts={"high": high, "low": low}, reference=reference)).solve(air)
        alone = Aircraft(name="alone", parts={"high": high}, reference=reference)
        over = zy.lattice_model(alone, zy.LatticeOptions(ground=1.0)).solve(air)
        wanted = pair.table.set_index("part").loc["high"]
        for name in ("CL", "CDi", "CDi_surface", "CM"):
            self.assertAlmostEqual(over.coefficients[name], wanted[name], delta=1e-4 * abs(wanted["CL"]))
        free = zy.lattice_model(alone).solve(air)
        self.assertGreater(over.CL, 1.05 * free.CL)
        # Wieselsberger (1922): the ground takes 1 - (1 - 1.32 h/b) / (1.05 + 7.4 h/b) of the induced drag away
        height = 1.0 / 6.0
        left = 1.0 - (1.0 - 1.32 * height) / (1.05 + 7.4 * height)
        self.assertAlmostEqual(over.CDi / over.CL**2 / (free.CDi / free.CL**2), left, delta=0.03)
        turned = zy.lattice_model(wing(), zy.LatticeOptions(ground=1.0)).solve(zy.Freestream(mach=SLOW, alpha=3.0))
        self.assertAlmostEqual(turned.CL / over.CL, 1.0, delta=0.01)
        for air, options, said in (
            (zy.Freestream(mach=SLOW, beta=3.0), zy.LatticeOptions(ground=1.0), "beta = 3 deg over a ground"),
            (zy.Freestream(mach=SLOW, alpha=20.0), zy.LatticeOptions(ground=0.1), "below the ground"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                zy.lattice_model(wing(), options).solve(air)

    def test_wakes_along_the_wind_change_little(self):
        air = zy.Freestream(mach=SLOW, alpha=5.0)
        body, wind = (zy.lattice_model(wing(), zy.LatticeOptions(wake=way)).solve(air) for way in ("body", "wind"))
        self.assertAlmostEqual(wind.CL / body.CL, 1.0, delta=5e-3)
        self.assertAlmostEqual(wind.CDi / body.CDi, 1.0, delta=0.01)
        self.assertNotEqual(wind.CL, body.CL)

    def test_load_and_velocity_of_the_field(self):
        found = self.model.solve(zy.Freestream(mach=0.2, alpha=4.0))
        # far behind a wing of elliptic load the downwash is twice that at the wing, in the wake and less beside it
        alone = zy.lattice_model(self.aircraft, zy.LatticeOptions(rows=6, strips=12, parts=("wing",)))
        wing_flow = alone.solve(zy.Freestream(mach=0.2, alpha=4.0))
        wash = wing_flow.velocity(np.array([[200.0, 0.0, 1.5]]))[0]
        angle = np.radians(4.0) - np.arctan2(wash[2], wash[0])
        reference = self.model.reference
        at_the_wing = wing_flow.CL * reference.area / (np.pi * reference.span**2)
        self.assertTrue(at_the_wing < angle < 2.0 * at_the_wing)
        # pressures of all panels carry the normal force
        lattice, loads = self.model.lattice, found.pressure_differences
        left, right = lattice.edges[lattice.left], lattice.edges[lattice.right]
        area = 0.5 * np.linalg.norm(np.cross(right[:, 1:] - left[:, :-1], left[:, 1:] - right[:, :-1]), axis=2)
        normal = (loads * area * lattice.bound_normals[:, :, 2]).sum() / reference.area
        self.assertAlmostEqual(normal / found.coefficients["CZ"], 1.0, delta=0.01)

    def test_command_prints_writes_and_draws(self):
        with tempfile.TemporaryDirectory() as folder:
            words = ["lattice", str(SKERRY), "--mach", "0.2", "--alpha", "2", "--rows", "6", "--strips", "12"]
            words += ["--csv", folder, "--figure", f"{folder}/load.png", "--set", "wing.controls.flap.deflection=10"]
            made = CliRunner().invoke(main, words)
            self.assertEqual(made.exit_code, 0, made.output)
            for said in (
                "wing, tailplane, fin",
                "neutral point at x = 4.",
                "tailplane.elevator",
                "bodies are left out",
            ):
                self.assertIn(said, made.output)
            assert_picture(self, f"{folder}/load.png")
            table = pd.read_csv(f"{folder}/lattice_parts.csv").set_index("part")
            asked = self.model.solve(zy.Freestream(mach=0.2, alpha=2.0), deflections={"wing.flap": 10.0})
            self.assertAlmostEqual(table.loc["all", "CL"], asked.CL, 9)
            self.assertEqual(len(pd.read_csv(f"{folder}/lattice_loading.csv")), len(self.model.lattice.left))
            for wrong, said in (
                ([str(SKERRY)], "give --mach or --speed"),
                (["none.toml", "--mach", "0.2"], "none.toml"),
            ):
                refused = CliRunner().invoke(main, ["lattice", *wrong])
                self.assertEqual(refused.exit_code, 2)
                self.assertIn(said, refused.output)

    def test_what_does_not_fit_is_refused(self):
        for call, said in (
            (lambda: zy.lattice_model(self.aircraft, zy.LatticeOptions(parts=("keel",))), "'keel' is no lifting"),
            (lambda: self.model.solve(zy.Freestream(mach=0.2), deflections={"wing.slat": 1.0}), "'wing.slat' is no"),
            (lambda: zy.LatticeOptions(rows=2), "rows = 2"),
            (lambda: zy.LatticeOptions(strips=10.5), "not a whole number"),
            (lambda: zy.lattice_model(Aircraft(name="pod", parts={"pod": zy.Body.capsule(3.0, 1.0)})), "no wing"),
        ):
            with self.assertRaisesRegex(zy.InputError, said):
                call()


if __name__ == "__main__":
    unittest.main()
