"""What the flaps of an aircraft's wing do: the same flight with flaps up and at 15 degrees, before and after in
one table.
"""

import sys
from importlib import resources
from pathlib import Path

import zephyrum as zy

RESOLUTION = 6.0  # very coarse, for a quick look: "coarse" or "medium" for numbers to use


def main(folder: Path) -> None:
    """Compare the Skerry's flap settings at Mach 0.15, alpha 2."""
    with resources.as_file(resources.files("zephyrum") / "data" / "skerry-mailplane.toml") as file:
        skerry = zy.Aircraft.read(file)
    aircraft = zy.Aircraft(
        name="wing of the Skerry", parts={"wing": skerry.parts["wing"]}
    )  # the whole of it takes three times as long
    states = zy.changed_aircraft(aircraft, "wing.controls.flap.deflection", [0.0, 15.0])
    air = zy.Freestream(mach=0.15, altitude="1000 ft", alpha=2.0)
    made = zy.compare(states, air, numerics=zy.Numerics(residual_drop=3), resolution=RESOLUTION, farfield=5.0)
    print(made.table.round(4).to_string(index=False))
    print(made.changes.round(4).to_string(index=False))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
