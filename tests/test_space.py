"""Flows in space: slices, cuts, span loading, what follows from a sweep, and the study of an aircraft by command."""

import re
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from click.testing import CliRunner
from PIL import Image

import zephyrum as zy
from tests.pictures import assert_picture
from zephyrum.cli.main import main
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.geometry.surface.solids import half_surface
from zephyrum.geometry.surface.triangulation import Surface, joined
from zephyrum.geometry.surface.visibility import HIDDEN_COSINE, vertex_visibility
from zephyrum.mesh.clipped_3d.untangling import untangle_vertices
from zephyrum.mesh.slices import slice_mesh
from zephyrum.plotting import (
    animate_streamlines,
    animate_turn,
    draw_loading,
    draw_on_surface,
    draw_slice,
    draw_streamlines_3d,
    draw_vortex_cores,
)
from zephyrum.plotting.animation import core_level
from zephyrum.report.scene import decimated
from zephyrum.results import Polar
from zephyrum.solver.preflight import preflight_warnings
from zephyrum.studies import polar_slopes_of

PLANFORM = zy.Planform(span=6.0, root_chord=1.0, taper=1.0, sweep=0.0)


def wing() -> zy.Aircraft:
    """A rectangular wing."""
    return zy.Aircraft(name="plank", parts={"wing": zy.Wing(planform=PLANFORM, airfoil="NACA 0012", tip="flat")})


