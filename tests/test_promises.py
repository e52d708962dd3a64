"""What the README promises, word for word, and what happens when a run is disturbed."""

import contextlib
import io
import os
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.flow.discretization.limiter import least_weight, limiter_weight
from zephyrum.flow.physics.inviscid_flux import euler_flux, roe_flux
from zephyrum.flow.physics.smoothing import smoothstep

TOP = Path(__file__).parents[1]
README = (TOP / "README.md").read_text(encoding="utf-8")


class Readme(unittest.TestCase):
    def test_the_example_runs_as_printed(self):
        (block,) = re.findall(r"```python\n(.*?)```", README, re.S)
        names: dict = {}
        with contextlib.redirect_stdout(io.StringIO()) as said:
            exec(compile(block, "README.md", "exec"), names)
        self.assertIn("converged", said.getvalue())
        self.assertLessEqual(len([line for line in block.splitlines() if line.strip()]), 11)
        self.assertEqual(names["solution"].outcome, "converged")

    def test_every_command_named_exists(self):
        from zephyrum.cli.main import main

        named = set(re.findall(r"`zephyrum ([\w-]+)", README))
        self.assertEqual(named, set(main.commands))

    def test_every_picture_linked_exists_and_every_picture_is_linked(self):
        linked = set(re.findall(r"docs/screenshots/([\w.\-]+\.png)", README))
        present = {path.name for path in (TOP / "docs" / "screenshots").glob("*.png")}
        self.assertEqual(linked, present)
        self.assertLess(len(present), 20)

    def test_every_public_name_is_explained(self):
        for name in zy.__all__:
            self.assertTrue((getattr(zy, name).__doc__ or "").strip(), name)

    def test_make_targets_named_exist(self):
        targets = set(re.findall(r"^(\w+):", (TOP / "Makefile").read_text(), re.M))
        self.assertLessEqual(set(re.findall(r"make (\w+)", README)) - {"targets"}, targets)


class Disturbed(unittest.TestCase):
    def test_a_worker_that_is_killed_ends_in_exit_code_3_and_a_resumable_folder(self):
        with tempfile.TemporaryDirectory() as folder:
            study = Path(folder) / "s.toml"
            study.write_text(
                '[section]\nnaca = "0012"\n[mesh]\naround = 96\n[sweep]\nmach = [0.3, 0.4]\nalpha = { from = 0, to = '
                "10, step = 1 }\n"
            )
            words = [
                sys.executable,
                "-m",
                "zephyrum.cli.main",
                "run",
                str(study),
                "--out",
                f"{folder}/o",
                "--no-figures",
            ]
            process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)

            def kill_a_worker():
                deadline = time.time() + 150
                while time.time() < deadline:
                    listed = subprocess.run(
                        ["pgrep", "-P", str(process.pid), "-f", "forkserver"], capture_output=True, text=True
                    )
                    workers = listed.stdout.split()
                    if workers and list(Path(folder).glob("o/points/*.json")):
                        os.kill(int(workers[0]), signal.SIGKILL)
                        return
                    time.sleep(0.05)

            killer = threading.Thread(target=kill_a_worker)
            killer.start()
            _, err = process.communicate(timeout=240)
            killer.join()
            self.assertEqual(process.returncode, 3, err)
            self.assertIn("run the same study again", err)
            self.assertNotIn("Traceback", err)
            again = subprocess.run(words, capture_output=True, text=True, timeout=200)
            self.assertEqual(again.returncode, 0, again.stderr)

    def test_a_callback_that_raises_is_not_swallowed(self):
        mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 64, 16, topology="O")

        def stop(row):
            raise RuntimeError("enough")

        with self.assertRaisesRegex(RuntimeError, "enough"):
            zy.solve(mesh, zy.Freestream(mach=0.3), on_step=stop)


