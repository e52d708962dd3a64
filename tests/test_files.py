"""What is written to disk: open formats that explain themselves, whole or not at all, and refused when stale."""

import json
import shutil
import tempfile
import unittest
import xml.etree.ElementTree as ET
from importlib import resources
from pathlib import Path
from unittest import mock

import h5py
import numpy as np
import pandas as pd

import zephyrum as zy
from zephyrum._core.atomic_files import atomic_write, write_text
from zephyrum.studies.spec import template


class OnDisk(unittest.TestCase):
    def setUp(self):
        self.scratch = tempfile.TemporaryDirectory()
        self.folder = Path(self.scratch.name)

    def tearDown(self):
        self.scratch.cleanup()


class MeshFiles(OnDisk):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012", "blunt"), 48, 16, topology="C")

    def test_vtu_is_a_standard_grid_of_polyhedra_and_boundary_polygons(self):
        path = zy.write_mesh(self.mesh, self.folder / "m.vtu", {"cp": np.linspace(0, 1, self.mesh.n_cells)})
        root = ET.parse(path).getroot()
        self.assertEqual((root.tag, root.get("type")), ("VTKFile", "UnstructuredGrid"))
        piece = root.find("UnstructuredGrid/Piece")
        boundary = self.mesh.n_faces - self.mesh.n_interior + 2 * self.mesh.n_cells
        self.assertEqual(int(piece.get("NumberOfCells")), self.mesh.n_cells + boundary)
        self.assertEqual(int(piece.get("NumberOfPoints")), len(self.mesh.points))
        names = {node.get("Name") for node in piece.iter("DataArray")}
        self.assertLessEqual({"connectivity", "offsets", "types", "faces", "faceoffsets", "boundary", "cp"}, names)

    def test_cgns_has_the_nodes_of_the_standard(self):
        fields = {"mach": np.ones(self.mesh.n_cells), "velocity": np.ones((self.mesh.n_cells, 3))}
        path = zy.write_mesh(self.mesh, self.folder / "m.cgns", fields)
        with h5py.File(path) as file:
            self.assertEqual(file.attrs["label"], b"Root Node of HDF5 File")
            zone = file["Base/Zone"]
            self.assertEqual(zone.attrs["label"], b"Zone_t")
            self.assertEqual(zone[" data"][:].ravel().tolist(), [len(self.mesh.points), self.mesh.n_cells, 0])
            self.assertEqual(zone["Faces/ data"][0], 22)
            self.assertEqual(zone["Cells/ data"][0], 23)
            self.assertEqual(set(zone["ZoneBC"]), {"airfoil", "farfield", "sides"})
            self.assertEqual(zone["ZoneBC/airfoil/ data"][:].tobytes(), b"BCWall")
            self.assertLessEqual({"mach", "velocityX", "velocityY", "velocityZ"}, set(zone["Solution"]))
            used = np.abs(zone["Cells/ElementConnectivity/ data"][:])
            self.assertEqual(np.bincount(used).max(), 2)  # a face belongs to two cells at most

    def test_another_reader_finds_every_polyhedron_and_field_of_a_cgns_file(self):
        try:
            from vtkmodules.util.numpy_support import vtk_to_numpy
            from vtkmodules.vtkCommonCore import vtkLogger
            from vtkmodules.vtkIOCGNSReader import vtkCGNSReader
        except ImportError:
            self.skipTest("VTK is not there")
        ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=1e-2), 200, stretch=1.0).surface
        mesh = zy.mesh_surface(ball, farfield=3.0, growth=0.6)
        path = zy.write_mesh(mesh, self.folder / "ball.cgns", {"mach": np.arange(mesh.n_cells, dtype=float)})
        vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)
        reader = vtkCGNSReader()
        reader.SetFileName(str(path))
        reader.UpdateInformation()
        reader.EnableAllBases()
        reader.EnableAllFamilies()
        reader.EnableAllCellArrays()
        reader.Update()
        cells = reader.GetOutput().GetBlock(0).GetBlock(0)
        self.assertEqual(cells.GetNumberOfCells(), mesh.n_cells)
        self.assertEqual({cells.GetCellType(k) for k in range(0, mesh.n_cells, 17)}, {42})  # polyhedra
        self.assertEqual(cells.GetCell(3).GetNumberOfFaces(), int(np.diff(mesh.cell_faces[0])[3]))
        np.testing.assert_array_equal(vtk_to_numpy(cells.GetCellData().GetArray("mach")), np.arange(mesh.n_cells))
        np.testing.assert_allclose(cells.GetBounds(), np.stack([mesh.points.min(0), mesh.points.max(0)]).T.ravel())

    def test_roles_and_dimension_survive(self):
        changed = self.mesh.with_roles(airfoil="slip")
        for ending in ("vtu", "cgns"):
            again = zy.read_mesh(zy.write_mesh(changed, self.folder / f"m.{ending}"))
            self.assertEqual([g.role for g in again.groups], ["slip", "farfield"])
            self.assertNotEqual(again.fingerprint, self.mesh.fingerprint)

    def test_nothing_half_written_is_left(self):
        zy.write_mesh(self.mesh, self.folder / "m.vtu")
        self.assertEqual([p.name for p in self.folder.iterdir()], ["m.vtu"])


