"""Stored solutions of any folder of a sweep or a study, by their conditions.

Verified by tests/test_case.py.
"""

import json
from dataclasses import dataclass
from pathlib import Path

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import PATH, number, takes
from zephyrum.errors import FileError, InputError
from zephyrum.results import Solution, load_solution

SAME = 1e-6  # difference of two values that count as one
NAMES = ("mach", "alpha", "reynolds", "cells")


@dataclass(frozen=True, eq=False)
class StoredResults:
    """Finished points of a folder.

    Attributes
    ----------
    folder : path
        The folder.
    rows : dict[str, dict]
        By the name of their files.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.open_results("results").solution(alpha=2.0).forces.CL  # doctest: +SKIP
    """

    folder: Path
    rows: dict[str, dict]

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{len(self.rows)} points in {self.folder}"

    def table(self):
        """DataFrame of all points: name of the file, condition, coefficients, outcome.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.open_results("results").table()[["alpha", "CL", "CD", "outcome"]]  # doctest: +SKIP
        """
        import pandas as pd

        return pd.DataFrame([{"point": name, **row} for name, row in self.rows.items()])

    def solution(self, name: str | None = None, **condition: float) -> Solution:
        """Stored solution of one point.

        Parameters
        ----------
        name : str, optional
            Name of the point.
        **condition
            `mach`, `alpha`, `reynolds` or `cells` of the point.

        Raises
        ------
        InputError
            If none or several points have these values; the error lists what there is.
        FileError
            If the file of the point is damaged or stale.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.open_results("results").solution(alpha=2.0).forces.CL  # doctest: +SKIP
        """
        for key, value in condition.items():
            if key not in NAMES:
                raise InputError(f"{key} = {value!r}: points are chosen by one of: name, {', '.join(NAMES)}.")
            number(key, value)
        found = [
            key
            for key, row in self.rows.items()
            if name in (None, key)
            and all(abs(float(row[k]) - v) <= SAME * max(abs(v), 1.0) for k, v in condition.items())
        ]
        if len(found) != 1:
            asked = ", ".join(
                [*([] if name is None else [f"name {name!r}"]), *(f"{k} {v:g}" for k, v in condition.items())]
            )
            there = "; ".join(
                f"{key}: M {row['mach']:g}, alpha {row['alpha']:g}" for key, row in list(self.rows.items())[:12]
            )
            raise InputError(
                f"{len(found)} points of {str(self.folder)!r} have {asked or 'no condition named'}; there are: "
                f"{there or 'none'}."
            )
        return load_solution(self.folder / "points" / f"{found[0]}.npz")


@takes(folder=PATH)
def open_results(folder: str | Path) -> StoredResults:
    """Finished points of a folder of `sweep` or of a study; nothing is computed or written.

    Parameters
    ----------
    folder : path
        The folder.

    Examples
    --------
    >>> open_results("my-results").solution(alpha=2.0).forces.CL  # doctest: +SKIP
    """
    folder = Path(folder)
    if not (folder / "points").is_dir():
        raise FileError(f"{str(folder)!r} holds no points; give the folder of a sweep or of a study.")
    rows = {}
    for path in sorted((folder / "points").glob("*.json")):
        try:
            rows[path.stem] = json.loads(path.read_text(encoding="utf-8"))["row"]
        except (OSError, ValueError, KeyError, TypeError):
            raise FileError(f"{str(path)!r} is damaged; run the study again, which computes this point anew.") from None
    return StoredResults(folder, rows)
