"""Studies with every job in them killed at random moments: the final tables are those of a run that nobody disturbed, and nothing is computed twice.

`make kills` kills a study of a section and one of an aircraft ten times each (some ten minutes) and prints what came of it.
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
orders = 6
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
fineness = 3.4
farfield = 4
half = false
[solver]
orders = 2.5
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
place = [3.2, 0.0, 0.4]
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


def run(study: Path, out: Path, seconds: float | None = None) -> int | None:
    """Run a study; its exit code, or None if it was killed after so many seconds."""
    words = [sys.executable, "-m", "zephyrum.cli.main", "run", str(study), "--out", str(out), "--no-figures"]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
    try:
        return process.wait(timeout=seconds)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        return None


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
    text: str, kills: int, seed: int, delays: tuple[float, float], files: dict[str, str] | None = None
) -> tuple[list[str], int, int]:
    """(what is wrong, kills that hit, points that were finished before the last of them) of a study killed so often after a random delay [s]."""
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        study = folder / "study.toml"
        study.write_text(text)
        for name, content in (files or {}).items():
            (folder / name).write_text(content)
        code = run(study, folder / "whole")
        stamps: dict[str, int] = {}
        wrong, hits, before = [], 0, 0
        for k in range(kills + 1):
            ended = run(study, folder / "killed", rng.uniform(*delays) if k < kills else None)
            hits += ended is None
            points = folder / "killed" / "points"
            for path in points.glob("*.json") if points.is_dir() else ():
                stamp = path.stat().st_mtime_ns
                if stamps.setdefault(path.name, stamp) != stamp:
                    wrong.append(f"point {path.stem} was computed again after kill {k}")
                    stamps[path.name] = stamp
            if k < kills:
                before = len(stamps)
        if ended != code:
            wrong.append(f"exit code {ended} after the kills, {code} without")
        return wrong + differences(folder / "whole", folder / "killed"), hits, before


def main() -> int:
    """Both studies."""
    bad = 0
    for name, text, delays, files in (
        ("section", SECTION, (2.0, 7.0), None),
        ("aircraft", AIRCRAFT, (4.0, 30.0), {"glider.toml": GLIDER}),
    ):
        begin = time.perf_counter()
        wrong, hits, before = killed(text, 10, 1, delays, files)
        bad += len(wrong) + (before == 0)
        print(f"{name}: {hits} of 10 kills hit a running study, {before} points were finished before the last of them; {wrong or 'final tables equal, nothing computed twice'} ({time.perf_counter() - begin:.0f} s)", flush=True)  # fmt: skip
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
