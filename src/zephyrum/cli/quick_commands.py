"""`zephyrum lattice`, `zephyrum buildup` and `zephyrum section-polar`: answers in seconds from a description."""

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from zephyrum.cli.arguments import changes_of
from zephyrum.errors import FlowError, InputError

if TYPE_CHECKING:
    from zephyrum.geometry import Airfoil
    from zephyrum.loworder import ElementsPolar, PanelPolar

COEFFICIENT_COLUMNS = {
    "part": "", "CL": ".4f", "CDi": ".5f", "CDi_surface": ".5f", "CY": ".4f", "Cl": ".5f", "CM": ".4f", "Cn": ".5f",
}  # fmt: skip
DRAG_COLUMNS = {
    "part": "", "group": "", "wetted_m2": ".2f", "length_m": ".2f", "Re": ".3g", "Cf": ".5f", "form": ".3f",
    "interference": ".2f", "drag_area_m2": ".4f", "counts": ".1f", "share_percent": ".1f",
}  # fmt: skip
POLAR_COLUMNS = {
    "alpha": ".4g", "CL": ".4f", "CD": ".5f", "CM": ".4f", "CD_friction": ".5f", "transition_upper": ".3f",
    "transition_lower": ".3f", "separation_upper": ".3f", "separation_lower": ".3f",
}  # fmt: skip
ZERO = 2e-5  # coefficients below it are printed as zero


@dataclass(frozen=True)
class StreamOptions:
    """The stream as on the command line; texts with units."""

    mach: float | None
    speed: str | None
    altitude: str | None

    def stream(self, **more):
        """The freestream; sea level without an altitude.

        Parameters
        ----------
        **more
            Angles.
        """
        from zephyrum.conditions import Freestream

        if self.mach is None and self.speed is None:
            raise InputError("give --mach or --speed.")
        given = {"mach": self.mach, "speed": self.speed, "altitude": self.altitude or "0 m"}
        return Freestream(**{name: value for name, value in given.items() if value is not None}, **more)


def _aircraft(file: Path, sets: tuple[str, ...]):
    from zephyrum.geometry import Aircraft

    if file.suffix != ".toml":
        raise InputError(f"{file.name!r} is not an aircraft file; give a .toml file that describes an aircraft.")
    aircraft = Aircraft.read(file)
    return aircraft.changed(changes_of(sets)) if sets else aircraft


@dataclass(frozen=True)
class LatticeRequest:
    """Options of `zephyrum lattice`, named as on the command line; see its help."""

    stream: StreamOptions
    sets: tuple[str, ...] = ()
    alpha: float = 4.0
    beta: float = 0.0
    parts: tuple[str, ...] = ()
    ground: float | None = None
    wake: str = "body"
    bodies: bool = False
    rows: int = 12
    strips: int = 24
    csv: Path | None = None
    figure: Path | None = None


def lattice_command(file: Path, request: LatticeRequest, show_table: Callable) -> None:
    """Run `zephyrum lattice`.

    Parameters
    ----------
    file : path
        Aircraft file.
    request : LatticeRequest
        Options of the command line.
    show_table : callable
        Prints a table: show_table(rows, columns, title).
    """
    from zephyrum.loworder import LatticeOptions, lattice_model

    aircraft = _aircraft(file, request.sets)
    given = {name: getattr(request, name) for name in ("rows", "strips", "wake", "ground", "bodies")}
    options = LatticeOptions(parts=request.parts or None, **given)
    model = lattice_model(aircraft, options)
    found = model.solve(request.stream.stream(alpha=request.alpha, beta=request.beta))
    click.echo(f"{model}\n{found.air.describe()}; reference: {model.reference}\n")
    show_table(
        _clean(found.table.to_dict("records")), COEFFICIENT_COLUMNS, "coefficients by part: CDi in the far plane"
    )
    slopes = found.derivatives
    rows = [{"with": name} | {key: slopes.loc[key, name] for key in slopes.index} for name in slopes.columns]
    columns = {"with": ""} | dict.fromkeys(("CL", "CM", "CY", "Cl", "Cn"), ".4f")
    show_table(_clean(rows), columns, "derivatives with angles and deflections [1/rad] and with dimensionless rates")
    if found.hinge_moments:
        hinges = [{"control": name, "Ch": value} for name, value in found.hinge_moments.items()]
        show_table(_clean(hinges), {"control": "", "Ch": ".5f"}, "hinge moments")
    reference = model.reference
    margin = 100.0 * (found.neutral_point - reference.point[0]) / reference.chord
    click.echo(
        f"neutral point at x = {found.neutral_point:.4f} m, {margin:.1f} % of the chord behind the moment point at "
        f"{reference.point[0]:.4f} m; centre of pressure at x = {found.centre_of_pressure:.4f} m"
    )
    bodies = "bodies are left out"
    if model.bodies is not None:
        bodies = (
            "bodies are slender, without separation: Cn and CM are those of potential flow, and CDi_surface lacks the "
            "axial force on them, so that CDi of the far plane holds"
        )
    click.echo(f"thin surfaces in attached flow; {bodies}")
    for note in model.notes:
        click.echo(f"warning: {note}")
    if request.csv:
        request.csv.mkdir(parents=True, exist_ok=True)
        for name, one in (("parts", found.table), ("derivatives", slopes.reset_index(names="coefficient"))):
            one.to_csv(request.csv / f"lattice_{name}.csv", index=False)
        found.loading.to_csv(request.csv / "lattice_loading.csv", index=False)
        click.echo(f"written: {request.csv}/lattice_parts.csv, lattice_derivatives.csv, lattice_loading.csv")
    if request.figure:
        from zephyrum.plotting import draw_lattice
        from zephyrum.plotting.style import save

        save(draw_lattice(found), request.figure)
        click.echo(f"drawn: {request.figure}")


