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

    def value(self) -> str:
        """twice(3.0) in a new process, and how many kernels it took from the disk."""
        code = "from fluxes.outer import twice; print(twice(3.0), sum(twice.stats.cache_hits.values()))"
        paths = os.pathsep.join((str(self.top), str(Path(__file__).parents[1] / "src")))
        done = subprocess.run([sys.executable, "-c", code], env=os.environ | {"PYTHONPATH": paths}, capture_output=True, text=True)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.strip()

    def test_a_change_of_a_called_kernel_or_a_constant_is_seen(self):
        self.assertEqual(self.value(), "8.0 0")
        self.assertEqual(self.value(), "8.0 1")
        self.write("inner.py", INNER.format(shift=2.0))
        self.assertEqual(self.value(), "10.0 0")
        self.write("constants.py", "FACTOR = 3.0\n")
        self.assertEqual(self.value(), "15.0 0")
        self.assertEqual(self.value(), "15.0 1")

    def test_sources_are_those_imported_and_no_others(self):
        root = self.top / "fluxes"
        names = {path.name for path in kernel_sources(root / "outer.py", root)}
        self.assertEqual(names, {"outer.py", "inner.py", "constants.py"})
        self.assertNotEqual(source_stamp(root / "outer.py", root), source_stamp(root / "inner.py", root))
        package = Path(sys.modules["zephyrum"].__file__).parent
        flow = {path.relative_to(package).as_posix() for path in kernel_sources(package / "flow" / "jacobian.py")}
        self.assertLessEqual({"flow/flux.py", "flow/turbulence/sst.py", "flow/limiter.py"}, flow)
        self.assertNotIn("flow/march.py", flow)


if __name__ == "__main__":
    unittest.main()
