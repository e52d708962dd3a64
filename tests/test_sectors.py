"""Sectors: cut out of a mesh of the whole, periodic sides that conserve, flow and forces those of the whole body."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner

import zephyrum as zy
from zephyrum.cli.main import main
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.residual import Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.physics.boundary_conditions import WallData, exterior_states
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence import freestream_turbulence, typical_turbulence
from zephyrum.mesh.periodic_sectors import END, START, periodic_pairs

UNIT = zy.Reference(np.pi / 4.0, 1.0, 1.0, (0.0, 0.0, 0.0))


def body() -> zy.Surface:
    """A sphere a metre across on the x axis."""
    return zy.Body.ellipsoid(1.0, 1.0, 1.0).surface()


class Sectors(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.whole = zy.mesh_aircraft(body(), 4.0, farfield=3.0, reference=UNIT)
        cls.centre = body().midpoint
        cls.third = zy.mesh_sector(cls.whole, 3, start=17.0)

    def residual(self, model: str, seed: int):
        """(states disturbed by waves that repeat themselves in no way, residual) on the sector."""
        mesh, air = self.third, zy.Freestream(mach=0.4, reynolds=200.0)
        law = Scales.law(air, 1.0)
        scales = Scales.of(air, freestream_turbulence(model, law, air.mach, 1.0), typical_turbulence(model))
        walls = WallData.plain(mesh)
        domain = FaceData.of(mesh, model=model)
        residual = Residual(
            domain, Scheme(), law, air.mach, exterior_states(mesh, scales, 0.0, False, walls), model=model
        )
        rng = np.random.default_rng(seed)
        q = np.tile(scales.freestream, (mesh.n_cells, 1))
        q *= 1.0 + 0.02 * rng.standard_normal(q.shape)
        q[:, :5] += 0.01 * rng.standard_normal((mesh.n_cells, 5))
        return q, residual

    def test_any_number_of_them_is_a_mesh_whose_sides_match(self):
        for count in (2, 3, 4, 5, 8):
            mesh = zy.mesh_sector(self.whole, count)
            self.assertEqual(mesh.sectors, count)
            one, two, turn = periodic_pairs(mesh)
            self.assertEqual(len(one), mesh.group(START).stop - mesh.group(START).start)
            np.testing.assert_allclose(mesh.face_area[one], -mesh.face_area[two] @ turn.T, atol=1e-12)
            self.assertLess(mesh.recipe["unmatched"], 3e-3)
        # the wall is that of the body: the sides of all sectors lie on it
        wall = np.linalg.norm(mesh.face_area[mesh.faces_of("wall")], axis=1).sum()
        whole = np.linalg.norm(self.whole.face_area[self.whole.faces_of("wall")], axis=1).sum()
        self.assertLess(abs(8 * wall / whole - 1.0), 0.01)

    def test_what_leaves_one_side_enters_the_other(self):
        for model in ("euler", "sst"):
            q, residual = self.residual(model, 1)
            fluxes = residual.fluxes(residual.differentiate(q))
            one, two, turn = periodic_pairs(self.third)
            there = fluxes[two]
            there[:, 1:4] = there[:, 1:4] @ turn.T
            np.testing.assert_allclose(fluxes[one], -there, atol=1e-14)

    def test_a_turning_stream_passes_the_sides(self):
        q, residual = self.residual("euler", 2)
        mesh, spin = self.third, 0.02

        def stream(x):  # rigid rotation about the axis in the pressure that holds it
            p = 0.5 * spin**2 * (x[:, 1] ** 2 + x[:, 2] ** 2)
            return np.stack([p, 0.0 * p + 0.3, -spin * x[:, 2], spin * x[:, 1], (1.0 + 1.4 * p) ** (0.4 / 1.4)], axis=1)

        q[:] = stream(mesh.cell_centroid)
        fluxes = residual.fluxes(residual.differentiate(q))
        one, _, _ = periodic_pairs(mesh)
        exact = stream(mesh.face_centroid[one])
        density = (1.0 + 1.4 * exact[:, 0]) / exact[:, 4]
        through = density * np.einsum("ij,ij->i", exact[:, 1:4], mesh.face_area[one])
        radius = np.linalg.norm(mesh.face_centroid[one, 1:], axis=1)
        area = np.linalg.norm(mesh.face_area[one], axis=1)
        near = radius < 2.0
        error = np.abs(fluxes[one, 0] - through)[near].sum() / (spin * radius * area)[near].sum()
        self.assertLess(error, 0.01)

    def test_exact_product_is_the_derivative_of_the_residual_across_the_sides(self):
        for model in ("euler", "sa"):
            q, residual = self.residual(model, 3)
            jacobian = Jacobian(residual)
            jacobian.linearise(residual.differentiate(q))
            v = np.random.default_rng(1).standard_normal(q.shape).astype(np.float32)
            out = np.empty_like(v)
            jacobian.product(v, out)
            step = 1e-6 * v
            exact = (residual(q + step) - residual(q - step)) / 2e-6
            beside = residual.domain.periodic.cells
            self.assertLess(np.linalg.norm((out - exact)[beside]) / np.linalg.norm(exact[beside]), 5e-3, model)

    def test_flow_and_forces_are_those_of_the_whole(self):
        solution = zy.solve(self.third, zy.Freestream(mach=0.2), numerics=zy.Numerics(residual_drop=5))
        self.assertEqual(solution.outcome, "converged", solution.reason)
        self.assertEqual((solution.forces.CL, solution.forces.coefficients()["CY"]), (0.0, 0.0))
        mesh = self.third
        f = mesh.faces_of("wall")
        x = mesh.face_centroid[f] - self.centre
        cp = solution.flow.boundary_pressure[f - mesh.n_interior] / (0.5 * 0.2**2)
        size = np.linalg.norm(mesh.face_area[f], axis=1)
        theory = 1.0 - 2.25 * (1.0 - (x[:, 0] / np.linalg.norm(x, axis=1)) ** 2)
        self.assertLess(np.sum(size * np.abs(cp - theory)) / size.sum(), 0.12)
        with self.assertRaisesRegex(zy.InputError, "runs along its axis"):
            zy.solve(self.third, zy.Freestream(mach=0.2, alpha=2.0))

    def test_a_file_keeps_it_and_what_is_no_sector_is_refused(self):
        with tempfile.TemporaryDirectory() as folder:
            file = zy.write_mesh(self.third, Path(folder) / "third.cgns")
            self.assertEqual(zy.read_mesh(file).sectors, 3)
        for mesh, count, word in (
            (self.whole, 1, "count"),
            (self.third, 3, "whole mesh"),
            (zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8), 3, "whole mesh"),
        ):
            with self.assertRaisesRegex(zy.InputError, word):
                zy.mesh_sector(mesh, count)
        box = zy.Body.ellipsoid(1.0, 1.6, 0.4)
        flat = zy.mesh_aircraft(box.surface(), 5.0, farfield=2.0, reference=UNIT)
        with self.assertRaisesRegex(zy.MeshError, "does not repeat itself"):
            zy.mesh_sector(flat, 3, start=10.0)

    def test_without_a_start_the_sides_that_match_best_are_taken(self):
        along_diagonals = zy.mesh_sector(self.whole, 4, start=-45.0).recipe["unmatched"]
        self.assertLessEqual(zy.mesh_sector(self.whole, 4).recipe["unmatched"], along_diagonals)

    def test_a_study_of_a_sector_refuses_incidence(self):
        with tempfile.TemporaryDirectory() as folder:
            body().write(Path(folder) / "ball.stl")
            study = Path(folder) / "study.toml"
            text = (
                '[aircraft]\nfile = "ball.stl"\nunit = "m"\nreference = { area = 0.785, chord = 1, span = 1, '
                "point = [0, 0, 0] }\n[mesh]\nresolution = 5.0\nfarfield = 3\nsectors = 4\n[solver]\n"
                "residual_drop = 2\n[sweep]\nmach = 0.2\nalpha = "
            )
            study.write_text(text + "2", encoding="utf-8")
            refused = CliRunner().invoke(main, ["run", str(study), "--out", f"{folder}/out"])
            self.assertIn("has alpha 0 only", refused.output)
            study.write_text(text + "0", encoding="utf-8")
            made = CliRunner().invoke(main, ["run", str(study), "--out", f"{folder}/out", "--no-figures"])
            self.assertEqual(made.exit_code, 0, made.output)
            self.assertEqual(zy.open_results(f"{folder}/out").solution(alpha=0.0).mesh.sectors, 4)

    def test_by_command(self):
        with tempfile.TemporaryDirectory() as folder:
            file = body().write(Path(folder) / "ball.stl")
            out = CliRunner().invoke(
                main,
                ["mesh", str(file), "--unit", "m", "--resolution", "5", "--farfield", "2", "--sectors", "3"],
            )
            self.assertEqual(out.exit_code, 0, out.output)
            self.assertIn(f"{START} ", out.output)
            self.assertIn(END, out.output)


if __name__ == "__main__":
    unittest.main()
