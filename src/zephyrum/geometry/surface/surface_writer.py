"""Writing surface files: STL (binary), OBJ, PLY, VTU, and STEP with the extra `cad`. Open formats only.

Verified by tests/test_solids.py (round trips).
"""

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.atomic_files import atomic_write
from zephyrum._core.units import quantity
from zephyrum._core.validation import choice
from zephyrum.errors import InputError
from zephyrum.geometry.surface.step_files import write_step

if TYPE_CHECKING:
    from zephyrum.geometry.surface.triangulation import Surface


ENDINGS = (".stl", ".obj", ".ply", ".vtu", ".step", ".stp")


def trimesh_package():
    """The package trimesh; InputError says how to install it."""
    try:
        import trimesh
    except ImportError:
        raise InputError(
            "surface files need the package trimesh; install it with: pip install 'zephyrum[surface]'."
        ) from None
    return trimesh


def write_surface(surface: "Surface", path: str | Path, unit: str = "m") -> Path:
    """Write a surface atomically: .stl (binary), .obj (labels as groups), .ply, .vtu (labels as a field) or .step.

    Parameters
    ----------
    surface : Surface
        Surface [m].
    path : path
        File; its ending picks the format.
    unit : str, optional
        Unit of the file.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Body
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     write_surface(Body.box(1.0, 1.0, 1.0).surface(), f"{folder}/box.stl").name
    'box.stl'
    """
    path = Path(path)
    ending = path.suffix.lower()
    choice("the ending of a surface file", ending, ENDINGS)
    factor = 1.0 / quantity("unit", f"1 {unit}", "m")
    points = surface.points * factor
    with atomic_write(path) as temporary:
        if ending == ".stl":
            raw = np.zeros(len(surface.triangles), np.dtype([("n", "<f4", 3), ("p", "<f4", (3, 3)), ("a", "<u2")]))
            raw["n"], raw["p"] = surface.normals, points[surface.triangles]
            head = f"Zephyrum {surface.name} in {unit}".encode("ascii", "replace")[:80].ljust(80)
            temporary.write_bytes(head + np.array([len(raw)], "<u4").tobytes() + raw.tobytes())
        elif ending == ".obj":
            lines = [f"# Zephyrum surface {surface.name}, unit {unit}"]
            lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in points.tolist()]
            for k, name in enumerate(surface.labels):
                lines.append(f"g {name}")
                lines += [f"f {a} {b} {c}" for a, b, c in (surface.triangles[surface.label == k] + 1).tolist()]
            temporary.write_text("\n".join(lines) + "\n", encoding="utf-8")
        elif ending == ".ply":
            made = trimesh_package().Trimesh(points, surface.triangles, process=False)
            temporary.write_bytes(made.export(file_type="ply"))
        elif ending in (".step", ".stp"):
            write_step(surface, temporary)
        else:
            temporary.write_text(_vtu_text(points, surface), encoding="utf-8")
    return path


def _vtu_text(points: np.ndarray, surface) -> str:
    n, m = len(points), len(surface.triangles)
    row = " ".join

    def array(kind: str, name: str, values, more: str = "") -> str:
        return f'<DataArray type="{kind}" Name="{name}" format="ascii"{more}>\n{row(map(repr, values))}\n</DataArray>'

    # names as codes of their characters, each ended by a zero
    codes = [ord(c) for name in surface.labels for c in (name + "\0")]
    return "\n".join(
        [
            '<?xml version="1.0"?>',
            '<VTKFile type="UnstructuredGrid" version="1.0" byte_order="LittleEndian">',
            "<UnstructuredGrid>",
            "<FieldData>",
            array("String", "labels", codes, f' NumberOfTuples="{len(surface.labels)}"'),
            "</FieldData>",
            f'<Piece NumberOfPoints="{n}" NumberOfCells="{m}">',
            "<Points>",
            array("Float64", "points", points.ravel().tolist(), ' NumberOfComponents="3"'),
            "</Points>",
            "<Cells>",
            array("Int64", "connectivity", surface.triangles.ravel().tolist()),
            array("Int64", "offsets", (3 * np.arange(1, m + 1)).tolist()),
            array("UInt8", "types", [5] * m),
            "</Cells>",
            "<CellData>",
            array("Int64", "label", surface.label.tolist()),
            "</CellData>",
            "</Piece>",
            "</UnstructuredGrid>",
            "</VTKFile>\n",
        ]
    )
