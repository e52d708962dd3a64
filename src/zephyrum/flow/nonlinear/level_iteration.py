"""Newton iterations with pseudo-transient continuation on one mesh.

Each step proposes a CFL number, solves the linear system, accepts or rejects the change, and updates the states.
Sources: Kelley and Keyes (1998), SIAM J. Numer. Anal. 35:508; Mulder and van Leer (1985), J. Comput. Phys. 59:232.
Verified by validation/ (every case there ends converged).
"""

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from zephyrum.flow.linear.gmres import gmres
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.step_control import (
    NEWTON_CFL,
    START_UP_CFL,
    line_search,
    linear_solve_too_costly,
    max_krylov_vectors,
    next_cfl,
)
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import EQUATION_NAMES

LINEAR_TOLERANCES = (0.1, 0.5)  # of a Newton step; looser only when the target is nearly reached
MAX_LINEAR_RESIDUAL = 0.3  # fraction of a linear system that may be left where the vectors were too few
MAX_RESIDUAL_GROWTH = 6.0  # of the largest residual, once low enough, above which a viscous step in space is taken back
ROUND_OFF = 1e-11  # residuals below this are nothing but round-off
INTERMEDIATE_DROP = 3.5  # decades on a level that only has to lead to the next
MAX_COARSE_ITERATIONS = 80  # on such a level
AT_REST, RESTING = 4, 0.005  # steps over which CL and CD change by no more than that fraction: enough on a coarser mesh
CREEPING_CFL = 3e3  # CFL number below which coefficients of viscous flow may creep
STAGNATION_STEPS = 30  # steps without a lower residual after which a run oscillates
DEMOTION_STEPS = 16  # steps in space without a lower residual after which the few cells that hold it are demoted
DEMOTION_GROWTH = 2.0  # growth of the residual with which two such steps are enough
DEMOTION_LIMITS = (
    0.0005,
    0.95,
)  # fraction of the cells that may be demoted, and of the (squared) residual that they hold
DEMOTION_LIMITS_COSTLY = 0.005, 0.9  # the same where they make the linear solve costly
DEMOTED_CFL = 100.0  # least CFL number after a demotion
MAX_ATTEMPTS = 6  # CFL numbers tried in one step


@dataclass
class Reports:
    """Receivers of the reports of a run: on_step gets a row of `COLUMNS`, on_state states, first-order cells, CFL number and
    rows.
    """

    history: History
    begin: float
    on_step: Callable[[dict], None] | None = None
    on_state: Callable[[np.ndarray, np.ndarray, float, list[tuple]], None] | None = None

    def add(self, iteration: "LevelIteration") -> None:
        """Add a row for the present step."""
        drop, active = iteration.drop, iteration.active
        self.history.add(
            iteration.step,
            iteration.problem.depth,
            time.perf_counter() - self.begin,
            iteration.cfl,
            iteration.krylov_vectors,
            iteration.factor,
            *np.where(active, drop, 0.0),
            *np.zeros(len(EQUATION_NAMES) - len(drop)),
            *iteration.problem.found,
        )
        if self.on_step is not None:
            self.on_step(dict(zip(COLUMNS, self.history.rows[-1], strict=True)))
        if self.on_state is not None and iteration.step > iteration.first:
            self.on_state(iteration.q, iteration.problem.first_order_cells, iteration.cfl, self.history.rows)


