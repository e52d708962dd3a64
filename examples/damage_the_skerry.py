"""A scan as it comes: the Skerry as one binary STL in millimetres, nose along +y, with holes, turned and doubled
triangles, noise, a second skin over the tail and a small separate body. `repair_a_scan.py` takes it in.
"""

import sys
from importlib import resources
from pathlib import Path

import numpy as np

import zephyrum as zy


def main(folder: Path) -> Path:
    """Write skerry_scan.stl."""
    rng = np.random.default_rng(2026)
    aircraft = zy.Aircraft.read(Path(str(resources.files("zephyrum") / "data" / "skerry-mailplane.toml")))
    parts = aircraft.solids()
    small_body = zy.Body.ellipsoid(0.08, 0.08).surface("crumb").transformed(np.eye(3), (13.0, 2.0, 3.0))
    # parts lie within one another, as exported part by part
    pieces = [piece for own in parts.values() for piece in own]
    scan = zy.joined([*pieces, small_body])
    keep = rng.random(len(scan.triangles)) > 0.0008  # single triangles lost
    keep &= np.linalg.norm(scan.centres - [4.2, 5.0, 1.95], axis=1) > 0.22  # a torn place on the wing
    scan = scan.selected(keep)
    triangles = scan.triangles.copy()
    turned = rng.random(len(triangles)) < 0.04
    triangles[turned] = triangles[turned][:, ::-1]
    triangles = np.concatenate([triangles, triangles[::500]])  # some twice
    corners = scan.points[triangles].reshape(-1, 3)
    corners = corners + 5e-7 * rng.standard_normal(corners.shape)  # no point is shared any more
    soup = zy.Surface(corners, np.arange(len(corners)).reshape(-1, 3), name="skerry scan")
    turn = np.array([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])  # nose to +y
    path = soup.transformed(turn).write(folder / "skerry_scan.stl", unit="mm")
    print(f"{path}: {len(triangles)} triangles, {turned.sum()} of them turned over")
    return path


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
