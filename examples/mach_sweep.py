"""What speed does to the lift slope of a wing: one mesh, two Mach numbers, against the rule of Prandtl and
Glauert.
"""

import sys
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.studies import polar_slopes_of


def main(folder: Path) -> None:
    """Sweep a swept tail of the Skerry family at Mach 0.2 and 0.6."""
    tail = zy.Wing(
        planform=zy.Planform(span=5.4, root_chord=1.15, taper=0.62, sweep=20.0), airfoil="NACA 0012", tip="flat"
    )
    aircraft = zy.Aircraft(name="swept tail", parts={"tail": tail})
    mesh = zy.mesh_aircraft(aircraft, 6.0, farfield=6.0)
    polar = zy.sweep(mesh, alpha=[0.0, 3.0], mach=[0.2, 0.6], processes=1, numerics=zy.Numerics(residual_drop=3.5))
    print(polar.table[["mach", "alpha", "CL", "CD", "outcome", "residual_drop"]].round(4).to_string(index=False))
    slopes = {one.mach: one.slope[0] for one in polar_slopes_of(polar, mesh.reference)}
    aspect = mesh.reference.span**2 / mesh.reference.area
    for mach, slope in slopes.items():
        # Helmbold's slope with Prandtl and Glauert's aspect ratio (Polhamus 1949, NACA TN 1862), cos(sweep)
        # of the section
        beta = np.sqrt(1.0 - mach**2)
        tangent = np.tan(np.radians(20.0)) / beta
        theory = 2.0 * np.pi * aspect / (2.0 + np.sqrt(4.0 + (aspect * beta) ** 2 * (1.0 + tangent**2)))
        print(f"Mach {mach:g}: CL slope {slope:.3f} / rad on this coarse mesh, theory of thin wings {theory:.3f}")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
