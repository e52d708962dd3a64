"""Marching to a steady state: coupled Newton-Krylov with pseudo-transient continuation.

Source: Kelley and Keyes (1998), SIAM J. Numer. Anal. 35:508 (pseudo-transient continuation); Mulder and van Leer
(1985), J. Comput. Phys. 59:232 (switched evolution relaxation). All equations are advanced together; the time step of
every cell grows as the residual falls, so that the last steps are Newton's. A step is limited in pressure, temperature
and velocity, then shortened until the residual with its time term does not grow. In space a few cells of an odd shape or on a
coarse nose may swing for ever in second order: they lose their slopes, and the verdict tells how many.
Verified by validation/ (every case there ends settled).
"""

import math
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zephyrum.air import Freestream, Reference
from zephyrum.flow.boundary import Walls
from zephyrum.flow.gas import EQUATIONS
from zephyrum.flow.history import COLUMNS, History
from zephyrum.flow.krylov import gmres
from zephyrum.flow.level import Flow, Level
from zephyrum.flow.settings import Settings
from zephyrum.flow.start import alpha_walk, carry_over, first_guess, prolong
from zephyrum.flow.steps import EARLY, NEWTON_CFL, laborious, most_vectors, next_cfl, search
from zephyrum.mesh import Mesh

KRYLOV_TOLERANCE = (0.1, 0.5)  # of a Newton step; looser only when the target is nearly reached
UNSOLVED = 0.3  # share of a linear system that may be left where the vectors were too few
SWUNG = 6.0  # growth of the largest residual, once low enough, with which a step in space with friction is taken back
WARM_CFL = 100.0
FINER_CFL = 20.0  # of a start from a coarser mesh in space with friction
FEWEST = 3000  # cells of the coarsest start mesh: coarser ones separate at high alpha, and what follows inherits it
ROUND_OFF = 1e-11  # residuals below this are nothing but round-off
SHOCKS = 0.5  # Mach number of the stream above which an inviscid cold start looks for shocks
ROUGH_STEPS = 80  # most steps on a level that only has to lead to the next
SPACE_STEPS = 14, 9  # the same of the first order in space, without and with friction
AT_REST, RESTING = 4, 0.005  # steps over which CL and CD change by no more than that share: enough on a coarser mesh
RIPE = 3e3  # CFL number below which coefficients with friction may creep
STALL = 30  # steps without a lower residual after which a run wanders
PATIENCE = 16  # steps in space without a lower residual after which the few cells that hold it lose their slopes
GROWN = 2.0  # growth of the residual with which two such steps are enough
HELD = 0.0005, 0.95  # share of the cells that they may be (in more the flow swings) and of the (squared) residual held
HELD_LABOUR = 0.005, 0.9  # and where they make a step laborious
NONE = np.zeros(1, dtype=bool)
CALMED_CFL = 100.0


def march(
    mesh: Mesh,
    air: Freestream,
    reference: Reference,
    settings: Settings | None = None,
    start: np.ndarray | None = None,
    on_step: Callable[[dict], None] | None = None,
    source: np.ndarray | None = None,
    outer: np.ndarray | None = None,
    model: str = "euler",
    walls: Callable[[Mesh], Walls] | None = None,
    on_state: Callable[[np.ndarray, np.ndarray, float, list[tuple]], None] | None = None,
    calmed: np.ndarray | None = None,
    warm: float = WARM_CFL,
    past: list[tuple] | None = None,
) -> Flow:
    """March to a steady state on `mesh`, from a cold start over its coarser relatives or from states `start` (n, m).

    model: one of `MODELS`. on_step receives a dict of the columns of History after each step. `source` (n, m) and `outer` (nb, m), in scaled
    units, serve verification with manufactured solutions. on_state receives the states (n, m) of every step of the last march, the cells (n,) without slopes, the CFL number and the rows of the history; calmed, warm, past: those of a start. walls: gives what the walls of a mesh do. Ends with a verdict, never with an exception from within.
    """
    settings = settings or Settings()
    past = past or []
    history = History(past[:-1])  # the last row is that of the state to start from
    begin = time.perf_counter() - (past[-1][COLUMNS.index("seconds")] if past else 0.0)
    cold = start is None and source is None and outer is None
    family = mesh.family() if cold else [mesh]
    while len(family) > 1 and family[-1].n_cells < FEWEST:
        family.pop()
    level, q = None, start
    space = mesh.dimension == 3 and not mesh.planar
    for depth in range(len(family) - 1, -1, -1):
        walk = alpha_walk(air.alpha) if cold and level is None else [air.alpha]
        previous = level
        for alpha in walk:
            here = air if alpha == air.alpha else air.turned(alpha=alpha)
            # steps on the way to alpha are recorded as one level coarser than the coarsest
            label = depth if alpha == air.alpha else len(family)
            own = None if walls is None else walls(family[depth])
            before, level = (
                level,
                Level(family[depth], label, here, reference, settings, model, source, outer, own, level),
            )
            cfl = warm
            if q is None:
                q = first_guess(level.mesh, level.law, level.scales.freestream, reference.chord, model != "euler")
                cfl = settings.cfl
                if cold and settings.order == 2 and (space or (model == "euler" and here.mach > SHOCKS)):
                    # shocks find their place in first order; slender bodies get near with few vectors, of blunt ones without friction the wake wanders
                    plain = replace(settings, order=1)
                    level = Level(family[depth], len(family), here, reference, plain, model, source, outer, own, level)
                    most = ROUGH_STEPS if here.mach > SHOCKS else SPACE_STEPS[int(model != "euler")]
                    near, verdict, _ = _march_level(level, q, cfl, history, on_step, begin, True, most=most)
                    level = Level(family[depth], label, here, reference, settings, model, source, outer, own, level)
                    if verdict == "settled" or (verdict != "failed" and (here.mach > SHOCKS or model != "euler")):
                        q, cfl = near, WARM_CFL
            elif before is not previous:
                q = carry_over(q, level.mesh, before.air, here, reference.chord)
            elif previous is not None:
                q = prolong(
                    q, previous.domain, level.domain, level.law, here.mach if space and model == "euler" else None
                )
                if space and model != "euler":
                    cfl = FINER_CFL
            if calmed is not None:
                level.still(calmed)
            rough = depth > 0 or alpha != air.alpha
            q, verdict, reason = _march_level(
                level, q, cfl, history, on_step, begin, rough, None if rough else on_state, first=int(past[-1][COLUMNS.index("step")]) if past else 0,
            )  # fmt: skip
    return level.flow(q, verdict, reason, history, begin)


