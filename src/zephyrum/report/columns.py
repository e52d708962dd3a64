"""How tables show values: short heads of columns, and the text of a cell. Shared by the command line and the report."""

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zephyrum.flow.outcome import Outcome


HEADS = {
    "CL_error": "CL +-",
    "CD_far": "far CD",
    "CD_far_error": "far +-",
    "CD_error": "CD +-",
    "mach_max": "top M",
    "y_plus_max": "y+ max",
    "CD_friction": "CD fric",
    "finest_mesh": "finest",
    "observed_order": "order",
    "seconds": "s",
    "residual_drop": "drop",
}


def cell(value: "float | str | Outcome | None", form: str) -> str:
    """A value as a table shows it; "-" where there is none.

    Parameters
    ----------
    value : float or str or Outcome or None
        Value.
    form : str
        Format of Python, or "~n" for a plain number with n significant digits ("+~n" with its sign).

    Notes
    -----
    A format is Python's, or "~n" for a plain number with n significant digits ("+~n" with its sign).

    Examples
    --------
    >>> cell(None, ".3f"), cell(0.12345, ".3f")
    ('-', '0.123')
    """
    if value is None or (isinstance(value, float) and value != value):
        return "-"
    if "~" in form:
        sign, digits = form.split("~")
        return significant(float(value), int(digits), sign)
    return format(value, form) if form else str(value)


def significant(value: float, digits: int, sign: str = "") -> str:
    """A number without exponent, rounded to significant digits, at least to whole ones.

    Parameters
    ----------
    value : float
        Value.
    digits : int
        Number of significant digits.
    sign : str, optional
        "+" to show the sign of positive numbers.

    Examples
    --------
    >>> significant(0.012345, 3)
    '0.0123'
    """
    if value == 0.0 or not math.isfinite(value):
        return format(value, f"{sign}g")
    decimals = max(digits - 1 - math.floor(math.log10(abs(value))), 0)
    return format(value, f"{sign},.{min(decimals, 12)}f")
