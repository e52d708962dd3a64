"""Surfaces damaged in every way that files come damaged, lightly to badly: repaired to the true volume, or refused with
the place.

`make damage` (some minutes) writes docs/damage.md. The true surface is the Skerry's; each row says what was done to it
and what came of it. A row is wrong if the volume is off by more than 0.1 % without a refusal, if the places of a
refusal lie elsewhere, or if anything but a refusal ends the run.
"""

import resource
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.geometry.surface.defects import NotRepairable
from zephyrum.geometry.surface.surface_repair import repair_surface
from zephyrum.geometry.surface.triangulation import joined

ALLOWED = 1e-3  # of the volume
NEAR = 0.6  # m: how far the place of a refusal may lie from the damage
HEAD = """# Damaged surfaces

Made by `make damage`: the surface of the Skerry (39,986 triangles, 11 m long, span 16.5 m, closed) damaged on purpose
and given to `zephyrum.geometry.surface.surface_repair`. Repaired means closed, without crossings and within 0.1 % of
the true volume.

| damage | how bad | result | volume off [%] | place off [m] | s | judgement |
|---|---|---|---|---|---|---|
"""

Damaged = tuple[zy.Surface, np.ndarray]  # the surface and the places (k, 3) where it was hurt


def soup(s: zy.Surface, noise: float) -> Damaged:
    """No point shared, each moved by `noise` [m]."""
    points = s.points[s.triangles].reshape(-1, 3)
    points = points + noise * np.random.default_rng(7).standard_normal(points.shape)
    return zy.Surface(points, np.arange(len(points)).reshape(-1, 3), s.label, s.labels), s.points[::5]


def doubles(s: zy.Surface, fraction: float) -> Damaged:
    """Triangles given twice, half of them turned over."""
    some = np.flatnonzero(np.random.default_rng(1).random(len(s.triangles)) < fraction)
    again = s.triangles[some].copy()
    again[::2] = again[::2, ::-1]
    return zy.Surface(s.points, np.concatenate([s.triangles, again])), s.centres[some]


def slivers(s: zy.Surface, count: int) -> Damaged:
    """Triangles of two points or of three in a line."""
    rng = np.random.default_rng(2)
    some = s.triangles[rng.integers(len(s.triangles), size=count)]
    midpoint = 0.5 * (s.points[some[:, 0]] + s.points[some[:, 1]])
    flat = np.stack([some[:, 0], len(s.points) + np.arange(count), some[:, 1]], axis=1)
    flat[::2] = some[::2][:, [0, 1, 1]]
    return zy.Surface(np.concatenate([s.points, midpoint]), np.concatenate([s.triangles, flat])), midpoint


def turned(s: zy.Surface, fraction: float) -> Damaged:
    """Triangles turned over; 1.0: inside out."""
    some = np.random.default_rng(3).random(len(s.triangles)) < fraction
    t = s.triangles.copy()
    t[some] = t[some][:, ::-1]
    return zy.Surface(s.points, t), s.centres[some]


def lost(s: zy.Surface, fraction: float) -> Damaged:
    """Single triangles lost."""
    gone = np.random.default_rng(5).random(len(s.triangles)) < fraction
    return s.selected(~gone), s.centres[gone]


def torn(position: tuple) -> Callable[[zy.Surface, float], Damaged]:
    """Everything within a radius [m] of a place lost."""

    def make(s: zy.Surface, radius: float) -> Damaged:
        gone = np.linalg.norm(s.centres - np.array(position), axis=1) < radius
        return s.selected(~gone), s.centres[gone]

    return make


def joints(s: zy.Surface, count: int) -> Damaged:
    """Triangles split at the middle of a side that the neighbour does not share."""
    some = np.random.default_rng(6).choice(len(s.triangles), count, replace=False)
    a, b, c = s.triangles[some].T
    new = len(s.points) + np.arange(count)
    midpoint = 0.5 * (s.points[a] + s.points[b])
    t = np.concatenate(
        [np.delete(s.triangles, some, axis=0), np.stack([a, new, c], axis=1), np.stack([new, b, c], axis=1)]
    )
    return zy.Surface(np.concatenate([s.points, midpoint]), t), midpoint


def small_cells(s: zy.Surface, count: int) -> Damaged:
    """Small solids beside the aircraft."""
    rng = np.random.default_rng(8)
    positions = np.stack([rng.uniform(13.0, 20.0, count), rng.uniform(-8, 8, count), rng.uniform(-2, 2, count)], axis=1)
    balls = [zy.Body.ellipsoid(0.05, 0.05).surface(tolerance=2e-3).transformed(np.eye(3), p) for p in positions]
    return joined([s, *balls]), positions


def pulled(s: zy.Surface, far: float) -> Damaged:
    """The tip of the nose pulled through the body by so many metres: sheets that cross."""
    points = s.points.copy()
    tip = int(np.argmin(points[:, 0]))
    there = points[tip].copy()
    points[tip] += (far, 0.3 * far, 0.0)
    return zy.Surface(points, s.triangles), np.linspace(there, points[tip], 20)


