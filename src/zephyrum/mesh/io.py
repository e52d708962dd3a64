"""Meshes on disk, in open standards: VTU (XML, polyhedra and boundary polygons) and CGNS (HDF5, NGON_n and NFACE_n).

Both hold closed polyhedra: a two-dimensional mesh gets its two sides on writing, in a boundary named SIDES, and loses
them on reading. A mesh read is the mesh written, to the last bit of its points. References: Schroeder, Martin and
Lorensen (2006), The Visualization Toolkit (file formats); CGNS Standard Interface Data Structures 4.4 (2023).
Verified by tests/test_mesh.py.
"""

import base64
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import atomic_write
from zephyrum._core.validation import PATH, takes
from zephyrum.errors import FileError, InputError, MeshError
from zephyrum.mesh.construction import mesh_from_faces
from zephyrum.mesh.core import ROLES, SIDES as WEDGE_SIDES, Mesh

SIDES = "sides"
_POLYGON, _POLYHEDRON = 7, 42


class _DamagedFile(ValueError):
    """What is wrong with a file; `read_mesh` makes a sentence of it."""


@takes(mesh=Mesh, path=PATH, cell_data=Mapping)
def write_mesh(mesh: Mesh, path: str | Path, cell_data: dict[str, np.ndarray] | None = None) -> Path:
    """Write a mesh to a .vtu or .cgns file.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    path : path
        File; its ending picks the format.
    cell_data : dict[str, array], optional
        Fields (n_cells,) or (n_cells, 3) by name.

    Examples
    --------
    >>> import tempfile
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     zy.read_mesh(zy.write_mesh(mesh, f"{folder}/mesh.vtu")).n_cells
    256
    """
    path = Path(path)
    writer = {".vtu": _write_vtu, ".cgns": _write_cgns}.get(path.suffix.lower())
    if writer is None:
        raise InputError(f"mesh file {path.name!r} has no known ending; use .vtu or .cgns.")
    with atomic_write(path) as temporary:
        writer(mesh, temporary, cell_data or {})
    return path


@takes(path=PATH)
def read_mesh(path: str | Path) -> Mesh:
    """Read a mesh written by `write_mesh`, or any file with the same standard sections.

    Parameters
    ----------
    path : path
        .vtu or .cgns file.

    Raises
    ------
    FileError
        The file cannot be read.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.read_mesh("mesh.cgns")  # doctest: +SKIP
    """
    path = Path(path)
    reader = {".vtu": _read_vtu, ".cgns": _read_cgns}.get(path.suffix.lower())
    if reader is None:
        raise InputError(f"mesh file {path.name!r} has no known ending; use .vtu or .cgns.")
    if not path.is_file():
        raise FileError(f"mesh file {str(path)!r} does not exist; check the name and the folder.")
    try:
        return reader(path)
    except MeshError as cause:
        raise FileError(f"mesh file {str(path)!r} is damaged: {cause}") from None
    except (
        ET.ParseError,
        KeyError,
        IndexError,
        OSError,
        AttributeError,
        TypeError,
        ValueError,
        OverflowError,
        MemoryError,
        RuntimeError,
        LookupError,
    ) as cause:
        if isinstance(cause, FileError):
            raise
        why = (str(cause).splitlines() or [type(cause).__name__])[0][:160]
        raise FileError(f"mesh file {str(path)!r} is damaged or not of its kind ({why}); write it again.") from None


# -- closed polyhedra
# ---------------------------------------------------------------------------------------------------
def _closed(mesh: Mesh):
    """Faces with the sides added: (start, points, cell_a, cell_b, tag), and the (name, role) list of the tags."""
    ni = mesh.n_interior
    tag = np.full(mesh.n_faces, -1)
    groups = []
    for k, group in enumerate(mesh.groups):
        tag[group.faces] = k
        groups.append((group.name, group.role))
    cell_b = np.full(mesh.n_faces, -1)
    cell_b[:ni] = mesh.right
    if mesh.dimension == 3:
        return mesh.face_start, mesh.face_points, mesh.left, cell_b, tag, groups
    corners, start = mesh.cell_rings
    n, half = mesh.n_cells, len(mesh.points) // 2
    counts = np.diff(start)
    owner = np.repeat(np.arange(n), counts)
    backwards = start[owner] + (counts[owner] - 1 - (np.arange(len(corners)) - start[owner]))
    # seen along y: the ring on y = 0 is reversed so that its area vector leaves the cell
    face_start = np.concatenate(
        [mesh.face_start, mesh.face_start[-1] + start[1:], mesh.face_start[-1] + start[-1] + start[1:]]
    )
    points = np.concatenate([mesh.face_points, corners, corners[backwards] + half])
    cells = np.arange(n)
    groups.append((SIDES, "symmetry"))
    return (
        face_start,
        points,
        np.r_[mesh.left, cells, cells],
        np.r_[cell_b, np.full(2 * n, -1)],
        np.r_[tag, np.full(2 * n, len(groups) - 1)],
        groups,
    )


