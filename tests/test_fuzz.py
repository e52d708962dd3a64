"""Files that come damaged: taken or refused by one sentence, whatever is in them (a short seeded part of `make
fuzz`).
"""

import struct
import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np

import zephyrum as zy
from validation import fuzz
from zephyrum._core import child_process as child
from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum.geometry.surface.surface_reader import read_triangles


class Mutations(unittest.TestCase):
    def test_every_kind_of_file_is_taken_or_refused(self):
        asked = [
            "coordinates=12",
            "section study=3",
            "aircraft=2",
            "stl text=8",
            "stl=8",
            "obj=8",
            "ply=3",
            "vtu mesh=3",
            "cgns=3",
            "solution=6",
            "checkpoint=8",
            "workspace=2",
        ]
        # a process of its own: one that has used threads can't be forked
        done = subprocess.run(
            [sys.executable, "-m", "validation.fuzz", "25", *asked],
            cwd=Path(fuzz.__file__).parents[1],
            capture_output=True,
            text=True,
            timeout=400,
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertEqual(len(done.stdout.splitlines()), len(asked))


class Hostile(unittest.TestCase):
    """Files that were seen to end the process, to fill it, or to be refused without a sentence."""

    def setUp(self):
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.folder = Path(scratch.name)

    def refused(self, call, path: Path, words: str) -> None:
        with self.assertRaisesRegex(zy.FileError, words) as printed:
            call(path)
        self.assertIn(path.name, str(printed.exception))

    def test_a_reader_that_ends_its_process_is_survived(self):
        (self.folder / "kills.py").write_text("import os\ndef read(path):\n    os.kill(os.getpid(), 11)\n")
        (self.folder / "fills.py").write_text(
            "import numpy as np\ndef read(path):\n    return {'a': np.ones(10**13)}\n"
        )
        (self.folder / "waits.py").write_text("import time\ndef read(path):\n    time.sleep(600)\n")
        path = self.folder / "x.vtu"
        path.write_text("x")
        with mock.patch("sys.path", [str(self.folder), *child.sys.path]):
            self.refused(lambda p: child.read_in_child("kills:read", p, "surface"), path, "ends its reader")
            self.refused(lambda p: child.read_in_child("fills:read", p, "surface"), path, "MemoryError|can't be read")
            with mock.patch.object(child, "START_SECONDS", 3.0):
                self.refused(lambda p: child.read_in_child("waits:read", p, "surface"), path, "within 3 s")

    def test_surfaces_with_cells_of_other_kinds_and_hostile_offsets(self):
        ball = zy.Body.ellipsoid(1.0, 0.5).surface(tolerance=0.05)
        path = ball.write(self.folder / "ball.vtu")
        again = read_triangles(path)
        np.testing.assert_allclose(again.points, ball.points)
        text = path.read_text()
        start = text.index('Name="connectivity"')
        position = text.index("\n", start) + 1
        path.write_text(text[:position] + "999999999 " + text[position:].split(" ", 1)[1])
        with self.assertRaises(zy.FileError):
            read_triangles(path)

    def test_points_of_two_numbers_and_faces_of_points_that_are_not_there(self):
        for name, text, words in (
            ("a.obj", "v 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "a.obj:1: not the numbers"),
            ("b.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 99999999999999999999\n", "does not exist"),
            (
                "c.stl",
                "solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n",
                "c.stl:4: not the numbers",
            ),
        ):
            path = self.folder / name
            path.write_text(text)
            with self.subTest(name), self.assertRaisesRegex(zy.FileError, words):
                read_triangles(path)

    def test_a_plain_grid_of_another_writer_is_refused_with_the_reason(self):
        path = self.folder / "plain.vtu"
        path.write_text(
            '<VTKFile type="UnstructuredGrid"><UnstructuredGrid><Piece NumberOfPoints="0" '
            'NumberOfCells="0"></Piece></UnstructuredGrid></VTKFile>'
        )
        self.refused(zy.read_mesh, path, "names no boundaries")

    def test_cgns_that_claims_petabytes(self):
        import h5py

        path = zy.write_mesh(zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O"), self.folder / "m.cgns")
        with h5py.File(path, "r+") as file:
            group = file["Base/Zone/GridCoordinates/CoordinateX"]
            del group[" data"]
            group.create_dataset(" data", shape=(2**52,), dtype="f8", chunks=(1024,))
        self.refused(zy.read_mesh, path, "more than the file holds")

    def test_arrays_that_claim_more_than_the_file_holds(self):
        path = self.folder / "a.npz"
        claims = "{'descr': '<f8', 'fortran_order': False, 'shape': (1000000000000,), }"
        for words, said in (
            (claims, "claims more values"),
            (claims[:-4], "."),
            (claims.replace("<f8", "x" * 100), "^.{,170}$"),
        ):
            header = b"\x93NUMPY\x01\x00" + struct.pack("<H", 246) + words.encode().ljust(245) + b"\n"
            with zipfile.ZipFile(path, "w") as archive:
                archive.writestr("q.npy", header)
            with self.assertRaisesRegex(DamagedArrays, said):
                read_arrays(path)
        np.savez(path, a=np.arange(6.0).reshape(2, 3), b=np.array("text"), c=np.asfortranarray(np.eye(2, 3)))
        made = read_arrays(path)
        np.testing.assert_array_equal(made["a"], np.arange(6.0).reshape(2, 3))
        np.testing.assert_array_equal(made["c"], np.eye(2, 3))
        self.assertEqual(str(made["b"]), "text")
        np.savez(path, a=np.array([{}], dtype=object))
        with self.assertRaisesRegex(DamagedArrays, "objects"):
            read_arrays(path)
        with self.assertRaisesRegex(DamagedArrays, "no array"):
            read_arrays(path, ("z",))

    def test_a_range_of_billions_is_refused_at_once(self):
        path = self.folder / "s.toml"
        path.write_text('[section]\nnaca = "0012"\n[sweep]\nmach = 0.3\nalpha = { from = 0, to = 5, step = 1e-9 }\n')
        with self.assertRaisesRegex(zy.InputError, "more than 500 values"):
            zy.read_study(path)


if __name__ == "__main__":
    unittest.main()
