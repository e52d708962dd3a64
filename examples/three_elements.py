"""Slat, main section and flap near the ground: one mesh from three sections, with wall layers and a zone for the
wake.
"""

import sys
from pathlib import Path

import zephyrum as zy
from zephyrum.plotting import draw_mesh
from zephyrum.plotting.style import new_axes, save


def main(folder: Path) -> None:
    """Mesh the three sections for Re 3e6, tell its quality and draw it."""
    wing = zy.Airfoil.naca("4415").blunted(0.002)
    slat = zy.Airfoil.naca("4412").scaled(0.15).rotated(-25.0)
    slat = slat.moved(-0.002 - slat.tail[0], 0.028 - slat.tail[1])
    flap = zy.Airfoil.naca("4412").scaled(0.3).rotated(30.0)
    flap = flap.moved(0.99 - flap.nose[0], -0.024 - flap.nose[1])
    bodies = {"slat": slat, "wing": wing, "flap": flap}
    mesh = zy.mesh_bodies(
        bodies, "coarse", y_plus=1.0, reynolds=3e6, ground=-0.5, wake=1.5, alpha=(-4.0, 4.0), coarse_levels=0
    )
    print(f"{mesh.n_cells} cells, {mesh.recipe['layers']} layers, first height {mesh.recipe['first_height']:.2g} m")
    print(", ".join(f"{g.name} ({g.role}) {g.stop - g.start} faces" for g in mesh.groups))
    print(zy.quality(mesh))
    figure, axes = new_axes(2, 2)
    for ax, view in zip(
        axes.ravel(),
        ((-0.5, 2.0, -0.55, 0.5), (-0.15, 0.12, -0.12, 0.1), (0.93, 1.15, -0.12, 0.06), (0.975, 1.02, -0.03, 0.012)),
    ):
        draw_mesh(mesh, view, ax)
    save(figure, folder / "three_elements.png")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
