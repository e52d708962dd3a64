"""[sweep]: a polar over alpha and Mach number.

Verified by tests/test_studies.py.
"""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from pydantic import Field

from zephyrum._core.atomic_files import write_text
from zephyrum._core.typical_alpha import nearest_to_typical
from zephyrum.errors import FileError, InputError
from zephyrum.results import Polar, Solution
from zephyrum.results.far_field_drag import drag_columns
from zephyrum.results.polar import KNOWN_DRAG_FRACTION, unknown_drag
from zephyrum.studies.common_tables import Numbers, Strict
from zephyrum.studies.grid_convergence import with_errors
from zephyrum.studies.jobs.base import Figure, Job, Table
from zephyrum.studies.observer import Observer
from zephyrum.studies.polar_slopes import polar_slopes_of
from zephyrum.studies.sweeps import SweepOptions, stored_polar, sweep_case

if TYPE_CHECKING:
    from zephyrum.studies.polar_slopes import PolarSlopes
    from zephyrum.studies.study import Study


POLAR = {
    "mach": ".3g",
    "alpha": "+.2f",
    "CL": ".4f",
    "CD_far": ".5f",
    "CD_far_error": "~2",
    "CD": ".5f",
    "CD_friction": ".5f",
    "CM": "+.4f",
    "L/D": ".1f",
    "CL_error": "~2",
    "CD_error": "~2",
    "mach_max": ".2f",
    "y_plus_max": ".1f",
    "outcome": "",
    "numerics": "",
    "residual_drop": ".1f",
    "steps": "d",
    "seconds": ".1f",
}
DERIVED = {
    "mach": ".3g",
    "points": "d",
    "CL alpha [1/rad]": ".3f",
    "alpha of no lift [deg]": "+.2f",
    "CM of no lift": "+.4f",
    "neutral point x [m]": ".3f",
    "static margin [chord]": "+.3f",
    "trim alpha [deg]": "+.2f",
    "trim CL": ".3f",
}
FORCES = {
    "part": "",
    "cause": "",
    "CL": "+.4f",
    "CD": "+.5f",
    "CY": "+.5f",
    "CM": "+.4f",
    "X [N]": "~4",
    "Y [N]": "~4",
    "Z [N]": "~4",
}
POWERED = {
    "name": "",
    "kind": "",
    "area [m^2]": "~4",
    "mass flow [kg/s]": "~4",
    "stream force [N]": "+~5",
    "Mach": ".3f",
    "total pressure / stream": ".3f",
}
DISKS = {
    "name": "",
    "thrust [N]": "+~5",
    "power [W]": "~5",
    "torque [N m]": "~4",
    "speed through it [m/s]": "~4",
    "efficiency": ".3f",
}
THRUST = {"term": "", "force [N]": "+~5", "coefficient": "+.4f"}
FIELDS = {
    "cp": "Cp in the field",
    "mach": "Mach number in the field",
    "vorticity": "Vorticity in the field",
    "eddy viscosity ratio": "Eddy over molecular viscosity",
}


class SweepSpec(Strict):
    """The table [sweep] of a study file.

    Attributes
    ----------
    mach, alpha : list of float
        Conditions; alpha in [deg].
    clmax_spacing : float
        Finest spacing of the points added about the lift maximum [deg]; 0 adds none.

    Examples
    --------
    >>> SweepSpec(mach=[0.3], alpha=[0.0, 4.0]).clmax_spacing
    0.0
    """

    mach: Numbers
    alpha: Numbers
    clmax_spacing: float = Field(0.0, ge=0.0, le=10.0)


