"""Compiled kernels on disk: a change of any file that a kernel is compiled from is seen by the next process."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from zephyrum._core.jit import kernel_sources, source_stamp

OUTER = """from zephyrum._core.jit import serial
from fluxes.inner import flux
from fluxes.constants import FACTOR

@serial
def twice(x):
    return FACTOR * flux(x)
"""
INNER = """from zephyrum._core.jit import serial

@serial
def flux(x):
    return x + {shift}
"""
HITS = "from fluxes.outer import twice; print(twice(3.0), sum(twice.stats.cache_hits.values()))"


class StaleKernels(unittest.TestCase):
    def setUp(self):
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.top = Path(scratch.name)
        (self.top / "fluxes").mkdir()
        self.write("__init__.py", "")
        self.write("outer.py", OUTER)
        self.write("inner.py", INNER.format(shift=1.0))
        self.write("constants.py", "FACTOR = 2.0\n")

    def write(self, name: str, text: str) -> None:
        path = self.top / "fluxes" / name
        path.write_text(text)
        os.utime(path, (1e9, 1e9))  # neither the time nor the size of a file tells of its change

    def started(self, code: str = HITS) -> subprocess.Popen:
        """A new process that runs `code`; by default it prints twice(3.0) and how many kernels were on disk."""
        paths = os.pathsep.join((str(self.top), str(Path(__file__).parents[1] / "src")))
        given = os.environ | {"PYTHONPATH": paths, "PYTHONDONTWRITEBYTECODE": "1"}  # Python goes by times and sizes
        return subprocess.Popen(
            [sys.executable, "-c", code], env=given, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def value(self) -> str:
        return self.started().communicate()[0].strip()

    def test_processes_that_start_together_compile_a_kernel_once(self):
        together = [self.started() for _ in range(3)]
        printed = sorted(process.communicate()[0].strip() for process in together)
        self.assertEqual(printed, ["8.0 0", "8.0 1", "8.0 1"])

    def test_a_kernel_that_does_not_compile_keeps_no_other_process_waiting(self):
        self.write("inner.py", INNER.format(shift="'text'"))
        code = (
            "from fluxes.inner import flux\ntry:\n    flux(1.0)\nexcept Exception:\n    print('failed', flush=True)\n"
        )
        with self.started(code + "input()") as alive:
            self.assertEqual(alive.stdout.readline().strip(), "failed")
            self.assertEqual(self.started(code).communicate(timeout=60)[0].strip(), "failed")
            alive.communicate("\n")

    def test_a_change_of_a_called_kernel_or_a_constant_is_seen(self):
        self.assertEqual(self.value(), "8.0 0")
        self.assertEqual(self.value(), "8.0 1")
        self.write("inner.py", INNER.format(shift=2.0))
        self.assertEqual(self.value(), "10.0 0")
        self.write("constants.py", "FACTOR = 3.0\n")
        self.assertEqual(self.value(), "15.0 0")
        self.assertEqual(self.value(), "15.0 1")

    def test_what_is_compiled_ahead_is_not_compiled_in_a_run(self):
        ahead = "from zephyrum.studies.compilation import compile_kernels; compile_kernels(('section',), ('laminar',))"
        code = (
            "from zephyrum._core.jit import compilations; from zephyrum.studies.compilation import run_tiny_case\n"
            "seen = []\n"
            "with compilations(seen.append):\n    run_tiny_case('section', 'laminar')\n"
            "print(seen)"
        )
        subprocess.run([sys.executable, "-c", ahead], check=True)
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_sources_are_those_imported_and_no_others(self):
        root = self.top / "fluxes"
        names = {path.name for path in kernel_sources(root / "outer.py", root)}
        self.assertEqual(names, {"outer.py", "inner.py", "constants.py"})
        self.assertNotEqual(source_stamp(root / "outer.py", root), source_stamp(root / "inner.py", root))
        package = Path(sys.modules["zephyrum"].__file__).parent
        flow = {
            path.relative_to(package).as_posix()
            for path in kernel_sources(package / "flow" / "discretization" / "jacobian.py")
        }
        self.assertLessEqual(
            {"flow/physics/inviscid_flux.py", "flow/physics/turbulence/sst.py", "flow/discretization/limiter.py"}, flow
        )
        self.assertNotIn("flow/nonlinear/continuation.py", flow)


if __name__ == "__main__":
    unittest.main()
