"""[derivatives]: of CL, CD, CM by alpha, and on a whole model of CY, roll and yaw by beta.

Every solution is a point of the workspace. Verified by tests/test_flight.py.
"""

from typing import TYPE_CHECKING

import pandas as pd
from pydantic import Field

from zephyrum.errors import InputError
from zephyrum.flow.outcome import Outcome
from zephyrum.results import Solution
from zephyrum.solver import Case
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.jobs.base import Job, Table
from zephyrum.studies.observer import Task, step_reports
from zephyrum.studies.trim_and_derivatives import derivatives_of

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


SLOPES = {"derivative": "", "value": "+.4f", "one_sided_difference": ".2g", "converged": ""}


class DerivativesSpec(Strict):
    """The table [derivatives] of a study file.

    Attributes
    ----------
    mach, alpha : float
        Condition; alpha in [deg].
    alpha_step, beta_step : float
        Differences of the angles [deg].

    Examples
    --------
    >>> DerivativesSpec(mach=0.3, alpha=4.0).beta_step
    3.0
    """

    mach: Finite
    alpha: Finite
    alpha_step: float = Field(1.0, gt=0, le=10)
    beta_step: float = Field(3.0, gt=0, le=20)


class DerivativesJob(Job):
    """The derivatives of an aircraft study."""

    name = "derivatives"
    order = 5
    Spec = DerivativesSpec
    kinds = ("aircraft",)
    files = {"derivatives.csv": "derivatives by alpha and beta"}
    template = {
        "aircraft": """# [derivatives]           # by alpha, and with half = false in [mesh] by beta
# mach = 0.2
# alpha = 3
"""
    }

    def check(self, study: "Study", spec: "DerivativesSpec"):
        if study.spec.powered or study.propellers():
            raise InputError(
                "[derivatives] with exhausts, intakes or propellers is not available; remove [derivatives] or these."
            )
        if study.grounded:
            raise InputError(
                "[derivatives] over a ground is not available: every alpha has a mesh of its own; remove [derivatives] "
                "or mesh.ground."
            )

    def run(self, study: "Study", spec: "DerivativesSpec", observer: "Observer") -> pd.DataFrame:
        base = study.case(spec.mach, spec.alpha, observer)
        count = [0]

        def solved(case: Case, start: Solution | None) -> Solution:
            name = f"m{case.air.mach:.4f}_a{case.air.alpha:+08.3f}" + (
                f"_b{case.air.beta:+08.3f}" if case.air.beta else ""
            )
            label = case.air.describe()
            made = study.solved_point(name, case, start, step_reports(observer, Task(self.name, label)))
            count[0] += 1
            observer.finished(Task(self.name, label, count[0], 3 if base.mesh.mirrored else 5), made.row())
            return made

        table = derivatives_of(base, spec.alpha_step, spec.beta_step, solved)
        study.workspace.write_table("derivatives", table)
        study.workspace.keep_record("derivatives", self._key(base, spec), {"rows": table.to_dict("records")})
        return table

    @staticmethod
    def _key(base: Case, spec) -> list:
        return [base.fingerprint, spec.model_dump()]

    def load(self, study: "Study", spec: "DerivativesSpec") -> pd.DataFrame | None:
        base = study.stored_case(spec.mach, spec.alpha)
        stored = None if base is None else study.workspace.record("derivatives", self._key(base, spec))
        return None if stored is None else pd.DataFrame(stored["rows"])

    def tables(self, study: "Study", result: "pd.DataFrame"):
        own = study.spec.derivatives  # type: ignore[attr-defined]
        return [
            Table(result.to_dict("records"), SLOPES, f"derivatives [1/rad] at M {own.mach:g}, alpha {own.alpha:g} deg")
        ]

    def outcomes(self, result: "pd.DataFrame"):
        return [Outcome.CONVERGED if converged else Outcome.OSCILLATING for converged in result["converged"]]


JOB = DerivativesJob()