class SweepJob(Job):
    """The polar of a study."""

    name = "sweep"
    order = 1
    Spec = SweepSpec
    files = {
        "polar.csv": "one row a point: condition, coefficients, outcome, mesh error, mesh, time",
        "polar.json": "reference quantities, air, settings, meaning of the columns",
        "forces.csv": "coefficients and newtons by part and cause, at every point",
        "thrust.csv": "thrust, ram drag, additive drag and drag, at every point of an aircraft under power",
        "drag.csv": "drag by part: surface, wave and spurious, at every point",
        "loading.csv": "lift over the span and its induced drag, at every point",
        "derived.csv": "lift slope, neutral point, static margin",
        "checks.txt": "what looks wrong, and where",
        "points": "solution and row of every point; a rerun takes them from here",
    }
    template = {
        "section": """[sweep]
mach = [0.2, 0.6]
alpha = {{ from = -4, to = 8, step = 2 }}   # degrees; or a list
# clmax_spacing = 0.5     # with friction: finest spacing of points added about the lift maximum
""",
        "aircraft": """[sweep]
mach = 0.2
alpha = {{ from = 0, to = 6, step = 3 }}
""",
    }

    def machs(self, spec: "SweepSpec"):
        return list(spec.mach)

    def alphas(self, spec: "SweepSpec"):
        return list(spec.alpha)

    def count(self, spec: "SweepSpec"):
        return len(spec.mach) * len(spec.alpha)

    def check(self, study: "Study", spec: "SweepSpec"):
        for name, values in (("mach", spec.mach), ("alpha", spec.alpha)):
            if len({round(value, 6) for value in values}) < len(values):
                raise InputError(f"sweep.{name} = {values} holds a value twice; give each once.")
        if study.grounded and spec.clmax_spacing > 0.0:
            raise InputError(
                "sweep.clmax_spacing has no effect over a ground, where every alpha has a mesh of its own; leave it "
                "out."
            )

    def run(self, study: "Study", spec: "SweepSpec", observer: Observer) -> Polar:
        own = study.spec.run
        processes = None if own.scheduler else own.processes or study.source.processes
        options = SweepOptions(spec.clmax_spacing, processes, own.scheduler, observer)
        made = []
        for alphas in self._groups(study, spec):
            base = study.case(spec.mach[0], alphas[0], observer)
            made.append(sweep_case(base, alphas, spec.mach, study.workspace.folder, options))
        return _joined(made)

    def load(self, study: "Study", spec: "SweepSpec") -> Polar | None:
        made = []
        try:
            for alphas in self._groups(study, spec):
                if (base := study.stored_case(spec.mach[0], alphas[0])) is not None:
                    made.append(stored_polar(base, alphas, spec.mach, study.workspace.folder, spec.clmax_spacing))
        except FileError:
            raise
        except InputError as cause:
            raise FileError(f"the results are stale: {cause}") from None
        made = [one for one in made if one is not None]
        return _joined(made) if made else None

    @staticmethod
    def _groups(study, spec) -> list[list[float]]:
        """Angles of attack that share a mesh."""
        return [[alpha] for alpha in spec.alpha] if study.grounded else [list(spec.alpha)]

    def polar(self, study: "Study") -> Polar:
        """Polar with the error bars of the mesh study, if there is one.

        Parameters
        ----------
        study : Study
            The study.
        """
        polar, refinement = study.results[self.name], study.results.get("refine")
        return polar if refinement is None else with_errors(polar, refinement)

    def tables(self, study: "Study", result: Polar):
        polar = self.polar(study)
        rows = polar.table.to_dict("records")
        missing = self.count(study.spec.sweep) - len(rows)  # type: ignore[attr-defined]
        lines = (
            [f"{len(rows)} points are finished, {missing} more are to be computed: run the study again"]
            if missing > 0
            else []
        )
        lines += [line for mach in sorted(polar.table["mach"].unique()) if (line := _lift_maximum(polar, mach))]
        if study.mesh.planar:
            lines += [line for mach in sorted(polar.table["mach"].unique()) if (line := stall_warning(polar, mach))]
        lines += [
            f"not converged: M {row['mach']:g}, alpha {row['alpha']:g} deg: {row['outcome']}, {row['reason']}"
            for row in rows
            if row["outcome"] not in ("converged", "implausible")
        ]
        other = [
            f"M {row['mach']:g} alpha {row['alpha']:g} ({row['numerics']})"
            for row in rows
            if row.get("numerics", "as asked") != "as asked"
        ]
        if other:
            lines.append(f"other numerics than the rest: {', '.join(other)}; their mesh error is larger")
        refined = "refine" in study.results
        if refined and (unsure := unknown_drag(polar.table).sum()) and not study.mesh.planar:
            lines.append(
                f"no L/D at {unsure} point{'s' if unsure > 1 else ''}: the error of CD is above "
                f"{KNOWN_DRAG_FRACTION:.0%} of it"
            )
        if not refined:
            lines.append("mesh error unknown: add a [refine] table to the study")
        columns = {
            name: form for name, form in POLAR.items() if name in polar.table and not (name == "numerics" and not other)
        }
        out = [Table(rows, columns, f"{study.spec.title}: polar on {study.mesh.n_cells} cells", tuple(lines))]
        if study.mesh.planar:
            return out
        point = typical(study)
        sides = ", both halves" if point.mesh.mirrored else ""
        lines = (f"span loading: {point.span_loading()}",) if study.winged else ()
        out.append(
            Table(
                point.forces.table().to_dict("records"),
                FORCES,
                f"forces at {point.air.describe()}{sides}",
                (*lines, *_drag_lines(point)),
            )
        )
        if point.case.driven:
            out += _thrust_tables(point)
        if following := polar_slopes_of(polar, study.mesh.reference):
            out.append(
                Table(
                    [one.row() for one in following],
                    DERIVED,
                    "from the sweep, about the reference point",
                    tuple(slope_warnings(following)),
                )
            )
        return out

    def figures(self, study: "Study", result: Polar):
        return (_section_figures if study.mesh.planar else _aircraft_figures)(study, self.polar(study))

    def outcomes(self, result: Polar):
        return list(result.table["outcome"])

    def finish(self, study: "Study") -> None:
        """Write polar, forces, loadings and checks, when all jobs are done."""
        folder = study.workspace.folder
        polar = self.polar(study)
        polar.write(folder / "polar.csv")
        said: dict[str, list[str]] = {}
        forces, drags, loads, thrusts = [], [], [], []
        for row in polar.table.itertuples():
            solution = study.solution(row.mach, row.alpha)
            for sentence in solution.checks():
                said.setdefault(sentence, []).append(f"M {row.mach:g} alpha {row.alpha:g}")
            position = {"mach": row.mach, "alpha": row.alpha}
            forces.append(solution.forces.table().assign(**position))
            if solution.case.driven:
                account = solution.thrust_account().table()
                thrusts.append(account.rename_axis("term").reset_index().assign(**position))
            if row.CD_far == row.CD_far:
                drags.append(solution.far_field_drag().parts.assign(**position))
            if study.winged:
                load = solution.span_loading()
                loads.append(
                    load.table.assign(**position, **{"induced CD": load.induced, "span efficiency": load.efficiency})
                )
        for name, frames in (("forces", forces), ("drag", drags), ("loading", loads), ("thrust", thrusts)):
            if frames:
                made = pd.concat(frames, ignore_index=True)
                study.workspace.write_table(name, made[["mach", "alpha", *made.columns.drop(["mach", "alpha"])]])
        lines = [f"{', '.join(at)}: {sentence}" for sentence, at in said.items()]
        if not study.mesh.planar:
            following = polar_slopes_of(polar, study.mesh.reference)
            study.workspace.write_table("derived", pd.DataFrame([one.row() for one in following]))
            lines += slope_warnings(following)
        write_text(folder / "checks.txt", "\n".join(lines or ["Nothing looks wrong."]) + "\n")


