"""Marching in time: second-order backward differences, every step solved by the same Newton-Krylov method.

Source: Jameson (1991), AIAA 91-1596 (implicit steps solved to convergence within each time step); the three-point
backward difference is A-stable (Gear 1971). The first step is one of first order. The Jacobian and its factors are
renewed once a time step, more often only if the steps within it converge badly.
Verified by tests/test_unsteady.py (order in time) and validation/ (vortex street behind a circle).
"""

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zephyrum.flow.linear.gmres import gmres
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import History
from zephyrum.flow.nonlinear.start_up import initial_state
from zephyrum.flow.nonlinear.step_control import MAX_HALVINGS, clip_log_omega_step, max_step_fraction
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import conserved

MAX_INNER_ITERATIONS = 20  # Newton steps within a time step
SLOW_REDUCTION = 0.25  # of the residual left by an inner step, above which the Jacobian is renewed
LINEAR_TOLERANCE = 0.1  # of the linear solve
ROUND_OFF = 1e-9  # of the residual of the undisturbed stream, below which a time step is solved in any case


@dataclass(frozen=True, eq=False)
class TimeIntegration:
    """What marching in time leaves: `rows` (n, 7) of time [scaled, m], CL, CD, CM, inner steps, Krylov steps, drop.

    flow: the last state, its outcome "oscillating", or "failed" with the reason; before (n, m): the states a step
    earlier.
    """

    rows: np.ndarray
    flow: FlowState
    before: np.ndarray


@dataclass(frozen=True)
class TimeReports:
    """Who receives an integration: on_step gets a dict of time, CL, CD, CM; on_state (rows, states, states
    before).
    """

    on_step: Callable[[dict], None] | None = None
    on_state: Callable[[np.ndarray, np.ndarray, np.ndarray], None] | None = None


def integrate_in_time(
    problem: FlowProblem,
    step: float,
    count: int,
    start: np.ndarray | None = None,
    residual_drop: float = 3.0,
    forcing: Callable[[float], tuple[np.ndarray | None, np.ndarray | None]] | None = None,
    reports: TimeReports | None = None,
    resume: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
) -> TimeIntegration:
    """Integrate `count` steps in time from states `start` (n, m).

    Parameters
    ----------
    problem : FlowProblem
    step : float
        Scaled time: metres over the speed of sound.
    count : int
    start : array (n, m), optional
    residual_drop : float
        Decades by which the residual of every time step must fall.
    forcing : callable, optional
        Gives (source, exterior) of a `FlowProblem` at a scaled time, for verification.
    reports : TimeReports, optional
    resume : tuple of arrays, optional
        What `TimeReports.on_state` was given last: the integration continues from there.
    """
    reports, begin = reports or TimeReports(), time.perf_counter()
    if forcing is not None:
        source, exterior = forcing(0.0)
        problem = problem.at(source=source, exterior=exterior)
    level = DiscreteProblem(problem)
    mesh, reference, model = problem.mesh, problem.reference, problem.model
    q = initial_state(mesh, level.law, level.scales.freestream, reference.chord, model != "euler")
    q = q if start is None else start.copy()
    gamma, volume = level.scales.gamma, level.domain.volume
    old = before = conserved(q, gamma)
    last = q.copy()
    level.evaluate(q)
    rows = [[0.0, *level.found, 0, 0, 0.0]]
    if resume is not None:
        rows, q, last = [list(row) for row in resume[0]], resume[1].copy(), resume[2].copy()
        old, before = conserved(q, gamma), conserved(last, gamma)
    outcome, reason = Outcome.OSCILLATING, "marched in time"
    for n in range(len(rows), count + 1):
        now = n * step
        if forcing is not None:
            level.residual.source, level.residual.exterior = forcing(now)
        # (1 + c) U - (1 + 2 c) U_old + c U_before over the step, c = 1/2; the first step has c = 0
        c = 0.5 if n > 1 else 0.0
        rate = (1.0 + c) * volume / step
        history_term = ((1.0 + 2.0 * c) * old - c * before) * (volume / step)[:, None]
        guess = q + (q - last) if n > 1 else q.copy()
        last, q = q, guess if (guess[:, 4] > 0.0).all() and (1.0 + gamma * guess[:, 0] > 0.0).all() else q.copy()
        made = _time_step(level, q, rate, history_term, residual_drop)
        if made is None:
            outcome, reason, q = (
                Outcome.FAILED,
                f"no solution of the step at scaled time {now:.4g}: take a shorter step",
                last,
            )
            break
        q, inner, krylov_vectors, drop = made
        before, old = old, conserved(q, gamma)
        rows.append([now, *level.found, inner, krylov_vectors, drop])
        if reports.on_step is not None:
            reports.on_step(dict(zip(("time", "CL", "CD", "CM"), rows[-1], strict=False)))
        if reports.on_state is not None:
            reports.on_state(np.array(rows), q, last)
    level.evaluate(q)
    return TimeIntegration(np.array(rows), level.flow(q, outcome, reason, History(), begin), last)


def _time_step(level: DiscreteProblem, q: np.ndarray, rate: np.ndarray, history_term: np.ndarray, residual_drop: float):
    """Solve R(q) + rate U(q) - past = 0 from the guess q: (q, inner steps, Krylov steps, drop), or None."""
    gamma, jacobian, axes = level.scales.gamma, level.jacobian, level.domain.axes

    def balance(state):
        return level.evaluate(state) + rate[:, None] * conserved(state, gamma) - history_term

    R = balance(q)
    size = first = float(np.sqrt(np.sum((R * level.rows) ** 2)))
    krylov_vectors, jacobian_is_current = 0, False
    least = ROUND_OFF * float(np.linalg.norm(level.start_norm))
    for inner in range(MAX_INNER_ITERATIONS + 1):
        if size <= first * 10.0**-residual_drop or size < least:
            return q, inner, krylov_vectors, size / max(first, 1e-300)
        if inner == 0 or not jacobian_is_current:
            level.linearise(q)
            jacobian.set_inertia(q, rate)
            level.preconditioner.update(jacobian)
            jacobian_is_current = True
        rhs = (-R * level.rows)[:, axes].astype(np.float32)
        change, its, _ = gmres(jacobian, level.preconditioner, rhs, LINEAR_TOLERANCE, level.numerics.krylov_vectors)
        krylov_vectors += its
        if not np.isfinite(change).all():
            return None
        step = np.zeros_like(q)
        step[:, axes] = change
        clip_log_omega_step(step)
        before, factor = size, float(max_step_fraction(q, step, gamma).min())
        for _ in range(MAX_HALVINGS + 1):
            trial = q + factor * step
            R = balance(trial)
            size = float(np.sqrt(np.sum((R * level.rows) ** 2)))
            if size < before:
                break
            factor *= 0.5
        else:
            return None
        q, jacobian_is_current = trial, size < SLOW_REDUCTION * before
    return (q, MAX_INNER_ITERATIONS, krylov_vectors, size / first) if size < 0.1 * first else None
