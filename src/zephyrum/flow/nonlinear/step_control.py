"""One step of the march: how long it may be, how far along the change found it goes, and the CFL number that follows.

A step is limited in pressure, temperature and velocity, then shortened until the residual with its time term does not
grow. Verified by validation/.
"""

import math

import numpy as np

from zephyrum.flow.physics.gas_model import conserved

MAX_CFL = 1e8
MIN_CFL = 1e-2
MAX_RELATIVE_CHANGE = 0.2  # largest relative change of pressure and temperature in one step
FREE_CELL_FRACTION = 1e-3  # fraction of the cells in space whose own steps are shortened more than that of all
MIN_STEP_FACTOR = 0.1  # a step that has to be shortened more is not taken: the time step is
TURBULENCE_CHANGE_LIMITS = (
    0.7,
    1.0,
    5.0,
)  # in space: largest fall and rise of nu~ in one step, and what is always allowed [nu]
MAX_LOG_OMEGA_CHANGE = 2.0  # largest change of log(omega) in one step
MAX_HALVINGS = 5
ACCEPTED_GROWTH = 3.0  # growth of the residual that a step may cause: a strictly falling one would stall moving shocks
POOR_REDUCTION = 0.7  # of the residual left by a full step in Newton's regime, above which half of it is tried as well
NEWTON_CFL = 1e6
COSTLY_VECTORS = (
    20  # Krylov vectors of a step with friction in space, below the CFL number EARLY, that tell of a few bad cells
)
START_UP_CFL = 1e3
MAX_EARLY_VECTORS = 40  # with friction in space, before Newton's regime: more are better spent on a shorter step
# Krylov vectors of a step in space, past EARLY, up to which the next may be twice as long whatever the residual did
EASY_VECTORS = 8
GENTLE_GROWTH = 2.0  # growth of such CFL numbers in one step


def linear_solve_too_costly(cfl: float, viscous: bool, space: bool, krylov_vectors: int) -> bool:
    """Whether a step took so many Krylov vectors at so low a CFL number that a few cells must be to blame."""
    return in_start_up(cfl, viscous, space) and krylov_vectors > COSTLY_VECTORS


def in_start_up(cfl: float, viscous: bool, space: bool) -> bool:
    """Whether boundary layers in space are still being built."""
    return viscous and space and cfl < START_UP_CFL


def max_krylov_vectors(cfl: float, viscous: bool, space: bool, requested: int) -> int:
    """Krylov vectors that a step may take, `requested` being asked for."""
    return min(requested, MAX_EARLY_VECTORS) if viscous and space and cfl < NEWTON_CFL else requested


def next_cfl(
    cfl: float, factor: float, ratio: float, viscous: bool, space: bool, krylov_vectors: int, down: bool = False
) -> float:
    """CFL number after a step taken with `factor` that multiplied the residual by `ratio` and took so many Krylov
    vectors.

    Turbulent boundary layers are nonlinear enough to be thrown off by a fast ramp: they get a slower one, in space
    still slower. down: the residuals are as low as asked and the coefficients still creep; layers of micrometres let
    them go only at high CFL numbers.
    """
    if down and viscous and space and factor > 0.9:
        return min(cfl if krylov_vectors >= MAX_EARLY_VECTORS else 3.0 * cfl, MAX_CFL)
    if linear_solve_too_costly(cfl, viscous, space, krylov_vectors):
        return max(0.3 * cfl, MIN_CFL)
    if factor < 0.3:
        return max((0.2 if factor < 0.05 and viscous else 0.5) * cfl, MIN_CFL)
    if not viscous:
        if factor <= 0.9:
            return cfl
        return min(cfl * (1.5 if ratio > 1.2 else max(2.0, min(1.0 / max(ratio, 1e-3), 10.0))), MAX_CFL)
    if factor <= 0.9:
        return max(0.6 * cfl, MIN_CFL)
    if ratio > 1.0:
        return 0.5 * cfl if space and krylov_vectors > COSTLY_VECTORS and cfl < NEWTON_CFL else cfl
    building = in_start_up(cfl, viscous, space)  # a faster ramp has been seen to drive jets at corners of a millimetre
    max_growth = 10.0 if cfl > NEWTON_CFL else GENTLE_GROWTH if building else 3.0
    least = 2.0 if space and krylov_vectors <= EASY_VECTORS and not building else 1.5
    return min(cfl * max(least, min(1.0 / max(ratio, 1e-3), max_growth)), MAX_CFL)


