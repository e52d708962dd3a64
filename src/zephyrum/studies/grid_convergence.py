"""The same case on a family of meshes, for the errors of its coefficients; see `mesh_error` for how they are judged.

Verified by tests/test_studies.py.
"""

import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import takes, whole
from zephyrum.conditions import Freestream
from zephyrum.errors import InputError
from zephyrum.flow import Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.geometry import Aircraft, Airfoil, Surface
from zephyrum.mesh import Mesh, mesh_aircraft, mesh_airfoil
from zephyrum.results import Polar, solve_case
from zephyrum.results.far_field_drag import drag_columns
from zephyrum.solver import Case
from zephyrum.studies.mesh_error import Estimate, estimate
from zephyrum.studies.observer import Observer, Task, step_reports

if TYPE_CHECKING:
    import pandas as pd

    from zephyrum.results.solution import Solution
    from zephyrum.solver.walls import Wall


COEFFICIENTS = "CL", "CD_far", "CD", "CM"  # CD_far where far-field drag is known on all meshes
STEP = 1.3  # factor on all sizes from one mesh of a body in space to the next


@dataclass(frozen=True)
class Refinement:
    """Mesh study of one condition.

    Attributes
    ----------
    table : pd.DataFrame
        For each mesh, finest first.
    estimates : dict[str, Estimate]
        Of CL, CD and CM.
    air : Freestream
        Freestream.

    Examples
    --------
    >>> import zephyrum as zy
    >>> study = zy.refine(zy.Airfoil.naca("0012"), zy.Freestream(mach=0.3, alpha=2.0))  # doctest: +SKIP
    >>> study.estimates["CD"].error  # doctest: +SKIP
    """

    table: "pd.DataFrame"
    estimates: dict[str, Estimate]
    air: Freestream

    __repr__ = short_repr

    def __str__(self) -> str:
        found = ", ".join(f"{e.name} {e.finest:.4g} +- {e.error:.2g}" for e in self.estimates.values())
        return f"{found} on {', '.join(f'{n:,}' for n in self.table['cells'])} cells; {self.outcome}"

    @property
    def outcome(self) -> str:
        """One sentence on all three coefficients.

        Examples
        --------
        >>> row = {"CD": 0.01, "CM": 0.0, "outcome": "converged"}
        >>> levels = enumerate((1.0, 2.0, 4.0))
        >>> rows = [row | {"level": k, "cells": 4096 // 4**k, "h": h, "CL": 0.5 + h**2} for k, h in levels]
        >>> print(refinement_of(rows, Freestream(mach=0.3)).outcome)
        all coefficients are in the asymptotic range
        """
        good = [name for name, e in self.estimates.items() if e.asymptotic]
        if len(good) == len(self.estimates):
            return "all coefficients are in the asymptotic range"
        rest = ", ".join(name for name in self.estimates if name not in good)
        return f"not in the asymptotic range: {rest}; refine once more before trusting the extrapolated value"

    def rows(self) -> list[dict]:
        """The estimates as table rows.

        Examples
        --------
        >>> row = {"CD": 0.01, "CM": 0.0, "outcome": "converged"}
        >>> levels = enumerate((1.0, 2.0, 4.0))
        >>> rows = [row | {"level": k, "cells": 4096 // 4**k, "h": h, "CL": 0.5 + h**2} for k, h in levels]
        >>> [estimate["coefficient"] for estimate in refinement_of(rows, Freestream(mach=0.3)).rows()]
        ['CL', 'CD', 'CM']
        """
        return [
            {
                "coefficient": e.name,
                "finest_mesh": e.finest,
                "error": e.error,
                "observed_order": e.order,
                "extrapolated": e.extrapolated,
                "outcome": e.words,
            }
            for e in self.estimates.values()
        ]