def typical(study: "Study", mach: float | None = None):
    """Solution that stands for a sweep: that nearest to alpha 4 deg.

    Parameters
    ----------
    study : Study
        The study.
    mach : float, optional
        Mach number; the lowest without it.
    """
    rows = study.results["sweep"].table
    rows = rows[rows["mach"] == (rows["mach"].min() if mach is None else mach)]
    row = rows.iloc[nearest_to_typical(rows["alpha"])]
    return study.solution(float(row["mach"]), float(row["alpha"]))


def slope_warnings(following: "list[PolarSlopes]") -> list[str]:
    """Sentences on lift slopes that no attached flow has.

    Parameters
    ----------
    following : list[PolarSlopes]
        Slopes of the polar, one for each Mach number.
    """
    return [
        f"implausible: at M {one.mach:g} the lift falls with alpha (slope {one.slope[0]:.3f} / rad): wind through a "
        f"ground, axes, or massive separation."
        for one in following
        if one.slope[0] < 0.0
    ]


def _thrust_tables(point: Solution) -> list[Table]:
    """Exhausts, intakes and propeller disks of a point, and its thrust and drag."""
    account = point.thrust_account()
    terms = account.table().rename_axis("term").reset_index().to_dict("records")
    where, out = point.air.describe(), []
    if account.faces:
        out.append(Table(account.face_table().to_dict("records"), POWERED, f"exhausts and intakes at {where}"))
    if account.disks:
        out.append(Table(account.disk_table().to_dict("records"), DISKS, f"propeller disks at {where}"))
    lines = ("drag is that of the walls and the additive drag",)
    return [*out, Table(terms, THRUST, f"thrust and drag at {where}", lines)]


def _joined(polars: list[Polar]) -> Polar:
    if len(polars) == 1:
        return polars[0]
    table = pd.concat([one.table for one in polars]).sort_values(["mach", "alpha"], ignore_index=True)
    return replace(polars[0], table=table)


def _lift_maximum(polar: Polar, mach: float) -> str:
    peak = polar.lift_maximum(mach)
    if peak is None:
        return ""
    uncertainty = "" if peak["converged"] else "; not all points there converged"
    return f"CLmax {peak['CL']:.4f} at alpha {peak['alpha']:.2f} +- {peak['alpha +-']:.2f} deg, M {mach:g}{uncertainty}"


