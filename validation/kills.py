"""Studies with every job in them killed at random moments: the final tables are those of a run that nobody disturbed,
and nothing is computed twice.

`make kills` kills a study of a section and one of an aircraft ten times each (some ten minutes) and prints what came of
it.
"""

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pandas as pd

SECTION = """title = "killed section"
[section]
naca = "2412"
flap = { hinge = 0.7, angle = 0 }
[air]
reynolds = 2000
[mesh]
topology = "O"
around = 96
outward = 32
first_height = 4e-3
farfield = 20
[solver]
model = "laminar"
residual_drop = 6
[walls]
temperature = "300 K"
[sweep]
mach = [0.2, 0.3]
alpha = [-2, 0, 2, 4]
[refine]
mach = 0.2
alpha = 2
[time]
mach = 0.2
alpha = 2
duration = 6
step = 0.1
[vary]
number = "flap.angle"
values = [0, 5]
mach = 0.2
alpha = 2
"""
AIRCRAFT = """title = "killed aircraft"
[aircraft]
file = "glider.toml"
[mesh]
resolution = 3.4
farfield = 4
half = false
[solver]
residual_drop = 2.5
[sweep]
mach = 0.2
alpha = [0, 3]
[refine]
mach = 0.2
alpha = 3
[trim]
mach = 0.2
control = "tailplane.pitch"
lift = 0.4
[derivatives]
mach = 0.2
alpha = 3
[vary]
number = "tailplane.pitch"
values = [0, 3]
mach = 0.2
alpha = 3
"""
GLIDER = """name = "glider"
[parts.wing]
kind = "wing"
airfoil = "NACA 2412"
tip = "flat"
planform = { span = 6.0, root_chord = 1.0, taper = 0.7, sweep = 0.0 }
[parts.tailplane]
kind = "wing"
position = [3.2, 0.0, 0.4]
airfoil = "NACA 0012"
tip = "flat"
planform = { span = 2.2, root_chord = 0.6, taper = 1.0, sweep = 0.0 }
"""
TABLES = (
    "polar",
    "refinement",
    "time",
    "trim",
    "derivatives",
    "vary",
    "vary-changes",
    "vary-parts",
    "forces",
    "derived",
)
DIGITS = 1e-6  # that a table may differ by


def run(study: Path, out: Path, delay: float | None = None, new_point: bool = False) -> int | None:
    """Run a study; its exit code, or None if it was killed after a delay [s], counted from its first new point if
    `new_point`.
    """
    words = [sys.executable, "-m", "zephyrum.cli.main", "run", str(study), "--out", str(out), "--no-figures"]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
    if delay is None:
        return process.wait()
    before = len(finished(out))
    while new_point and process.poll() is None and len(finished(out)) == before:
        time.sleep(0.02)
    try:
        return process.wait(timeout=delay)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        return None


def finished(out: Path) -> dict[str, int]:
    """Time of writing of every finished point."""
    return {path.name: path.stat().st_mtime_ns for path in (out / "points").glob("*.json")}


def differences(one: Path, other: Path) -> list[str]:
    """Tables that differ by more than DIGITS, times aside, or that only one folder has."""
    found = []
    for name in TABLES:
        paths = [folder / f"{name}.csv" for folder in (one, other)]
        there = [path.is_file() for path in paths]
        if there[0] != there[1]:
            found.append(f"{name}: only in one of both")
        if not all(there):
            continue
        tables = [pd.read_csv(path).drop(columns=["seconds"], errors="ignore") for path in paths]
        try:
            pd.testing.assert_frame_equal(*tables, rtol=DIGITS, atol=DIGITS)
        except AssertionError as cause:
            found.append(f"{name}: {str(cause).splitlines()[0]}")
    return found


def killed(
    text: str,
    kills: int,
    seed: int,
    delays: tuple[float, float],
    files: dict[str, str] | None = None,
    new_point: float = 0.5,
) -> tuple[list[str], int, int]:
    """(what is wrong, runs that it took, points finished before the kills) of a study that is killed so often, each
    time after a random delay [s].

    new_point: share of the delays that are counted from the first new point of a run; the others are counted from its
    start.

    Where a run ends before it is killed its folder is compared with that of an undisturbed run, and the next one begins
    in a new folder.
    """
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        study = folder / "study.toml"
        study.write_text(text)
        for name, content in (files or {}).items():
            (folder / name).write_text(content)
        code = run(study, folder / "whole")
        wrong, hits, runs, stored = [], 0, 0, 0
        out, stamps = folder / "killed-0", {}
        while True:
            delay = rng.uniform(*delays) if hits < kills else None
            ended = run(study, out, delay, rng.random() < new_point)
            runs += 1
            now = finished(out)
            wrong += [
                f"point {name} was computed again in run {runs}"
                for name, stamp in stamps.items()
                if now.get(name) != stamp
            ]
            stamps = now
            if ended is None:
                hits += 1
                stored += len(now)
                continue
            if ended != code:
                wrong.append(f"run {runs}: exit code {ended}, {code} without kills")
            wrong += differences(folder / "whole", out)
            if hits >= kills:
                return wrong, runs, stored
            out, stamps = folder / f"killed-{runs}", {}


def main() -> int:
    """Both studies."""
    bad = 0
    for name, text, delays, files in (
        ("section", SECTION, (0.0, 8.0), None),
        ("aircraft", AIRCRAFT, (0.0, 16.0), {"glider.toml": GLIDER}),
    ):
        begin = time.perf_counter()
        wrong, runs, stored = killed(text, 10, 1, delays, files)
        bad += len(wrong) + (stored == 0)
        words = wrong or "final tables equal, nothing computed twice"
        print(
            f"{name}: 10 kills in {runs} runs, which found {stored} finished points in all; {words} "
            f"({time.perf_counter() - begin:.0f} s)",
            flush=True,
        )
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
