"""The report of a study: one HTML file that needs nothing else, verdict first (extra `report`: Jinja and plotly)."""

import base64
import json
import platform
from dataclasses import dataclass, field
from datetime import datetime
from importlib import metadata
from pathlib import Path

from zephyrum.errors import InputError
from zephyrum.one_stroke import write_text
from zephyrum.report.columns import DERIVED, FORCES, HEADS, LEVELS, POLAR, REFINED, SERIES, SLOPES, cell
from zephyrum.studies.aircraft import AircraftOutcome

NEAR = 4.0  # deg: the point that stands for a sweep is the one nearest to this alpha
# where a picture belongs and what it shows, by the beginning of its name
PICTURES = {
    "polar": ("polar", "Lift, drag and moment over alpha, and the polar."),
    "refinement": ("error", "Coefficients over the mesh, with the extrapolated value and the error bar of the finest mesh."),
    "history": ("convergence", "Residuals and coefficients over the steps"),
    "time": ("convergence", "Coefficients in time."),
    "loading": ("pressures", "Lift over the span, and Cp in sections"),
    "cp_field": ("field", "Cp in the field"),
    "cp_": ("pressures", "Cp on the surface"),
    "friction": ("pressures", "Skin friction and y+"),
    "layer": ("pressures", "Boundary layers"),
    "mesh": ("mesh", "The mesh."),
    "section": ("shape", "The section."),
    "separation": ("field", "Separated flow"),
    "streamlines": ("field", "Streamlines past the body"),
    "vortices": ("field", "Cores of vortices (Q criterion)"),
    "mach_field": ("field", "Mach number in the field"),
    "vorticity_field": ("field", "Vorticity in the field"),
    "eddy_viscosity_ratio_field": ("field", "Eddy over molecular viscosity"),
}  # fmt: skip


@dataclass
class Part:
    """One section of the page; what is empty is left out."""

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


def write_report(outcome, path: str | Path | None = None) -> Path:
    """Write the report of a finished study (see `run_study`, `open_study`) into its folder as report.html, or to `path`; its path.

    The pictures are those in the study's folder; they are drawn if it has none. InputError if the extra `report` is missing.
    """
    try:
        import jinja2
        from markupsafe import Markup
    except ImportError:
        raise InputError(
            "a report needs Jinja and plotly; install them with: pip install 'zephyrum[report]'."
        ) from None
    folder = outcome.folder
    path = folder / "report.html" if path is None else Path(path)
    if path.suffix.lower() not in (".html", ".htm"):
        raise InputError(f"report {path.name!r} should end in .html.")
    if not list((folder / "figures").glob("*.png")):
        from zephyrum.looks import draw_album

        draw_album(outcome, folder / "figures")
    parts = {part.key: part for part in _parts(outcome)}
    for picture in sorted((folder / "figures").glob("*.png")):
        for start, (key, caption) in PICTURES.items():
            if picture.stem.startswith(start):
                data = base64.b64encode(picture.read_bytes()).decode()
                parts[key].figures.append({"caption": f"{caption} ({picture.name})", "data": data})
                break
    shown = [part for part in parts.values() if not part.empty]
    for part in shown:
        part.scene = Markup(part.scene)
    loader = jinja2.Environment(loader=jinja2.PackageLoader("zephyrum.report", "."), autoescape=True, trim_blocks=True)
    version = metadata.version("zephyrum")
    text = loader.get_template("page.html").render(
        title=outcome.study.title,
        subtitle=_subtitle(outcome),
        parts=shown,
        good=outcome.settled,
        footer=f"Zephyrum {version}, {datetime.now():%Y-%m-%d %H:%M}. This file needs no network and no other file.",
    )
    write_text(path, text)
    return path


