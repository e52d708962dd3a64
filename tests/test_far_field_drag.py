"""Far-field drag: entropy balances exactly, shocks and wakes are found, the mesh's own drag is left out."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.results.far_field_drag import DragRegions

NACA_0012 = zy.Airfoil.naca("0012")


def inviscid(around: int, mach: float, alpha: float) -> zy.Solution:
    """Inviscid flow about NACA 0012."""
    mesh = zy.mesh_airfoil(NACA_0012, around=around, outward=around // 2, topology="O")
    return zy.solve(mesh, zy.Freestream(mach=mach, alpha=alpha))


class Sections(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.transonic = inviscid(96, 0.8, 1.25)

    def test_what_is_produced_leaves_through_the_far_field(self):
        flow, mesh = self.transonic.flow, self.transonic.mesh
        gamma, faces = self.transonic.air.gas.gamma, mesh.faces_of("farfield")
        q = flow.q[mesh.left[faces]]
        entropy = (gamma * np.log(q[:, 4]) - (gamma - 1.0) * np.log1p(gamma * q[:, 0])) / (gamma - 1.0)  # over R
        pressure = 1.0 + gamma * q[:, 0]
        mass = pressure / q[:, 4] * np.einsum("ij,ij->i", q[:, 1:4], mesh.face_area[faces])
        out = np.sum(mass * entropy) / gamma  # R times the freestream temperature is 1 / gamma
        self.assertAlmostEqual(out / flow.entropy_production.sum(), 1.0, delta=0.03)

    def test_shocks_make_the_drag_of_a_transonic_section(self):
        drag = self.transonic.far_field_drag()
        lost, shocks = drag.estimates["CD"]  # two ways that share nothing but the flow
        self.assertAlmostEqual(shocks / lost, 1.0, delta=0.02)
        self.assertAlmostEqual(drag.wave, 0.0228, delta=0.02 * 0.0228)  # that on 400 x 128 cells, which a fine mesh has
        self.assertEqual((drag.CD, drag.induced, drag.viscous), (drag.wave, 0.0, 0.0))

    def test_an_inviscid_section_without_shocks_has_no_drag(self):
        drag = inviscid(64, 0.3, 4.0).far_field_drag()
        self.assertEqual(drag.CD, 0.0)
        self.assertLess(abs(drag.near_field - drag.spurious), drag.uncertainty + 1e-12)
        self.assertGreater(drag.spurious, 0.0)

    def test_a_coarse_turbulent_section_has_the_drag_of_a_fine_one(self):
        mesh = zy.mesh_airfoil(NACA_0012, 96, 48, y_plus=1.0, reynolds=6e6)
        solution = zy.solve(mesh, zy.Freestream(mach=0.2, alpha=4.0, reynolds=6e6), "sa")
        drag = solution.far_field_drag()
        self.assertEqual((drag.wave, drag.induced, drag.viscous), (0.0, 0.0, drag.CD))
        # 0.00874 on the surface and 0.00870 far off on 48,000 cells
        self.assertAlmostEqual(drag.CD, 0.0087, delta=0.0001)
        self.assertGreater(drag.near_field, 0.0089)

    def test_it_survives_the_disk_and_goes_into_the_row_of_a_polar(self):
        with tempfile.TemporaryDirectory() as folder:
            again = zy.load_solution(self.transonic.save(Path(folder) / "point.npz"))
        drag, row = self.transonic.far_field_drag(), again.row()
        self.assertEqual(again.far_field_drag().CD, drag.CD)
        self.assertEqual((row["CD_far"], row["CD_wave"], row["CD_induced"]), (drag.CD, drag.wave, 0.0))
        self.assertAlmostEqual(row["L/D"], row["CL"] / drag.CD)
        self.assertIn("wave 0.0", str(drag))

    def test_where_it_is_unknown_it_is_refused_and_the_row_says_so(self):
        fast = zy.solve(zy.mesh_airfoil(NACA_0012, 64, 24, topology="O"), zy.Freestream(mach=1.4))
        with self.assertRaisesRegex(zy.InputError, "subsonic streams, not for Mach 1.4"):
            fast.far_field_drag()
        self.assertTrue(np.isnan(fast.row()["CD_far"]))
        ball = zy.mesh_revolved(zy.Outline.circle(1.0), around=32, outward=8)
        with self.assertRaisesRegex(zy.InputError, "wedge"):
            zy.solve(ball, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=2)).far_field_drag()
        for name in ("near_wall", "tip_length"):
            with self.assertRaisesRegex(zy.InputError, name):
                DragRegions(**{name: -1.0})


if __name__ == "__main__":
    unittest.main()