def _march_level(
    level: Level, q, cfl, history: History, on_step, begin, rough: bool, on_state=None, most=None, first=0
):
    """March one level from its step `first` on; returns states, verdict, reason."""
    settings, jacobian, viscous = level.settings, level.jacobian, level.residual.model != "euler"
    space = not level.mesh.planar
    target = 10.0 ** -(3.5 if rough else settings.orders)
    most = most or (ROUGH_STEPS if rough else settings.steps)
    R = level.evaluate(q)
    best, best_step, best_q = math.inf, first, q
    krylov, factor = 0, 1.0
    before = ceiling = math.inf
    for step in range(first, most + 1):
        if viscous and space and settings.order == 2:
            given, q = q, level.stray(q)
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
            krylov,
            factor,
            *np.where(active, drop, 0.0),
            *np.zeros(len(EQUATIONS) - len(drop)),
            *level.found,
        )
        if on_step is not None:
            on_step(dict(zip(COLUMNS, history.rows[-1], strict=True)))
        if on_state is not None and step > first:
            on_state(q, level.calmed, cfl, history.rows)
        enough = worst <= target
        creeping = viscous and space and cfl < RIPE  # short steps would make any coefficient look at rest
        if enough and (rough or not active.any() or not (creeping or history.drifts())):
            return q, "settled", f"residuals down {-math.log10(max(worst, 1e-16)):.1f} orders"
        if rough and (not viscous or cfl > RIPE) and space and step >= AT_REST and history.resting(AT_REST, RESTING):
            return q, "settled", "the coefficients are at rest"
        if worst < 0.8 * best:
            best, best_step, best_q = worst, step, q
        stuck = step - best_step >= (2 if worst > GROWN * best else PATIENCE)
        hard = laborious(cfl, viscous, space, krylov)
        fresh = NONE
        if (stuck or hard) and not enough:
            fresh = level.calm(R, *(HELD_LABOUR if hard else HELD))
        if fresh.any():  # what has swung up there since is left behind
            q = np.where(fresh[:, None], best_q, q)
            best, best_step, cfl = math.inf, step, max(0.5 * cfl, CALMED_CFL)
            R = level.evaluate(q)
            total = float(np.sqrt(np.sum(level.norms(R) ** 2)))
        if step == most or step - best_step >= STALL:
            break
        level.linearise(q)
        if step > first and not fresh.any():
            cfl = next_cfl(cfl, factor, total / before, viscous, space, krylov, enough)
        before = total
        tolerance = (
            KRYLOV_TOLERANCE[0] if enough else min(max(0.3 * target / worst, KRYLOV_TOLERANCE[0]), KRYLOV_TOLERANCE[1])
        )
        waves = jacobian.wave_sum()
        cfl, ceiling, found = min(cfl, ceiling), 1.3 * ceiling, None
        for attempt in range(6):
            rate = waves / cfl
            jacobian.set_inertia(q, rate)
            growth = jacobian.stabilise_source_diagonal(cfl)
            level.preconditioner.update(jacobian)
            rhs = (-R * level.rows)[:, level.domain.axes].astype(np.float32)
            vectors = most_vectors(cfl, viscous, space, settings.krylov)
            change, krylov, unsolved = gmres(jacobian, level.preconditioner, rhs, tolerance, vectors)
            # what is left of equations not solved is all in a few cells, and would drive them away
            astray = unsolved > UNSOLVED and vectors < settings.krylov and cfl > EARLY
            if not astray and np.isfinite(change).all():
                found = search(level, q, R, change, rate, growth, total, cfl >= NEWTON_CFL)
            if found is not None and enough and viscous and space and attempt < 3:
                swung = float((level.norms(found[1]) / reference)[active].max())
                astray = swung > SWUNG * max(worst, 0.5 * target)  # a column was thrown off: back to where all was low
            if astray:
                found, ceiling = None, 0.4 * cfl
                cfl *= 0.2
                continue
            if found is not None:
                break
            cfl *= 0.1
        if found is None:
            place = level.mesh.cell_centroid[int(np.argmax(np.abs(R * level.rows).max(axis=1)))]
            return (
                q,
                "failed",
                (
                    f"no acceptable step even at CFL {cfl:.2g}; the largest residual is at x = {place[0]:.5g}, z = {place[2]:.5g} m: "
                    "look at the mesh there, or start from a neighbouring condition"
                ),
            )
        q, R, factor = found
    if not np.isfinite(q).all():
        return q, "failed", "a state is not finite"
    note = (
        f"residuals stopped falling {-math.log10(max(best, 1e-16)):.1f} orders down"
        if step < most
        else f"{most} steps were not enough"
    )
    return q, "wandering", note