def stall_warning(polar: Polar, mach: float) -> str:
    """Sentence on the points beyond the largest lift, where one mesh can have several steady solutions.

    Parameters
    ----------
    polar : Polar
        Polar of a section.
    mach : float
        Mach number.

    Returns
    -------
    str
        Empty without such points.

    Examples
    --------
    >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
    >>> rows = [row | {"alpha": a, "CL": cl} for a, cl in ((8.0, 0.9), (12.0, 1.2), (16.0, 1.1))]
    >>> stall_warning(Polar.of(rows), 0.2)[:33]
    'stall: beyond alpha 13 deg, M 0.2'
    """
    peak = polar.lift_maximum(mach)
    if peak is None:
        return ""
    alphas = polar.table["alpha"][polar.table["mach"] == mach]
    beyond = alphas[alphas > peak["alpha"] + peak["alpha +-"]]
    if beyond.empty:
        return ""
    return (
        f"stall: beyond alpha {peak['alpha']:.4g} deg, M {mach:g} ({len(beyond)} points), several steady solutions can "
        f"exist on one mesh; which one is found depends on the starting state, and the error bar does not contain it. "
        f"Follow the flow in time there."
    )


def _drag_lines(solution) -> list[str]:
    """Far-field drag of a point, and what its estimates say."""
    if np.isnan(drag_columns(solution)["CD_far"]):
        return []
    drag = solution.far_field_drag()
    said = "; ".join(f"{row['estimate']} {row['CD']:.5f}" for row in drag.estimates.to_dict("records"))
    return [str(drag), f"estimates of far-field CD: {said}"]


def _figures_of_all(study, polar: Polar) -> tuple[list[Figure], list[tuple]]:
    """Figures of every sweep; (solution, tag of its file names) of the typical point of every Mach number."""
    out = [Figure("polar", "polar", (polar,), {}, "Lift, drag and moment over alpha, and the polar.", "polar")]
    points = [typical(study, mach) for mach in sorted(set(polar.table["mach"]))]
    tagged = [(point, f"m{point.air.mach:g}_a{point.air.alpha:g}") for point in points]
    for point, tag in tagged:
        caption = "Residuals and coefficients over the steps"
        out.append(Figure(f"history_{tag}", "history", (point,), {}, caption, "convergence"))
    return out, tagged


def _section_figures(study, polar: Polar) -> list[Figure]:
    out, tagged = _figures_of_all(study, polar)
    for point, tag in tagged:
        if point.viscous:
            out.append(Figure(f"friction_{tag}", "friction", (point,), {}, "Skin friction and y+", "pressures"))
            out.append(Figure(f"layer_{tag}", "layer", (point,), {}, "Boundary layers", "pressures"))
        for name, caption in FIELDS.items():
            if name in point.fields() or (point.viscous and name == "vorticity"):
                stem = f"{name.replace(' ', '_')}_field_{tag}"
                out.append(Figure(stem, "field", (point, name), {"streamlines": name == "mach"}, caption))
        mach = point.air.mach
        alphas = sorted(set(study.spec.sweep.alpha) & set(polar.table["alpha"][polar.table["mach"] == mach]))
        if not alphas:
            continue
        last = study.solution(mach, alphas[-1])
        if last.viscous and last.separated().any():
            stem = f"separation_m{mach:g}_a{alphas[-1]:g}"
            out.append(Figure(stem, "field", (last, "mach"), {"streamlines": True}, "Separated flow"))
        chosen = alphas if len(alphas) <= 4 else sorted({alphas[0], point.air.alpha, alphas[-1]})
        curves, title = [study.solution(mach, alpha) for alpha in chosen], f"{study.source.title}, M {mach:g}"
        out.append(Figure(f"cp_m{mach:g}", "cp curves", (curves,), {"title": title}, "Cp on the surface", "pressures"))
    return out


def _aircraft_figures(study, polar: Polar) -> list[Figure]:
    out, tagged = _figures_of_all(study, polar)
    for point, tag in tagged:
        for view in ("quarter", "below"):
            out.append(
                Figure(f"cp_{view}_{tag}", "surface", (point,), {"view": view}, "Cp on the surface", "pressures")
            )
        lines = "Lines along the surface"
        out.append(Figure(f"skin_lines_{tag}", "skin lines", (point,), {"view": "above"}, lines, "pressures"))
        if study.winged:
            caption = "Lift over the span, and Cp in sections"
            out.append(Figure(f"loading_{tag}", "loading", (point,), {}, caption, "pressures"))
        out.append(Figure(f"streamlines_{tag}", "streamlines", (point,), {}, "Streamlines past the body"))
        out.append(Figure(f"vortices_{tag}", "vortices", (point,), {}, "Cores of vortices (Q criterion)"))
        out.append(Figure(f"mach_field_{tag}", "slice", (point, "y", "mach"), {}, "Mach number in the field"))
    return out


JOB = SweepJob()
