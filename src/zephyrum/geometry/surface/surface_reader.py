"""Reading surface files: STL (both kinds), OBJ, PLY, VTU, and STEP with the extra `cad`. Open formats only.

STL and OBJ are read here; PLY goes through trimesh (extra `surface`), VTU through pyvista (extra `3d`), STEP through
the CAD kernel, each in a child process. Verified by tests/test_solids.py (round trips) and tests/test_adopt.py.
"""

from pathlib import Path

import numpy as np

from zephyrum._core.child_process import read_in_child
from zephyrum.errors import FileError, InputError
from zephyrum.geometry.surface.surface_writer import ENDINGS, trimesh_package
from zephyrum.geometry.surface.triangulation import Surface

UNITS = ("m", "mm", "cm", "in", "ft")


def read_triangles(path: str | Path) -> Surface:
    """Read the triangles of a file as they stand, in the file's own unit; labels from its groups.

    Parameters
    ----------
    path : path
        .stl, .obj, .ply, .vtu or .step file.

    Raises
    ------
    FileError
        With what is wrong.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Body
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     _ = Body.box(1.0, 1.0, 1.0).surface().write(f"{folder}/box.stl")
    ...     surface = read_triangles(f"{folder}/box.stl")
    >>> round(surface.welded().volume, 6)
    1.0
    """
    path = Path(path)
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise FileError(f"surface {str(path)!r} ends in {ending or 'nothing'}; give one of: {', '.join(ENDINGS)}.")
    if not path.is_file():
        raise FileError(f"surface {str(path)!r} does not exist; check the name and the folder.")
    if not path.stat().st_size:
        raise FileError(f"surface {str(path)!r} is empty.")
    if ending in (".step", ".stp"):
        return _read_step(path)
    if ending == ".obj":
        return _read_obj(path)
    if ending == ".vtu":
        return _read_vtu(path)
    if ending == ".stl":
        return _read_stl(path)
    made = read_in_child("zephyrum.geometry.surface.surface_reader:load_ply", path, "surface")
    if made["triangles"].ndim != 2 or not len(made["triangles"]):
        raise FileError(f"surface {str(path)!r} holds no triangles.")
    return _checked_triangles(path, made["points"], made["triangles"], None, (path.stem,))


def load_ply(path: Path) -> dict:
    """Read a .ply file, for `read_in_child`.

    Parameters
    ----------
    path : path
        File.

    Returns
    -------
    dict
        Points and triangles.
    """
    made = trimesh_package().load(path, file_type="ply", process=False, force="mesh")
    return {"points": np.array(made.vertices, dtype=float), "triangles": np.array(made.faces, dtype=np.int64)}


def _checked_triangles(path: Path, points, triangles, label, labels) -> Surface:
    bad = ~np.isfinite(points).all(axis=1)
    if bad.any():
        raise FileError(f"surface {str(path)!r}: point {int(np.argmax(bad))} is not finite.")
    if len(triangles) and (np.min(triangles) < 0 or np.max(triangles) >= len(points)):
        raise FileError(
            f"surface {str(path)!r}: a triangle names a point that does not exist; the file is cut short or damaged."
        )
    return Surface(points, triangles, label, tuple(labels), path.stem)


def _three(words: list[str]) -> list[float]:
    """The three numbers after a key word; ValueError if there are fewer."""
    x, y, z = (float(word) for word in words[1:4])
    return [x, y, z]


def _read_stl(path: Path) -> Surface:
    """Binary by its count of triangles, else text, whose `solid`s become labels."""
    data = path.read_bytes()
    count = int(np.frombuffer(data[80:84], "<u4")[0]) if len(data) >= 84 else -1
    if count > 0 and len(data) >= 84 + 50 * count and not (data[:5] == b"solid" and b"facet" in data[:400]):
        raw = np.frombuffer(data, np.dtype([("n", "<f4", 3), ("p", "<f4", (3, 3)), ("a", "<u2")]), count, 84)
        points = raw["p"].reshape(-1, 3).astype(float)
        return _checked_triangles(path, points, np.arange(len(points)).reshape(-1, 3), None, (path.stem,))
    if not data.lstrip().startswith(b"solid"):
        said = f"{count} triangles announced, room for {(len(data) - 84) // 50}" if count >= 0 else f"{len(data)} bytes"
        raise FileError(f"surface {str(path)!r} is no STL file, or is cut short ({said}); export it again.")
    corners: list[tuple[float, ...]] = []
    label: list[int] = []
    labels: list[str] = []
    number, line = 0, ""
    try:
        for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):  # noqa: B007, reported in the error
            words = line.split()
            if not words:
                continue
            if words[0] == "solid":
                labels.append(" ".join(words[1:]) or f"solid {len(labels) + 1}")
            elif words[0] == "vertex":
                corners.append(_three(words))  # type: ignore[arg-type]
            elif words[0] == "endfacet":
                label.append(max(len(labels) - 1, 0))
    except (ValueError, OverflowError):
        raise FileError(
            f"surface {path.name}:{number}: not the numbers that are due in {line.strip()[:60]!r}."
        ) from None
    if not corners or len(corners) != 3 * len(label):
        raise FileError(
            f"surface {str(path)!r} holds no whole triangles ({len(corners)} corners, {len(label)} facets); is it cut "
            f"short?"
        )
    unique = {name: k for k, name in enumerate(dict.fromkeys(labels))}
    code = np.array([unique[name] for name in labels])[label]
    return _checked_triangles(path, np.array(corners), np.arange(len(corners)).reshape(-1, 3), code, tuple(unique))


