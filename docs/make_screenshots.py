"""Refresh docs/screenshots from the demo data: `make screenshots` (runs the demo if it was not run)."""

import shutil
import subprocess
import sys
from pathlib import Path

import zephyrum as zy
from zephyrum.looks import draw_friction
from zephyrum.looks.style import new_axes, save

HERE = Path(__file__).parent
TARGET = HERE / "screenshots"
DEMO = HERE.parent / "skerry-demo"
FIGURES = (
    "section",
    "mesh",
    "polar",
    "refinement",
    "history_m0.6_a4",
    "cp_m0.6",
    "cp_field_m0.2_a4",
    "mach_field_m0.6_a4",
)


def terminal(words: list[str], name: str) -> None:
    """Run a command and draw what it prints."""
    text = subprocess.run(
        [sys.executable, "-m", "zephyrum.cli.main", *words], capture_output=True, text=True, check=False
    ).stdout
    lines = [f"$ zephyrum {' '.join(words)}", *text.rstrip().splitlines()][:52]
    figure, ax = new_axes()
    figure.set_figheight(max(2.4, 0.4 + 0.165 * len(lines)))
    ax.set_axis_off()
    ax.text(
        0.0,
        1.0,
        "\n".join(line[:132] for line in lines),
        family="monospace",
        fontsize=9,
        va="top",
        transform=ax.transAxes,
    )
    save(figure, TARGET / f"{name}.png")


def turbulent() -> zy.Solution:
    """The Skerry section at Mach 0.2 with friction."""
    foil = zy.Airfoil.read(DEMO / "section.dat")
    layers = zy.wall_layers(reynolds=6.86e6, y_plus=1.0, growth=1.25, farfield=50.0)
    mesh = zy.mesh_airfoil(foil, around=160, outward=layers.count, farfield=50.0, first_height=layers.first_height)
    return zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=6.86e6, alpha=10.0), model="sa")


def main() -> None:
    """Draw everything."""
    TARGET.mkdir(exist_ok=True)
    if not (DEMO / "figures").exists():
        subprocess.run([sys.executable, "-m", "zephyrum.cli.main", "demo", "--out", str(DEMO)], check=False)
    for name in FIGURES:
        shutil.copyfile(DEMO / "figures" / f"{name}.png", TARGET / f"{name}.png")
    draw_friction(turbulent())[0].figure.savefig(TARGET / "friction.png")
    terminal(["show", "skerry-demo"], "show")
    terminal(["shape", "skerry-demo/section.dat", "--blunt", "0.005"], "shape")
    terminal(["mesh", "naca2412", "--topology", "C"], "mesh_command")
    terminal(
        ["refine", "naca0012", "--mach", "0.3", "--alpha", "2", "--around", "256", "--outward", "64"], "refine_command"
    )


if __name__ == "__main__":
    main()
