"""Control of one Newton step: its CFL number, its limits and the line search along it.

A step is limited in pressure, temperature and velocity, then halved until the residual with its pseudo-time term is
acceptable. Sources: Mulder and van Leer (1985), J. Comput. Phys. 59:232 (CFL number from the residual); Dennis and
Schnabel (1983), Numerical Methods for Unconstrained Optimization, ch. 6 (line search). Verified by
tests/test_verdicts.py and validation/.
"""

import math
from dataclasses import dataclass

import numpy as np

from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, Evaluation
from zephyrum.flow.nonlinear.policies import CFLControl, LinearSolver, LineSearch
from zephyrum.flow.physics.gas_model import conserved


@dataclass(frozen=True)
class Regime:
    """Kind of flow that the step control distinguishes.

    Attributes
    ----------
    viscous : bool
        Whether the flow is viscous.
    space : bool
        Whether the flow is three-dimensional.

    Examples
    --------
    >>> Regime(viscous=False, space=False).building_layers(CFLControl(), 10.0)
    False
    """

    viscous: bool
    space: bool

    def building_layers(self, control: CFLControl, cfl: float) -> bool:
        """Whether boundary layers of three-dimensional flow are still being built.

        Parameters
        ----------
        control : CFLControl
            CFL control.
        cfl : float
            CFL number.
        """
        return self.viscous and self.space and cfl < control.boundary_layers

    def linear_solve_too_costly(self, control: CFLControl, cfl: float, krylov_vectors: int) -> bool:
        """Whether a step took so many Krylov vectors at so low a CFL number that a few cells hold up the solve.

        Parameters
        ----------
        control : CFLControl
            CFL control.
        cfl : float
            CFL number.
        krylov_vectors : int
            Number of Krylov vectors.
        """
        return self.building_layers(control, cfl) and krylov_vectors > control.costly_vectors

    def max_krylov_vectors(self, solver: LinearSolver, control: CFLControl, cfl: float) -> int:
        """Krylov vectors that a step may take.

        Parameters
        ----------
        solver : LinearSolver
            Linear solver.
        control : CFLControl
            CFL control.
        cfl : float
            CFL number.
        """
        early = self.viscous and self.space and cfl < control.newton
        return min(solver.max_vectors, solver.max_vectors_early) if early else solver.max_vectors


@dataclass(frozen=True)
class StepTaken:
    """A step that was taken.

    Attributes
    ----------
    cfl : float
    factor : float
        Of the line search.
    ratio : float
        Residual after the step over that before it.
    krylov_vectors : int
    at_target : bool
        Whether the residuals are as low as asked while the coefficients still drift.
    out_of_vectors : bool
        Whether the step took as many Krylov vectors as it might.

    Examples
    --------
    >>> StepTaken(cfl=10.0, factor=1.0, ratio=0.5, krylov_vectors=5).out_of_vectors
    False
    """

    cfl: float
    factor: float
    ratio: float
    krylov_vectors: int
    at_target: bool = False
    out_of_vectors: bool = False


def next_cfl(control: CFLControl, regime: Regime, step: StepTaken) -> float:
    """CFL number of the next step.

    Parameters
    ----------
    control : CFLControl
        CFL control.
    regime : Regime
        What kind of flow is solved.
    step : StepTaken
        The step that was taken.

    Notes
    -----
    Turbulent boundary layers are nonlinear enough to diverge in a fast growth: they get a slower one, in three
    dimensions still slower. At the target only high CFL numbers let coefficients converge where layers are micrometres
    high.

    Examples
    --------
    >>> step = StepTaken(cfl=10.0, factor=1.0, ratio=0.5, krylov_vectors=5)
    >>> next_cfl(CFLControl(), Regime(viscous=False, space=False), step) > 10.0
    True
    """
    cfl = step.cfl
    if step.at_target and regime.viscous and regime.space and step.factor > 0.9:
        return cfl if step.out_of_vectors else min(control.max_growth * cfl, control.maximum)
    if regime.linear_solve_too_costly(control, cfl, step.krylov_vectors):
        return max(control.reduction_costly * cfl, control.minimum)
    if step.factor < 0.3:
        very_short = step.factor < 0.05 and regime.viscous
        reduction = control.reduction_very_short if very_short else control.reduction_short
        return max(reduction * cfl, control.minimum)
    grown = _viscous_cfl(control, regime, step) if regime.viscous else _inviscid_cfl(control, step)
    return min(max(grown, control.minimum), control.maximum)


