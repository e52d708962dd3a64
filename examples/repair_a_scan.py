"""From an STL of unknown unit to a closed, labelled, measured surface."""

import runpy
import sys
from pathlib import Path

import zephyrum as zy


def main(folder: Path) -> None:
    """Take in skerry_scan.stl (made by damage_the_skerry.py)."""
    path = folder / "skerry_scan.stl"
    if not path.exists():
        runpy.run_path(str(Path(__file__).with_name("damage_the_skerry.py")))["main"](folder)
    try:
        zy.import_surface(path)
    except zy.InputError as refusal:
        print(refusal)  # no unit is assumed: the sizes it could have are told
    taken = zy.import_surface(path, unit="mm", nose="+y", up="+z", span=16.5, labels="shell")
    print(taken.report())
    print(f"closed: {taken.surface.watertight}, volume {taken.surface.volume:.4f} m^3")
    print(f"labels: {', '.join(taken.surface.labels)}")
    for name, value, unit in zy.measure_surface(taken.surface).rows():
        print(f"{name:<16} {value:10.3f} {unit}")
    print(taken.surface.write(folder / "skerry_mended.vtu"))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
