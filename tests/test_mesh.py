"""The mesh and its rules, the generator, quality, files."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

import zephyrum as zy
from validation.grids import box


def foil_mesh(digits="2412", tail="closed", topology="O", around=64, outward=16, **more):
    return zy.mesh_airfoil(zy.Airfoil.naca(digits, tail), around, outward, topology=topology, **more)


class Generator(unittest.TestCase):
    def test_every_kind_passes_its_check_and_encloses_the_section(self):
        for topology in "CO":
            for tail in ("closed", "blunt"):
                with self.subTest(topology=topology, tail=tail):
                    mesh = foil_mesh(tail=tail, topology=topology, around=128, outward=32).check()
                    wall = mesh.face_area[mesh.faces_of("wall")]
                    np.testing.assert_allclose(wall.sum(axis=0), 0.0, atol=1e-12)  # the wall is a closed curve
                    centre = mesh.face_centroid[mesh.faces_of("wall")]
                    area = -0.5 * np.einsum("ij,ij->", centre[:, [0, 2]], wall[:, [0, 2]])
                    self.assertAlmostEqual(area, zy.Airfoil.naca("2412", tail).measures.area, delta=1e-4)
                    self.assertAlmostEqual(mesh.reference.chord, 1.0, delta=1e-3)

    def test_families_nest_exactly(self):
        for topology in "CO":
            mesh = foil_mesh(tail="blunt", topology=topology, around=128, outward=32)
            fine, coarse = mesh, mesh.coarser
            self.assertEqual(fine.n_cells, 4 * coarse.n_cells)
            held = {tuple(p) for p in fine.points.tolist()}
            self.assertTrue(all(tuple(p) in held for p in coarse.points.tolist()))
            volume = np.bincount(fine.parent, fine.cell_volume, coarse.n_cells)
            np.testing.assert_array_equal(np.bincount(fine.parent, minlength=coarse.n_cells), 4)
            self.assertLess(np.abs(volume / coarse.cell_volume - 1).mean(), 0.05)

    def test_wall_cells_have_the_height_asked_and_stand_square(self):
        mesh = foil_mesh("0012", around=256, outward=64, first_height=1e-3)
        wall = mesh.faces_of("wall")
        cell = mesh.left[wall]
        away = mesh.cell_centroid[cell] - mesh.face_centroid[wall]
        normal = -mesh.face_area[wall] / np.linalg.norm(mesh.face_area[wall], axis=1)[:, None]
        height = 2.0 * np.einsum("ij,ij->i", away, normal)
        self.assertAlmostEqual(float(np.median(height)), 1e-3, delta=5e-5)
        cosine = height / 2.0 / np.linalg.norm(away, axis=1)
        self.assertGreater(float(np.percentile(cosine, 5)), 0.95)

    def test_growth_sets_the_count(self):
        mesh = foil_mesh(outward=None, growth=1.3)
        self.assertLessEqual(mesh.recipe["growth"], 1.3)
        self.assertEqual(mesh.recipe["outward"] % 8, 0)

    def test_first_height_follows_from_y_plus(self):
        layers = zy.wall_layers(1e6, 2.0, growth=1.3, farfield=20.0)
        mesh = foil_mesh(outward=None, farfield=20.0, growth=1.3, y_plus=2.0, reynolds=1e6)
        self.assertEqual(mesh.recipe["outward"], layers.count)
        self.assertAlmostEqual(mesh.recipe["first_height_chords"], layers.first_height, places=12)
        for wrong in ({"y_plus": 1.0}, {"reynolds": 1e6}, {"y_plus": 1.0, "reynolds": 1e6, "first_height": 1e-5}):
            with self.subTest(wrong), self.assertRaisesRegex(zy.InputError, "y_plus"):
                foil_mesh(**wrong)

    def test_sizes_that_make_no_mesh_are_refused(self):
        for bad, words in (
            ({"around": 63}, "odd"),
            ({"around": 4}, "around"),
            ({"topology": "H"}, "topology"),
            ({"growth": 1.2}, "both given"),
            ({"farfield": 0.5}, "farfield"),
            ({"wake": 8}, "wake"),
            ({"first_height": -1}, "first_height"),
        ):
            with self.subTest(bad), self.assertRaisesRegex(zy.InputError, words):
                foil_mesh(**bad)


class Rules(unittest.TestCase):
    def test_check_finds_what_is_broken_and_reports_the_place(self):
        mesh = box(6)
        points = mesh.points.copy()
        midpoint = np.argmin(np.abs(points - [0.5, 0.0, 0.5]).sum(axis=1))
        points[[midpoint, midpoint + len(points) // 2]] += [0.6, 0.0, 0.0]
        for broken, words in (
            (replace(mesh, points=points), "no positive volume.*at \\("),
            (replace(mesh, groups=()), "belong to no group"),
            (replace(mesh, points=mesh.points * np.nan), "not finite"),
            (replace(mesh, left=mesh.left[::-1].copy()), "rising order|closed"),
        ):
            with self.assertRaisesRegex(zy.MeshError, words):
                broken.check()

    def test_a_mesh_of_an_airfoil_that_turns_over_names_the_remedy(self):
        with self.assertRaisesRegex(zy.MeshError, "give more cells outward than 8") as caught:
            zy.mesh_airfoil(zy.Airfoil.naca("2412"), 32, 8, topology="O")
        self.assertIn("Cells grow by a factor of 3.8", str(caught.exception))

    def test_volumes_and_centroids_are_exact(self):
        mesh = box(8, perturbed=0.3)
        self.assertAlmostEqual(mesh.cell_volume.sum(), 1.0, delta=1e-13)
        first_moment = (mesh.cell_volume[:, None] * mesh.cell_centroid).sum(axis=0)
        np.testing.assert_allclose(first_moment, 0.5, atol=1e-13)

    def test_quality_names_the_worst_place(self):
        good = zy.quality(box(8))
        self.assertTrue(good.passed)
        self.assertLess(good.rows[0][4], 1e-6)
        bad = zy.quality(box(8, perturbed=0.45))
        self.assertGreater(bad.rows[0][4], 20.0)
        self.assertIn("non-orthogonality", str(bad))


class Files(unittest.TestCase):
    def test_round_trip_is_the_same_mesh(self):
        with tempfile.TemporaryDirectory() as folder:
            for topology, tail in (("C", "blunt"), ("O", "closed")):
                mesh = foil_mesh(tail=tail, topology=topology)
                for ending in ("vtu", "cgns"):
                    path = zy.write_mesh(mesh, Path(folder) / f"m.{ending}", {"cp": np.arange(mesh.n_cells) * 1.0})
                    again = zy.read_mesh(path)
                    self.assertEqual(again.fingerprint, mesh.fingerprint)
                    self.assertEqual(again.dimension, 2)

    def test_damaged_files_are_refused(self):
        with tempfile.TemporaryDirectory() as folder:
            mesh = foil_mesh()
            for ending in ("vtu", "cgns"):
                path = zy.write_mesh(mesh, Path(folder) / f"m.{ending}")
                path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
                with self.assertRaisesRegex(zy.FileError, "damaged"):
                    zy.read_mesh(path)
                with self.assertRaisesRegex(zy.FileError, "does not exist"):
                    zy.read_mesh(Path(folder) / f"none.{ending}")
            with self.assertRaisesRegex(zy.InputError, "ending"):
                zy.write_mesh(mesh, Path(folder) / "m.xyz")


class Extruded(unittest.TestCase):
    def test_layers_fill_the_span_and_coarser_levels_follow(self):
        flat = foil_mesh(around=64, outward=16)
        made = zy.mesh.mesh_extruded(flat, [0.0, 0.5, 2.0])
        self.assertEqual(made.dimension, 3)
        np.testing.assert_allclose(made.cell_volume, np.outer([0.5, 1.5], flat.cell_volume).ravel())
        self.assertAlmostEqual(made.reference.area, 2.0 * flat.reference.area, 12)
        self.assertEqual([m.n_cells for m in made.family()], [2 * m.n_cells for m in flat.family()])
        low, high = made.coarser.cell_centroid[made.parent], made.cell_centroid
        np.testing.assert_allclose(low[:, 1], high[:, 1], atol=1e-12)
        self.assertEqual([g.role for g in made.groups], ["wall", "farfield", "symmetry", "symmetry"])

    def test_the_flow_is_that_of_the_section(self):
        numerics = zy.Numerics(vortex=False, residual_drop=4.5)
        flat = foil_mesh("0012", farfield=30.0)
        meshes = (flat, zy.mesh.mesh_extruded(flat, [0.0, 1.0]))
        plane, space = (zy.solve(m, zy.Freestream(mach=0.2, alpha=4.0), numerics=numerics) for m in meshes)
        self.assertEqual((plane.outcome, space.outcome), ("converged",) * 2)
        self.assertLess(abs(space.forces.CD - plane.forces.CD), 2e-5)
        self.assertAlmostEqual(space.forces.CL / plane.forces.CL, 1.0, delta=3e-4)
        self.assertLess(abs(space.forces.coefficients()["CY"]), 1e-9)

    def test_what_can_not_be_extruded_is_refused(self):
        flat = foil_mesh(around=32, outward=16)
        for mesh, positions, words in (
            (flat, [0.0], "two increasing"),
            (flat, [0.0, 0.0], "two increasing"),
            (zy.mesh.mesh_extruded(flat, [0.0, 1.0]), [0.0, 1.0], "mesh of the plane"),
        ):
            with self.assertRaisesRegex(zy.InputError, words):
                zy.mesh.mesh_extruded(mesh, positions)
