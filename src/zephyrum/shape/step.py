"""STEP files read (and solids of facets written) with the open CAD kernel of the extra `cad`.

Verified by tests/test_adopt.py where the extra is installed.
"""

from pathlib import Path

import numpy as np

from zephyrum.errors import FileError, InputError
from zephyrum.shape.surface import Surface

DEFLECTION = 5e-4  # of the size: distance of the triangles from the CAD surface


def read_step(path: Path) -> Surface:
    """Triangles of all faces of a STEP file in metres, a label for each solid; FileError if it can't be read."""
    try:
        from OCP.Bnd import Bnd_Box
        from OCP.BRep import BRep_Tool
        from OCP.BRepBndLib import BRepBndLib
        from OCP.BRepMesh import BRepMesh_IncrementalMesh
        from OCP.IFSelect import IFSelect_RetDone
        from OCP.STEPControl import STEPControl_Reader
        from OCP.TopAbs import TopAbs_FACE, TopAbs_REVERSED, TopAbs_SOLID
        from OCP.TopExp import TopExp_Explorer
        from OCP.TopLoc import TopLoc_Location
        from OCP.TopoDS import TopoDS
    except ImportError:
        raise InputError("STEP files need the open CAD kernel; install it with: pip install 'zephyrum[cad]'.") from None
    reader = STEPControl_Reader()
    if reader.ReadFile(str(path)) != IFSelect_RetDone or not reader.TransferRoots():
        raise FileError(f"surface {str(path)!r} is not a STEP file that can be read.")
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
            place = TopLoc_Location()
            part = BRep_Tool.Triangulation_s(face, place)
            if part is not None:
                move = place.Transformation()
                for i in range(1, part.NbNodes() + 1):
                    spot = part.Node(i).Transformed(move)
                    points.append((spot.X(), spot.Y(), spot.Z()))
                turned = face.Orientation() == TopAbs_REVERSED
                for i in range(1, part.NbTriangles() + 1):
                    a, b, c = (v - 1 + base for v in part.Triangle(i).Get())
                    triangles.append((a, c, b) if turned else (a, b, c))
                    label.append(k)
                base += part.NbNodes()
            faces.Next()
    if not triangles:
        raise FileError(f"surface {str(path)!r} holds no faces.")
    # the kernel works in millimetres whatever the file's unit
    return Surface(1e-3 * np.array(points), np.array(triangles), np.array(label), tuple(names), path.stem)
