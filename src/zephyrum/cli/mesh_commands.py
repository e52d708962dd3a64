"""`zephyrum mesh`: the mesh about a section, an aircraft file or a surface file."""

from pathlib import Path

import click

from zephyrum.cli.arguments import section_of
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry.surface.surface_writer import ENDINGS

# options that belong to one kind of geometry, with their defaults
SECTION_OPTIONS = {"topology": None, "around": 128, "outward": None, "first_height": None}
AIRCRAFT_OPTIONS = {
    "unit": None,
    "nose": "-x",
    "up": "+z",
    "resolution": "medium",
    "cells": None,
    "whole": False,
    "ground": None,
    "attitude": 0.0,
    "wake": 0.0,
    "alpha": (0.0, 0.0),
    "sectors": None,
    "forecast": False,
}


def mesh_command(geometry: str, options: dict) -> None:
    """Mesh a section or an aircraft; an option of the other kind is refused.

    Parameters
    ----------
    geometry : str
        Section, aircraft file or surface file.
    options : dict
        Options of the command line.
    """
    aircraft = Path(geometry).suffix.lower() in (".toml", *ENDINGS)
    own, other = (AIRCRAFT_OPTIONS, SECTION_OPTIONS) if aircraft else (SECTION_OPTIONS, AIRCRAFT_OPTIONS)
    for name in other:
        if options[name] not in (None, ()):
            kinds = ("an aircraft", "a section") if aircraft else ("a section", "an aircraft")
            raise InputError(
                f"--{name.replace('_', '-')} has no effect on {kinds[0]}; it is an option of {kinds[1]}: leave it out."
            )
    given = {name: default if options[name] in (None, ()) else options[name] for name, default in own.items()}
    shared = {name: options[name] for name in ("farfield", "y_plus", "reynolds", "out", "figures")}
    if shared["farfield"] is None:
        shared["farfield"] = 10.0 if aircraft else 100.0
    (mesh_aircraft_command if aircraft else mesh_section_command)(geometry, given | shared)


def with_layers(options: dict) -> dict:
    """Complete the mesh options; layers that follow from y+ are reported.

    Parameters
    ----------
    options : dict
        Options of the command line.
    """
    from zephyrum.mesh import wall_layers

    if options["y_plus"] is None:  # the Reynolds number is then the stream's alone
        return options | {"reynolds": None, "topology": options["topology"] or "O", "outward": options["outward"] or 32}
    if options["reynolds"] is None:
        raise InputError(f"--y-plus {options['y_plus']:g} needs the Reynolds number on the chord; give --reynolds.")
    layers = wall_layers(options["reynolds"], options["y_plus"], farfield=options["farfield"])
    click.echo(f"wall layers: {layers.describe()}")
    return options | {"topology": options["topology"] or "C"}


def mesh_section_command(section: str, options: dict) -> None:
    """Mesh about a section: recipe, quality, file, figure.

    Parameters
    ----------
    section : str
        NACA name or coordinate file.
    options : dict
        Options of the command line.
    """
    from zephyrum.mesh import mesh_airfoil, quality, write_mesh

    out, figures = options.pop("out"), options.pop("figures")
    made = mesh_airfoil(section_of(section), **with_layers(options))
    click.echo(f"{made.n_cells} cells, {len(made.family())} nested levels, fingerprint {made.fingerprint}")
    recipe = {key: f"{value:.4g}" if isinstance(value, float) else value for key, value in made.recipe.items()}
    click.echo(", ".join(f"{key} {value}" for key, value in recipe.items()))
    click.echo(str(quality(made)))
    if out:
        click.echo(f"written: {write_mesh(made, out)}")
    if figures:
        from zephyrum.plotting import draw_mesh
        from zephyrum.plotting.style import new_axes, save

        figures.mkdir(parents=True, exist_ok=True)
        drawn, axes = new_axes(2, 2)
        for ax, view in zip(axes.ravel(), ("all", "near", "nose", "tail")):
            draw_mesh(made, view, ax)
        save(drawn, figures / "mesh.png")
        click.echo(f"figure: {figures / 'mesh.png'}")


def read_shape(file: Path, unit: str | None, nose: str, up: str):
    """Read an aircraft (.toml), or a surface file, which is repaired.

    Parameters
    ----------
    file : path
        File.
    unit : str or None
        Unit of a surface file.
    nose : str
        Where the nose of a surface file looks.
    up : str
        Where its top looks.
    """
    if not file.exists():
        raise InputError(
            f"{str(file)!r} does not exist; give an aircraft file (.toml) or a surface (.stl, .obj, .ply, .step, .vtu)."
        )
    if file.suffix == ".toml":
        from zephyrum.geometry import Aircraft

        return Aircraft.read(file)
    from zephyrum.geometry import import_surface

    taken = import_surface(file, unit, nose, up)
    click.echo(taken.report() + "\n")
    return taken.surface


def mesh_aircraft_command(file: str, given: dict) -> None:
    """Mesh about an aircraft or a surface: plan, quality, sector, file, pictures.

    Parameters
    ----------
    file : str
        Aircraft file or surface file.
    given : dict
        Options of the command line.
    """
    from zephyrum.mesh import mesh_aircraft, mesh_sector, plan_mesh, quality, write_mesh
    from zephyrum.mesh.wall_triangles import describe_wall_distances

    shape = read_shape(Path(file), given["unit"], given["nose"], given["up"])
    names = ("cells", "y_plus", "reynolds", "farfield", "ground", "attitude", "wake", "alpha")
    options = {name: given[name] for name in names}
    sectors, out, figures = given["sectors"], given["out"], given["figures"]
    options["half"] = False if given["whole"] or sectors else None
    try:
        options["resolution"] = float(given["resolution"])
    except ValueError:
        options["resolution"] = given["resolution"]
    if given["forecast"]:
        click.echo(f"forecast: {plan_mesh(shape, **options)}")
        return
    try:
        made = mesh_aircraft(shape, on_plan=lambda plan: click.echo(f"forecast: {plan}"), **options)
    except MeshError as cause:
        if cause.surface is None or cause.position is None:
            raise
        from zephyrum.plotting import draw_surface

        figures = figures or Path()
        figures.mkdir(parents=True, exist_ok=True)
        picture = draw_surface(cause.surface, figures / "mesh_failed.png", edges=True, marks=[cause.position])
        raise MeshError(f"{cause} The place is marked in {picture}.") from None
    click.echo(
        f"made: {made.n_cells:,} cells, {made.n_faces:,} faces, fingerprint {made.fingerprint}; layer thickness at "
        f"least half of "
        f"that asked for on {100 * made.recipe['layer_coverage']:.1f} % of the points; tries {made.recipe['tries']}"
    )
    click.echo("walls: " + ", ".join(f"{g.name} {g.stop - g.start:,} faces" for g in made.groups if g.role == "wall"))
    click.echo(describe_wall_distances(made.recipe["wall_distance"]))
    click.echo(str(quality(made)))
    if sectors:
        made = mesh_sector(made, sectors)
        sides = ", ".join(f"{g.name} {g.stop - g.start:,} faces" for g in made.groups if g.role == "periodic")
        click.echo(f"sector of {360 / sectors:.4g} deg: {made.n_cells:,} cells, {sides}")
    if out:
        click.echo(f"written: {write_mesh(made, out)}")
    if figures:
        from zephyrum.plotting import draw_volume

        click.echo(f"figures: {', '.join(str(path) for path in draw_volume(made, figures))}")
