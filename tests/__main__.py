"""Run all tests (or those named): `python -m tests [module ...]`; closes with `N passed, N failed`.

All of them run as two processes side by side, those of viscous flow and of aircraft shapes in one and the rest in the
other: most of a cold run is compiling, which is done by one core at a time and differs between the two.
"""

import os
import re
import subprocess
import sys
import time
import unittest
from pathlib import Path

FIRST = (
    "test_viscous", "test_flight", "test_walls", "test_unsteady", "test_adopt", "test_aircraft", "test_bodies", "test_clipped", "test_planned", "test_remesh", "test_shapes", "test_space", "test_solids", "test_wings", "test_bent_layers", "test_ground",
)  # fmt: skip
SHOWN = 12  # of the slowest tests


class Timed(unittest.TextTestResult):
    """Results that know how long every test took [s]."""

    def __init__(self, *given, **more):
        super().__init__(*given, **more)
        self.times = {}

    def startTest(self, test):
        self.begun = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test):
        super().stopTest(test)
        self.times[test.id()] = time.perf_counter() - self.begun


def main(names: list[str]) -> int:
    """0 if everything passed."""
    return named(names) if names else everything()


def named(names: list[str]) -> int:
    """Run the tests named in this process."""
    suite = unittest.defaultTestLoader.loadTestsFromNames([f"tests.{name}" for name in names])
    result = unittest.TextTestRunner(stream=sys.stdout, verbosity=2, resultclass=Timed).run(suite)
    slowest = sorted(result.times.items(), key=lambda item: -item[1])[:SHOWN]
    print("slowest: " + ", ".join(f"{name.removeprefix('tests.')} {seconds:.0f} s" for name, seconds in slowest))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"{passed} passed, {failed} failed" + (f", {len(result.skipped)} skipped" if result.skipped else ""))
    return 1 if failed or not result.testsRun else 0


def everything() -> int:
    """Run both halves, print what they said one after the other, and the sum."""
    rest = sorted(path.stem for path in Path(__file__).parent.glob("test_*.py") if path.stem not in FIRST)
    alone = os.environ | {
        "NUMBA_NUM_THREADS": "1",
        "OPENBLAS_NUM_THREADS": "1",
    }  # two threads each would fight over two cores
    halves = [
        subprocess.Popen([sys.executable, "-u", "-m", "tests", *half], env=alone, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        for half in (FIRST, rest)
    ]  # fmt: skip
    passed = failed = 0
    for half in halves:
        said, _ = half.communicate()
        print(said)
        sums = re.findall(r"^(\d+) passed, (\d+) failed", said, re.M)
        passed, failed = passed + int(sums[-1][0]) if sums else passed, failed + (int(sums[-1][1]) if sums else 1)
    print(f"{passed} passed, {failed} failed")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
