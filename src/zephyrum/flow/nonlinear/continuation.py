"""Marching to a steady state: coupled Newton-Krylov with pseudo-transient continuation.

Source: Kelley and Keyes (1998), SIAM J. Numer. Anal. 35:508 (pseudo-transient continuation); Mulder and van Leer
(1985), J. Comput. Phys. 59:232 (switched evolution relaxation). All equations are advanced together; the time step of
every cell grows as the residual falls, so that the last steps are Newton's. A step is limited in pressure, temperature
and velocity, then shortened until the residual with its time term does not grow. In space a few cells of an odd shape or on a
coarse nose may swing for ever in second order: they lose their slopes, and the outcome tells how many.
Verified by validation/ (every case there ends converged).
"""

import math
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zephyrum.conditions import Freestream, Reference
from zephyrum.flow.linear.gmres import gmres
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem, FlowState
from zephyrum.flow.nonlinear.history import COLUMNS, History
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.nonlinear.start_up import alpha_sequence, initial_state, prolongate, transfer_condition
from zephyrum.flow.nonlinear.step_control import (
    NEWTON_CFL,
    START_UP_CFL,
    line_search,
    linear_solve_too_costly,
    max_krylov_vectors,
    next_cfl,
)
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.boundary_conditions import WallData
from zephyrum.flow.physics.gas_model import EQUATION_NAMES
from zephyrum.mesh import Mesh

LINEAR_TOLERANCES = (0.1, 0.5)  # of a Newton step; looser only when the target is nearly reached
MAX_LINEAR_RESIDUAL = 0.3  # share of a linear system that may be left where the vectors were too few
MAX_RESIDUAL_GROWTH = (
    6.0  # growth of the largest residual, once low enough, with which a step in space with friction is taken back
)
RESTART_CFL = 100.0
PROLONGED_CFL = 20.0  # of a start from a coarser mesh in space with friction
MIN_COARSE_CELLS = (
    3000  # cells of the coarsest start mesh: coarser ones separate at high alpha, and what follows inherits it
)
ROUND_OFF = 1e-11  # residuals below this are nothing but round-off
FIRST_ORDER_START_MACH = 0.5  # Mach number of the stream above which an inviscid cold start looks for shocks
MAX_COARSE_ITERATIONS = 80  # most steps on a level that only has to lead to the next
MAX_FIRST_ORDER_ITERATIONS_3D = 14, 9  # the same of the first order in space, without and with friction
AT_REST, RESTING = 4, 0.005  # steps over which CL and CD change by no more than that share: enough on a coarser mesh
CREEPING_CFL = 3e3  # CFL number below which coefficients with friction may creep
STAGNATION_STEPS = 30  # steps without a lower residual after which a run oscillates
DEMOTION_STEPS = 16  # steps in space without a lower residual after which the few cells that hold it lose their slopes
DEMOTION_GROWTH = 2.0  # growth of the residual with which two such steps are enough
DEMOTION_LIMITS = (
    0.0005,
    0.95,
)  # share of the cells that they may be (in more the flow swings) and of the (squared) residual held
DEMOTION_LIMITS_COSTLY = 0.005, 0.9  # and where they make a step laborious
NO_CELLS = np.zeros(1, dtype=bool)
DEMOTED_CFL = 100.0


