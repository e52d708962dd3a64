"""Canonical descriptions of objects, their hash, and where two of them differ.

A description is a nested dictionary of plain values (text, numbers, lists), the same for equal objects on any machine.
Numbers are rounded to 12 significant digits, so that the last bits of a mathematical library do not count.
Verified by tests/test_case.py.
"""

import dataclasses
import hashlib
import json
import math
from collections.abc import Mapping
from typing import Any

import numpy as np

DIGITS = 12  # significant digits of a number in a description


def canonical(value: object) -> Any:
    """The description of a value: text, numbers, None, lists, mappings, dataclasses and arrays.

    Parameters
    ----------
    value : object
        Of a dataclass all fields of its constructor count.

    Returns
    -------
    object
        Made of dict, list, str, int, float, bool and None only.

    Raises
    ------
    TypeError
        If the value is of another kind: it has no canonical form.

    Examples
    --------
    >>> canonical({"mach": 0.5, "range": (0, 1)})
    {'mach': 0.5, 'range': [0, 1]}
    """
    if value is None or isinstance(value, bool | str | int):
        return value
    if isinstance(value, float | np.floating):
        number = float(value)
        return float(f"{number:.{DIGITS}g}") if math.isfinite(number) else str(number)
    if isinstance(value, np.integer):
        return int(value)
    if isinstance(value, np.ndarray):
        array = np.ascontiguousarray(value)
        return {
            "array": hashlib.sha256(array.tobytes()).hexdigest(),
            "shape": list(array.shape),
            "kind": array.dtype.str,
        }
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: canonical(getattr(value, f.name)) for f in dataclasses.fields(value) if f.init}
    if isinstance(value, Mapping):
        return {str(key): canonical(value[key]) for key in sorted(value, key=str)}
    if isinstance(value, list | tuple):
        return [canonical(one) for one in value]
    raise TypeError(f"a {type(value).__name__} has no canonical description")


def fingerprint(description: object) -> str:
    """Hash a canonical description.

    Parameters
    ----------
    description : object
        Nested dicts, lists, numbers and texts (see `canonical`).

    Returns
    -------
    str
        Sixteen hexadecimal digits of the SHA-256 hash.

    Examples
    --------
    >>> fingerprint({"mach": 0.3}) == fingerprint({"mach": 0.3})
    True
    """
    text = json.dumps(canonical(description), sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def differences(one: object, other: object, name: str = "") -> list[str]:
    """Name the entries at which two canonical descriptions differ.

    Parameters
    ----------
    one, other : object
        Descriptions.
    name : str, optional
        Name of the descriptions themselves, the prefix of all others.

    Returns
    -------
    list[str]
        Dotted names, in the order of the first description.

    Examples
    --------
    >>> differences({"air": {"mach": 0.3}}, {"air": {"mach": 0.4}})
    ['air.mach']
    """
    if isinstance(one, dict) and isinstance(other, dict):
        keys = [*one, *(key for key in other if key not in one)]
        missing = object()
        return [
            found
            for key in keys
            for found in differences(one.get(key, missing), other.get(key, missing), f"{name}.{key}" if name else key)
        ]
    if type(one) is type(other) and one == other:
        return []
    if isinstance(one, int | float) and isinstance(other, int | float) and one == other:
        return []
    return [name or "value"]
