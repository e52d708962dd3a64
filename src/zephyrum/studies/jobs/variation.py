"""[vary]: any number of the aircraft file or of the section over a list of values, each meshed and solved.

The table sets every state against the first: coefficients and newtons by part, with differences in newtons and percent,
and whether they exceed the mesh error. Verified by tests/test_vary.py.
"""

from typing import TYPE_CHECKING

import pandas as pd
from pydantic import Field

from zephyrum._core.atomic_files import write_text
from zephyrum.errors import FileError, InputError
from zephyrum.results import Solution
from zephyrum.studies.common_tables import Finite, Numbers, Strict
from zephyrum.studies.comparison import Comparison, comparison_of
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Task, step_reports

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


CHANGES = {
    "state": "",
    "coefficient": "",
    "from": "+.5f",
    "to": "+.5f",
    "change": "+.5f",
    "percent": "+.1f",
    "beyond mesh error": "",
}
STATES = {
    "state": "",
    "CL": ".4f",
    "CD_far": ".5f",
    "CD": ".5f",
    "CM": "+.4f",
    "L/D": ".1f",
    "outcome": "",
    "cells": "d",
}
PARTS = {
    "state": "",
    "part": "",
    "X [N]": "~4",
    "Y [N]": "~4",
    "Z [N]": "~4",
    "change X [N]": "+~3",
    "change Z [N]": "+~3",
    "percent X": "+.1f",
    "percent Z": "+.1f",
}


class VarySpec(Strict):
    """The table [vary] of a study file.

    Attributes
    ----------
    number : str
        Dotted path of a number of the geometry.
    values : list of float
        Its values.
    mach, alpha : float
        Condition; alpha in [deg].
    title : str
        Name of the number in tables and figures.

    Examples
    --------
    >>> VarySpec(number="flap.angle", values=[0.0, 10.0], mach=0.3).values
    [0.0, 10.0]
    """

    number: str
    values: Numbers
    mach: Finite
    alpha: Finite = 0.0
    title: str = Field("", max_length=60)


class VaryJob(Job):
    """The same condition about variants of the geometry."""

    name = "vary"
    order = 6
    Spec = VarySpec
    files = {
        "vary.csv": "coefficients of every variant",
        "vary-changes.csv": "differences from the first variant",
        "vary-parts.csv": "newtons by part, with differences from the first variant",
    }
    template = {
        "section": """# [vary]                  # a number of the section over a list, such as "flap.angle"
# number = "flap.angle"
# values = [0, 10, 20]
# mach = 0.2
# alpha = 4
""",
        "aircraft": """# [vary]                  # a number of the aircraft file over a list
# number = "wing.controls.flap.deflection"
# values = [0, 20]
# mach = 0.2
# alpha = 4
""",
    }

    def count(self, spec: "VarySpec"):
        return len(spec.values)

    def check(self, study: "Study", spec: "VarySpec"):
        if len(spec.values) < 2 or len(set(spec.values)) < len(spec.values):
            raise InputError(f"vary.values = {spec.values} must be at least two different values.")
        for value in spec.values:
            study.source.changed(spec.number, value)

    @staticmethod
    def _name(spec, value: float) -> str:
        return f"{spec.title or spec.number} = {value:g}"

    def _solutions(self, study, spec, solve) -> dict[str, Solution | None]:
        return {self._name(spec, value): solve(k, value) for k, value in enumerate(spec.values)}

    def run(self, study: "Study", spec: "VarySpec", observer: "Observer") -> Comparison:
        reference: list = []

        def solve(k: int, value: float) -> Solution:
            case = study.varied_case(
                f"mesh-vary-{k + 1}", spec.number, value, spec.mach, spec.alpha, observer, *reference
            )
            reference[:] = [case.reference]
            label = self._name(spec, value)
            made = study.solved_point(f"vary-{k + 1}", case, None, step_reports(observer, Task(self.name, label)))
            observer.finished(Task(self.name, label, k + 1, len(spec.values)), made.row())
            return made

        made = comparison_of(self._solutions(study, spec, solve), study.results.get("refine"))
        folder = study.workspace.folder
        for name, frame in (("vary", made.table), ("vary-changes", made.changes), ("vary-parts", made.parts)):
            write_text(folder / f"{name}.csv", frame.to_csv(index=False))
        return made

    def load(self, study: "Study", spec: "VarySpec") -> Comparison | None:
        reference: list = []

        def read(k: int, value: float) -> Solution | None:
            case = study.varied_case(f"mesh-vary-{k + 1}", spec.number, value, spec.mach, spec.alpha, None, *reference)
            if case is None:
                return None
            reference[:] = [case.reference]
            return study.stored_solution(case, f"vary-{k + 1}")

        found = self._solutions(study, spec, read)
        if any(solution is None for solution in found.values()):
            return None
        return comparison_of(found, study.results.get("refine"))

    def tables(self, study: "Study", result: Comparison):
        title = f"{study.spec.title}: variants at {next(iter(result.solutions.values())).air.describe()}"
        parts = result.parts.where(pd.notna(result.parts), None).to_dict("records")
        return [
            Table(result.table.to_dict("records"), STATES, title),
            Table(result.changes.to_dict("records"), CHANGES, "differences from the first variant"),
            Table(parts, PARTS, "newtons by part"),
        ]

    def figures(self, study: "Study", result: Comparison):
        solutions = result.solutions
        if study.mesh.planar:
            return [
                Figure(
                    "vary_cp",
                    "cp curves",
                    (list(solutions.values()),),
                    {"labels": list(solutions), "title": study.spec.title},
                    "Cp of the variants",
                    "pressures",
                )
            ]
        limits = common_limits(list(solutions.values()))
        return [
            Figure(
                f"vary_{k + 1}",
                "surface",
                (one,),
                {"view": "quarter", "limits": limits, "title": name},
                f"Cp on the surface, {name}",
                "pressures",
            )
            for k, (name, one) in enumerate(solutions.items())
        ]

    def outcomes(self, result: Comparison):
        return list(result.table["outcome"])


def common_limits(solutions: list[Solution]) -> tuple[float, float]:
    """One range of Cp for pictures of several solutions: from the 1st to the 99th percentile over all of them.

    Parameters
    ----------
    solutions : list[Solution]
        Solutions.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> low, high = common_limits([solution])
    >>> low < high
    True
    """
    values = pd.concat([solution.cp()["Cp"] for solution in solutions])
    low, high = values.quantile(0.01), values.quantile(0.99)
    if not low < high:
        raise FileError("the pressures of the variants are not numbers; run the study again.")
    return round(float(low), 2), round(float(high), 2)


JOB = VaryJob()
