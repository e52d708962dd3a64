"""All methods of a study and its reference data on one chart and in one table.

Verified by tests/test_methods.py.
"""

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from zephyrum.errors import InputError
from zephyrum.results.polar import with_known_drag
from zephyrum.results.reference_data import read_reference_data
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.jobs.sweep import typical
from zephyrum.studies.method_comparison import TRIM_TOLERANCE, MethodComparison, compare_polars

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.spec import StudyBase
    from zephyrum.studies.study import Study

COLUMNS = {
    "mach": ".3g",
    "alpha": "+.2f",
    "method": "",
    "CL": ".4f",
    "CL_error": "~2",
    "change of CL": "+.4f",
    "CL %": "+.1f",
    "CD": ".5f",
    "CD_error": "~2",
    "counts": "+.1f",
    "CD %": "+.1f",
    "CM": "+.4f",
    "change of CM": "+.4f",
}
SLOPES = {
    "mach": ".3g",
    "method": "",
    "points": "d",
    "CL alpha [1/rad]": ".3f",
    "alpha of no lift [deg]": "+.2f",
    "dCM/dCL": "+.4f",
    "CLmax": ".3f",
    "alpha of CLmax [deg]": ".2f",
}


class MethodsJob(Job):
    """The comparison of the methods of a study."""

    name = "methods"
    order = 90
    tabled = False
    files = {
        "methods.csv": "all methods and reference data at every condition, with differences from the first",
        "method_slopes.csv": "lift slopes of all methods",
    }

    def asked(self, spec: "StudyBase") -> "StudyBase | None":
        return spec if len(spec.solver.models) + len(spec.reference_data) > 1 and spec.has("sweep") else None

    def count(self, spec: "StudyBase"):
        return 0

    def check(self, study: "Study", spec: "StudyBase"):
        for name in spec.reference_data:
            data = read_reference_data(spec.base / name)
            if (data.area is None) != (spec.kind == "section"):
                kind = "a section" if data.area is None else "an aircraft"
                raise InputError(f"reference_data {name!r} is of {kind} ({'no' if data.area is None else 'an'} area).")

    def run(self, study: "Study", spec: "StudyBase", observer: "Observer") -> MethodComparison | None:
        return self.load(study, spec)

    def load(self, study: "Study", spec: "StudyBase") -> MethodComparison | None:
        polars, lines = method_polars(study)
        data: dict[str, pd.DataFrame] = {}
        for name in spec.reference_data:
            found, said = _reference_polar(study, name)
            lines += said
            if found is not None:
                data[found[0]] = found[1]
        if len(polars) + len(data) < 2:
            return None
        return compare_polars(data | polars, [*lines, *_trim_warnings(study)], tuple(data))

    def tables(self, study: "Study", result: MethodComparison | None):
        return [] if result is None else comparison_tables(result)

    def figures(self, study: "Study", result: MethodComparison | None):
        if result is None:
            return []
        caption = "Lift, drag and moment by all methods, and reference data"
        return [
            Figure("methods", "methods", (result,), {"title": study.spec.title}, caption, "methods"),
            *_pressure_figures(study),
        ]

    def finish(self, study: "Study") -> None:
        result = study.results[self.name]
        if result is not None:
            study.workspace.write_table("methods", result.table)
            study.workspace.write_table("method_slopes", result.slopes)


def comparison_tables(comparison: MethodComparison) -> list[Table]:
    """Tables of a comparison.

    Parameters
    ----------
    comparison : MethodComparison
        Several polars of one case.
    """
    first = next(iter(comparison.polars))
    slopes = "lift slopes and moments of all methods"
    return [
        Table(*_shown(comparison.table, COLUMNS), f"methods side by side; changes are from {first}"),
        Table(*_shown(comparison.slopes, SLOPES), slopes, tuple(comparison.lines)),
    ]


def _shown(table: pd.DataFrame, columns: dict[str, str]) -> tuple[list[dict], dict[str, str]]:
    """Rows, and the columns in which any row has a value."""
    live = {name: form for name, form in columns.items() if name in table and table[name].notna().any()}
    return table.to_dict("records"), live


def field_studies(study: "Study") -> "dict[str, Study]":
    """Studies with field solutions, by model: the study itself, or its members.

    Parameters
    ----------
    study : Study
        The study.
    """
    if study.spec.field_model:
        return {study.spec.field_model: study}
    return study.results.get("fields") or {}


def method_polars(study: "Study") -> tuple[dict[str, pd.DataFrame], list[str]]:
    """Polars of all methods of a study that give lift, and sentences on those that do not.

    Parameters
    ----------
    study : Study
        The study.
    """
    quick, lines = study.results.get("quick"), []
    polars = {}
    for name, table in ({} if quick is None else quick.polars).items():
        if "CL" in table:
            polars[name] = table
        else:
            lines.append(f"{name} gives no lift; it is in a table of its own")
    for model, member in field_studies(study).items():
        if member.polar is not None:
            table = with_known_drag(member.polar.table)
            polars[model] = table.assign(converged=table["outcome"] == "converged")
    if "euler" in polars and quick is not None and len(quick.drag):
        whole = quick.drag[quick.drag["part"] == "all"].set_index("mach")["CD"]
        table = polars["euler"]
        polars["euler + buildup"] = table.assign(CD=table["CD"] + table["mach"].map(whole))
    return polars, lines


def _reference_polar(study: "Study", name: str) -> tuple[tuple[str, pd.DataFrame] | None, list[str]]:
    """Reference data in the coefficients of the study; None with the reason where they cannot be converted."""
    data = read_reference_data(study.spec.base / name)
    mach = min(study.spec.machs(), key=lambda one: abs(one - data.mach))
    try:
        table = data.converted(study.source.reference, mach, study.freestream(mach).reynolds)
    except InputError as cause:
        return None, [str(cause)]
    return (data.title, table.assign(mach=mach)), table.attrs["refused"]


def _trim_warnings(study: "Study") -> list[str]:
    """Trims of field solutions far from that of the lattice."""
    quick = study.results.get("quick")
    if quick is None or not quick.trim:
        return []
    out = []
    for model, member in field_studies(study).items():
        own = member.results.get("trim")
        if not own:
            continue
        for name, key in (("alpha", "alpha"), (own["control"], "setting")):
            apart = own[key] - quick.trim[key]
            if abs(apart) > TRIM_TOLERANCE:
                out.append(
                    f"doubtful: {model} trims at {name} {own[key]:+.2f}, the lattice at {quick.trim[key]:+.2f}; "
                    f"{TRIM_TOLERANCE:g} deg can be explained by bodies and thickness. Look at the moment point."
                )
    return out


def _pressure_figures(study: "Study") -> list[Figure]:
    """Pressures of panels and field solutions of a section on one chart, at every Mach number."""
    quick, fields = study.results.get("quick"), field_studies(study)
    if study.spec.kind != "section" or quick is None or quick.pressures.empty or not fields:
        return []
    out = []
    for mach, own in quick.pressures.groupby("mach"):
        solutions = {}
        for model, member in fields.items():
            table = None if member.polar is None else member.polar.table
            if table is not None and np.isclose(table["mach"], mach).any():
                solutions[model] = typical(member, float(mach))
        if solutions:
            caption = "Pressures by panels with boundary layers and by the field solution"
            name = f"methods_cp_m{mach:g}"
            out.append(Figure(name, "method pressures", (own, solutions), {}, caption, "methods"))
    return out


JOB = MethodsJob()
