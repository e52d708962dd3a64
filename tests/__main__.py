"""Run all tests, or some: `python -m tests [module or package ...]`; ends with `N passed, N failed`.

`python -m tests test_flow` runs one module, `python -m tests mesh` all modules that import from `zephyrum.mesh`.

All of them run in five processes side by side. Each takes the next module as soon as it is free; long modules come
first.
"""

import json
import os
import re
import resource
import subprocess
import sys
import threading
import unittest
from collections import deque
from pathlib import Path

# modules that take longest, in the order in which they start; those that are side by side compile different kernels
LONGEST = (
    "test_viscous",
    "test_adopt",
    "test_studies",
    "test_flight",
    "test_promises",
    "test_space",
    "test_docs",
    "test_bent_layers",
    "test_flow",
    "test_unsteady",
    "test_fuzz",
    "test_ground",
    "test_planned",
    "test_buildup",
    "test_misuse",
)
FOLDER = Path(__file__).parent
SHOWN = 30  # of the tests and modules that take the most CPU time
PROCESSES = 5  # on two cores: some of them often wait, for a kernel that another compiles or for a program


def cpu_seconds() -> float:
    """CPU time of this process and of the processes that it has started and that have ended [s]."""
    own, children = (resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return own.ru_utime + own.ru_stime + children.ru_utime + children.ru_stime


class TimedResult(unittest.TextTestResult):
    """Results that know the CPU time of every test [s]."""

    def __init__(self, *given, **more):
        super().__init__(*given, **more)
        self.times = {}

    def startTest(self, test):
        self.begun = cpu_seconds()
        super().startTest(test)

    def stopTest(self, test):
        super().stopTest(test)
        self.times[test.id().removeprefix("tests.")] = cpu_seconds() - self.begun


def run_modules(names: list[str]) -> dict:
    """Run modules in this process; their counts and times."""
    begun = cpu_seconds()
    suite = unittest.defaultTestLoader.loadTestsFromNames([f"tests.{name}" for name in names])
    result = unittest.TextTestRunner(stream=sys.stdout, verbosity=2, resultclass=TimedResult).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return {
        "passed": result.testsRun - failed - len(result.skipped),
        "failed": failed + (not result.testsRun),
        "skipped": len(result.skipped),
        "times": result.times,
        "seconds": {"+".join(names): cpu_seconds() - begun},
    }


def serve() -> None:
    """Run the modules that standard input names, one a line; answer each with a line of JSON that starts with a NUL."""
    modules = os.fdopen(os.dup(0))
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)  # the programs that tests start must not read the names
    for line in modules:
        found = run_modules([line.strip()])
        print("\0" + json.dumps(found), flush=True)


def run_all(modules: list[str]) -> list[dict]:
    """Run modules in several processes; what each found."""
    waiting, found, printing = deque(modules), [], threading.Lock()
    # one thread each: two would contend for two cores
    alone = os.environ | {"NUMBA_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    alone.pop("PYTHONDONTWRITEBYTECODE", None)  # some tests start many processes
    command = [sys.executable, "-u", "-m", "tests", "--serve"]

    def feed() -> None:
        pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.STDOUT}
        with subprocess.Popen(command, env=alone, text=True, **pipes) as process:
            while waiting:
                name, lines, answer = waiting.popleft(), [], None
                print(name, file=process.stdin, flush=True)
                for line in process.stdout:
                    if line.startswith("\0"):
                        answer = json.loads(line[1:])
                        break
                    lines.append(line)
                with printing:
                    print(f"== {name}\n{''.join(lines)}", flush=True)
                if answer is None:  # the process ended
                    found.append({"passed": 0, "failed": 1, "skipped": 0, "times": {}, "seconds": {name: 0.0}})
                    break
                found.append(answer)
            process.stdin.close()

    threads = [threading.Thread(target=feed) for _ in range(PROCESSES)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if waiting:
        print(f"not run: {', '.join(waiting)}")
        found.append({"passed": 0, "failed": len(waiting), "skipped": 0, "times": {}, "seconds": {}})
    return found


def summarise(found: list[dict]) -> int:
    """Print the tests and modules that take the most CPU time and the counts; 0 if every test passed."""
    for what, label in (("times", "CPU time of tests"), ("seconds", "CPU time of modules")):
        rows = sorted(((s, name) for one in found for name, s in one[what].items()), reverse=True)[:SHOWN]
        print(f"{label}: " + ", ".join(f"{name} {seconds:.0f} s" for seconds, name in rows))
    passed, failed, skipped = (sum(one[key] for one in found) for key in ("passed", "failed", "skipped"))
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed or not passed else 0


def modules_of(name: str) -> list[str]:
    """The module of that name, or those that import from that package of the library."""
    if name.startswith("test_"):
        return [name]
    uses = re.compile(rf"\bzephyrum\.{re.escape(name)}\b")
    return [path.stem for path in FOLDER.glob("test_*.py") if uses.search(path.read_text(encoding="utf-8"))]


def main(names: list[str]) -> int:
    """0 if every test passed."""
    if names == ["--serve"]:
        serve()
        return 0
    if names:
        return summarise([run_modules(sorted({one for name in names for one in modules_of(name)}))])
    there = {path.stem for path in FOLDER.glob("test_*.py")}
    return summarise(run_all([*(name for name in LONGEST if name in there), *sorted(there.difference(LONGEST))]))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
