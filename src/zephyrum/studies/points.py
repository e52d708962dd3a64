"""The points of a sweep: which there are, which each starts from, and one of them solved.

Verified by tests/test_studies.py.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zephyrum.air import Freestream
from zephyrum.flow import Settings
from zephyrum.mesh import Mesh
from zephyrum.results import Solution, load_solution, solve

OFTEN = 0.5  # s between two words about a point that is being computed


@dataclass(frozen=True)
class Point:
    """One condition and the point whose state it starts from (None: a cold start); coarser: steps from the mesh of the study to its own."""

    mach: float
    alpha: float
    after: "Point | None"
    coarser: int = 0

    @property
    def name(self) -> str:
        """Name of its files."""
        return f"m{self.mach:.4f}_a{self.alpha:+08.3f}" + (f"_mesh-{self.coarser}" if self.coarser else "")


def now_and_then(call: Callable[[Point, dict], None] | None, point: Point) -> Callable[[dict], None] | None:
    """A call with the point and a row, but not made when the last one was less than `OFTEN` seconds ago; None without a call."""
    if call is None:
        return None
    last = [0.0]

    def heard(row: dict) -> None:
        if time.monotonic() - last[0] >= OFTEN:
            last[0] = time.monotonic()
            call(point, row)

    return heard


def plan(alphas: list[float], machs: list[float]) -> list[Point]:
    """All points, each after the one it starts from."""
    points = []
    for mach in machs:
        ordered = sorted(alphas)
        root = min(range(len(ordered)), key=lambda k: (abs(ordered[k]), k))
        first = Point(mach, ordered[root], None)
        points.append(first)
        for branch in (ordered[root + 1 :], ordered[:root][::-1]):
            last = first
            for alpha in branch:
                last = Point(mach, alpha, last)
                points.append(last)
    return points


def peak_points(rows: dict[str, dict], points: list[Point], finest: float) -> list[Point]:
    """Points still missing about the lift maximum of every Mach number, halving the intervals on either side of it.

    None closer than `finest` [deg]; each starts from its lower neighbour. Only the table decides, so a rerun asks for
    the same points. A sweep whose lift still rises at its end has no maximum.
    """
    extra = []
    for mach in sorted({point.mach for point in points}):
        own = sorted(
            (p for p in points if p.mach == mach and rows[p.name]["verdict"] != "failed"), key=lambda p: p.alpha
        )
        lift = [rows[point.name]["CL"] for point in own]
        top = max(range(len(own)), key=lift.__getitem__, default=0)
        if not 0 < top < len(own) - 1:
            continue
        for low, high in ((own[top - 1], own[top]), (own[top], own[top + 1])):
            if high.alpha - low.alpha >= 2.0 * finest - 1e-9:
                near = low if abs(low.alpha) <= abs(high.alpha) else high
                extra.append(Point(mach, round(0.5 * (low.alpha + high.alpha), 6), near))
    return extra


def solved(
    point: Point,
    mesh: Mesh,
    base: Freestream,
    settings: Settings,
    model: str,
    walls,
    state: Path | None,
    keep: Path | None = None,
    on_step: Callable[[dict], None] | None = None,
) -> tuple[Solution, dict]:
    """(solution, row) of a point of the air `base`; state: file of the last state of the point before it, None for a cold start."""
    air = base.at_mach(point.mach).turned(alpha=point.alpha)
    start = None
    if state is not None:
        before = base.at_mach(point.after.mach).turned(alpha=point.after.alpha)
        start = load_solution(state, mesh, before, mesh.reference, settings)
    solution = solve(mesh, air, model, settings=settings, start=start, walls=walls, keep=keep, on_step=on_step)
    return solution, solution.row() | {"start": point.after.name if start is not None else "cold"}
