"""Coordinates from elsewhere: read, see what was recognised, repair the tail, write and mesh."""

import sys
from pathlib import Path

import numpy as np

import zephyrum as zy


def main(folder: Path) -> None:
    """Write an untidy file, read it back, blunt the tail, resample and mesh it."""
    untidy = folder / "untidy.txt"
    points = zy.Airfoil.naca("4415").points[::-10] * 100.0
    rows = [f"{x:.4f}; {z:.4f}" for x, z in points]
    untidy.write_text("Tip rib of the Skerry\n" + "\n".join([rows[0], *rows]) + "\n")
    foil = zy.Airfoil.read(untidy)
    for note in foil.notes:
        print("note:", note)
    blunt = foil.blunted(0.005).resampled(161)
    print(blunt.measures)
    blunt.write(folder / "tidy.csv")
    again = zy.Airfoil.read(folder / "tidy.csv")
    print("read back the same:", np.array_equal(again.points, blunt.points))
    print(zy.quality(zy.mesh_airfoil(blunt, around=128, outward=32, topology="C")))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
