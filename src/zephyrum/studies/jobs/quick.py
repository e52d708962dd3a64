"""The quick methods of `solver.model`: vortex lattice, drag build-up, airfoil panels; an answer before the first mesh.

They are solved at all conditions of the study, and trim and derivatives if it asks for them. Verified by
tests/test_methods.py.
"""

from typing import TYPE_CHECKING

import zephyrum
from zephyrum.errors import FileError
from zephyrum.flow.outcome import Outcome
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Task
from zephyrum.studies.quick_polars import QuickMethods, QuickResult

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.spec import StudyBase
    from zephyrum.studies.study import Study

POLAR = {
    "mach": ".3g",
    "alpha": "+.2f",
    "CL": ".4f",
    "CD": ".5f",
    "CD_induced": ".5f",
    "CD_zero_lift": ".5f",
    "CD_friction": ".5f",
    "CM": "+.4f",
    "L/D": ".1f",
    "transition_upper": ".3f",
    "transition_lower": ".3f",
    "CD_low": ".5f",
    "CD_high": ".5f",
}
PARTS = {
    "mach": ".3g",
    "part": "",
    "wetted_m2": ".2f",
    "length_m": ".2f",
    "Re": ".3g",
    "Cf": ".5f",
    "form": ".3f",
    "interference": ".2f",
    "drag_area_m2": ".4f",
    "CD": ".5f",
    "share_percent": ".1f",
}
SLOPES = {"with": "", **dict.fromkeys(("CL", "CM", "CY", "Cl", "Cn"), "+.4f")}


class QuickJob(Job):
    """Polars of the quick methods."""

    name = "quick"
    order = 0
    tabled = False
    files = {
        "quick.json": "all of the quick methods: polars, drag by part, derivatives, trim",
        "quick_polars.csv": "polars of the quick methods",
        "drag_buildup.csv": "zero-lift drag by part",
        "lattice_derivatives.csv": "derivatives by the vortex lattice",
    }

    def asked(self, spec: "StudyBase") -> "StudyBase | None":
        return spec if spec.quick_models else None

    def check(self, study: "Study", spec: "StudyBase"):
        QuickMethods(study).check()

    def _key(self, study: "Study") -> dict:
        spec, methods = study.spec, QuickMethods(study)
        geometry = getattr(spec, spec.kind).model_dump()
        tables = ("lattice", "buildup", "panel", "derivatives", "trim")
        options = [own.model_dump() for name in tables if (own := getattr(spec, name, None)) is not None]
        machs, alphas = methods.conditions
        return {
            "geometry": geometry,
            "files": study.source.file_hashes(),
            "air": [str(study.freestream(mach)) for mach in machs],
            "alphas": alphas,
            "models": methods.methods,
            "options": options,
            "version": zephyrum.__version__,
        }

    def run(self, study: "Study", spec: "StudyBase", observer: "Observer") -> QuickResult:
        key = self._key(study)
        if (stored := study.workspace.record(self.name, key)) is not None:
            return QuickResult.of_record(stored)
        made = QuickMethods(study).solve()
        study.workspace.keep_record(self.name, key, made.record())
        result = QuickResult.of_record(study.workspace.record(self.name, key))
        for name, table in (("drag_buildup", result.drag), ("lattice_derivatives", result.derivatives)):
            if len(table):
                study.workspace.write_table(name, table)
        study.workspace.write_table("quick_polars", result.joined())
        observer.finished(Task(self.name, ", ".join(result.polars), 1, 1), _typical_row(QuickMethods(study), result))
        return result

    def load(self, study: "Study", spec: "StudyBase") -> QuickResult | None:
        key = self._key(study)
        if study.workspace.stale_record(self.name, key):
            raise FileError(
                f"quick.json in {str(study.workspace.folder)!r} is stale: it was made from another study; run the "
                f"study again."
            )
        stored = study.workspace.record(self.name, key)
        return None if stored is None else QuickResult.of_record(stored)

    def tables(self, study: "Study", result: QuickResult):
        out = []
        for name, table in result.polars.items():
            columns = {key: form for key, form in POLAR.items() if key in table}
            out.append(Table(table.to_dict("records"), columns, f"{study.spec.title}: {name}"))
        if len(result.drag):
            first = result.drag[result.drag["mach"] == result.drag["mach"].min()]
            out.append(Table(first.to_dict("records"), PARTS, "zero-lift drag by part: areas in m^2, lengths in m"))
        if len(result.derivatives):
            rows = result.derivatives.to_dict("records")
            at = f"M {rows[0]['mach']:g}, alpha {rows[0]['alpha']:g} deg"
            columns = {key: form for key, form in SLOPES.items() if key in result.derivatives}
            out.append(Table(rows, columns, f"derivatives by the lattice at {at}, 1/rad or with dimensionless rates"))
        if result.trim:
            out.append(Table([], {}, _trim_sentence(result.trim)))
        out[-1] = Table(out[-1].rows, out[-1].columns, out[-1].title, tuple(result.lines))
        return out

    def figures(self, study: "Study", result: QuickResult):
        methods, mach = QuickMethods(study), min(QuickMethods(study).conditions[0])
        out = []
        if "lattice" in methods.methods:
            air = study.freestream(mach, methods.typical)
            caption = "Load over the lifting surfaces with their wakes, and along the span, by the vortex lattice"
            out.append(Figure("quick_lattice", "lattice", (methods.lattice, air), {}, caption, "quick"))
        if "buildup" in methods.methods:
            caption = "Zero-lift drag by part, and the friction laws"
            out.append(Figure("quick_buildup", "buildup", (methods.buildup, mach), {}, caption, "quick"))
        return out

    def outcomes(self, result: QuickResult):
        return [
            Outcome.CONVERGED if converged else Outcome.FAILED
            for table in result.polars.values()
            for converged in table["converged"]
        ]


def _trim_sentence(trim: dict) -> str:
    return (
        f"trim by the lattice at M {trim['mach']:g}, CL {trim['CL']:.4f} ({trim['origin']}): alpha "
        f"{trim['alpha']:+.2f} deg, {trim['control']} {trim['setting']:+.2f}, induced CD {trim['CD_induced']:.5f}"
    )


def _typical_row(methods: QuickMethods, result: QuickResult) -> dict:
    """What the progress line shows: the typical point of the first polar with lift."""
    row = {"CL": float("nan"), "CD": float("nan"), "outcome": Outcome.CONVERGED}
    for table in result.polars.values():
        own = table[table["alpha"] == methods.typical] if "alpha" in table else table
        row |= {key: float(own[key].iloc[0]) for key in ("CL", "CD") if key in own}
    return row


JOB = QuickJob()
