"""The command `zephyrum`. It parses, calls and prints; the exit code says how it went.

0: done, everything converged. 1: done, but something did not converge. 2: the input can't be used (one sentence says
why). 3: the computation broke off (run it again to resume). 4: something converged to values that no such flow has.
"""

import logging
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

import click

from zephyrum._core.atomic_files import write_text
from zephyrum.cli.arguments import section_of
from zephyrum.errors import FlowError, InputError, ZephyrumError
from zephyrum.flow.outcome import Outcome


class _Sentences(click.Group):
    """Every deliberate error ends as one sentence on stderr."""

    def invoke(self, ctx):
        try:
            return super().invoke(ctx)
        except FlowError as cause:
            click.echo(f"zephyrum: {cause}", err=True)
            sys.exit(3)
        except (KeyboardInterrupt, click.Abort):
            click.echo("zephyrum: paused: nothing is lost; run the same command to go on", err=True)
            sys.exit(3)
        except BrokenPipeError:  # the reader of the output has closed it
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            sys.exit(0)
        except ZephyrumError as cause:
            click.echo(f"zephyrum: {cause}", err=True)
            sys.exit(2)
        except OSError as cause:
            click.echo(
                f"zephyrum: {cause.filename}: {(cause.strerror or str(cause)).lower()}; choose another place.", err=True
            )
            sys.exit(2)


@click.group(cls=_Sentences, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="zephyrum")
def main() -> None:
    """Aerodynamics of airfoils and aircraft: shape, mesh, flow, polars, and the evidence that they can be trusted."""
    logging.basicConfig(format="zephyrum: %(message)s", level=logging.WARNING)


@main.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Folder for the results [default: name of the study].")
@click.option("--no-figures", is_flag=True, help="Only tables.")
def run(study: Path, out: Path | None, no_figures: bool) -> None:
    """Run (or resume) the study file STUDY."""
    from zephyrum.cli.run_command import run_command

    sys.exit(run_command(study, out or Path(f"{study.stem}-results"), not no_figures))


@main.command()
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    default=Path("skerry-demo"),
    show_default=True,
    help="Folder for the results.",
)
def demo(out: Path) -> None:
    """Compute the Skerry mailplane: lattice and drag build-up in seconds, its section through stall with refinement
    study, then the whole aircraft, inviscid; all figures.
    """
    from zephyrum.cli.demo_command import demo_command
    from zephyrum.cli.tables import table

    demo_command(out, table)


@main.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--figures", is_flag=True, help="Draw the figures again.")
def show(folder: Path, figures: bool) -> None:
    """Show the study in FOLDER, as far as it is computed: tables, and where the figures are."""
    from zephyrum.cli.output import print_outcome
    from zephyrum.cli.run_command import exit_code
    from zephyrum.studies import open_study

    study = open_study(folder)
    if not study.results:
        raise InputError(
            f"{str(folder)!r} holds no finished result yet; run it with: zephyrum run {folder / 'study.toml'} --out "
            f"{folder}"
        )
    print_outcome(study)
    if figures:
        from zephyrum.plotting import draw_study_figures

        draw_study_figures(study, folder / "figures")
    for path in sorted((folder / "figures").glob("*.png")):
        click.echo(f"  {path}")
    sys.exit(exit_code(study))


@main.command()
@click.argument("results", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True))
@click.option("--csv", type=click.Path(path_type=Path), help="File for the table.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw it: .png, .svg or .pdf.")
def compare(results: tuple[Path, ...], csv: Path | None, figure: Path | None) -> None:
    """Compare polars of RESULTS: folders of studies, and CSV files of reference data that carry their area, chord,
    moment point, Mach and Reynolds number.
    """
    from zephyrum.cli.compare_command import compare_command
    from zephyrum.cli.output import print_table

    if figure:
        _picture(figure)
    compare_command(results, csv, figure, print_table)


@main.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="File to write [default: report.html in the folder].")
def report(folder: Path, out: Path | None) -> None:
    """Write the report of the finished study in FOLDER: one HTML file with everything in it."""
    from zephyrum.report import write_report
    from zephyrum.studies import open_study

    click.echo(f"written: {write_report(open_study(folder), out)}")


