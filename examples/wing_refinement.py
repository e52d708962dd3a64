"""How wrong a wing's lift and drag are on a mesh: three meshes of one family, observed order, error bars."""

import sys
from pathlib import Path

import zephyrum as zy


class Levels(zy.Observer):
    """Prints every mesh as soon as it is solved."""

    def finished(self, task, row):
        print(f"{row['cells']} cells: CL {row['CL']:.4f}, CD {row['CD']:.5f}, {row['outcome']}")


def main(folder: Path) -> None:
    """Refine about a rectangular wing at alpha 4."""
    wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012", tip="flat")
    aircraft = zy.Aircraft(name="plank", parts={"wing": wing})
    air = zy.Freestream(mach=0.2, alpha=4.0)
    # a quick look: ask for resolution="medium" and wait some minutes for error bars to use
    proof = zy.refine(
        aircraft,
        air,
        resolution=3.4,
        farfield=6.0,
        observer=Levels(),
    )
    for row in proof.rows():
        print(f"{row['coefficient']}: {row['finest_mesh']:+.4f} +- {row['error']:.2g} ({row['outcome']})")
    print(proof.outcome)


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
