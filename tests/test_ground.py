"""A level ground: the wind blows along it, alpha turns the body, its reaction is never the body's, its layers close."""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.conditions.axes import turned_body, wind_vector
from zephyrum.mesh.ground import ground_heights, ground_level, rotated_about, with_ground_layers
from zephyrum.results.section_cuts import image_drag

FOIL = zy.Airfoil.naca("4412")
SLOW = 0.15


def over_ground(height: float, alpha: float, size: str = "coarse", **more) -> zy.Mesh:
    return zy.mesh_bodies(
        {"wing": FOIL.blunted(0.002).moved(0.0, height)}, size, ground=0.0, farfield=20.0, attitude=alpha, **more
    )


class Attitude(unittest.TestCase):
    def test_the_wind_at_the_attitude_blows_along_the_mesh(self):
        for alpha in (-7.0, 0.0, 12.0):
            np.testing.assert_allclose(turned_body(wind_vector(alpha), alpha), [1.0, 0.0, 0.0], atol=1e-15)
        nose = rotated_about(np.array([[0.0, 0.0, 0.0]]), (0.25, 0.0, 0.0), 10.0)[0]
        self.assertGreater(nose[2], 0.04)  # nose-up

    def test_the_clearance_of_the_lowest_point_is_kept(self):
        points = np.array([[0.0, 0.0, 0.5], [1.0, 0.0, 0.4]])
        turned = rotated_about(points, (0.25, 0.0, 0.45), 20.0)
        self.assertAlmostEqual(turned[:, 2].min() - ground_level(0.1, points, turned), 0.3)
        with self.assertRaisesRegex(zy.InputError, "below the ground"):
            ground_level(0.4, points, points)

    def test_turned_in_free_air_the_forces_are_the_same(self):
        air = zy.Freestream(mach=SLOW, alpha=6.0)
        bodies = {"wing": FOIL}
        plain = zy.solve(zy.mesh_bodies(bodies, "coarse", farfield=20.0), air)
        mesh = zy.mesh_bodies(bodies, "coarse", farfield=20.0, attitude=6.0)
        turned = zy.solve(mesh, air)
        one, two = plain.forces.coefficients(), turned.forces.coefficients()
        for name, within in (("CL", 5e-3), ("CX", 3e-3), ("CZ", 5e-3), ("CM", 2e-3), ("CD", 1e-3)):
            self.assertAlmostEqual(one[name], two[name], delta=within, msg=name)
        table = turned.cp()
        self.assertAlmostEqual(table["x/c"].min(), 0.0, delta=0.01)
        self.assertAlmostEqual(table["x/c"].max(), 1.0, delta=0.01)
        away = zy.solve(mesh, air.turned(alpha=8.0))  # the wind may also be turned against such a mesh
        self.assertGreater(away.forces.CL, two["CL"] + 0.15)


class Ground(unittest.TestCase):
    def test_wind_through_the_ground_is_refused(self):
        mesh = over_ground(0.5, 0.0)
        with self.assertRaisesRegex(
            zy.InputError, "through the ground; mesh the body at this attitude with attitude = 5"
        ):
            zy.solve(mesh, zy.Freestream(mach=SLOW, alpha=5.0))
        with self.assertRaisesRegex(zy.InputError, "through the ground"):
            zy.sweep(mesh, [0.0, 4.0], SLOW, processes=1)
        with self.assertRaisesRegex(zy.InputError, "every alpha needs a mesh"):
            zy.derivatives(mesh, zy.Freestream(mach=SLOW))

    def test_one_body_over_the_ground_is_one_of_a_mirrored_pair(self):
        for height, alpha in ((0.2, 8.0), (0.5, -4.0), (1.0, 4.0)):
            clear = height + FOIL.blunted(0.002).points[:, 1].min()
            up, down = FOIL.blunted(0.002).rotated(alpha), FOIL.blunted(0.002).flipped().rotated(-alpha)
            up, down = up.moved(0.0, clear - up.points[:, 1].min()), down.moved(0.0, -clear - down.points[:, 1].max())
            pair = zy.mesh_bodies({"high": up, "low": down}, "coarse", farfield=20.0, reference="high")
            wanted = zy.solve(pair, zy.Freestream(mach=SLOW), numerics=zy.Numerics(vortex=False)).forces.coefficients(
                "high"
            )
            made = zy.solve(over_ground(height, alpha), zy.Freestream(mach=SLOW, alpha=alpha))
            with self.subTest(f"h/c {height}, alpha {alpha}"):
                self.assertEqual(made.outcome, "converged")
                self.assertLess(abs(made.forces.CL - wanted["CL"]), 0.01 * abs(wanted["CL"]) + 1e-3)
                self.assertLess(abs(made.forces.CD), 2e-3)

    def test_what_a_ground_does_follows_from_model_and_word(self):
        mesh = over_ground(0.5, 2.0)
        air = zy.Freestream(mach=SLOW, alpha=2.0)
        self.assertEqual(zy.Case(mesh, air).ground, "slip")
        with self.assertRaisesRegex(zy.InputError, "no part of the body"):
            mesh.with_roles(ground="wall")
        case = zy.Case(mesh, air, "laminar")
        self.assertEqual(case.ground, "belt")
        rows = case.wall_rows(mesh).velocity[mesh.faces_of("ground") - mesh.n_interior]
        np.testing.assert_allclose(rows, np.tile([case.computed.speed, 0.0, 0.0], (len(rows), 1)), atol=1e-9)
        self.assertFalse(zy.Case(mesh, air, "laminar", ground="still").wall_rows(mesh).velocity.any())
        self.assertEqual(zy.Case(mesh, air, "laminar", ground="slip").flow_mesh.group("ground").role, "slip")
        for ground, model, words in (("belt", "euler", "no friction"), ("ice", "laminar", "belt, still, slip")):
            with self.assertRaisesRegex(zy.InputError, words):
                zy.Case(mesh, air, model, ground=ground)
        free = zy.mesh_bodies({"wing": FOIL}, "coarse", farfield=20.0)
        with self.assertRaisesRegex(zy.InputError, "the mesh has no ground"):
            zy.Case(free, air, ground="belt")
        with self.assertRaisesRegex(zy.InputError, "no effect without ground"):
            zy.mesh_bodies({"wing": FOIL}, "coarse", ground_layers=True)

    def test_with_friction_over_a_belt_all_totals_are_those_of_the_section(self):
        mesh = over_ground(0.5, 4.0, y_plus=2.0, reynolds=1e6)
        ground = mesh.group("ground")
        self.assertGreater(mesh.recipe["ground_layers"], 8)
        self.assertLess(mesh.wall_distance[mesh.left[ground.start]], 1e-4)
        self.assertTrue((mesh.body_distance >= mesh.wall_distance).all())
        made = zy.solve(
            mesh, zy.Freestream(mach=SLOW, reynolds=1e6, alpha=4.0), "sa", numerics=zy.Numerics(residual_drop=5)
        )
        self.assertEqual(made.outcome, "converged", made.reason)
        self.assertEqual(set(made.forces.table()["part"]), {"wing", "total"})
        self.assertEqual(set(made.surface()["part"]), {"wing"})
        self.assertEqual(set(made.turning_points()["part"]), {"wing"})
        self.assertLess(made.wall_out_of_range()[0], 0.01)
        self.assertGreater(made.forces.CL, 0.8)
        self.assertTrue(0.008 < made.forces.CD < 0.02, made.forces)