@main.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "--of",
    "what",
    type=click.Choice(["turn", "air"]),
    default="turn",
    show_default=True,
    help="The body turning with its pressures, or air running past it.",
)
@click.option("--mach", type=float, help="Mach number of the point [default: the first].")
@click.option("--alpha", type=float, help="Alpha of the point [default: that nearest to 4 deg].")
@click.option(
    "--out", type=click.Path(path_type=Path), help="File to write (.gif) [default: in figures/ of the folder]."
)
def animate(folder: Path, what: str, mach: float | None, alpha: float | None, out: Path | None) -> None:
    """Write an animation (GIF) of one point of the finished aircraft study in FOLDER."""
    from zephyrum.plotting import animate_streamlines, animate_turn
    from zephyrum.studies import open_study

    study = open_study(folder)
    if study.mesh.planar or study.polar is None:
        raise InputError(f"{str(folder)!r} is no sweep of an aircraft; animations are of flows in space.")
    own = study.spec.sweep
    mach = own.mach[0] if mach is None else mach
    alpha = min(own.alpha, key=lambda a: abs(a - 4.0)) if alpha is None else alpha
    if mach not in own.mach or alpha not in own.alpha:
        raise InputError(
            f"the study has no point at Mach {mach:g}, alpha {alpha:g}; it has Mach {own.mach} and alpha {own.alpha}."
        )
    target = out or folder / "figures" / f"{what}_m{mach:g}_a{alpha:g}.gif"
    click.echo(
        f"written: {(animate_turn if what == 'turn' else animate_streamlines)(study.solution(mach, alpha), target)}"
    )


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--title", default="my study", show_default=True)
@click.option("--aircraft", help="Aircraft file (.toml) or surface that the study is of, instead of a section.")
def new(file: Path, title: str, aircraft: str | None) -> None:
    """Write a commented study FILE to start from."""
    from zephyrum.studies.spec import template

    if file.suffix != ".toml":
        raise InputError(f"study file {file.name!r} should end in .toml; for example {file.stem}.toml.")
    if file.exists():
        raise InputError(f"{str(file)!r} exists already; choose another name or remove it.")
    names = {"file": file.name, "title": title.replace('"', "'"), "aircraft": aircraft}
    write_text(file, template("section" if aircraft is None else "aircraft").format(**names))
    missing = aircraft is not None and not (file.parent / aircraft).is_file()
    click.echo(
        f"{file} written; run it with: zephyrum run "
        f"{file}{f' (when {aircraft!r} is there: it is not yet)' if missing else ''}"
    )


_section = click.argument("section")
_mesh_options = (
    click.option("--topology", help="O or C [default: O, with --y-plus C]."),
    click.option("--around", default=128, show_default=True, type=int, help="Cells on the surface."),
    click.option("--outward", type=int, help="Cells from wall to farfield [default: 32, with --y-plus by growth 1.2]."),
    click.option(
        "--farfield", default=100.0, show_default=True, type=float, help="Distance of the outer boundary, chords."
    ),
    click.option("--first-height", type=float, help="Height of the wall cell, chords."),
    click.option("--y-plus", type=float, help="The same in wall units; needs --reynolds."),
    click.option("--reynolds", type=float, help="Reynolds number on the chord."),
)


def mesh_options(command: Callable):
    """Add the options of a section mesh to a command.

    Parameters
    ----------
    command : callable
        Function of the command.
    """
    for option in reversed(_mesh_options):
        command = option(command)
    return command


@main.command()
@_section
@click.option("--tail", default="closed", show_default=True, help="closed or blunt (NACA).")
@click.option("--points", type=int, help="Resample to exactly so many points.")
@click.option("--close", is_flag=True, help="Close the tail, chord kept.")
@click.option("--blunt", type=float, help="Open the tail to so many chords, chord kept.")
@click.option(
    "--flap", nargs=2, type=float, metavar="HINGE ANGLE", help="Plain flap: hinge in chords, angle in degrees."
)
@click.option("--flip", is_flag=True, help="Turn upside down.")
@click.option("--write", type=click.Path(path_type=Path), help="Write the coordinates.")
@click.option("--cad", type=click.Path(path_type=Path), help="Write columns x, y, z for a CAD program.")
@click.option("--chord", default="1 m", show_default=True, help="Of --cad.")
@click.option("--twist", default=0.0, show_default=True, help="Of --cad: nose-up about the nose, degrees.")
@click.option("--position", nargs=3, type=float, default=(0.0, 0.0, 0.0), help="Of --cad: x, y, z of the nose, metres.")
@click.option("--unit", default="m", show_default=True, help="Of the file of --cad: m, mm, in.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw the section.")
def section(section: str, tail: str, write: Path | None, figure: Path | None, **changes) -> None:
    """Read, measure and change SECTION: a coordinate file, or for example naca2412."""
    from zephyrum._core.units import quantity
    from zephyrum.geometry import shape_warnings, space_curve, write_space_curve

    foil = section_of(section, tail)
    if changes["flip"]:
        foil = foil.flipped()
    if changes["close"]:
        foil = foil.closed()
    if changes["blunt"] is not None:
        foil = foil.blunted(changes["blunt"])
    if changes["flap"]:
        foil = foil.with_flap(*changes["flap"])
    if changes["points"] is not None:
        foil = foil.resampled(changes["points"])
    click.echo(foil.name)
    for note in foil.notes:
        click.echo(f"  note: {note}")
    click.echo(str(foil.measures))
    for warning in shape_warnings(foil):
        click.echo(f"  warning: {warning}")
    if write:
        click.echo(f"written: {foil.write(write)}")
    if changes["cad"]:
        chord = quantity("chord", changes["chord"], "m")
        points = space_curve(foil, chord, changes["twist"], changes["position"])
        click.echo(f"written: {write_space_curve(points, changes['cad'], changes['unit'])}")
    if figure:
        from zephyrum.plotting import draw_section
        from zephyrum.plotting.style import save

        save(draw_section(foil)[0].figure, _picture(figure))
        click.echo(f"figure: {figure}")


