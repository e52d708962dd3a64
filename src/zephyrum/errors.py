"""The errors that Zephyrum raises on purpose. Each message names the input, its value, what is allowed and what to
do.
"""

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from zephyrum.geometry.surface.triangulation import Surface


class ZephyrumError(Exception):
    """Root of every deliberate error; the command line turns it into one sentence and exit code 2."""


class InputError(ZephyrumError, ValueError):
    """A value, a name or a combination of values that can't be used."""


class FileError(InputError):
    """A file that is missing, unreadable, truncated or not of the kind expected."""


class MeshError(ZephyrumError):
    """A mesh that breaks one of its own rules: `position` (3,) [m] where, and the `surface` it was to grow from, if
    known.
    """

    def __init__(self, words: str, position: np.ndarray | None = None, surface: "Surface | None" = None):
        super().__init__(words)
        self.position, self.surface = position, surface


class FlowError(ZephyrumError):
    """The flow solver met a state from which it can't go on; carries the position and the reason."""
