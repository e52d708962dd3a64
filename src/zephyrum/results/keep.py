"""A solution on disk: the last state and the history, in one .npz file that is there whole or not at all.

Verified by tests/test_results.py and tests/test_studies.py.
"""

import json
import zipfile
from pathlib import Path

import numpy as np

from zephyrum.air import Freestream
from zephyrum.errors import FileError
from zephyrum.flow import Flow, History
from zephyrum.flow.gas import Scales
from zephyrum.mesh import Mesh
from zephyrum.one_stroke import one_stroke


def save_solution(solution, path: str | Path) -> Path:
    """See `Solution.save`."""
    path = Path(path)
    facts = {"verdict": solution.verdict, "reason": solution.reason, "mesh": solution.mesh.fingerprint, "mach": solution.air.mach, "alpha": solution.air.alpha,
             "beta": solution.air.beta, "seconds": solution.flow.seconds, "model": solution.model, "notes": solution.notes}  # fmt: skip
    with one_stroke(path) as temporary, temporary.open("wb") as file:
        np.savez(
            file,
            q=solution.flow.q,
            wall=solution.flow.boundary_pressure,
            traction=solution.flow.traction,
            heat=solution.flow.heat,
            eddies=solution.flow.eddies,
            calmed=solution.flow.calmed,
            history=np.array(solution.history.rows, dtype=float),
            facts=json.dumps(facts),
        )
    return path


def read_solution(path: str | Path, mesh: Mesh, air: Freestream) -> tuple[dict, Flow]:
    """(model and notes, flow) of a kept solution; FileError if it does not belong to this mesh and condition."""
    path = Path(path)
    try:
        with np.load(path, allow_pickle=False) as data:
            facts = json.loads(str(data["facts"]))
            history = History([tuple(row) for row in data["history"]])
            q, wall, traction, heat, eddies, calmed = (
                data[name].copy() for name in ("q", "wall", "traction", "heat", "eddies", "calmed")
            )
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as cause:
        raise FileError(f"solution {str(path)!r} can't be read ({cause}); remove it and run again.") from None
    if (
        facts["mesh"] != mesh.fingerprint
        or abs(facts["alpha"] - air.alpha) > 1e-9
        or abs(facts["mach"] - air.mach) > 1e-9
    ):
        raise FileError(
            f"solution {str(path)!r} is stale: it belongs to another mesh or condition; remove it and run again."
        )
    flow = Flow(
        q,
        wall,
        traction,
        heat,
        eddies,
        calmed,
        Scales.of(air),
        facts["verdict"],
        facts["reason"],
        history,
        facts["seconds"],
    )
    return facts, flow
