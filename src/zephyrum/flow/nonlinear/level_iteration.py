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
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, Evaluation
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.step_control import PseudoTime, Regime, StepTaken, line_search, next_cfl
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import EQUATION_NAMES

ROUND_OFF = 1e-11  # [-] residuals below this are round-off


@dataclass
class Reports:
    """Receivers of the reports of a run.

    Attributes
    ----------
    history : History
    begin : float
        Clock [s] at the start.
    on_step : callable, optional
        Receives a dict of `COLUMNS` after every step.
    on_state : callable, optional
        Receives states (n, m), first-order cells (n,), CFL number and rows of the history after every step.

    Examples
    --------
    >>> Reports(History(), time.perf_counter()).on_step is None
    True
    """

    history: History
    begin: float
    on_step: Callable[[dict], None] | None = None
    on_state: Callable[[np.ndarray, np.ndarray, float, list[tuple]], None] | None = None

    def add(self, iteration: "LevelIteration") -> None:
        """Add a row for the present step.

        Parameters
        ----------
        iteration : LevelIteration
            Iteration on a mesh level.
        """
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
            *iteration.now.coefficients,
        )
        if self.on_step is not None:
            self.on_step(dict(zip(COLUMNS, self.history.rows[-1], strict=True)))
        if self.on_state is not None and iteration.step > iteration.first:
            self.on_state(iteration.now.q, iteration.problem.first_order_cells, iteration.cfl, self.history.rows)


