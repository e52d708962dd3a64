"""Steady solution over a family of meshes: coupled Newton-Krylov with pseudo-transient continuation.

A cold start begins on the coarsest mesh, at first order where shocks have to find their position or in space, and
approaches the incidence in steps; each solution is the start on the next finer mesh (see `level_iteration` for the
iteration on one mesh). Verified by validation/ (every case there ends converged).
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.level_iteration import LevelIteration, Reports
from zephyrum.flow.nonlinear.start_up import (
    alpha_sequence,
    exhaust_mach,
    exhaust_start,
    initial_state,
    prolongate,
    transfer_condition,
)
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.mesh import Mesh


@dataclass(frozen=True, eq=False)
class Start:
    """What a run starts from.

    Attributes
    ----------
    states : array (n, m)
    first_order_cells : array (n,) of bool, optional
        Cells that are at first order from the beginning.
    cfl : float, optional
        First CFL number; without it `CFLControl.restart`.
    previous_rows : tuple of tuples
        Rows of the history of a run that is continued.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> Start(np.tile([0.0, 0.5, 0.0, 0.0, 1.0], (mesh.n_cells, 1))).cfl is None
    True
    """

    states: np.ndarray
    first_order_cells: np.ndarray | None = None
    cfl: float | None = None
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

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> flow = solve_steady(FlowProblem(mesh, Freestream(mach=0.3, alpha=2.0), mesh.reference))
    >>> print(flow.outcome)
    converged
    """
    rows = [] if start is None else list(start.previous_rows)
    spent = rows[-1][COLUMNS.index("seconds")] if rows else 0.0
    history = History(rows[:-1])  # the last row is that of the state to start from
    reports = Reports(history, time.perf_counter() - spent, on_step)
    cold = start is None and problem.source is None and problem.exterior is None
    control, step = problem.numerics.cfl, problem.numerics.start_up.alpha_step
    level, q = (None, None) if start is None else (None, start.states)
    family = _start_meshes(problem) if cold else [problem.mesh]
    for depth in range(len(family) - 1, -1, -1):
        finest = depth == 0
        for alpha in alpha_sequence(problem.air.alpha, step) if cold and level is None else [problem.air.alpha]:
            last = alpha == problem.air.alpha
            air = problem.air if last else problem.air.turned(alpha=alpha)
            here = problem.at(mesh=family[depth], air=air)
            # steps on the way to alpha are recorded as one level coarser than the coarsest
            before, level = level, DiscreteProblem(here, depth if last else len(family), level)
            if q is None:
                q, cfl = _cold_start(level, reports, len(family), cold)
            elif before is None:
                cfl = start.cfl if start is not None and start.cfl is not None else control.restart
            else:
                q, cfl = _from_level(before, level, q)
            if start is not None and start.first_order_cells is not None:
                level.demote_to_first_order(start.first_order_cells)
            reports.on_state = on_state if finest and last else None
            first = int(rows[-1][COLUMNS.index("step")]) if rows else 0
            iteration = LevelIteration(level, q, cfl, not (finest and last), first=first)
            now, outcome, reason = iteration.run(reports)
            q = now.q
    return level.flow(now, outcome, reason, history, reports.begin)


def transfer_mesh(q: np.ndarray, mesh: Mesh, problem: FlowProblem) -> np.ndarray:
    """Interpolate states to the cells of a problem from another mesh about the same shape, finer or coarser.

    Parameters
    ----------
    q : (n, m) array
        States on the other mesh, at the same condition.
    mesh : Mesh
        The other mesh.
    problem : FlowProblem
        The problem.

    Returns
    -------
    (n_cells, m) array

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> fine, other = (mesh_airfoil(Airfoil.naca("0012"), n, n // 4) for n in (64, 48))
    >>> problem = FlowProblem(other, Freestream(mach=0.3), other.reference)
    >>> q = np.tile([0.0, 0.5, 0.0, 0.0, 1.0], (fine.n_cells, 1))
    >>> bool(np.allclose(transfer_mesh(q, fine, problem), q[: other.n_cells]))
    True
    """
    domains = FaceData.of(mesh), FaceData.of(problem.mesh.with_coarser(mesh))
    mach = problem.air.mach if problem.space and not problem.viscous else None
    law = Scales.law(problem.air, problem.reference.chord)
    return prolongate(q, *domains, law, mach, problem.numerics.start_up)


def _start_meshes(problem: FlowProblem) -> list:
    """Meshes of the family, finest first, without those that are too coarse."""
    family = problem.mesh.family()
    while len(family) > 1 and family[-1].n_cells < problem.numerics.start_up.min_coarse_cells:
        family.pop()
    return family


def _from_level(before: DiscreteProblem, level: DiscreteProblem, q: np.ndarray) -> tuple[np.ndarray, float]:
    """(states, CFL number) on a level from those on the level before, at another incidence or on a coarser mesh."""
    problem, control, start_up = level.problem, level.numerics.cfl, level.numerics.start_up
    if before.mesh is level.mesh:
        turned = transfer_condition(q, level.mesh, before.air, level.air, level.reference.chord, start_up)
        return turned, control.restart
    inviscid_space = problem.space and not problem.viscous
    mach = level.air.mach if inviscid_space else None
    q = prolongate(q, before.domain, level.domain, level.law, mach, start_up)
    return q, control.prolonged if problem.space and problem.viscous else control.restart


def _cold_start(level: DiscreteProblem, reports: Reports, depth: int, cold: bool) -> tuple[np.ndarray, float]:
    """(states, CFL number) to begin with, where needed from a run at first order, recorded at `depth`."""
    problem, numerics, mach = level.problem, level.numerics, level.air.mach
    q = initial_state(level.mesh, level.law, level.scales.freestream, level.reference.chord, problem.viscous)
    start_up, reconstruction = numerics.start_up, numerics.reconstruction
    jet, jet_mach = exhaust_start(problem), exhaust_mach(problem)
    mach = max(mach, jet_mach)
    if jet is not None:
        q[:, :5], mach = jet, jet_mach
    fast = mach > start_up.first_order_mach
    shocks = fast and (not problem.viscous or jet_mach > 0.0)
    if not (cold and reconstruction.order == 2 and (problem.space or shocks)):
        return q, numerics.cfl.initial
    # shocks find their position at first order; slender bodies approach theirs in a few steps; the wake of a blunt body
    # in inviscid flow oscillates
    first_order = replace(numerics, reconstruction=replace(reconstruction, order=1))
    plain = DiscreteProblem(problem.at(numerics=first_order), depth, level)
    slow_steps = start_up.max_iterations_viscous if problem.viscous else start_up.max_iterations_inviscid
    max_steps = start_up.max_iterations_shocks if fast else slow_steps
    near, outcome, _ = LevelIteration(plain, q, numerics.cfl.initial, True, max_steps).run(reports)
    usable = outcome == Outcome.CONVERGED or (outcome != Outcome.FAILED and (fast or problem.viscous))
    return (near.q, numerics.cfl.restart) if usable else (q, numerics.cfl.initial)
