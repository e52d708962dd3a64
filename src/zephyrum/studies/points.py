"""The points of a sweep: which there are, which each starts from, and one of them solved.

Verified by tests/test_studies.py.
"""

import logging
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from zephyrum.errors import FileError
from zephyrum.flow.outcome import Outcome
from zephyrum.results import Solution, load_solution, solve_case
from zephyrum.solver import Case

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Point:
    """One condition of a sweep.

    Attributes
    ----------
    mach : float
        Mach number.
    alpha : float
        [deg]
    after : tuple of float, optional
        Point whose state it starts from; None for a cold start.
    coarser : int
        Levels from the mesh of the study to its own.
    """

    mach: float
    alpha: float
    after: "Point | None"
    coarser: int = 0

    @property
    def name(self) -> str:
        """Name of its files."""
        return f"m{self.mach:.4f}_a{self.alpha:+08.3f}" + (f"_mesh-{self.coarser}" if self.coarser else "")

    @property
    def label(self) -> str:
        """Name for reports."""
        return f"M {self.mach:g} alpha {self.alpha:+g}" + (
            f", mesh {self.coarser + 1} of the refinement" if self.coarser else ""
        )

    def case(self, base: Case) -> Case:
        """A case at this condition.

        Parameters
        ----------
        base : Case
            Case with everything else.
        """
        return replace(base, air=base.air.at_mach(self.mach).turned(alpha=self.alpha))


def plan(alphas: list[float], machs: list[float]) -> list[Point]:
    """All points of a sweep, each after the one it starts from.

    Parameters
    ----------
    alphas : list[float]
        [deg]
    machs : list[float]
        Mach numbers.

    Examples
    --------
    >>> [point.alpha for point in plan([-2.0, 0.0, 2.0], [0.3])]
    [0.0, 2.0, -2.0]
    """
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


def refine_near_clmax(rows: dict[str, dict], points: list[Point], finest: float) -> list[Point]:
    """Points still missing about the lift maximum of every Mach number, which halve the intervals on either side of it.

    Parameters
    ----------
    rows : dict[str, dict]
        Rows of the finished points by name.
    points : list[Point]
        Points so far.
    finest : float
        Smallest interval [deg].

    Notes
    -----
    Each starts from its lower neighbour. Only the table decides, so a rerun asks for the same points. A sweep whose
    lift still rises at its end has no maximum.
    """
    extra = []
    for mach in sorted({point.mach for point in points}):
        own = sorted(
            (p for p in points if p.mach == mach and rows[p.name]["outcome"] != Outcome.FAILED), key=lambda p: p.alpha
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
    base: Case,
    state: Path | None,
    keep: Path | None = None,
    on_step: Callable[[dict], None] | None = None,
) -> tuple[Solution, dict]:
    """Solve a point.

    Parameters
    ----------
    point : Point
        The point.
    base : Case
        Case with everything else.
    state : path or None
        File of the solution of the point before it; None for a cold start.
    keep : path, optional
        File of the checkpoint.
    on_step : callable, optional
        Receives the columns of the history after every step.

    Returns
    -------
    solution : Solution
    row : dict
    """
    start = None
    if state is not None:
        try:
            start = load_solution(state, base.mesh)
        except FileError as cause:
            log.warning("%s starts cold: %s", point.label, cause)
    solution = solve_case(point.case(base), start, on_step, keep)
    return solution, solution.row() | {"start": point.after.name if start is not None else "cold"}
