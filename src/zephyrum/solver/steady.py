"""One steady run of a case, and runs with other numerics where it does not converge.

Verified by tests/test_results.py and tests/test_case.py.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from zephyrum.errors import InputError
from zephyrum.flow import FlowState, Numerics, Start, solve_steady, transfer_condition, transfer_mesh
from zephyrum.flow.outcome import Outcome
from zephyrum.solver.case import Case
from zephyrum.solver.checkpoint import Checkpoint

GENTLE, LIMITED = "kappa 0", ", limiter on"  # what a run needed to converge: see `Run.fallback`


@dataclass(frozen=True, eq=False)
class Run:
    """Result of the run of a case.

    Attributes
    ----------
    case : Case
        The case.
    flow : FlowState
        Its flow.
    notes : tuple[str, ...]
        Sentences to the user.
    fallback : str
        "" or the numerics that the run needed to converge, such as "kappa 0, limiter on".

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> run = run_case(Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)))
    >>> print(run.flow.outcome)
    converged
    """

    case: Case
    flow: FlowState
    notes: tuple[str, ...] = ()
    fallback: str = ""


def run_case(
    case: Case,
    start: Run | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> Run:
    """Run a case to a steady state.

    Parameters
    ----------
    case : Case
    start : Run, optional
        A run on the same mesh with the same model at a neighbouring condition, whose states are turned and rescaled.
    on_step : callable, optional
        Gets a dict of the columns of the history after every step.
    keep : path, optional
        File of the last state, written at most once a minute and on Ctrl-C. A run of the same case that was broken off
        goes on from it; it is removed at the end.

    Returns
    -------
    Run
        Its flow has an outcome; a run that does not converge is no exception.

    Raises
    ------
    InputError
        If `start` is of another mesh or model.

    Notes
    -----
    A case that does not converge from `start` is run again over the condition half-way between, then from the
    freestream, then with other numerics (`Run.fallback`). Section of the Skerry, Spalart-Allmaras, 12,288 cells, from
    alpha 17 to 18 deg: 34 steps without convergence; over 17.5 deg 31 and 32 steps.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> run = run_case(Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)))
    >>> run.flow.q.shape
    (384, 5)
    """
    begin = None
    if start is not None:
        begin = Start(_started(case, start), start.flow.first_order_cells)

    def solved(numerics: Numerics, states=None) -> FlowState:
        problem = case.problem().at(numerics=numerics)
        return solve_steady(problem, None if states is None else Start(states), on_step)

    flow, notes = _resumed(case, lambda: begin, on_step, keep)
    if start is not None and flow.outcome != Outcome.CONVERGED:
        again = _halved_step(case, start, on_step) or solved(case.numerics)
        if again.outcome == Outcome.CONVERGED:
            flow = again
    flow, fallback = _fallback_run(case, flow, solved)
    if fallback:
        notes.append(
            f"converged with {fallback} after oscillating with kappa = {case.numerics.reconstruction.kappa:.2g}: the "
            f"mesh is coarse "
            "for this flow, most often at the nose; the error is larger here."
        )
    if flow.outcome == Outcome.CONVERGED and flow.history.drifts():
        flow = replace(flow, outcome=Outcome.OSCILLATING, reason="the coefficients still drift")
    return Run(case, flow, tuple(notes), fallback)


def run_level(
    case: Case,
    start: Run,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> Run:
    """Run a case on another mesh of a family, from the states on the mesh before.

    Parameters
    ----------
    case : Case
    start : Run
        A run of the same condition and model on a finer or coarser mesh about the same shape.
    on_step : callable, optional
        As of `run_case`.
    keep : path, optional
        As of `run_case`.

    Returns
    -------
    Run
        Where it does not converge the case is run from a cold start, with the attempts of `run_case`.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> fine, coarse = (Case(mesh_airfoil(Airfoil.naca("0012"), n, n // 4), Freestream(mach=0.3)) for n in (64, 32))
    >>> run_level(coarse, run_case(fine)).flow.outcome == Outcome.CONVERGED
    True
    """
    if start.case.model != case.model:
        raise InputError(f"start was solved with model {start.case.model!r}, not {case.model!r}.")

    def begin() -> Start:
        return Start(transfer_mesh(start.flow.q, start.case.mesh, case.problem()))

    flow, notes = _resumed(case, begin, on_step, keep)
    if flow.outcome != Outcome.CONVERGED:
        again = run_case(case, None, on_step, keep)
        if again.flow.outcome == Outcome.CONVERGED or flow.outcome == Outcome.FAILED:
            return again
    return Run(case, flow, tuple(notes))


def _resumed(
    case: Case,
    begin: Callable[[], Start | None],
    on_step: Callable[[dict], None] | None,
    keep: str | Path | None,
) -> tuple[FlowState, list[str]]:
    """Flow of a case, and its notes: from the state of a run that was broken off, or else from `begin`."""
    notes = list(case.notes)
    checkpoint = None if keep is None else Checkpoint.of(keep, case)
    if checkpoint is None:
        return solve_steady(case.problem(), begin(), on_step), notes
    if (stored := checkpoint.read()) is not None:
        notes.append("went on from the state of a run that was broken off.")
    try:
        flow = solve_steady(case.problem(), begin() if stored is None else stored, on_step, checkpoint)
    except KeyboardInterrupt:  # a pause: nothing is lost
        checkpoint.flush()
        raise
    checkpoint.remove()
    return flow, notes


def _started(case: Case, start: Run):
    """States of another run, carried over to the condition of this case."""
    if start.case.model != case.model:
        raise InputError(f"start was solved with model {start.case.model!r}, not {case.model!r}; leave it out.")
    if start.case.mesh.fingerprint != case.mesh.fingerprint:
        raise InputError("start belongs to another mesh; give a solution on the same one.")
    return transfer_condition(
        start.flow.q,
        case.mesh,
        start.case.computed,
        case.computed,
        case.reference.chord,
        case.numerics.start_up,
    )


def _halved_step(case: Case, start: Run, on_step: Callable[[dict], None] | None) -> FlowState | None:
    """Flow of a case over the condition half-way from `start` (natural continuation, Allgower and Georg 1990); None if
    one of the two does not converge."""
    air, before = case.air, start.case.air
    if (air.mach, air.alpha, air.beta) == (before.mach, before.alpha, before.beta):
        return None
    between = air.turned(0.5 * (air.alpha + before.alpha), 0.5 * (air.beta + before.beta))
    if air.mach != before.mach:
        between = between.at_mach(0.5 * (air.mach + before.mach))
    for one in (replace(case, air=between), case):
        flow = solve_steady(one.problem(), Start(_started(one, start), start.flow.first_order_cells), on_step)
        if flow.outcome != Outcome.CONVERGED:
            return None
        start = Run(one, flow)
    return start.flow


def _fallback_run(case: Case, flow: FlowState, solved) -> tuple[FlowState, str]:
    """(flow, what it needed): of a case that did not converge, with kappa 0 and then with the limiter on everywhere.

    Coarse noses at high lift can be unstable with the sharper reconstruction. The numerics nearest to those asked for
    go first.
    """
    asked = case.numerics
    for mode in dict.fromkeys((asked.limiter.mode, "on")):
        gentle = _gentle(asked, mode)
        if flow.outcome == Outcome.CONVERGED or gentle == asked or asked.max_iterations < 2:
            continue
        made = solved(gentle, flow.q if flow.outcome == Outcome.OSCILLATING else None)
        if made.outcome == Outcome.CONVERGED:
            how = GENTLE + (LIMITED if mode != asked.limiter.mode else "")
            return replace(made, reason=f"{made.reason}, with {how}"), how
    return flow, ""


def _gentle(asked: Numerics, mode: str) -> Numerics:
    """Numerics with kappa 0 and a mode of the limiter."""
    reconstruction = replace(asked.reconstruction, kappa=0.0)
    return replace(asked, reconstruction=reconstruction, limiter=replace(asked.limiter, mode=mode))


def numerics_of(run: Run) -> Numerics:
    """Numerics that a run ended with: those of its case, or those that it needed to converge.

    Parameters
    ----------
    run : Run
        The run.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> run = run_case(Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3)))
    >>> numerics_of(run) == run.case.numerics
    True
    """
    asked = run.case.numerics
    if not run.fallback:
        return asked
    return _gentle(asked, "on" if run.fallback.endswith(LIMITED) else asked.limiter.mode)
