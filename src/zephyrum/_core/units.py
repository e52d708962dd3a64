"""Quantities with units in text: "240 kt", "8000 ft", "35 cm".

A plain number passes as SI. The parsing is pint's, loaded only when a text is met.
"""

import functools
import math
import re
from typing import Any, TypeAlias

from zephyrum.errors import InputError

Quantity: TypeAlias = Any  # a number, or text with its unit; a float once it is checked

_PATTERN = re.compile(r"^\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")
# what a user may write for each kind, shown when the dimension is wrong
_EXAMPLES = {
    "m/s": '"240 kt", "70 m/s"',
    "m": '"8000 ft", "35 cm"',
    "Pa": '"950 hPa"',
    "K": '"15 degC"',
    "deg": '"0.1 rad"',
    "m^2": '"2.5 m^2"',
    "kg/m^3": '"1.2 kg/m^3"',
    "kg/s": '"12 kg/s"',
    "s": '"90 s"',
}
_TRADE = {
    "kt": "knot",
    "kts": "knot",
    "kn": "knot",
    "°C": "degC",
    "C": "degC",
    "°F": "degF",
    "°": "deg",
    "mb": "millibar",
}


@functools.cache
def _registry():
    import pint

    return pint.UnitRegistry()


def quantity(name: str, value: object, unit: str) -> float:
    """Convert a value to a unit.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        A number is taken to be in `unit` already; a text must carry a unit of the same dimension.
    unit : str
        Wanted unit.

    Returns
    -------
    float
        Value in `unit`.

    Raises
    ------
    InputError
        The text cannot be read, or its dimension is wrong.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(round(zy.quantity("speed", "240 kt", "m/s"), 2))
    123.47
    """
    if not isinstance(unit, str):
        raise InputError(f"unit = {unit!r} is not the name of a unit; give text, for example 'm'.")
    if not isinstance(value, str):
        if isinstance(value, bool):
            raise InputError(
                f"{name} = {value!r} is not a quantity; give a number in {unit} or a text such as "
                f"{_EXAMPLES.get(unit, unit)}."
            )
        try:
            plain = float(value)  # type: ignore[arg-type]
        except (TypeError, ValueError):
            raise InputError(f"{name} = {value!r} is not a quantity; give a number in {unit}.") from None
        if not math.isfinite(plain):
            raise InputError(f"{name} = {value!r} is not finite; give a number in {unit}.")
        return plain
    match = _PATTERN.match(value)
    hint = f"write a number in {unit} or a text such as {_EXAMPLES.get(unit, unit)}"
    if not match:
        raise InputError(f"{name} = {value!r} is not a quantity; {hint}.")
    size, symbol = float(match[1]), _TRADE.get(match[2], match[2])
    if not symbol:
        raise InputError(
            f"{name} = {value!r} has no unit; write {match[1]} for {unit}, or a text such as "
            f"{_EXAMPLES.get(unit, unit)}."
        )
    if unit == "K":  # in a temperature F and C are no farad and coulomb
        symbol = {"F": "degF", "C": "degC"}.get(symbol, symbol)
    if symbol == unit:  # the registry of units takes half a second to load
        return size
    import pint

    try:
        read = _registry().Quantity(size, symbol)
    except (pint.errors.PintError, AssertionError, TypeError, ValueError, SyntaxError, AttributeError, KeyError):
        raise InputError(f"{name} = {value!r} has the unknown unit {match[2]!r}; {hint}.") from None
    try:
        return float(read.to(unit).magnitude)
    except pint.errors.DimensionalityError:
        raise InputError(f"{name} = {value!r} is a {_kind(read)}, where {unit} is needed; {hint}.") from None


def _kind(read) -> str:
    names = {
        "[mass] * [length] / [time] ** 2": "force",
        "[length] ** 2": "area",
        "[length] ** 3": "volume",
        "[mass] / [length] ** 3": "density",
        "[mass] * [length] ** 2 / [time] ** 2": "energy",
        "[mass] * [length] ** 2 / [time] ** 3": "power",
        "[length]": "length",
        "[length] / [time]": "speed",
        "[mass] / [length] / [time] ** 2": "pressure",
        "[temperature]": "temperature",
        "[time]": "time",
        "[mass]": "mass",
        "dimensionless": "plain number",
    }
    text = str(read.dimensionality)
    return names.get(text, f"quantity in {read.units}")