def _inviscid_cfl(control: CFLControl, step: StepTaken) -> float:
    """CFL number after a step of inviscid flow that was not short."""
    if step.factor <= 0.9:
        return step.cfl
    if step.ratio > 1.2:
        return control.min_growth * step.cfl
    growth = min(1.0 / max(step.ratio, 1e-3), control.max_growth_newton)
    return step.cfl * max(control.min_growth_easy, growth)


def _viscous_cfl(control: CFLControl, regime: Regime, step: StepTaken) -> float:
    """CFL number after a step of viscous flow that was not short."""
    cfl = step.cfl
    newton, easy = cfl > control.newton, step.krylov_vectors <= control.easy_vectors
    if step.factor <= 0.9:
        return control.reduction_limited * cfl
    if step.ratio > 1.0:
        costly = regime.space and step.krylov_vectors > control.costly_vectors and cfl < control.newton
        return control.reduction_short * cfl if costly else cfl
    building = regime.building_layers(control, cfl)
    slow_growth = control.max_growth_layers if building else control.max_growth
    largest = control.max_growth_newton if newton else slow_growth
    least = control.min_growth_easy if regime.space and easy and not building else control.min_growth
    return cfl * max(least, min(1.0 / max(step.ratio, 1e-3), largest))


def max_step_fraction(q: np.ndarray, step: np.ndarray, gamma: float, limits: LineSearch) -> np.ndarray:
    """Fraction of a step that keeps the changes of pressure, temperature and velocity moderate, at most 1.

    Parameters
    ----------
    q : (n, m) array
        States.
    step : (n, m) array
        Change.
    gamma : float
        Ratio of the specific heats.
    limits : LineSearch
        Limits of the line search.

    Returns
    -------
    (n,) array

    Examples
    --------
    >>> q = np.array([[0.0, 0.5, 0.0, 0.0, 1.0]])
    >>> step = np.array([[0.0, 0.0, 0.0, 0.0, -2.0]])  # to a negative temperature
    >>> bool(max_step_fraction(q, step, 1.4, LineSearch())[0] < 0.5)
    True
    """
    largest_change = (
        np.maximum(np.abs(gamma * step[:, 0]) / (1.0 + gamma * q[:, 0]), np.abs(step[:, 4]) / q[:, 4])
        / limits.max_relative_change
    )
    np.maximum(largest_change, np.sqrt(np.einsum("ij,ij->i", step[:, 1:4], step[:, 1:4])), out=largest_change)
    return 1.0 / np.maximum(largest_change, 1.0)


def clip_log_omega_step(step: np.ndarray, limits: LineSearch) -> None:
    """Clip the change of log(omega) in every cell, in place; without omega do nothing.

    Parameters
    ----------
    step : (n, m) array
        Change.
    limits : LineSearch
        Limits of the line search.

    Notes
    -----
    It is clipped cell by cell, since one cell that asks for a change of hundreds would hold back the step of all.

    Examples
    --------
    >>> step = np.zeros((1, 7))
    >>> step[0, 6] = 300.0
    >>> clip_log_omega_step(step, LineSearch())
    >>> bool(step[0, 6] < 300.0)
    True
    """
    if step.shape[1] > 6:
        np.clip(step[:, 6], -limits.max_log_omega_change, limits.max_log_omega_change, out=step[:, 6])


