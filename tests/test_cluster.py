"""A sweep on the workers of a scheduler gives the table of local processes, resumes, and says what is wrong with an
address.
"""

import tempfile
import unittest
from pathlib import Path

import pandas as pd

import zephyrum as zy


class TestCluster(unittest.TestCase):
    def test_the_same_table_as_here_and_nothing_computed_twice(self):
        from distributed import LocalCluster

        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=64, outward=24)
        ask = {"alpha": [0.0, 2.0, -2.0], "mach": 0.3, "numerics": zy.Numerics(residual_drop=4)}
        here = zy.sweep(mesh, processes=1, **ask).table
        folder = Path(tempfile.mkdtemp())
        with LocalCluster(n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None) as cluster:
            seen = []
            observer = zy.Observer()
            observer.finished = lambda task, row: seen.append(task)
            there = zy.sweep(mesh, scheduler=cluster.scheduler_address, folder=folder, observer=observer, **ask).table
            self.assertEqual(len(seen), 3)
            pd.testing.assert_frame_equal(here.drop(columns="seconds"), there.drop(columns="seconds"))
            self.assertEqual(len(list((folder / "points").glob("*.npz"))), 3)
            again = zy.sweep(mesh, scheduler=cluster.scheduler_address, folder=folder, observer=observer, **ask).table
            self.assertEqual(len(seen), 3)
            pd.testing.assert_frame_equal(again, there)

    def test_an_address_without_a_scheduler_is_reported(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=12)
        for address in ("tcp://127.0.0.1:9", "nowhere at all"):
            with self.assertRaisesRegex(zy.InputError, "does not answer"):
                zy.sweep(mesh, [0.0], 0.3, scheduler=address)


if __name__ == "__main__":
    unittest.main()
