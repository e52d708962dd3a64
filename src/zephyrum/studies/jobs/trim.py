"""[trim]: alpha and a number of the aircraft file for which CM = 0 and the lift carries the aircraft.

Every solved setting is kept, so that an interrupted run repeats none. Verified by tests/test_flight.py.
"""

from typing import TYPE_CHECKING

import pandas as pd

from zephyrum._core.units import quantity
from zephyrum.errors import FileError, InputError, ZephyrumError
from zephyrum.flow.outcome import Outcome
from zephyrum.geometry import Aircraft
from zephyrum.results import Solution, load_solution
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.jobs.base import Job, Table
from zephyrum.studies.observer import Task, step_reports
from zephyrum.studies.trim_and_derivatives import TrimLog, lift_for, trim

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.study import Study


GRAVITY = 9.80665  # m/s^2
SETTINGS = {"alpha": "+.3f", "CL": ".4f", "CD": ".5f", "CM": "+.4f", "outcome": "", "cells": "d"}


class TrimSpec(Strict):
    """The table [trim] of a study file.

    Attributes
    ----------
    mach : float
        Mach number.
    control : str
        Dotted path of the number that trims.
    lift : float, optional
        Lift coefficient.
    mass : float or str, optional
        Mass to be carried, such as "3900 kg"; that of the described parts without `lift` and it.
    alpha, setting : float
        First values.

    Examples
    --------
    >>> TrimSpec(mach=0.3, control="tail.elevator", lift=0.4).control
    'tail.elevator'
    """

    mach: Finite
    control: str
    lift: Finite | None = None
    mass: Finite | str | None = None
    alpha: Finite = 2.0
    setting: Finite = 0.0


class _Kept(TrimLog):
    """The settings solved, in the workspace; of the last one also the solution."""

    def __init__(self, study, key: object, observer):
        self.study, self.key, self.observer = study, key, observer
        self.rows: list[dict] = (study.workspace.record("trim-progress", key) or {"rows": []})["rows"]
        self.served = 0

    @property
    def _last(self):
        return self.study.workspace.store.state("trim-last")

    def recall(self, alpha: float, setting: float) -> dict | None:
        row = self.rows[self.served] if self.served < len(self.rows) else None
        if row is None or abs(row["alpha"] - alpha) > 1e-9 or abs(row["setting"] - setting) > 1e-9:
            del self.rows[self.served :]
            return None
        self.served += 1
        return row

    def last_solution(self) -> Solution | None:
        try:
            return load_solution(self._last) if self._last.is_file() and self.rows else None
        except FileError:
            return None

    def keep(self, row: dict, solution: Solution) -> None:
        solution.save(self._last)
        self.rows.append(row)
        self.served += 1
        self.study.workspace.keep_record("trim-progress", self.key, {"rows": self.rows})
        self.observer.finished(
            Task("trim", f"alpha {row['alpha']:+.2f}, setting {row['setting']:+.2f}", len(self.rows)), row
        )

    def step(self, label: str):
        return step_reports(self.observer, Task("trim", label))


class TrimJob(Job):
    """The trim of an aircraft study."""

    name = "trim"
    order = 4
    Spec = TrimSpec
    kinds = ("aircraft",)
    files = {"trim.csv": "all settings that were solved; trim.json: the trimmed state"}
    template = {
        "aircraft": """# [trim]                  # alpha and a number of the aircraft for CM = 0 and enough lift
# mach = 0.2
# control = "tailplane.pitch"
# mass = "3900 kg"        # or lift = 0.6; without either the mass of the described parts
"""
    }

    def check(self, study: "Study", spec: "TrimSpec"):
        shape = study.source.shape
        if not isinstance(shape, Aircraft):
            raise InputError("trim changes a number of the aircraft file; a surface has none: remove [trim].")
        if study.spec.powered or study.propellers():
            raise InputError("[trim] with exhausts, intakes or propellers is not available; remove [trim] or these.")
        if study.grounded:
            raise InputError(
                "[trim] over a ground is not available: every alpha has a mesh of its own; remove [trim] or "
                "mesh.ground."
            )
        wanted_lift(study, spec)
        try:
            shape.changed({spec.control: spec.setting})
        except ZephyrumError as cause:
            raise InputError(f"trim.control = {spec.control!r}: {cause}") from None

    def _key(self, study, spec) -> list:
        return ["trim", spec.model_dump(), wanted_lift(study, spec)[0], study.case_key(spec.mach, spec.alpha)]

    def run(self, study: "Study", spec: "TrimSpec", observer: "Observer") -> dict:
        lift, origin = wanted_lift(study, spec)
        key = self._key(study, spec)
        if (stored := study.workspace.record("trim", key)) is not None:
            return stored
        case = study.case(spec.mach, spec.alpha, observer)
        made = trim(
            study.source.shape,
            case.air,
            lift,
            spec.control,
            spec.setting,
            study.spec.field_model,
            study.numerics(),
            walls=study.wall(),
            log=_Kept(study, key, observer),
            **study.source.options(),  # type: ignore[attr-defined]
        )
        study.workspace.write_table("trim", made.table)
        out = {
            "alpha": made.alpha,
            "control": made.control,
            "setting": made.setting,
            "trimmed": made.trimmed,
            "lift": lift,
            "lift from": origin,
            "mach": spec.mach,
            **made.solution.forces.coefficients(),
            "outcome": made.solution.outcome,
            "text": f"M {spec.mach:g}, CL {lift:.4f} ({origin}): {made}",
        }
        study.workspace.keep_record("trim", key, out)
        return out

    def load(self, study: "Study", spec: "TrimSpec") -> dict | None:
        key = self._key(study, spec)
        if study.workspace.stale_record("trim", key):
            raise FileError(
                f"trim.json in {str(study.workspace.folder)!r} is stale: it was made from another study; run the study "
                f"again."
            )
        return study.workspace.record("trim", key)

    def tables(self, study: "Study", result: dict):
        path = study.workspace.folder / "trim.csv"
        rows = pd.read_csv(path).to_dict("records") if path.is_file() else []
        columns = {"alpha": "+.3f", result["control"]: "+.3f"} | {
            name: form for name, form in SETTINGS.items() if name != "alpha"
        }
        return [Table(rows, columns, f"trim at {result['text']}")]

    def outcomes(self, result: dict):
        return [result["outcome"] if result["trimmed"] else Outcome.OSCILLATING]


def wanted_lift(study: "Study", spec: "TrimSpec") -> tuple[float, str]:
    """Lift coefficient to trim for, and where it comes from.

    Parameters
    ----------
    study : Study
        The study.
    spec : TrimSpec
        The table [trim].
    """
    if spec.lift is not None and spec.mass is not None:
        raise InputError("trim gives both lift and mass; give one.")
    if spec.lift is not None:
        return spec.lift, "typed"
    if spec.mass is not None:
        mass, origin = quantity("trim.mass", spec.mass, "kg"), "typed mass"
    else:
        mass, origin = study.source.shape.mass_properties()[0].mass, "mass of the described parts"
        if mass <= 0.0:
            raise InputError(
                "trim has neither lift nor mass, and no part of the aircraft has a mass; give one of them."
            )
    return lift_for(
        mass * GRAVITY,
        study.freestream(spec.mach),
        study.source.reference.area,
    ), f"{origin}, {mass:,.0f} kg"


JOB = TrimJob()