class TestWing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.aircraft = wing()
        cls.mesh = zy.mesh_aircraft(cls.aircraft, 2.2, farfield=6.0)
        cls.solution = zy.solve(cls.mesh, zy.Freestream(mach=0.2, alpha=4.0), numerics=zy.Numerics(residual_drop=3.5))

    def test_lift_is_that_of_the_theory(self):
        self.assertEqual(self.solution.outcome, "converged", self.solution.reason)
        # lifting line with a lift slope of 2 pi at aspect ratio 6, a few per cent more for the thickness
        theory = 2.0 * np.pi * np.radians(4.0) / (1.0 + 2.0 / 6.0 * 1.05)
        self.assertLess(abs(self.solution.forces.CL / theory - 1.0), 0.1)

    def test_a_run_does_not_end_with_an_impossible_temperature(self):
        odd = int(np.argmin(self.mesh.cell_volume))

        def impossible(problem, q):  # until the cell is at first order
            mask = np.zeros(len(q), dtype=bool)
            mask[odd] = len(q) == self.mesh.n_cells and not problem.first_order_cells[odd]
            return mask

        with mock.patch.object(DiscreteProblem, "impossible_temperatures", impossible):
            numerics = zy.Numerics(residual_drop=3.0)
            made = zy.solve(self.mesh, zy.Freestream(mach=0.2, alpha=4.0), numerics=numerics, start=self.solution)
        self.assertEqual(made.outcome, "converged", made.reason)
        self.assertTrue(made.flow.first_order_cells[odd])
        self.assertIn("first order in", made.reason)
        self.assertAlmostEqual(made.forces.CL / self.solution.forces.CL, 1.0, delta=0.01)

    def test_the_strips_add_up_to_the_lift(self):
        load = self.solution.span_loading(31)
        own = load.table
        area = self.solution.reference.area
        self.assertAlmostEqual(float((own["cl c"] * own["width"]).sum()) / area, self.solution.forces.CL, 10)
        self.assertAlmostEqual(float((own["cd c"] * own["width"]).sum()) / area, self.solution.forces.CD, 10)
        self.assertAlmostEqual(load.span, 6.0, 6)
        ideal = load.CL**2 / (np.pi * 36.0 / area)
        self.assertGreater(load.induced, 0.9 * ideal)
        self.assertLess(load.induced, 1.25 * ideal)

    def test_the_wake_reports_the_drag_of_the_surface_and_how_much_of_it_the_mesh_made(self):
        wake = self.solution.wake_drag()
        self.assertEqual(len(wake), 4)
        for printed in wake["wake CD"].iloc[1:]:
            self.assertLess(abs(printed / self.solution.forces.CD - 1.0), 0.15)
        induced = self.solution.span_loading().induced
        self.assertTrue((wake["induced CD"].between(0.5 * induced, 1.1 * induced)).all())
        self.assertTrue((wake["entropy CD"] > 0.0).all())  # inviscid: error of a coarse mesh
        with self.assertRaisesRegex(zy.InputError, "meets the body"):
            self.solution.wake_drag(0.5)

    def test_far_field_drag_leaves_out_what_the_mesh_made(self):
        drag = self.solution.far_field_drag()
        ideal = self.solution.forces.CL**2 / (np.pi * 6.0)  # of an elliptic loading; lifting line: 5 % more
        self.assertAlmostEqual(drag.induced / ideal, 1.03, delta=0.06)
        self.assertEqual((drag.CD, drag.wave, drag.viscous), (drag.induced, 0.0, 0.0))
        self.assertGreater(drag.near_field, 1.1 * drag.CD)
        self.assertGreater(drag.spurious, 5e-4)
        self.assertEqual(len(drag.estimates), 3)
        self.assertAlmostEqual(drag.parts["CD"].sum(), drag.near_field - drag.spurious, 12)

    def test_far_field_drag_is_unknown_where_the_domain_ends_before_the_wake_planes(self):
        wide = zy.Reference(6.0, 1000.0, 6.0, (0.25, 0.0, 0.0), "typed")
        solution = replace(self.solution, case=replace(self.solution.case, reference=wide))
        with self.assertRaisesRegex(zy.InputError, "misses the mesh"):
            solution.far_field_drag()
        self.assertTrue(np.isnan(solution.row()["CD_far"]))

    def test_gradients_at_a_plane_of_symmetry_need_all_of_the_velocity(self):
        operator, n = GradientOperator.of(self.mesh), self.mesh.n_cells
        for columns in (2, 3):
            with self.assertRaisesRegex(ValueError, "velocity"):
                operator(np.ones((n, columns)), np.zeros((n, columns, 3)))
        out = np.zeros((n, 1, 3))
        operator(self.mesh.cell_centroid[:, :1] + 0.0, out)
        self.assertLess(np.abs(np.median(out[:, 0], axis=0) - [1.0, 0.0, 0.0]).max(), 1e-6)

    def test_a_cut_integrates_to_its_strip(self):
        load = self.solution.span_loading(31).table
        for position in (0.5, 1.5):
            cut = self.solution.cuts(position)
            self.assertTrue(cut["fraction"].between(0.0, 1.0).all())
            alpha = np.radians(4.0)
            lift = cut["cz"].sum() * np.cos(alpha) - cut["cx"].sum() * np.sin(alpha)
            strip = np.interp(position, load["y"], load["cl c"])
            self.assertLess(abs(lift * cut["chord"].iloc[0] / strip - 1.0), 0.02)

    def test_what_looks_wrong_before_and_after_a_run_is_reported_with_the_cause(self):
        self.assertFalse(
            [said for said in self.solution.checks() if "induced drag" not in said], self.solution.checks()
        )
        own, quick = self.solution.reference, zy.Numerics(residual_drop=1, max_iterations=1)
        for reference, words in (
            (replace(own, area=0.02 * own.area), "seen from above"),
            (replace(own, span=3.0), "m wide"),
            (replace(own, chord=30.0), "longer than the body"),
        ):
            made = zy.solve(self.mesh, zy.Freestream(mach=0.2, alpha=4.0), reference=reference, numerics=quick)
            self.assertTrue(any(words in said for said in made.checks()), made.checks())
        giant = replace(self.mesh, points=1000.0 * self.mesh.points, reference=None, coarser=None)
        huge = replace(own, area=1e6 * own.area, chord=1e3, span=6e3)
        found = preflight_warnings(zy.Case(giant, zy.Freestream(mach=0.2), reference=huge))
        self.assertEqual(len(found), 1, found)
        self.assertIn("unit", found[0])
        near = zy.mesh_aircraft(self.aircraft, 4.0, farfield=1.2)
        found = " ".join(preflight_warnings(zy.Case(near, zy.Freestream(mach=0.2), reference=own)))
        self.assertIn("sizes of the body away", found)
        swapped = zy.Case(self.mesh, self.solution.air, reference=replace(own, area=0.01 * own.area))
        self.assertIn("reference area", " ".join(swapped.notes))
        with tempfile.TemporaryDirectory() as folder:  # notes come back with a kept solution
            printed = replace(self.solution, notes=("a word",))
            again = zy.load_solution(printed.save(Path(folder) / "s.npz"))
            self.assertEqual(again.notes, ("a word",))

    def test_cuts_that_miss_are_reported(self):
        for options, words in (
            ({"at": 9.0}, "meets no wall"),
            ({"at": 1.0, "part": "fin"}, "no wall 'fin'"),
            ({"at": 1.0, "axis": "z"}, "axis"),
        ):
            with self.assertRaisesRegex(zy.InputError, words):
                self.solution.cuts(**options)

    def test_a_slice_covers_the_domain_but_the_body(self):
        cut = slice_mesh(self.mesh, "y", 1.0)
        x, z = np.ptp(self.mesh.points[:, 0]), np.ptp(self.mesh.points[:, 2])
        # the section of NACA 0012 has 0.0817 chord^2; polygons overlap where a cell is not convex
        self.assertLess(abs(cut.areas.sum() - (x * z - 0.0817)), 2e-3 * x * z)
        with self.assertRaisesRegex(zy.InputError, "misses the mesh"):
            slice_mesh(self.mesh, "x", 1e6)
        with self.assertRaisesRegex(zy.InputError, "axis"):
            slice_mesh(self.mesh, "w", 0.0)

    def test_pictures(self):
        with tempfile.TemporaryDirectory() as folder:
            path = draw_on_surface(self.solution, Path(folder) / "cp.png")
            assert_picture(self, path)
        self.assertIn("cells", draw_slice(self.mesh, "y", 1.0).get_title())
        self.assertIn("M 0.2", draw_slice(self.solution, "x", name="mach").get_title())
        self.assertEqual(len(draw_loading(self.solution)[1].get_legend().get_texts()), 4)

    def test_lines_cores_and_films(self):
        lines = self.solution.streamlines([[-0.5, 1.0, 0.02], [-0.5, 2.9, 0.1]])
        with tempfile.TemporaryDirectory() as held:
            folder = Path(held)
            assert_picture(self, draw_streamlines_3d(self.solution, folder / "lines.png", paths=lines))
            level = core_level(self.solution)
            self.assertGreater(level, 0.0)
            core, _ = self.solution.iso_surface("q", level)
            aft = core.points[core.points[:, 0] > 0.6]
            self.assertGreater(len(aft), 10)  # there is none there but the vortex of the tip
            self.assertLess(float(np.quantile(np.abs(aft[:, 1] - 3.0), 0.7)), 0.3)
            assert_picture(self, draw_vortex_cores(self.solution, folder / "cores.png"))
            for made in (
                animate_turn(self.solution, folder / "turn.gif", frames=3),
                animate_streamlines(self.solution, folder / "air.gif", paths=lines, frames=3),
            ):
                with Image.open(made) as animation:
                    self.assertEqual((animation.n_frames, animation.size), (3, (960, 600)))
            with self.assertRaisesRegex(zy.InputError, "written as .gif"):
                animate_turn(self.solution, folder / "turn.mov")
            with self.assertRaisesRegex(zy.InputError, "view"):
                draw_streamlines_3d(self.solution, folder / "x.png", view="inside")

    def test_the_drag_that_is_mesh_error_is_reported(self):
        self.assertFalse(any("spurious drag" in printed for printed in self.solution.checks()))
        thick = zy.Aircraft(name="plank", parts={"wing": zy.Wing(planform=PLANFORM, airfoil="NACA 0018", tip="flat")})
        coarse = zy.mesh_aircraft(thick, 5.0, farfield=6.0)
        solution = zy.solve(coarse, zy.Freestream(mach=0.2, alpha=4.0), numerics=zy.Numerics(residual_drop=3.5))
        self.assertTrue(any("spurious drag" in printed for printed in solution.checks()))

    def test_cells_that_lost_their_slopes_are_reported_kept_and_handed_on(self):
        lost = np.zeros(self.mesh.n_cells, dtype=bool)
        lost[self.mesh.left[self.mesh.faces_of("wall")]] = True
        printed = replace(self.solution, flow=replace(self.solution.flow, first_order_cells=lost))
        self.assertEqual(printed.wall_of_first_order, 1.0)
        self.assertTrue(any("100.0 % of the wall's area" in sentence for sentence in printed.checks()))
        with tempfile.TemporaryDirectory() as folder:
            back = zy.load_solution(printed.save(Path(folder) / "s.npz"))
        np.testing.assert_array_equal(back.flow.first_order_cells, lost)
        after = zy.solve(self.mesh, printed.air, numerics=zy.Numerics(residual_drop=1.0, max_iterations=1), start=back)
        self.assertTrue(after.flow.first_order_cells[lost].all())

    def test_a_run_that_was_killed_goes_on(self):
        import zephyrum.solver.checkpoint as checkpoint

        class Killed(Exception):
            pass

        def stop(row):
            if row["level"] == 0 and row["step"] == 6:
                raise Killed

        seen = []
        air, numerics = zy.Freestream(mach=0.2, alpha=4.0), zy.Numerics(residual_drop=3.5)
        with tempfile.TemporaryDirectory() as folder:
            keep, every = Path(folder) / "state.going", checkpoint.SAVE_INTERVAL
            checkpoint.SAVE_INTERVAL = 0.0
            try:
                with self.assertRaises(Killed):
                    zy.solve(self.mesh, air, numerics=numerics, keep=keep, on_step=stop)
                self.assertTrue(keep.is_file())
                again = zy.solve(self.mesh, air, numerics=numerics, keep=keep, on_step=seen.append)
            finally:
                checkpoint.SAVE_INTERVAL = every
            self.assertFalse(keep.exists())
        self.assertTrue(any("broken off" in note for note in again.notes))
        self.assertEqual((seen[0]["level"], seen[0]["step"]), (0, 5))  # and it remembers what was before
        self.assertEqual(len(again.history.rows), len(self.solution.history.rows))
        self.assertTrue((np.diff(again.history.column("step", 0)) == 1.0).all())
        self.assertTrue((np.diff(again.history.column("seconds")) >= 0.0).all())
        self.assertAlmostEqual(again.forces.CL, self.solution.forces.CL, 4)
        self.assertAlmostEqual(again.forces.CD, self.solution.forces.CD, 4)

    def test_both_halves_count(self):
        rows = self.solution.forces.table().set_index("part")
        half = (
            self.solution.wall_pressure[self.mesh.faces_of("wall") - self.mesh.n_interior]
            @ self.mesh.face_area[self.mesh.faces_of("wall")]
        )
        self.assertAlmostEqual(rows.loc["total", "Z [N]"], 2.0 * half[2], 6)