class Layers(unittest.TestCase):
    def test_they_fill_no_more_than_a_share_of_the_clearance(self):
        heights = ground_heights(1e-4, 1.3, 0.3, 0.01)
        self.assertAlmostEqual(heights[1], 1e-4)
        self.assertLess(heights[-1], 0.06)
        self.assertLessEqual(np.diff(heights).max(), 0.01)

    def test_prisms_under_cubes_of_different_sizes_close(self):
        ball = zy.remesh(zy.Body.ellipsoid(1.0, 0.5).surface(), 400, stretch=1.0).surface
        reference = zy.Reference(1.0, 1.0, 1.0, (0.5, 0.0, 0.0))
        bare = zy.mesh_surface(ball, farfield=4.0, growth=0.6, ground=-0.5, reference=reference)
        mesh = with_ground_layers(bare, np.array([0.0, 0.02, 0.03, 0.035]))  # checked: closed, volumes, groups
        ground, old = mesh.group("ground"), bare.group("ground")
        self.assertEqual(mesh.n_cells, bare.n_cells + 3 * (old.stop - old.start))
        np.testing.assert_allclose(mesh.face_centroid[ground.faces][:, 2], bare.recipe["ground"] - 0.035, atol=1e-12)
        sides = [mesh.face_area[mesh.group("farfield").faces][:, k].sum() for k in (0, 1)]
        np.testing.assert_allclose(sides, 0.0, atol=1e-9)
        self.assertAlmostEqual(
            mesh.cell_volume.sum() / (bare.cell_volume.sum() + 0.035 * np.abs(bare.face_area[old.faces][:, 2]).sum()),
            1.0,
            12,
        )


class InducedDrag(unittest.TestCase):
    def test_the_image_takes_off_what_wieselsberger_found(self):
        aspect = 8.0
        series = np.array([0.5 / (np.pi * aspect)])
        free = np.pi * aspect * series[0] ** 2
        for height in (0.05, 0.1, 0.25):  # of the span
            fraction = (1.0 - 1.32 * height) / (
                1.05 + 7.4 * height
            )  # fit of Wieselsberger (1921) to the exact integral
            self.assertAlmostEqual(-image_drag(np.array([1]), series, aspect, height) / free, fraction, delta=3e-3)

    def test_lift_slope_rises_and_drag_at_equal_lift_falls_as_a_wing_sinks(self):
        wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 4412", tip="flat")
        aircraft = zy.Aircraft(name="plank", parts={"wing": wing})
        slopes, drags, induced = [], [], []
        for height in (None, 0.5):
            made = []
            for alpha in (0.0, 4.0):
                over = {} if height is None else {"ground": -height, "attitude": alpha}
                mesh = zy.mesh_aircraft(aircraft, 5.5, farfield=5.0, **over)
                made.append(
                    zy.solve(mesh, zy.Freestream(mach=SLOW, alpha=alpha), numerics=zy.Numerics(residual_drop=3.0))
                )
            slopes.append(made[1].forces.CL - made[0].forces.CL)
            drags.append(made[1].forces.CD / made[1].forces.CL ** 2)
            induced.append(made[1].span_loading().induced / made[1].forces.CL ** 2)
        self.assertGreater(slopes[1], 1.1 * slopes[0])
        self.assertLess(drags[1], 0.8 * drags[0])
        self.assertLess(induced[1], 0.75 * induced[0])


if __name__ == "__main__":
    unittest.main()
