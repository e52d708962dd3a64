"""The report of a study: one HTML file that needs nothing else, outcome first (extra `report`: Jinja and plotly)."""

import base64
import json
import platform
from dataclasses import dataclass, field
from datetime import datetime
from importlib import metadata
from pathlib import Path
from typing import TYPE_CHECKING

from zephyrum._core.atomic_files import write_text
from zephyrum._core.typical_alpha import nearest_to_typical
from zephyrum.errors import InputError
from zephyrum.flow.outcome import Outcome
from zephyrum.report.columns import HEADS, cell
from zephyrum.studies.jobs import JOBS, Table

if TYPE_CHECKING:
    from zephyrum.studies.study import Study


# where the table of a job belongs on the page
PLACES = {
    "sweep": "polar",
    "refine": "error",
    "time": "convergence",
    "trim": "polar",
    "derivatives": "polar",
    "methods": "methods",
    "quick": "quick",
    "fields": "polar",
}
# pictures of the body, which belong to no job, by the beginning of their names
BODY = {"section": ("shape", "The section."), "mesh": ("mesh", "The mesh.")}


@dataclass
class Part:
    """One section of the report; what is empty is left out.

    Attributes
    ----------
    key : str
        Anchor.
    title : str
        Title.
    lead : str
        First paragraph.
    lines : list[str]
        Further paragraphs.
    facts : list[tuple[str, str]]
        (name, value) pairs.
    items : list[str]
        List entries.
    tables, figures : list[dict]
        Tables and figures.
    texts : list[str]
        Preformatted texts.
    scene : str
        HTML of an interactive view.
    """

    key: str
    title: str
    lead: str = ""
    lines: list[str] = field(default_factory=list)
    facts: list[tuple[str, str]] = field(default_factory=list)
    items: list[str] = field(default_factory=list)
    tables: list[dict] = field(default_factory=list)
    figures: list[dict] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    scene: str = ""

    @property
    def empty(self) -> bool:
        """Whether it has nothing to show."""
        return not any(
            (self.lead, self.lines, self.facts, self.items, self.tables, self.figures, self.texts, self.scene)
        )


def write_report(study: "Study", path: str | Path | None = None) -> Path:
    """Write the report of a finished study: one HTML file with everything in it.

    Parameters
    ----------
    study : Study
        See `run_study` and `open_study`.
    path : path, optional
        File; report.html in the folder of the study without it.

    Returns
    -------
    path

    Raises
    ------
    InputError
        The extra `report` is missing.

    Notes
    -----
    The pictures are those in the folder of the study; they are drawn if it has none.
    """
    try:
        import jinja2
        from markupsafe import Markup
    except ImportError:
        raise InputError(
            "a report needs Jinja and plotly; install them with: pip install 'zephyrum[report]'."
        ) from None
    folder = study.folder
    path = folder / "report.html" if path is None else Path(path)
    if path.suffix.lower() not in (".html", ".htm"):
        raise InputError(f"report {path.name!r} should end in .html.")
    if not list((folder / "figures").glob("*.png")):
        from zephyrum.plotting import draw_study_figures

        draw_study_figures(study, folder / "figures")
    parts = {part.key: part for part in _parts(study)}
    for figure in study.figures():
        _add_picture(parts[figure.position], folder / "figures" / f"{figure.name}.png", figure.caption)
    for start, (key, caption) in BODY.items():
        for picture in sorted((folder / "figures").glob(f"{start}*.png")):
            _add_picture(parts[key], picture, caption)
    shown = [part for part in parts.values() if not part.empty]
    for part in shown:
        part.scene = Markup(part.scene)
    loader = jinja2.Environment(loader=jinja2.PackageLoader("zephyrum.report", "."), autoescape=True, trim_blocks=True)
    version = metadata.version("zephyrum")
    text = loader.get_template("page.html").render(
        title=study.spec.title,
        subtitle=_subtitle(study),
        parts=shown,
        good=study.converged and not study.implausible,
        footer=f"Zephyrum {version}, {datetime.now():%Y-%m-%d %H:%M}. This file needs no network and no other file.",
    )
    write_text(path, text)
    return path


def _add_picture(part: Part, path: Path, caption: str) -> None:
    if path.is_file():
        data = base64.b64encode(path.read_bytes()).decode()
        part.figures.append({"caption": f"{caption} ({path.name})", "data": data})