def _clean(rows: list[dict]) -> list[dict]:
    """Rows without the rounding errors of what is zero by symmetry."""
    return [
        {name: 0.0 if isinstance(value, float) and abs(value) < ZERO else value for name, value in row.items()}
        for row in rows
    ]


@dataclass(frozen=True)
class BuildupRequest:
    """Options of `zephyrum buildup`, named as on the command line; see its help."""

    sets: tuple[str, ...]
    stream: StreamOptions
    law: str
    roughness: str
    laminar: tuple[str, ...]
    interference: tuple[str, ...]
    sort: str
    csv: Path | None
    figure: Path | None


def buildup_command(file: Path, request: BuildupRequest, show_table: Callable) -> None:
    """Run `zephyrum buildup`.

    Parameters
    ----------
    file : path
        Aircraft file.
    request : BuildupRequest
        Options of the command line.
    show_table : callable
        Prints a table: show_table(rows, columns, title).
    """
    from zephyrum._core.units import quantity
    from zephyrum.loworder import BuildupOptions, zero_lift_drag

    options = BuildupOptions(
        law=request.law,
        roughness=quantity("roughness", request.roughness, "m"),
        laminar=changes_of(request.laminar, "--laminar"),
        interference=changes_of(request.interference, "--interference"),
    )
    found = zero_lift_drag(_aircraft(file, request.sets), request.stream.stream(), options)
    table = found.sorted(request.sort)
    rows = table.assign(counts=1e4 * table["CD"]).to_dict("records")
    title = f"zero-lift drag by part on {found.area:.5g} m^2: areas in m^2, lengths in m"
    show_table(rows, DRAG_COLUMNS, title)
    low, high = found.spread
    click.echo(f"CD0 {found.CD:.5f}, {low:.5f} to {high:.5f} by other published laws; {found.air.describe()}")
    for one in found.components:
        form, reason = found.form_of(one)
        click.echo(f"  {one.name}: form factor {form}, {reason}")
    if request.csv:
        click.echo(f"written: {found.write_csv(request.csv)}")
    if request.figure:
        from zephyrum.plotting import draw_buildup
        from zephyrum.plotting.style import save

        save(draw_buildup(found), request.figure)
        click.echo(f"drawn: {request.figure}")


@dataclass(frozen=True)
class SectionPolarRequest:
    """Options of `zephyrum section-polar`, named as on the command line; see its help."""

    reynolds: str
    mach: str
    alpha: str
    lift: str | None
    critical: float
    turbulence: float | None
    trip: tuple[float, float]
    flap: tuple[float, float] | None
    elements: tuple[str, ...]
    unit: str
    csv: Path | None
    figure: Path | None


def _values(text: str, option: str = "--alpha") -> list[float]:
    """Values from "first:last:step", or one."""
    try:
        values = [float(part) for part in text.split(":")]
    except ValueError:
        values = []
    if len(values) == 1:
        return values
    if len(values) != 3 or values[2] <= 0.0 or values[1] < values[0] or (values[1] - values[0]) / values[2] > 500.0:
        example = "in degrees, for example -4:16:1" if option == "--alpha" else "for example 0:1.2:0.1"
        raise InputError(f"{option} {text!r} is not a number or first:last:step, {example}.")
    return [values[0] + k * values[2] for k in range(int((values[1] - values[0]) / values[2] + 1.0 + 1e-9))]


def _list(text: str, option: str) -> list[float]:
    """Numbers between commas."""
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise InputError(f"{option} {text!r} is not a number or numbers between commas.") from None