def _subtitle(outcome) -> str:
    study = outcome.study
    shape = outcome.shape.name if isinstance(outcome, AircraftOutcome) else outcome.foil.name
    mach = study.machs()[0]
    air = study.freestream(mach)
    return f"{shape}; model {study.solver.model}; {outcome.mesh.n_cells:,} cells; M {air.mach:g}, {air.speed:.1f} m/s, Reynolds number {air.reynolds:.3g}"


def _rows(rows: list[dict], columns: dict[str, str], title: str = "") -> dict:
    """A table for the page; columns in which no row has a value are left out."""
    live = {name: form for name, form in columns.items() if any(cell(row.get(name), form) != "-" for row in rows)}
    heads = [(HEADS.get(name, name), form == "") for name, form in live.items()]
    return {"title": title, "heads": heads, "rows": [[(cell(row.get(name), form), form == "") for name, form in live.items()] for row in rows]}  # fmt: skip


def _points(outcome) -> list:
    """The stored solutions of the first Mach number."""
    if outcome.polar is None:
        return []
    rows = outcome.polar.table
    rows = rows[rows["mach"] == rows["mach"].min()]
    return [outcome.solution(float(row["mach"]), float(row["alpha"])) for _, row in rows.iterrows()]


def _parts(outcome) -> list[Part]:
    whole = isinstance(outcome, AircraftOutcome)
    solutions = _points(outcome)
    middle = min(solutions, key=lambda s: abs(s.air.alpha - NEAR)) if solutions else None
    out = [_verdict(outcome, middle), _checks(solutions)]
    polar = Part("polar", "Polar")
    if outcome.polar is not None:
        polar.tables.append(_rows(outcome.polar.table.to_dict("records"), POLAR))
        if whole and outcome.derived:
            polar.tables.append(_rows([one.row() for one in outcome.derived], DERIVED, "What follows from the sweep, about the reference point"))  # fmt: skip
    if whole and outcome.trim is not None:
        polar.lines.append(f"Trim at {outcome.trim['text']}.")
    if whole and outcome.derivatives is not None:
        own = outcome.study.derivatives
        polar.tables.append(_rows(outcome.derivatives.to_dict("records"), SLOPES, f"Derivatives [1/rad] at M {own.mach:g}, alpha {own.alpha:g} deg"))  # fmt: skip
    out.append(polar)
    forces = Part("forces", "Forces by part and cause")
    if middle is not None:
        sides = ", both halves" if middle.mesh.mirrored else ""
        forces.tables.append(_rows(middle.forces.table().to_dict("records"), FORCES, f"{middle.air.describe()}{sides}"))
        forces.lines.append(f"Reference: {middle.reference}")
        if whole:
            forces.lines.append(f"Span loading: {middle.span_loading()}")
    out.append(forces)
    error = Part("error", "Mesh error")
    if outcome.refinement is not None:
        error.lead = outcome.refinement.verdict
        error.tables += [_rows(outcome.refinement.rows(), REFINED), _rows(outcome.refinement.table.to_dict("records"), LEVELS, f"Levels at {outcome.refinement.air.describe()}")]  # fmt: skip
    else:
        error.lines.append("Unknown: the study has no [refine] table. Residuals say nothing about it.")
    out.append(error)
    body = Part("body", "Pressures in space")
    if whole and solutions:
        from zephyrum.report.scene import pressure_scene

        body.scene = pressure_scene(solutions, [f"alpha {s.air.alpha:g} deg, M {s.air.mach:g}" for s in solutions])
        body.lines.append("Drag to turn, wheel to zoom; the menu chooses the point, a click on a part in the legend hides it.")  # fmt: skip
    out += [
        body,
        Part("pressures", "Pressures and friction"),
        Part("field", "Field"),
        Part("convergence", "Convergence"),
    ]
    if outcome.series is not None:
        rows = [{"coefficient": name, "mean": mean, "amplitude": swing} for name, (mean, swing) in outcome.series.summary().items()]  # fmt: skip
        out[-1].tables.append(_rows(rows, SERIES, f"In time, {outcome.series.travelled[-1]:g} chords travelled"))
    out += [Part("shape", "Shape"), _mesh(outcome), _provenance(outcome)]
    return out


