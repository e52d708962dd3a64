"""What a change does: the same condition about several states of a shape, side by side, with the differences and whether they exceed the mesh error.

All states are meshed with the same options, so that most of the mesh error is the same and cancels in the difference; that is why a difference
beyond the whole error bar can be trusted. Run by examples/flaps_of_the_skerry.py in tests/test_studies.py.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from zephyrum.air import Freestream
from zephyrum.air.checks import Many, takes
from zephyrum.errors import InputError
from zephyrum.flow import Settings
from zephyrum.mesh import mesh_aircraft, mesh_airfoil
from zephyrum.results import Solution, solve
from zephyrum.shape import Aircraft, Airfoil
from zephyrum.studies.refine import Refinement
from zephyrum.told import told

SHOWN = ("CL", "CD", "CM")


@dataclass(frozen=True, eq=False)
class Comparison:
    """table: DataFrame, a row a state: coefficients, verdict, cells; changes: DataFrame of the differences from the first state, in percent of it,

    with "beyond mesh error": "yes", "no", or "mesh error unknown". solutions: by name.
    """

    table: object
    changes: object
    solutions: dict[str, Solution]

    __repr__ = told

    def __str__(self) -> str:
        return f"{', '.join(self.solutions)}: {len(self.changes)} differences from {next(iter(self.solutions))}"


@takes(shapes=Mapping, air=Freestream, model=str, settings=Settings, error=Refinement)
def compare(shapes: Mapping[str, Aircraft | Airfoil], air: Freestream, model: str = "euler", settings: Settings | None = None, error: Refinement | None = None,
            on_point: Callable[[dict], None] | None = None, **mesh_options) -> Comparison:  # fmt: skip
    """Solve `air` about every one of the named `shapes` and set them against the first.

    Of an aircraft such states are `craft.changed({"wing.controls.flap.deflection": 20})`, see `varied`. Coefficients refer to the first shape's reference.
    error: a Refinement of one of them. mesh_options: as of `mesh_aircraft`, for Airfoils `mesh_airfoil`.
    """
    import pandas as pd

    if len(shapes) < 2:
        raise InputError(f"shapes holds {len(shapes)} state(s); give at least two, by name.")
    rows, solutions, reference = [], {}, None
    for name, shape in shapes.items():
        space = not isinstance(shape, Airfoil)
        mesh = (mesh_aircraft if space else mesh_airfoil)(shape, **mesh_options)
        reference = reference or mesh.reference
        made = solve(mesh, air, model, reference=reference, settings=settings or Settings(orders=4.0 if space else 8.0))
        solutions[name] = made
        c = made.forces.coefficients()
        rows.append({"state": name, **{k: c[k] for k in SHOWN}, "L/D": made.row()["L/D"], "verdict": made.verdict, "cells": mesh.n_cells})  # fmt: skip
        if on_point is not None:
            on_point(rows[-1])
    table = pd.DataFrame(rows)
    changes = [_change(row, rows[0], name, error) for row in rows[1:] for name in SHOWN]
    return Comparison(table, pd.DataFrame(changes), solutions)


@takes(craft=Aircraft, path=str, values=Many(object))
def varied(craft: Aircraft, path: str, values) -> dict[str, Aircraft]:
    """The aircraft with the number at a dotted path at each of `values`, named by them: a sweep over any number of its description."""
    return {f"{path} = {value}": craft.changed({path: value}) for value in values}


def _change(row: dict, first: dict, name: str, error: Refinement | None) -> dict:
    change = row[name] - first[name]
    beyond = "mesh error unknown"
    if error is not None:
        beyond = "yes" if abs(change) > 2.0 * error.estimates[name].error else "no"
    if row["verdict"] != "settled" or first["verdict"] != "settled":
        beyond = "not settled"
    percent = 100.0 * change / abs(first[name]) if first[name] else float("nan")
    return {"state": row["state"], "coefficient": name, "from": first[name], "to": row[name], "change": change, "percent": percent, "beyond mesh error": beyond}  # fmt: skip