class PlacesThatRefuse(OnDisk):
    """A file where a folder should be stands for a disk that refuses: it refuses root too."""

    def setUp(self):
        super().setUp()
        (self.folder / "taken").write_text("a file")
        self.nowhere = self.folder / "taken" / "inside"

    def test_every_writer_says_what_to_do(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 16, topology="O")
        ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=0.05)
        writers = (
            lambda: zy.write_mesh(mesh, self.nowhere / "m.vtu"),
            lambda: ball.write(self.nowhere / "ball.stl"),
            lambda: zy.Polar(pd.DataFrame({"CL": [0.1]}), {}).write(self.nowhere / "polar.csv"),
            lambda: zy.Aircraft.read(str(resources.files("zephyrum") / "data" / "skerry-mailplane.toml")).write(
                self.nowhere / "a.toml"
            ),
            lambda: zy.solve(mesh, zy.Freestream(mach=0.3), keep=self.nowhere / "run.npz"),
        )
        for writer in writers:
            with self.assertRaisesRegex(zy.FileError, "taken.*can't be written.*choose another place"):
                writer()

    def test_what_stood_there_survives_a_writing_that_fails(self):
        path = self.folder / "kept.txt"
        write_text(path, "old")
        with self.assertRaises(ZeroDivisionError), atomic_write(path) as temporary:
            temporary.write_text("half")
            int(1 / 0)
        self.assertEqual(path.read_text(), "old")
        self.assertEqual(sorted(one.name for one in self.folder.iterdir()), ["kept.txt", "taken"])

    def test_folders_are_made(self):
        write_text(self.folder / "a" / "b" / "c.txt", "here")
        self.assertEqual((self.folder / "a" / "b" / "c.txt").read_text(), "here")

    def test_a_checkpoint_that_can_not_be_written_costs_a_warning_and_not_the_run(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 16, topology="O")
        stored = self.folder / "runs" / "one.npz"
        with (
            mock.patch("zephyrum.solver.checkpoint.SAVE_INTERVAL", 0.0),
            self.assertWarnsRegex(RuntimeWarning, "goes on without a new checkpoint.*can't be written"),
        ):

            def spoil(row):
                if stored.parent.is_dir():
                    shutil.rmtree(stored.parent)
                    stored.parent.write_text("in the way")

            solution = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=1.0), keep=stored, on_step=spoil)
        self.assertEqual(solution.outcome, "converged")


class Tables(OnDisk):
    def test_polar_is_a_plain_csv_with_a_sidecar_that_says_how_it_was_made(self):
        polar = zy.sweep(zy.Airfoil.naca("0012"), [0, 2], [0.3], processes=1, around=64, outward=16, topology="O")
        path = polar.write(self.folder / "polar.csv")
        table = pd.read_csv(path)
        self.assertEqual(len(table), 2)
        for name in ("mach", "alpha", "CL", "CD", "CM", "outcome", "mesh", "cells", "seconds", "model"):
            self.assertIn(name, table.columns)
        notes = json.loads(path.with_suffix(".json").read_text())
        self.assertEqual(notes["mesh"]["fingerprint"], table["mesh"][0])
        self.assertAlmostEqual(notes["reference"]["chord"], 1.0, delta=1e-3)
        self.assertEqual(notes["numerics"]["residual_drop"], 8.0)
        with self.assertRaisesRegex(zy.FileError, "does not exist"):
            zy.Polar.read(self.folder / "none.csv")
        path.with_suffix(".json").write_text("{")
        with self.assertRaisesRegex(zy.FileError, "can't be read"):
            zy.Polar.read(path)