def _verdict(outcome, middle) -> Part:
    part = Part("verdict", "Verdict")
    table = None if outcome.polar is None else outcome.polar.table
    loose = [] if table is None else table[table["verdict"] != "settled"].to_dict("records")
    if outcome.settled:
        part.lead = "Every point settled: residuals are down and forces are at rest."
    else:
        part.lead = f"{len(loose)} of {len(table)} points did not settle." if loose else "A mesh level did not settle."
    part.items = [f"M {row['mach']:g}, alpha {row['alpha']:g} deg: {row['verdict']}, {row['reason']}" for row in loose]
    known = outcome.refinement is not None
    part.lines.append(f"Mesh error: {outcome.refinement.verdict}" if known else "Mesh error: unknown, add a [refine] table to the study.")  # fmt: skip
    if middle is not None:
        row = table.iloc[(table["alpha"] - middle.air.alpha).abs().argmin()]
        for name, form in (("CL", ".4f"), ("CD", ".5f"), ("CM", "+.4f")):
            bar = row.get(f"{name} error")
            known_bar = bar is not None and bar == bar
            part.facts.append((f"{name} at alpha {middle.air.alpha:g} deg", format(row[name], form) + (f" ± {bar:.2g}" if known_bar else "")))  # fmt: skip
        best = table["L/D"].max()
        if best == best:
            part.facts.append(("largest L/D", f"{best:.1f}"))
    if isinstance(outcome, AircraftOutcome) and outcome.derived:
        one = outcome.derived[0]
        part.facts += [("lift slope", f"{one.slope[0]:.3f} / rad"), ("neutral point", f"x = {one.neutral[0]:.3f} m"), ("static margin", f"{100 * one.margin[0]:.1f} % chord")]  # fmt: skip
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


def _mesh(outcome) -> Part:
    from zephyrum.mesh import quality

    measured = quality(outcome.mesh)
    part = Part("mesh", "Mesh")
    rows = [
        {"measure": name, "unit": unit, "median": median, "99 %": high, "worst": worst, "at": f"({x:.4g}, {y:.4g}, {z:.4g}) m", "limit": limit, "beyond it": beyond}
        for name, unit, median, high, worst, x, y, z, limit, beyond in measured.rows
    ]  # fmt: skip
    part.tables.append(_rows(rows, {"measure": "", "unit": "", "median": ".3g", "99 %": ".3g", "worst": ".4g", "at": "", "limit": "g", "beyond it": "d"}))  # fmt: skip
    part.lines.append(f"{outcome.mesh.n_cells:,} cells, fingerprint {outcome.mesh.fingerprint}; " + ", ".join(f"{key} {value:.5g}" if isinstance(value, float) else f"{key} {value}" for key, value in outcome.mesh.recipe.items()))  # fmt: skip
    return part


def _provenance(outcome) -> Part:
    part = Part("provenance", "Provenance")
    versions = ", ".join(f"{name} {metadata.version(name)}" for name in ("zephyrum", "numpy", "scipy", "numba"))
    part.lines = [
        f"Made with {versions} on Python {platform.python_version()}, {platform.system()} {platform.machine()}.",
        f"Mesh fingerprint {outcome.mesh.fingerprint}. The study below and one command give the same numbers: zephyrum run study.toml",
    ]
    if outcome.polar is not None:
        part.lines.append(f"Time to solve: {outcome.polar.table['seconds'].sum():.0f} s.")
        notes = outcome.polar.notes
        part.texts.append(json.dumps({key: notes[key] for key in ("reference", "air", "settings") if key in notes}, indent=1))  # fmt: skip
    study = outcome.folder / "study.toml"
    if study.is_file():
        part.texts.insert(0, study.read_text(encoding="utf-8"))
    return part
