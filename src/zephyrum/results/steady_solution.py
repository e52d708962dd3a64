"""The short form of a steady run: mesh and air in, solution out."""

from collections.abc import Callable
from pathlib import Path

from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import Numerics
from zephyrum.mesh import Mesh
from zephyrum.results.solution import Solution
from zephyrum.solver import Case, run_case


@takes(mesh=Mesh, air=Freestream, model=str, reference=Reference, numerics=Numerics, start=Solution, keep=PATH)
def solve(
    mesh: Mesh,
    air: Freestream,
    model: str = "euler",
    reference: Reference | None = None,
    numerics: Numerics | None = None,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
    **boundaries,
) -> Solution:
    """Solve the steady flow of `air` about `mesh`.

    Parameters
    ----------
    mesh : Mesh
    air : Freestream
        A Reynolds number given without its length is that on the chord of `reference`.
    model : str
        "euler" (inviscid), "laminar", "sa" (Spalart-Allmaras) or "sst" (k-omega shear-stress transport).
    reference : Reference, optional
        Reference quantities; without it those measured by the mesh generator.
    numerics : Numerics, optional
    start : Solution, optional
        A solution on the same mesh at a neighbouring condition.
    on_step : callable, optional
        Receives a dict of the columns of the history after every step.
    keep : path, optional
        File for the last state, written at most once a minute and on Ctrl-C. The same call goes on from it after a
        kill; it is removed at the end.
    **boundaries
        The fields `walls`, `ground`, `powered` and `propellers` of `Case`. walls (Wall or mapping of str to Wall): for
        all walls or by name; by default at rest, adiabatic, smooth and fully turbulent. ground (str): what a ground in
        the mesh does: "belt" (moves with the wind, the default in viscous flow), "still" or "slip". powered (mapping
        of str to Exhaust or Intake): walls through which an engine blows or sucks, by name. propellers (mapping of str
        to PropellerDisk): propeller disks by name.

    Returns
    -------
    Solution
        A run that does not converge is a solution with another outcome.

    Raises
    ------
    InputError
        For what cannot be solved.

    Notes
    -----
    Below Mach 0.05 the flow is computed at Mach 0.05 with the same Reynolds number; the notes of the solution say so.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0), numerics=zy.Numerics(residual_drop=3))
    >>> print(solution.outcome)
    converged
    """
    case = Case.of(mesh, air, model=model, reference=reference, numerics=numerics, **boundaries)
    return solve_case(case, start, on_step, keep)


@takes(case=Case, start=Solution, keep=PATH)
def solve_case(
    case: Case,
    start: Solution | None = None,
    on_step: Callable[[dict], None] | None = None,
    keep: str | Path | None = None,
) -> Solution:
    """Solve a case; see `solve`.

    Parameters
    ----------
    case : Case
        The case.
    start : Solution, optional
        A solution on the same mesh at a neighbouring condition.
    on_step : callable, optional
        Receives a dict of the columns of the history after every step.
    keep : path, optional
        File for the last state, from which the same call goes on.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> case = zy.Case(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
    >>> print(zy.solve_case(case).outcome)
    converged
    """
    return Solution.of(run_case(case, start, on_step, keep))