def _opened(points, start, face_points, cell_a, cell_b, tag, groups, **extra) -> Mesh:
    """The Mesh of closed polyhedra: drops the sides again if there are any."""
    dimension = 3
    if groups and groups[-1][0] == SIDES:
        keep = tag != len(groups) - 1
        counts = np.diff(start)
        face_points = face_points[np.repeat(keep, counts)]
        start = np.r_[0, np.cumsum(counts[keep])]
        cell_a, cell_b, tag, groups, dimension = cell_a[keep], cell_b[keep], tag[keep], groups[:-1], 2
    if {*WEDGE_SIDES} <= {name for name, _ in groups}:
        top = points[np.argmax(points[:, 2])]
        extra["wedge"] = float(np.arctan(abs(top[1]) / top[2]))
    return mesh_from_faces(points, start, face_points, cell_a, cell_b, tag, groups, dimension, **extra)


# -- VTU
# ----------------------------------------------------------------------------------------------------------------
_KINDS = {"Float64": np.float64, "Int64": np.int64, "UInt8": np.uint8}


def _array(parent, name, values, components=1):
    values = np.ascontiguousarray(values)
    kind = {"float64": "Float64", "int64": "Int64", "uint8": "UInt8"}[values.dtype.name]
    node = ET.SubElement(parent, "DataArray", type=kind, Name=name, format="binary", NumberOfComponents=str(components))
    if parent.tag == "FieldData":
        node.set("NumberOfTuples", str(len(values)))
    raw = values.tobytes()
    node.text = base64.b64encode(len(raw).to_bytes(8, "little")).decode() + base64.b64encode(raw).decode()


def _values(node) -> np.ndarray:
    text = (node.text or "").strip()
    if node.get("format") != "binary":
        raise _DamagedFile(f"array {node.get('Name')!r} is not in base64")
    raw = base64.b64decode(text[12:])
    if len(raw) != int.from_bytes(base64.b64decode(text[:12])[:8], "little"):
        raise _DamagedFile(f"array {node.get('Name')!r} is truncated")
    values = np.frombuffer(raw, dtype=_KINDS[node.get("type")])
    return (
        values.reshape(-1, int(node.get("NumberOfComponents", "1"))).squeeze()
        if node.get("NumberOfComponents", "1") != "1"
        else values
    )


