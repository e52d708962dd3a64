"""A solution on disk: the case, the last state and the history, in one .npz file that is there whole or not at all.

The mesh is inside, or in a kept mesh that the file refers to. Verified by tests/test_case.py.
"""

import json
import os
from dataclasses import asdict
from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import atomic_write
from zephyrum.mesh.mesh_store import ARRAYS, mesh_notes
from zephyrum.solver import Run

FORMAT = 6
STATES = {
    "q": "q",
    "wall": "boundary_pressure",
    "traction": "traction",
    "heat": "heat",
    "eddy ratio": "eddy_ratio",
    "entropy production": "entropy_production",
    "mass flux": "mass_flux",
    "first-order cells": "first_order_cells",
}


def save_solution(solution: Run, path: str | Path, mesh_file: str | Path | None = None) -> Path:
    """Write a run to a file; see `Solution.save`.

    Parameters
    ----------
    solution : Run
        Finished run.
    path : path
        File.
    mesh_file : path, optional
        Kept mesh to refer to.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     save_solution(solution, f"{folder}/point.npz").name
    'point.npz'
    """
    path = Path(path)
    flow, case = solution.flow, solution.case
    facts = {
        "format": FORMAT,
        "fingerprint": case.fingerprint,
        "case": case.description,
        "outcome": flow.outcome,
        "reason": flow.reason,
        "seconds": flow.seconds,
        "notes": solution.notes,
        "fallback": solution.fallback,
        "model": case.model,
        "ground": case.ground,
        "freestream": {name: getattr(case.air, name) for name in (*case.air.given, "alpha", "beta")}
        | {"gas": asdict(case.air.gas), "turbulence": case.air.turbulence and asdict(case.air.turbulence)},
        "reference": asdict(case.reference),
        "walls": {name: asdict(wall) for name, wall in case.walls.items()},  # type: ignore[union-attr]
        "powered": {name: {"kind": type(one).__name__} | asdict(one) for name, one in case.powered.items()},
        "propellers": {name: asdict(one) for name, one in case.propellers.items()},
        "numerics": asdict(case.numerics),
        "mesh": mesh_notes(case.mesh),
    }
    arrays = {name: getattr(flow, attribute) for name, attribute in STATES.items()}
    if mesh_file is None:
        arrays |= {f"mesh {name}": getattr(case.mesh, name) for name in ARRAYS}
    else:
        facts["mesh file"] = Path(os.path.relpath(mesh_file, path.parent)).as_posix()
    with atomic_write(path) as temporary, temporary.open("wb") as file:
        np.savez(file, history=np.array(flow.history.rows, dtype=float), facts=json.dumps(facts), **arrays)
    return path
