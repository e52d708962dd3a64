"""A mesh kept on disk with all that belongs to it: the CGNS file of its cells and a JSON file beside it.

The JSON file holds what CGNS has no place for: reference quantities, recipe, attitude, fingerprint and, for a study,
from what the mesh was made. The coarser meshes of a family are kept beside it. Verified by tests/test_case.py.
"""

import json
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import atomic_write, write_text
from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum.conditions import Reference
from zephyrum.errors import FileError
from zephyrum.mesh.core import Group, Mesh
from zephyrum.mesh.io import read_mesh, write_mesh

ARRAYS = ("points", "face_start", "face_points", "left", "right")


def family_file(path: Path, depth: int) -> Path:
    """File of a coarser level of a kept mesh.

    Parameters
    ----------
    path : path
        File of the mesh (.cgns).
    depth : int
        How many levels coarser.

    Examples
    --------
    >>> from pathlib import Path
    >>> family_file(Path("mesh.cgns"), 1).name
    'mesh-start-1.cgns'
    """
    return path.with_name(f"{path.stem}-start-{depth}.cgns") if depth else path


def parents_file(path: Path) -> Path:
    """File of the coarse cells that hold the cells of each mesh of a family.

    Parameters
    ----------
    path : path
        File of the mesh (.cgns).

    Examples
    --------
    >>> parents_file(Path("out/mesh.cgns")).name
    'mesh-parents.npz'
    """
    return path.with_name(f"{path.stem}-parents.npz")


def store_mesh(mesh: Mesh, path: str | Path, made_from: str = "") -> Path:
    """Write a mesh and its coarser levels.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    path : path
        File (.cgns); the others lie beside it.
    made_from : str, optional
        Description of its input.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = store_mesh(mesh, f"{folder}/mesh.cgns")
    ...     kept = read_stored_mesh(path)
    >>> kept.fingerprint == mesh.fingerprint
    True
    """
    path = Path(path)
    for depth, one in enumerate(mesh.family()):
        write_mesh(one, family_file(path, depth))
    parents = {f"parent {depth}": one.parent for depth, one in enumerate(mesh.family()) if one.parent is not None}
    if parents:
        with atomic_write(parents_file(path)) as temporary, temporary.open("wb") as file:
            np.savez(file, **parents)  # type: ignore[arg-type]
    notes = mesh_notes(mesh) | {"made from": made_from, "meshes": len(mesh.family())}
    write_text(path.with_suffix(".json"), json.dumps(notes, indent=1))
    return path


def stored_notes(path: str | Path) -> dict | None:
    """Read the notes of a kept mesh.

    Parameters
    ----------
    path : path
        File of the mesh (.cgns).

    Returns
    -------
    dict
        None if the mesh is not there or not whole.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     stored_notes(f"{folder}/mesh.cgns") is None  # there is none
    True
    """
    path = Path(path)
    try:
        notes = json.loads(path.with_suffix(".json").read_text(encoding="utf-8"))
        whole = all(family_file(path, depth).is_file() for depth in range(notes["meshes"]))
        whole &= notes["meshes"] == 1 or parents_file(path).is_file()
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return notes if whole else None


def read_stored_mesh(path: str | Path, family: bool = True) -> Mesh:
    """Read a kept mesh.

    Parameters
    ----------
    path : path
        File of the mesh (.cgns).
    family : bool, optional
        Whether to read its coarser levels.

    Raises
    ------
    FileError
        The mesh is not there or was changed.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 64, 16)
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     kept = read_stored_mesh(store_mesh(mesh, f"{folder}/mesh.cgns"))
    >>> len(kept.family()) == len(mesh.family())
    True
    """
    path = Path(path)
    notes = stored_notes(path)
    if notes is None:
        raise FileError(
            f"the mesh {str(path)!r} or the file {path.with_suffix('.json').name!r} beside it is missing or damaged; "
            f"run the study again."
        )
    files = range(notes["meshes"] if family else 1)
    try:
        line = [_restored(read_mesh(family_file(path, depth)), notes) for depth in files]
    except (KeyError, TypeError, ValueError, AttributeError) as cause:  # notes of a form that is never written
        raise FileError(
            f"{path.with_suffix('.json').name!r} beside the mesh {str(path)!r} is damaged ({cause!r}); "
            "remove both and run the study again."
        ) from None
    if line[0].fingerprint != notes.get("fingerprint"):
        raise FileError(
            f"the mesh {str(path)!r} is not the one it was ({line[0].fingerprint}, not {notes.get('fingerprint')}); "
            f"remove it and run the study again."
        )
    if len(line) > 1:
        try:
            parents = read_arrays(parents_file(path))
            for depth in range(len(line) - 2, -1, -1):
                line[depth] = replace(line[depth], coarser=line[depth + 1], parent=parents[f"parent {depth}"])
        except (DamagedArrays, KeyError) as cause:
            raise FileError(
                f"{str(parents_file(path))!r} can't be read ({cause}); remove it and run the study again."
            ) from None
    return line[0]


def mesh_notes(mesh: Mesh) -> dict:
    """What of a mesh is neither a point nor a face, as plain values.

    Parameters
    ----------
    mesh : Mesh
        Mesh.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh_notes(mesh_airfoil(Airfoil.naca("0012"), 32, 8))["dimension"]
    2
    """
    return {
        "fingerprint": mesh.fingerprint,
        "dimension": mesh.dimension,
        "wedge": mesh.wedge,
        "attitude": mesh.attitude,
        "reference": None if mesh.reference is None else asdict(mesh.reference),
        "recipe": mesh.recipe,
        "groups": [[g.name, g.role, g.start, g.stop] for g in mesh.groups],
    }


def mesh_of(arrays: dict[str, np.ndarray], notes: dict) -> Mesh:
    """Mesh of stored arrays and notes, without coarser levels.

    Parameters
    ----------
    arrays : dict[str, array]
        Arrays named in `ARRAYS`.
    notes : dict
        See `mesh_notes`.
    """
    groups = tuple(Group(*row) for row in notes["groups"])
    mesh = Mesh(*(arrays[name] for name in ARRAYS), groups, notes["dimension"], notes["wedge"])  # type: ignore[arg-type, call-arg]
    return _restored(mesh, notes)


def _restored(mesh: Mesh, notes: dict) -> Mesh:
    for name in ("wedge", "attitude"):
        if not isinstance(notes[name], int | float):
            raise TypeError(f"{name} = {notes[name]!r} is no number")
    reference = notes["reference"] and Reference(**notes["reference"])
    roles = {name: role for name, role, *_ in notes["groups"]}
    groups = tuple(replace(g, role=roles.get(g.name, g.role)) for g in mesh.groups)
    return replace(
        mesh,
        groups=groups,
        reference=reference,
        recipe=notes["recipe"],
        attitude=notes["attitude"],
        wedge=notes["wedge"],
    )
