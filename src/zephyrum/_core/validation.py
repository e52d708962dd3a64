"""Small guards: of every dataclass that validates itself, and of the arguments of public calls.

Verified by tests/test_misuse.py.
"""

import functools
import inspect
import math
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from typing import Any

from zephyrum._core.renamed import renamed_advice
from zephyrum.errors import InputError


def number(
    name: str, value: object, low: float = -math.inf, high: float = math.inf, *, open_low: bool = False
) -> float:
    """Check a finite number within bounds.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        Value to check.
    low, high : float, optional
        Bounds, both included.
    open_low : bool, optional
        Whether `low` itself is excluded.

    Returns
    -------
    float
        Value as a float.

    Raises
    ------
    InputError
        The value is no number, not finite or out of range.

    Examples
    --------
    >>> number("mach", "0.3", 0.0, 4.0)
    0.3
    """
    try:
        result = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError):
        raise InputError(f"{name} = {value!r} is not a number; give a plain number.") from None
    if not math.isfinite(result):
        raise InputError(f"{name} = {value!r} is not finite; give a plain number.")
    if result < low or result > high or (open_low and result == low):
        below = "above" if open_low else "at least"
        allowed = f"{below} {low:g}" if high == math.inf else f"{below} {low:g} and at most {high:g}"
        if low == -math.inf:
            allowed = f"at most {high:g}"
        raise InputError(f"{name} = {result:g} is out of range; it must be {allowed}.")
    return result


def whole(name: str, value: object, low: int, high: int = 10**9) -> int:
    """Check a whole number within bounds.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        Value to check.
    low, high : int
        Bounds, both included.

    Returns
    -------
    int
        Value as an int.

    Raises
    ------
    InputError
        The value is no whole number, or out of range.

    Examples
    --------
    >>> whole("levels", 3.0, 1, 9)
    3
    """
    result = number(name, value, low, high)
    if result != int(result):
        raise InputError(f"{name} = {value!r} is not a whole number.")
    return int(result)


def choice(name: str, value: object, allowed: tuple[str, ...]) -> str:
    """Check one of several words.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        Value to check.
    allowed : tuple[str, ...]
        Valid words.

    Returns
    -------
    str
        The value.

    Raises
    ------
    InputError
        The value is none of `allowed`, which are listed.

    Examples
    --------
    >>> choice("axis", "y", ("x", "y", "z"))
    'y'
    """
    if value not in allowed:
        raise InputError(f"{name} = {value!r} is not known; choose one of: {', '.join(allowed)}.")
    return str(value)


def numbers(name: str, value: object, count: int | None = None) -> tuple[float, ...]:
    """Check a sequence of finite numbers.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        Value to check.
    count : int, optional
        How many; None for any number of them.

    Returns
    -------
    tuple[float, ...]
        Values as floats.

    Raises
    ------
    InputError
        The value is no such sequence.

    Examples
    --------
    >>> numbers("point", [0, 1, 2], 3)
    (0.0, 1.0, 2.0)
    """
    return taken(name, value, Many(float, count))


PATH = (str, os.PathLike)
REMEDY = {
    "Mesh": "make one with mesh_airfoil, mesh_bodies, mesh_aircraft or another mesh_ call, or read one with read_mesh",
    "Freestream": "for example Freestream(mach=0.2, altitude=0.0)",
    "Airfoil": "for example Airfoil.naca('2412') or Airfoil.read('any.csv')",
    "Aircraft": "for example Aircraft.read('skerry.toml')",
    "Surface": "for example Aircraft.surface() or import_surface('scan.stl', unit='mm').surface",
    "Solution": "give what solve returns",
    "Numerics": "for example Numerics(residual_drop=4)",
    "Reconstruction": "for example Reconstruction(order=1)",
    "Limiter": "for example Limiter('off')",
    "CFLControl": "for example CFLControl(initial=5.0)",
    "Reference": "for example Reference(area=28.0, chord=1.75, span=16.4, point=(4.0, 0.0, 1.7))",
    "Gas": "leave it out for air, or give for example Gas(gamma=1.3, R=290.0)",
    "Wall": "for example Wall(temperature=300.0)",
    "Mapping": "give a dict",
    "str": "give text",
    "PathLike": "give the name of a file",
}


