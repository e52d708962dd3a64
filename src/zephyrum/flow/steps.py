"""One step of the march: how long it may be, how far along the change found it goes, and the CFL number that follows.

A step is limited in pressure, temperature and velocity, then shortened until the residual with its time term does not grow. Verified by validation/.
"""

import math

import numpy as np

from zephyrum.flow.gas import conserved

CFL_CAP = 1e8
CFL_FLOOR = 1e-2
CHANGE = 0.2  # largest relative change of pressure and temperature in one step
LOOSE = 1e-3  # share of the cells in space whose own steps are shortened more than that of all
LEAST_FACTOR = 0.1  # a step that has to be shortened more is not taken: the time step is
TURBULENT_CHANGE = 0.7, 1.0, 5.0  # in space: largest fall and rise of nu~ in one step, and what is always allowed [nu]
RATE_CHANGE = 2.0  # largest change of log(omega) in one step
HALVINGS = 5
ACCEPT = 3.0  # growth of the residual that a step may cause: a strictly falling one would stall moving shocks
POOR = 0.7  # of the residual left by a full step in Newton's regime, above which half of it is tried as well
NEWTON_CFL = 1e6
COSTLY = 20  # Krylov vectors of a step with friction in space, below the CFL number EARLY, that tell of a few bad cells
EARLY = 1e3
MOST_VECTORS = 40  # with friction in space, before Newton's regime: more are better spent on a shorter step
EASY = 8  # Krylov vectors of a step in space, past EARLY, up to which the next may be twice as long whatever the residual did
GENTLE = 2.0  # growth of such CFL numbers in one step


def laborious(cfl: float, viscous: bool, space: bool, krylov: int) -> bool:
    """Whether a step took so many Krylov vectors at so low a CFL number that a few cells must be to blame."""
    return early(cfl, viscous, space) and krylov > COSTLY


def early(cfl: float, viscous: bool, space: bool) -> bool:
    """Whether boundary layers in space are still being built."""
    return viscous and space and cfl < EARLY


def most_vectors(cfl: float, viscous: bool, space: bool, most: int) -> int:
    """Krylov vectors that a step may take, `most` being asked for."""
    return min(most, MOST_VECTORS) if viscous and space and cfl < NEWTON_CFL else most


def next_cfl(
    cfl: float, factor: float, ratio: float, viscous: bool, space: bool, krylov: int, down: bool = False
) -> float:
    """CFL number after a step taken with `factor` that multiplied the residual by `ratio` and took so many Krylov vectors.

    Turbulent boundary layers are nonlinear enough to be thrown off by a fast ramp: they get a slower one, in space still slower.
    down: the residuals are as low as asked and the coefficients still creep; layers of micrometres let them go only at high CFL numbers.
    """
    if down and viscous and space and factor > 0.9:
        return min(cfl if krylov >= MOST_VECTORS else 3.0 * cfl, CFL_CAP)
    if laborious(cfl, viscous, space, krylov):
        return max(0.3 * cfl, CFL_FLOOR)
    if factor < 0.3:
        return max((0.2 if factor < 0.05 and viscous else 0.5) * cfl, CFL_FLOOR)
    if not viscous:
        if factor <= 0.9:
            return cfl
        return min(cfl * (1.5 if ratio > 1.2 else max(2.0, min(1.0 / max(ratio, 1e-3), 10.0))), CFL_CAP)
    if factor <= 0.9:
        return max(0.6 * cfl, CFL_FLOOR)
    if ratio > 1.0:
        return 0.5 * cfl if space and krylov > COSTLY and cfl < NEWTON_CFL else cfl
    building = early(cfl, viscous, space)  # a faster ramp has been seen to drive jets at corners of a millimetre
    most = 10.0 if cfl > NEWTON_CFL else GENTLE if building else 3.0
    least = 2.0 if space and krylov <= EASY and not building else 1.5
    return min(cfl * max(least, min(1.0 / max(ratio, 1e-3), most)), CFL_CAP)


def shares(q: np.ndarray, step: np.ndarray, gamma: float) -> np.ndarray:
    """(n,) the share of a step that keeps the changes of pressure, temperature and velocity moderate, at most 1."""
    most = np.maximum(np.abs(gamma * step[:, 0]) / (1.0 + gamma * q[:, 0]), np.abs(step[:, 4]) / q[:, 4]) / CHANGE
    np.maximum(most, np.sqrt(np.einsum("ij,ij->i", step[:, 1:4], step[:, 1:4])), out=most)
    return 1.0 / np.maximum(most, 1.0)


def clip_rate_step(step: np.ndarray) -> None:
    """Clip the change of log(omega) in every cell of `step` (n, m) to `RATE_CHANGE`, in place; without omega do nothing.

    It is clipped cell by cell, since one cell that asks for a change of hundreds would hold back the step of all.
    """
    if step.shape[1] > 6:
        np.clip(step[:, 6], -RATE_CHANGE, RATE_CHANGE, out=step[:, 6])


def search(level, q, R, change, rate, growth, total, newton: bool):
    """The longest acceptable step along `change`: (states, residual, factor), or None. rate (n,), growth (n, nt): inertia in the matrix."""
    gamma = level.scales.gamma
    step = np.zeros_like(q)
    step[:, level.domain.axes] = change
    clip_rate_step(step)
    each = shares(q, step, gamma)
    if q.shape[1] == 6 and not level.mesh.planar:  # the norm of all cells does not see one column that swings
        fall, rise, least = TURBULENT_CHANGE
        size = np.abs(q[:, 5])
        np.clip(step[:, 5], -fall * size - least, rise * size + least, out=step[:, 5])
    loose = 0 if level.mesh.planar else int(LOOSE * len(each))
    factor = float(np.partition(each, loose)[loose])
    if loose:
        step *= np.minimum(each / factor, 1.0)[:, None]
    if factor < LEAST_FACTOR and level.residual.model != "euler":
        return None
    old = conserved(q, gamma)
    best = None  # a poor full step: two states on either side of a bend may swap for ever, half a step ends that
    for _ in range(HALVINGS + 1):
        trial = q + factor * step
        if (1.0 + gamma * trial[:, 0] > 0.0).all() and (trial[:, 4] > 0.0).all():
            R_trial = level.evaluate(trial)
            new = R_trial + rate[:, None] * (conserved(trial, gamma) - old)
            if growth.size:
                new[:, 5:] += growth * (trial - q)[:, 5:]
            size = float(np.sqrt(np.sum((new * level.rows) ** 2)))
            if math.isfinite(size) and size <= ACCEPT * total:
                if best is None and size > POOR * total and newton:
                    best = trial, R_trial, factor, size, level.found, level.residual.outer
                else:
                    if best is not None and best[3] <= size:
                        level.found, level.residual.outer = best[4:]
                        level.residual.differentiate(best[0])
                        return best[:3]
                    return trial, R_trial, factor
        factor *= 0.5
    return None if best is None else best[:3]
