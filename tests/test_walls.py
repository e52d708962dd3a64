"""Walls that move, heat, are rough or laminar, and air that hardly moves."""

import unittest

import numpy as np

import zephyrum as zy
from validation import curved_walls
from validation.clipped_manufactured import in_the_plane
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.discretization.wall_pressure_gradient import slip_wall_cells
from zephyrum.mesh.wall_shape import wall_shape


class Plates(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_plate(1.0, 32, 8, 40, 2e-5, 0.6)
        cls.reference = cls.mesh.reference
        cls.air = zy.Freestream(mach=0.2, reynolds=2e6)
        cls.plain = cls.solve()

    @classmethod
    def solve(cls, model="sa", **wall):
        walls = zy.Wall(**wall) if wall else None
        return zy.solve(
            cls.mesh, cls.air, model, cls.reference, zy.Numerics(vortex=False, residual_drop=6), walls=walls
        )

    def test_laminar_front_lowers_the_drag_by_what_blasius_says(self):
        part = self.solve(laminar=0.4)
        self.assertEqual(part.outcome, "converged")
        table = part.surface()
        front = (table["x"] > 0.1) & (table["x"] < 0.28)
        ratio = table["Cf"].abs()[front] * np.sqrt(2e6 * table["x"][front]) / 0.664
        self.assertLess(float((ratio - 1.0).abs().max()), 0.02)
        self.assertLess(part.forces.CD, 0.85 * self.plain.forces.CD)

    def test_roughness_raises_the_drag_as_the_rough_plate_law_says(self):
        rough = self.solve(roughness=1e-3)
        self.assertEqual(rough.outcome, "converged")
        # fully rough plate, Mills and Hang 1983: cf = (3.476 + 0.707 ln(x / ks))^-2.46
        table = rough.surface()
        x = 0.7
        cf = float(np.interp(x, table["x"], table["Cf"].abs()))
        law = (3.476 + 0.707 * np.log(x / 1e-3)) ** -2.46
        self.assertLess(abs(cf / law - 1.0), 0.04)
        self.assertGreater(rough.forces.CD, 1.3 * self.plain.forces.CD)

    def test_warm_wall_heats_the_air_by_reynolds_analogy(self):
        warm = self.solve("laminar", temperature=self.air.temperature + 20.0)
        self.assertEqual(warm.outcome, "converged")
        table = warm.surface()
        own = (table["x"] > 0.3) & (table["x"] < 0.8)
        heat = table["heat flux"][own]
        self.assertTrue((heat > 0.0).all())
        # Stanton = Cf / 2 Pr^(-2/3); recovery temperature T (1 + sqrt(Pr) (gamma - 1) / 2 M^2)
        gas, air = self.air.gas, self.air
        recovery = air.temperature * (1.0 + np.sqrt(gas.prandtl) * 0.2 * 0.2**2)
        cp = gas.gamma * gas.R / (gas.gamma - 1.0)
        stanton = heat / (air.density * air.speed * cp * (air.temperature + 20.0 - recovery))
        ratio = stanton / (0.5 * table["Cf"].abs()[own] * gas.prandtl ** (-2.0 / 3.0))
        self.assertLess(float((ratio - 1.0).abs().max()), 0.05)

    def test_thicknesses_and_profile_are_those_of_blasius(self):
        s = self.solve("laminar")
        table = s.boundary_layer()
        x = table["x/c"].to_numpy()
        own = (x > 0.2) & (x < 0.9)
        scale = x[own] / np.sqrt(2e6 * x[own])
        for name, exact, slack in (("displacement", 1.7208, 0.03), ("momentum", 0.664, 0.03), ("delta99", 4.91, 0.08)):
            self.assertLess(float((table[name][own] / scale / exact - 1.0).abs().max()), slack, name)
        self.assertLess(float((table["shape factor"][own] / 2.591 - 1.0).abs().max()), 0.03)
        cut = s.profile(0.5)
        eta = cut["y"] * np.sqrt(2e6 / 0.5)
        self.assertAlmostEqual(float(np.interp(3.0, eta, cut["u/ue"])), 0.84605, delta=0.012)
        with self.assertRaisesRegex(zy.InputError, "side"):
            s.profile(0.5, "left")

    def test_what_makes_no_sense_is_refused(self):
        for wall, model, word in (
            ({"roughness": 1e-4}, "sst", "'sa' only"),
            ({"laminar": 0.3}, "laminar", "every wall is laminar"),
            ({"velocity": (0.0, 0.0, 5.0)}, "laminar", "through itself"),
            ({"temperature": -3.0}, "laminar", "temperature"),
            ({"laminar": (0.1, 0.2, 0.3)}, "sa", "pair"),
        ):
            with self.subTest(word), self.assertRaisesRegex(zy.InputError, word):
                self.solve(model, **wall)
        with self.assertRaisesRegex(zy.InputError, "no wall named 'roof'"):
            zy.solve(self.mesh, self.air, "sa", self.reference, walls={"roof": zy.Wall()})


class Slow(unittest.TestCase):
    def test_a_metre_a_second_gives_the_coefficients_of_its_reynolds_number(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 48, 32, 40.0, 2e-2)
        reference = mesh.reference
        numerics = zy.Numerics(vortex=False)
        slow = zy.solve(mesh, zy.Freestream(speed="1 m/s", reynolds=20.0, length=1.0), "laminar", reference, numerics)
        fast = zy.solve(mesh, zy.Freestream(mach=0.1, reynolds=20.0), "laminar", reference, numerics)
        self.assertEqual(slow.outcome, "converged")
        self.assertLess(abs(slow.forces.CD / fast.forces.CD - 1.0), 0.01)
        self.assertTrue(any("Mach 0.05" in note for note in slow.checks()))
        # newtons are those of the slow air: CD q S
        drag = slow.forces.newtons()[0]
        self.assertAlmostEqual(drag / (slow.air.dynamic_pressure * reference.area), slow.forces.CD, places=9)
        self.assertLess(float(np.linalg.norm(slow.fields()["velocity"], axis=1).max()), 2.0)

    def test_a_spinning_circle_lifts(self):
        mesh = zy.mesh_outline(zy.Outline.circle(1.0), 48, 32, 40.0, 2e-2)
        reference = mesh.reference
        air = zy.Freestream(mach=0.1, reynolds=20.0)
        spin = 2.0 * air.speed  # surface speed = stream: the top moves aft for a positive, nose-up spin
        numerics = zy.Numerics(vortex=False)
        s = zy.solve(mesh, air, "laminar", reference, numerics, walls=zy.Wall(spin=spin))
        self.assertEqual(s.outcome, "converged")
        # published: CL about 2.5 to 2.8 at Re 20, spin ratio 1 (Badr, Dennis and Young 1989; Stojkovic et al. 2002)
        self.assertGreater(abs(s.forces.CL), 2.3)
        self.assertLess(abs(s.forces.CL), 3.1)


class CurvedWalls(unittest.TestCase):
    def test_curvature_is_that_of_a_circle_and_ends_at_sharp_edges(self):
        mesh = zy.mesh_outline(zy.Outline.circle(0.5), 64, 16)
        faces = mesh.faces_of("wall")
        shape = wall_shape(mesh, faces)
        self.assertTrue(shape.smooth.all())
        turned = np.stack([-shape.normal[:, 2], 0.0 * faces, shape.normal[:, 0]], axis=1)
        along = np.einsum("ni,nij,nj->n", turned, shape.curvature, turned)
        np.testing.assert_allclose(along, -4.0, rtol=0.01)
        np.testing.assert_allclose(np.einsum("nij,nj->ni", shape.curvature, shape.normal), 0.0, atol=1e-9)
        section = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16)
        cells = slip_wall_cells(section, "euler", GradientOperator.of(section))
        self.assertEqual(len(cells.cell), 62)  # not the two at the trailing edge
        self.assertTrue(((cells.weight > 0.0) & (cells.weight <= 0.75)).all())
        self.assertEqual(len(slip_wall_cells(section, "sa", GradientOperator.of(section)).cell), 0)

    def test_at_first_order_the_wall_has_the_pressure_of_its_cell(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")
        numerics = zy.Numerics(reconstruction=zy.Reconstruction(order=1), residual_drop=4)
        flow = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0), numerics=numerics).flow
        wall = mesh.faces_of("wall")
        np.testing.assert_array_equal(flow.boundary_pressure[wall - mesh.n_interior], flow.q[mesh.left[wall], 0])

    def test_pressure_and_force_converge_at_second_order(self):
        coarse, fine = (curved_walls.errors(in_the_plane(level)) for level in (0, 1))
        self.assertTrue((np.log2(coarse / fine) > 1.8).all(), (coarse, fine))
