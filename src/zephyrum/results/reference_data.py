"""Reference data: measured or published coefficients in a CSV file that carries its own reference quantities.

The first lines are comments of the form `# key: value`; a table of alpha, CL, CD and CM follows:

    # title: Skerry, model 1:8
    # area: 28.0 m^2
    # chord: 1.75 m
    # point: 4.2, 0, 1.5 m
    # mach: 0.2
    # reynolds: 1.2e6
    alpha,CL,CD,CM
    0,0.31,0.031,-0.05

Data of a section have no area, and a point in chords behind the nose, such as `# point: 0.25`. Coefficients are
converted to other reference quantities; data of another Mach number are refused, since no rule converts them all.
Verified by tests/test_methods.py.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from zephyrum._core.representation import short_repr
from zephyrum._core.units import quantity
from zephyrum._core.validation import PATH, number, takes
from zephyrum.conditions import Reference
from zephyrum.errors import FileError, InputError

COEFFICIENTS = ("CL", "CD", "CM")
SLOPE_TOLERANCE = 0.025  # largest relative difference of lift slopes by the Mach numbers (Prandtl and Glauert)
REYNOLDS_RATIO = 2.0  # beyond which drag is refused: turbulent friction differs by a tenth
KEYS = ("title", "area", "chord", "span", "point", "mach", "reynolds", "source")


@dataclass(frozen=True, eq=False)
class ReferenceData:
    """Measured or published coefficients with what they refer to.

    Attributes
    ----------
    title : str
        Name on charts.
    table : pandas.DataFrame
        Columns "alpha" [deg], "CL", "CD", "CM", as far as they are given; NaN elsewhere.
    chord : float
        Of the moment [m].
    mach : float
    area : float, optional
        [m^2]; None for a section.
    point : tuple of float, optional
        Moment point [m]; of a section one number, in chords behind the nose.
    reynolds : float, optional
        On the chord.
    source : str
        Where the data come from.

    Examples
    --------
    >>> table = pd.DataFrame({"alpha": [0.0, 4.0], "CL": [0.2, 0.6]})
    >>> data = ReferenceData("model", table, chord=1.5, mach=0.2, area=20.0)
    >>> data.converted(Reference(10.0, 1.5, 12.0, (0.0, 0.0, 0.0)), 0.2)["CL"].tolist()
    [0.4, 1.2]
    """

    title: str
    table: pd.DataFrame
    chord: float
    mach: float
    area: float | None = None
    point: tuple[float, ...] | None = None
    reynolds: float | None = None
    source: str = ""

    __repr__ = short_repr

    def __post_init__(self) -> None:
        number("chord", self.chord, 0.0, open_low=True)
        number("mach", self.mach, 0.0)
        for name in ("area", "reynolds"):
            if getattr(self, name) is not None:
                number(name, getattr(self, name), 0.0, open_low=True)
        unknown = [str(name) for name in self.table if name not in ("alpha", *COEFFICIENTS)]
        if unknown:
            raise InputError(
                f"{self.title}: unknown column {', '.join(unknown)}; known are alpha, {', '.join(COEFFICIENTS)}."
            )
        if "CL" not in self.table or len(self.table.columns) < 2 or self.table.empty:
            raise InputError(f"{self.title}: the table needs a column CL beside one of alpha, CD, CM, and rows.")
        if "CM" in self.table and self.point is None:
            raise InputError(f"{self.title}: CM is given without its moment point; add a line: # point: x, y, z m.")
        table = self.table.reindex(columns=["alpha", *COEFFICIENTS]).astype(float)
        order = "alpha" if "alpha" in self.table else "CL"
        object.__setattr__(self, "table", table.sort_values(order, ignore_index=True))

    def __str__(self) -> str:
        reynolds = "" if self.reynolds is None else f", Re {self.reynolds:.3g}"
        return f"{self.title}: {len(self.table)} points at M {self.mach:g}{reynolds}"

    def converted(self, reference: Reference, mach: float, reynolds: float | None = None) -> pd.DataFrame:
        """The table with coefficients of other reference quantities.

        Parameters
        ----------
        reference : Reference
            What coefficients are to refer to; of a section, area and span count per unit of span.
        mach : float
            Mach number of the stream they are compared with.
        reynolds : float, optional
            Its Reynolds number on `reference.chord`.

        Returns
        -------
        pandas.DataFrame
            Columns "alpha", "CL", "CD", "CM"; what cannot be converted is NaN, with the reasons in
            `attrs["refused"]`.

        Raises
        ------
        InputError
            The Mach numbers differ, so that nothing can be converted.

        Examples
        --------
        >>> data = ReferenceData("model", pd.DataFrame({"alpha": [0.0], "CL": [0.2]}), chord=1.5, mach=0.2, area=20.0)
        >>> data.converted(Reference(20.0, 1.5, 12.0, (0.0, 0.0, 0.0)), 0.22).attrs["refused"]
        []
        """
        ratio = np.inf if max(self.mach, mach) >= 1.0 else np.sqrt((1.0 - self.mach**2) / (1.0 - mach**2))
        if self.mach != mach and abs(ratio - 1.0) > SLOPE_TOLERANCE:
            raise InputError(
                f"{self.title}: data at Mach {self.mach:g} are not converted to Mach {mach:g}, where the lift slope "
                f"differs by more than {SLOPE_TOLERANCE:.1%}; leave them out, or compare at their Mach number."
            )
        out, refused = self.table.copy(), []
        scale = 1.0 if self.area is None else self.area / reference.area
        out["CL"] *= scale
        out["CD"] *= scale
        if self.reynolds is not None and reynolds is not None and out["CD"].notna().any():
            own = self.reynolds * reference.chord / self.chord if self.area is not None else self.reynolds
            if not 1.0 / REYNOLDS_RATIO <= own / reynolds <= REYNOLDS_RATIO:
                refused.append(
                    f"{self.title}: drag at Reynolds number {own:.3g} is not compared with drag at {reynolds:.3g}"
                )
                out["CD"] = np.nan
        if out["CM"].notna().any():
            out["CM"] = self._moment(out, reference, scale, refused)
        out.attrs["refused"] = refused
        return out

    def _moment(self, out: pd.DataFrame, reference: Reference, scale: float, refused: list[str]) -> pd.Series:
        """Pitching moment about the point of the reference."""
        chord = self.chord / reference.chord if self.area is not None else 1.0
        moment = scale * chord * self.table["CM"]
        if self.area is None:
            arm = (0.25 - self.point[0], 0.0)
        else:
            x, _, z = self.point
            arm = ((reference.point[0] - x) / reference.chord, (reference.point[2] - z) / reference.chord)
        if arm == (0.0, 0.0):
            return moment
        if out["alpha"].isna().any():
            refused.append(f"{self.title}: CM without alpha cannot be moved to another point")
            return moment * np.nan
        drag = (scale * self.table["CD"]).fillna(0.0)
        a = np.radians(out["alpha"])
        axial, normal = drag * np.cos(a) - out["CL"] * np.sin(a), out["CL"] * np.cos(a) + drag * np.sin(a)
        return moment + arm[0] * normal - arm[1] * axial


def _split(text: str) -> tuple[dict[str, str], list[str]]:
    """Comments `# key: value`, and the lines of the table."""
    given, rows = {}, []
    for line in text.splitlines():
        if line.startswith("#"):
            key, found, value = line[1:].partition(":")
            if found and key.strip().lower() in KEYS:
                given[key.strip().lower()] = value.strip()
        elif line.strip():
            rows.append(line)
    return given, rows


def _point(text: str, section: bool) -> tuple[float, ...]:
    """Moment point from its text: x, y, z with a unit; of a section one number of chords."""
    values, _, unit = text.strip("[]() ").rpartition(" ")
    if not values or "," in unit:
        values, unit = text, "chords" if section else "m"
    try:
        parts = [float(part) for part in values.strip("[]() ").split(",")]
    except ValueError:
        parts = []
    if section and (len(parts) != 1 or not unit.startswith("chord")):
        raise InputError(
            f"point: {text!r} is not the moment point of a section, such as 0.25 chords; data of an aircraft need a "
            f"line such as # area: 28 m^2 too."
        )
    if not section and len(parts) != 3:
        raise InputError(f"point: {text!r} is not a moment point; write x, y, z and a unit, such as 4.2, 0, 1.5 m.")
    return tuple(parts) if section else tuple(quantity("point", f"{part} {unit}", "m") for part in parts)


@takes(path=PATH)
def read_reference_data(path: str | Path) -> ReferenceData:
    """Read a CSV file of reference data.

    Parameters
    ----------
    path : path
        File with comments `# key: value` (title, area, chord, point, mach, reynolds, source; chord and mach must be
        there, area for an aircraft) and columns alpha, CL, CD, CM.

    Raises
    ------
    FileError
        The file cannot be read.
    InputError
        What it must carry is missing or wrong.

    Examples
    --------
    >>> import tempfile
    >>> file = Path(tempfile.mkdtemp()) / "model.csv"
    >>> text = "# title: model" + chr(10) + "# chord: 1 m" + chr(10) + "# mach: 0.1" + chr(10) + "alpha,CL" + chr(10)
    >>> _ = file.write_text(text + "0,0.2" + chr(10) + "4,0.6")
    >>> print(read_reference_data(file))
    model: 2 points at M 0.1
    """
    from io import StringIO

    path = Path(path)
    try:
        given, rows = _split(path.read_text(encoding="utf-8-sig"))
    except (OSError, UnicodeDecodeError) as cause:
        raise FileError(f"reference data {str(path)!r} cannot be read: {cause}.") from None
    for key, example in (("chord", "1.75 m"), ("mach", "0.2")):
        if key not in given:
            raise InputError(
                f"{path.name} does not carry its {key}, without which its coefficients cannot be compared; add a line "
                f"such as: # {key}: {example}"
            )
    try:
        table = pd.read_csv(StringIO("\n".join(rows)), skipinitialspace=True).rename(columns=str.strip)
        table = table.astype(float)
        section = "area" not in given
        return ReferenceData(
            given.get("title", path.stem),
            table,
            quantity("chord", given["chord"], "m"),
            float(given["mach"]),
            None if section else quantity("area", given["area"], "m^2"),
            _point(given["point"], section) if "point" in given else None,
            float(given["reynolds"]) if "reynolds" in given else None,
            given.get("source", ""),
        )
    except InputError as cause:
        raise InputError(f"{path.name}: {cause}") from None
    except ValueError as cause:  # pandas names the row
        raise InputError(
            f"{path.name}: {cause}; give numbers under the heads alpha, CL, CD, CM, after lines such as # mach: 0.2"
        ) from None
