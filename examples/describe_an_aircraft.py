"""An aircraft from its file: measured, a flap lowered, and what that changes."""

import sys
from importlib import resources
from pathlib import Path

import zephyrum as zy


def main(folder: Path) -> None:
    """Measure the Skerry with its flaps up and down."""
    aircraft = zy.Aircraft.read(Path(str(resources.files("zephyrum") / "data" / "skerry-mailplane.toml")))
    flown = {"flaps up": aircraft, "flaps 25 deg": aircraft.changed({"wing.controls.flap.deflection": 25})}
    measured = {name: one.measures() for name, one in flown.items()}
    for name, m in measured.items():
        print(
            f"{name:<13} wetted {m.whole.wetted:.2f} m^2, frontal {m.whole.frontal:.3f} m^2, volume "
            f"{m.whole.volume:.3f} m^3"
        )
    m = measured["flaps up"]
    print(m.reference)
    print(f"mass {m.mass.mass:.0f} kg, centre of gravity {m.mass.centre.round(3)} m")
    print(aircraft.surface(half=True).write(folder / "skerry_half.obj"))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