class TestDerived(unittest.TestCase):
    def test_exact_lines(self):
        alpha = np.array([-2.0, 0.0, 2.0, 4.0])
        lift = 0.2 + 5.0 * np.radians(alpha)
        rows = [
            {"mach": 0.2, "alpha": a, "CL": c, "CM": 0.03 - 0.15 * c, "outcome": "converged"}
            for a, c in zip(alpha, lift, strict=True)
        ]
        rows.append({"mach": 0.2, "alpha": 6.0, "CL": 0.0, "CM": 0.0, "outcome": "oscillating"})
        polar = Polar(pd.DataFrame(rows))
        one = polar_slopes_of(polar, zy.Reference(10.0, 2.0, 5.0, (1.0, 0.0, 0.0)))[0]
        self.assertEqual(one.points, 4)
        self.assertAlmostEqual(one.slope[0], 5.0, 10)
        self.assertAlmostEqual(one.no_lift, -np.degrees(0.2 / 5.0), 10)
        self.assertAlmostEqual(one.neutral[0], 1.3, 10)
        self.assertAlmostEqual(one.margin[0], 0.15, 10)
        self.assertAlmostEqual(one.trim[1], 0.2, 10)
        self.assertAlmostEqual(one.trim[0], 0.0, 8)


class TestEased(unittest.TestCase):
    def test_a_hidden_point_is_drawn_out_and_a_sphere_left_alone(self):
        ball = zy.Body.ellipsoid(1.0, 1.0, 1.0).surface()
        made, moved = untangle_vertices(ball)
        self.assertFalse(moved.any())
        self.assertIs(made, ball)
        # one point pushed far through its neighbours' plane and sideways: its triangles face each other
        near = ball.points.copy()
        k = int(np.argmax(near[:, 2]))
        ring = np.unique(ball.triangles[(ball.triangles == k).any(axis=1)])
        size = float(np.linalg.norm(near[ring] - near[k], axis=1).max())
        near[k] += size * np.array([1.6, 0.0, -0.15])
        made, moved = untangle_vertices(Surface(near, ball.triangles, ball.label, ball.labels))
        self.assertGreater(moved[k], 0.1 * size)
        self.assertLessEqual((moved > 0.0).sum(), 200)

    @staticmethod
    def needle(seed: int) -> Surface:
        """A closed needle of six rings of three points, staggered along it at random."""
        rng, rings = np.random.default_rng(seed), 6
        points, triangles = [[1.0, 0.0, 0.0]], [[0, 1 + j, 1 + (j + 1) % 3] for j in range(3)]
        for k in range(rings):
            for j in range(3):
                turn = 2.0 * np.pi * (j + 0.5 * (k % 2)) / 3.0
                points.append(
                    [
                        0.8 - 0.2 * k + rng.uniform(-0.25, 0.25),
                        0.02 * (k + 1) * np.cos(turn),
                        0.02 * (k + 1) * np.sin(turn),
                    ]
                )
        for k in range(rings - 1):
            for j in range(3):
                a, b = 1 + 3 * k + j, 1 + 3 * k + (j + 1) % 3
                triangles += [[a, a + 3, b], [b, a + 3, b + 3]] if k % 2 == 0 else [[a, a + 3, b + 3], [a, b + 3, b]]
        end = 3 * rings - 2
        triangles += [[end + (j + 1) % 3, end + j, len(points)] for j in range(3)]
        points.append([0.8 - 0.2 * rings, 0.0, 0.0])
        return Surface(np.array(points), np.array(triangles), np.zeros(len(triangles), dtype=int), ("needle",))

    def test_a_folded_needle_loses_points_beside_the_hidden_ones(self):
        folded = self.needle(4)
        self.assertLess(vertex_visibility(folded)[1].min(), HIDDEN_COSINE)
        made, moved = untangle_vertices(folded)
        self.assertEqual(len(folded.points) - len(made.points), 4)
        self.assertEqual((len(made.open_edges), moved.max()), (0, 0.0))
        self.assertGreater(vertex_visibility(made)[1].min(), HIDDEN_COSINE)
        with self.assertRaises(zy.MeshError) as refused:  # nothing helps
            untangle_vertices(self.needle(239))
        self.assertIn("smaller triangles there", str(refused.exception))