def _subtitle(study) -> str:
    air, models = study.freestream(study.spec.machs()[0]), study.spec.solver.models
    cells = f"{study.mesh.n_cells:,} cells; " if study.spec.field_model else ""
    return (
        f"{study.source.title}; model{'s' if len(models) > 1 else ''} {', '.join(models)}; {cells}M {air.mach:g}, "
        f"{air.speed:.1f} m/s, Reynolds number {air.reynolds:.3g} on {air.length:.4g} m"
    )


def _rows(rows: list[dict], columns: dict[str, str], title: str = "") -> dict:
    """A table for the page; columns in which no row has a value are left out."""
    live = {name: form for name, form in columns.items() if any(cell(row.get(name), form) != "-" for row in rows)}
    heads = [(HEADS.get(name, name), form == "") for name, form in live.items()]
    return {
        "title": title,
        "heads": heads,
        "rows": [[(cell(row.get(name), form), form == "") for name, form in live.items()] for row in rows],
    }


def _points(study) -> list:
    """The stored solutions of the first Mach number."""
    if study.polar is None:
        return []
    rows = study.polar.table
    rows = rows[rows["mach"] == rows["mach"].min()]
    return [study.solution(float(row["mach"]), float(row["alpha"])) for _, row in rows.iterrows()]


def _add_table(part: Part, made: Table) -> None:
    if made.rows:
        part.tables.append(_rows(made.rows, made.columns, made.title))
    elif made.title:
        part.lines.append(made.title)
    part.lines += made.lines


def _parts(study) -> list[Part]:
    solutions = _points(study)
    midpoint = solutions[nearest_to_typical([s.air.alpha for s in solutions])] if solutions else None
    out = [_outcome(study, midpoint), _checks(solutions)]
    own = {
        key: Part(key, title)
        for key, title in (
            ("methods", "Methods side by side"),
            ("quick", "Quick methods"),
            ("polar", "Polar"),
            ("error", "Mesh error"),
            ("pressures", "Pressures and friction"),
            ("field", "Field"),
            ("convergence", "Convergence"),
            ("shape", "Shape"),
        )
    }
    others = []
    for name, result in study.results.items():
        part = own[PLACES[name]] if name in PLACES else Part(name, name.capitalize())
        if name not in PLACES:
            others.append(part)
        for made in JOBS[name].tables(study, result):
            _add_table(part, made)
    if study.refinement is None and study.spec.field_model:
        own["error"].lines.append("Unknown: the study has no [refine] table. Residuals say nothing about it.")
    if midpoint is not None:
        own["polar"].lines.append(f"Reference: {midpoint.reference}")
    body = Part("body", "Pressures in space")
    if solutions and not study.mesh.planar and len({s.mesh.fingerprint for s in solutions}) == 1:
        from zephyrum.report.scene import pressure_scene

        body.scene = pressure_scene(solutions, [f"alpha {s.air.alpha:g} deg, M {s.air.mach:g}" for s in solutions])
        body.lines.append(
            "Drag to turn, wheel to zoom; the menu chooses the point, a click on a part in the legend hides it."
        )
    return [
        *out,
        own["methods"],
        own["quick"],
        own["polar"],
        *others,
        own["error"],
        body,
        own["pressures"],
        own["field"],
        own["convergence"],
        own["shape"],
        _mesh(study) if study.spec.field_model else Part("mesh", "Mesh"),
        _provenance(study),
    ]


