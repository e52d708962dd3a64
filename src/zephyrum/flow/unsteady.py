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

from zephyrum.air import Freestream, Reference
from zephyrum.flow.boundary import Walls
from zephyrum.flow.gas import conserved
from zephyrum.flow.history import History
from zephyrum.flow.krylov import gmres
from zephyrum.flow.level import Flow, Level
from zephyrum.flow.settings import Settings
from zephyrum.flow.start import first_guess
from zephyrum.flow.steps import HALVINGS, clip_rate_step, shares
from zephyrum.mesh import Mesh

INNER = 20  # Newton steps within a time step
SLOW = 0.25  # of the residual left by an inner step, above which the Jacobian is renewed
TOLERANCE = 0.1  # of the linear solve
ROUND_OFF = 1e-9  # of the residual of the undisturbed stream, below which a time step is solved in any case


@dataclass(frozen=True, eq=False)
class TimeMarch:
    """What marching in time leaves: `rows` (n, 7) of time [scaled, m], CL, CD, CM, inner steps, Krylov steps, drop.

    flow: the last state, its verdict "wandering", or "failed" with the reason; before (n, m): the states a step earlier.
    """

    rows: np.ndarray
    flow: Flow
    before: np.ndarray


def march_in_time(
    mesh: Mesh,
    air: Freestream,
    reference: Reference,
    step: float,
    count: int,
    settings: Settings | None = None,
    start: np.ndarray | None = None,
    on_step: Callable[[dict], None] | None = None,
    model: str = "laminar",
    walls: Callable[[Mesh], Walls] | None = None,
    orders: float = 3.0,
    source: Callable[[float], np.ndarray] | None = None,
    outer: Callable[[float], np.ndarray] | None = None,
    resume: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
    on_state: Callable[[np.ndarray, np.ndarray, np.ndarray], None] | None = None,
) -> TimeMarch:
    """March `count` steps of `step` (scaled time: metres over the speed of sound) from states `start` (n, m).

    orders: decades by which the residual of every time step must fall. source and outer give, at a scaled time, what
    `march` takes under these names, for verification. on_step receives a dict of time, CL, CD, CM after each step,
    on_state (rows, states, states a step earlier): given back as `resume`, these go on as if nothing had happened.
    """
    settings, begin = settings or Settings(), time.perf_counter()
    first = None if outer is None else outer(0.0)
    level = Level(
        mesh,
        0,
        air,
        reference,
        settings,
        model,
        None if source is None else source(0.0),
        first,
        None if walls is None else walls(mesh),
    )
    q = first_guess(mesh, level.law, level.scales.freestream, reference.chord, model != "euler")
    q = q if start is None else start.copy()
    gamma, volume = level.scales.gamma, level.domain.volume
    old = before = conserved(q, gamma)
    last = q.copy()
    level.evaluate(q)
    rows = [[0.0, *level.found, 0, 0, 0.0]]
    if resume is not None:
        rows, q, last = [list(row) for row in resume[0]], resume[1].copy(), resume[2].copy()
        old, before = conserved(q, gamma), conserved(last, gamma)
    verdict, reason = "wandering", "marched in time"
    for n in range(len(rows), count + 1):
        now = n * step
        if source is not None:
            level.residual.source = source(now)
        if outer is not None:
            level.residual.outer = outer(now)
        # (1 + c) U - (1 + 2 c) U_old + c U_before over the step, c = 1/2; the first step has c = 0
        c = 0.5 if n > 1 else 0.0
        rate = (1.0 + c) * volume / step
        past = ((1.0 + 2.0 * c) * old - c * before) * (volume / step)[:, None]
        guess = q + (q - last) if n > 1 else q.copy()
        last, q = q, guess if (guess[:, 4] > 0.0).all() and (1.0 + gamma * guess[:, 0] > 0.0).all() else q.copy()
        made = _time_step(level, q, rate, past, orders)
        if made is None:
            verdict, reason, q = (
                "failed",
                f"no solution of the step at scaled time {now:.4g}: take a shorter step",
                last,
            )
            break
        q, inner, krylov, drop = made
        before, old = old, conserved(q, gamma)
        rows.append([now, *level.found, inner, krylov, drop])
        if on_step is not None:
            on_step(dict(zip(("time", "CL", "CD", "CM"), rows[-1], strict=False)))
        if on_state is not None:
            on_state(np.array(rows), q, last)
    level.evaluate(q)
    return TimeMarch(np.array(rows), level.flow(q, verdict, reason, History(), begin), last)


def _time_step(level: Level, q: np.ndarray, rate: np.ndarray, past: np.ndarray, orders: float):
    """Solve R(q) + rate U(q) - past = 0 from the guess q: (q, inner steps, Krylov steps, drop), or None."""
    gamma, jacobian, axes = level.scales.gamma, level.jacobian, level.domain.axes

    def balance(state):
        return level.evaluate(state) + rate[:, None] * conserved(state, gamma) - past

    R = balance(q)
    size = first = float(np.sqrt(np.sum((R * level.rows) ** 2)))
    krylov, fresh = 0, False
    least = ROUND_OFF * float(np.linalg.norm(level.start_norm))
    for inner in range(INNER + 1):
        if size <= first * 10.0**-orders or size < least:
            return q, inner, krylov, size / max(first, 1e-300)
        if inner == 0 or not fresh:
            level.linearise(q)
            jacobian.set_inertia(q, rate)
            level.preconditioner.update(jacobian)
            fresh = True
        rhs = (-R * level.rows)[:, axes].astype(np.float32)
        change, its, _ = gmres(jacobian, level.preconditioner, rhs, TOLERANCE, level.settings.krylov)
        krylov += its
        if not np.isfinite(change).all():
            return None
        step = np.zeros_like(q)
        step[:, axes] = change
        clip_rate_step(step)
        before, factor = size, float(shares(q, step, gamma).min())
        for _ in range(HALVINGS + 1):
            trial = q + factor * step
            R = balance(trial)
            size = float(np.sqrt(np.sum((R * level.rows) ** 2)))
            if size < before:
                break
            factor *= 0.5
        else:
            return None
        q, fresh = trial, size < SLOW * before
    return (q, INNER, krylov, size / first) if size < 0.1 * first else None