@main.command("draw-section")
@_section
@click.option("--out", required=True, type=click.Path(path_type=Path), help='File that the key "w" writes.')
@click.option("--points", default=15, show_default=True, help="Control points, if SECTION has none yet.")
@click.option("--alpha", default=4.0, show_default=True, help="Angle of the pressures, degrees.")
@click.option("--reynolds", default=3e6, show_default=True, help="Of the viscous polar.")
def draw_section_command(section: str, out: Path, points: int, alpha: float, reynolds: float) -> None:
    """Draw a section by dragging control points in a window, starting from SECTION: measures and pressures follow."""
    from zephyrum.geometry import SplineAirfoil
    from zephyrum.plotting import edit_section

    path = Path(section)
    drawn = path.is_file() and "# control point" in path.read_text(encoding="utf-8", errors="replace")
    start = SplineAirfoil.read(path) if drawn else SplineAirfoil.fit(section_of(section), points)
    made = edit_section(start, out, alpha=alpha, reynolds=reynolds)
    click.echo(str(made.airfoil.measures))
    for warning in made.shape_warnings:
        click.echo(f"  warning: {warning}")


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--set", "sets", multiple=True, metavar="PATH=VALUE", help="Change a number of an aircraft by its dotted path."
)
@click.option("--unit", help="Unit of a surface file: m, mm, cm, in, ft.")
@click.option("--nose", default="-x", show_default=True, help="Where the nose of a surface file points.")
@click.option("--up", default="+z", show_default=True, help="Where the top of a surface file points.")
@click.option("--span", type=float, help="Known span in metres, to be compared.")
@click.option("--labels", help="Labels of a surface file by: file, shell, edges.")
@click.option("--simplify", type=float, help="Merge triangles within so many metres.")
@click.option("--flat-holes", is_flag=True, help="Fill large holes flat.")
@click.option("--half", is_flag=True, help="Write and draw the starboard half only.")
@click.option("--remesh", type=int, metavar="TRIANGLES", help="Even triangles for a flow mesh, about so many.")
@click.option("--density", default=1.0, show_default=True, help="Of triangles: 2 halves their distance from the shape.")
@click.option(
    "--write", multiple=True, type=click.Path(path_type=Path), help="Write the surface: .stl, .obj, .ply, .vtu, .step."
)
@click.option("--figures", type=click.Path(path_type=Path), help="Folder for the drawings.")
@click.option("--alpha", default=0.0, show_default=True, help="Angle of the arrows in the drawings, degrees.")
def shape(file: Path, **options) -> None:
    """Measure, repair, draw and write FILE: an aircraft (.toml) or a surface (.stl, .obj, .ply, .step, .vtu)."""
    from zephyrum.cli.geometry_commands import ShapeOptions, shape_command
    from zephyrum.cli.tables import table

    shape_command(file, ShapeOptions(**options), table)


