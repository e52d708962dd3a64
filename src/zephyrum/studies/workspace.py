"""The folder of a study: its study file, its meshes, its points, its tables.

Verified by tests/test_studies.py.
"""

import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from zephyrum._core.atomic_files import write_text
from zephyrum._core.fingerprint import canonical, fingerprint
from zephyrum.errors import FileError
from zephyrum.mesh import Mesh
from zephyrum.mesh.mesh_store import read_stored_mesh, store_mesh, stored_notes
from zephyrum.studies.point_store import Store

if TYPE_CHECKING:
    from pandas import DataFrame


@dataclass(frozen=True)
class Workspace:
    """Folder of a study; reading it neither computes nor writes.

    Attributes
    ----------
    folder : path
        The folder.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     Workspace(Path(folder)).folder.exists()
    True
    """

    folder: Path

    @cached_property
    def store(self) -> Store:
        """Its points."""
        return Store(self.folder)

    def open(self) -> "Workspace":
        """Make the folder; FileError if that is impossible."""
        Store.open(self.folder)
        return self

    # -- meshes --------------------------------------------------------------------------------------------------------
    def mesh(self, name: str, made_from: dict, make: Callable[[], Mesh] | None) -> Mesh | None:
        """Mesh of a name if it was made from the same input, else a new one, which is kept.

        Parameters
        ----------
        name : str
            Name of the mesh.
        made_from : dict
            All that it is made from.
        make : callable or None
            Makes the mesh; without it nothing is made.

        Returns
        -------
        Mesh
            None if `make` is None and there is no such mesh.

        Raises
        ------
        FileError
            `make` is None and the mesh was made from another input.
        """
        path = self.folder / f"{name}.cgns"
        notes, key = stored_notes(path), fingerprint(made_from)
        if notes is not None and notes["made from"] == key:
            return read_stored_mesh(path)
        if make is None:
            if notes is not None:
                raise FileError(
                    f"the results in {str(self.folder)!r} are stale: {path.name} was made from another input than "
                    f"study.toml gives; run the study again."
                )
            return None
        self.open()
        mesh = make()
        store_mesh(mesh, path, key)
        return mesh

    # -- records -------------------------------------------------------------------------------------------------------
    def record(self, name: str, key: object) -> dict | None:
        """What `keep_record` wrote under the same key.

        Parameters
        ----------
        name : str
            Name of the record.
        key : object
            What it depends on.

        Returns
        -------
        dict
            None if there is none, if it is damaged, or of another key.
        """
        stored = self._held(name)
        return stored["made"] if stored is not None and stored["key"] == fingerprint(key) else None

    def stale_record(self, name: str, key: object) -> bool:
        """Whether there is a record of that name of another key.

        Parameters
        ----------
        name : str
            Name of the record.
        key : object
            What it depends on.
        """
        stored = self._held(name)
        return stored is not None and stored["key"] != fingerprint(key)

    def keep_record(self, name: str, key: object, made: dict) -> None:
        """Write a JSON file with a checksum, under the fingerprint of a key.

        Parameters
        ----------
        name : str
            Name of the record.
        key : object
            What it depends on.
        made : dict
            The record.
        """
        made = json.loads(json.dumps(made, default=str))
        text = {"key": fingerprint(key), "checksum": fingerprint(canonical(made)), "made": made}
        write_text(self.folder / f"{name}.json", json.dumps(text, indent=1))

    def _held(self, name: str) -> dict | None:
        path = self.folder / f"{name}.json"
        if not path.is_file():
            return None
        try:
            stored = json.loads(path.read_text(encoding="utf-8"))
            return stored if stored["checksum"] == fingerprint(canonical(stored["made"])) else None
        except (ValueError, KeyError, TypeError, OSError):
            return None

    def write_table(self, name: str, frame: "DataFrame") -> None:
        """Write a table as a CSV file.

        Parameters
        ----------
        name : str
            Name of the file.
        frame : pandas.DataFrame
            The table.
        """
        write_text(self.folder / f"{name}.csv", frame.to_csv(index=False))