def refinement_of(rows: list[dict], air: Freestream) -> Refinement:
    """Mesh study of the rows of `refine`.

    Parameters
    ----------
    rows : list[dict]
        Finest first: level, cells, h, CL, CD, CM, outcome.
    air : Freestream
        Freestream.

    Examples
    --------
    >>> row = {"CD": 0.01, "CM": 0.0, "outcome": "converged"}
    >>> sizes = (0.01, 0.02, 0.04)
    >>> rows = [row | {"level": k, "cells": 4096 // 4**k, "h": h, "CL": 0.5 + h**2} for k, h in enumerate(sizes)]
    >>> found = refinement_of(rows, Freestream(mach=0.3))
    >>> round(found.estimates["CL"].order, 3), round(found.estimates["CL"].extrapolated, 6)
    (2.0, 0.5)
    """
    import pandas as pd

    table = pd.DataFrame(rows)
    sizes = [row["h"] for row in rows]
    names = [name for name in COEFFICIENTS if name in table and (name != "CD_far" or table[name].notna().all())]
    estimates = {name: estimate(name, table[name].tolist(), sizes) for name in names}
    unconverged = ", ".join(str(row["cells"]) for row in rows if row["outcome"] != Outcome.CONVERGED)
    if unconverged:
        for name, e in estimates.items():
            words = f"the mesh of {unconverged} cells did not converge: no trust in the order"
            error = max(e.error, 3.0 * float(np.ptp(table[name])))
            estimates[name] = Estimate(name, e.finest, e.order, e.extrapolated, error, False, words)
    return Refinement(table, estimates, air)


@takes(shape=(Airfoil, Aircraft, Surface, Mesh), air=Freestream, model=str, numerics=Numerics, observer=Observer)
def refine(
    shape: Airfoil | Aircraft | Surface | Mesh,
    air: Freestream,
    levels: int = 3,
    model: str = "euler",
    numerics: Numerics | None = None,
    walls: "Wall | Mapping[str, Wall] | None" = None,
    ground: str | None = None,
    observer: Observer | None = None,
    **mesh_options,
) -> Refinement:
    """Solve one condition on a family of meshes, and estimate order and error of the coefficients.

    Parameters
    ----------
    shape : Airfoil, Aircraft, Surface or Mesh
        An airfoil or aircraft is meshed with `mesh_options`, on coarser levels with all sizes `STEP` times as large; a
        mesh brings its nested coarser levels.
    air : Freestream
    levels : int
        Meshes, 3 or more.
    model, numerics, walls, ground
        As in `solve`.
    observer : Observer, optional
        Receives steps and finished meshes.
    **mesh_options
        Options of `mesh_airfoil` or `mesh_aircraft`, and the fields `powered` and `propellers` of `Case`.

    Returns
    -------
    Refinement

    Raises
    ------
    InputError
        If a mesh has too few coarser levels.

    Notes
    -----
    A level that does not converge makes every estimate say so.

    References
    ----------
    Celik et al. (2008), J. Fluids Eng. 130:078001.

    Examples
    --------
    >>> import zephyrum as zy
    >>> air = zy.Freestream(mach=0.3, alpha=2.0)
    >>> print(zy.refine(zy.Airfoil.naca("0012"), air, topology="O"))  # doctest: +SKIP
    """
    levels = whole("levels", levels, 3, 6)
    engines = [mesh_options.pop(name, None) for name in ("powered", "propellers")]
    if isinstance(shape, Mesh) and mesh_options:
        raise InputError(
            f"{', '.join(mesh_options)}: options of a mesh have no effect on a Mesh that is given; leave them out."
        )
    if isinstance(shape, Aircraft | Surface):
        finest = mesh_aircraft(shape, **mesh_options)
        rest = (mesh_aircraft(shape, **mesh_options | coarsened(finest, level)) for level in range(1, levels))
        family = itertools.chain([finest], rest)
        numerics = numerics or Numerics(residual_drop=4.0)
    else:
        finest = shape if isinstance(shape, Mesh) else mesh_airfoil(shape, **mesh_options)
        family = mesh_levels(finest, levels)
    rows = []
    for level, one in enumerate(family):
        case = Case(one, air, model, finest.reference, walls, numerics or Numerics(), ground, *engines)
        solution = solve_case(case, on_step=step_reports(observer, Task("refine", f"mesh {level + 1}", 0, levels)))
        rows.append(level_row(level, one, finest, solution))
        if observer is not None:
            observer.finished(Task("refine", f"{one.n_cells} cells", level + 1, levels), rows[-1])
    return refinement_of(rows, air)


def coarsened(finest: Mesh, level: int) -> dict:
    """Options of `mesh_aircraft` for a coarser mesh of the family of another.

    Parameters
    ----------
    finest : Mesh
        Finest mesh of an aircraft.
    level : int
        Number of the level.
    """
    own = finest.recipe.get("coarsening", 1.0)
    return {"resolution": finest.recipe["factor"] / own, "cells": None, "coarsening": own * STEP**level}


