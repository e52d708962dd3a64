"""Polygons, cells, slices and forces against closed forms, on small meshes that are made by hand."""

import unittest

import numpy as np

import zephyrum as zy
from zephyrum.mesh.polygons import (
    CellFaces,
    bulges,
    cell_geometry,
    components,
    entries_of,
    fan_triangles,
    next_corners,
    polygon_geometry,
    renumber,
    select_polygons,
    volumes_between,
)
from zephyrum.mesh.slices import slice_mesh
from zephyrum.results.forces import Forces, wall_forces

CUBE = np.array([[x, y, z] for x in (0.0, 2.0) for y in (0.0, 3.0) for z in (0.0, 4.0)])
SIDES = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]  # outwards


def csr(polygons):
    return np.cumsum([0, *map(len, polygons)]), np.array([p for polygon in polygons for p in polygon])


class Polygons(unittest.TestCase):
    def test_centroids_and_areas_of_flat_ones_are_exact(self):
        corner = np.array([[0, 0], [3, 0], [3, 1], [1, 1], [1, 2], [0, 2]], dtype=float)  # an L: 3 x 1 and 1 x 1
        for shift in (0.0, 1e3):
            points = np.column_stack([corner[:, 0], np.full(6, shift), corner[:, 1]])
            centroid, area = polygon_geometry(points, *csr([range(6)]))
            np.testing.assert_allclose(area[0], [0.0, -4.0, 0.0], atol=1e-9)
            np.testing.assert_allclose(centroid[0], [(3 * 1.5 + 0.5) / 4, shift, (3 * 0.5 + 1.5) / 4], atol=1e-9)

    def test_bent_ones_close_a_cell_and_tell_how_far_they_bulge(self):
        points = CUBE.copy()
        points[7] += [0.3, -0.2, 0.5]
        start, corners = csr(SIDES)
        centroid, area = polygon_geometry(points, start, corners)
        np.testing.assert_allclose(area.sum(axis=0), 0.0, atol=1e-14)
        off = bulges(points, start, corners, centroid, area)
        np.testing.assert_allclose(off[[0, 2, 4]], 0.0, atol=1e-15)
        self.assertTrue((off[[1, 3, 5]] > 0.02).all())

    def test_the_volume_and_the_centroid_of_a_box_and_of_a_pyramid(self):
        start, corners = csr(SIDES)
        x, S = polygon_geometry(CUBE, start, corners)
        cells = CellFaces(np.array([0, 6]), np.arange(6), np.zeros(6, dtype=np.int64), x, S, np.zeros(6))
        volume, centroid, thin = cell_geometry(cells, 3, True)
        self.assertAlmostEqual(volume[0], 24.0, 12)
        np.testing.assert_allclose(centroid[0], [1.0, 1.5, 2.0], atol=1e-12)
        self.assertEqual(thin[0], 0.0)
        points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0.2, 0.7, 3.0]], dtype=float)
        start, corners = csr([[0, 3, 2, 1], [0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]])
        x, S = polygon_geometry(points, start, corners)
        cells = CellFaces(np.array([0, 5]), np.arange(5), np.zeros(5, dtype=np.int64), x, S, np.zeros(5))
        volume, centroid, _ = cell_geometry(cells, 3, False)
        self.assertAlmostEqual(volume[0], 1.0, 12)
        np.testing.assert_allclose(centroid[0], 0.75 * np.array([0.5, 0.5, 0.0]) + 0.25 * points[4], atol=1e-12)

    def test_a_flat_cell_is_reported_thin_and_its_centroid_is_that_of_its_faces(self):
        points = CUBE * [1.0, 1.0, 0.01]
        points[[5, 7], 2] *= 1.5  # thicker at one end
        start, corners = csr(SIDES)
        x, S = polygon_geometry(points, start, corners)
        bulge = bulges(points, start, corners, x, S)
        cells = CellFaces(np.array([0, 6]), np.arange(6), np.zeros(6, dtype=np.int64), x, S, bulge)
        (_, plain, _), (_, own, thin) = cell_geometry(cells, 3, False), cell_geometry(cells, 3, True)
        self.assertEqual(thin[0], 1.0)
        self.assertGreater(plain[0, 0], 1.05)  # the centroid has moved to the thick end by more than a height
        self.assertLess(abs(own[0, 0] - 1.0), 0.01)

    def test_volumes_on_both_sides_of_a_wall_between_two_boxes(self):
        points = np.concatenate([CUBE, CUBE[4:] + np.array([1.0, 0.0, 0.0])])
        second = [[8, 10, 11, 9], [4, 8, 9, 5], [6, 7, 11, 10], [4, 6, 10, 8], [5, 9, 11, 7]]
        polygons = [SIDES[1], SIDES[0], *SIDES[2:], *second]
        left, right = np.array([0] * 6 + [1] * 5), np.array([1] + [-1] * 10)
        volume, area = volumes_between(points, *csr(polygons), left, right, 2, np.array([0.5, 0.5, 0.5]))
        np.testing.assert_allclose(volume, [24.0, 12.0], atol=1e-12)
        np.testing.assert_allclose(area[0], 12.0)


