"""What a flap does: the same section and condition with and without 10 degrees, with the mesh error beside it."""

import sys
from pathlib import Path

import zephyrum as zy


def main(folder: Path) -> None:
    """Compare a NACA 2412 with its flap up and down at Mach 0.2, alpha 2."""
    air = zy.Freestream(speed="140 kt", altitude="2000 ft", alpha=2.0)
    print(air)
    foil = zy.Airfoil.naca("2412")
    options = {"around": 128, "outward": 32, "topology": "O"}
    plain = zy.refine(foil, air, levels=3, **options)
    flapped = zy.refine(foil.with_flap(hinge=0.75, angle=10.0), air, levels=3, **options)
    for name in ("CL", "CM"):
        a, b = plain.estimates[name], flapped.estimates[name]
        beyond = abs(b.finest - a.finest) > a.error + b.error
        print(
            f"{name}: {a.finest:+.4f} +- {a.error:.1g} -> {b.finest:+.4f} +- {b.error:.1g}, change "
            f"{b.finest - a.finest:+.4f}",
            "(beyond the mesh error)" if beyond else "(within the mesh error)",
        )


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
