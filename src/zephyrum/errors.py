"""The errors that Zephyrum raises on purpose. Each message names the input, its value, what is allowed and what to
do.
"""

from typing import Any

import numpy as np


class ZephyrumError(Exception):
    """Root of every deliberate error; the command line turns it into one sentence and exit code 2.

    Examples
    --------
    >>> import zephyrum as zy
    >>> issubclass(zy.InputError, zy.ZephyrumError)
    True
    """


class InputError(ZephyrumError, ValueError):
    """A value, a name or a combination of values that can't be used.

    Examples
    --------
    >>> import zephyrum as zy
    >>> try:
    ...     zy.Freestream(mach=-1.0)
    ... except zy.InputError as cause:
    ...     print(cause)
    mach = -1 is out of range; it must be above 0.
    """


class FileError(InputError):
    """A file that is missing, unreadable, truncated or not of the kind expected.

    Examples
    --------
    >>> import zephyrum as zy
    >>> try:
    ...     zy.load_solution("missing.npz")
    ... except zy.FileError as cause:
    ...     print(cause)
    solution 'missing.npz' does not exist; check the name.
    """


class MeshError(ZephyrumError):
    """A mesh that breaks one of its own rules: `position` (3,) [m] where, and the `surface` it was to grow from, if
    known.

    Examples
    --------
    >>> import zephyrum as zy
    >>> try:
    ...     zy.mesh_aircraft("scan.stl")  # doctest: +SKIP
    ... except zy.MeshError as cause:
    ...     print(cause.position)
    """

    def __init__(self, words: str, position: np.ndarray | None = None, surface: Any = None):
        super().__init__(words)
        self.position, self.surface = position, surface


class FlowError(ZephyrumError):
    """The flow solver met a state from which it can't go on; carries the position and the reason.

    Examples
    --------
    >>> import zephyrum as zy
    >>> issubclass(zy.FlowError, zy.ZephyrumError)
    True
    """
