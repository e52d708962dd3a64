"""The short form of a steady run: mesh and air in, solution out."""

from collections.abc import Callable, Mapping
from pathlib import Path

from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import Numerics
from zephyrum.mesh import Mesh
from zephyrum.results.solution import Solution
from zephyrum.solver import Case, Wall, run_case


@takes(mesh=Mesh, air=Freestream, model=str, reference=Reference, numerics=Numerics, start=Solution, keep=PATH)
def solve(
    mesh: Mesh,
    air: Freestream,
    model: str = "euler",
    reference: Reference | None = None,
    numerics: Numerics | None = None,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    walls: Wall | Mapping[str, Wall] | None = None,
    keep: str | Path | None = None,
    ground: str | None = None,
) -> Solution:
    """Solve the steady flow of `air` about `mesh`.

    model: "euler" (inviscid), "laminar", "sa" (Spalart-Allmaras) or "sst" (k-omega shear-stress transport). A Reynolds
    number given without its length is that on the chord of `reference`; where density, speed and viscosity are fixed
    they stay. reference: typed reference quantities; without it those measured by the mesh generator. Below Mach 0.05
    the flow is computed at Mach 0.05 with the same Reynolds number, which `notes` tells. start: a solution on the same
    mesh at a neighbouring condition. on_step: called with a dict after every step. walls: what the walls do, one `Wall`
    for all or by name; by default at rest, adiabatic, smooth, fully turbulent. keep: file for the last state, written
    at most once a minute and on Ctrl-C; a run that was broken off goes on from it when called again with the same
    arguments, and removes it at its end. ground: what a ground in the mesh does: "belt" (moves with the wind, the
    default with friction), "still", or "slip" (no friction). Raises InputError for what can't be solved; a run that
    does not converge is a Solution with another outcome.
    """
    case = Case(mesh, air, model, reference, walls, numerics or Numerics(), ground)
    return solve_case(case, start, on_step, keep)


@takes(case=Case, start=Solution, keep=PATH)
def solve_case(
    case: Case,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> Solution:
    """Solve a `Case`; other arguments as in `solve`."""
    return Solution.of(run_case(case, start, on_step, keep))
