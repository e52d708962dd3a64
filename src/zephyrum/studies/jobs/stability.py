"""[stability]: the modes of small disturbances of one steady condition, and whether one of them grows.

Verified by tests/test_stability.py.
"""

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from pydantic import Field

from zephyrum._core.atomic_files import atomic_write
from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum.errors import InputError
from zephyrum.results import Mode, Stability, linear_stability
from zephyrum.results.linear_stability import excluded_modes
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Task, step_reports
from zephyrum.studies.points import Point

if TYPE_CHECKING:
    from zephyrum.solver import Case
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


MODES = {"mode": "", "growth": "+.4g", "strouhal": ".4f", "error": ".1g", "growth_rate": "+.4g", "frequency": ".4g"}


class StabilitySpec(Strict):
    """The table [stability] of a study file.

    Attributes
    ----------
    mach, alpha : float
        Condition; alpha in [deg].
    strouhal : list of float, optional
        Strouhal numbers on the chord near which modes are looked for.

    Examples
    --------
    >>> StabilitySpec(mach=0.1, alpha=20.0).strouhal is None
    True
    """

    mach: Finite
    alpha: Finite
    strouhal: list[float] | None = Field(None, min_length=1)


class StabilityJob(Job):
    """The stability of one steady solution."""

    name = "stability"
    order = 4
    Spec = StabilitySpec
    files = {
        "stability.csv": "growth and frequency of the modes of the steady solution",
        "stability.npz": "the modes, cell by cell",
    }
    template = {
        kind: f"""# [stability]             # does a small disturbance of the steady flow grow?
# mach = 0.2
# alpha = {alpha}
# strouhal = [0.15, 0.4]  # frequencies x chord / speed to look near; without it those of the body's height
"""
        for kind, alpha in (("section", 18), ("aircraft", 12))
    }

    def check(self, study: "Study", spec: "StabilitySpec"):
        for value in spec.strouhal or ():
            if not 0.0 <= value <= 1e4:
                raise InputError(f"stability.strouhal: {value:g} is out of range; give Strouhal numbers of 0 or more.")

    def run(self, study: "Study", spec: "StabilitySpec", observer: "Observer") -> Stability:
        if (stored := self.load(study, spec)) is not None:
            return stored
        case = study.case(spec.mach, spec.alpha, observer)
        label = case.air.describe()
        name = Point(case.air.mach, case.air.alpha, None).name
        solution = study.solved_point(name, case, None, step_reports(observer, Task(self.name, label)))
        found = linear_stability(solution, None if spec.strouhal is None else tuple(spec.strouhal))
        workspace = study.workspace
        with atomic_write(self._file(study)) as part, part.open("wb") as file:
            np.savez(file, key=case.fingerprint, modes=np.array([mode.disturbance for mode in found.modes]))
        made = {"rows": found.rows, "strouhal": found.strouhal, "missed": found.missed}
        cost = {"krylov_vectors": found.krylov_vectors, "seconds": found.seconds}
        workspace.write_table("stability", pd.DataFrame(found.rows))
        workspace.keep_record("stability", self._key(case, spec), made | cost)
        leading = found.modes[0]
        row = solution.row() | {"growth": leading.growth, "strouhal": leading.strouhal, "outcome": found.outcome}
        observer.finished(Task(self.name, label, 1, 1), row)
        return found

    def load(self, study: "Study", spec: "StabilitySpec") -> Stability | None:
        case = study.stored_case(spec.mach, spec.alpha)
        stored = None if case is None else study.workspace.record("stability", self._key(case, spec))
        solution = None if case is None or stored is None else study.stored_solution(case)
        if stored is None or solution is None or not self._file(study).is_file():
            return None
        try:
            arrays = read_arrays(self._file(study), ("key", "modes"))
        except DamagedArrays:
            return None
        if str(arrays["key"]) != case.fingerprint or len(arrays["modes"]) != len(stored["rows"]):
            return None
        modes = tuple(
            Mode(**{name: value for name, value in row.items() if name != "mode"}, disturbance=one)
            for row, one in zip(stored["rows"], arrays["modes"], strict=True)
        )
        looked = tuple(stored["strouhal"]), tuple(stored["missed"])
        cost = stored["krylov_vectors"], stored["seconds"]
        return Stability(solution, modes, *looked, excluded_modes(solution), *cost)

    @staticmethod
    def _key(case: "Case", spec: "StabilitySpec") -> list:
        return [case.fingerprint, spec.model_dump()]

    @staticmethod
    def _file(study: "Study"):
        return study.workspace.folder / "stability.npz"

    def tables(self, study: "Study", result: Stability):
        lines = [result.words]
        if result.missed:
            near = ", ".join(f"{value:.3g}" for value in result.missed)
            lines.append(f"near Strouhal number {near} no mode was found accurately")
        if result.excluded:
            lines.append(result.excluded)
        return [Table(result.rows, MODES, f"stability at {result.solution.air.describe()}", tuple(lines))]

    def figures(self, study: "Study", result: Stability):
        if not result.solution.mesh.planar:
            return []
        caption = f"Leading mode: {result.modes[0].describe()}."
        return [Figure("mode", "mode", (result,), caption=caption, position="field")]

    def outcomes(self, result: Stability):
        return [result.outcome]


JOB = StabilityJob()
