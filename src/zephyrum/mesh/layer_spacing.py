"""Wall layers that suit a condition: first height from a wanted y+, growth and count from there to the farfield.

Friction is estimated by the one-seventh power law of a turbulent flat plate, cf = 0.026 Re^(-1/7) (White 2006, Viscous
Fluid Flow, ch. 6), taken for the whole chord; y+ belongs to the height of the first cell. After a run the true y+ is
known: `Solution.y_plus`. Verified by tests/test_viscous.py.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from zephyrum._core.validation import number, whole
from zephyrum.errors import InputError
from zephyrum.mesh.structured.spacing import steps_for


@dataclass(frozen=True)
class Layers:
    """Wall layers; lengths in chords.

    Attributes
    ----------
    first_height : float
        Height of the first cell.
    growth : float
        Ratio of successive layers.
    count : int
        Number of layers.
    farfield : float
        Distance that the layers fill.
    y_plus : float
        Height of the first cell in wall units.
    reynolds : float
        Reynolds number on the chord.

    Examples
    --------
    >>> import zephyrum as zy
    >>> layers = zy.wall_layers(reynolds=3e6)
    >>> layers.growth, layers.y_plus
    (1.2, 1.0)
    """

    first_height: float
    growth: float
    count: int
    farfield: float
    y_plus: float
    reynolds: float

    def describe(self) -> str:
        """One sentence to be shown before a run.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.wall_layers(reynolds=6e6, y_plus=1.0).describe()
        'y+ 1 at Re 6e+06: first cell 4.46e-06 chords, growth 1.2, 88 layers to 100 chords'
        """
        return (
            f"y+ {self.y_plus:g} at Re {self.reynolds:.3g}: first cell {self.first_height:.3g} chords, "
            f"growth {self.growth:g}, {self.count} layers to {self.farfield:g} chords"
        )


def first_height(reynolds: float, y_plus: float = 1.0) -> float:
    """Height of the first cell for a y+.

    Parameters
    ----------
    reynolds : float
        Reynolds number on the chord.
    y_plus : float, optional
        Height in wall units.

    Returns
    -------
    float
        [chords]

    Examples
    --------
    >>> round(1e5 * first_height(3e6), 2)
    0.85
    """
    reynolds = number("reynolds", reynolds, 0.1, 1e12)
    y_plus = number("y_plus", y_plus, 0.0, 1000.0, open_low=True)
    friction_speed = (0.5 * 0.026 * reynolds ** (-1.0 / 7.0)) ** 0.5  # over that of the stream
    return min(y_plus / (reynolds * friction_speed), 0.01)


def wall_layers(reynolds: float, y_plus: float = 1.0, growth: float = 1.2, farfield: float = 100.0) -> Layers:
    """Wall layers for a condition; the count is a multiple of 8, so that coarser levels exist.

    Parameters
    ----------
    reynolds : float
        Reynolds number on the chord.
    y_plus : float, optional
        Height of the first cell in wall units.
    growth : float, optional
        Ratio of successive layers.
    farfield : float, optional
        Distance that the layers fill [chords].

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.wall_layers(reynolds=3e6, y_plus=1.0).count)
    88
    """
    growth = number("growth", growth, 1.0, 2.0, open_low=True)
    farfield = number("farfield", farfield, 2.0, 1e5)
    first = first_height(reynolds, y_plus)
    count = -(-steps_for(first, farfield, growth) // 8) * 8
    return Layers(first, growth, count, farfield, y_plus, reynolds)


def given_layers(layers: Any) -> tuple[float, float, int]:
    """Check typed layers.

    Parameters
    ----------
    layers : sequence
        (first height [m], growth, count).

    Examples
    --------
    >>> given_layers((1e-4, 1.3, 12))
    (0.0001, 1.3, 12)
    """
    if np.shape(layers) != (3,):
        raise InputError(
            f"layers = {layers!r} should be (first height [m], growth, count), for example (1e-5, 1.2, 30)."
        )
    first, growth, count = layers
    first = number("first height", first, 0.0, open_low=True)
    return first, number("growth of the layers", growth, 1.0, 3.0), whole("count of layers", count, 1, 200)