def section_polar_command(section: str, request: SectionPolarRequest, show_table: Callable) -> None:
    """Run `zephyrum section-polar`.

    Parameters
    ----------
    section : str
        Coordinate file or NACA digits.
    request : SectionPolarRequest
        Options of the command line.
    show_table : callable
        Prints a table: show_table(rows, columns, title).
    """
    from zephyrum.cli.arguments import section_of
    from zephyrum.loworder import LayerOptions, panel_polar, panel_polar_at_lift

    foil = section_of(section, unit=request.unit if request.elements else None)
    if request.flap is not None:
        foil = foil.with_flap(*request.flap)
    elements = _elements(foil, request)
    options = LayerOptions(request.critical, request.turbulence, *request.trip)
    streams = itertools.product(_list(request.reynolds, "--reynolds"), _list(request.mach, "--mach"))
    polars: list = []
    for reynolds, mach in streams:
        if request.lift is None:
            polars.append(panel_polar(elements or foil, _values(request.alpha), reynolds, mach, options))
        else:
            lifts = _values(request.lift, "--lift")
            polars.append(panel_polar_at_lift(foil, lifts, reynolds, mach, options))
            if (found := len(polars[-1].flows)) < len(lifts):
                click.echo(f"found {found} of {len(lifts)} lift coefficients: the others are beyond stall")
        _show_section_polar(polars[-1], options.exponent, show_table)
    if request.csv:
        import pandas as pd

        request.csv.mkdir(parents=True, exist_ok=True)
        pd.concat([polar.table for polar in polars]).to_csv(request.csv / "section_polar.csv", index=False)
        layers = [
            flow.table.assign(alpha=flow.alpha, Re=polar.reynolds, mach=polar.mach)
            for polar in polars
            for flow in polar.flows
        ]
        pd.concat(layers).to_csv(request.csv / "section_layers.csv", index=False)
        click.echo(f"written: {request.csv}/section_polar.csv, section_layers.csv")
    if request.figure:
        from zephyrum.plotting import draw_elements_polar, draw_panel_polar, draw_panel_polars
        from zephyrum.plotting.style import save

        draw = draw_elements_polar if elements else draw_panel_polar
        save(draw(polars[0]) if len(polars) == 1 else draw_panel_polars(polars), request.figure)
        click.echo(f"drawn: {request.figure}")


def _elements(foil: "Airfoil", request: SectionPolarRequest) -> "dict[str, Airfoil]":
    """Elements by name, the first of them the section; none without more of them."""
    from zephyrum.cli.arguments import section_of

    made: dict[str, Airfoil] = {}
    for text in request.elements:
        name, is_there, file = text.partition("=")
        if not is_there or not name or not file:
            raise InputError(f"--element {text!r} is not NAME=FILE, for example flap=flap.dat.")
        if name in made or name == "main":
            raise InputError(f"--element {text!r}: the name {name!r} is taken; give another.")
        made[name] = section_of(file, unit=request.unit)
    if made and request.lift is not None:
        raise InputError("--lift is for a section alone; give --alpha with --element.")
    return {"main": foil} | made if made else {}


def _polar_columns(polar: "PanelPolar | ElementsPolar") -> dict[str, str]:
    """Columns of the table of a polar, with their formats."""
    from zephyrum.loworder import LayeredFlow

    if isinstance(polar.flows[0], LayeredFlow):
        return POLAR_COLUMNS
    own = {name: POLAR_COLUMNS[name] for name in ("alpha", "CL", "CD", "CM")}
    for name in polar.flows[0].elements:
        own |= {f"CL_{name}": POLAR_COLUMNS["CL"], f"CD_{name}": POLAR_COLUMNS["CD"]}
        own[f"transition_{name}_upper"] = POLAR_COLUMNS["transition_upper"]
        own[f"separation_{name}_upper"] = POLAR_COLUMNS["transition_upper"]
    return own


def _show_section_polar(polar: "PanelPolar | ElementsPolar", exponent: float, show_table: Callable) -> None:
    """Print the table of a polar, its lift slope and its largest lift."""
    found = polar.table
    title = f"{polar.title}, Re {polar.reynolds:.3g}, Mach {polar.mach:g}, N {exponent:.2g}: places in chords"
    show_table(_clean(found[found.converged].to_dict("records")), _polar_columns(polar), title)
    lost = [f"{alpha:g}" for alpha in found.alpha[~found.converged]]
    if lost:
        click.echo(f"not converged at {', '.join(lost)} deg: deep stall, a bubble that bursts, or a kinked section")
    for line in (
        lambda: f"lift slope {polar.lift_slope:.4f} per degree, zero lift at {polar.zero_lift:.2f} deg",
        lambda: "largest lift coefficient {:.3f} at {:.1f} deg".format(*polar.maximum_lift),
    ):
        try:
            click.echo(line())
        except FlowError as missing:
            click.echo(str(missing))


def quick_answers(out: Path, show_table: Callable) -> None:
    """Lattice and drag build-up of the Skerry, with figures: an answer before the first mesh is made.

    Parameters
    ----------
    out : path
        Folder of the demonstration, with the aircraft's file in aircraft/.
    show_table : callable
        Prints a table: show_table(rows, columns, title).
    """
    file, figures = out / "aircraft" / "skerry-mailplane.toml", out / "quick"
    figures.mkdir(parents=True, exist_ok=True)
    stream = StreamOptions(0.2, None, "5000 ft")
    lattice_command(file, LatticeRequest(stream, csv=figures, figure=figures / "lattice.png"), show_table)
    buildup_command(
        file,
        BuildupRequest(
            sets=(),
            stream=stream,
            law="van_driest",
            roughness="7 um",
            laminar=(),
            interference=("nacelle=1.3",),
            sort="drag_area_m2",
            csv=figures / "buildup.csv",
            figure=figures / "buildup.png",
        ),
        show_table,
    )
