"""STEP files read, and solids of plane facets written, with the open CAD kernel of the extra `cad`.

Verified by tests/test_adopt.py where the extra is installed.
"""

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum.errors import FileError, InputError

if TYPE_CHECKING:
    from zephyrum.geometry.surface.triangulation import Surface


DEFLECTION = 5e-4  # of the size: distance of the triangles from the CAD surface


MAX_FACETS = 60_000  # facets of a file: each takes about 2.5 kB


def _missing() -> InputError:
    return InputError("STEP files need the open CAD kernel; install it with: pip install 'zephyrum[cad]'.")


def load_step(path: Path) -> dict:
    """Read a STEP file, for `read_in_child`.

    Parameters
    ----------
    path : path
        File.

    Returns
    -------
    dict
        Points [m], triangles, label and names.
    """
    try:
        from OCP.Bnd import Bnd_Box
        from OCP.BRep import BRep_Tool
        from OCP.BRepBndLib import BRepBndLib
        from OCP.BRepMesh import BRepMesh_IncrementalMesh
        from OCP.IFSelect import IFSelect_RetDone
        from OCP.Message import Message
        from OCP.STEPControl import STEPControl_Reader
        from OCP.TopAbs import TopAbs_FACE, TopAbs_REVERSED, TopAbs_SOLID
        from OCP.TopExp import TopExp_Explorer
        from OCP.TopLoc import TopLoc_Location
        from OCP.TopoDS import TopoDS
    except ImportError:
        raise _missing() from None
    Message.DefaultMessenger_s().ChangePrinters().Clear()  # faults are reported by FileError
    reader = STEPControl_Reader()
    if reader.ReadFile(str(path)) != IFSelect_RetDone or not reader.TransferRoots():
        raise FileError("it is no whole STEP file")
    shape = reader.OneShape()
    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    BRepMesh_IncrementalMesh(shape, DEFLECTION * box.SquareExtent() ** 0.5, False, 0.3, True)
    face_of = getattr(TopoDS, "Face_s", None) or TopoDS.Face
    points, triangles, label, names, base = [], [], [], [], 0
    solids = TopExp_Explorer(shape, TopAbs_SOLID)
    owners = []
    while solids.More():
        owners.append(solids.Current())
        solids.Next()
    for k, owner in enumerate(owners or [shape]):
        names.append(f"solid {k + 1}")
        faces = TopExp_Explorer(owner, TopAbs_FACE)
        while faces.More():
            face = face_of(faces.Current())
            position = TopLoc_Location()
            part = BRep_Tool.Triangulation_s(face, position)
            if part is not None:
                move = position.Transformation()
                for i in range(1, part.NbNodes() + 1):
                    location = part.Node(i).Transformed(move)
                    points.append((location.X(), location.Y(), location.Z()))
                turned = face.Orientation() == TopAbs_REVERSED
                for i in range(1, part.NbTriangles() + 1):
                    a, b, c = (v - 1 + base for v in part.Triangle(i).Get())
                    triangles.append((a, c, b) if turned else (a, b, c))
                    label.append(k)
                base += part.NbNodes()
            faces.Next()
    # the kernel works in millimetres whatever the file's unit
    return {
        "points": 1e-3 * np.array(points, dtype=float).reshape(-1, 3),
        "triangles": np.array(triangles, dtype=np.int64).reshape(-1, 3),
        "label": np.array(label, dtype=np.int64),
        "names": names,
    }


def write_step(surface: "Surface", path: Path) -> None:
    """Write a closed surface as a solid of plane facets, in millimetres (the format states its unit).

    Parameters
    ----------
    surface : Surface
        Closed surface.
    path : path
        File.

    Raises
    ------
    InputError
        The surface is open, or too large for a file that a CAD program would open.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Body
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     write_step(Body.box(1.0, 1.0, 1.0).surface(), Path(folder, "box.step"))
    """
    try:
        from OCP.BRep import BRep_Builder
        from OCP.BRepBuilderAPI import (
            BRepBuilderAPI_MakeEdge,
            BRepBuilderAPI_MakeFace,
            BRepBuilderAPI_MakeVertex,
            BRepBuilderAPI_MakeWire,
        )
        from OCP.gp import gp_Dir, gp_Pln, gp_Pnt
        from OCP.IFSelect import IFSelect_RetDone
        from OCP.Interface import Interface_Static
        from OCP.Message import Message
        from OCP.STEPControl import STEPControl_AsIs, STEPControl_Writer
        from OCP.TopoDS import TopoDS, TopoDS_Shell, TopoDS_Solid
    except ImportError:
        raise _missing() from None
    if not surface.watertight:
        raise InputError(f"surface {surface.name!r} is not closed; a STEP solid has to be.")
    if len(surface.triangles) > MAX_FACETS:
        raise InputError(
            f"surface {surface.name!r} has {len(surface.triangles)} triangles; a STEP file takes {MAX_FACETS}: "
            f"simplify it first, or write .stl."
        )
    Message.DefaultMessenger_s().ChangePrinters().Clear()  # the kernel would print about its work
    edge_of = getattr(TopoDS, "Edge_s", None) or TopoDS.Edge
    corner = [BRepBuilderAPI_MakeVertex(gp_Pnt(*map(float, p))).Vertex() for p in 1e3 * surface.points]
    edges: dict[tuple[int, int], object] = {}
    builder, shell, solid = BRep_Builder(), TopoDS_Shell(), TopoDS_Solid()
    builder.MakeShell(shell)
    for row, normal in zip(surface.triangles.tolist(), surface.normals.tolist()):
        wire = BRepBuilderAPI_MakeWire()
        for a, b in zip(row, row[1:] + row[:1]):
            if (b, a) in edges:
                wire.Add(edge_of(edges[b, a].Reversed()))  # type: ignore[attr-defined]
            else:
                edges[a, b] = BRepBuilderAPI_MakeEdge(corner[a], corner[b]).Edge()
                wire.Add(edges[a, b])
        plane = gp_Pln(gp_Pnt(*map(float, 1e3 * surface.points[row[0]])), gp_Dir(*normal))
        builder.Add(shell, BRepBuilderAPI_MakeFace(plane, wire.Wire()).Face())
    shell.Closed(True)
    builder.MakeSolid(solid)
    builder.Add(solid, shell)
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPControl_Writer()
    writer.Transfer(solid, STEPControl_AsIs)
    if writer.Write(str(path)) != IFSelect_RetDone:
        raise FileError(f"surface {str(path)!r} can't be written.")
