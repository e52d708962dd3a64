"""The shortest way from a section to forces: mesh, solve, read, draw."""

import sys
from pathlib import Path

import zephyrum as zy
from zephyrum.plotting import draw_cp


def main(folder: Path) -> None:
    """Solve NACA 2412 at Mach 0.3, alpha 2, and draw its Cp into `folder`."""
    foil = zy.Airfoil.naca("2412")
    mesh = zy.mesh_airfoil(foil, around=128, outward=32, topology="O")
    solution = zy.solve(mesh, zy.Freestream(mach=0.3, alpha=2.0), model="euler")
    print(solution.outcome, "-", solution.reason)
    print(solution.forces.table().round(5).to_string(index=False))
    draw_cp(solution).figure.savefig(folder / "cp.png")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
