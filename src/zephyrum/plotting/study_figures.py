"""All figures of a study, drawn and saved in one call, without a display."""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from zephyrum.plotting.animation import draw_streamlines_3d, draw_vortex_cores
from zephyrum.plotting.charts import (
    draw_cp,
    draw_friction,
    draw_history,
    draw_layer,
    draw_polar,
    draw_refinement,
    draw_time,
)
from zephyrum.plotting.fields_2d import draw_field, draw_mesh, draw_mode
from zephyrum.plotting.fields_3d import draw_loading, draw_on_surface, draw_slice, draw_volume
from zephyrum.plotting.methods import draw_method_pressures, draw_methods
from zephyrum.plotting.quick_methods import draw_buildup, draw_lattice
from zephyrum.plotting.rendering import can_render
from zephyrum.plotting.section_drawing import draw_section
from zephyrum.plotting.style import new_axes, save

if TYPE_CHECKING:
    from zephyrum.studies.study import Study


def draw_study_figures(study: "Study", folder: str | Path) -> list[Path]:
    """Save the figures of the body and of all jobs of a study.

    Parameters
    ----------
    study : Study
        The study.
    folder : path
        Folder of the figures.

    Examples
    --------
    >>> import zephyrum as zy
    >>> draw_study_figures(zy.open_study("results"), "figures")  # doctest: +SKIP
    """
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    for member in study.members.values():
        draw_study_figures(member, member.folder / "figures")
    made = _body(study, folder)
    for figure in study.figures():
        path = folder / f"{figure.name}.png"
        if KINDS[figure.kind](path, *figure.data, **figure.options) is not None:
            made.append(path)
    return made


def _body(study, folder: Path) -> list[Path]:
    """Section and mesh, or slices of a mesh in space."""
    if study.spec.kind == "aircraft":
        return list(draw_volume(study.mesh, folder)) if study.spec.field_model else []
    figure, axes = new_axes(2, 1, height_ratios=(3, 2))
    draw_section(study.source.shape, axes)
    save(figure, folder / "section.png")
    if not study.spec.field_model:
        return [folder / "section.png"]
    figure, axes = new_axes(2, 2)
    for ax, view in zip(axes.ravel(), ("all", "near", "nose", "tail")):
        draw_mesh(study.mesh, view, ax)
    save(figure, folder / "mesh.png")
    return [folder / "section.png", folder / "mesh.png"]


def _on_axes(draw: Callable, rows: int = 1, columns: int = 1, **layout) -> Callable:
    """A function that draws on new axes and saves the figure."""

    def drawn(path: Path, *data, **options) -> Path:
        figure, axes = new_axes(rows, columns, **layout)
        draw(*data, **{"ax" if draw in (draw_field, draw_mode) else "axes": axes}, **options)
        save(figure, path)
        return path

    return drawn


def _cp_curves(path: Path, solutions: list, labels: list[str] | None = None, title: str = "") -> Path:
    """Cp of several solutions in one chart."""
    figure, ax = new_axes()
    for k, solution in enumerate(solutions):
        draw_cp(solution, ax, label=f"alpha {solution.air.alpha:g} deg" if labels is None else labels[k], colour=k)
    ax.set_title(title, fontsize="medium")
    save(figure, path)
    return path


def _skin_lines(path: Path, solution, view: str) -> Path:
    return draw_on_surface(solution, path, view=view, lines=solution.skin_friction_lines())


def _surface(path: Path, solution, **options) -> Path:
    return draw_on_surface(solution, path, **options)


def _streamlines(path: Path, solution) -> Path:
    return draw_streamlines_3d(solution, path)


def _vortices(path: Path, solution) -> Path | None:
    return draw_vortex_cores(solution, path) if can_render() else None


def _methods(path: Path, comparison, title: str = "") -> Path:
    save(draw_methods(comparison, title=title), path)
    return path


def _method_pressures(path: Path, pressures, solutions: dict) -> Path:
    save(draw_method_pressures(pressures, solutions), path)
    return path


def _lattice(path: Path, make_model: Callable, air) -> Path:
    save(draw_lattice(make_model().solve(air)), path)
    return path


def _buildup(path: Path, make: Callable, mach: float) -> Path:
    save(draw_buildup(make(mach)), path)
    return path


def _slice(path: Path, solution, axis: str, name: str) -> Path:
    figure, ax = new_axes()
    draw_slice(solution, axis, name=name, ax=ax)
    save(figure, path)
    return path


KINDS: dict[str, Callable] = {
    "polar": _on_axes(draw_polar, 2, 2),
    "refinement": _on_axes(draw_refinement, 1, 3),
    "mode": _on_axes(draw_mode),
    "time": _on_axes(draw_time, 2, 1, sharex=True),
    "history": _on_axes(draw_history, 2, 1, sharex=True),
    "friction": _on_axes(draw_friction, 2, 1, sharex=True, height_ratios=(3, 2)),
    "layer": _on_axes(draw_layer, 1, 2),
    "loading": _on_axes(draw_loading, 2, 1),
    "field": _on_axes(draw_field),
    "cp curves": _cp_curves,
    "surface": _surface,
    "skin lines": _skin_lines,
    "streamlines": _streamlines,
    "vortices": _vortices,
    "slice": _slice,
    "methods": _methods,
    "method pressures": _method_pressures,
    "lattice": _lattice,
    "buildup": _buildup,
}  # what a `Figure` of a job may ask for