def solve_steady(
    mesh: Mesh,
    air: Freestream,
    reference: Reference,
    numerics: Numerics | None = None,
    start: np.ndarray | None = None,
    on_step: Callable[[dict], None] | None = None,
    source: np.ndarray | None = None,
    exterior: np.ndarray | None = None,
    model: str = "euler",
    walls: Callable[[Mesh], WallData] | None = None,
    on_state: Callable[[np.ndarray, np.ndarray, float, list[tuple]], None] | None = None,
    first_order_cells: np.ndarray | None = None,
    warm: float = RESTART_CFL,
    previous_rows: list[tuple] | None = None,
) -> FlowState:
    """March to a steady state on `mesh`, from a cold start over its coarser levels or from states `start` (n, m).

    model: one of `MODELS`. on_step receives a dict of the columns of History after each step. `source` (n, m) and `exterior` (nb, m), in scaled
    units, serve verification with manufactured solutions. on_state receives the states (n, m) of every step of the last march, the cells (n,) without slopes, the CFL number and the rows of the history; first_order_cells, warm, previous_rows: those of a start. walls: gives what the walls of a mesh do. Ends with a outcome, never with an exception from within.
    """
    numerics = numerics or Numerics()
    previous_rows = previous_rows or []
    history = History(previous_rows[:-1])  # the last row is that of the state to start from
    begin = time.perf_counter() - (previous_rows[-1][COLUMNS.index("seconds")] if previous_rows else 0.0)
    cold = start is None and source is None and exterior is None
    family = mesh.family() if cold else [mesh]
    while len(family) > 1 and family[-1].n_cells < MIN_COARSE_CELLS:
        family.pop()
    level, q = None, start
    space = mesh.dimension == 3 and not mesh.planar
    for depth in range(len(family) - 1, -1, -1):
        alphas = alpha_sequence(air.alpha) if cold and level is None else [air.alpha]
        previous = level
        for alpha in alphas:
            here = air if alpha == air.alpha else air.turned(alpha=alpha)
            # steps on the way to alpha are recorded as one level coarser than the coarsest
            label = depth if alpha == air.alpha else len(family)
            own = None if walls is None else walls(family[depth])
            before, level = (
                level,
                DiscreteProblem(family[depth], label, here, reference, numerics, model, source, exterior, own, level),
            )
            cfl = warm
            if q is None:
                q = initial_state(level.mesh, level.law, level.scales.freestream, reference.chord, model != "euler")
                cfl = numerics.cfl
                if (
                    cold
                    and numerics.order == 2
                    and (space or (model == "euler" and here.mach > FIRST_ORDER_START_MACH))
                ):
                    # shocks find their place in first order; slender bodies get near with few vectors, of blunt ones without friction the wake oscillates
                    plain = replace(numerics, order=1)
                    level = DiscreteProblem(
                        family[depth], len(family), here, reference, plain, model, source, exterior, own, level
                    )
                    max_steps = (
                        MAX_COARSE_ITERATIONS
                        if here.mach > FIRST_ORDER_START_MACH
                        else MAX_FIRST_ORDER_ITERATIONS_3D[int(model != "euler")]
                    )
                    first_order_state, outcome, _ = _solve_level(
                        level, q, cfl, history, on_step, begin, True, max_steps=max_steps
                    )
                    level = DiscreteProblem(
                        family[depth], label, here, reference, numerics, model, source, exterior, own, level
                    )
                    if outcome == Outcome.CONVERGED or (
                        outcome != Outcome.FAILED and (here.mach > FIRST_ORDER_START_MACH or model != "euler")
                    ):
                        q, cfl = first_order_state, RESTART_CFL
            elif before is not previous:
                q = transfer_condition(q, level.mesh, before.air, here, reference.chord)
            elif previous is not None:
                q = prolongate(
                    q, previous.domain, level.domain, level.law, here.mach if space and model == "euler" else None
                )
                if space and model != "euler":
                    cfl = PROLONGED_CFL
            if first_order_cells is not None:
                level.demote_to_first_order(first_order_cells)
            intermediate = depth > 0 or alpha != air.alpha
            q, outcome, reason = _solve_level(
                level, q, cfl, history, on_step, begin, intermediate, None if intermediate else on_state, first=int(previous_rows[-1][COLUMNS.index("step")]) if previous_rows else 0,
            )  # fmt: skip
    return level.flow(q, outcome, reason, history, begin)


