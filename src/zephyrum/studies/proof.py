"""The mesh study that a study file asks for: level by level, each kept in the folder as soon as it is done.

Verified by tests/test_studies.py and tests/test_flight.py.
"""

import json
from collections.abc import Callable
from pathlib import Path

from zephyrum.mesh import Mesh
from zephyrum.one_stroke import write_text
from zephyrum.results import solve
from zephyrum.studies.outcome import held_solution
from zephyrum.studies.points import Point, now_and_then
from zephyrum.studies.refine import Refinement, judge, level_row


def proven(study, mesh: Mesh, coarser: Callable[[int], Mesh], folder: Path, on_level=None, on_step=None) -> Refinement:
    """Solve the condition on the mesh and on `coarser(1)`, `coarser(2)`, ...; levels that the folder holds are not solved again, and one broken off goes on.

    The finest one is taken from the sweep if it has the point. on_step(point, row): as in `sweep`.
    """
    own = study.refine
    air = study.freestream(own.mach, own.alpha)
    key = [mesh.fingerprint, own.mach, own.alpha, study.solver.model, repr(study.settings()), repr(study.wall())]
    path = folder / "refinement.json"
    rows: list[dict] = []
    if path.is_file():
        held = json.loads(path.read_text(encoding="utf-8"))
        rows = held["levels"][: own.levels] if held["key"] == key else []
    for level in range(len(rows), own.levels):
        one = mesh if level == 0 else coarser(level)
        solution = held_solution(study, mesh, folder, own.mach, own.alpha) if level == 0 else None
        if solution is None:
            point = Point(own.mach, own.alpha, None, level)
            solution = solve(one, air, study.solver.model, reference=mesh.reference, settings=study.settings(), walls=study.wall(), on_step=now_and_then(on_step, point),
                             keep=folder / "points" / f"{point.name}.going")  # fmt: skip
        rows.append(level_row(level, one, mesh, solution))
        write_text(path, json.dumps({"key": key, "levels": rows}, indent=1))
        if on_level is not None:
            on_level(rows[-1])
    made = judge(rows, air)
    write_text(path, json.dumps({"key": key, "levels": rows, "estimates": made.rows()}, indent=1))
    write_text(folder / "refinement.csv", made.table.to_csv(index=False))
    return made


def held_proof(study, folder: Path) -> Refinement | None:
    """The mesh study that the folder holds, as far as it has come; None without at least three levels."""
    path = folder / "refinement.json"
    if study.refine is None or not path.is_file():
        return None
    rows = json.loads(path.read_text(encoding="utf-8"))["levels"]
    return judge(rows, study.freestream(study.refine.mach, study.refine.alpha)) if len(rows) > 2 else None