@dataclass(frozen=True)
class Many:
    """Of `takes`: any number of things of one kind, or exactly `count`.

    Attributes
    ----------
    kind : Any
        Kind of the things.
    count : int, optional
        How many; any number without it.

    Examples
    --------
    >>> taken("spans", [1, 2.5], Many(float))
    (1.0, 2.5)
    """

    kind: Any
    count: int | None = None


def takes(**kinds):
    """Decorator of public calls: each argument named is refused by an InputError unless it is of its kind; None passes
    where it is the default.

    A kind is a class or several; float: anything that `number` takes, handed on as float; `Many`: an iterable of them,
    handed on as tuple.

    Examples
    --------
    >>> @takes(alpha=float)
    ... def lift_coefficient(alpha):
    ...     return 0.11 * alpha
    >>> round(lift_coefficient(4), 2)
    0.44
    >>> lift_coefficient("four")
    Traceback (most recent call last):
        ...
    zephyrum.errors.InputError: alpha = 'four' is not a number; give a plain number.
    """

    def around(call):
        of = inspect.signature(call)

        @functools.wraps(call)
        def guarded(*given, **named):
            found = of.bind(*given, **named)
            for name, kind in kinds.items():
                if name in found.arguments and not (
                    found.arguments[name] is None and of.parameters[name].default is None
                ):
                    found.arguments[name] = taken(name, found.arguments[name], kind)
            return call(*found.args, **found.kwargs)

        return guarded

    return around


def taken(name: str, value: object, kind: Any) -> Any:
    """Check a value of one of several kinds.

    Parameters
    ----------
    name : str
        Name of the argument, for the error.
    value : object
        Value to check.
    kind : Any
        Kind or tuple of kinds, as in `takes`.

    Returns
    -------
    Any
        The value, numbers as float.

    Raises
    ------
    InputError
        The value is of another kind; the remedy is named.

    Examples
    --------
    >>> taken("alpha", 4, float)
    4.0
    >>> taken("name", 4, str)
    Traceback (most recent call last):
        ...
    zephyrum.errors.InputError: name = 4 is not a str; give text.
    """
    if kind is float:
        return number(name, value)
    if isinstance(kind, Many):
        many = "some" if kind.count is None else str(kind.count)
        if isinstance(value, str | Mapping) or not isinstance(value, Iterable):
            raise InputError(f"{name} = {_short(value)} must be a list of {many}; put brackets round it.")
        value = tuple(value)
        if kind.count is not None and len(value) != kind.count:
            raise InputError(f"{name} = {_short(value)} must be a list of {many}, not of {len(value)}.")
        return tuple(taken(f"{name}[{k}]", one, kind.kind) for k, one in enumerate(value))
    allowed = kind if isinstance(kind, tuple) else (kind,)
    if isinstance(value, allowed):
        return value
    names = [one.__name__ for one in allowed]
    article = "an" if names[0][0] in "AEIO" else "a"
    help_with = "; ".join(REMEDY[one] for one in names if one in REMEDY) or f"make it with {names[0]}(...)"
    raise InputError(f"{name} = {_short(value)} is not {article} {' or '.join(names)}; {help_with}.")


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:57]}..."


def set_fields(target: object, **values: object) -> None:
    """Set fields of a frozen dataclass while it is built, such as numbers that a check has converted.

    Parameters
    ----------
    target : object
        Instance in its `__post_init__`.
    **values
        Fields and their values.

    Examples
    --------
    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True)
    ... class Point:
    ...     x: float
    ...     def __post_init__(self):
    ...         set_fields(self, x=float(self.x))
    >>> Point(1)
    Point(x=1.0)
    """
    for name, value in values.items():
        object.__setattr__(target, name, value)


def refuse_unknown(kind: type, given: dict, what: str) -> None:
    """Refuse an option that is no field of a dataclass.

    Parameters
    ----------
    kind : type
        The dataclass.
    given : dict
        Options by name.
    what : str
        What the options are for, in the words of the error.

    Raises
    ------
    InputError
        An option is unknown; the valid ones or its new word are named.

    Examples
    --------
    >>> from dataclasses import make_dataclass
    >>> refuse_unknown(make_dataclass("Options", ["growth"]), {"growht": 1.2}, "a mesh")
    Traceback (most recent call last):
        ...
    zephyrum.errors.InputError: growht is no option of a mesh; choose one of: growth.
    """
    known = [field.name for field in fields(kind)]
    for name in given:
        if name not in known:
            advice = renamed_advice(name) or f"choose one of: {', '.join(known)}"
            raise InputError(f"{name} is no option of {what}; {advice}.")