def _outcome(study, midpoint) -> Part:
    part = Part("outcome", "Outcome")
    table = None if study.polar is None else study.polar.table
    unconverged = [] if table is None else table[table["outcome"] != Outcome.CONVERGED].to_dict("records")
    odd = [row for row in unconverged if row["outcome"] == Outcome.IMPLAUSIBLE]
    if odd or study.implausible:
        part.lead = (
            f"Implausible: {len(odd)} of {len(table)} points converged to values that no such flow has."
            if odd
            else "Implausible: the lift falls with alpha."
        )
    elif study.converged:
        part.lead = "Every point converged: residuals are down and forces are at rest."
    else:
        part.lead = (
            f"{len(unconverged)} of {len(table)} points did not converge."
            if unconverged
            else "A mesh level, or a result of another job, did not converge."
        )
    part.items = [
        f"M {row['mach']:g}, alpha {row['alpha']:g} deg: {row['outcome']}, {row['reason']}" for row in unconverged
    ]
    known = study.refinement is not None
    part.lines.append(
        f"Mesh error: {study.refinement.outcome}"
        if known
        else "Mesh error: unknown, add a [refine] table to the study."
    )
    if midpoint is not None:
        row = table.iloc[(table["alpha"] - midpoint.air.alpha).abs().argmin()]
        shown = (("CL", ".4f"), ("CD_far", ".5f"), ("CD", ".5f"), ("CM", "+.4f"))
        far = row.get("CD_far")
        names = {"CD_far": "far-field CD", "CD": "CD of the surface"} if far is not None and far == far else {}
        for name, form in shown:
            if name == "CD_far" and not names:
                continue
            bar = row.get(f"{name}_error")
            known_bar = bar is not None and bar == bar
            part.facts.append(
                (
                    f"{names.get(name, name)} at alpha {midpoint.air.alpha:g} deg",
                    format(row[name], form) + (f" ± {bar:.2g}" if known_bar else ""),
                )
            )
        if known and not odd:
            best = table["L/D"].max()  # only where the error of CD is small
            if best == best:
                part.facts.append(("largest L/D", f"{best:.1f}"))
            else:
                part.lines.append("No L/D is given: the error of CD is more than a fifth of it.")
    if study.derived:
        one = study.derived[0]
        part.facts += [
            ("lift slope", f"{one.slope[0]:.3f} / rad"),
            ("neutral point", f"x = {one.neutral[0]:.3f} m"),
            ("static margin", f"{100 * one.margin[0]:.1f} % chord"),
        ]
    return part


def _checks(solutions: list) -> Part:
    part = Part("checks", "Checks")
    said: dict[str, list[str]] = {}
    for solution in solutions:
        for sentence in solution.checks():
            said.setdefault(sentence, []).append(f"{solution.air.alpha:g}")
    part.items = [f"alpha {', '.join(at)} deg: {sentence}" for sentence, at in said.items()]
    if solutions and not said:
        part.lines.append("Nothing looks wrong: values within physical bounds, forces at rest, no implausible drag.")
    return part


def _mesh(study) -> Part:
    from zephyrum.mesh import quality
    from zephyrum.mesh.wall_triangles import describe_wall_distances

    measured = quality(study.mesh)
    part = Part("mesh", "Mesh")
    rows = [
        {
            "measure": name,
            "unit": unit,
            "median": median,
            "99 %": high,
            "worst": worst,
            "at": f"({x:.4g}, {y:.4g}, {z:.4g}) m",
            "limit": limit,
            "beyond it": beyond,
        }
        for name, unit, median, high, worst, x, y, z, limit, beyond in measured.rows
    ]
    part.tables.append(
        _rows(
            rows,
            {
                "measure": "",
                "unit": "",
                "median": ".3g",
                "99 %": ".3g",
                "worst": ".4g",
                "at": "",
                "limit": "g",
                "beyond it": "d",
            },
        )
    )
    part.lines.append(
        f"{study.mesh.n_cells:,} cells, fingerprint {study.mesh.fingerprint}; "
        + ", ".join(
            f"{key} {value:.5g}" if isinstance(value, float) else f"{key} {value}"
            for key, value in study.mesh.recipe.items()
            if key != "wall_distance"
        )
    )
    if "wall_distance" in study.mesh.recipe:
        part.lines.append(describe_wall_distances(study.mesh.recipe["wall_distance"]))
    return part


def _provenance(study) -> Part:
    part = Part("provenance", "Provenance")
    versions = ", ".join(f"{name} {metadata.version(name)}" for name in ("zephyrum", "numpy", "scipy", "numba"))
    part.lines = [
        f"Made with {versions} on Python {platform.python_version()}, {platform.system()} {platform.machine()}.",
        f"{f'Mesh fingerprint {study.mesh.fingerprint}. ' if study.spec.field_model else ''}The study below and one "
        f"command give the same numbers: zephyrum run study.toml",
    ]
    if study.polar is not None:
        part.lines.append(f"Time to solve: {study.polar.table['seconds'].sum():.0f} s.")
        notes = study.polar.notes
        part.texts.append(
            json.dumps({key: notes[key] for key in ("reference", "air", "numerics") if key in notes}, indent=1)
        )
    study_file = study.folder / "study.toml"
    if study_file.is_file():
        part.texts.insert(0, study_file.read_text(encoding="utf-8"))
    return part
