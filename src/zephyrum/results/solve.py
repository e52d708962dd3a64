"""The front door of a single computation: check the case, march it, and try again more calmly where it wanders."""

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path

from zephyrum.air import Freestream, Reference
from zephyrum.air.checks import PATH, takes
from zephyrum.errors import InputError
from zephyrum.flow import Settings, carry_over, march
from zephyrum.mesh import Mesh
from zephyrum.results.case import prepared, slowest
from zephyrum.results.checkpoint import Checkpoint
from zephyrum.results.solution import Solution
from zephyrum.results.walls import Wall

ARGUMENTS = {
    "mesh": Mesh,
    "air": Freestream,
    "model": str,
    "reference": Reference,
    "settings": Settings,
    "start": Solution,
    "keep": PATH,
}  # of a solution, steady or in time


@takes(**ARGUMENTS)
def solve(
    mesh: Mesh,
    air: Freestream,
    model: str = "euler",
    reference: Reference | None = None,
    settings: Settings | None = None,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    walls: Wall | Mapping[str, Wall] | None = None,
    keep: str | Path | None = None,
) -> Solution:
    """Solve the steady flow of `air` about `mesh`.

    model: "euler" (inviscid), "laminar", "sa" (Spalart-Allmaras) or "sst" (k-omega shear-stress transport). The Reynolds number of `air` is
    taken on the chord of `reference`, so a mesh may be of any size; an `air` without one keeps its own viscosity.
    reference: typed reference quantities; without it those measured by the mesh generator.
    Below Mach 0.05 the flow is computed at Mach 0.05 with the same Reynolds number, which `notes` tells.
    start: a solution on the same mesh at a neighbouring condition. on_step: called with a dict after every step.
    walls: what the walls do, one `Wall` for all or by name; by default at rest, adiabatic, smooth, fully turbulent.
    keep: file for the last state, written at most once a minute and on Ctrl-C; a run that was broken off goes on from it when called again
    with the same arguments, and removes it at its end.
    Raises InputError for what can't be solved; a run that does not settle is a Solution with another verdict.
    """
    settings = settings or Settings()
    if mesh.mirrored and air.beta != 0.0:
        raise InputError(
            f"beta = {air.beta:g} deg blows across the symmetry plane of a half model; mesh the whole one (half = False)."
        )
    case = prepared(mesh, air, model, reference, walls)
    state, left = None, {}
    if start is not None:
        if start.model != model:
            raise InputError(f"start was solved with model {start.model!r}, not {model!r}; leave it out.")
        if start.mesh.fingerprint != mesh.fingerprint:
            raise InputError("start belongs to another mesh; give a solution on the same one.")
        old = slowest(start.air, case.reference.chord)
        state = carry_over(start.flow.q, mesh, old, case.computed, case.reference.chord)
        left["calmed"] = start.flow.calmed
    run = (mesh, case.computed, case.reference, settings)
    checkpoint = None if keep is None else Checkpoint.of(keep, mesh, air, model, case, settings)
    if checkpoint is not None and (held := checkpoint.read()) is not None:
        state, left["calmed"], left["warm"], left["past"] = held
        case.notes.append("went on from the state of a run that was broken off.")
    try:
        flow = march(*run, state, on_step, model=model, walls=case.walls, on_state=checkpoint, **left)
    except KeyboardInterrupt:  # a pause: nothing is lost
        if checkpoint is not None:
            checkpoint.flush()
        raise
    if checkpoint is not None:
        checkpoint.remove()
    if start is not None and flow.verdict != "settled":
        cold = march(*run, None, on_step, model=model, walls=case.walls)
        if cold.verdict == "settled":
            flow = cold
    # coarse noses at high lift can be unstable with the sharper reconstruction: calmer ones go on from its state, the one
    # that is nearest to it first
    calmer = [replace(settings, kappa=0.0, limiter=limiter) for limiter in dict.fromkeys((settings.limiter, "on"))]
    for gentle in calmer:
        if flow.verdict == "settled" or gentle == settings or settings.steps < 2:
            continue
        near = flow.q if flow.verdict == "wandering" else None
        calm = march(mesh, case.computed, case.reference, gentle, near, on_step, model=model, walls=case.walls)
        if calm.verdict == "settled":
            how = "kappa = 0" + (" and the limiter on everywhere" if gentle.limiter != settings.limiter else "")
            case.notes.append(
                f"settled with {how} after wandering with kappa = {settings.kappa:.2g} ({flow.reason}): the mesh is coarse "
                "for this flow, most often at the nose; the error is larger here."
            )
            flow = replace(calm, reason=f"{calm.reason}, with {how}")
    if flow.verdict == "settled" and flow.history.drifts():
        flow = replace(flow, verdict="wandering", reason="the coefficients still drift")
    return Solution(mesh, air, case.reference, model, settings, flow, tuple(case.notes))