def _write_vtu(mesh: Mesh, path: Path, cell_data) -> None:
    start, face_points, a, b, tag, groups = _closed(mesh)
    counts = np.diff(start)
    inner = np.flatnonzero(b >= 0)
    n = mesh.n_cells
    cells = np.concatenate([a, b[inner]])
    faces = np.concatenate([np.arange(len(a)), inner])
    order = np.lexsort((faces, cells))
    cells, faces = cells[order], faces[order]
    # face stream of every polyhedron: number of faces, then (number of points, points...) a face
    per_face = counts[faces] + 1
    n_faces = np.bincount(cells, minlength=n)
    size = np.bincount(cells, per_face, n).astype(np.int64) + 1
    offset = np.r_[0, np.cumsum(size)]
    stream = np.empty(offset[-1], dtype=np.int64)
    stream[offset[:-1]] = n_faces
    first_of_cell = np.r_[0, np.cumsum(n_faces)][:-1]
    lead = np.cumsum(per_face) - per_face
    at = offset[cells] + 1 + lead - lead[first_of_cell[cells]]
    stream[at] = counts[faces]
    within = np.arange(counts[faces].sum()) - np.repeat(np.cumsum(counts[faces]) - counts[faces], counts[faces])
    stream[np.repeat(at + 1, counts[faces]) + within] = face_points[np.repeat(start[faces], counts[faces]) + within]
    # a cell's own points, each once
    owner = np.repeat(cells, counts[faces])
    used = face_points[np.repeat(start[faces], counts[faces]) + within]
    pairs = np.unique(np.stack([owner, used], axis=1), axis=0)
    outer = np.flatnonzero(b < 0)
    polygons = [face_points[start[f] : start[f + 1]] for f in outer]
    connectivity = np.concatenate([pairs[:, 1], *polygons])
    offsets = np.cumsum(np.r_[np.bincount(pairs[:, 0], minlength=n), counts[outer]])
    total = n + len(outer)
    root = ET.Element(
        "VTKFile", type="UnstructuredGrid", version="1.0", byte_order="LittleEndian", header_type="UInt64"
    )
    grid = ET.SubElement(root, "UnstructuredGrid")
    names = ET.SubElement(grid, "FieldData")
    text = "\n".join(f"{name}={role}" for name, role in groups) + f"\ndimension={mesh.dimension}"
    _array(names, "boundaries", np.frombuffer(text.encode(), dtype=np.uint8))
    piece = ET.SubElement(grid, "Piece", NumberOfPoints=str(len(mesh.points)), NumberOfCells=str(total))
    _array(ET.SubElement(piece, "Points"), "Points", mesh.points, 3)
    body = ET.SubElement(piece, "Cells")
    _array(body, "connectivity", connectivity.astype(np.int64))
    _array(body, "offsets", offsets.astype(np.int64))
    _array(body, "types", np.r_[np.full(n, _POLYHEDRON), np.full(len(outer), _POLYGON)].astype(np.uint8))
    _array(body, "faces", stream)
    _array(body, "faceoffsets", np.r_[offset[1:], np.full(len(outer), -1)].astype(np.int64))
    data = ET.SubElement(piece, "CellData")
    _array(data, "boundary", np.r_[np.full(n, -1), tag[outer]].astype(np.int64))
    for name, values in cell_data.items():
        values = np.asarray(values, dtype=float)
        pad = values[a[outer]]  # a boundary polygon shows its cell's value
        _array(data, name, np.concatenate([values, pad]), 1 if values.ndim == 1 else values.shape[1])
    ET.ElementTree(root).write(path, xml_declaration=True, encoding="utf-8")


def _read_vtu(path: Path) -> Mesh:
    root = ET.parse(path).getroot()
    piece, names = root.find("UnstructuredGrid/Piece"), root.find("UnstructuredGrid/FieldData/DataArray")
    if piece is None or names is None or names.get("Name") != "boundaries":
        raise FileError(
            f"mesh file {str(path)!r} names no boundaries, so it was not written by write_mesh; cells of other writers "
            f"are not read yet."
        )
    arrays = {node.get("Name"): node for node in piece.iter("DataArray")}
    lines = _values(names).tobytes().decode().splitlines()
    groups = [tuple(line.rsplit("=", 1)) for line in lines if not line.startswith("dimension=")]
    if any(role not in ROLES for _, role in groups):
        raise _DamagedFile("it has a boundary with an unknown role")
    points = _values(arrays["Points"])
    kinds, stream = _values(arrays["types"]), _values(arrays["faces"])
    tags = _values(arrays["boundary"])
    offsets, connectivity = _values(arrays["offsets"]), _values(arrays["connectivity"])
    n = int(np.count_nonzero(kinds == _POLYHEDRON))
    seen: dict[tuple, int] = {}
    rings: list[np.ndarray] = []
    cell_a: list[int] = []
    cell_b: list[int] = []
    at = 0
    for cell in range(n):
        faces = int(stream[at])
        at += 1
        if not 4 <= faces <= len(stream) - at:
            raise _DamagedFile(f"cell {cell} claims {faces} faces")
        for _ in range(faces):
            count = int(stream[at])
            if not 3 <= count <= len(stream) - at:
                raise _DamagedFile(f"a face of cell {cell} claims {count} corners")
            ring = stream[at + 1 : at + 1 + count]
            at += 1 + count
            key = tuple(sorted(ring.tolist()))
            if key in seen:
                if cell_b[seen[key]] >= 0:
                    raise _DamagedFile(f"cell {cell} has a face that two other cells share")
                cell_b[seen[key]] = cell
            else:
                seen[key] = len(rings)
                rings.append(ring)
                cell_a.append(cell)
                cell_b.append(-1)
    tag = np.full(len(rings), -1)
    for k in range(n, len(kinds)):
        key = tuple(sorted(connectivity[offsets[k - 1] : offsets[k]].tolist()))
        tag[seen[key]] = tags[k]
    start = np.r_[0, np.cumsum([len(ring) for ring in rings])]
    return _opened(points, start, np.concatenate(rings), np.array(cell_a), np.array(cell_b), tag, groups)


