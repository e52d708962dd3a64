"""The last state of a run on disk, so that a long one that is killed loses a minute.

Written to a temporary name and renamed; it carries what it belongs to, and a file of anything else is left unread.
Verified by tests/test_space.py.
"""

import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.atomic_files import atomic_write, disk_errors, errors_as_warnings
from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum.flow import Start

if TYPE_CHECKING:
    from zephyrum.solver.case import Case


SAVE_INTERVAL = 60.0  # s


@dataclass
class Checkpoint:
    """Writes the states of a run, at most every `SAVE_INTERVAL` seconds; it is called with those of every step.

    Attributes
    ----------
    path : path
        File.
    key : str
        Fingerprint of the case.
    last : float
        Clock of the last writing [s].
    latest : tuple[array, array, float, list[tuple], int], optional
        What was called with last.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Airfoil, Case, Freestream, mesh_airfoil
    >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     Checkpoint.of(f"{folder}/state.npz", case).read() is None  # nothing was broken off
    True
    """

    path: Path
    key: str
    last: float = field(default_factory=time.monotonic)
    latest: tuple[np.ndarray, np.ndarray, float, list[tuple], int] | None = None

    @classmethod
    def of(cls, path: str | Path, case: "Case") -> "Checkpoint":
        """Checkpoint of a case.

        Parameters
        ----------
        path : path
            File.
        case : Case
            The case.

        Raises
        ------
        FileError
            The folder cannot be made.
        """
        with disk_errors(path):
            Path(path).parent.mkdir(parents=True, exist_ok=True)
        return cls(Path(path), case.fingerprint)

    def __call__(self, q: np.ndarray, first_order_cells: np.ndarray, cfl: float, rows: list[tuple]) -> None:
        self.latest = q, first_order_cells, cfl, rows, len(rows)
        if time.monotonic() - self.last >= SAVE_INTERVAL:
            self.flush()

    def flush(self) -> None:
        """Write the last states now, if there are any; what the disk refuses is said in a warning, as it shall not cost
        the run.
        """
        if self.latest is None:
            return
        q, first_order_cells, cfl, rows, count = self.latest
        self.last = time.monotonic()
        with (
            errors_as_warnings("the run goes on without a new checkpoint"),
            atomic_write(self.path) as part,
            part.open("wb") as file,
        ):
            np.savez(
                file,
                q=q,
                first_order_cells=first_order_cells,
                cfl=np.array(cfl),
                rows=np.array(rows[:count]),
                key=np.array(self.key),
            )

    def read(self) -> Start | None:
        """Where the run that was broken off continues; None if there is none, or it was of another case."""
        if not self.path.is_file():
            return None
        try:
            stored = read_arrays(self.path, ("key", "q", "first_order_cells", "cfl", "rows"))
        except DamagedArrays:
            return None
        if (
            str(stored["key"]) != self.key
            or not np.isfinite(stored["q"]).all()
            or len(stored["first_order_cells"]) != len(stored["q"])
        ):
            return None
        rows = tuple(tuple(row) for row in stored["rows"].tolist())
        return Start(stored["q"], stored["first_order_cells"], float(stored["cfl"]), rows)

    def remove(self) -> None:
        """The run has ended."""
        with suppress(OSError):
            self.path.unlink(missing_ok=True)