class TestStudyOfAnAircraft(unittest.TestCase):
    def run_command(self, *words: str):
        return CliRunner().invoke(main, list(words), catch_exceptions=False)

    def test_new_run_resume_show(self):
        with tempfile.TemporaryDirectory() as held:
            folder = Path(held)
            wing().write(folder / "plank.toml")
            printed = self.run_command("new", str(folder / "fly.toml"), "--aircraft", "plank.toml", "--title", "plank")
            self.assertEqual(printed.exit_code, 0, printed.output)
            text = (folder / "fly.toml").read_text(encoding="utf-8")
            text = (
                text.replace('"coarse"       #', "6.0 #")
                .replace("farfield = 10", "farfield = 5")
                .replace("residual_drop = 4", "residual_drop = 3")
            )
            text = text.replace("{ from = 0, to = 6, step = 3 }", "[0, 4]")
            (folder / "fly.toml").write_text(text, encoding="utf-8")
            out = folder / "out"
            printed = self.run_command("run", str(folder / "fly.toml"), "--out", str(out), "--no-figures")
            self.assertEqual(printed.exit_code, 0, printed.output)
            for words in (
                "mesh: about",
                "forces at",
                "span loading: CL",
                "far-field CD",
                "static margin",
                "mesh error unknown",
            ):
                self.assertIn(words, printed.output)
            forces = pd.read_csv(out / "forces.csv")
            self.assertEqual(set(forces["part"]), {"wing", "total"})
            for name in (
                "polar.csv",
                "loading.csv",
                "drag.csv",
                "derived.csv",
                "mesh.cgns",
                "README.txt",
                "plank.toml",
                "study.toml",
            ):
                self.assertTrue((out / name).is_file(), name)
            contents = (out / "README.txt").read_text(encoding="utf-8")
            for name in sorted(path.name for path in out.iterdir() if path.suffix in (".csv", ".toml", ".cgns")):
                self.assertRegex(contents, rf"(?m)^{re.escape(name)}  +\w")
            stamp = (out / "mesh.cgns").stat().st_mtime_ns
            again = self.run_command("run", str(folder / "fly.toml"), "--out", str(out), "--no-figures")
            self.assertEqual(again.exit_code, 0)
            self.assertEqual((out / "mesh.cgns").stat().st_mtime_ns, stamp)  # nothing is made twice
            shown = self.run_command("show", str(out))
            self.assertEqual(shown.exit_code, 0, shown.output)
            self.assertIn("forces at", shown.output)
            self.check_report(out)
            for words, said in (
                (["--of", "air", "--alpha", "3"], "no point"),
                (["--out", str(out / "a.mov")], "written as .gif"),
            ):
                printed = self.run_command("animate", str(out), *words)
                self.assertEqual(printed.exit_code, 2, printed.output)
                self.assertIn(said, printed.output)

    def check_report(self, out: Path):
        printed = self.run_command("report", str(out))
        self.assertEqual(printed.exit_code, 0, printed.output)
        page = (out / "report.html").read_text(encoding="utf-8")
        for words in (
            "<title>plank</title>",
            "Every point converged",
            "Mesh error: unknown",
            "static margin",
            "alpha 4 deg, M 0.2",
            "fingerprint",
            "data:image/png;base64,",
        ):
            self.assertIn(words, page)
        own = page.replace("\n", " ")
        self.assertNotRegex(own, r'<(script|link|img)[^>]+(src|href)="http')  # needs no network
        self.assertLess(page.index('id="outcome"'), page.index('id="polar"'))
        ball = zy.Body.ellipsoid(3.0, 0.4).surface(tolerance=2e-3)
        field = np.stack([ball.points[:, 0], np.ones(len(ball.points))], axis=1)
        self.assertIs(decimated(ball, field, len(ball.triangles))[0], ball)
        least, values = decimated(ball, field, 600)  # of large meshes, so that the page stays small
        self.assertTrue(300 < len(least.triangles) <= 600, len(least.triangles))
        np.testing.assert_allclose(values, np.stack([least.points[:, 0], np.ones(len(least.points))], axis=1))
        self.assertAlmostEqual(least.area() / ball.area(), 1.0, delta=0.1)
        half = half_surface(ball)  # both halves of a mirrored body meet in their plane
        both = joined([half, half.mirrored()], "both")
        self.assertEqual(len(decimated(both, both.points, 600)[0].open_edges), 0)
        wrong = self.run_command("report", str(out), "--out", str(out / "page.pdf"))
        self.assertEqual(wrong.exit_code, 2)

    def test_mistakes_are_reported_with_their_place(self):
        with tempfile.TemporaryDirectory() as held:
            folder = Path(held)
            wing().write(folder / "plank.toml")
            good = '[aircraft]\nfile = "plank.toml"\n[sweep]\nmach = 0.2\nalpha = 2\n'
            for text, words in (
                (good.replace("plank", "missing"), "does not exist beside the study"),
                (good + "[mesh]\nfinenes = 1\n", "fly.toml:7: mesh.finenes: unknown key"),
                (good + "[mesh]\ny_plus = 1\n", "no meaning"),
                (good + "[mesh]\nfineness = 'rough'\n", "resolution"),
            ):
                (folder / "fly.toml").write_text(text, encoding="utf-8")
                printed = CliRunner().invoke(main, ["run", str(folder / "fly.toml"), "--out", str(folder / "out")])
                self.assertEqual(printed.exit_code, 2, printed.output)
                self.assertIn(words, printed.output)