def _read_obj(path: Path) -> Surface:
    """Points and faces (polygons split into fans); objects and groups become labels."""
    points: list[list[float]] = []
    triangles: list[tuple[int, ...]] = []
    label: list[int] = []
    names: dict[str, int] = {}
    here = path.stem
    number, line = 0, ""
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            for number, line in enumerate(file, 1):  # noqa: B007, reported in the error
                words = line.split()
                if not words:
                    continue
                if words[0] == "v":
                    points.append(_three(words))
                elif words[0] in ("g", "o"):
                    here = " ".join(words[1:]) or path.stem
                elif words[0] == "f":
                    corners = [int(word.split("/")[0]) for word in words[1:]]
                    corners = [c - 1 if c > 0 else len(points) + c for c in corners]
                    code = names.setdefault(here, len(names))
                    for k in range(1, len(corners) - 1):
                        triangles.append((corners[0], corners[k], corners[k + 1]))
                        label.append(code)
    except (ValueError, OverflowError):
        raise FileError(
            f"surface {path.name}:{number}: not the numbers that are due in {line.strip()[:60]!r}."
        ) from None
    if not triangles or not points:
        raise FileError(f"surface {str(path)!r} holds no faces.")
    if max(map(max, triangles)) >= len(points) or min(map(min, triangles)) < 0:
        raise FileError(
            f"surface {str(path)!r}: a face names a point that does not exist; the file is cut short or damaged."
        )
    return _checked_triangles(path, np.array(points), np.array(triangles), np.array(label), tuple(names))


def _read_step(path: Path) -> Surface:
    """Triangles of all faces of a STEP file in metres, a label for each solid."""
    made = read_in_child("zephyrum.geometry.surface.step_files:load_step", path, "surface")
    if not len(made["triangles"]):
        raise FileError(f"surface {str(path)!r} holds no faces.")
    return _checked_triangles(path, made["points"], made["triangles"], made["label"], made["names"])


def _read_vtu(path: Path) -> Surface:
    """Triangles of an unstructured-grid file as written by `write_surface`, or the outer faces of the cells of any
    other.
    """
    if b"VTKFile" not in path.read_bytes()[:400]:
        raise FileError(f"surface {str(path)!r} is not a .vtu file.")
    made = read_in_child("zephyrum.geometry.surface.surface_reader:load_vtu", path, "surface")
    triangles, label, names = made["triangles"], made["label"], tuple(made["names"])
    if triangles.ndim != 2 or not len(triangles):
        raise FileError(f"surface {str(path)!r} holds no triangles.")
    good = len(label) == len(triangles) and len(names) and label.min() >= 0 and label.max() < len(names)
    return _checked_triangles(path, made["points"], triangles, label if good else None, names if good else (path.stem,))


def load_vtu(path: Path) -> dict:
    """Read a .vtu file, for `read_in_child`.

    Parameters
    ----------
    path : path
        File.

    Returns
    -------
    dict
        Points, triangles, label and names.
    """
    try:
        import pyvista
    except ImportError:
        raise InputError(
            "reading .vtu surfaces needs the package pyvista; install it with: pip install 'zephyrum[3d]'."
        ) from None
    grid = pyvista.read(path)
    if not grid.n_cells:
        raise FileError("it holds no cells")
    triangles = grid.cells_dict.get(5) if hasattr(grid, "cells_dict") else None
    label, points = grid.cell_data.get("label"), grid.points
    if triangles is None:
        faces = grid.extract_surface(algorithm="dataset_surface").triangulate()
        triangles, points, label = faces.regular_faces, faces.points, None
    names = [str(name) for name in grid.field_data["labels"]] if "labels" in grid.field_data else []
    label = np.zeros(0, dtype=np.int64) if label is None else np.asarray(label).astype(np.int64).ravel()
    return {
        "points": np.array(points, dtype=float),
        "triangles": np.array(triangles, dtype=np.int64),
        "label": label,
        "names": names,
    }
