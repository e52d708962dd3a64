"""Steady solution over a family of meshes: coupled Newton-Krylov with pseudo-transient continuation.

A cold start begins on the coarsest mesh, at first order where shocks have to find their position or in space, and
approaches the incidence in steps; each solution is the start on the next finer mesh (see `level_iteration` for the
iteration on one mesh). Verified by validation/ (every case there ends converged).
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.level_iteration import LevelIteration, Reports
from zephyrum.flow.nonlinear.start_up import alpha_sequence, initial_state, prolongate, transfer_condition
from zephyrum.flow.outcome import Outcome

RESTART_CFL = 100.0
PROLONGED_CFL = 20.0  # of a start from a coarser mesh in viscous flow in space
MIN_COARSE_CELLS = 3000  # of the coarsest start mesh: coarser ones separate at high alpha, which finer ones inherit
FIRST_ORDER_START_MACH = 0.5  # Mach number of the stream above which an inviscid cold start looks for shocks
MAX_FIRST_ORDER_ITERATIONS = 80  # of such a start
MAX_FIRST_ORDER_ITERATIONS_3D = 14, 9  # of a slow start in space, inviscid and viscous


@dataclass(frozen=True, eq=False)
class Start:
    """What a run starts from.

    states (n, m); first_order_cells (n,), optional; cfl: first CFL number; previous_rows: rows of the history of a run
    that is continued.
    """

    states: np.ndarray
    first_order_cells: np.ndarray | None = None
    cfl: float = RESTART_CFL
    previous_rows: tuple[tuple, ...] = ()


def solve_steady(
    problem: FlowProblem,
    start: Start | None = None,
    on_step: Callable[[dict], None] | None = None,
    on_state: Callable[[np.ndarray, np.ndarray, float, list[tuple]], None] | None = None,
) -> FlowState:
    """Solve for a steady state, from a cold start over the coarser meshes of the family or from given states.

    Parameters
    ----------
    problem : FlowProblem
    start : Start, optional
    on_step : callable, optional
        Receives a dict of the columns of `History` after every step.
    on_state : callable, optional
        Receives states (n, m), first-order cells (n,), CFL number and rows of the history after every step on the
        finest mesh.

    Returns
    -------
    FlowState
        Its outcome says how the run ended; no exception comes from within.
    """
    rows = [] if start is None else list(start.previous_rows)
    spent = rows[-1][COLUMNS.index("seconds")] if rows else 0.0
    history = History(rows[:-1])  # the last row is that of the state to start from
    reports = Reports(history, time.perf_counter() - spent, on_step)
    cold = start is None and problem.source is None and problem.exterior is None
    level, q = (None, None) if start is None else (None, start.states)
    family = _start_meshes(problem) if cold else [problem.mesh]
    for depth in range(len(family) - 1, -1, -1):
        finest = depth == 0
        for alpha in alpha_sequence(problem.air.alpha) if cold and level is None else [problem.air.alpha]:
            last = alpha == problem.air.alpha
            air = problem.air if last else problem.air.turned(alpha=alpha)
            here = problem.at(mesh=family[depth], air=air)
            # steps on the way to alpha are recorded as one level coarser than the coarsest
            before, level = level, DiscreteProblem(here, depth if last else len(family), level)
            if q is None:
                q, cfl = _cold_start(level, reports, len(family), cold)
            elif before is None:
                cfl = start.cfl if start is not None else RESTART_CFL
            else:
                q, cfl = _from_level(before, level, q)
            if start is not None and start.first_order_cells is not None:
                level.demote_to_first_order(start.first_order_cells)
            reports.on_state = on_state if finest and last else None
            first = int(rows[-1][COLUMNS.index("step")]) if rows else 0
            q, outcome, reason = LevelIteration(level, q, cfl, not (finest and last), first=first).run(reports)
    return level.flow(q, outcome, reason, history, reports.begin)


def _start_meshes(problem: FlowProblem) -> list:
    """Meshes of the family, finest first, without those that are too coarse."""
    family = problem.mesh.family()
    while len(family) > 1 and family[-1].n_cells < MIN_COARSE_CELLS:
        family.pop()
    return family


def _from_level(before: DiscreteProblem, level: DiscreteProblem, q: np.ndarray) -> tuple[np.ndarray, float]:
    """(states, CFL number) on a level from those on the level before, at another incidence or on a coarser mesh."""
    problem = level.problem
    if before.mesh is level.mesh:
        return transfer_condition(q, level.mesh, before.air, level.air, level.reference.chord), RESTART_CFL
    inviscid_space = problem.space and not problem.viscous
    q = prolongate(q, before.domain, level.domain, level.law, level.air.mach if inviscid_space else None)
    return q, PROLONGED_CFL if problem.space and problem.viscous else RESTART_CFL


def _cold_start(level: DiscreteProblem, reports: Reports, depth: int, cold: bool) -> tuple[np.ndarray, float]:
    """(states, CFL number) to begin with, where needed from a run at first order, recorded at `depth`."""
    problem, numerics, mach = level.problem, level.numerics, level.air.mach
    q = initial_state(level.mesh, level.law, level.scales.freestream, level.reference.chord, problem.viscous)
    fast = mach > FIRST_ORDER_START_MACH
    if not (cold and numerics.order == 2 and (problem.space or (fast and not problem.viscous))):
        return q, numerics.cfl
    # shocks find their position at first order; slender bodies get near with few vectors, of blunt ones without
    # friction the wake oscillates
    plain = DiscreteProblem(problem.at(numerics=replace(numerics, order=1)), depth, level)
    max_steps = MAX_FIRST_ORDER_ITERATIONS if fast else MAX_FIRST_ORDER_ITERATIONS_3D[int(problem.viscous)]
    near, outcome, _ = LevelIteration(plain, q, numerics.cfl, True, max_steps).run(reports)
    usable = outcome == Outcome.CONVERGED or (outcome != Outcome.FAILED and (fast or problem.viscous))
    return (near, RESTART_CFL) if usable else (q, numerics.cfl)
