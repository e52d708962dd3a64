"""`zephyrum shape`: an aircraft file or a surface file measured, repaired, drawn and written."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import click

from zephyrum.cli.arguments import changes_of
from zephyrum.errors import InputError

FEET = 0.3048


@dataclass(frozen=True)
class ShapeOptions:
    """Options of `zephyrum shape`, named as on the command line; see its help."""

    sets: tuple[str, ...]
    unit: str | None
    nose: str
    up: str
    span: float | None
    labels: str | None
    simplify: float | None
    flat_holes: bool
    half: bool
    remesh: int | None
    density: float
    write: tuple[Path, ...]
    figures: Path | None
    alpha: float


def shape_command(file: Path, options: ShapeOptions, show_table: Callable) -> None:
    """Run `zephyrum shape`.

    Parameters
    ----------
    file : path
        Aircraft file or surface file.
    options : ShapeOptions
        Options of the command line.
    show_table : callable
        Prints a table: show_table(rows, columns, title).
    """
    if not file.exists():
        hint = f"; for a section use: zephyrum section {file}" if file.name.lower().startswith("naca") else ""
        raise InputError(f"{str(file)!r} does not exist{hint}.")
    if file.suffix == ".toml":
        names = ("unit", "span", "labels", "simplify", "flat_holes")
        given = [f"--{name.replace('_', '-')}" for name in names if getattr(options, name)]
        if given or options.nose != "-x" or options.up != "+z":
            raise InputError(
                f"{' and '.join(given) or '--nose and --up'} belong to surface files; an aircraft file has its own "
                f"units and axes."
            )
        _aircraft(file, options, show_table)
        return
    if options.sets:
        raise InputError(f"--set changes numbers of an aircraft file (.toml); {file.name} has none.")
    _surface(file, options, show_table)


PART_COLUMNS = {
    "part": "",
    "kind": "",
    "wetted": ".3f",
    "own area": ".3f",
    "volume": ".3f",
    "planform": ".3f",
    "frontal": ".3f",
    "mass": ".1f",
    "aerodynamic": "",
    "has mass": "",
}
WING_COLUMNS = {
    "wing": "",
    "area": ".3f",
    "span": ".3f",
    "aspect ratio": ".2f",
    "mean chord": ".4f",
    "taper": ".3f",
    "sweep": ".2f",
}


def _aircraft(file: Path, options: ShapeOptions, show_table: Callable) -> None:
    """Measure, draw and write a described aircraft."""
    from zephyrum.geometry import Aircraft

    aircraft = Aircraft.read(file)
    if options.sets:
        changes = changes_of(options.sets)
        aircraft = aircraft.changed(changes)
        click.echo("changed: " + ", ".join(f"{path} = {value}" for path, value in changes.items()) + "\n")
    measures = aircraft.measures(options.density)
    _print_rows(measures.rows(), aircraft.name, show_table)
    parts = [
        {**row, "aerodynamic": "yes" if row["aerodynamic"] else "no", "has mass": "yes" if row["has mass"] else "no"}
        for row in measures.parts.to_dict("records")
    ]
    show_table(parts, PART_COLUMNS, "parts: areas in m^2 (wetted: outside only), volume in m^3, mass in kg")
    for group, names in aircraft.groups.items():
        click.echo(f"group {group}: {', '.join(names)}")
    wings = [
        {"wing": name} | {column: getattr(m, column.replace(" ", "_")) for column in list(WING_COLUMNS)[1:]}
        for name, m in measures.wings.items()
    ]
    if wings:
        show_table(wings, WING_COLUMNS, "wings: area in m^2, lengths in m, sweep of the quarter chord in deg")
    for note in measures.notes:
        click.echo(f"note: {note}")
    surface = _written(measures.surface, options)
    if options.figures:
        _draw_aircraft(aircraft, measures, surface, options)


def _draw_aircraft(aircraft, measures, surface, options: ShapeOptions) -> None:
    """Write the drawings of a described aircraft."""
    from zephyrum.plotting import draw_area_distribution, draw_span, draw_surface, draw_three_view
    from zephyrum.plotting.style import save

    figures, alpha = options.figures, options.alpha
    figures.mkdir(parents=True, exist_ok=True)
    save(draw_three_view(measures, alpha=alpha), figures / "three_view.png")
    made = ["three_view.png"]
    if measures.wings:
        save(draw_span(aircraft)[0].figure, figures / "span.png")
        made.append("span.png")
    save(draw_area_distribution(measures).figure, figures / "area.png")
    draw_surface(surface, figures / "quarter.png", "quarter", alpha, edges=options.remesh is not None)
    draw_surface(surface, figures / "below.png", "below")
    click.echo(f"figures in {figures}: {', '.join([*made, 'area.png', 'quarter.png', 'below.png'])}")


def _surface(file: Path, options: ShapeOptions, show_table: Callable) -> None:
    """Import, repair, measure, draw and write a surface file."""
    from zephyrum.geometry import NotRepairable, import_surface, measure_surface

    names = ("span", "labels", "simplify", "flat_holes")
    figures = options.figures
    try:
        taken = import_surface(
            file, options.unit, options.nose, options.up, **{name: getattr(options, name) for name in names}
        )
    except NotRepairable as cause:
        if figures:
            from zephyrum.plotting import draw_surface

            figures.mkdir(parents=True, exist_ok=True)
            draw_surface(cause.surface, figures / "not_repaired.png", marks=cause.defect.positions)
            raise InputError(f"{cause} The places are marked in {figures / 'not_repaired.png'}.") from None
        raise
    surface = taken.surface
    click.echo(f"{file.name}: {len(taken.raw.triangles)} triangles read, {len(surface.triangles)} after repair")
    click.echo(taken.report() + "\n")
    sizes = measure_surface(surface)
    _print_rows(sizes.rows(), file.stem, show_table)
    show_table(
        [{"label": name, "area": area} for name, area in sorted(sizes.labels.items(), key=lambda item: -item[1])[:30]],
        {"label": "", "area": ".4f"},
        f"labels ({len(sizes.labels)}): area in m^2",
    )
    surface = _written(surface, options)
    if figures:
        from zephyrum.plotting import draw_sketch, draw_surface
        from zephyrum.plotting.style import save

        figures.mkdir(parents=True, exist_ok=True)
        save(draw_sketch(sizes, alpha=options.alpha), figures / "sketch.png")
        positions = [location for defect in taken.repaired.defects for location in defect.positions]
        draw_surface(surface, figures / "labels.png", "quarter", options.alpha, options.remesh is not None, by="label")
        made = ["sketch.png", "labels.png"]
        if positions:
            draw_surface(surface, figures / "repaired.png", "quarter", marks=positions)
            made.append("repaired.png")
        click.echo(f"figures in {figures}: {', '.join(made)}")


def _print_rows(rows, title: str, show_table) -> None:
    """Name, value, unit; lengths also in feet."""
    shown = []
    for name, value, unit in rows:
        other, also = {
            "m": (round(value, 9) / FEET + 0.0, "ft"),
            "m^2": (value / FEET**2, "ft^2"),
            "kg": (value / 0.45359237, "lb"),
        }.get(unit, (None, ""))
        shown.append({"measure": name, "value": round(value, 9) + 0.0, "unit": unit, "or": other, "": also})
    show_table(shown, {"measure": "", "value": ".4f", "unit": "", "or": ".3f", "": ""}, title)


def _written(surface, options: ShapeOptions):
    """The surface, or its starboard half, remeshed if asked for, written to the files asked for."""
    if options.half:
        from zephyrum.geometry.surface.solids import half_surface

        surface = half_surface(surface)
        click.echo(f"half model: {len(surface.triangles)} triangles, open along y = 0")
    if options.remesh is not None:
        from zephyrum.geometry import remesh

        made = remesh(surface, options.remesh)
        click.echo(f"remeshed: {made}")
        surface = made.surface
    for path in options.write:
        click.echo(f"written: {surface.write(path)}")
    return surface
