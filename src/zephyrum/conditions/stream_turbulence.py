"""Turbulence of the stream: intensity and eddy viscosity, typed or by the name of a usual level, and its decay.

Verified by tests/test_air.py and tests/test_viscous.py.
"""

import math
from dataclasses import dataclass

from zephyrum._core.validation import number
from zephyrum.errors import InputError

BETA_STAR, BETA = 0.09, 0.0828  # of the decay of k and omega in a uniform stream (Menter 1994)


@dataclass(frozen=True)
class StreamTurbulence:
    """Turbulence of the stream at the farfield.

    Attributes
    ----------
    intensity : float
        Root mean square of one component of the fluctuations over the speed [-].
    viscosity_ratio : float
        Eddy over molecular viscosity [-].
    name : str
        Name of the level; empty if it was typed.

    Examples
    --------
    >>> StreamTurbulence.of("quiet tunnel").intensity
    0.001
    """

    intensity: float
    viscosity_ratio: float
    name: str = ""

    @classmethod
    def of(cls, given: "StreamTurbulence | str | tuple[float, float]") -> "StreamTurbulence":
        """Turbulence from a name or a pair.

        Parameters
        ----------
        given : StreamTurbulence or str or tuple
            One of `LEVELS`, or (intensity, viscosity ratio).

        Raises
        ------
        InputError
            An unknown name, or a value out of range.

        Examples
        --------
        >>> StreamTurbulence.of((0.01, 5.0)).viscosity_ratio
        5.0
        """
        if isinstance(given, cls):
            return given
        if isinstance(given, str):
            if given not in LEVELS:
                known = ", ".join(f"{name!r} (intensity {i:g}, ratio {r:g})" for name, (i, r) in LEVELS.items())
                raise InputError(
                    f"turbulence = {given!r} is no known level; give one of {known}, or a pair (intensity, ratio)."
                )
            return cls(*LEVELS[given], given)
        if not isinstance(given, tuple | list) or len(given) != 2:
            raise InputError(
                f"turbulence = {given!r}: give a level such as 'flight', or a pair of intensity and eddy over "
                f"molecular viscosity, such as (0.001, 1.0)."
            )
        intensity, ratio = given
        return cls(
            number("intensity of turbulence", intensity, 0.0, 0.3, open_low=True),
            number("viscosity ratio of turbulence", ratio, 0.0, 1e3, open_low=True),
        )

    def decayed(self, distance: float, speed: float, viscosity: float) -> "StreamTurbulence":
        """The turbulence that is left downstream by k and omega of a uniform stream.

        Parameters
        ----------
        distance : float
            Downstream of the farfield [m].
        speed : float
            Of the stream [m/s].
        viscosity : float
            Kinematic [m^2/s].

        Notes
        -----
        omega = omega_0 / (1 + beta omega_0 t), k = k_0 (1 + beta omega_0 t)^(-beta* / beta) (Wilcox 2006, Turbulence
        Modeling for CFD, ch. 4).

        Examples
        --------
        >>> left = StreamTurbulence.of("gusty").decayed(20.0, 70.0, 1.5e-5)
        >>> 0.0 < left.intensity < 0.01
        True
        """
        k = 1.5 * (self.intensity * speed) ** 2
        omega = k / (self.viscosity_ratio * viscosity)
        age = 1.0 + BETA * omega * max(distance, 0.0) / speed
        left = age ** (-BETA_STAR / BETA)
        return StreamTurbulence(self.intensity * math.sqrt(left), self.viscosity_ratio * left * age, self.name)


# intensity, eddy over molecular viscosity. Calm air at altitude; a low-turbulence wind tunnel; air near the ground in
# wind, at the scales that a boundary layer feels
LEVELS = {"flight": (3e-4, 0.1), "quiet tunnel": (1e-3, 1.0), "gusty": (1e-2, 10.0)}