# -- CGNS
# ---------------------------------------------------------------------------------------------------------------
def _node(parent, name, label, data=None, kind=None):
    """A CGNS node: an HDF5 group with the standard attributes and, if any, its data set."""
    group = parent.create_group(name, track_order=True)
    kind = kind or (
        "MT" if data is None else {"float64": "R8", "int64": "I8", "int32": "I4", "int8": "C1"}[data.dtype.name]
    )
    group.attrs.create("name", np.bytes_(name), dtype="S33")
    group.attrs.create("label", np.bytes_(label), dtype="S33")
    group.attrs.create("type", np.bytes_(kind), dtype="S3")
    group.attrs.create("flags", np.array([1], dtype=np.int32))
    if data is not None:
        group.create_dataset(" data", data=data)
    return group


def _text(value: str) -> np.ndarray:
    return np.frombuffer(value.encode(), dtype=np.int8)


def _write_cgns(mesh: Mesh, path: Path, cell_data) -> None:
    import h5py

    start, face_points, a, b, tag, groups = _closed(mesh)
    n, nf = mesh.n_cells, len(a)
    inner = b >= 0
    # boundary groups must be runs of faces: the sides come last already
    with h5py.File(path, "w", track_order=True) as file:
        file.attrs.create("name", np.bytes_("HDF5 MotherNode"), dtype="S33")
        file.attrs.create("label", np.bytes_("Root Node of HDF5 File"), dtype="S33")
        file.attrs.create("type", np.bytes_("MT"), dtype="S3")
        file.create_dataset(" format", data=np.frombuffer(b"IEEE_LITTLE_32\0", dtype=np.int8))
        file.create_dataset(" hdf5version", data=np.frombuffer(b"HDF5 Version 1.8.0".ljust(33, b"\0"), dtype=np.int8))
        _node(file, "CGNSLibraryVersion", "CGNSLibraryVersion_t", np.array([4.2], dtype=np.float32), "R4")
        base = _node(file, "Base", "CGNSBase_t", np.array([3, 3], dtype=np.int32))
        _node(base, "Dimension", "Descriptor_t", _text(str(mesh.dimension)))
        zone = _node(base, "Zone", "Zone_t", np.array([[len(mesh.points)], [n], [0]], dtype=np.int64))
        _node(zone, "ZoneType", "ZoneType_t", _text("Unstructured"))
        where = _node(zone, "GridCoordinates", "GridCoordinates_t")
        for k, axis in enumerate("XYZ"):
            _node(where, f"Coordinate{axis}", "DataArray_t", np.ascontiguousarray(mesh.points[:, k]))
        polygons = _node(zone, "Faces", "Elements_t", np.array([22, 0], dtype=np.int32))
        _node(polygons, "ElementRange", "IndexRange_t", np.array([1, nf], dtype=np.int64))
        _node(polygons, "ElementStartOffset", "DataArray_t", start.astype(np.int64))
        _node(polygons, "ElementConnectivity", "DataArray_t", face_points.astype(np.int64) + 1)
        cells = np.concatenate([a, b[inner]])
        faces = np.concatenate([np.arange(nf), -(np.flatnonzero(inner) + 2)]) + 1  # inward faces are negative
        order = np.lexsort((np.abs(faces), cells))
        polyhedra = _node(zone, "Cells", "Elements_t", np.array([23, 0], dtype=np.int32))
        _node(polyhedra, "ElementRange", "IndexRange_t", np.array([nf + 1, nf + n], dtype=np.int64))
        _node(
            polyhedra,
            "ElementStartOffset",
            "DataArray_t",
            np.r_[0, np.cumsum(np.bincount(cells, minlength=n))].astype(np.int64),
        )
        _node(polyhedra, "ElementConnectivity", "DataArray_t", faces[order].astype(np.int64))
        boundary = _node(zone, "ZoneBC", "ZoneBC_t")
        standard = {"wall": "BCWall", "slip": "BCWallInviscid", "symmetry": "BCSymmetryPlane", "farfield": "BCFarfield"}
        for k, (name, role) in enumerate(groups):
            own = np.flatnonzero(tag == k)
            node = name.replace("/", ":")  # node names hold no stroke
            condition = _node(boundary, node, "BC_t", _text(standard.get(role, "BCGeneral")))
            _node(condition, "PointRange", "IndexRange_t", np.array([[own[0] + 1], [own[-1] + 1]], dtype=np.int64))
            _node(condition, "GridLocation", "GridLocation_t", _text("FaceCenter"))
            _node(condition, "Role", "Descriptor_t", _text(role))
            if node != name:
                _node(condition, "GroupName", "Descriptor_t", _text(name))
        if cell_data:
            solution = _node(zone, "Solution", "FlowSolution_t")
            _node(solution, "GridLocation", "GridLocation_t", _text("CellCenter"))
            for name, values in cell_data.items():
                for suffix, column in zip(
                    ("",) if np.ndim(values) == 1 else "XYZ", np.atleast_2d(np.asarray(values, dtype=float).T)
                ):
                    _node(solution, name + suffix, "DataArray_t", np.ascontiguousarray(column))