class StudyText(OnDisk):
    def study(self, text):
        path = self.folder / "s.toml"
        path.write_text(text)
        return zy.read_study(path)

    def template(self):
        return template("section").format(file="s.toml", title="mine")

    def test_the_template_is_valid_as_it_stands(self):
        study = self.study(self.template())
        self.assertEqual(study.title, "mine")
        self.assertEqual(study.sweep.alpha, [-4, -2, 0, 2, 4, 6, 8])
        self.assertEqual(study.numerics(8.0), zy.Numerics())
        self.assertEqual(study.source().shape.name, "NACA 2412")

    def test_units_and_true_size(self):
        text = self.template().replace('chord = "1 m"', 'chord = "160 cm"').replace('"0 ft"', '"8000 ft"')
        study = self.study(text)
        self.assertAlmostEqual(study.source().shape.chord, 1.6)
        air = study.freestream(0.3, 2.0, 1.6)
        self.assertAlmostEqual(air.altitude, 2438.4)
        self.assertAlmostEqual(air.length, 1.6)
        self.assertEqual((air.mach, air.alpha), (0.3, 2.0))

    def test_single_numbers_lists_and_ranges(self):
        for given, expected in (
            ("2", [2.0]),
            ("[0, 1.5]", [0.0, 1.5]),
            ("{ from = 0, to = 1, step = 0.25 }", [0.0, 0.25, 0.5, 0.75, 1.0]),
            ("{ from = 0.1, to = 0.3, step = 0.1 }", [0.1, 0.2, 0.3]),
        ):
            text = self.template().replace("{ from = -4, to = 8, step = 2 }", given)
            self.assertEqual(self.study(text).sweep.alpha, expected)

    def test_every_kind_of_section(self):
        zy.Airfoil.naca("2415").write(self.folder / "tip.dat")
        base = self.template()
        named = self.study(base.replace('naca = "2412"', 'file = "tip.dat"'))
        self.assertAlmostEqual(named.source().shape.measures.thickness, 0.15, delta=1e-3)
        shaped = self.study(base.replace('naca = "2412"', "class_shape = { upper = [0.2, 0.2], lower = [-0.2, -0.2] }"))
        self.assertAlmostEqual(shaped.source().shape.measures.camber, 0.0, delta=1e-7)
        flapped = self.study(base.replace("# flap", "flap"))
        self.assertTrue(any("flap" in note for note in flapped.source().shape.notes))

    def test_mistakes_are_reported_with_their_line(self):
        lines = self.template().splitlines()
        for old, new, key in (
            ("around = 128", 'around = "many"', "mesh.around"),
            ("residual_drop = 8", "order = 8", "solver.order"),
            ("mach = [0.2, 0.6]", "mach = [0.2, 'x']", "sweep.mach"),
            ("levels = 3", "levels = 1", "refine.levels"),
            ("processes = 2", "processes = 1.5", "run.processes"),
        ):
            number = next(k for k, line in enumerate(lines, 1) if line.startswith(old))
            with self.subTest(new), self.assertRaisesRegex(zy.InputError, f"s.toml:{number}: {key}"):
                self.study(self.template().replace(old, new, 1))

    def test_nothing_to_compute_is_refused(self):
        with self.assertRaisesRegex(zy.InputError, "nothing to compute"):
            self.study('[section]\nnaca = "0012"\n')

    def test_the_demo_is_a_valid_study(self):
        study = self.study((resources.files("zephyrum") / "data" / "skerry.toml").read_text())
        self.assertEqual((min(study.sweep.alpha), max(study.sweep.alpha)), (-4.0, 18.0))
        self.assertEqual((study.sweep.mach, study.solver.models), ([0.2], ["panel", "sa"]))
        self.assertGreaterEqual(len(study.source().mesh(0.0, None).family()), study.refine.levels)
        self.assertAlmostEqual(study.source().shape.measures.thickness, 0.1226, delta=1e-3)


