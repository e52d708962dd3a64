"""Calorically perfect gas with Sutherland's viscosity.

Source: Sutherland (1893), Phil. Mag. 36:507; constants for air from the US Standard Atmosphere (1976).
Valid for air between about 100 K and 1500 K; beyond, the specific heats are no longer constant.
Verified by tests/test_air.py.
"""

import math
from dataclasses import dataclass

from zephyrum._core.validation import number


@dataclass(frozen=True)
class Gas:
    """A perfect gas.

    Attributes
    ----------
    gamma : float
        Ratio of the specific heats [-].
    R : float
        Gas constant [J/(kg K)].
    prandtl : float
        Prandtl number [-].
    sutherland_beta : float
        [kg/(m s sqrt(K))]
    sutherland_S : float
        [K]

    Notes
    -----
    The viscosity is mu = beta T^1.5 / (T + S) (Sutherland).

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(f"{zy.Gas().sound_speed(288.15):.2f}")
    340.29
    """

    gamma: float = 1.4
    R: float = 287.05287
    prandtl: float = 0.72
    sutherland_beta: float = 1.458e-6
    sutherland_S: float = 110.4

    def __post_init__(self) -> None:
        number("gas.gamma", self.gamma, 1.0, 2.0, open_low=True)
        for name in ("R", "prandtl", "sutherland_beta"):
            number(f"gas.{name}", getattr(self, name), 0.0, open_low=True)
        number("gas.sutherland_S", self.sutherland_S, 0.0)

    def viscosity(self, temperature: float) -> float:
        """Dynamic viscosity [Pa s].

        Parameters
        ----------
        temperature : float
            [K]

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(1e6 * zy.Gas().viscosity(288.15), 2)
        17.89
        """
        return self.sutherland_beta * temperature**1.5 / (temperature + self.sutherland_S)

    def sound_speed(self, temperature: float) -> float:
        """Speed of sound [m/s].

        Parameters
        ----------
        temperature : float
            [K]

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Gas().sound_speed(288.15), 1)
        340.3
        """
        return math.sqrt(self.gamma * self.R * temperature)

    def total_temperature_ratio(self, mach: float) -> float:
        """T0/T of an adiabatic flow [-].

        Parameters
        ----------
        mach : float
            Mach number.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Gas().total_temperature_ratio(1.0)
        1.2
        """
        return 1.0 + 0.5 * (self.gamma - 1.0) * mach**2

    def total_pressure_ratio(self, mach: float) -> float:
        """p0/p of an isentropic flow [-].

        Parameters
        ----------
        mach : float
            Mach number.

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Gas().total_pressure_ratio(1.0), 4)
        1.8929
        """
        return self.total_temperature_ratio(mach) ** (self.gamma / (self.gamma - 1.0))

    def mach_of_pressure_ratio(self, pressure_ratio: float) -> float:
        """Mach number of an isentropic flow [-]; 0 below a ratio of 1.

        Parameters
        ----------
        pressure_ratio : float
            Total over static pressure.

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Gas().mach_of_pressure_ratio(1.8929), 4)
        1.0
        """
        temperature = max(pressure_ratio, 1.0) ** ((self.gamma - 1.0) / self.gamma)
        return math.sqrt(2.0 * (temperature - 1.0) / (self.gamma - 1.0))

    def mass_flux(self, mach: float, total_pressure: float, total_temperature: float) -> float:
        """Density times speed of an isentropic flow [kg/(m^2 s)].

        Parameters
        ----------
        mach : float
            Mach number.
        total_pressure : float
            [Pa]
        total_temperature : float
            [K]

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Gas().mass_flux(1.0, 101325.0, 288.15), 1)
        241.2
        """
        g = self.gamma
        scale = total_pressure * math.sqrt(g / (self.R * total_temperature))
        return scale * mach / self.total_temperature_ratio(mach) ** (0.5 * (g + 1.0) / (g - 1.0))

    def pitot_pressure_ratio(self, mach: float) -> float:
        """Stagnation pressure on a blunt body over the static pressure of the freestream [-].

        Parameters
        ----------
        mach : float
            Mach number.

        Notes
        -----
        Subsonic: isentropic; supersonic: behind a normal shock (Rayleigh's pitot formula, 1910).

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Gas().pitot_pressure_ratio(2.0), 3)
        5.64
        """
        if mach <= 1.0:
            return self.total_pressure_ratio(mach)
        g, m2 = self.gamma, mach**2
        jump = (2.0 * g * m2 - (g - 1.0)) / (g + 1.0)
        return jump * (((g + 1.0) ** 2 * m2) / (4.0 * g * m2 - 2.0 * (g - 1.0))) ** (g / (g - 1.0))
