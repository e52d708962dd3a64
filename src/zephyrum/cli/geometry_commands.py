"""`zephyrum shape`: an aircraft file or a surface file measured, repaired, drawn and written."""

from collections.abc import Callable
from pathlib import Path

import click

from zephyrum.errors import InputError

FEET = 0.3048


def shape_command(
    file: Path,
    sets: tuple[str, ...],
    unit: str | None,
    nose: str,
    up: str,
    span,
    labels: str | None,
    simplify,
    flat_holes: bool,
    half: bool,
    remesh,
    density: float,
    write: tuple[Path, ...],
    figures: Path | None,
    alpha: float,
    show_table: Callable,
) -> None:
    """What `zephyrum shape` does; `show_table(rows, columns, title)` prints."""
    if not file.exists():
        hint = f"; for a section use: zephyrum section {file}" if file.name.lower().startswith("naca") else ""
        raise InputError(f"{str(file)!r} does not exist{hint}.")
    if file.suffix == ".toml":
        given = [
            flag
            for flag, value in (
                ("--unit", unit),
                ("--span", span),
                ("--labels", labels),
                ("--simplify", simplify),
                ("--flat-holes", flat_holes),
            )
            if value
        ]
        if given or nose != "-x" or up != "+z":
            raise InputError(
                f"{' and '.join(given) or '--nose and --up'} belong to surface files; an aircraft file has its own "
                f"units and axes."
            )
        _aircraft(file, sets, half, remesh, density, write, figures, alpha, show_table)
        return
    if sets:
        raise InputError(f"--set changes numbers of an aircraft file (.toml); {file.name} has none.")
    _surface(file, unit, nose, up, span, labels, simplify, flat_holes, half, remesh, write, figures, alpha, show_table)


def _changes(sets) -> dict:
    """Dotted paths and values of --set PATH=VALUE."""
    out = {}
    for one in sets:
        path, sign, value = one.partition("=")
        if not sign or not path.strip() or not value.strip():
            raise InputError(f"--set {one!r}: write PATH=VALUE, for example --set wing.controls.flap.deflection=20.")
        try:
            out[path.strip()] = float(value)
        except ValueError:
            out[path.strip()] = {"true": True, "false": False}.get(value.strip(), value.strip())
    return out


def _aircraft(file, sets, half, remesh, density, write, figures, alpha, show_table) -> None:
    from zephyrum.geometry import Aircraft

    aircraft = Aircraft.read(file)
    if sets:
        changes = _changes(sets)
        aircraft = aircraft.changed(changes)
        click.echo("changed: " + ", ".join(f"{path} = {value}" for path, value in changes.items()) + "\n")
    measures = aircraft.measures(density)
    _print_rows(measures.rows(), aircraft.name, show_table)
    show_table(
        [
            {**row, "flies": "yes" if row["flies"] else "no", "weighs": "yes" if row["weighs"] else "no"}
            for row in measures.parts.to_dict("records")
        ],
        {
            "part": "",
            "kind": "",
            "wetted": ".3f",
            "own area": ".3f",
            "volume": ".3f",
            "planform": ".3f",
            "frontal": ".3f",
            "mass": ".1f",
            "flies": "",
            "weighs": "",
        },
        "parts: areas in m^2 (wetted: outside only), volume in m^3, mass in kg",
    )
    rows = [
        {
            "wing": name,
            "area": m.area,
            "span": m.span,
            "aspect ratio": m.aspect_ratio,
            "mean chord": m.mean_chord,
            "taper": m.taper,
            "sweep": m.sweep,
        }
        for name, m in measures.wings.items()
    ]
    if rows:
        show_table(
            rows,
            {
                "wing": "",
                "area": ".3f",
                "span": ".3f",
                "aspect ratio": ".2f",
                "mean chord": ".4f",
                "taper": ".3f",
                "sweep": ".2f",
            },
            "wings: area in m^2, lengths in m, sweep of the quarter chord in deg",
        )
    for note in measures.notes:
        click.echo(f"note: {note}")
    surface = measures.surface
    surface = _written(surface, half, remesh, write)
    if figures:
        from zephyrum.plotting import draw_area_distribution, draw_span, draw_surface, draw_three_view
        from zephyrum.plotting.style import save

        figures.mkdir(parents=True, exist_ok=True)
        save(draw_three_view(measures, alpha=alpha), figures / "three_view.png")
        made = ["three_view.png"]
        if measures.wings:
            save(draw_span(aircraft)[0].figure, figures / "span.png")
            made.append("span.png")
        save(draw_area_distribution(measures).figure, figures / "area.png")
        draw_surface(surface, figures / "quarter.png", "quarter", alpha, edges=remesh is not None)
        draw_surface(surface, figures / "below.png", "below")
        click.echo(f"figures in {figures}: {', '.join([*made, 'area.png', 'quarter.png', 'below.png'])}")


def _surface(
    file, unit, nose, up, span, labels, simplify, flat_holes, half, remesh, write, figures, alpha, show_table
) -> None:
    from zephyrum.geometry import NotRepairable, import_surface, measure_surface

    try:
        taken = import_surface(file, unit, nose, up, span=span, labels=labels, simplify=simplify, flat_holes=flat_holes)
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
    surface = _written(surface, half, remesh, write)
    if figures:
        from zephyrum.plotting import draw_sketch, draw_surface
        from zephyrum.plotting.style import save

        figures.mkdir(parents=True, exist_ok=True)
        save(draw_sketch(sizes, alpha=alpha), figures / "sketch.png")
        positions = [location for defect in taken.repaired.defects for location in defect.positions]
        draw_surface(surface, figures / "labels.png", "quarter", alpha, remesh is not None, by="label")
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


def _written(surface, half: bool, triangles: int | None, write):
    """The surface, or its starboard half, remeshed if asked for, written to the files asked for."""
    if half:
        from zephyrum.geometry.surface.solids import half_surface

        surface = half_surface(surface)
        click.echo(f"half model: {len(surface.triangles)} triangles, open along y = 0")
    if triangles is not None:
        from zephyrum.geometry import remesh

        made = remesh(surface, triangles)
        click.echo(f"remeshed: {made}")
        surface = made.surface
    for path in write:
        click.echo(f"written: {surface.write(path)}")
    return surface
