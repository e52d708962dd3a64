"""Clipped meshes: the tree and its field of sizes, polygons in a rectangle, any set of curves, layers, surfaces in
space.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.geometry.surface.solids import half_surface
from zephyrum.mesh.clipped_2d.wall_layers import heights
from zephyrum.mesh.polygon_loops import CONFLICT, OPEN_END, FluidEdges, Loops, Rectangle, fluid_polygon_loops
from zephyrum.mesh.size_field import SizeField
from zephyrum.mesh.tree import grow_tree, neighbours


def polygon_area(points: np.ndarray) -> float:
    x, z = points.T
    return 0.5 * float(np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z))


class Sizes(unittest.TestCase):
    def test_the_field_is_the_least_of_all_sources_and_zones(self):
        rng = np.random.default_rng(0)
        p, h, q = rng.standard_normal((300, 3)), rng.uniform(0.1, 1.0, 300), 3.0 * rng.standard_normal((200, 3))
        box = zy.Zone(0.05, box=((0, 0, 0), (1, 1, 1)))
        rod = zy.Zone(0.1, start=(2, 0, 0), end=(4, 0, 0), radius=0.2, end_radius=0.6, end_size=0.3)
        field = SizeField(p, h, 0.25, (box, rod))
        near = (h + 0.25 * np.linalg.norm(q[:, None] - p, axis=2)).min(axis=1)
        np.testing.assert_allclose(field(q), np.minimum(near, np.minimum(box.wanted(q, 0.25), rod.wanted(q, 0.25))))
        self.assertAlmostEqual(float(box.wanted(np.array([[2.0, 0.5, 0.5]]), 0.25)[0]), 0.05 + 0.25)
        self.assertAlmostEqual(float(rod.wanted(np.array([[3.0, 0.0, 0.5]]), 0.25)[0]), 0.2 + 0.25 * 0.1)

    def test_zones_refuse_what_they_can_not_be(self):
        for options, word in (
            ({}, "either a box"),
            ({"box": ((0, 0, 0),)}, "two corners"),
            ({"start": (0, 0, 0)}, "end"),
            ({"size": -1.0, "box": ((0,) * 3,) * 2}, "size"),
        ):
            with self.assertRaises(zy.InputError) as refused:
                zy.Zone(**({"size": 0.1} | options))
            self.assertIn(word, str(refused.exception))

    def test_trees_fill_the_domain_obey_the_field_and_are_balanced(self):
        rng = np.random.default_rng(1)
        for d, count in ((2, 1), (2, 11), (3, 8), (3, 9)):
            p = rng.standard_normal((200, 3))
            p[:, 1] *= d == 3
            field = SizeField(p, np.full(200, 0.15), 0.4)
            tree = grow_tree(-np.full(d, 16.0), 32.0 / count, field, 0.01, count)
            leaves = tree.leaves
            side = tree.extent[leaves, 0] * tree.unit[0]
            self.assertAlmostEqual((side**d).sum() / 32.0**d, 1.0, 12)
            midpoint = tree.midpoints(leaves)
            self.assertTrue((side <= field(midpoint) * (1 + 1e-9)).all())
            across = neighbours(tree)
            met = across >= 0
            jump = tree.level[leaves][:, None] - tree.level[np.maximum(across, 0)]
            self.assertEqual(set(np.unique(jump[met])), {0, 1})
            self.assertEqual(
                (across == -1).sum(),
                (np.isclose(midpoint - side[:, None] / 2, -16.0)).sum()
                + np.isclose(midpoint + side[:, None] / 2, 16.0).sum(),
            )


class LoopsOfASquare(unittest.TestCase):
    """A unit square whose corners are points 0 to 3, further points behind them."""

    def loops(self, extra, edges):
        points = np.array([[0, 0], [1, 0], [1, 1], [0, 1], *extra], dtype=float)
        room = Loops.empty(4)
        tail, head = (np.ascontiguousarray(one) for one in np.array(edges).T)
        box = np.array([0.0, 1.0, 0.0, 1.0])
        rectangle = Rectangle(points[:, 0].copy(), points[:, 1].copy(), box, np.arange(4), np.arange(4.0))
        outcome, count = fluid_polygon_loops(FluidEdges(tail, head, len(edges)), rectangle, room)
        out, start, inside = room
        return outcome, [points[out[start[k] : start[k + 1]]] for k in range(count)], inside

    def test_a_cut_leaves_the_side_on_its_left(self):
        outcome, made, inside = self.loops([[0, 0.4], [1, 0.4]], [(4, 5)])
        self.assertEqual((outcome, len(made), inside.tolist()), (0, 1, [False, False, True, True]))
        self.assertAlmostEqual(polygon_area(made[0]), 0.6)
        outcome, made, inside = self.loops([[0, 0.4], [0.5, 0.1], [1, 0.4]], [(6, 5), (5, 4)])
        self.assertEqual(inside.tolist(), [True, True, False, False])
        self.assertAlmostEqual(polygon_area(made[0]), 0.4 - 0.15)

    def test_a_thin_wall_makes_two_and_an_island_one(self):
        _, made, inside = self.loops([[0, 0.6], [1, 0.6], [0, 0.5], [1, 0.5]], [(4, 5), (7, 6)])
        self.assertEqual(len(made), 2)
        self.assertAlmostEqual(sum(map(polygon_area, made)), 0.9)
        self.assertTrue(inside.all())
        _, made, _ = self.loops([[0.4, 0.4], [0.6, 0.4], [0.5, 0.6]], [(4, 5), (5, 6), (6, 4)])
        self.assertAlmostEqual(polygon_area(made[0]), 0.02)

    def test_what_pierces_the_middle_leaves_a_hole_joined_by_a_bridge(self):
        island, hole = [[0.4, 0.4], [0.6, 0.4], [0.5, 0.6]], [(5, 4), (6, 5), (4, 6)]
        _, made, inside = self.loops(island, hole)
        self.assertEqual((len(made), inside.all()), (1, True))
        self.assertAlmostEqual(polygon_area(made[0]), 0.98)
        two = [*island, [0.7, 0.7], [0.8, 0.7], [0.8, 0.8], [0, 0.2], [1, 0.2]]
        _, made, inside = self.loops(two, [*hole, (8, 7), (9, 8), (7, 9), (10, 11)])
        self.assertEqual((len(made), inside.tolist()), (1, [False, False, True, True]))
        self.assertAlmostEqual(polygon_area(made[0]), 0.8 - 0.02 - 0.005)

    def test_what_contradicts_itself_is_reported(self):
        self.assertEqual(self.loops([[0, 0.4], [0.7, 0.4]], [(4, 5)])[0], OPEN_END)
        self.assertEqual(self.loops([[0, 0.6], [1, 0.6], [0, 0.5], [1, 0.5]], [(4, 5), (6, 7)])[0], CONFLICT)


class Curves(unittest.TestCase):
    def area_left(self, mesh, farfield, bodies):
        """Area of the mesh against domain less polygons, over that of the bodies."""
        walls = np.concatenate([np.arange(g.start, g.stop) for g in mesh.groups if g.role == "wall"])
        inside = -0.5 * np.einsum("ij,ij->", mesh.face_centroid[walls][:, [0, 2]], -mesh.face_area[walls][:, [0, 2]])
        outside = np.setdiff1d(mesh.faces_of("farfield", "slip", "ground"), walls)
        whole = 0.5 * np.einsum("ij,ij->", mesh.face_centroid[outside][:, [0, 2]], mesh.face_area[outside][:, [0, 2]])
        return abs(mesh.cell_volume.sum() - (whole + inside)) / abs(inside)

    def test_an_airfoil_inviscid_and_with_layers(self):
        foil = zy.Airfoil.naca("2412")
        for layers in (None, (1e-4, 1.25, 16)):
            mesh = zy.mesh_bodies({"wing": foil}, "coarse", layers=layers, coarse_levels=0)
            wall = mesh.group("wing")
            area = 0.5 * np.einsum(
                "ij,ij->", mesh.face_centroid[wall.faces][:, [0, 2]], -mesh.face_area[wall.faces][:, [0, 2]]
            )
            self.assertAlmostEqual(area / foil.measures.area, 1.0, 2)
            self.assertLess(self.area_left(mesh, 50.0, [foil]), 1e-8)
            self.assertAlmostEqual(mesh.reference.chord, 1.0, 3)
            high = mesh.wall_distance[mesh.left[wall.faces]]
            if layers:
                np.testing.assert_allclose(2.0 * high, 1e-4, rtol=0.4)
            self.assertTrue(zy.quality(mesh).rows[0][4] < 89.0)

    def test_three_elements_near_the_ground_with_25_layers_and_narrow_gaps(self):
        main = zy.Airfoil.naca("4415").blunted(0.002)
        slat = zy.Airfoil.naca("4412").scaled(0.15).rotated(-25.0)
        flap = zy.Airfoil.naca("4412").scaled(0.3).rotated(30.0)
        slat = slat.moved(*(np.array([-0.002, 0.028]) - slat.tail))
        flap = flap.moved(*(np.array([0.99, -0.024]) - flap.nose))
        mesh = zy.mesh_bodies(
            {"slat": slat, "main": main, "flap": flap},
            "coarse",
            layers=(2e-5, 1.3, 25),
            ground=-0.4,
            coarse_levels=0,
            wake=1.0,
            alpha=(-4.0, 4.0),
            farfield=20.0,
        )
        self.assertEqual([g.name for g in mesh.groups], ["slat", "main", "flap", "farfield", "ground"])
        self.assertEqual(mesh.group("ground").role, "ground")
        np.testing.assert_array_equal(mesh.face_centroid[mesh.group("ground").faces][:, 2], -0.4)
        self.assertLess(self.area_left(mesh, 20.0, [slat, main, flap]), 1e-7)
        # cells between slat and main: layers of both and squares between them
        between = np.linalg.norm(mesh.cell_centroid[:, [0, 2]] - [0.0, 0.025], axis=1) < 0.01
        self.assertGreater(between.sum(), 100)

    def test_the_lift_is_that_of_a_body_fitted_mesh(self):
        air = zy.Freestream(mach=0.3, alpha=2.0)
        numerics = zy.Numerics(residual_drop=5)
        mesh = zy.mesh_bodies({"wing": zy.Airfoil.naca("0012")}, "coarse", coarse_levels=0)
        made = zy.solve(mesh, air, numerics=numerics)
        self.assertEqual(made.outcome, "converged")
        self.assertAlmostEqual(made.forces.CL, 0.2547, delta=0.003)  # 256 x 64 cells of an O mesh
        self.assertLess(abs(made.forces.CD), 3e-4)

    def test_coarser_meshes_outlines_polygons_and_files(self):
        square = np.array([[2.0, -0.2], [2.4, -0.2], [2.4, 0.2], [2.0, 0.2]])
        mesh = zy.mesh_bodies({"ball": zy.Outline.circle(1.0).moved(0.0, 0.5), "box": square}, 0.7, farfield=10.0)
        self.assertGreater(len(mesh.family()), 1)
        self.assertEqual(len(mesh.parent), mesh.n_cells)
        wall = mesh.face_centroid[mesh.group("ball").faces]
        np.testing.assert_allclose(np.hypot(wall[:, 0], wall[:, 2] - 0.5), 0.5, atol=2e-3)
        with tempfile.TemporaryDirectory() as folder:
            for ending in ("vtu", "cgns"):
                path = Path(folder) / f"mesh.{ending}"
                zy.write_mesh(mesh, path)
                if ending == "vtu":
                    self.assertEqual(zy.read_mesh(path).fingerprint, mesh.fingerprint)

    def test_refusals_name_the_body_and_the_place(self):
        foil = zy.Airfoil.naca("0012")
        for bodies, options, word in (
            ({}, {}, "dictionary"),
            ({"farfield": foil}, {}, "boundary"),
            ({"a": foil, "b": foil.moved(0.3, 0.0)}, {}, "overlap"),
            ({"a": foil}, {"ground": 0.0}, "lift it"),
            ({"a": foil}, {"y_plus": 1.0}, "Reynolds"),
            ({"a": foil}, {"layers": (1e-5, 1.2)}, "first height"),
            ({"a": "naca0012"}, {}, "Airfoil"),
            ({"a": foil}, {"resolution": "huge"}, "coarse"),
            ({"a": foil}, {"reference": "b"}, "reference"),
            ({"a": np.zeros((4, 2))}, {}, "no area"),
            ({"a": foil}, {"layers": (1e-5, 1.2, 10), "y_plus": 1.0}, "not both"),
        ):
            with self.subTest(word=word), self.assertRaises(zy.InputError) as refused:
                zy.mesh_bodies(bodies, **options)
            self.assertIn(word, str(refused.exception))

    def test_heights_are_geometric_and_never_above_the_first_one_asked(self):
        made = heights(1e-4, np.array([0.01, 5e-4]), 10)
        np.testing.assert_allclose(made[:, -1], [0.01, 5e-4])
        step = np.diff(made, axis=1)
        self.assertAlmostEqual(step[0, 0] / 1e-4, 1.0, 6)
        self.assertLess(np.ptp(step[0, 1:] / step[0, :-1]), 1e-6)
        np.testing.assert_allclose(step[1], 5e-5)


class Space(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 1500, stretch=1.0).surface

    def test_round_a_ball_with_and_without_thin_layers(self):
        for layers in (None, (1e-3, 1.3, 8)):
            mesh = zy.mesh_surface(self.ball, farfield=4.0, layers=layers, growth=0.4)
            domain = np.ptp(mesh.points, axis=0).prod()
            self.assertAlmostEqual(domain / (8.0 * self.ball.size) ** 3, 1.0, delta=0.2)
            # walls are lifted off the flat triangles: nearer to the true ball, never as far from them again beyond it
            missed, flat = (
                1.0 - volume / (np.pi / 6.0) for volume in (domain - mesh.cell_volume.sum(), self.ball.volume)
            )
            self.assertLess(missed, (0.7 if layers is None else 0.9) * flat)  # thin layers let it be lifted less
            self.assertGreater(missed, 0.0)
            self.assertEqual([g.name for g in mesh.groups], ["farfield", "body"])
            wall = mesh.group("body")
            area = np.linalg.norm(mesh.face_area[wall.faces], axis=1).sum()
            self.assertTrue(self.ball.area() < area < np.pi, area)
            self.assertEqual(mesh.recipe["tries"], 1)
            self.assertEqual(mesh.recipe["layer_coverage"], 1.0)

    def test_a_cube_on_the_planes_of_the_grid_and_a_half_ball(self):
        box = zy.remesh(zy.Body.box(1.0, 1.0, 1.0).surface(), 1200).surface
        mesh = zy.mesh_surface(box, farfield=4.0, growth=0.4)
        self.assertAlmostEqual(np.ptp(mesh.points, axis=0).prod() - mesh.cell_volume.sum(), 1.0, 8)
        half = zy.remesh(half_surface(zy.Body.ellipsoid(1.0, 1.0).surface()), 800, stretch=1.0).surface
        mesh = zy.mesh_surface(half, farfield=4.0, growth=0.4, half=True)
        plane = mesh.group("symmetry")
        self.assertEqual(np.abs(mesh.face_centroid[plane.faces][:, 1]).max(), 0.0)
        self.assertEqual(mesh.group("symmetry").role, "symmetry")

    def test_what_is_open_or_whole_is_refused(self):
        torn = self.ball.selected(np.arange(len(self.ball.triangles)) > 5)
        with self.assertRaises(zy.InputError) as refused:
            zy.mesh_surface(torn)
        self.assertIn("off the plane", str(refused.exception))
        self.assertRaises(zy.InputError, zy.mesh_surface, self.ball, half=True)
        self.assertRaises(zy.InputError, zy.mesh_surface, self.ball, layers=(1e-3, 1.2))