def max_step_fraction(q: np.ndarray, step: np.ndarray, gamma: float) -> np.ndarray:
    """(n,) the fraction of a step that keeps the changes of pressure, temperature and velocity moderate, at most 1."""
    largest_change = (
        np.maximum(np.abs(gamma * step[:, 0]) / (1.0 + gamma * q[:, 0]), np.abs(step[:, 4]) / q[:, 4])
        / MAX_RELATIVE_CHANGE
    )
    np.maximum(largest_change, np.sqrt(np.einsum("ij,ij->i", step[:, 1:4], step[:, 1:4])), out=largest_change)
    return 1.0 / np.maximum(largest_change, 1.0)


def clip_log_omega_step(step: np.ndarray) -> None:
    """Clip the change of log(omega) in every cell of `step` (n, m) to `MAX_LOG_OMEGA_CHANGE`, in place; without omega
    do nothing.

    It is clipped cell by cell, since one cell that asks for a change of hundreds would hold back the step of all.
    """
    if step.shape[1] > 6:
        np.clip(step[:, 6], -MAX_LOG_OMEGA_CHANGE, MAX_LOG_OMEGA_CHANGE, out=step[:, 6])


def line_search(level, q, R, change, rate, growth, total, newton: bool):
    """The longest acceptable step along `change`: (states, residual, factor), or None. rate (n,), growth (n, nt):
    inertia in the matrix.
    """
    gamma = level.scales.gamma
    step = np.zeros_like(q)
    step[:, level.domain.axes] = change
    clip_log_omega_step(step)
    each = max_step_fraction(q, step, gamma)
    if q.shape[1] == 6 and not level.mesh.planar:  # the norm of all cells does not see one column that oscillates
        fall, rise, least = TURBULENCE_CHANGE_LIMITS
        size = np.abs(q[:, 5])
        np.clip(step[:, 5], -fall * size - least, rise * size + least, out=step[:, 5])
    free_cells = 0 if level.mesh.planar else int(FREE_CELL_FRACTION * len(each))
    factor = float(np.partition(each, free_cells)[free_cells])
    if free_cells:
        step *= np.minimum(each / factor, 1.0)[:, None]
    if factor < MIN_STEP_FACTOR and level.residual.model != "euler":
        return None
    old = conserved(q, gamma)
    best = None  # a poor full step: two states on either side of a bend may swap without end, half a step ends that
    for _ in range(MAX_HALVINGS + 1):
        trial = q + factor * step
        if (1.0 + gamma * trial[:, 0] > 0.0).all() and (trial[:, 4] > 0.0).all():
            R_trial = level.evaluate(trial)
            new = R_trial + rate[:, None] * (conserved(trial, gamma) - old)
            if growth.size:
                new[:, 5:] += growth * (trial - q)[:, 5:]
            size = float(np.sqrt(np.sum((new * level.rows) ** 2)))
            if math.isfinite(size) and size <= ACCEPTED_GROWTH * total:
                if best is None and size > POOR_REDUCTION * total and newton:
                    best = trial, R_trial, factor, size, level.found, level.residual.exterior
                else:
                    if best is not None and best[3] <= size:
                        level.found, level.residual.exterior = best[4:]
                        level.residual.differentiate(best[0])
                        return best[:3]
                    return trial, R_trial, factor
        factor *= 0.5
    return None if best is None else best[:3]
