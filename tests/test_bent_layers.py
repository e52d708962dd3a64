"""Thin layers over curved walls: heights, slopes, and a turbulent flow in space that converges and goes on after a
kill.
"""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

import zephyrum as zy
import zephyrum.solver.checkpoint as checkpoint
from zephyrum.flow import FlowProblem
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.face_vectors import cell_face_vectors
from zephyrum.flow.discretization.limiter import smooth_variation
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.flow.nonlinear.history import TimeForecast
from zephyrum.flow.nonlinear.start_up import prolongate
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.gas_model import EQUATION_NAMES, Scales
from zephyrum.geometry.surface.solids import half_surface

FIRST = 2e-5


class Killed(Exception):
    pass


class Forecast(unittest.TestCase):
    def test_time_left_follows_the_slope_of_the_largest_residual_on_the_finest_mesh(self):
        pace = TimeForecast(6.0)

        def left(step, level=0, down=0.25):
            row = {f"residual_{name}": 10.0 ** (-down * step - (k > 0)) for k, name in enumerate(EQUATION_NAMES)}
            return pace.left(row | {"level": level, "seconds": 2.0 * step})

        self.assertTrue(np.isnan([left(step, level=1) for step in range(20)]).all())
        seen = [left(step) for step in range(24)]
        self.assertTrue(np.isnan(seen[:7]).all())
        np.testing.assert_allclose(seen[8:], [2.0 * (24 - step) for step in range(8, 24)])
        self.assertEqual(left(30), 0.0)
        stalled = TimeForecast(6.0)
        rows = {f"residual_{name}": 1e-3 for name in EQUATION_NAMES}
        self.assertTrue(np.isnan([stalled.left(rows | {"level": 0, "seconds": float(k)}) for k in range(20)]).all())