@main.command("section-polar")
@_section
@click.option("--reynolds", required=True, help="Reynolds number on the chord, or several: 1e6,3e6.")
@click.option("--mach", default="0", show_default=True, help="Mach number of the stream up to 0.5, or several.")
@click.option("--alpha", default="-4:16:1", show_default=True, help="Angles, degrees: first:last:step, or one.")
@click.option("--lift", help="In place of --alpha, lift coefficients: first:last:step, or one.")
@click.option("--critical", default=9.0, show_default=True, help="Exponent N of waves at transition.")
@click.option("--turbulence", type=float, help="Turbulence level in percent, in place of --critical.")
@click.option("--trip", nargs=2, type=float, default=(1.0, 1.0), metavar="UPPER LOWER", help="Trips, in chords.")
@click.option("--flap", nargs=2, type=float, metavar="HINGE ANGLE", help="Plain flap: chords, degrees.")
@click.option("--element", "elements", multiple=True, metavar="NAME=FILE", help="One more element, at its place.")
@click.option("--unit", default="m", show_default=True, help="Unit of the coordinate files with --element.")
@click.option("--csv", type=click.Path(path_type=Path), help="Folder for the tables.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw it: .png, .svg or .pdf.")
def section_polar(section: str, **options) -> None:
    """Polar of SECTION by panels with boundary layers: transition, separation, largest lift, in seconds."""
    from zephyrum.cli.quick_commands import SectionPolarRequest, section_polar_command
    from zephyrum.cli.tables import table

    if options["figure"]:
        _picture(options["figure"])
    section_polar_command(section, SectionPolarRequest(**options), table)


def _stream(command: Callable):
    """Options of an undisturbed stream past an aircraft file."""
    for option in reversed(
        (
            click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False)),
            click.option("--mach", type=float, help="Mach number of the stream."),
            click.option("--speed", help='Its speed, in m/s or with a unit: "120 kt".'),
            click.option("--altitude", help='In the standard atmosphere, in m or with a unit: "5000 ft" [default: 0].'),
            click.option("--set", "sets", multiple=True, metavar="PATH=VALUE", help="Change a number of the aircraft."),
            click.option("--figure", type=click.Path(path_type=Path), help="Draw it: .png, .svg or .pdf."),
        )
    ):
        command = option(command)
    return command


@main.command()
@_stream
@click.option("--alpha", default=4.0, show_default=True, help="Angle of attack, degrees.")
@click.option("--beta", default=0.0, show_default=True, help="Angle of sideslip, degrees.")
@click.option("--part", "parts", multiple=True, help="Only this part or group of parts; may be repeated.")
@click.option("--ground", type=float, help="Height of the moment point over a level ground, metres.")
@click.option("--wake", default="body", show_default=True, help='Wakes along the "body", the "wind", or "relaxed".')
@click.option("--bodies", is_flag=True, help="Take bodies as lines of doublets (slender-body theory).")
@click.option("--rows", default=12, show_default=True, help="Vortices along the chord.")
@click.option("--strips", default=24, show_default=True, help="Strips from root to tip of the wing.")
@click.option("--csv", type=click.Path(path_type=Path), help="Folder for the tables.")
def lattice(file: Path, mach: float | None, speed: str | None, altitude: str | None, **options) -> None:
    """Lift, induced drag, derivatives and span loading of an aircraft FILE (.toml) by a vortex lattice, in a second."""
    from zephyrum.cli.quick_commands import LatticeRequest, StreamOptions, lattice_command
    from zephyrum.cli.tables import table

    if options["figure"]:
        _picture(options["figure"])
    lattice_command(file, LatticeRequest(stream=StreamOptions(mach, speed, altitude), **options), table)


@main.command()
@_stream
@click.option("--law", default="van_driest", show_default=True, help="Law of turbulent friction.")
@click.option("--roughness", default="0 m", show_default=True, help='Equivalent sand grains: "7 um" is smooth paint.')
@click.option("--laminar", multiple=True, metavar="PART=FRACTION", help="Laminar fraction of the length.")
@click.option("--interference", multiple=True, metavar="PART=FACTOR", help="Interference factor.")
@click.option("--sort", default="drag_area_m2", show_default=True, help="Column to sort by.")
@click.option("--csv", type=click.Path(path_type=Path), help="File for the table.")
def buildup(file: Path, mach: float | None, speed: str | None, altitude: str | None, **options) -> None:
    """Zero-lift drag of an aircraft FILE (.toml) part by part, with the spread between published laws."""
    from zephyrum.cli.quick_commands import BuildupRequest, StreamOptions, buildup_command
    from zephyrum.cli.tables import table

    if options["figure"]:
        _picture(options["figure"])
    buildup_command(file, BuildupRequest(stream=StreamOptions(mach, speed, altitude), **options), table)


def _picture(path: Path) -> Path:
    if path.suffix.lower() not in (".png", ".svg", ".pdf"):
        raise InputError(f"figure {path.name!r} has no known ending; use .png, .svg or .pdf.")
    return path