def _offsets(start: np.ndarray) -> np.ndarray:
    """Offsets of a list of lists, checked: from 0 on, rising."""
    start = start.astype(np.int64)
    if start.ndim != 1 or len(start) < 2 or start[0] != 0 or (np.diff(start) < 1).any():
        raise _DamagedFile("its offsets of faces or cells do not rise from 0")
    return start


def _read_cgns(path: Path) -> Mesh:
    import h5py

    size = path.stat().st_size

    def read(group, name: str) -> np.ndarray:
        """A data set that is no larger than the file."""
        data = group[name]
        if not isinstance(data, h5py.Dataset) or data.dtype.kind not in "iuf" or data.size * data.dtype.itemsize > size:
            raise _DamagedFile(f"data set {name!r} claims more than the file holds, or no numbers")
        return data[()]

    with h5py.File(path, "r") as file:
        zone = file["Base/Zone"]
        points = np.stack([read(zone, f"GridCoordinates/Coordinate{axis}/ data") for axis in "XYZ"], axis=1)
        start = _offsets(read(zone, "Faces/ElementStartOffset/ data"))
        face_points = read(zone, "Faces/ElementConnectivity/ data").astype(np.int64) - 1
        cell_start = _offsets(read(zone, "Cells/ElementStartOffset/ data"))
        cell_faces = read(zone, "Cells/ElementConnectivity/ data").astype(np.int64)
        if start[-1] != len(face_points) or cell_start[-1] != len(cell_faces):
            raise _DamagedFile("its lists of faces or cells are cut short")
        if not len(cell_faces) or np.abs(cell_faces).max() >= len(start) or not cell_faces.all():
            raise _DamagedFile("a cell names a face that does not exist")
        cells = np.repeat(np.arange(len(cell_start) - 1), np.diff(cell_start))
        cell_a, cell_b = np.full(len(start) - 1, -1), np.full(len(start) - 1, -1)
        cell_a[cell_faces[cell_faces > 0] - 1] = cells[cell_faces > 0]
        cell_b[-cell_faces[cell_faces < 0] - 1] = cells[cell_faces < 0]
        tag = np.full(len(cell_a), -1)
        groups: list = []
        for name in zone["ZoneBC"]:
            condition = zone["ZoneBC"][name]
            low, high = (int(value) for value in read(condition, "PointRange/ data").ravel())
            if not 1 <= low <= high <= len(tag):
                raise _DamagedFile(f"boundary {name!r} claims faces that do not exist")
            tag[low - 1 : high] = len(groups)
            if "GroupName" in condition:
                name = read(condition, "GroupName/ data").tobytes().decode()
            groups.append((name, read(condition, "Role/ data").tobytes().decode()))
    return _opened(points, start, face_points, cell_a, cell_b, tag, groups)
