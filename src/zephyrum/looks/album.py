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
from zephyrum.looks.moving import draw_cores, draw_paths
from zephyrum.looks.section import draw_section
from zephyrum.looks.space import draw_loading, draw_on_surface, draw_slice, draw_volume
from zephyrum.looks.stage import can_render
from zephyrum.looks.style import new_axes, save
from zephyrum.studies.aircraft import AircraftOutcome


def draw_album(outcome, folder: str | Path) -> list[Path]:
    """Save all figures of a finished study; their paths."""
    return (_AircraftAlbum if isinstance(outcome, AircraftOutcome) else _SectionAlbum)(outcome, Path(folder)).draw()


class _Album:
    """The figures of one outcome; what a kind of body adds is in the classes below."""

    def __init__(self, outcome, folder: Path):
        folder.mkdir(parents=True, exist_ok=True)
        self.outcome, self.folder, self.made = outcome, folder, []

    def keep(self, figure, name: str) -> None:
        """Save one figure."""
        self.made.append(self.folder / f"{name}.png")
        save(figure, self.made[-1])

    def draw(self) -> list[Path]:
        """All of them: the body, refinement, polar, and the middle point at every Mach number."""
        outcome = self.outcome
        self.body()
        if outcome.refinement is not None:
            figure, axes = new_axes(1, 3)
            draw_refinement(outcome.refinement, axes)
            self.keep(figure, "refinement")
        if outcome.series is not None:
            figure, axes = new_axes(2, 1, sharex=True)
            draw_time(outcome.series, axes)
            self.keep(figure, "time")
        if outcome.polar is None:
            return self.made
        figure, axes = new_axes(2, 2)
        draw_polar(outcome.polar, axes)
        self.keep(figure, "polar")
        alphas = sorted(outcome.study.sweep.alpha)  # points added about the lift maximum are in the polar only
        middle = min(alphas, key=lambda a: abs(a - 4.0))
        for mach in outcome.study.sweep.mach:
            solution = outcome.solution(mach, middle)
            tag = f"m{mach:g}_a{middle:g}"
            figure, axes = new_axes(2, 1, sharex=True)
            draw_history(solution, axes)
            self.keep(figure, f"history_{tag}")
            self.point(solution, tag)
            self.sweep(mach, alphas, middle)
        return self.made


class _AircraftAlbum(_Album):
    def body(self) -> None:
        """Surface and slices of the mesh."""
        self.made += draw_volume(self.outcome.mesh, self.folder)

    def point(self, solution, tag: str) -> None:
        """Pressures on the surface, lines along it, pressures in sections, span loading, streamlines and vortices, the Mach number in a plane."""
        for view in ("quarter", "below"):
            self.made.append(draw_on_surface(solution, self.folder / f"cp_{view}_{tag}.png", view=view))
        lines = solution.skin_lines()
        self.made.append(draw_on_surface(solution, self.folder / f"skin_lines_{tag}.png", view="above", lines=lines))
        figure, axes = new_axes(2, 1)
        draw_loading(solution, axes)
        self.keep(figure, f"loading_{tag}")
        self.made.append(draw_paths(solution, self.folder / f"streamlines_{tag}.png"))
        if can_render():
            self.made.append(draw_cores(solution, self.folder / f"vortices_{tag}.png"))
        figure, ax = new_axes()
        draw_slice(solution, "y", name="mach", ax=ax)
        self.keep(figure, f"mach_field_{tag}")

    def sweep(self, mach: float, alphas: list[float], middle: float) -> None:
        """Nothing over several points but the polar."""


class _SectionAlbum(_Album):
    def body(self) -> None:
        """Section and mesh."""
        figure, axes = new_axes(2, 1, height_ratios=(3, 2))
        draw_section(self.outcome.foil, axes)
        self.keep(figure, "section")
        figure, axes = new_axes(2, 2)
        for ax, view in zip(axes.ravel(), ("all", "near", "nose", "tail")):
            draw_mesh(self.outcome.mesh, view, ax)
        self.keep(figure, "mesh")

    def point(self, solution, tag: str) -> None:
        """Friction, layers and fields."""
        if solution.viscous:
            figure, axes = new_axes(2, 1, sharex=True, height_ratios=(3, 2))
            draw_friction(solution, axes)
            self.keep(figure, f"friction_{tag}")
            figure, axes = new_axes(1, 2)
            draw_layer(solution, axes)
            self.keep(figure, f"layer_{tag}")
        for name in ("cp", "mach", "vorticity", "eddy viscosity ratio"):
            if name in solution.fields() or (solution.viscous and name == "vorticity"):
                figure, ax = new_axes()
                draw_field(solution, name, ax=ax, streamlines=name == "mach")
                self.keep(figure, f"{name.replace(' ', '_')}_field_{tag}")

    def sweep(self, mach: float, alphas: list[float], middle: float) -> None:
        """Cp of up to three points, and the separated zone of the highest alpha if there is one."""
        last = self.outcome.solution(mach, alphas[-1])
        if last.viscous and last.separated().any():
            figure, ax = new_axes()
            draw_field(last, "mach", ax=ax, streamlines=True)
            self.keep(figure, f"separation_m{mach:g}_a{alphas[-1]:g}")
        figure, ax = new_axes()
        chosen = alphas if len(alphas) <= 4 else [alphas[0], middle, alphas[-1]]
        for k, alpha in enumerate(chosen):
            draw_cp(self.outcome.solution(mach, alpha), ax, label=f"alpha {alpha:g} deg", colour=k)
        ax.set_title(f"{self.outcome.foil.name}, M {mach:g}", fontsize="medium")
        self.keep(figure, f"cp_m{mach:g}")
