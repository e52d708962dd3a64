"""What is demanded of every mesh in space, measured on shapes that are hard in different ways, without layers and with.

`make demands` (about ten minutes) writes docs/mesh_demands.md: a sphere, a cube whose faces lie on planes of the grid,
a wing with a tail a thousandth of the chord thick, the Skerry with its flaps down, half and whole.
"""

import math
import sys
import time
from pathlib import Path

import numpy as np

HEAD = """# What is demanded of every mesh, and what is reached

Made by `make demands`; random aircraft in random attitudes are in [fleet_meshes.md](fleet_meshes.md). Closure: what the
area vectors of a cell leave over, over the square of its size. Balance: cells and body against the domain, over the
body; double precision knows a domain a million times as large as the body to 1e-9 of it. A jump of 8 is that between
cubes of two levels of the octree. Corners: cosine between the edges of the layers and the normals of the triangles they
leave, the least one and that of one in a thousand. Coverage: points whose layers are at least half as high as asked
for.

"""
LIMITS = {
    "closure": (1e-12, "<="),
    "balance": (1e-10, "<="),
    "least volume": (0.0, ">"),
    "least corner": (0.2, ">="),
    "corner 0.1 %": (0.5, ">="),
    "jump 95 %": (4.0, "<="),
    "angle 99.9 %": (45.0, "<="),
    "largest angle": (80.0, "<="),
    "coverage": (0.98, ">="),
}


def shapes():
    """(name, shape, options of mesh_aircraft, first height [m]) of all."""
    import zephyrum as zy

    data = Path(zy.__file__).parent / "data"
    aircraft = zy.Aircraft.read(data / "skerry-mailplane.toml").changed({"wing.controls.flap.deflection": 25.0})
    thin = zy.Wing(
        planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.7, sweep=10.0), airfoil="NACA 2412", tail_gap=0.001
    )
    unit = zy.Reference(1.0, 1.0, 1.0, (0.5, 0.0, 0.0), "typed")
    yield "sphere", zy.Body.ellipsoid(1.0, 1.0).surface(), {"resolution": 2.0, "half": False, "reference": unit}, 1e-4
    yield "cube", zy.Body.box(1.0, 1.0, 1.0).surface(), {"resolution": 2.0, "half": False, "reference": unit}, 1e-4
    yield "thin tail", zy.Aircraft(name="thin tail", parts={"wing": thin}), {"resolution": "medium"}, 1e-5
    yield "Skerry, flaps 25 deg, half", aircraft, {"resolution": "medium"}, 1e-5
    yield "Skerry, flaps 25 deg, whole", aircraft, {"resolution": "coarse", "half": False}, 1e-5


def measured(mesh, body: float) -> dict[str, float]:
    """The demands of LIMITS on a mesh about a body of that volume [m^3]."""
    ni, n = mesh.n_interior, mesh.n_cells
    S, left, right = mesh.face_area, mesh.left, mesh.right
    total = np.stack([np.bincount(left, S[:, k], n) - np.bincount(right, S[:ni, k], n) for k in range(3)], axis=1)
    size = np.zeros(n)
    area = np.linalg.norm(S, axis=1)
    np.maximum.at(size, left, area)
    np.maximum.at(size, right, area[:ni])
    v = mesh.cell_volume
    d = mesh.cell_centroid[right] - mesh.cell_centroid[left[:ni]]
    cosine = np.einsum("ij,ij->i", S[:ni], d) / (area[:ni] * np.linalg.norm(d, axis=1))
    angle = np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0)))
    jump = np.maximum(v[left[:ni]] / v[right], v[right] / v[left[:ni]])
    # the walls bound the body that was meshed, which is lifted off the flat triangles
    walls = mesh.faces_of("wall")
    origin = mesh.face_centroid[walls].mean(axis=0)
    if mesh.mirrored:
        origin[1] = 0.0  # then what closes the body in the plane of symmetry adds nothing
    inside = -float(np.einsum("ij,ij->", S[walls], mesh.face_centroid[walls] - origin)) / 3.0
    # double precision holds neither the domain nor the sum of its cells to 1e-10 of a body a millionth as large
    domain = np.ptp(mesh.points, axis=0).astype(np.longdouble).prod() - np.longdouble(math.fsum(v))
    least, per_mille = mesh.recipe["corner_cosine"]
    return {
        "closure": float((np.linalg.norm(total, axis=1) / size).max()),
        "balance": float(abs(domain - inside) / body),
        "least volume": float(v.min()),
        "least corner": least,
        "corner 0.1 %": per_mille,
        "jump 95 %": float(np.percentile(jump, 95)),
        "angle 99 %": float(np.percentile(angle, 99)),
        "angle 99.9 %": float(np.percentile(angle, 99.9)),
        "largest angle": float(angle.max()),
        "coverage": mesh.recipe["layer_coverage"],
    }


def main() -> int:
    """Mesh all, write the page; 1 if a mesh breaks what makes it valid (closure, volumes)."""
    import zephyrum as zy

    rows = []
    for name, shape, options, first in shapes():
        surface = shape.surface() if isinstance(shape, zy.Aircraft) else shape
        for layers in (None, (first, 1.25, 25)):
            begin = time.perf_counter()
            mesh = zy.mesh_aircraft(shape, layers=layers, coarse_levels=0, **options)
            row = {
                "shape": name,
                "layers": "-" if layers is None else str(mesh.recipe["layers"]),
                "cells": mesh.n_cells,
                "tries": mesh.recipe["tries"],
            }
            rows.append(
                row
                | measured(mesh, surface.volume * (0.5 if mesh.mirrored else 1.0))
                | {"s": time.perf_counter() - begin}
            )
            print(rows[-1], flush=True)
    columns = list(rows[0])
    lines = ["| " + " | ".join(columns) + " |", "|" + "---|" * len(columns)]
    lines += [
        "| demanded |" + "".join(f" {LIMITS[c][1]} {LIMITS[c][0]:g} |" if c in LIMITS else " |" for c in columns[1:])
    ]
    lines += [
        "| " + " | ".join(f"{row[c]:.3g}" if isinstance(row[c], float) else str(row[c]) for c in columns) + " |"
        for row in rows
    ]
    missed = [
        name
        for name, (limit, sense) in LIMITS.items()
        if not all({"<=": row[name] <= limit, ">=": row[name] >= limit, ">": row[name] > limit}[sense] for row in rows)
    ]
    words = (
        f"\nMet by all: {', '.join(name for name in LIMITS if name not in missed)}. Not met by all: "
        f"{', '.join(missed) or 'none'}.\n"
    )
    (Path(__file__).parents[1] / "docs" / "mesh_demands.md").write_text(
        HEAD + "\n".join(lines) + "\n" + words, encoding="utf-8"
    )
    print(words)
    return int(bool({"closure", "least volume"} & set(missed)))


if __name__ == "__main__":
    sys.exit(main())
