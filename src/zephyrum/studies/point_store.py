"""The folder of a study on disk: finished points and tables.

Every file is written to a temporary name and renamed, so a kill at any moment leaves whole files only. A point is
finished when its row is there and its checksums hold; it is never computed twice. It belongs to one case: a folder that
holds a point of another case is refused. Verified by tests/test_files.py.
"""

import hashlib
import json
import logging
from dataclasses import dataclass
from pathlib import Path

from zephyrum._core.atomic_files import atomic_write, write_text
from zephyrum._core.fingerprint import fingerprint
from zephyrum.errors import FileError, InputError
from zephyrum.mesh import Mesh
from zephyrum.mesh.mesh_store import store_mesh, stored_notes
from zephyrum.results.solution_file import stored_case
from zephyrum.solver import Case

log = logging.getLogger(__name__)
CHECKSUM_FILE = "checksum"


@dataclass(frozen=True)
class Store:
    """Folder with the points of a study.

    Attributes
    ----------
    root : path
        The folder.
    """

    root: Path

    @classmethod
    def open(cls, root: str | Path) -> "Store":
        """Make or reopen a folder.

        Parameters
        ----------
        root : path
            The folder.

        Raises
        ------
        FileError
            That is impossible.
        """
        root = Path(root)
        if root.exists() and not root.is_dir():
            raise FileError(f"output {str(root)!r} is a file; give a folder.")
        try:
            (root / "points").mkdir(parents=True, exist_ok=True)
        except OSError as cause:
            raise FileError(f"output folder {str(root)!r} can't be made ({cause.strerror}); choose another.") from None
        return cls(root)

    def state(self, name: str) -> Path:
        """File of the solution of a point.

        Parameters
        ----------
        name : str
            Name of the point.
        """
        return self.root / "points" / f"{name}.npz"

    def mesh_file(self, mesh: Mesh) -> Path:
        """File of a kept mesh, written if it is not there.

        Parameters
        ----------
        mesh : Mesh
            The mesh.
        """
        for path in sorted(self.root.glob("*.cgns")):
            notes = stored_notes(path)
            if notes is not None and notes["fingerprint"] == mesh.fingerprint:
                return path
        return store_mesh(mesh, self.root / f"mesh-{mesh.fingerprint}.cgns")

    def row(self, name: str) -> dict | None:
        """Row of a finished point.

        Parameters
        ----------
        name : str
            Name of the point.

        Returns
        -------
        dict
            None if there is none, or if it or its state is damaged, which is reported.
        """
        path = self.root / "points" / f"{name}.json"
        if not path.is_file():
            return None
        try:
            stored = json.loads(path.read_text(encoding="utf-8"))
            row, sums = stored["row"], stored[CHECKSUM_FILE]
            whole = sums == self._sums(name, row)
        except (ValueError, KeyError, TypeError, OSError):
            whole = False
        if not whole:
            log.warning("point %s in %s is damaged or incomplete: it is computed again", name, self.root)
            return None
        return row

    def finished(self, name: str, case: Case) -> dict | None:
        """Row of a finished point of a case.

        Parameters
        ----------
        name : str
            Name of the point.
        case : Case
            The case.

        Returns
        -------
        dict
            None if it is to be computed.

        Raises
        ------
        InputError
            The folder holds the point of another case.
        """
        row = self.row(name)
        if row is None or row["case"] == case.fingerprint:
            return row
        differ = ", ".join(case.differences(stored_case(self.state(name))[1])) or "more"
        raise InputError(
            f"folder {str(self.root)!r} holds another study ({differ} differ at point {name}): its points would be "
            f"stale; choose another folder or remove it."
        )

    def keep(self, name: str, row: dict, state: bytes) -> None:
        """Keep the solution of a point and mark it finished.

        Parameters
        ----------
        name : str
            Name of the point.
        row : dict
            Its row.
        state : bytes
            Bytes of the file of its solution.
        """
        with atomic_write(self.state(name)) as temporary:
            temporary.write_bytes(state)
        self.keep_row(name, row)

    def keep_row(self, name: str, row: dict) -> None:
        """Mark a point finished whose state is there.

        Parameters
        ----------
        name : str
            Name of the point.
        row : dict
            Its row.
        """
        row = json.loads(json.dumps(row))
        write_text(
            self.root / "points" / f"{name}.json", json.dumps({"row": row, CHECKSUM_FILE: self._sums(name, row)})
        )

    def _sums(self, name: str, row: dict) -> list[str]:
        with self.state(name).open("rb") as file:
            return [fingerprint(row), hashlib.file_digest(file, "sha256").hexdigest()]
