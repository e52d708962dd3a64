"""All figures of a finished study, drawn and saved in one call, without a display."""

from pathlib import Path

from zephyrum.looks.charts import (
    draw_cp,
    draw_friction,
    draw_history,
    draw_layer,
    draw_polar,
    draw_refinement,
    draw_time,
)
from zephyrum.looks.fields import draw_field, draw_mesh
from zephyrum.looks.section import draw_section
from zephyrum.looks.space import draw_loading, draw_on_surface, draw_slice, draw_volume
from zephyrum.looks.style import new_axes, save
from zephyrum.studies.aircraft import AircraftOutcome


def draw_album(outcome, folder: str | Path) -> list[Path]:
    """Save all figures of a finished study; their paths."""
    return _of_aircraft(outcome, folder) if isinstance(outcome, AircraftOutcome) else _of_section(outcome, folder)


def _of_aircraft(outcome, folder: str | Path) -> list[Path]:
    """Save surface and slices of the mesh, polar, refinement; at every Mach number of the middle point history, pressures on the surface and in

    sections, span loading, and the Mach number in two planes.
    """
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []

    def keep(figure, name: str) -> None:
        made.append(folder / f"{name}.png")
        save(figure, made[-1])

    made += draw_volume(outcome.mesh, folder)
    if outcome.refinement is not None:
        figure, axes = new_axes(1, 3)
        draw_refinement(outcome.refinement, axes)
        keep(figure, "refinement")
    if outcome.polar is None:
        return made
    figure, axes = new_axes(2, 2)
    draw_polar(outcome.polar, axes)
    keep(figure, "polar")
    middle = min(outcome.study.sweep.alpha, key=lambda a: abs(a - 4.0))
    for mach in outcome.study.sweep.mach:
        solution = outcome.solution(mach, middle)
        tag = f"m{mach:g}_a{middle:g}"
        figure, axes = new_axes(2, 1, sharex=True)
        draw_history(solution, axes)
        keep(figure, f"history_{tag}")
        for view in ("quarter", "below"):
            made.append(draw_on_surface(solution, folder / f"cp_{view}_{tag}.png", view=view))
        figure, axes = new_axes(2, 1)
        draw_loading(solution, axes)
        keep(figure, f"loading_{tag}")
        figure, ax = new_axes()
        draw_slice(solution, "y", name="mach", ax=ax)
        keep(figure, f"mach_field_{tag}")
    return made


def _of_section(outcome, folder: str | Path) -> list[Path]:
    """Save section, mesh, polar, refinement, and at every Mach number history, Cp, layers and fields of the middle point.

    Of a viscous sweep also the separated zone of the highest alpha, if there is one.
    """
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []

    def keep(figure, name: str) -> None:
        path = folder / f"{name}.png"
        save(figure, path)
        made.append(path)

    figure, axes = new_axes(2, 1, height_ratios=(3, 2))
    draw_section(outcome.foil, axes)
    keep(figure, "section")
    figure, axes = new_axes(2, 2)
    for ax, view in zip(axes.ravel(), ("all", "near", "nose", "tail")):
        draw_mesh(outcome.mesh, view, ax)
    keep(figure, "mesh")
    if outcome.refinement is not None:
        figure, axes = new_axes(1, 3)
        draw_refinement(outcome.refinement, axes)
        keep(figure, "refinement")
    if outcome.series is not None:
        figure, axes = new_axes(2, 1, sharex=True)
        draw_time(outcome.series, axes)
        keep(figure, "time")
    if outcome.polar is None:
        return made
    figure, axes = new_axes(2, 2)
    draw_polar(outcome.polar, axes)
    keep(figure, "polar")
    alphas = sorted(outcome.study.sweep.alpha)  # points added about the lift maximum are in the polar only
    middle = min(alphas, key=lambda a: abs(a - 4.0))
    for mach in outcome.study.sweep.mach:
        solution = outcome.solution(mach, middle)
        tag = f"m{mach:g}_a{middle:g}"
        figure, axes = new_axes(2, 1, sharex=True)
        draw_history(solution, axes)
        keep(figure, f"history_{tag}")
        if solution.viscous:
            figure, axes = new_axes(2, 1, sharex=True, height_ratios=(3, 2))
            draw_friction(solution, axes)
            keep(figure, f"friction_{tag}")
            figure, axes = new_axes(1, 2)
            draw_layer(solution, axes)
            keep(figure, f"layer_{tag}")
        for name in ("cp", "mach", "vorticity", "eddy viscosity ratio"):
            if name in solution.fields() or (solution.viscous and name == "vorticity"):
                figure, ax = new_axes()
                draw_field(solution, name, ax=ax, streamlines=name == "mach")
                keep(figure, f"{name.replace(' ', '_')}_field_{tag}")
        last = outcome.solution(mach, alphas[-1])
        if last.viscous and last.separated().any():
            figure, ax = new_axes()
            draw_field(last, "mach", ax=ax, streamlines=True)
            keep(figure, f"separation_m{mach:g}_a{alphas[-1]:g}")
        figure, ax = new_axes()
        chosen = alphas if len(alphas) <= 4 else [alphas[0], middle, alphas[-1]]
        for k, alpha in enumerate(chosen):
            draw_cp(outcome.solution(mach, alpha), ax, label=f"alpha {alpha:g} deg", colour=k)
        ax.set_title(f"{outcome.foil.name}, M {mach:g}", fontsize="medium")
        keep(figure, f"cp_m{mach:g}")
    return made