def limited_step(problem: DiscreteProblem, q: np.ndarray, change: np.ndarray) -> tuple[np.ndarray, float]:
    """Step of all unknowns from the change of the active ones, and the factor that limits it.

    Parameters
    ----------
    problem : DiscreteProblem
        Discrete problem.
    q : (n, m) array
        States.
    change : (n, nb) array
        Change of the active unknowns.

    Returns
    -------
    step : (n, m) array
    factor : float
    """
    limits = problem.numerics.line_search
    step = np.zeros_like(q)
    step[:, problem.domain.axes] = change
    clip_log_omega_step(step, limits)
    each = max_step_fraction(q, step, problem.scales.gamma, limits)
    if q.shape[1] == 6 and not problem.mesh.planar:  # the norm of all cells does not show one column that oscillates
        size, least = np.abs(q[:, 5]), limits.free_turbulence_change
        lowest, highest = -limits.max_turbulence_fall * size - least, limits.max_turbulence_rise * size + least
        np.clip(step[:, 5], lowest, highest, out=step[:, 5])
    free_cells = 0 if problem.mesh.planar else int(limits.free_cell_fraction * len(each))
    factor = float(np.partition(each, free_cells)[free_cells])
    if free_cells:
        step *= np.minimum(each / factor, 1.0)[:, None]
    return step, factor


@dataclass(frozen=True, eq=False)
class PseudoTime:
    """Pseudo-time terms of the matrix.

    Attributes
    ----------
    rate : (n,) array
        Volume over time step.
    growth : (n, nt) array
        Of the turbulence sources.

    Examples
    --------
    >>> PseudoTime(rate=np.ones(4), growth=np.zeros((4, 0))).rate
    array([1., 1., 1., 1.])
    """

    rate: np.ndarray
    growth: np.ndarray

    def residual(self, problem: DiscreteProblem, now: Evaluation, trial: Evaluation) -> float:
        """Norm of the residual of a trial with the terms of its change; infinite where it is not finite.

        Parameters
        ----------
        problem : DiscreteProblem
            Discrete problem.
        now : Evaluation
            Evaluation before the step.
        trial : Evaluation
            Evaluation after it.
        """
        gamma = problem.scales.gamma
        R = trial.R + self.rate[:, None] * (conserved(trial.q, gamma) - conserved(now.q, gamma))
        if self.growth.size:
            R[:, 5:] += self.growth * (trial.q - now.q)[:, 5:]
        size = problem.norm(R)
        return size if math.isfinite(size) else math.inf


def line_search(
    problem: DiscreteProblem, now: Evaluation, change: np.ndarray, pseudo_time: PseudoTime, newton: bool
) -> tuple[Evaluation, float] | None:
    """The longest acceptable step along a change of the active unknowns.

    Parameters
    ----------
    problem : DiscreteProblem
    now : Evaluation
    change : array (n, nb)
    pseudo_time : PseudoTime
    newton : bool
        Whether a poor full step is compared with half of it: two states on either side of a kink may alternate
        otherwise.

    Returns
    -------
    (Evaluation, factor) or None if no step is acceptable
    """
    limits, gamma, total = problem.numerics.line_search, problem.scales.gamma, problem.norm(now.R)
    step, factor = limited_step(problem, now.q, change)
    if factor < limits.min_factor and problem.residual.model != "euler":
        return None
    kept, kept_size = None, math.inf
    for _ in range(limits.max_halvings + 1):
        q = now.q + factor * step
        if (1.0 + gamma * q[:, 0] > 0.0).all() and (q[:, 4] > 0.0).all():
            trial = problem.evaluate(q)
            size = pseudo_time.residual(problem, now, trial)
            if size > limits.accepted_growth * total:
                problem.release(trial)
            elif kept is None and newton and size > limits.poor_reduction * total:
                kept, kept_size = (trial, factor), size
            elif kept is None or size < kept_size:
                if kept is not None:
                    problem.release(kept[0])
                return trial, factor
            else:
                problem.release(trial)
                return kept
        factor *= 0.5
    return kept