class AircraftLayers(unittest.TestCase):
    def test_cells_over_the_wall_know_their_height_and_middle_at_every_joint_and_tail(self):
        aircraft = zy.Aircraft.read(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml")
        for mesh in zy.mesh_aircraft(aircraft, cells=40_000, y_plus=1.0, reynolds=8e6).family():
            walls = mesh.faces_of("wall")
            cells, area = mesh.left[walls], np.linalg.norm(mesh.face_area[walls], axis=1)
            stands = mesh.wall_face_of_cell[cells] == walls
            height = mesh.cell_volume[cells] / area
            far = mesh.wall_distance[cells] / height
            self.assertGreater(np.sort(far[stands])[1], 0.2)  # but for a sliver
            self.assertLess(np.sort(far[stands])[-3], 1.0)
            n = mesh.face_area[walls] / area[:, None]
            midpoint = np.einsum("ij,ij->i", mesh.face_centroid[walls] - mesh.cell_centroid[cells], n) / height
            self.assertGreater(np.sort(midpoint[stands])[1], 0.2)
            few = int(stands.sum()) // 500  # columns whose layers thin out to nothing on one side
            self.assertLess(np.sort(midpoint[stands])[-1 - few], 0.9)


class BentLayers(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        egg = zy.remesh(half_surface(zy.Body.ellipsoid(1.0, 0.4).surface()), 300, stretch=2.0).surface
        unit = zy.Reference(0.1, 1.0, 1.0, (0.0, 0.0, 0.0))
        cls.mesh = zy.mesh_surface(egg, farfield=8.0, growth=0.6, layers=(FIRST, 1.6, 16), reference=unit)

    def first(self):
        walls = self.mesh.faces_of("wall")
        cells = self.mesh.left[walls]
        return walls, cells

    def test_first_cells_stand_half_their_height_over_the_wall_however_it_bends(self):
        walls, cells = self.first()
        self.assertGreater(self.mesh.face_bulge[walls].max(), 100.0 * FIRST)
        high = self.mesh.wall_distance[cells]
        np.testing.assert_array_less(high, 0.55 * FIRST)
        self.assertGreater(np.quantile(high, 0.05), 0.3 * FIRST)
        self.assertTrue((self.mesh.wall_distance > 0.0).all())
        self.assertTrue((self.mesh.cell_thin[cells] == 1.0).all())
        far = self.mesh.wall_distance > 1.0  # away from the layers it is the plain distance
        x, y, z = self.mesh.cell_centroid[far].T
        self.assertLess(np.abs(np.sqrt(x**2 + y**2 + z**2) - self.mesh.wall_distance[far] - 0.5).max(), 0.55)

    def test_layers_stand_on_each_other(self):
        m, ni = self.mesh, self.mesh.n_interior
        d = m.cell_centroid[m.right] - m.cell_centroid[m.left[:ni]]
        area = np.linalg.norm(m.face_area[:ni], axis=1)
        cosine = np.einsum("ij,ij->i", d, m.face_area[:ni]) / (area * np.linalg.norm(d, axis=1))
        both = (m.cell_thin[m.left[:ni]] == 1.0) & (m.cell_thin[m.right] == 1.0)
        broad = both & (area > 0.3 * np.median(area[both]))
        self.assertGreater(np.quantile(cosine[broad], 0.02), 0.8)

    def test_a_field_that_rises_with_the_layers_has_its_slope_across_them(self):
        m = self.mesh
        q = np.ascontiguousarray(m.wall_distance[:, None])
        slope = np.empty((m.n_cells, 1, 3))
        GradientOperator.of(m)(q, slope)
        walls, cells = self.first()
        near = cells[m.cell_thin[cells] == 1.0]
        steep = np.linalg.norm(slope[near, 0], axis=1)
        self.assertLess(abs(np.median(steep) - 1.0), 0.05)
        n = -m.face_area[walls] / np.linalg.norm(m.face_area[walls], axis=1)[:, None]
        along = slope[near, 0] - np.einsum("ij,ij->i", slope[near, 0], n)[:, None] * n
        self.assertLess(np.quantile(np.linalg.norm(along, axis=1), 0.9), 0.1)

    def test_a_coarser_mesh_hands_its_layers_to_a_finer_one_at_the_same_heights_and_sides(self):
        egg = zy.remesh(half_surface(zy.Body.ellipsoid(1.0, 0.4).surface()), 160, stretch=2.0).surface
        coarse = zy.mesh_surface(egg, farfield=8.0, growth=0.8, layers=(FIRST, 1.8, 13), reference=self.mesh.reference)
        fine = self.mesh.with_coarser(coarse)
        thin = fine.cell_thin == 1.0
        ratio = np.abs(np.log(fine.wall_distance / coarse.wall_distance[fine.parent]))[thin]
        self.assertLess(np.median(ratio), 0.25)
        self.assertLess(np.quantile(ratio, 0.98), 1.0)
        nearest = cKDTree(coarse.cell_centroid).query(fine.cell_centroid)[1]
        self.assertGreater(np.median(np.abs(np.log(fine.wall_distance / coarse.wall_distance[nearest]))[thin]), 1.0)
        # a profile over the height comes over as it is, eddies near the wall included
        domains = FaceData.of(coarse, model="sa"), FaceData.of(fine, model="sa")

        def profile(mesh):
            high = np.tanh(mesh.wall_distance / 2e-3)
            still = np.zeros(mesh.n_cells)
            return np.stack([still, 0.2 * high, still, still, 1.0 + still, 100.0 * high], axis=1)

        made, wanted = (
            prolongate(profile(coarse), *domains, Scales.law(zy.Freestream(mach=0.2, reynolds=1e6), 1.0)),
            profile(fine),
        )
        off = np.abs(made - wanted)[thin]
        self.assertLess(np.quantile(off[:, 1], 0.95), 0.02)
        self.assertLess(np.quantile(off[:, 5], 0.95), 10.0)

    def test_ways_along_a_shell_are_laid_flat_and_others_left_alone(self):
        m, ni = self.mesh, self.mesh.n_interior
        to_left, _, ahead, back = cell_face_vectors(m)
        plain = m.cell_thin[m.left] == 0.0
        np.testing.assert_array_equal(to_left[plain], (m.face_centroid - m.cell_centroid[m.left])[plain])
        plain = m.cell_thin[m.right] == 0.0
        np.testing.assert_array_equal(back[plain], (m.cell_centroid[m.left[:ni]] - m.cell_centroid[m.right])[plain])
        walls, cells = self.first()
        n = m.face_area[walls] / np.linalg.norm(m.face_area[walls], axis=1)[:, None]
        normal = np.zeros((m.n_cells, 3))
        normal[cells] = n
        rim = np.isin(m.left[:ni], cells) & np.isin(m.right, cells)
        off = np.abs(np.einsum("ij,ij->i", ahead[rim], normal[m.left[:ni][rim]]))
        straight = (m.cell_centroid[m.right] - m.cell_centroid[m.left[:ni]])[rim]
        before = np.abs(np.einsum("ij,ij->i", straight, normal[m.left[:ni][rim]]))
        self.assertLess(np.median(off), 0.05 * np.median(before))

    def test_what_swings_in_a_layer_loses_the_slopes_of_its_column_and_no_more(self):
        mesh, air = self.mesh, zy.Freestream(mach=0.2, reynolds=1e6)
        level = DiscreteProblem(FlowProblem(mesh, air, mesh.reference, zy.Numerics(), "sa"))
        foot = mesh.wall_face_of_cell
        cell = int(mesh.left[mesh.faces_of("wall")[5]])
        R = np.zeros((mesh.n_cells, 6))
        R[cell] = 1.0
        np.testing.assert_array_equal(level.demote_unconverged(R, 0.01, 0.9), foot == foot[cell])
        self.assertEqual(level.first_order_cells.sum(), (foot == foot[cell]).sum())
        self.assertFalse(level.demote_unconverged(R, 0.01, 0.9).any())  # nothing new
        R[:] = 1.0
        self.assertFalse(level.demote_unconverged(R, 0.01, 0.9).any())  # what swings everywhere is the flow

    def test_columns_with_an_impossible_temperature_lose_their_slopes_with_those_beside_them(self):
        mesh, air = self.mesh, zy.Freestream(mach=0.2, reynolds=1e6)
        walls = replace(
            WallData.plain(mesh), temperature=np.full(mesh.n_faces - mesh.n_interior, 3.0 * air.temperature)
        )
        for kind, least, most in ((None, 0.75, 1.1 * 1.008), (walls, 0.75, 3.3)):
            level = DiscreteProblem(
                FlowProblem(mesh, air, mesh.reference, zy.Numerics(), "sa", kind and (lambda _, kind=kind: kind))
            )
            np.testing.assert_allclose((0.75 * level.coldest, 1.1 * level.hottest), (least, most), rtol=1e-6)
            q = np.tile(level.scales.freestream, (mesh.n_cells, 1))
            q[:, 4] = 0.999 * most
            self.assertIs(level.repair_temperature(q), q)
            self.assertFalse(level.first_order_cells.any())
            foot = mesh.wall_face_of_cell.max()
            odd = np.flatnonzero(mesh.wall_face_of_cell == foot)[3]
            q[odd, 4] = 1.001 * most
            back = level.repair_temperature(q)
            self.assertAlmostEqual(back[odd, 4], most / 1.1, 9)
            self.assertEqual(np.count_nonzero(back != q), 1)
            self.assertTrue(level.first_order_cells[mesh.wall_face_of_cell == foot].all())
            ni = mesh.n_interior
            faces = np.flatnonzero((mesh.left[:ni] == odd) | (mesh.right == odd))
            self.assertTrue(
                level.first_order_cells[mesh.left[faces]].all() and level.first_order_cells[mesh.right[faces]].all()
            )
            self.assertLess(level.first_order_cells.mean(), 0.2)
            self.assertIs(level.repair_temperature(q), q)  # nothing new
            q[:, 4] = 0.99 * least  # all of it: no matter of a few cells
            self.assertIs(level.repair_temperature(q), q)

    def test_turbulence_that_grows_does_not_turn_the_matrix_round(self):
        level = DiscreteProblem(
            FlowProblem(self.mesh, zy.Freestream(mach=0.2, reynolds=1e6), self.mesh.reference, zy.Numerics(), "sa")
        )
        q = np.tile(level.scales.freestream, (self.mesh.n_cells, 1))
        q[:, 1] *= np.tanh(self.mesh.wall_distance / 1e-3)  # shear, and hardly any turbulence yet
        level.linearise(level.evaluate(q))
        own = level.jacobian.sources.by_state[:, 0, 5]
        level.jacobian.set_inertia(np.zeros(self.mesh.n_cells))
        self.assertGreater(own.max(), 0.0)
        control = zy.CFLControl()
        growth = level.jacobian.stabilise_source_diagonal(control.source_inertia_at(10.0, True))
        np.testing.assert_array_equal(growth[own <= 0.0], 0.0)
        self.assertTrue((level.jacobian.inertia[:, 5, 5] - own >= np.abs(own) * 0.999).all())
        # in Newton's regime an inertia that stays would slow it down
        faded = level.jacobian.stabilise_source_diagonal(control.source_inertia_at(1e8, True))
        np.testing.assert_allclose(faded, 1e-3 * growth, rtol=1e-6)

    def test_turbulent_flow_settles_and_goes_on_after_a_kill(self):
        rod = zy.remesh(half_surface(zy.Body.ellipsoid(1.0, 0.2).surface()), 330, stretch=3.0).surface
        mesh = zy.mesh_surface(rod, farfield=6.0, growth=0.8, layers=(FIRST, 1.6, 14), reference=self.mesh.reference)
        air, numerics = zy.Freestream(mach=0.2, alpha=2.0, reynolds=1e6), zy.Numerics(residual_drop=4.0)
        whole = zy.solve(mesh, air, model="sa", numerics=numerics)
        self.assertEqual(whole.outcome, "converged", whole.reason)
        self.assertNotIn("first order", whole.reason)
        self.assertRegex(
            repr(whole), r"^<Solution, sa, M 0.2, alpha 2 deg, .* cells: CL .*, CD .*, CM .*; converged, residuals down"
        )
        self.assertRegex(repr(mesh), r"^<Mesh in space, .* cells; .*symmetry .*>$")
        rows = whole.forces.table().set_index("cause")["CD"]
        wetted = 2.0 * np.linalg.norm(mesh.face_area[mesh.faces_of("wall")], axis=1).sum()
        plate = 0.074 / 1e6**0.2 * wetted / 0.1  # turbulent, as large (Schlichting and Gersten 2017, ch. 18)
        self.assertLess(abs(rows["friction"] / plate - 1.0), 0.2, rows)

        def stop(row):
            if row["level"] == 0 and row["step"] == 6:
                raise Killed

        with tempfile.TemporaryDirectory() as folder:
            keep, every = Path(folder) / "state.going", checkpoint.SAVE_INTERVAL
            checkpoint.SAVE_INTERVAL = 0.0
            try:
                with self.assertRaises(Killed):
                    zy.solve(mesh, air, model="sa", numerics=numerics, on_step=stop, keep=keep)
                again = zy.solve(mesh, air, model="sa", numerics=numerics, keep=keep)
            finally:
                checkpoint.SAVE_INTERVAL = every
        self.assertEqual(again.outcome, "converged", again.reason)
        self.assertLess(abs(len(again.history.rows) - len(whole.history.rows)), 10)  # with what was before the kill
        self.assertAlmostEqual(again.forces.CL, whole.forces.CL, delta=1e-3 * whole.forces.CL)
        self.assertAlmostEqual(again.forces.CD, whole.forces.CD, delta=1e-3 * whole.forces.CD)

    def test_what_no_mesh_resolves_is_limited_in_slow_viscous_flow_in_space_only(self):
        np.testing.assert_allclose(
            [smooth_variation(zy.Limiter(), mach, True, True) for mach in (0.2, 0.8)], [0.3, 0.01]
        )
        for friction, space in ((False, True), (False, False), (True, False)):
            self.assertEqual(smooth_variation(zy.Limiter(), 0.2, friction, space), 0.01)


if __name__ == "__main__":
    unittest.main()
