"""A turbulent section: wall layers from y+, friction and pressure drag, where the flow separates."""

import sys
from pathlib import Path

import zephyrum as zy
from zephyrum.plotting import draw_friction


def main(folder: Path) -> None:
    """Solve NACA 2412 at Re 3e6, alpha 4, and draw its friction into `folder`."""
    layers = zy.wall_layers(reynolds=3e6, y_plus=1.0, growth=1.3, farfield=30.0)
    print(layers.describe())
    foil = zy.Airfoil.naca("2412")
    mesh = zy.mesh_airfoil(foil, around=96, growth=1.3, farfield=30.0, y_plus=1.0, reynolds=3e6)
    solution = zy.solve(mesh, zy.Freestream(mach=0.2, reynolds=3e6, alpha=4.0), model="sa")
    print(solution.outcome, "-", solution.reason)
    print(solution.forces.table()[["cause", "CL", "CD", "CM"]].round(5).to_string(index=False))
    print(solution.turning_points().to_string(index=False))
    draw_friction(solution)[0].figure.savefig(folder / "friction.png")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