@dataclass
class LevelIteration:
    """The iteration on one mesh.

    Attributes
    ----------
    problem : DiscreteProblem
    q : array (n, m)
        States to start from.
    cfl : float
        CFL number of the first step, then of the present one.
    intermediate : bool
        Whether the mesh only leads to the next one.
    max_steps : int, optional
        Most Newton steps; without it as the numerics say.
    first : int
        Number of the first step.
    now : Evaluation
        That of the present states.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.3), mesh.reference))
    >>> q = np.tile(problem.scales.freestream, (mesh.n_cells, 1))
    >>> now, outcome, reason = LevelIteration(problem, q, cfl=10.0).run(Reports(History(), time.perf_counter()))
    >>> print(outcome)
    converged
    """

    problem: DiscreteProblem
    q: np.ndarray
    cfl: float
    intermediate: bool = False
    max_steps: int | None = None
    first: int = 0
    now: Evaluation = field(init=False)
    krylov_vectors: int = field(default=0, init=False)
    factor: float = field(default=1.0, init=False)

    def __post_init__(self) -> None:
        self.numerics = self.problem.numerics
        self.regime = Regime(self.problem.residual.model != "euler", not self.problem.mesh.planar)
        start_up = self.numerics.start_up
        drop = start_up.intermediate_drop if self.intermediate else self.numerics.residual_drop
        most = start_up.max_iterations_coarse if self.intermediate else self.numerics.max_iterations
        self.target = 10.0**-drop
        self.max_steps = self.max_steps or most
        self.step = self.best_step = self.first
        self.best, self.best_q = math.inf, self.q
        self.total_before = self.ceiling = math.inf
        self.bounded, self.bounded_step = np.zeros(len(self.q), dtype=bool), self.first
        self.local_cfl, self.bounded_before = self.numerics.local_cfl.max_cfl, math.inf
        self.falling_step = self.first  # the last one in which the residual of the bounded cells fell

    def run(self, reports: Reports) -> tuple[Evaluation, Outcome, str]:
        """Iterate until the outcome is known.

        Parameters
        ----------
        reports : Reports
            Receives a row for every step.

        Returns
        -------
        evaluation : Evaluation
            Of the last states.
        outcome : Outcome
        reason : str
        """
        self.now = self.problem.evaluate(self.q)
        for step in range(self.first, self.max_steps + 1):
            self.step = step
            if self.regime.viscous or self.bounded.any():
                self._repair_temperatures()
            self._measure()
            if self.enough and not self.intermediate and self._repair_temperatures():
                self._measure()  # tiny cells in narrow gaps may converge to states that no flow has
            reports.add(self)
            if reason := self._converged(reports.history) or self._at_rest(reports.history):
                return self.now, Outcome.CONVERGED, reason
            self._bound_cfl()
            demoted = self._demote_cells()
            if self.step == self.max_steps or self.step - self.best_step >= self.numerics.stagnation_steps:
                break
            self._propose(demoted)
            accepted = self._solve_and_accept()
            if accepted is None:
                return self.now, Outcome.FAILED, self._no_step()
            self._update(*accepted)
        return self.now, *self._unfinished()

    def _update(self, evaluation: Evaluation, factor: float) -> None:
        """Take over the evaluation of an accepted step."""
        self.problem.release(self.now)
        self.now, self.factor = evaluation, factor

    def _reset(self, q: np.ndarray) -> None:
        """Evaluate states that are no step's, and start the record of the best residual anew."""
        self.problem.release(self.now)
        self.now = self.problem.evaluate(q)
        self.best = math.inf

    def _repair_temperatures(self) -> bool:
        """Demote cells of impossible temperature and reset it; whether there were any."""
        if not (self.numerics.reconstruction.order == 2 and self.regime.space):
            return False
        q = self.problem.repair_temperature(self.now.q)
        if q is self.now.q:
            return False
        self._reset(q)
        self.total_before = self.problem.norm(self.now.R)
        return True

    def _measure(self) -> None:
        """Set the drop of each residual, the largest one, and their norm."""
        norms = self.problem.norms(self.now.R)
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
        viscous, space, start_up = self.regime.viscous, self.regime.space, self.numerics.start_up
        # short steps make any coefficient look at rest
        creeping = viscous and space and self.cfl < self.numerics.cfl.at_rest
        moving = not self.intermediate and self.active.any() and (creeping or history.drifts())
        if self.enough and not moving:
            return f"residuals down {-math.log10(max(self.worst, 1e-16)):.1f} orders"
        steps = start_up.rest_steps
        ready = self.intermediate and space and not creeping and self.step >= steps
        if ready and history.resting(steps, start_up.rest_change):
            return "the coefficients are at rest"
        return ""

    def _at_rest(self, history: History) -> str:
        """Why the iteration is done though a few cells go on oscillating; empty if it is not."""
        if not self.bounded.any():
            return ""
        rules, squares = self.numerics.local_cfl, self.problem.squared_residual(self.now.R)
        others = math.sqrt(squares[~self.bounded].sum())
        if (
            others > 10.0**-rules.min_drop
            or self.cfl < self.numerics.cfl.at_rest
            or self.bounded.mean() > rules.max_cells
            or not history.resting(rules.rest_steps, rules.rest_change)
            or self.problem.impossible_temperatures(self.now.q).any()
        ):
            return ""
        position = self.problem.mesh.cell_centroid[int(np.argmax(squares))].round(3)
        return (
            f"the coefficients are at rest, residuals down {-math.log10(max(others, 1e-16)):.1f} orders but in "
            f"{self.bounded.sum():,} of {len(squares):,} cells that oscillate, one at {position} m"
        )

    def _bound_cfl(self) -> None:
        """Add the few cells that hold up the convergence, with their neighbours, to those of a bounded CFL number."""
        rules = self.numerics.local_cfl
        if self.regime.viscous or not self.regime.space or self.intermediate or self.enough:
            return
        self._follow_bounded_cells()
        waited = self.step - max(self.best_step, self.bounded_step, self.falling_step)
        if waited < rules.patience or self.cfl <= rules.max_cfl:
            return
        chosen = self.problem.cells_of_residual(self.now.R, rules.max_cells, rules.residual_share)
        if chosen.any():
            if self.bounded.any():
                self.local_cfl = max(rules.reduction * self.local_cfl, rules.min_cfl)
            self.bounded |= self.problem.with_neighbours(chosen)
            self.bounded_step, self.bounded_before = self.step, math.inf

    def _follow_bounded_cells(self) -> None:
        """Let the bound on the CFL number of the chosen cells follow their residual."""
        if self.bounded.any():
            size = math.sqrt(self.problem.squared_residual(self.now.R)[self.bounded].sum())
            rules = self.numerics.local_cfl
            change = min(max(self.bounded_before / size, 1.0 / rules.max_growth), rules.max_growth)
            if math.isfinite(self.bounded_before):
                self.local_cfl = max(change * self.local_cfl, rules.min_cfl)
            if size < rules.falling * self.bounded_before:
                self.falling_step = self.step
            self.bounded_before = size

    def _demote_cells(self) -> bool:
        """Demote the few cells that hold up the convergence to first order; whether there were new ones."""
        rules = self.numerics.fallback
        if self.worst < 0.8 * self.best:
            self.best, self.best_step, self.best_q = self.worst, self.step, self.now.q
        patience = 2 if self.worst > rules.growth * self.best else rules.patience
        costly = self.regime.linear_solve_too_costly(self.numerics.cfl, self.cfl, self.krylov_vectors)
        if self.enough or not (costly or self.step - self.best_step >= patience):
            return False
        limits = (rules.max_cells, rules.residual_share)
        if costly:
            limits = (rules.max_cells_costly, rules.residual_share_costly)
        demoted = self.problem.demote_unconverged(self.now.R, *limits)
        if not demoted.any():
            return False
        self._reset(np.where(demoted[:, None], self.best_q, self.now.q))  # what has grown there since is discarded
        self.best_step, self.cfl = self.step, max(0.5 * self.cfl, rules.min_cfl)
        self.total = self.problem.norm(self.now.R)
        return True

    def _propose(self, demoted: bool) -> None:
        """Linearise, and set the CFL number and the tolerance of the linear solve."""
        solver = self.numerics.linear_solver
        self.problem.linearise(self.now)
        if self.step > self.first and not demoted:
            out_of_vectors = self.krylov_vectors >= min(solver.max_vectors_early, solver.max_vectors)
            ratio = self.total / self.total_before
            taken = StepTaken(self.cfl, self.factor, ratio, self.krylov_vectors, self.enough, out_of_vectors)
            self.cfl = next_cfl(self.numerics.cfl, self.regime, taken)
        self.total_before = self.total
        relaxed = min(max(0.3 * self.target / max(self.worst, 1e-300), solver.tolerance), solver.loosest_tolerance)
        self.tolerance = solver.tolerance if self.enough else relaxed
        self.cfl, self.ceiling = min(self.cfl, self.ceiling), 1.3 * self.ceiling

    def _solve_and_accept(self) -> tuple[Evaluation, float] | None:
        """Solve at falling CFL numbers until a step is accepted: (evaluation, factor)."""
        control, waves = self.numerics.cfl, self.problem.jacobian.wave_sum()
        for attempt in range(self.numerics.line_search.max_attempts):
            change, pseudo_time, solved = self._solve(self._pseudo_time_rate(waves))
            accepted = None
            if solved and np.isfinite(change).all():
                newton = self.cfl >= control.newton
                accepted = line_search(self.problem, self.now, change, pseudo_time, newton)
            if accepted is not None and attempt < 3 and self._grew(accepted[0]):
                self.problem.release(accepted[0])
                accepted, solved = None, False
            if accepted is not None:
                return accepted
            if not solved:
                self.ceiling = 0.4 * self.cfl
            self.cfl *= control.reduction_rejected if solved else control.reduction_unsolved
        return None

    def _pseudo_time_rate(self, waves: np.ndarray) -> np.ndarray:
        """(n,) volume over time step."""
        rate = waves / self.cfl
        rate[self.bounded] = np.maximum(rate[self.bounded], waves[self.bounded] / self.local_cfl)
        return rate

    def _solve(self, rate: np.ndarray) -> tuple[np.ndarray, PseudoTime, bool]:
        """(change of the unknowns, pseudo-time terms, whether enough of the linear system is solved)."""
        problem, jacobian, solver = self.problem, self.problem.jacobian, self.numerics.linear_solver
        jacobian.set_inertia(rate)
        inertia = self.numerics.cfl.source_inertia_at(self.cfl, self.regime.space)
        growth = jacobian.stabilise_source_diagonal(inertia)
        problem.preconditioner.update(jacobian)
        rhs = (-self.now.R * problem.rows)[:, problem.domain.axes].astype(np.float32)
        vectors = self.regime.max_krylov_vectors(solver, self.numerics.cfl, self.cfl)
        change, self.krylov_vectors, left = gmres(jacobian, problem.preconditioner, rhs, self.tolerance, vectors)
        # the rest of an unsolved system is all in a few cells, whose change would then be wrong
        limited = vectors < solver.max_vectors and self.cfl > self.numerics.cfl.boundary_layers
        return change, PseudoTime(rate, growth), not (limited and left > solver.max_unsolved)

    def _grew(self, trial: Evaluation) -> bool:
        """Whether a step from low residuals of viscous flow in space made one of them large again."""
        if not (self.enough and self.regime.viscous and self.regime.space):
            return False
        largest = float((self.problem.norms(trial.R) / self.reference)[self.active].max())
        return largest > self.numerics.line_search.max_residual_growth * max(self.worst, 0.5 * self.target)

    def _no_step(self) -> str:
        size = np.abs(self.now.R * self.problem.rows).max(axis=1)
        x, _, z = self.problem.mesh.cell_centroid[int(np.argmax(size))]
        return (
            f"no acceptable step even at CFL {self.cfl:.2g}; the largest residual is at x = {x:.5g}, z = {z:.5g} m: "
            f"{Outcome.FAILED.remedy}"
        )

    def _unfinished(self) -> tuple[Outcome, str]:
        if not np.isfinite(self.now.q).all():
            return Outcome.FAILED, "a state is not finite"
        if self.step < self.max_steps:
            down = -math.log10(max(self.best, 1e-16))
            return Outcome.OSCILLATING, f"residuals stopped falling {down:.1f} orders down"
        return Outcome.OSCILLATING, f"{self.max_steps} steps were not enough"