class Lists(unittest.TestCase):
    def test_chosen_polygons_keep_their_first_corner_when_they_run_backwards(self):
        start, corners = csr([[5, 6, 7], [1, 2, 3, 4], [9, 8, 0]])
        begin, out = select_polygons(start, corners, np.array([1, 0]), np.array([False, True, False]))
        self.assertEqual(begin.tolist(), [0, 4, 7])
        self.assertEqual(out.tolist(), [1, 4, 3, 2, 5, 6, 7])

    def test_points_in_use_are_renumbered_in_order(self):
        corners = np.array([7, 3, 3, 9])
        self.assertEqual(renumber(corners, 12).tolist(), [3, 7, 9])
        self.assertEqual(corners.tolist(), [1, 0, 0, 2])

    def test_rows_of_lists_and_the_next_corner(self):
        start = np.array([0, 2, 2, 5])
        row, entry = entries_of(start, np.array([2, 1, 0]))
        self.assertEqual(row.tolist(), [0, 0, 0, 2, 2])
        self.assertEqual(entry.tolist(), [2, 3, 4, 0, 1])
        self.assertEqual(next_corners(np.array([0, 3, 7])).tolist(), [1, 2, 0, 4, 5, 6, 3])

    def test_things_hang_together_through_their_pairs(self):
        group = components(np.array([0, 1, 5]), np.array([1, 2, 4]), 6)
        self.assertEqual(len(set(group[:3])), 1)
        self.assertEqual(group[4], group[5])
        self.assertEqual(len(set(group)), 3)


class Cuts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 600, stretch=1.0).surface
        cls.mesh = zy.mesh_surface(ball, farfield=3.0, growth=0.5)

    def test_the_polygons_of_a_slice_fill_the_domain_less_the_body(self):
        low, high = self.mesh.points.min(axis=0), self.mesh.points.max(axis=0)
        for axis, at in (("x", 0.5), ("y", 0.2), ("z", -0.31), ("z", 1.7)):
            cut = slice_mesh(self.mesh, axis, at)
            k = "xyz".index(axis)
            whole = np.delete(high - low, k).prod()
            off = at - (0.5 if axis == "x" else 0.0)
            body = np.pi * max(0.25 - off**2, 0.0)
            self.assertLess(abs(cut.areas.sum() - (whole - body)), 0.03 * max(body, 1e-9) + 1e-9 * whole)
            self.assertEqual(len(np.unique(cut.cell)), len(cut.cell))
            self.assertNotIn(axis, cut.across)
            rim = np.linalg.norm(cut.walls[:, 1] - cut.walls[:, 0], axis=1).sum()
            self.assertLess(abs(rim - 2.0 * np.sqrt(np.pi * body)), 0.03)
        with self.assertRaisesRegex(zy.InputError, "misses the mesh"):
            slice_mesh(self.mesh, "x", 99.0)
        with self.assertRaisesRegex(zy.InputError, "axis"):
            slice_mesh(self.mesh, "w", 0.0)

    def test_fans_have_the_area_vectors_of_their_faces(self):
        faces = np.arange(0, self.mesh.n_faces, 7)
        points, triangles, owner = fan_triangles(self.mesh, faces)
        a, b, c = points[triangles.T]
        area = 0.5 * np.cross(b - a, c - a)
        total = np.stack([np.bincount(owner, area[:, k], len(faces)) for k in range(3)], axis=1)
        # the fan is about the centroid, which leaves the closed rim and so the sum as it was
        np.testing.assert_allclose(total, self.mesh.face_area[faces], atol=1e-12)

    def test_constant_pressure_has_no_force_and_linear_pressure_that_of_archimedes(self):
        air = zy.Freestream(mach=0.2, altitude=0.0)
        reference = zy.Reference(np.pi / 4.0, 1.0, 1.0, (0.5, 0.0, 0.0), "typed")
        mesh = self.mesh
        edge = mesh.face_centroid[mesh.n_interior :]
        body = np.ptp(mesh.points, axis=0).prod() - mesh.cell_volume.sum()
        still = wall_forces(mesh, np.full(len(edge), 1e5), None, air, reference)
        np.testing.assert_allclose(still.newtons(), 0.0, atol=1e-6)
        deep = wall_forces(mesh, -1000.0 * 9.81 * edge[:, 2], None, air, reference)
        # faces that are not flat take the pressure at their centroid, hence not to round-off
        np.testing.assert_allclose(deep.newtons(), [0.0, 0.0, 9810.0 * body], atol=2e-3 * 9810.0 * body)
        self.assertLess(abs(deep.CM), 1e-3 * deep.CL)

    def test_moments_move_and_parts_and_causes_add_up(self):
        air = zy.Freestream(mach=0.3, altitude=0.0, alpha=5.0, beta=3.0)
        parts = (
            ("wing", "pressure", (10.0, 1.0, 200.0), (1.0, -60.0, 2.0)),
            ("wing", "friction", (4.0, 0.0, 1.0), (0.0, 0.5, 0.0)),
            ("tail", "pressure", (1.0, 0.0, -20.0), (0.0, 80.0, 0.0)),
        )
        forces = Forces(parts, air, zy.Reference(10.0, 1.5, 8.0, (0.4, 0.0, 0.1), "typed"))
        table = forces.table().set_index(["part", "cause"])
        for name in ("CL", "CD", "CY", "CX", "CZ", "CM", "C roll", "C yaw", "X [N]", "Y [N]", "Z [N]"):
            self.assertAlmostEqual(table[name].iloc[:-1].sum(), table.loc[("total", "all"), name], 12)
        moved = forces.about((1.4, 0.0, 0.1))
        scale = air.dynamic_pressure * 10.0
        self.assertAlmostEqual(
            moved.CM - forces.CM, 1.0 * 181.0 / (scale * 1.5), 12
        )  # arm aft, force up: nose-up grows
        self.assertEqual(moved.CL, forces.CL)
        wind = np.array([moved.CD, moved.coefficients()["CY"], moved.CL])
        np.testing.assert_allclose(np.linalg.norm(wind) * scale, np.linalg.norm(forces.newtons()), rtol=1e-12)
        np.testing.assert_allclose(forces.newtons("wing", "friction"), [4.0, 0.0, 1.0])


if __name__ == "__main__":
    unittest.main()
