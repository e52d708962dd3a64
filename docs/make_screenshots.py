"""Refresh docs/screenshots from the demo data: `make screenshots` (runs the demo if it was not run)."""

import runpy
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import zephyrum as zy
from zephyrum.plotting import draw_buildup, draw_lattice, draw_panel_polar, draw_surface, draw_time, draw_volume
from zephyrum.plotting.style import new_axes, save

HERE = Path(__file__).parent
TARGET = HERE / "screenshots"
DEMO = HERE.parent / "skerry-demo"
SKERRY = HERE.parent / "src" / "zephyrum" / "data" / "skerry-mailplane.toml"
FIGURES = (
    "section",
    "mesh",
    "polar",
    "cp_m0.2",
)

FLIGHT = {
    "cp_quarter_m0.2_a4": "flight",
    "loading_m0.2_a4": "loading",
    "streamlines_m0.2_a4": "streamlines",
    "methods": "methods",
}


def terminal(words: list[str], name: str) -> None:
    """Run a command and draw what it prints."""
    text = subprocess.run(
        [sys.executable, "-m", "zephyrum.cli.main", *words], capture_output=True, text=True, check=False
    ).stdout
    lines = [f"$ zephyrum {' '.join(words)}", *text.rstrip().splitlines()][:60]
    figure, ax = new_axes()
    figure.set_figheight(max(2.4, 0.4 + 0.165 * len(lines)))
    ax.set_axis_off()
    ax.text(
        0.0,
        1.0,
        "\n".join(line[:166] for line in lines),
        family="monospace",
        fontsize=8.5,
        va="top",
        transform=ax.transAxes,
    )
    save(figure, TARGET / f"{name}.png")


def street() -> zy.TimeSeries:
    """A stalled Skerry section at a Reynolds number of a gliding model, laminar: it sheds vortices."""
    foil = zy.Airfoil.read(DEMO / "section.dat")
    mesh = zy.mesh_airfoil(foil, around=96, outward=48, farfield=30.0, first_height=2e-3)
    air = zy.Freestream(mach=0.1, reynolds=1000.0, alpha=20.0)
    return zy.solve_unsteady(mesh, air, "laminar", duration=40.0, step=0.05)


def draw_swing(series: zy.TimeSeries, path: Path) -> None:
    """Draw a record over time."""
    figure, axes = new_axes(2, 1, sharex=True)
    draw_time(series, axes)
    save(figure, path)


def quick_methods() -> None:
    """The lattice and the drag build-up of the Skerry, and a polar of the section at its root."""
    skerry = zy.Aircraft.read(SKERRY)
    cruise = zy.Freestream(mach=0.2, altitude="5000 ft", alpha=4.0)
    save(draw_lattice(zy.lattice_model(skerry).solve(cruise)), TARGET / "lattice.png")
    options = zy.BuildupOptions(
        roughness=7e-6,
        interference={"nacelle": 1.3, "tailplane": 1.05, "fin": 1.05},
        increments=(
            zy.Increment("antennas", 0.01),
            zy.Increment("leaks", 3.0, "percent", "leaks"),
            zy.Increment("gear legs", 25.0, "counts", "gear"),
        ),
    )
    save(draw_buildup(zy.zero_lift_drag(skerry, cruise, options)), TARGET / "buildup.png")
    root = zy.panel_polar(zy.Airfoil.naca("4415"), [float(a) for a in range(-6, 17)], 5e5)
    save(draw_panel_polar(root, 3.0), TARGET / "section_polar.png")


def aircraft() -> None:
    """The described Skerry with its flaps down, and its damaged scan repaired."""
    with tempfile.TemporaryDirectory() as folder:
        figures = Path(folder) / "figures"
        words = ["--set", "wing.controls.flap.deflection=20", "--alpha", "4", "--figures", str(figures)]
        subprocess.run([sys.executable, "-m", "zephyrum.cli.main", "shape", str(SKERRY), *words], check=True)
        shutil.copyfile(figures / "three_view.png", TARGET / "three_view.png")
        shutil.copyfile(figures / "quarter.png", TARGET / "aircraft.png")
        layered = zy.mesh_aircraft(zy.Aircraft.read(SKERRY), "coarse", y_plus=30.0, reynolds=7e6)
        shutil.copyfile(draw_volume(layered, Path(folder) / "volume")[1], TARGET / "aircraft_mesh.png")
        damage = runpy.run_path(str(HERE.parent / "examples" / "damage_the_skerry.py"))["main"]
        taken = zy.import_surface(damage(Path(folder)), "mm", "+y", labels="shell")
        positions = [location for defect in taken.repaired.defects for location in defect.positions]
        draw_surface(taken.surface, TARGET / "repaired.png", marks=positions, by="label")


def main() -> None:
    """Draw everything, or only what is named: `aircraft`, `quick_methods`."""
    TARGET.mkdir(exist_ok=True)
    for name in sys.argv[1:]:
        {"aircraft": aircraft, "quick_methods": quick_methods}[name]()
    if sys.argv[1:]:
        return
    if not (DEMO / "aircraft" / "figures").exists():
        subprocess.run([sys.executable, "-m", "zephyrum.cli.main", "demo", "--out", str(DEMO)], check=False)
    for name in FIGURES:
        shutil.copyfile(DEMO / "figures" / f"{name}.png", TARGET / f"{name}.png")
    for name, stored in FLIGHT.items():
        shutil.copyfile(DEMO / "aircraft" / "figures" / f"{name}.png", TARGET / f"{stored}.png")
    draw_swing(street(), TARGET / "time.png")
    quick_methods()
    terminal(["show", "skerry-demo"], "show")
    with tempfile.TemporaryDirectory() as folder:
        runpy.run_path(str(HERE.parent / "examples" / "three_elements.py"))["main"](Path(folder))
        shutil.copyfile(Path(folder) / "three_elements.png", TARGET / "clipped.png")
    aircraft()


if __name__ == "__main__":
    main()
