"""Polars of several study folders and files of reference data on one chart.

Verified by tests/test_methods.py.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum.errors import InputError
from zephyrum.results.reference_data import read_reference_data
from zephyrum.studies.jobs.methods import method_polars
from zephyrum.studies.method_comparison import MethodComparison, compare_polars
from zephyrum.studies.study import Study, open_study

if TYPE_CHECKING:
    import pandas as pd

SAME = 1e-3  # relative difference of reference quantities that count as equal


def compare_results(paths: Sequence[str | Path]) -> MethodComparison:
    """Compare the polars in study folders with each other and with reference data; nothing is computed.

    Parameters
    ----------
    paths : sequence of path
        Folders of studies, of which there must be one, and CSV files of reference data. What is in the first is what
        the others are set against.

    Raises
    ------
    InputError
        A folder has no polar, the studies have other reference quantities, or data cannot be converted.

    Examples
    --------
    >>> compare_results(["euler-results", "sa-results", "tunnel.csv"]).table  # doctest: +SKIP
    """
    given = [Path(path) for path in paths]
    studies = {path: open_study(path) for path in given if path.suffix.lower() != ".csv"}
    if not studies:
        raise InputError("there is no folder of a study to compare with; give one before the reference data.")
    first = next(iter(studies.values()))
    polars: dict[str, pd.DataFrame] = {}
    lines: list[str] = []
    measured: list[str] = []
    for path in given:
        if path in studies:
            _check_reference(path, studies[path], first)
            found, said = method_polars(studies[path])
            if not found:
                raise InputError(f"{str(path)!r} holds no polar; run its study, with a [sweep] table, first.")
            polars |= {_name(path, name, polars, len(studies)): table for name, table in found.items()}
        else:
            data = read_reference_data(path)
            mach = min(first.spec.machs(), key=lambda one: abs(one - data.mach))
            table = data.converted(first.source.reference, mach, first.freestream(mach).reynolds)
            name, said = _name(path, data.title, polars, 1), table.attrs["refused"]
            polars[name] = table.assign(mach=mach)
            measured.append(name)
        lines += said
    return compare_polars(polars, lines, measured)


def _name(path: Path, name: str, taken: dict, studies: int) -> str:
    """Name of a curve: that of the method, with that of the folder where there are several studies."""
    made = name if studies == 1 or name == path.name else f"{path.name}: {name}"
    k = 2
    while made in taken:
        made, k = f"{path.name}: {name} ({k})", k + 1
    return made


def _check_reference(path: Path, study: Study, first: Study) -> None:
    """Refuse studies whose coefficients mean something else; those of sections are about the quarter chord."""
    if study.spec.kind != first.spec.kind:
        raise InputError(f"{str(path)!r} is of {study.spec.kind} geometry, the first study of {first.spec.kind}.")
    if study.spec.kind == "section":
        return
    own, other = study.source.reference, first.source.reference
    values, wanted = (np.array([one.area, one.chord, *one.point]) for one in (own, other))
    if not np.allclose(values, wanted, rtol=SAME, atol=SAME * other.chord):
        raise InputError(
            f"{str(path)!r} refers to {own}, the first study to {other}; give both the same aircraft.reference."
        )
