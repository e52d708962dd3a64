"""One case, one fingerprint: nothing that a solution depends on is left out, and nothing stale is taken for it."""

import json
import pickle
import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

import zephyrum as zy
from zephyrum._core.fingerprint import canonical, differences, fingerprint
from zephyrum.flow.outcome import Outcome
from zephyrum.mesh.mesh_store import read_stored_mesh, store_mesh, stored_notes
from zephyrum.solver import steady
from zephyrum.solver.checkpoint import Checkpoint

QUICK = zy.Numerics(residual_drop=2, max_iterations=3)


class Fingerprints(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 24, topology="O", first_height=1e-3, farfield=20)
        cls.case = zy.Case(cls.mesh, zy.Freestream(mach=0.2, reynolds=1e3, alpha=2.0), "laminar")

    def test_everything_that_a_solution_depends_on_changes_it(self):
        air = self.case.air
        other = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 24, topology="O", first_height=1.1e-3, farfield=20)
        variants = {
            "mesh.fingerprint": replace(self.case, mesh=other),
            "freestream.mach": replace(self.case, air=air.at_mach(0.21)),
            "freestream.alpha": self.case.turned(alpha=3.0),
            "freestream.reynolds": replace(self.case, air=zy.Freestream(mach=0.2, reynolds=1.1e3, alpha=2.0)),
            "freestream.temperature": replace(
                self.case, air=zy.Freestream(mach=0.2, reynolds=1e3, alpha=2.0, temperature=300.0)
            ),
            "freestream.gas.prandtl": replace(
                self.case, air=zy.Freestream(mach=0.2, reynolds=1e3, alpha=2.0, gas=zy.Gas(prandtl=0.7))
            ),
            "model": replace(self.case, model="euler"),
            "walls.airfoil": replace(self.case, walls=zy.Wall(temperature=300.0)),
            "reference.chord": replace(self.case, reference=replace(self.case.reference, chord=1.01)),
            "numerics.reconstruction.kappa": replace(
                self.case, numerics=zy.Numerics(reconstruction=zy.Reconstruction(kappa=0.0))
            ),
        }
        prints = {self.case.fingerprint}
        for name, case in variants.items():
            with self.subTest(name):
                self.assertIn(name, case.differences(self.case))
                prints.add(case.fingerprint)
        self.assertEqual(len(prints), 1 + len(variants))

    def test_how_the_same_stream_was_given_does_not(self):
        sea = zy.Freestream(mach=0.2, altitude=0.0)
        same = zy.Freestream(speed=sea.speed, pressure=101325.0, temperature=288.15)
        one, two = (zy.Case(self.mesh, air, "laminar") for air in (sea, same))
        self.assertEqual(one.differences(two), [])
        self.assertEqual(one.fingerprint, two.fingerprint)
        plain = replace(self.case, walls={"airfoil": zy.Wall()})
        self.assertEqual(plain.fingerprint, self.case.fingerprint)

    def test_it_survives_a_process_boundary(self):
        _ = self.case.wall_rows
        again = pickle.loads(pickle.dumps(self.case))
        self.assertEqual(again.fingerprint, self.case.fingerprint)

    def test_descriptions_of_values(self):
        self.assertEqual(canonical({"b": (1, 2.0), "a": np.float64(0.1)}), {"a": 0.1, "b": [1, 2.0]})
        self.assertEqual(fingerprint(0.1 + 0.2), fingerprint(0.3))
        self.assertNotEqual(fingerprint(np.arange(3)), fingerprint(np.arange(3.0)))
        self.assertEqual(differences({"a": {"b": 1}, "c": 2}, {"a": {"b": 2}, "d": 2}), ["a.b", "c", "d"])
        with self.assertRaises(TypeError):
            canonical(object())

    def test_a_checkpoint_of_other_walls_is_not_taken(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "c.going"
            made = Checkpoint.of(path, self.case)
            made(np.ones((3, 5)), np.zeros(3, dtype=bool), 10.0, [(1.0,)])
            made.flush()
            self.assertIsNotNone(Checkpoint.of(path, self.case).read())
            self.assertIsNone(Checkpoint.of(path, replace(self.case, walls=zy.Wall(temperature=300.0))).read())
            path.write_bytes(path.read_bytes()[:-40])
            self.assertIsNone(Checkpoint.of(path, self.case).read())


class SolutionFiles(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 24, topology="O", first_height=1e-3, farfield=20)
        cls.air = zy.Freestream(speed=60.0, altitude="3000 m", alpha=2.0)
        cls.walls = {"airfoil": zy.Wall(temperature=300.0)}
        cls.solution = zy.solve(cls.mesh, cls.air, "laminar", numerics=QUICK, walls=cls.walls)

    def setUp(self):
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.folder = Path(scratch.name)

    def test_the_case_is_inside(self):
        again = zy.load_solution(self.solution.save(self.folder / "s.npz"))
        self.assertEqual(again.case.fingerprint, self.solution.case.fingerprint)
        self.assertEqual(again.forces.coefficients(), self.solution.forces.coefficients())
        self.assertEqual(
            (again.air.altitude, again.outcome, again.reason), (3000.0, self.solution.outcome, self.solution.reason)
        )
        self.assertEqual(again.case.walls, self.walls)
        np.testing.assert_array_equal(again.mesh.points, self.mesh.points)
        self.assertEqual(again.mesh.recipe["section"], "NACA 0012")

    def test_or_refers_to_a_kept_mesh(self):
        stored = store_mesh(self.mesh, self.folder / "mesh.cgns", "a key")
        path = self.solution.save(self.folder / "points" / "s.npz", stored)
        moved = self.folder / "elsewhere"
        shutil.copytree(self.folder, moved, ignore=shutil.ignore_patterns("elsewhere"))
        self.assertEqual(zy.load_solution(moved / "points" / "s.npz").forces.CL, self.solution.forces.CL)
        self.assertLess(path.stat().st_size, self.solution.save(self.folder / "whole.npz").stat().st_size)
        zy.write_mesh(self.mesh.coarser, stored)
        with self.assertRaisesRegex(zy.FileError, "not the one it was"):
            zy.load_solution(path)
        stored.unlink()
        with self.assertRaisesRegex(zy.FileError, "missing or damaged"):
            zy.load_solution(path)

    def test_damaged_notes_of_a_kept_mesh_are_refused(self):
        with tempfile.TemporaryDirectory() as folder:
            stored = store_mesh(self.mesh, Path(folder) / "mesh.cgns")
            path = stored.with_suffix(".json")
            whole = json.loads(path.read_text())
            for name in ("wedge", "attitude", "reference", "groups", "recipe", "fingerprint"):
                notes = {key: value for key, value in whole.items() if key != name}
                path.write_text(json.dumps(notes))
                with self.subTest(name), self.assertRaisesRegex(zy.FileError, "run the study again"):
                    read_stored_mesh(stored)
            path.write_text(json.dumps(whole | {"wedge": "x"}))
            with self.assertRaisesRegex(zy.FileError, "wedge = 'x' is no number"):
                read_stored_mesh(stored)

    def test_a_kept_mesh_comes_back_with_its_family(self):
        stored = store_mesh(self.mesh, self.folder / "mesh.cgns", "a key")
        again = read_stored_mesh(stored)
        self.assertEqual([m.fingerprint for m in again.family()], [m.fingerprint for m in self.mesh.family()])
        np.testing.assert_array_equal(again.parent, self.mesh.parent)
        self.assertEqual((again.reference, stored_notes(stored)["made from"]), (self.mesh.reference, "a key"))

    def test_what_was_changed_is_refused_by_name(self):
        path = self.solution.save(self.folder / "s.npz")
        for name, change in (
            ("freestream.pressure", lambda facts: facts["freestream"].update(altitude=2000.0)),
            ("freestream.beta|differ", lambda facts: facts["freestream"].update(alpha=3.0)),
            ("walls", lambda facts: facts.update(walls={})),
            ("numerics.reconstruction.kappa", lambda facts: facts["numerics"]["reconstruction"].update(kappa=0.5)),
            ("model", lambda facts: facts.update(model="sa")),
            ("another version", lambda facts: facts.update(format=1)),
        ):
            with np.load(path) as data:
                arrays = {key: data[key] for key in data.files}
            facts = json.loads(str(arrays.pop("facts")))
            change(facts)
            other = self.folder / "other.npz"
            np.savez(other, facts=json.dumps(facts), **arrays)
            with self.subTest(name), self.assertRaisesRegex(zy.FileError, name):
                zy.load_solution(other)

    def test_damage_is_refused(self):
        path = self.solution.save(self.folder / "s.npz")
        data = bytearray(path.read_bytes())
        for position in (200, len(data) // 2, len(data) - 300):
            broken = bytearray(data)
            broken[position] ^= 0xFF
            (self.folder / "broken.npz").write_bytes(broken)
            with self.subTest(position), self.assertRaises(zy.FileError):
                zy.load_solution(self.folder / "broken.npz")


class Neighbours(unittest.TestCase):
    def test_a_condition_that_does_not_follow_from_its_neighbour_is_reached_over_the_middle(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
        begin = steady.run_case(zy.Case(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3)))
        asked, solved = [], steady.solve_steady

        def fails_first(problem, *given):
            asked.append(problem.air.alpha)
            flow = solved(problem, *given)
            return replace(flow, outcome=Outcome.OSCILLATING) if len(asked) == 1 else flow

        case = begin.case.turned(alpha=2.0)
        with mock.patch.object(steady, "solve_steady", fails_first):
            run = steady.run_case(case, begin)
        self.assertEqual(asked, [2.0, 1.0, 2.0])
        self.assertEqual((run.flow.outcome, run.fallback), (Outcome.CONVERGED, ""))
        direct = steady.run_case(case)
        self.assertAlmostEqual(run.flow.history.rows[-1][-3], direct.flow.history.rows[-1][-3], 3)


class StalePoints(unittest.TestCase):
    """What a folder of a sweep holds is only taken for what it is."""

    @classmethod
    def setUpClass(cls):
        cls.mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 48, 24, topology="O", first_height=1e-3, farfield=20)

    def setUp(self):
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.folder = Path(scratch.name)

    def sweep(self, alpha=(2.0,), **more):
        return zy.sweep(self.mesh, alpha, 0.2, model="laminar", numerics=QUICK, folder=self.folder, processes=1, **more)

    def test_points_of_another_reynolds_number_are_not_returned(self):
        first = self.sweep(reynolds=1e3)
        with self.assertRaisesRegex(zy.InputError, "holds another study.*freestream.reynolds"):
            self.sweep(reynolds=3e3)
        again = self.sweep(reynolds=1e3)
        self.assertEqual(first.table["CD"].tolist(), again.table["CD"].tolist())

    def test_nor_of_other_walls_or_gas(self):
        self.sweep(reynolds=1e3)
        with self.assertRaisesRegex(zy.InputError, "walls.airfoil"):
            self.sweep(reynolds=1e3, walls=zy.Wall(temperature=310.0))
        with self.assertRaisesRegex(zy.InputError, "freestream.gas.prandtl"):
            self.sweep(air=zy.Freestream(mach=0.2, reynolds=1e3, gas=zy.Gas(prandtl=0.8)))

    def test_a_refused_sweep_leaves_the_folder_free(self):
        with self.assertRaises(zy.InputError):
            zy.sweep(self.mesh, 2.0, 0.2, model="sst", reynolds=1e8, folder=self.folder)
        self.assertEqual(len(self.sweep(reynolds=1e3).table), 1)

    def test_arguments_without_effect_are_refused_by_name(self):
        air = zy.Freestream(mach=0.2, reynolds=1e3)
        for more, word in (
            ({"air": air, "reynolds": 1e3}, "reynolds"),
            ({"air": air, "around": 64}, "around"),
            ({"air": air, "ground": "belt"}, "ground"),
        ):
            with self.subTest(word), self.assertRaisesRegex(zy.InputError, word):
                self.sweep(**more)
        with self.assertRaisesRegex(zy.InputError, "processes"):
            zy.sweep(self.mesh, 2.0, 0.2, processes=2, scheduler="tcp://127.0.0.1:9")
        with self.assertRaisesRegex(zy.InputError, "growth"):
            zy.refine(self.mesh, air, growth=1.2)

    def test_any_stored_point_comes_back_by_its_condition(self):
        polar = self.sweep((0.0, 2.0), reynolds=1e3)
        found = zy.open_results(self.folder)
        self.assertEqual(len(found.table()), 2)
        solution = found.solution(alpha=2)
        self.assertEqual(solution.forces.CD, polar.table["CD"][1])
        self.assertEqual(solution.case.fingerprint, polar.table["case"][1])
        with self.assertRaisesRegex(zy.InputError, "0 points.*alpha 5.*there are"):
            found.solution(alpha=5)
        with self.assertRaisesRegex(zy.InputError, "2 points"):
            found.solution(mach=0.2)
        with self.assertRaisesRegex(zy.InputError, "colour"):
            found.solution(colour=3)

    def test_a_damaged_point_is_named_and_computed_again(self):
        whole = self.sweep((0.0, 2.0), reynolds=1e3)
        state = self.folder / "points" / "m0.2000_a+002.000.npz"
        data = bytearray(state.read_bytes())
        data[len(data) // 2] ^= 0xFF
        state.write_bytes(data)
        with self.assertLogs("zephyrum", "WARNING") as printed:
            again = self.sweep((0.0, 2.0), reynolds=1e3)
        self.assertIn("m0.2000_a+002.000", printed.output[0])
        self.assertEqual(whole.table["CD"].tolist(), again.table["CD"].tolist())
        self.assertEqual(zy.open_results(self.folder).solution(alpha=2).forces.CD, whole.table["CD"][1])


if __name__ == "__main__":
    unittest.main()
