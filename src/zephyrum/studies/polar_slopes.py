"""What follows from a sweep over alpha: lift slope, zero-lift angle, neutral point, static margin, trim, centre of
pressure.

All from straight lines through the converged points of one Mach number, with the standard errors of these lines (Etkin
and Reid 1996, Dynamics of Flight, ch. 2). Verified by tests/test_space.py against exact lines.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum.conditions import Reference
from zephyrum.flow.outcome import Outcome

if TYPE_CHECKING:
    from zephyrum.results.polar import Polar


LINEAR_RANGE = 10.0  # deg: points of higher alpha are left out of the lines


@dataclass(frozen=True)
class PolarSlopes:
    """Slopes of a polar at one Mach number, each with its standard error (NaN from two points only).

    Attributes
    ----------
    mach : float
        Mach number.
    points : int
        Number of points used.
    slope : tuple[float, float]
        Lift slope [1/rad].
    no_lift : float
        Alpha of no lift [deg].
    moment : float
        CM of no lift.
    neutral : tuple[float, float]
        Neutral point x [m].
    margin : tuple[float, float]
        Static margin [chord].
    trim : tuple[float, float]
        Alpha at which CM = 0 [deg], and the CL there.

    Examples
    --------
    >>> slopes = PolarSlopes(0.2, 4, (4.6, 0.1), -2.0, -0.03, (0.31, 0.01), (0.06, 0.01), (1.5, 0.28))
    >>> slopes.row()["static margin [chord]"]
    0.06
    """

    mach: float
    points: int
    slope: tuple[float, float]
    no_lift: float
    moment: float
    neutral: tuple[float, float]
    margin: tuple[float, float]
    trim: tuple[float, float]

    def row(self) -> dict:
        """A row of a table.

        Examples
        --------
        >>> slopes = PolarSlopes(0.2, 4, (4.6, 0.1), -2.0, -0.03, (0.31, 0.01), (0.06, 0.01), (1.5, 0.28))
        >>> slopes.row()["CL alpha [1/rad]"]
        4.6
        """
        return {
            "mach": self.mach,
            "points": self.points,
            "CL alpha [1/rad]": self.slope[0],
            "CL alpha +-": self.slope[1],
            "alpha of no lift [deg]": self.no_lift,
            "CM of no lift": self.moment,
            "neutral point x [m]": self.neutral[0],
            "neutral point +-": self.neutral[1],
            "static margin [chord]": self.margin[0],
            "static margin +-": self.margin[1],
            "trim alpha [deg]": self.trim[0],
            "trim CL": self.trim[1],
        }


def _line(x: np.ndarray, y: np.ndarray) -> tuple[float, float, float]:
    """(slope, its standard error, value at 0)"""
    slope, start = np.polyfit(x, y, 1)
    if len(x) < 3:
        return float(slope), float("nan"), float(start)
    rest = y - start - slope * x
    error = np.sqrt(np.sum(rest**2) / (len(x) - 2) / np.sum((x - x.mean()) ** 2))
    return float(slope), float(error), float(start)


def polar_slopes_of(polar: "Polar", reference: Reference) -> list[PolarSlopes]:
    """Slopes of a polar, one for every Mach number with at least two converged points within +-10 deg.

    Parameters
    ----------
    polar : Polar
        Polar.
    reference : Reference
        Reference quantities.

    Examples
    --------
    >>> from zephyrum.results.polar import Polar
    >>> row = {"mach": 0.2, "CD": 0.01, "CM": 0.0, "outcome": "converged"}
    >>> polar = Polar.of([row | {"alpha": a, "CL": 0.1 * a} for a in (-2.0, 0.0, 2.0, 4.0)])
    >>> slopes = polar_slopes_of(polar, Reference(area=6.0, chord=1.0, span=6.0, point=(0.25, 0.0, 0.0)))[0]
    >>> slopes.points, round(slopes.slope[0], 3), abs(round(slopes.no_lift, 6))
    (4, 5.73, 0.0)
    """
    out = []
    for mach, rows in polar.table.groupby("mach"):
        rows = rows[(rows["outcome"] == Outcome.CONVERGED) & (rows["alpha"].abs() <= LINEAR_RANGE)]
        if len(rows) < 2:
            continue
        alpha, lift, moment = (rows[name].to_numpy(dtype=float) for name in ("alpha", "CL", "CM"))
        slope, error, start = _line(np.radians(alpha), lift)
        tilt, tilt_error, at_none = _line(lift, moment)
        margin = -tilt
        x = reference.point[0] + margin * reference.chord
        trim_lift = at_none / margin if margin != 0.0 else float("nan")
        trim = float(np.degrees((trim_lift - start) / slope)) if slope else float("nan")
        out.append(
            PolarSlopes(
                float(mach),
                len(rows),
                (slope, error),
                float(np.degrees(-start / slope)) if slope else float("nan"),
                at_none,
                (x, tilt_error * reference.chord),
                (margin, tilt_error),
                (trim, trim_lift),
            )
        )
    return out
