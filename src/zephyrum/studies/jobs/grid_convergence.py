"""[refine]: the condition on coarser meshes, which gives observed order and error bars.

Verified by tests/test_studies.py and tests/test_flight.py.
"""

from typing import TYPE_CHECKING

from pydantic import Field

from zephyrum.errors import FileError
from zephyrum.flow.outcome import Outcome
from zephyrum.results import Solution, solve_case
from zephyrum.solver import Run, run_level
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.grid_convergence import Refinement, level_row, refinement_of
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Task, step_reports
from zephyrum.studies.points import Point

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


REFINED = {
    "coefficient": "",
    "finest_mesh": ".5f",
    "error": "~2",
    "observed_order": ".2f",
    "extrapolated": ".5f",
    "outcome": "",
}
LEVELS = {
    "level": "d",
    "cells": "d",
    "CL": ".5f",
    "CD_far": ".6f",
    "CD": ".6f",
    "CM": "+.5f",
    "outcome": "",
    "seconds": ".1f",
}


class RefineSpec(Strict):
    """The table [refine] of a study file.

    Attributes
    ----------
    mach, alpha : float
        Condition; alpha in [deg].
    levels : int
        Number of meshes; three for an aircraft.

    Examples
    --------
    >>> RefineSpec(mach=0.3, alpha=4.0).levels
    3
    """

    mach: Finite
    alpha: Finite
    levels: int = Field(3, ge=3, le=6)


class RefineJob(Job):
    """The mesh study of a study: level by level, each kept as soon as it is done."""

    name = "refine"
    order = 2
    Spec = RefineSpec
    files = {
        "refinement.csv": "the same case on coarser meshes",
        "refinement.json": "its rows with the case of each; observed orders, extrapolated values, error bars",
    }
    template = {
        "section": """[refine]                  # the second and third mesh: error bars for the polar
mach = 0.2
alpha = 2
levels = 3
""",
        "aircraft": """# [refine]                # error bars from two coarser meshes
# mach = 0.2
# alpha = 3
""",
    }

    def count(self, spec: "RefineSpec"):
        return spec.levels

    def check(self, study: "Study", spec: "RefineSpec"):
        study.source.check_levels(spec.levels)

    def run(self, study: "Study", spec: "RefineSpec", observer: "Observer") -> Refinement:
        rows: list[dict] = []
        known, before = self._known(study), None
        for level in range(spec.levels):
            case = study.case(spec.mach, spec.alpha, observer, level)
            row = next((row for row in known if row["case"] == case.fingerprint), None)
            if row is None:
                before = self._solved(study, spec, level, case, before, observer)
                row = level_row(level, case.mesh, study.case(spec.mach, spec.alpha).mesh, before)
            rows.append(row)
            study.workspace.keep_record("refinement", self.name, {"levels": rows})
            observer.finished(Task(self.name, f"{row['cells']} cells", level + 1, spec.levels), row)
        made = refinement_of(rows, study.freestream(spec.mach, spec.alpha))
        study.workspace.keep_record("refinement", self.name, {"levels": rows, "estimates": made.rows()})
        study.workspace.write_table("refinement", made.table)
        return made

    def _solved(self, study, spec, level: int, case, before: Solution | None, observer) -> Solution:
        """Solution on a level, from that on the level before."""
        if level == 0 and (stored := study.stored_solution(case)) is not None:
            return stored
        if before is None and level == 1:  # the rows of this study are known up to here
            before = study.stored_solution(study.case(spec.mach, spec.alpha))
        point = Point(spec.mach, spec.alpha, None, level)
        reports = step_reports(observer, Task(self.name, point.label, 0, spec.levels))
        keep = study.workspace.folder / "points" / f"{point.name}.going"
        if before is None or before.outcome == Outcome.FAILED or before.fallback:
            return solve_case(case, on_step=reports, keep=keep)
        return Solution.of(run_level(case, Run(before.case, before.flow), reports, keep))

    def _known(self, study) -> list[dict]:
        stored = study.workspace.record("refinement", self.name)
        return [] if stored is None else stored["levels"]

    def load(self, study: "Study", spec: "RefineSpec") -> Refinement | None:
        rows = self._known(study)
        case = study.stored_case(spec.mach, spec.alpha)
        if len(rows) < spec.levels or case is None:
            return None
        if rows[0]["case"] != case.fingerprint:
            raise FileError(
                f"the mesh study in {str(study.workspace.folder)!r} is stale: it belongs to another case than its "
                f"study.toml gives; run the study again."
            )
        return refinement_of(rows, study.freestream(spec.mach, spec.alpha))

    def tables(self, study: "Study | None", result: Refinement):
        columns = {name: form for name, form in LEVELS.items() if name in result.table}
        levels = Table(result.table.to_dict("records"), columns, f"refinement at {result.air.describe()}")
        return [Table(result.rows(), REFINED, lines=(f"outcome: {result.outcome}",)), levels][::-1]

    def figures(self, study: "Study", result: Refinement):
        return [
            Figure(
                "refinement",
                "refinement",
                (result,),
                caption="Coefficients over the mesh, with the extrapolated value and the error bar of the finest mesh.",
                position="error",
            )
        ]

    def outcomes(self, result: Refinement):
        return list(result.table["outcome"])


JOB = RefineJob()