class CommandLine(OnDisk):
    def run_words(self, *words):
        from click.testing import CliRunner

        from zephyrum.cli.main import main

        return CliRunner().invoke(main, [str(word) for word in words])

    def test_walls_and_a_march_in_time_are_run_and_shown(self):
        text = (
            '[section]\nnaca = "0030"\n[air]\nreynolds = 200\n[mesh]\ntopology = "O"\naround = 32\noutward = '
            "16\nfirst_height = 0.02\n"
            'farfield = 10\n[solver]\nmodel = "laminar"\n[walls]\ntemperature = "320 K"\n[time]\nmach = 0.1\nalpha = '
            "10\n"
            "duration = 1\nstep = 0.2\n[run]\nprocesses = 1\n"
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "t.toml"
            path.write_text(text)
            for words in (["run", str(path), "--out", f"{folder}/out"], ["show", f"{folder}/out"]):
                result = self.run_words(*words)
                self.assertEqual(result.exit_code, 0, result.output)
                self.assertIn("1 chords travelled", result.output)
                self.assertIn("fewer than three oscillations", result.output)
            self.assertEqual(len((Path(folder) / "out" / "time.csv").read_text().splitlines()), 7)
            self.assertTrue((Path(folder) / "out" / "figures" / "time.png").is_file())

    def test_every_command_explains_itself(self):
        for name in ("demo", "run", "show", "new", "section", "shape", "mesh", "refine"):
            result = self.run_words(name, "--help")
            self.assertEqual(result.exit_code, 0)
            self.assertIn("Usage", result.output)
            self.assertIn(name, self.run_words("--help").output)
        self.assertIn("0.2.0", self.run_words("--version").output)

    def test_what_does_not_settle_gives_exit_code_1_and_says_so(self):
        text = template("section").format(file="s.toml", title="cut short")
        text = text.replace("residual_drop = 8", "residual_drop = 8\nmax_iterations = 1").replace("[0.2, 0.6]", "0.3")
        text = (
            text.replace("{ from = -4, to = 8, step = 2 }", "[2]")
            .replace("around = 128", "around = 96")
            .replace("processes = 2", "processes = 1")
        )
        (self.folder / "s.toml").write_text(text)
        result = self.run_words("run", self.folder / "s.toml", "--out", self.folder / "o", "--no-figures")
        self.assertEqual(result.exit_code, 1, result.output)
        self.assertIn("not converged: M 0.3, alpha 2 deg: oscillating, 1 steps were not enough", result.output)
        self.assertIn("did not converge", result.output)

    def test_shape_reports_what_it_recognised_and_measured(self):
        points = zy.Airfoil.naca("4412").points[::8] * 100
        path = self.folder / "tip.txt"
        path.write_text("Tip\n" + "\n".join(f"{x:.4f};{z:.4f}" for x, z in points))
        result = self.run_words("section", path, "--flap", "0.7", "12", "--flip")
        self.assertEqual(result.exit_code, 0, result.output)
        for words in ("header of 1 line", "percent of chord", "plain flap 12 deg", "nose radius", "tail angle"):
            self.assertIn(words, result.output)

    def test_new_does_not_overwrite(self):
        path = self.folder / "mine.toml"
        self.assertEqual(self.run_words("new", path, "--title", 'the "best"').exit_code, 0)
        self.assertEqual(zy.read_study(path).title, "the 'best'")
        self.assertEqual(self.run_words("new", path).exit_code, 2)

    def test_mesh_writes_what_it_reports(self):
        result = self.run_words("mesh", "naca0012", "--around", 64, "--outward", 16, "--out", self.folder / "m.vtu")
        self.assertEqual(result.exit_code, 0, result.output)
        mesh = zy.read_mesh(self.folder / "m.vtu")
        self.assertIn(mesh.fingerprint, result.output)
        self.assertIn(f"{mesh.n_cells} cells", result.output)
