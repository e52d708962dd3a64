"""Streamlines and surfaces of equal value in space, on fields that are known exactly, imposed on the mesh round a
ball.
"""

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

import zephyrum as zy
from zephyrum.geometry.surface.remeshing import remesh
from zephyrum.mesh import mesh_surface
from zephyrum.results.iso_surfaces import iso_polygons

RADIUS = 0.5


class TestKnownFields(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=1e-3)
        reference = zy.Reference(np.pi / 4.0, 1.0, 1.0, (0.5, 0.0, 0.0), "typed")
        cls.mesh = mesh_surface(remesh(ball, 700, stretch=1.0).surface, farfield=4.0, growth=0.15, reference=reference)
        cls.solution = zy.solve(
            cls.mesh, zy.Freestream(mach=0.1), numerics=zy.Numerics(residual_drop=0.5, max_iterations=1)
        )
        cls.x = cls.mesh.cell_centroid - [0.5, 0.0, 0.0]

    def imposed(self, velocity) -> zy.Solution:
        """The solution with velocities (n, 3) over that of the stream in its cells."""
        q = self.solution.flow.q.copy()
        q[:, 1:4] = velocity * self.solution.computed.mach
        return replace(self.solution, flow=replace(self.solution.flow, q=q))

    def test_lines_of_a_vortex_are_circles_of_its_period(self):
        x = self.x
        made = self.imposed(np.stack([-x[:, 1], x[:, 0], 0.0 * x[:, 0]], axis=1)).streamlines(
            [[1.7, 0.0, 0.1]], length=9.0
        )
        self.assertEqual(made.count, 1)
        table = made.table()
        far = np.hypot(table["x"] - 0.5, table["y"])
        self.assertLess(float(abs(far / 1.2 - 1.0).max()), 0.01)
        self.assertLess(float(np.ptp(table["z"])), 1e-6)
        angle = np.unwrap(np.arctan2(table["y"], table["x"] - 0.5))
        turns = (angle[-1] - angle[0]) / (table["time"].iloc[-1] - table["time"].iloc[0])
        self.assertLess(abs(turns / self.solution.air.speed - 1.0), 0.01)  # one radian in the time of a metre

    def test_lines_of_potential_flow_keep_their_stream_function(self):
        x, far = self.x, np.linalg.norm(self.x, axis=1)
        fraction = 0.5 * (RADIUS / far) ** 3
        velocity = (1.0 + fraction)[:, None] * [1.0, 0.0, 0.0] - (3.0 * fraction * x[:, 0] / far**2)[:, None] * x
        made = self.imposed(velocity).streamlines([[-1.5, 0.4, 0.3], [-1.5, 0.9, 0.0]], length=3.5)
        for k in range(2):
            p = made.points[made.start[k] : made.start[k + 1]] - [0.5, 0.0, 0.0]
            across, r = np.hypot(p[:, 1], p[:, 2]), np.linalg.norm(p, axis=1)
            stream = 0.5 * across**2 * (1.0 - (RADIUS / r) ** 3)
            self.assertLess(float(np.ptp(stream) / stream.mean()), 0.06)
            self.assertGreater(p[:, 0].max(), 1.0)  # and pass the ball

    def test_air_runs_along_the_meridians_of_a_ball(self):
        wall = self.mesh.face_centroid[self.mesh.faces_of("wall")]
        made = self.imposed(np.array([1.0, 0.0, 0.0]) - 1.5 * self.x * self.x[:, :1] / 0.25).skin_friction_lines(
            spacing=0.06
        )
        self.assertEqual(made.name, "speed")
        self.assertGreater(made.count, 20)
        seen = made.points - [0.5, 0.0, 0.0]
        self.assertLess(float(np.abs(np.linalg.norm(seen, axis=1) / RADIUS - 1.0).max()), 0.03)
        self.assertTrue((np.einsum("ij,ij->i", made.normal, seen) > 0.0).all())  # out of the body
        for k in range(made.count):
            own = seen[made.start[k] : made.start[k + 1]]
            away = own[np.hypot(own[:, 1], own[:, 2]) > 0.15]  # from the stagnation points
            self.assertTrue((np.diff(away[:, 0]) > -1e-9).all())  # with the flow
            turn = np.unwrap(np.arctan2(away[:, 2], away[:, 1]))
            self.assertLess(float(np.ptp(turn)), 0.12)
        near, _ = cKDTree(made.points).query(wall)
        self.assertLess(float(np.quantile(near, 0.99)), 2.5 * 0.06)  # no place without a line
        table = made.table()
        self.assertEqual(list(table.columns), ["line", "x", "y", "z", "length", "speed"])
        self.assertLess(float(table["length"].max()), 0.5 * np.pi * 1.02)
        with self.assertRaisesRegex(zy.InputError, "spacing"):
            self.solution.skin_friction_lines(spacing=1e-5)

    def test_air_that_turns_about_an_axis_draws_circles_of_latitude(self):
        spin = np.stack([0.0 * self.x[:, 0], -self.x[:, 2], self.x[:, 1]], axis=1)
        made = self.imposed(spin).skin_friction_lines(spacing=0.08)
        along = [np.ptp(made.points[a:b, 0]) for a, b in zip(made.start[:-1], made.start[1:], strict=True)]
        self.assertLess(float(np.max(along)), 0.05)
        speed = made.strength / self.solution.air.speed
        far = np.hypot(made.points[:, 1], made.points[:, 2])
        self.assertLess(float(np.quantile(np.abs(speed - far), 0.95)), 0.1)

    def test_seeds_are_found_and_those_in_the_body_refused(self):
        made = self.solution.streamlines()
        self.assertGreater(made.count, 20)
        self.assertTrue((np.diff(made.start) > 2).all())
        for k in range(made.count):
            self.assertTrue((np.diff(made.time[made.start[k] : made.start[k + 1]]) > 0.0).all())
        with self.assertRaisesRegex(zy.InputError, "seeds"):
            self.solution.streamlines([[0.0, 1.0]])
        with self.assertRaisesRegex(zy.InputError, "none of 1 seeds"):
            self.solution.streamlines([[50.0, 0.0, 0.0]])

    def test_what_turns_as_a_solid_spins_and_what_shears_has_no_core(self):
        x = self.x
        turning = self.imposed(np.stack([-x[:, 1], x[:, 0], 0.0 * x[:, 0]], axis=1)).rotation_quantities()
        for name, value in (("vorticity", 2.0), ("q", 1.0)):  # a few cells of odd shape tame their slopes
            self.assertGreater(float(np.mean(np.abs(turning[name] - value) < 1e-6)), 0.99)
        shear = self.imposed(np.stack([x[:, 2], 0.0 * x[:, 0], 0.0 * x[:, 0]], axis=1)).rotation_quantities()
        for name, value in (("vorticity", 1.0), ("q", 0.0)):
            self.assertGreater(float(np.mean(np.abs(shear[name] - value) < 1e-6)), 0.99)

    def test_the_level_of_a_distance_is_a_ball(self):
        far = np.linalg.norm(self.x, axis=1)
        points, triangles, cell = iso_polygons(self.mesh, far, 1.0)
        a, b, c = (points[triangles[:, k]] - [0.5, 0.0, 0.0] for k in range(3))
        normal = np.cross(b - a, c - a)
        self.assertLess(abs(0.5 * np.linalg.norm(normal, axis=1).sum() / (4.0 * np.pi) - 1.0), 0.05)
        self.assertTrue((np.einsum("ij,ij->i", normal, a) <= 1e-12).all())  # towards lower values: inwards
        edge = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
        _, many = np.unique(edge, axis=0, return_counts=True)
        self.assertTrue((many == 2).all())  # closed
        self.assertEqual(len(cell), len(triangles))

    def test_a_level_or_field_that_is_nowhere_is_reported_with_the_range(self):
        with self.assertRaisesRegex(zy.InputError, "it runs from"):
            self.solution.iso_surface("mach", 7.0)
        with self.assertRaisesRegex(zy.InputError, "vorticity"):
            self.solution.iso_surface("speed", 7.0)
        surface, _ = self.solution.iso_surface("cp", 0.0)
        self.assertGreater(len(surface.triangles), 10)


if __name__ == "__main__":
    unittest.main()