def overlapping(s: zy.Surface, noise: float) -> Damaged:
    """The parts inside each other instead of united, then a soup with noise."""
    aircraft = zy.Aircraft.read(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml")
    parts = joined([solid for own in aircraft.solids().values() for solid in own])
    return soup(parts, noise)[0], s.points[::5]


def everything(s: zy.Surface, level: float) -> Damaged:
    """Lost, torn, turned, doubled, with noise and crumbs, all at once."""
    made, where = lost(s, 2e-4 * level)
    made, torn_off = torn((4.2, 5.0, 1.95))(made, 0.12 * level)
    made = turned(made, min(0.02 * level, 0.4))[0]
    made = doubles(made, 0.002 * level)[0]
    made = small_cells(made, int(level))[0]
    return soup(made, 1e-7 * level)[0], np.concatenate([where, torn_off])


KINDS: list[tuple[str, Callable, tuple]] = [
    ("soup with noise [m]", soup, (0.0, 1e-7, 1e-6, 1e-5, 1e-4, 1e-3)),
    ("given twice [share]", doubles, (1e-3, 1e-2, 0.2)),
    ("without area [count]", slivers, (10, 1000, 10000)),
    ("turned over [share]", turned, (0.01, 0.1, 0.45, 1.0)),
    ("single triangles lost [share]", lost, (2e-4, 2e-3, 1e-2, 5e-2)),
    ("torn on the wing, radius [m]", torn((4.0, 4.0, 1.9)), (0.25, 0.35, 0.5, 1.0)),
    ("torn at the nose, radius [m]", torn((0.0, 0.0, 0.5)), (0.1, 0.3, 0.7, 1.5)),
    ("points on a neighbour's edge [count]", joints, (10, 300, 3000)),
    ("parts inside each other, soup with noise [m]", overlapping, (0.0, 1e-7, 1e-6)),
    ("crumbs beside it [count]", small_cells, (1, 20, 200)),
    ("nose pulled through [m]", pulled, (0.02, 0.5, 3.0)),
    ("everything at once [level]", everything, (1, 3, 10)),
]


def reading(made: zy.Surface, where: np.ndarray, true: float) -> tuple[str, float, float, bool]:
    """(what happened, volume off [%], place off [m], whether that is right)."""
    try:
        done = repair_surface(made)
    except NotRepairable as refused:
        locations = refused.defect.positions
        far = max(float(np.linalg.norm(where - location, axis=1).min()) for location in locations)
        return f"refused: {refused.defect.count} {refused.defect.kind}", float("nan"), far, far < NEAR
    off = abs(done.surface.volume / true - 1.0)
    kinds = ", ".join(f"{d.count} {d.kind}" for d in done.defects) or "nothing found"
    return f"repaired: {kinds}", 100.0 * off, float("nan"), done.surface.watertight and off < ALLOWED


def large_import() -> tuple[str, bool]:
    """A damaged file of half a million triangles, read, repaired and labelled in a process of its own: time and
    memory.
    """
    aircraft = zy.Aircraft.read(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml").surface()
    t, p = aircraft.triangles, aircraft.points
    while len(t) < 500_000:  # every triangle in four
        n = len(p)
        sides = np.sort(np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1)
        edges, which = np.unique(sides, axis=0, return_inverse=True)
        p = np.concatenate([p, p[edges].mean(axis=1)])
        ab, bc, ca = (n + which.ravel()).reshape(3, -1)
        a, b, c = t.T
        t = np.concatenate([np.stack(x, axis=1) for x in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
    made = everything(zy.Surface(p, t), 2)[0]
    with tempfile.TemporaryDirectory() as folder:
        path = made.write(Path(folder) / "large.stl", "mm")
        begin = time.perf_counter()
        taken = zy.import_surface(path, "mm", labels="edges")
        seconds = time.perf_counter() - begin
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    off = abs(taken.surface.volume / aircraft.volume - 1.0)
    good = taken.surface.watertight and off < ALLOWED and seconds < 60.0 and peak < 2.0
    return (
        f'Import of a damaged STL of {len(made.triangles):,} triangles (level 2 of "everything"): {seconds:.0f} s, '
        f"peak memory "
        f"{peak:.2f} GB (with making it), volume off by {100 * off:.4f} %, {len(taken.surface.labels)} labels "
        f"({'within' if good else '**beyond**'} 60 s, 2 GB and 0.1 %)."
    ), good


def main(names: list[str]) -> int:
    """Run all kinds (or those whose name holds one of `names`); 1 if any row is wrong."""
    if names == ["import"]:
        said, good = large_import()
        print(said)
        return int(not good)
    whole = zy.Aircraft.read(Path(zy.__file__).parent / "data" / "skerry-mailplane.toml").surface()
    lines, wrong = [], 0
    for kind, make, levels in KINDS:
        if names and not any(name in kind for name in names):
            continue
        for level in levels:
            made, where = make(whole, level)
            begin = time.perf_counter()
            said, off, far, good = reading(made, where, whole.volume)
            seconds = time.perf_counter() - begin
            wrong += not good
            lines.append(
                f"| {kind} | {level:g} | {said} | {'' if np.isnan(off) else f'{off:.4f}'} | "
                f"{'' if np.isnan(far) else f'{far:.2f}'} "
                f"| {seconds:.1f} | {'right' if good else '**WRONG**'} |"
            )
            print(lines[-1], flush=True)
    if not names:
        import subprocess

        large = subprocess.run([sys.executable, "-m", "validation.damage", "import"], capture_output=True, text=True)
        wrong += large.returncode != 0
        print(large.stdout + large.stderr[-2000:])
        page = Path(__file__).parents[1] / "docs" / "damage.md"
        page.write_text(
            HEAD + "".join(line + "\n" for line in lines) + "\n" + large.stdout.strip() + "\n", encoding="utf-8"
        )
    print(f"{len(lines)} rows, {wrong} wrong")
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
