"""What a change does: the same condition about several states of a shape, side by side, with the differences and
whether they exceed the mesh error.

All states are meshed with the same options, so that most of the mesh error is the same and cancels in the difference;
that is why a difference beyond the whole error bar can be trusted. Run by examples/flaps_of_the_skerry.py in
tests/test_studies.py.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import Many, takes
from zephyrum.conditions import Freestream
from zephyrum.errors import InputError
from zephyrum.flow import Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.geometry import Aircraft, Airfoil
from zephyrum.mesh import mesh_aircraft, mesh_airfoil
from zephyrum.results import Solution, solve_case
from zephyrum.solver import Case
from zephyrum.studies.grid_convergence import Refinement
from zephyrum.studies.observer import Observer, Task

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.solver.walls import Wall


SHOWN_COLUMNS = ("CL", "CD_far", "CD", "CM")  # CD_far where it is known


@dataclass(frozen=True, eq=False)
class Comparison:
    """Comparison of several solutions.

    Attributes
    ----------
    table : pd.DataFrame
        For each: coefficients, outcome, cells.
    changes : pd.DataFrame
        Differences from the first, in percent of it, with "beyond mesh error": "yes", "no", or "mesh error unknown".
    solutions : dict[str, Solution]
        By name.
    parts : pd.DataFrame, optional
        Forces by part [N], with differences.

    Examples
    --------
    >>> import zephyrum as zy
    >>> foils = {"thin": zy.Airfoil.naca("0009"), "thick": zy.Airfoil.naca("0015")}
    >>> zy.compare(foils, zy.Freestream(mach=0.2)).changes  # doctest: +SKIP
    """

    table: "pd.DataFrame"
    changes: "pd.DataFrame"
    solutions: dict[str, Solution]
    parts: "pd.DataFrame | None"

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{', '.join(self.solutions)}: {len(self.changes)} differences from {next(iter(self.solutions))}"


@takes(shapes=Mapping, air=Freestream, model=str, numerics=Numerics, error=Refinement, observer=Observer)
def compare(
    shapes: Mapping[str, Aircraft | Airfoil],
    air: Freestream,
    model: str = "euler",
    numerics: Numerics | None = None,
    error: Refinement | None = None,
    walls: "Wall | Mapping[str, Wall] | None" = None,
    ground: str | None = None,
    observer: Observer | None = None,
    **mesh_options,
) -> Comparison:
    """Solve one condition about several shapes and compare them with the first.

    Parameters
    ----------
    shapes : mapping of str to Aircraft or Airfoil
        Two or more; for states of an aircraft see `changed_aircraft`.
    air : Freestream
    model, numerics, walls, ground
        As in `solve`.
    error : Refinement, optional
        Of one of the shapes: a change is then compared with the mesh error.
    observer : Observer, optional
        Receives every finished state.
    **mesh_options
        Options of `mesh_aircraft` or `mesh_airfoil`.

    Returns
    -------
    Comparison
        Coefficients refer to the reference quantities of the first shape.

    Examples
    --------
    >>> import zephyrum as zy
    >>> foils = {"plain": zy.Airfoil.naca("2412"), "flap": zy.Airfoil.naca("2412").with_flap(0.7, 10.0)}
    >>> print(zy.compare(foils, zy.Freestream(mach=0.2, alpha=2.0)))  # doctest: +SKIP
    """
    if len(shapes) < 2:
        raise InputError(f"shapes holds {len(shapes)} state(s); give at least two, by name.")
    solutions, reference = {}, None
    for name, shape in shapes.items():
        space = not isinstance(shape, Airfoil)
        mesh = (mesh_aircraft if space else mesh_airfoil)(shape, **mesh_options)
        reference = reference or mesh.reference
        case = Case(
            mesh, air, model, reference, walls, numerics or Numerics(residual_drop=4.0 if space else 8.0), ground
        )
        solutions[name] = solve_case(case)
        if observer is not None:
            observer.finished(Task("compare", name, len(solutions), len(shapes)), _state(name, solutions[name]))
    return comparison_of(solutions, error)


def comparison_of(solutions: dict[str, Solution], error: Refinement | None = None) -> Comparison:
    """Comparison of named solutions, the first being what the others are set against.

    Parameters
    ----------
    solutions : dict[str, Solution]
        Solution by name.
    error : Refinement, optional
        Mesh study for the error bars.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, topology="O")
    >>> solutions = {f"M {mach}": solve(mesh, Freestream(mach=mach, alpha=2.0)) for mach in (0.2, 0.3)}
    >>> list(comparison_of(solutions).table.columns)[:3]
    ['state', 'CL', 'CD_far']
    """
    import pandas as pd

    rows = [_state(name, made) for name, made in solutions.items()]
    changes = [
        _change(row, rows[0], name, error)
        for row in rows[1:]
        for name in SHOWN_COLUMNS
        if not (np.isnan(row[name]) or np.isnan(rows[0][name]))
    ]
    return Comparison(pd.DataFrame(rows), pd.DataFrame(changes), solutions, pd.DataFrame(_parts(solutions)))


def _state(name: str, made: Solution) -> dict:
    row = made.row()
    return {
        "state": name,
        **{k: row[k] for k in SHOWN_COLUMNS},
        "L/D": row["L/D"],
        "outcome": made.outcome,
        "cells": made.mesh.n_cells,
    }


def _parts(solutions: dict[str, Solution]) -> list[dict]:
    """Newtons of every part of every state, with the differences from the same part of the first one."""
    rows, first = [], {}
    for state, made in solutions.items():
        names = [*dict.fromkeys(part for part, *_ in made.forces.parts), None]
        for part in names:
            force = made.forces.newtons(part)
            row = {"state": state, "part": part or "total"} | dict(
                zip(("X [N]", "Y [N]", "Z [N]"), map(float, force), strict=True)
            )
            if made is next(iter(solutions.values())):
                first[row["part"]] = force
            elif (old := first.get(row["part"])) is not None:
                row |= {f"change {axis} [N]": float(force[k] - old[k]) for k, axis in ((0, "X"), (1, "Y"), (2, "Z"))}
                row |= {
                    f"percent {axis}": 100.0 * float(force[k] - old[k]) / abs(float(old[k]))
                    for k, axis in ((0, "X"), (2, "Z"))
                    if old[k]
                }
            rows.append(row)
    return rows


@takes(aircraft=Aircraft, path=str, values=Many(object))
def changed_aircraft(aircraft: Aircraft, path: str, values: tuple) -> dict[str, Aircraft]:
    """Variants of an aircraft with a number at other values, named by them.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    path : str
        Dotted path of the number.
    values : tuple
        Values.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
    >>> list(changed_aircraft(craft, "wing.planform.span", (6.0, 8.0)).values())[1].parts["wing"].planform.span
    8.0
    """
    return {f"{path} = {value}": aircraft.changed({path: value}) for value in values}


def _change(row: dict, first: dict, name: str, error: Refinement | None) -> dict:
    change = row[name] - first[name]
    beyond = "mesh error unknown"
    if error is not None and name in error.estimates:
        beyond = "yes" if abs(change) > 2.0 * error.estimates[name].error else "no"
    if row["outcome"] != Outcome.CONVERGED or first["outcome"] != Outcome.CONVERGED:
        beyond = "not converged"
    percent = 100.0 * change / abs(first[name]) if first[name] else float("nan")
    return {
        "state": row["state"],
        "coefficient": name,
        "from": first[name],
        "to": row[name],
        "change": change,
        "percent": percent,
        "beyond mesh error": beyond,
    }
