"""The undisturbed stream, from any sufficient set of what a practitioner knows.

Four numbers fix it: pressure, temperature, speed and (for the Reynolds number) a length. Everything else follows from
the perfect gas, Sutherland's viscosity and the standard atmosphere. More than enough is welcome, if it agrees to 1 %.
What is neither given nor implied is taken from the standard atmosphere at sea level and marked `assumed`.
Verified by tests/test_air.py.
"""

import math
from dataclasses import dataclass, field, replace
from typing import Any, TypeAlias

import numpy as np

from zephyrum._core.units import Quantity, quantity
from zephyrum._core.validation import number, numbers, set_fields, taken
from zephyrum.conditions import axes
from zephyrum.conditions.atmosphere import standard_atmosphere
from zephyrum.conditions.gas import Gas
from zephyrum.conditions.stream_turbulence import StreamTurbulence
from zephyrum.errors import InputError

Turbulence: TypeAlias = Any  # a level, a pair, or a StreamTurbulence; the last once it is checked
AGREEMENT = 0.01
SEA_LEVEL = standard_atmosphere(0.0)
_UNITS = {
    "speed": "m/s",
    "mach": "",
    "altitude": "m",
    "pressure": "Pa",
    "temperature": "K",
    "density": "kg/m^3",
    "reynolds": "",
    "length": "m",
}


