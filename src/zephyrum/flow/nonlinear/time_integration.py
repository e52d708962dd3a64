"""Integration in time: second-order backward differences, every step solved by the same Newton-Krylov method.

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
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, Evaluation, FlowState
from zephyrum.flow.nonlinear.flow_problem import FlowProblem
from zephyrum.flow.nonlinear.history import History
from zephyrum.flow.nonlinear.start_up import initial_state
from zephyrum.flow.nonlinear.step_control import clip_log_omega_step, max_step_fraction
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import conserved

ROUND_OFF = 1e-9  # [-] of the residual of the undisturbed stream, below which a time step is solved in any case


@dataclass(frozen=True, eq=False)
class TimeIntegration:
    """Result of an integration in time.

    Attributes
    ----------
    rows : array (n, 7)
        Scaled time [m], CL, CD, CM, Newton steps, Krylov vectors and residual drop of each step.
    flow : FlowState
        The last state; its outcome is OSCILLATING, or FAILED with the reason.
    before : array (n, m)
        States one step earlier.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = FlowProblem(mesh, Freestream(mach=0.3), mesh.reference)
    >>> integrate_in_time(problem, TimeSteps(length=0.5, count=2)).flow.q.shape
    (384, 5)
    """

    rows: np.ndarray
    flow: FlowState
    before: np.ndarray


@dataclass(frozen=True)
class TimeReports:
    """Receivers of an integration in time.

    Attributes
    ----------
    on_step : callable, optional
        Receives a dict of time, CL, CD and CM.
    on_state : callable, optional
        Receives rows, states and the states before.

    Examples
    --------
    >>> TimeReports().on_step is None
    True
    """

    on_step: Callable[[dict], None] | None = None
    on_state: Callable[[np.ndarray, np.ndarray, np.ndarray], None] | None = None


@dataclass(frozen=True)
class TimeSteps:
    """Steps of an integration in time.

    Attributes
    ----------
    length : float
        Of a step, in scaled time [m].
    count : int
        Number of steps.
    residual_drop : float
        Decades within a step.

    Examples
    --------
    >>> TimeSteps(length=0.1, count=20).residual_drop
    3.0
    """

    length: float
    count: int
    residual_drop: float = 3.0


Forcing = Callable[[float], tuple[np.ndarray | None, np.ndarray | None]]


def integrate_in_time(
    problem: FlowProblem,
    steps: TimeSteps,
    start: np.ndarray | None = None,
    forcing: Forcing | None = None,
    reports: TimeReports | None = None,
    resume: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
) -> TimeIntegration:
    """Integrate in time.

    Parameters
    ----------
    problem : FlowProblem
    steps : TimeSteps
    start : array (n, m), optional
        States to start from; without them the initial state of a steady run.
    forcing : callable, optional
        Gives (source, exterior) of a `FlowProblem` at a scaled time, for verification.
    reports : TimeReports, optional
    resume : tuple of arrays, optional
        What `TimeReports.on_state` was given last: the integration continues from there.

    Returns
    -------
    TimeIntegration

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = FlowProblem(mesh, Freestream(mach=0.3), mesh.reference)
    >>> run = integrate_in_time(problem, TimeSteps(length=0.5, count=2))
    >>> len(run.rows)
    3
    """
    reports, begin = reports or TimeReports(), time.perf_counter()
    if forcing is not None:
        source, exterior = forcing(0.0)
        problem = problem.at(source=source, exterior=exterior)
    level = DiscreteProblem(problem)
    q = _start_state(level) if start is None else start.copy()
    now = level.evaluate(q)
    rows = [[0.0, *now.coefficients, 0, 0, 0.0]]
    last = q.copy()
    if resume is not None:
        rows, q, last = [list(row) for row in resume[0]], resume[1].copy(), resume[2].copy()
        now = level.evaluate(q)
    outcome, reason = Outcome.OSCILLATING, "integrated in time"
    for n in range(len(rows), steps.count + 1):
        if forcing is not None:
            level.residual.source, level.residual.exterior = forcing(n * steps.length)
        made = _time_step(level, now.q, last if n > 1 else None, steps)
        if made is None:
            outcome = Outcome.FAILED
            reason = f"no solution of the step at scaled time {n * steps.length:.4g}: take a shorter step"
            break
        last = now.q
        level.release(now)
        now, *counts = made
        rows.append([n * steps.length, *now.coefficients, *counts])
        if reports.on_step is not None:
            reports.on_step(dict(zip(("time", "CL", "CD", "CM"), rows[-1], strict=False)))
        if reports.on_state is not None:
            reports.on_state(np.array(rows), now.q, last)
    return TimeIntegration(np.array(rows), level.flow(now, outcome, reason, History(), begin), last)


def _start_state(level: DiscreteProblem) -> np.ndarray:
    """(n, m) states that an integration starts from."""
    problem = level.problem
    return initial_state(level.mesh, level.law, level.scales.freestream, level.reference.chord, problem.viscous)


@dataclass(frozen=True, eq=False)
class _TimeTerms:
    """Backward difference of a time step: rate (n,) of the new states U and the part (n, m) of the old ones."""

    rate: np.ndarray
    history: np.ndarray

    @classmethod
    def of(cls, level: DiscreteProblem, q: np.ndarray, before: np.ndarray | None, length: float) -> "_TimeTerms":
        """Terms from the states at the last step and the one before it; without that one of first order.

        The difference is (1 + c) U - (1 + 2 c) U_last + c U_before over the step, c = 1/2, in the first step c = 0.
        """
        gamma, volume = level.scales.gamma, level.domain.volume
        c = 0.0 if before is None else 0.5
        history = (1.0 + 2.0 * c) * conserved(q, gamma)
        if before is not None:
            history -= c * conserved(before, gamma)
        return cls((1.0 + c) * volume / length, history * (volume / length)[:, None])

    def balance(self, level: DiscreteProblem, now: Evaluation) -> np.ndarray:
        """(n, m) residual with the time derivative."""
        return now.R + self.rate[:, None] * conserved(now.q, level.scales.gamma) - self.history


def _first_guess(q: np.ndarray, before: np.ndarray | None, gamma: float) -> np.ndarray:
    """States extrapolated in time, or q where that is not physical."""
    guess = q if before is None else q + (q - before)
    physical = (guess[:, 4] > 0.0).all() and (1.0 + gamma * guess[:, 0] > 0.0).all()
    return guess if physical else q


def _time_step(
    level: DiscreteProblem, q: np.ndarray, before: np.ndarray | None, steps: TimeSteps
) -> tuple[Evaluation, int, int, float] | None:
    """Solve one step from states q and those before: (evaluation, Newton steps, Krylov vectors, drop), or None."""
    jacobian, axes, inner = level.jacobian, level.domain.axes, level.numerics.inner
    terms = _TimeTerms.of(level, q, before, steps.length)
    now = level.evaluate(_first_guess(q, before, level.scales.gamma))
    R = terms.balance(level, now)
    size = first = level.norm(R)
    krylov_vectors, jacobian_is_current = 0, False
    least = ROUND_OFF * float(np.linalg.norm(level.start_norm))
    for iteration in range(inner.max_iterations + 1):
        if size <= first * 10.0**-steps.residual_drop or size < least:
            return now, iteration, krylov_vectors, size / max(first, 1e-300)
        if not jacobian_is_current:
            level.linearise(now)
            jacobian.set_inertia(terms.rate)
            level.preconditioner.update(jacobian)
        rhs = (-R * level.rows)[:, axes].astype(np.float32)
        vectors = level.numerics.linear_solver.max_vectors
        change, used, _ = gmres(jacobian, level.preconditioner, rhs, inner.tolerance, vectors)
        krylov_vectors += used
        trial = _reduced(level, terms, now, change, size) if np.isfinite(change).all() else None
        if trial is None:
            return None
        level.release(now)
        before_step, now = size, trial
        R = terms.balance(level, now)
        size = level.norm(R)
        jacobian_is_current = size < inner.slow_reduction * before_step
    return (now, inner.max_iterations, krylov_vectors, size / first) if size < 0.1 * first else None


def _reduced(
    level: DiscreteProblem, terms: _TimeTerms, now: Evaluation, change: np.ndarray, size: float
) -> Evaluation | None:
    """Evaluation after the longest step along a change that lowers the residual from `size`; None if there is none."""
    limits, gamma = level.numerics.line_search, level.scales.gamma
    step = np.zeros_like(now.q)
    step[:, level.domain.axes] = change
    clip_log_omega_step(step, limits)
    factor = float(max_step_fraction(now.q, step, gamma, limits).min())
    for _ in range(limits.max_halvings + 1):
        trial = level.evaluate(now.q + factor * step)
        if level.norm(terms.balance(level, trial)) < size:
            return trial
        level.release(trial)
        factor *= 0.5
    return None
