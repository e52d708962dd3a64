"""Run all tests (or those named): `python -m tests [module ...]`; closes with `N passed, N failed`."""

import sys
import unittest
from pathlib import Path


def main(names: list[str]) -> int:
    """0 if everything passed."""
    loader = unittest.defaultTestLoader
    top = Path(__file__).parents[1]
    suite = (
        loader.loadTestsFromNames([f"tests.{n}" for n in names])
        if names
        else loader.discover(str(top / "tests"), top_level_dir=str(top))
    )
    result = unittest.TextTestRunner(verbosity=2).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    print(
        f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed"
        + (f", {len(result.skipped)} skipped" if result.skipped else "")
    )
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