@main.command()
@click.argument("geometry")
@click.option("--farfield", type=float, help="Distance of the outer boundary [default: 100 chords, aircraft 10 spans].")
@click.option("--y-plus", type=float, help="Height of the wall cell in wall units; without: inviscid layers.")
@click.option("--reynolds", type=float, help="Reynolds number on the (reference) chord, for --y-plus.")
@click.option("--topology", help="Section: O or C [default: O, with --y-plus C].")
@click.option("--around", type=int, help="Section: cells on the surface [default: 128].")
@click.option(
    "--outward", type=int, help="Section: cells from wall to farfield [default: 32, with --y-plus by growth 1.2]."
)
@click.option("--first-height", type=float, help="Section: height of the wall cell, chords.")
@click.option("--unit", help="Surface file: its unit, m, mm, cm, in or ft.")
@click.option("--nose", help="Surface file: where the nose points [default: -x].")
@click.option("--up", help="Surface file: where the top points [default: +z].")
@click.option("--resolution", help="Aircraft: coarse, medium, fine or a factor on all sizes [default: medium].")
@click.option("--cells", type=int, help="Aircraft: about how many cells, instead of a resolution.")
@click.option("--whole", is_flag=True, default=None, help="Aircraft: both halves of a symmetric one.")
@click.option("--ground", type=float, help="Aircraft: height z of a level ground in metres, under it as described.")
@click.option("--attitude", type=float, help="Aircraft: angle nose-up over the ground, degrees: the alpha of the flow.")
@click.option("--wake", type=float, help="Aircraft: length of the finer cells behind it, spans.")
@click.option("--alpha", nargs=2, type=float, help="Aircraft: lowest and highest angle that the wake is to cover.")
@click.option("--sectors", type=int, help="Aircraft: one of so many equal sectors about the x axis, periodic.")
@click.option("--forecast", is_flag=True, default=None, help="Aircraft: print the plan and make nothing.")
@click.option("--out", type=click.Path(path_type=Path), help="Write the mesh (.vtu or .cgns).")
@click.option("--figures", type=click.Path(path_type=Path), help="Folder for pictures of the mesh.")
def mesh(geometry: str, **options) -> None:
    """Mesh the space about GEOMETRY and report the quality.

    GEOMETRY is a section (a coordinate file, or for example naca2412), an aircraft (.toml) or a surface (.stl, .obj,
    .ply, .step, .vtu).
    """
    from zephyrum.cli.mesh_commands import mesh_command

    mesh_command(geometry, options)


@main.command("compile")
@click.option("--polar", "kinds", flag_value="polar", help="Only the kernels of section polars by panels.")
@click.option("--section", "kinds", flag_value="section", help="Only the kernels of sections.")
@click.option("--aircraft", "kinds", flag_value="aircraft", help="Only the kernels of aircraft.")
def compile_command(kinds: str | None) -> None:
    """Compile all kernels now, on two cores; otherwise the first run compiles those that it needs."""
    from zephyrum.cli.output import compilation_progress
    from zephyrum.studies.compilation import KINDS, MODELS, compile_kernels, expected_kernels

    chosen = (kinds,) if kinds else KINDS
    with compilation_progress(expected_kernels(chosen, len(MODELS))):
        begin = time.monotonic()
        count = compile_kernels(chosen)
    click.echo(f"{count} kernels compiled in {time.monotonic() - begin:.0f} s" if count else "all kernels are compiled")


@main.command()
@_section
@mesh_options
@click.option("--mach", required=True, type=float)
@click.option("--alpha", default=0.0, show_default=True, type=float, help="Degrees.")
@click.option("--model", default="euler", show_default=True, help="euler, laminar, sa or sst.")
@click.option("--levels", default=3, show_default=True, type=int, help="Nested meshes, 3 or more.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw the refinement chart.")
def refine(section: str, mach: float, alpha: float, model: str, levels: int, figure: Path | None, **options) -> None:
    """Solve SECTION on nested meshes: observed order, extrapolated values, error bars."""
    from zephyrum.cli.output import Progress, print_refinement
    from zephyrum.conditions import Freestream
    from zephyrum.studies import refine as study

    air = Freestream(mach=mach, alpha=alpha, reynolds=options["reynolds"])
    from zephyrum.cli.mesh_commands import with_layers

    options = with_layers(options)
    with Progress(levels, "refinement", 8.0, ("section",), model) as progress:
        made = study(section_of(section), air, levels, model, observer=progress, **options)
    print_refinement(made)
    if figure:
        from zephyrum.plotting import draw_refinement
        from zephyrum.plotting.style import save

        save(draw_refinement(made)[0].figure, _picture(figure))
        click.echo(f"figure: {figure}")
    sys.exit(0 if (made.table["outcome"] == Outcome.CONVERGED).all() else 1)


if __name__ == "__main__":
    main()