@dataclass
class LevelIteration:
    """The iteration on one level: its problem, states q (n, m), CFL number, and what the last step left.

    intermediate: the level only has to lead to the next one; max_steps: most Newton steps; first: number of the first.
    """

    problem: DiscreteProblem
    q: np.ndarray
    cfl: float
    intermediate: bool = False
    max_steps: int | None = None
    first: int = 0
    krylov_vectors: int = field(default=0, init=False)
    factor: float = field(default=1.0, init=False)

    def __post_init__(self) -> None:
        numerics = self.problem.numerics
        self.viscous, self.space = self.problem.residual.model != "euler", not self.problem.mesh.planar
        self.target = 10.0 ** -(INTERMEDIATE_DROP if self.intermediate else numerics.residual_drop)
        self.max_steps = self.max_steps or (MAX_COARSE_ITERATIONS if self.intermediate else numerics.max_iterations)
        self.step = self.best_step = self.first
        self.best, self.best_q = math.inf, self.q
        self.before = self.ceiling = math.inf

    def run(self, reports: Reports) -> tuple[np.ndarray, Outcome, str]:
        """Iterate until the outcome is known: (states, outcome, reason)."""
        self.R = self.problem.evaluate(self.q)
        for step in range(self.first, self.max_steps + 1):
            self.step = step
            self._repair_temperatures()
            self._measure()
            reports.add(self)
            if reason := self._converged(reports.history):
                return self.q, Outcome.CONVERGED, reason
            demoted = self._demote_cells()
            if self.step == self.max_steps or self.step - self.best_step >= STAGNATION_STEPS:
                break
            self._propose(demoted)
            accepted = self._solve_and_accept()
            if accepted is None:
                return self.q, Outcome.FAILED, self._no_step()
            self.q, self.R, self.factor = accepted
        return self._unfinished()

    def _repair_temperatures(self) -> None:
        if not (self.viscous and self.space and self.problem.numerics.order == 2):
            return
        given, self.q = self.q, self.problem.repair_temperature(self.q)
        if self.q is not given:
            self.R = self.problem.evaluate(self.q)
            self.best, self.before = math.inf, self._total()

    def _total(self) -> float:
        return float(np.sqrt(np.sum(self.problem.norms(self.R) ** 2)))

    def _measure(self) -> None:
        """Set the drop of each residual, the largest one, and their norm."""
        norms = self.problem.norms(self.R)
        if self.step == self.first:  # where the freestream itself has no residual, the first one is the measure
            start = self.problem.start_norm
            self.reference = np.where(start > ROUND_OFF, start, np.maximum(norms, 1e-30))
            self.active = self.reference > ROUND_OFF
        self.drop = norms / self.reference
        self.worst = float(self.drop[self.active].max()) if self.active.any() else 0.0
        self.total = float(np.sqrt(np.sum(norms**2)))
        self.enough = self.worst <= self.target

    def _converged(self, history: History) -> str:
        """Why the iteration is done; empty if it is not."""
        creeping = (
            self.viscous and self.space and self.cfl < CREEPING_CFL
        )  # short steps make any coefficient look at rest
        moving = not self.intermediate and self.active.any() and (creeping or history.drifts())
        if self.enough and not moving:
            return f"residuals down {-math.log10(max(self.worst, 1e-16)):.1f} orders"
        ready = self.intermediate and self.space and (not self.viscous or self.cfl > CREEPING_CFL)
        if ready and self.step >= AT_REST and history.resting(AT_REST, RESTING):
            return "the coefficients are at rest"
        return ""

    def _demote_cells(self) -> bool:
        """Take the few cells that hold up the convergence to first order; whether there were new ones."""
        if self.worst < 0.8 * self.best:
            self.best, self.best_step, self.best_q = self.worst, self.step, self.q
        patience = 2 if self.worst > DEMOTION_GROWTH * self.best else DEMOTION_STEPS
        costly = linear_solve_too_costly(self.cfl, self.viscous, self.space, self.krylov_vectors)
        if self.enough or not (costly or self.step - self.best_step >= patience):
            return False
        demoted = self.problem.demote_unconverged(self.R, *(DEMOTION_LIMITS_COSTLY if costly else DEMOTION_LIMITS))
        if not demoted.any():
            return False
        self.q = np.where(demoted[:, None], self.best_q, self.q)  # what has grown there since is discarded
        self.best, self.best_step, self.cfl = math.inf, self.step, max(0.5 * self.cfl, DEMOTED_CFL)
        self.R = self.problem.evaluate(self.q)
        self.total = self._total()
        return True

    def _propose(self, demoted: bool) -> None:
        """Linearise, and set the CFL number and the tolerance of the linear solve."""
        self.problem.linearise(self.q)
        if self.step > self.first and not demoted:
            ratio = self.total / self.before
            self.cfl = next_cfl(
                self.cfl, self.factor, ratio, self.viscous, self.space, self.krylov_vectors, self.enough
            )
        self.before = self.total
        low, high = LINEAR_TOLERANCES
        self.tolerance = low if self.enough else min(max(0.3 * self.target / self.worst, low), high)
        self.cfl, self.ceiling = min(self.cfl, self.ceiling), 1.3 * self.ceiling

    def _solve_and_accept(self) -> tuple[np.ndarray, np.ndarray, float] | None:
        """Solve at falling CFL numbers until a step is accepted: (states, residual, factor)."""
        waves = self.problem.jacobian.wave_sum()
        for attempt in range(MAX_ATTEMPTS):
            rate = waves / self.cfl
            change, growth, trusted = self._solve(rate)
            accepted = None
            if trusted and np.isfinite(change).all():
                newton = self.cfl >= NEWTON_CFL
                accepted = line_search(self.problem, self.q, self.R, change, rate, growth, self.total, newton)
            if accepted is not None and attempt < 3 and self._threw_off(accepted[1]):
                accepted, trusted = None, False
            if accepted is not None:
                return accepted
            if not trusted:
                self.ceiling = 0.4 * self.cfl
            self.cfl *= 0.1 if trusted else 0.2
        return None

    def _solve(self, rate: np.ndarray) -> tuple[np.ndarray, np.ndarray, bool]:
        """(change of the unknowns, inertia of the sources, whether enough of the linear system is solved)."""
        problem, numerics = self.problem, self.problem.numerics
        problem.jacobian.set_inertia(self.q, rate)
        growth = problem.jacobian.stabilise_source_diagonal(self.cfl)
        problem.preconditioner.update(problem.jacobian)
        rhs = (-self.R * problem.rows)[:, problem.domain.axes].astype(np.float32)
        vectors = max_krylov_vectors(self.cfl, self.viscous, self.space, numerics.krylov_vectors)
        change, self.krylov_vectors, unsolved = gmres(
            problem.jacobian, problem.preconditioner, rhs, self.tolerance, vectors
        )
        # what is left of equations not solved is all in a few cells, and would drive them away
        limited = vectors < numerics.krylov_vectors and self.cfl > START_UP_CFL
        return change, growth, not (limited and unsolved > MAX_LINEAR_RESIDUAL)

    def _threw_off(self, R: np.ndarray) -> bool:
        """Whether a step from low residuals of viscous flow in space made one of them large again."""
        if not (self.enough and self.viscous and self.space):
            return False
        growth = float((self.problem.norms(R) / self.reference)[self.active].max())
        return growth > MAX_RESIDUAL_GROWTH * max(self.worst, 0.5 * self.target)

    def _no_step(self) -> str:
        size = np.abs(self.R * self.problem.rows).max(axis=1)
        x, _, z = self.problem.mesh.cell_centroid[int(np.argmax(size))]
        return (
            f"no acceptable step even at CFL {self.cfl:.2g}; the largest residual is at x = {x:.5g}, z = {z:.5g} m: "
            f"{Outcome.FAILED.remedy}"
        )

    def _unfinished(self) -> tuple[np.ndarray, Outcome, str]:
        if not np.isfinite(self.q).all():
            return self.q, Outcome.FAILED, "a state is not finite"
        if self.step < self.max_steps:
            down = -math.log10(max(self.best, 1e-16))
            return self.q, Outcome.OSCILLATING, f"residuals stopped falling {down:.1f} orders down"
        return self.q, Outcome.OSCILLATING, f"{self.max_steps} steps were not enough"