@dataclass(frozen=True)
class Freestream:
    """A uniform stream about a body.

    Attributes
    ----------
    mach : float or str, optional
        [-]
    speed : float or str, optional
        [m/s]
    altitude : float or str, optional
        Geopotential altitude in the standard atmosphere [m].
    pressure : float or str, optional
        [Pa]
    temperature : float or str, optional
        [K]
    density : float or str, optional
        [kg/m^3]
    reynolds : float or str, optional
        On `length`; without a length on the reference length of the mesh, its chord or diameter.
    length : float or str, optional
        [m]
    alpha, beta : float or str, optional
        Angle of attack and of sideslip [deg].
    wind : tuple[float, float, float], optional
        Vector (3) along which the air moves in body axes, in place of the angles.
    turbulence : str or tuple[float, float], optional
        Of the stream at the farfield: "flight", "quiet tunnel", "gusty", or intensity and eddy over molecular
        viscosity; without it the values that the turbulence models advise.
    gas : Gas
        The gas.
    given : tuple[str, ...]
        Names of the quantities that were given.
    assumed : tuple[str, ...]
        Sentences on what was assumed.

    Raises
    ------
    InputError
        The quantities contradict each other by more than 1 %, or do not suffice.

    Notes
    -----
    Give any sufficient set of the quantities of the stream; each may be a text with a unit ("240 kt"). Afterwards every
    one of them, and what follows from them, is an attribute.

    Examples
    --------
    >>> import zephyrum as zy
    >>> air = zy.Freestream(mach=0.2, altitude="5000 ft", length=1.5)
    >>> print(f"{air.speed:.2f} {air.reynolds:.3g}")
    66.88 6.08e+06
    """

    mach: Quantity | None = None
    speed: Quantity | None = None
    altitude: Quantity | None = None
    pressure: Quantity | None = None
    temperature: Quantity | None = None
    density: Quantity | None = None
    reynolds: Quantity | None = None
    length: Quantity | None = None
    alpha: Quantity | None = None
    beta: Quantity | None = None
    wind: tuple[float, float, float] | None = None
    turbulence: Turbulence | None = None
    gas: Gas = field(default_factory=Gas)
    given: tuple[str, ...] = field(default=(), init=False)
    assumed: tuple[str, ...] = field(default=(), init=False)

    def __post_init__(self) -> None:
        known: dict[str, float] = {}
        for name, unit in _UNITS.items():
            value = getattr(self, name)
            if value is None:
                continue
            value = quantity(name, value, unit) if unit else number(name, value)
            known[name] = number(name, value) if name == "altitude" else number(name, value, 0.0, open_low=True)
        if known.get("mach", 0.0) > 10.0:
            raise InputError(
                f"mach = {known['mach']:g} is above 10, where air is no longer a perfect gas; give a lower Mach number."
            )
        taken("gas", self.gas, Gas)
        if self.turbulence is not None:
            set_fields(self, turbulence=StreamTurbulence.of(self.turbulence))
        set_fields(self, given=tuple(known))
        self._solve(dict(known))
        self._agree(known)
        self._attitude()

    def _solve(self, known: dict[str, float]) -> None:
        """Find pressure, temperature, speed and length from what is known, in the order of most direct evidence."""
        gas, assumed = self.gas, []
        p, T, V, L = (known.get(name) for name in ("pressure", "temperature", "speed", "length"))
        mach, rho, reynolds = (known.get(name) for name in ("mach", "density", "reynolds"))
        if "altitude" in known:
            p_standard, T_standard = standard_atmosphere(known["altitude"])
            p = p_standard if p is None else p
            T = T_standard if T is None and rho is None else T
        if T is None and p is not None and rho is not None:
            T = p / (rho * gas.R)
        if T is None and V is not None and mach is not None:
            T = (V / mach) ** 2 / (gas.gamma * gas.R)
        if T is None:
            T = SEA_LEVEL[1]
            assumed.append("temperature")
        if V is None and mach is not None:
            V = mach * gas.sound_speed(T)
        if p is None and rho is not None:
            p = rho * gas.R * T
        if p is None and None not in (reynolds, V, L):
            p = reynolds * gas.viscosity(T) / (V * L) * gas.R * T
        if p is None:
            p = SEA_LEVEL[0]
            assumed.append("pressure")
        rho = p / (gas.R * T)
        if V is None and reynolds is not None and L is not None:
            V = reynolds * gas.viscosity(T) / (rho * L)
        if V is None:
            have = ", ".join(known) or "nothing"
            raise InputError(
                f"the freestream is under-specified: its speed does not follow from {have}; "
                "give mach or speed, or reynolds together with length."
            )
        if L is None and reynolds is not None:
            L = reynolds * gas.viscosity(T) / (rho * V)
        set_fields(
            self,
            pressure=p,
            temperature=T,
            speed=V,
            length=L,
            density=rho,
            altitude=known.get("altitude"),
            assumed=tuple(assumed),
        )
        exact = "mach" in known and "speed" not in known
        set_fields(
            self,
            mach=known["mach"] if exact else V / self.sound_speed,
            reynolds=None if L is None else rho * V * L / self.viscosity,
        )

    def _agree(self, known: dict[str, float]) -> None:
        """Refuse by name any given quantity that the others contradict by more than 1 %."""
        implied = {name: getattr(self, name) for name in known if name != "altitude"}
        if "altitude" in known:
            p_standard, T_standard = standard_atmosphere(known["altitude"])
            for name, standard in (("pressure", p_standard), ("temperature", T_standard)):
                if name in known and abs(known[name] / standard - 1.0) > AGREEMENT:
                    raise InputError(
                        f"altitude and {name} disagree: the standard atmosphere at {known['altitude']:g} m has "
                        f"{standard:.6g} {_UNITS[name]}, but {name} = {known[name]:.6g}; drop one of the two."
                    )
        for name, value in implied.items():
            if abs(known[name] / value - 1.0) > AGREEMENT:
                others = ", ".join(other for other in known if other != name)
                raise InputError(
                    f"the freestream is over-specified and disagrees: {name} = {known[name]:.6g} {_UNITS[name]}, but "
                    f"{others} "
                    f"give {name} = {value:.6g} {_UNITS[name]} ({100 * (known[name] / value - 1):+.1f} %); drop or "
                    f"correct one of them."
                )

    def _attitude(self) -> None:
        alpha = None if self.alpha is None else number("alpha", quantity("alpha", self.alpha, "deg"), -180.0, 180.0)
        beta = None if self.beta is None else number("beta", quantity("beta", self.beta, "deg"), -90.0, 90.0)
        if self.wind is not None:
            a, b = axes.angles_of(np.array(numbers("wind", self.wind, 3)))
            for name, typed, follows in (("alpha", alpha, a), ("beta", beta, b)):
                if typed is not None and abs(typed - follows) > 0.01:
                    raise InputError(
                        f"{name} = {typed:g} deg and wind = {self.wind} ({name} {follows:.3f} deg) disagree; drop one "
                        f"of the two."
                    )
            alpha, beta = a, b
        set_fields(self, alpha=alpha or 0.0, beta=beta or 0.0)
        set_fields(self, wind=tuple(float(x) for x in axes.wind_vector(self.alpha, self.beta)))

    def turned(self, alpha: float | None = None, beta: float | None = None) -> "Freestream":
        """The same stream at another attitude.

        Parameters
        ----------
        alpha, beta : float, optional
            Angle of attack and of sideslip [deg]; None keeps it.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Freestream(mach=0.3).turned(alpha=2.0).alpha
        2.0
        """
        return replace(
            self._as_given(),
            alpha=self.alpha if alpha is None else alpha,
            beta=self.beta if beta is None else beta,
            wind=None,
        )

    def at_mach(self, mach: float) -> "Freestream":
        """The same air, length and attitude at another Mach number.

        Parameters
        ----------
        mach : float
            Mach number.

        Notes
        -----
        The Reynolds number is kept if it was given.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Freestream(mach=0.3, reynolds=1e6, length=1.0).at_mach(0.5).mach
        0.5
        """
        return replace(self._as_given(), mach=mach, speed=None, wind=None)

    def _as_given(self) -> "Freestream":
        """A copy that holds only what was given, so that `replace` solves the rest anew."""
        copy = object.__new__(Freestream)
        for name in self.__dataclass_fields__:
            object.__setattr__(copy, name, getattr(self, name))
        for name in _UNITS:
            if name not in self.given:
                object.__setattr__(copy, name, None)
        return copy

    @property
    def similarity(self) -> bool:
        """Whether the Reynolds number was given without its length: it is then that on the reference length of any
        mesh.

        Examples
        --------
        >>> Freestream(mach=0.2, reynolds=1e6).similarity
        True
        >>> Freestream(mach=0.2, reynolds=1e6, length=0.5).similarity
        False
        """
        return "reynolds" in self.given and "length" not in self.given

    @property
    def sound_speed(self) -> float:
        """[m/s]

        Examples
        --------
        >>> round(Freestream(mach=0.2, altitude=0.0).sound_speed, 2)
        340.29
        """
        return self.gas.sound_speed(self.temperature)

    @property
    def viscosity(self) -> float:
        """Dynamic viscosity [Pa s].

        Examples
        --------
        >>> f"{Freestream(mach=0.2, altitude=0.0).viscosity:.4g}"
        '1.789e-05'
        """
        return self.gas.viscosity(self.temperature)

    @property
    def dynamic_pressure(self) -> float:
        """[Pa]

        Examples
        --------
        >>> round(Freestream(speed=50.0, altitude=0.0).dynamic_pressure, 1)
        1531.3
        """
        return 0.5 * self.density * self.speed**2

    @property
    def total_pressure(self) -> float:
        """[Pa]

        Examples
        --------
        >>> air = Freestream(mach=0.8, altitude=0.0)
        >>> round(air.total_pressure / air.pressure, 4)
        1.5243
        """
        return self.pressure * self.gas.total_pressure_ratio(self.mach)

    @property
    def total_temperature(self) -> float:
        """[K]

        Examples
        --------
        >>> air = Freestream(mach=0.8, altitude=0.0)
        >>> round(air.total_temperature / air.temperature, 3)
        1.128
        """
        return self.temperature * self.gas.total_temperature_ratio(self.mach)

    @property
    def cp_stagnation(self) -> float:
        """Highest Cp possible on a body: behind a normal shock if supersonic.

        Examples
        --------
        >>> round(Freestream(mach=0.8).cp_stagnation, 4)
        1.1704
        """
        return (self.gas.pitot_pressure_ratio(self.mach) - 1.0) / (0.5 * self.gas.gamma * self.mach**2)

    @property
    def cp_critical(self) -> float:
        """Cp where the local flow is just sonic (isentropic; Liepmann and Roshko 1957).

        Examples
        --------
        >>> round(Freestream(mach=0.8).cp_critical, 4)
        -0.4346
        """
        ratio = self.gas.total_pressure_ratio(self.mach) / self.gas.total_pressure_ratio(1.0)
        return (ratio - 1.0) / (0.5 * self.gas.gamma * self.mach**2)

    @property
    def cp_vacuum(self) -> float:
        """Lowest Cp possible: absolute zero pressure.

        Examples
        --------
        >>> round(Freestream(mach=0.8).cp_vacuum, 4)
        -2.2321
        """
        return -1.0 / (0.5 * self.gas.gamma * self.mach**2)

    @property
    def axes(self) -> np.ndarray:
        """Rows (3, 3): unit vectors of drag, side force and lift in body axes.

        Examples
        --------
        >>> Freestream(mach=0.2, alpha=30.0).axes.round(3) + 0.0
        array([[ 0.866,  0.   ,  0.5  ],
               [ 0.   ,  1.   ,  0.   ],
               [-0.5  ,  0.   ,  0.866]])
        """
        return axes.wind_axes(self.alpha, self.beta)

    def table(self) -> list[tuple[str, float, str, str]]:
        """Every quantity once: (name, value, unit, origin), with origin one of given, derived, assumed.

        Examples
        --------
        >>> for name, value, unit, origin in Freestream(mach=0.2, reynolds=6e6).table()[:3]:
        ...     print(name, value, unit, origin)
        mach 0.2 - given
        speed 68.0587976052178 m/s derived
        pressure 101325.0 Pa assumed
        """
        rows = [
            ("mach", self.mach, "-"),
            ("speed", self.speed, "m/s"),
            ("pressure", self.pressure, "Pa"),
            ("temperature", self.temperature, "K"),
            ("density", self.density, "kg/m^3"),
            ("sound speed", self.sound_speed, "m/s"),
            ("viscosity", self.viscosity, "Pa s"),
            ("dynamic pressure", self.dynamic_pressure, "Pa"),
            ("total pressure", self.total_pressure, "Pa"),
            ("total temperature", self.total_temperature, "K"),
        ]
        if self.altitude is not None:
            rows.append(("altitude", self.altitude, "m"))
        if self.length is not None:
            rows += [] if self.similarity else [("length", self.length, "m")]
            rows.append(("reynolds on the reference length" if self.similarity else "reynolds", self.reynolds, "-"))
        if self.turbulence is not None:
            rows.append(("turbulence intensity", self.turbulence.intensity, "-"))
            rows.append(("eddy viscosity ratio", self.turbulence.viscosity_ratio, "-"))
        origin = dict.fromkeys(self.given, "given") | dict.fromkeys(self.assumed, "assumed")
        for name in ("reynolds on the reference length", "turbulence intensity", "eddy viscosity ratio"):
            origin[name] = "given"
        attitude = [("alpha", self.alpha, "deg", "given"), ("beta", self.beta, "deg", "given")]
        return [(name, value, unit, origin.get(name, "derived")) for name, value, unit in rows] + attitude

    def __str__(self) -> str:
        table = self.table()
        wide = max(len(row[0]) for row in table)
        lines = [f"{name:<{wide}} {value:>12.6g} {unit:<7} {origin}" for name, value, unit, origin in table]
        return "\n".join(["Freestream", *lines])

    def describe(self) -> str:
        """One line for titles: Mach, alpha and, if known, Reynolds number with its length.

        Examples
        --------
        >>> Freestream(mach=0.2, alpha=4.0, reynolds=6e6).describe()
        'M 0.2, alpha 4 deg, Re 6e+06 on the reference length'
        """
        text = f"M {self.mach:.4g}, alpha {self.alpha:.4g} deg"
        if abs(self.beta) > 1e-12:
            text += f", beta {self.beta:.4g} deg"
        if self.reynolds is not None and math.isfinite(self.reynolds):
            text += f", Re {self.reynolds:.3g} on " + (
                "the reference length" if self.similarity else f"{self.length:.4g} m"
            )
        return text