def mesh_levels(mesh: Mesh, levels: int) -> list[Mesh]:
    """A mesh and its coarser levels.

    Parameters
    ----------
    mesh : Mesh
        Finest mesh.
    levels : int
        How many in all.

    Raises
    ------
    InputError
        There are not enough.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> [mesh.n_cells for mesh in mesh_levels(mesh_airfoil(Airfoil.naca("0012"), 128, 32, topology="O"), 3)]
    [4096, 1024, 256]
    """
    family = mesh.family()[:levels]
    if len(family) < levels:
        raise InputError(
            f"levels = {levels}, but the mesh has only {len(family)} nested level(s); choose around and outward "
            f"divisible by {2 ** (levels - 1)} "
            f"and large enough (around >= {24 * 2 ** (levels - 1)}, outward >= {8 * 2 ** (levels - 1)})."
        )
    return family


def level_row(level: int, mesh: Mesh, finest: Mesh, solution: "Solution") -> dict:
    """Row of a mesh of a mesh study.

    Parameters
    ----------
    level : int
        Number of the level.
    mesh : Mesh
        Its mesh.
    finest : Mesh
        Finest mesh.
    solution : Solution
        Solution on the mesh.
    """
    c = solution.forces.coefficients()
    return {
        "level": level,
        "cells": mesh.n_cells,
        "h": mean_size(mesh, finest),
        **{k: c[k] for k in ("CL", "CD", "CM")},
        **{k: value for k, value in drag_columns(solution).items() if k in ("CD_far", "CD_far_error")},
        "outcome": solution.flow.outcome if level else solution.outcome,
        "mesh": mesh.fingerprint,
        "case": solution.case.fingerprint,
        "seconds": round(solution.flow.seconds, 2),
    }


def mean_size(mesh: Mesh, finest: Mesh) -> float:
    """Mean size of the cells of a mesh, to compare it with other meshes of the same body [m].

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    finest : Mesh
        Finest mesh of the study.

    Notes
    -----
    In the plane by the area of the finest mesh and the number of cells. In space by the area of the wall and the number
    of cells beside it: cells grow with the distance from the wall at one rate in all meshes, so their number in all
    says little of their sizes (a factor of 1.3 on all sizes changed the mean by the volume of a half Skerry by 1.07).

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> fine, coarse = mesh_levels(mesh_airfoil(Airfoil.naca("0012"), 64, 16, topology="O"), 2)
    >>> mean_size(coarse, fine) / mean_size(fine, fine)
    2.0
    """
    if finest.planar:
        return (float(np.sum(finest.cell_volume)) / mesh.n_cells) ** 0.5
    faces = mesh.faces_of("wall")
    area = float(np.linalg.norm(mesh.face_area[faces], axis=1).sum())
    return (area / len(np.unique(mesh.left[faces]))) ** 0.5


def with_errors(polar: Polar, refinement: Refinement) -> Polar:
    """Error bars of a polar from one refined point: CL by its relative error, CD and CM by their absolute ones.

    Parameters
    ----------
    polar : Polar
        Polar.
    refinement : Refinement
        Mesh study of one point.

    Examples
    --------
    >>> row = {"alpha": 2.0, "mach": 0.3, "CL": 0.25, "CD": 0.0, "CM": 0.0, "outcome": "converged"}
    >>> levels = enumerate((0.01, 0.02, 0.04))
    >>> rows = [row | {"level": k, "cells": 4096 // 4**k, "h": h, "CL": 0.25 + h**2} for k, h in levels]
    >>> study, polar = refinement_of(rows, Freestream(mach=0.3, alpha=2.0)), Polar.of([row])
    >>> "CL_error" in with_errors(polar, study).table
    True
    """
    e = refinement.estimates
    relative = {"CL": e["CL"].error / max(abs(e["CL"].finest), 0.05)}
    absolute = {name: estimate.error for name, estimate in e.items()}
    where = refinement.air.describe()
    notes = polar.notes | {
        "errors": f"mesh error found at {where} ({refinement.outcome}), taken over to all points: CL relative, CD and "
        f"CM absolute; near shocks it is larger"
    }
    return Polar(polar.with_errors(relative, absolute).table, notes)