def _solve_level(
    level: DiscreteProblem,
    q,
    cfl,
    history: History,
    on_step,
    begin,
    intermediate: bool,
    on_state=None,
    max_steps=None,
    first=0,
):
    """March one level from its step `first` on; returns states, outcome, reason."""
    numerics, jacobian, viscous = level.numerics, level.jacobian, level.residual.model != "euler"
    space = not level.mesh.planar
    target = 10.0 ** -(3.5 if intermediate else numerics.residual_drop)
    max_steps = max_steps or (MAX_COARSE_ITERATIONS if intermediate else numerics.max_iterations)
    R = level.evaluate(q)
    best, best_step, best_q = math.inf, first, q
    krylov_vectors, factor = 0, 1.0
    before = ceiling = math.inf
    for step in range(first, max_steps + 1):
        if viscous and space and numerics.order == 2:
            given, q = q, level.repair_temperature(q)
            if q is not given:
                R = level.evaluate(q)
                best, before = math.inf, float(np.sqrt(np.sum(level.norms(R) ** 2)))
        norms = level.norms(R)
        if step == first:  # where the free stream itself has no residual, the first one is the measure
            reference = np.where(level.start_norm > ROUND_OFF, level.start_norm, np.maximum(norms, 1e-30))
            active = reference > ROUND_OFF
        drop = norms / reference
        worst = float(drop[active].max()) if active.any() else 0.0
        total = float(np.sqrt(np.sum(norms**2)))
        history.add(
            step,
            level.depth,
            time.perf_counter() - begin,
            cfl,
            krylov_vectors,
            factor,
            *np.where(active, drop, 0.0),
            *np.zeros(len(EQUATION_NAMES) - len(drop)),
            *level.found,
        )
        if on_step is not None:
            on_step(dict(zip(COLUMNS, history.rows[-1], strict=True)))
        if on_state is not None and step > first:
            on_state(q, level.first_order_cells, cfl, history.rows)
        enough = worst <= target
        creeping = viscous and space and cfl < CREEPING_CFL  # short steps would make any coefficient look at rest
        if enough and (intermediate or not active.any() or not (creeping or history.drifts())):
            return q, Outcome.CONVERGED, f"residuals down {-math.log10(max(worst, 1e-16)):.1f} orders"
        if (
            intermediate
            and (not viscous or cfl > CREEPING_CFL)
            and space
            and step >= AT_REST
            and history.resting(AT_REST, RESTING)
        ):
            return q, Outcome.CONVERGED, "the coefficients are at rest"
        if worst < 0.8 * best:
            best, best_step, best_q = worst, step, q
        stuck = step - best_step >= (2 if worst > DEMOTION_GROWTH * best else DEMOTION_STEPS)
        hard = linear_solve_too_costly(cfl, viscous, space, krylov_vectors)
        demoted = NO_CELLS
        if (stuck or hard) and not enough:
            demoted = level.demote_unconverged(R, *(DEMOTION_LIMITS_COSTLY if hard else DEMOTION_LIMITS))
        if demoted.any():  # what has swung up there since is left behind
            q = np.where(demoted[:, None], best_q, q)
            best, best_step, cfl = math.inf, step, max(0.5 * cfl, DEMOTED_CFL)
            R = level.evaluate(q)
            total = float(np.sqrt(np.sum(level.norms(R) ** 2)))
        if step == max_steps or step - best_step >= STAGNATION_STEPS:
            break
        level.linearise(q)
        if step > first and not demoted.any():
            cfl = next_cfl(cfl, factor, total / before, viscous, space, krylov_vectors, enough)
        before = total
        tolerance = (
            LINEAR_TOLERANCES[0]
            if enough
            else min(max(0.3 * target / worst, LINEAR_TOLERANCES[0]), LINEAR_TOLERANCES[1])
        )
        wave_speeds = jacobian.wave_sum()
        cfl, ceiling, found = min(cfl, ceiling), 1.3 * ceiling, None
        for attempt in range(6):
            rate = wave_speeds / cfl
            jacobian.set_inertia(q, rate)
            growth = jacobian.stabilise_source_diagonal(cfl)
            level.preconditioner.update(jacobian)
            rhs = (-R * level.rows)[:, level.domain.axes].astype(np.float32)
            vectors = max_krylov_vectors(cfl, viscous, space, numerics.krylov_vectors)
            change, krylov_vectors, unsolved = gmres(jacobian, level.preconditioner, rhs, tolerance, vectors)
            # what is left of equations not solved is all in a few cells, and would drive them away
            reject_step = unsolved > MAX_LINEAR_RESIDUAL and vectors < numerics.krylov_vectors and cfl > START_UP_CFL
            if not reject_step and np.isfinite(change).all():
                found = line_search(level, q, R, change, rate, growth, total, cfl >= NEWTON_CFL)
            if found is not None and enough and viscous and space and attempt < 3:
                residual_growth = float((level.norms(found[1]) / reference)[active].max())
                reject_step = residual_growth > MAX_RESIDUAL_GROWTH * max(
                    worst, 0.5 * target
                )  # a column was thrown off: back to where all was low
            if reject_step:
                found, ceiling = None, 0.4 * cfl
                cfl *= 0.2
                continue
            if found is not None:
                break
            cfl *= 0.1
        if found is None:
            position = level.mesh.cell_centroid[int(np.argmax(np.abs(R * level.rows).max(axis=1)))]
            return (
                q,
                Outcome.FAILED,
                (
                    f"no acceptable step even at CFL {cfl:.2g}; the largest residual is at x = {position[0]:.5g}, z = {position[2]:.5g} m: "
                    "look at the mesh there, or start from a neighbouring condition"
                ),
            )
        q, R, factor = found
    if not np.isfinite(q).all():
        return q, Outcome.FAILED, "a state is not finite"
    note = (
        f"residuals stopped falling {-math.log10(max(best, 1e-16)):.1f} orders down"
        if step < max_steps
        else f"{max_steps} steps were not enough"
    )
    return q, Outcome.OSCILLATING, note