class FluxProperties(unittest.TestCase):
    STATES = (
        ((0.0, 0.3, 0.1, -0.1, 1.0), (0.01, 0.28, 0.12, -0.08, 1.01)),
        ((0.2, 0.9, 0.0, 0.2, 1.1), (-0.1, 1.2, 0.1, 0.0, 0.8)),
        ((0.5, 2.0, -0.4, 0.3, 1.4), (0.0, 2.4, 0.0, 0.0, 1.0)),
        ((0.0, 0.01, 0.0, 0.0, 1.0), (1e-5, 0.011, 0.001, 0.0, 1.00001)),
    )

    def test_turning_the_axes_turns_the_momentum_flux(self):
        rng = np.random.default_rng(2)
        turn = np.linalg.qr(rng.standard_normal((3, 3)))[0]
        n = np.array([0.36, 0.48, 0.8])
        for left, right in self.STATES:
            there = [(s[0], *(turn @ np.array(s[1:4])), s[4]) for s in (left, right)]
            a = np.array(roe_flux(left, right, tuple(n), 1.4))
            b = np.array(roe_flux(there[0], there[1], tuple(turn @ n), 1.4))
            np.testing.assert_allclose(b[[0, 4]], a[[0, 4]], atol=1e-12)
            np.testing.assert_allclose(b[1:4], turn @ a[1:4], atol=1e-12)

    def test_between_the_two_sides_it_stays_near_their_mean(self):
        for left, right in self.STATES:
            mean = 0.5 * (
                np.array(euler_flux(left, (1.0, 0.0, 0.0), 1.4)) + np.array(euler_flux(right, (1.0, 0.0, 0.0), 1.4))
            )
            jump = np.abs(np.subtract(left, right)).max()
            self.assertLess(np.abs(np.array(roe_flux(left, right, (1.0, 0.0, 0.0), 1.4)) - mean).max(), 20.0 * jump)

    def test_dissipation_of_a_velocity_jump_falls_with_mach(self):
        def pressure_error(mach):
            left, right = (0.0, mach, 0.0, 0.0, 1.0), (0.0, 1.1 * mach, 0.0, 0.0, 1.0)
            mean = 0.5 * (euler_flux(left, (1.0, 0.0, 0.0), 1.4)[1] + euler_flux(right, (1.0, 0.0, 0.0), 1.4)[1])
            return abs(roe_flux(left, right, (1.0, 0.0, 0.0), 1.4)[1] - mean) / mach**2

        self.assertLess(pressure_error(0.01), 2.0 * pressure_error(0.1))  # bounded; unmended it grows like 1 / Mach

    def test_limiter_leaves_slow_smooth_flow_alone_and_meets_shocks(self):
        subsonic = (0.0, 0.3, 0.0, 0.0, 1.0)
        self.assertEqual(limiter_weight(0.0, subsonic, subsonic, 0.0, 0.0, 1.4), 0.0)
        fast = (0.0, 1.1, 0.0, 0.0, 1.0)
        self.assertEqual(limiter_weight(0.0, fast, subsonic, 0.0, 0.0, 1.4), 1.0)
        steep = (0.4, 0.3, 0.0, 0.0, 1.0)
        self.assertEqual(limiter_weight(0.0, steep, subsonic, 0.0, 0.0, 1.4), 1.0)
        self.assertEqual(limiter_weight(1.0, subsonic, subsonic, 0.0, 0.0, 1.4), 1.0)
        self.assertEqual(limiter_weight(-1.0, fast, fast, 0.0, 0.0, 1.4), 0.0)
        # with friction it counts everywhere once the stream is fast; without it never for that reason alone
        self.assertEqual([least_weight(zy.Limiter(), mach, True, False) for mach in (0.3, 0.7)], [0.0, 1.0])
        self.assertEqual(
            [least_weight(zy.Limiter(mode), 0.7, False, True) for mode in ("auto", "on", "off")], [0.0, 1.0, -1.0]
        )
        self.assertEqual(
            (smoothstep(0.0, 1.0, 2.0), smoothstep(1.5, 1.0, 2.0), smoothstep(3.0, 1.0, 2.0)), (0.0, 0.5, 1.0)
        )


if __name__ == "__main__":
    unittest.main()
