"""How sections with boundary layers are computed."""

from dataclasses import dataclass, field

import numpy as np

from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.loworder.panel.coupled_layers import CouplingOptions
from zephyrum.loworder.panel.displacement import PanelLayout


@dataclass(frozen=True)
class ElementCoupling:
    """How several elements take turns.

    Attributes
    ----------
    rounds : int
        Turns after which an angle is given up.
    tolerance : float
        [chords] Largest change of a mass defect in a turn, over the speed of the stream.
    relaxation : float
        [-] Part of the change of the displacement that the other elements see.

    Examples
    --------
    >>> ElementCoupling().rounds
    40
    """

    rounds: int = 40
    tolerance: float = 1e-6
    relaxation: float = 1.0


@dataclass(frozen=True)
class LayerOptions:
    """Transition, panels and solution of section polars.

    Attributes
    ----------
    critical : float
        Exponent N of the amplitude of waves at which a layer becomes turbulent: 9 in quiet air.
    turbulence : float or None
        Turbulence level of the stream [%], in place of `critical`: N = -8.43 - 2.4 ln(level / 100) (Mack 1977).
    trip_upper, trip_lower : float
        Chord fractions at which the layers are turbulent at the latest.
    panels : PanelLayout
    coupling : CouplingOptions
    elements : ElementCoupling

    Examples
    --------
    >>> round(LayerOptions(turbulence=0.07).exponent, 2)
    9.0
    """

    critical: float = 9.0
    turbulence: float | None = None
    trip_upper: float = 1.0
    trip_lower: float = 1.0
    panels: PanelLayout = field(default_factory=PanelLayout)
    coupling: CouplingOptions = field(default_factory=CouplingOptions)
    elements: ElementCoupling = field(default_factory=ElementCoupling)

    def __post_init__(self) -> None:
        number("critical", self.critical, 0.1, 30.0)
        number("trip_upper", self.trip_upper, 0.0, 1.0, open_low=True)
        number("trip_lower", self.trip_lower, 0.0, 1.0, open_low=True)
        if self.turbulence is not None:
            level = number("turbulence", self.turbulence, 0.0, open_low=True)
            if not 0.1 <= -8.43 - 2.4 * np.log(level / 100.0) <= 30.0:
                raise InputError(f"turbulence = {level:g} %: the relation of Mack holds from 0.1e-4 to 2.9 %.")

    @property
    def exponent(self) -> float:
        """Exponent N at transition."""
        if self.turbulence is None:
            return self.critical
        return float(-8.43 - 2.4 * np.log(self.turbulence / 100.0))
