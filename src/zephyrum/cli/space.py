"""`zephyrum mesh-aircraft`: the volume mesh of an aircraft file or of a mended surface, with a forecast before."""

from pathlib import Path

import click

from zephyrum.errors import InputError, MeshError


def read_shape(file: Path, unit: str | None, nose: str, up: str):
    """An Aircraft (.toml) or a mended Surface."""
    if not file.exists():
        raise InputError(
            f"{str(file)!r} does not exist; give an aircraft file (.toml) or a surface (.stl, .obj, .ply, .step, .vtu)."
        )
    if file.suffix == ".toml":
        from zephyrum.shape import Aircraft

        return Aircraft.read(file)
    from zephyrum.shape import adopt

    taken = adopt(file, unit, nose, up)
    click.echo(taken.report() + "\n")
    return taken.surface


def mesh_aircraft_command(
    file,
    unit,
    nose,
    up,
    fineness,
    cells,
    whole,
    y_plus,
    reynolds,
    farfield,
    ground,
    attitude,
    wake,
    alpha,
    sectors,
    forecast,
    out,
    figures,
) -> None:
    """What the command does."""
    from zephyrum.mesh import mesh_aircraft, mesh_sector, plan_mesh, quality, write_mesh

    shape = read_shape(file, unit, nose, up)
    try:
        level = float(fineness)
    except ValueError:
        level = fineness
    options = {"fineness": level, "cells": cells, "half": False if whole or sectors else None, "y_plus": y_plus, "reynolds": reynolds, "farfield": farfield,
               "ground": ground, "attitude": attitude, "wake": wake, "alpha": alpha}  # fmt: skip
    if forecast:
        click.echo(f"forecast: {plan_mesh(shape, **options)}")
        return
    try:
        made = mesh_aircraft(shape, on_plan=lambda plan: click.echo(f"forecast: {plan}"), **options)
    except MeshError as cause:
        if cause.surface is None or cause.place is None:
            raise
        from zephyrum.looks import draw_surface

        figures = figures or Path()
        figures.mkdir(parents=True, exist_ok=True)
        picture = draw_surface(cause.surface, figures / "mesh_failed.png", edges=True, marks=[cause.place])
        raise MeshError(f"{cause} The place is marked in {picture}.") from None
    click.echo(f"made: {made.n_cells:,} cells, {made.n_faces:,} faces, fingerprint {made.fingerprint}; layer thickness at least half of "
               f"that asked for on {100 * made.recipe['layer_coverage']:.1f} % of the points; tries {made.recipe['tries']}")  # fmt: skip
    click.echo("walls: " + ", ".join(f"{g.name} {g.stop - g.start:,} faces" for g in made.groups if g.role == "wall"))
    click.echo(str(quality(made)))
    if sectors:
        made = mesh_sector(made, sectors)
        sides = ", ".join(f"{g.name} {g.stop - g.start:,} faces" for g in made.groups if g.role == "periodic")
        click.echo(f"sector of {360 / sectors:.4g} deg: {made.n_cells:,} cells, {sides}")
    if out:
        click.echo(f"written: {write_mesh(made, out)}")
    if figures:
        from zephyrum.looks import draw_volume

        click.echo(f"figures: {', '.join(str(path) for path in draw_volume(made, figures))}")
