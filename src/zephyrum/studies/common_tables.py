"""The tables that every study file may hold; those of jobs and of geometry sources stand with them.

Verified by tests/test_studies.py and tests/test_files.py.
"""

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from zephyrum._core.units import quantity
from zephyrum.errors import InputError
from zephyrum.loworder import BuildupOptions, Increment, LatticeOptions
from zephyrum.solver import Exhaust, Intake


class Strict(BaseModel):
    """A table in which an unknown key is an error.

    Examples
    --------
    >>> class Tank(Strict):
    ...     volume: float
    >>> Tank(volume=2.0).volume
    2.0
    """

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Range(Strict):
    """An evenly spaced list of values.

    Attributes
    ----------
    start : float
        First value; the key is "from".
    to : float
        Last value.
    step : float
        Step.

    Examples
    --------
    >>> Range(**{"from": 0.0, "to": 8.0, "step": 4.0}).step
    4.0
    """

    start: float = Field(alias="from")
    to: float
    step: float = Field(gt=0)

    def values(self) -> list[float]:
        """All values from start to `to`."""
        if self.to < self.start:
            raise ValueError(f"to = {self.to:g} is below from = {self.start:g}")
        if (self.to - self.start) / self.step > 500:
            raise ValueError(f"step = {self.step:g} makes more than 500 values")
        return [round(float(v), 9) for v in np.arange(self.start, self.to + 1e-9 * self.step + 1e-12, self.step)]


def _listed(value: Any) -> Any:
    if isinstance(value, dict):
        return Range.model_validate(value).values()
    return [value] if isinstance(value, int | float) and not isinstance(value, bool) else value


Finite = Annotated[float, Field(allow_inf_nan=False)]
Numbers = Annotated[list[Finite], BeforeValidator(_listed), Field(min_length=1, max_length=500)]
Quantity = Finite | str


class AirTable(Strict):
    """The stream, as far as all conditions share it.

    Attributes
    ----------
    altitude : float or str, optional
        [m]
    pressure : float or str, optional
        [Pa]
    temperature : float or str, optional
        [K]
    density : float or str, optional
        [kg/m^3]
    reynolds : float, optional
        On the reference chord.
    turbulence : str or list of float, optional
        Level of the stream, or its intensity and viscosity ratio.

    Examples
    --------
    >>> AirTable(altitude="8000 ft").altitude
    '8000 ft'
    """

    altitude: Quantity | None = None
    pressure: Quantity | None = None
    temperature: Quantity | None = None
    density: Quantity | None = None
    reynolds: Finite | None = None
    turbulence: str | list[Finite] | None = None


FIELD_MODELS = ("euler", "laminar", "sa", "sst")
QUICK_MODELS = ("lattice", "buildup", "panel")
Model = Literal["euler", "laminar", "sa", "sst", "lattice", "buildup", "panel"]


def _one_or_more(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


def _different(values: list[str]) -> list[str]:
    if len(set(values)) < len(values):
        raise ValueError("each model should be given once")
    return values


class SolverTable(Strict):
    """Models and numerics.

    Attributes
    ----------
    models : list of str
        One or more of the field models "euler", "laminar", "sa", "sst" and the quick methods "lattice", "buildup",
        "panel"; the key is "model".
    residual_drop : float
        Orders of magnitude.
    max_iterations : int
        Largest number of steps.
    limiter : Literal[auto, on, off]
        "auto", "on" or "off".
    kappa : float
        Weight of the central difference.
    turbulence_order : Literal[1, 2]
        Order of the convection of turbulence.
    gradient : Literal[by-cell, green-gauss, least-squares]
        Method of the cell gradients.

    Examples
    --------
    >>> SolverTable(model=["lattice", "euler"]).models
    ['lattice', 'euler']
    """

    models: Annotated[list[Model], BeforeValidator(_one_or_more), Field(min_length=1), AfterValidator(_different)] = (
        Field(["euler"], alias="model")
    )
    residual_drop: Finite = 8.0
    max_iterations: int = 200
    limiter: Literal["auto", "on", "off"] = "auto"
    kappa: Finite = 1.0 / 3.0
    turbulence_order: Literal[1, 2] = 1
    gradient: Literal["by-cell", "green-gauss", "least-squares"] = "by-cell"


class WallsTable(Strict):
    """Conditions of the walls and of a ground.

    Attributes
    ----------
    temperature : float or str, optional
        [K]
    roughness : float or str
        Sand-grain height [m].
    laminar : float or list[float]
        Chord fractions held laminar.
    ground : Literal[belt, still, slip], optional
        "belt", "still" or "slip".

    Examples
    --------
    >>> WallsTable(roughness="0.1 mm").roughness
    '0.1 mm'
    """

    temperature: Quantity | None = None
    roughness: Quantity = 0.0
    laminar: Finite | list[Finite] = 0.0
    ground: Literal["belt", "still", "slip"] | None = None


class PoweredTable(Strict):
    """An exhaust or an intake of an aircraft in a study file: fields of `Exhaust` or `Intake`.

    Attributes
    ----------
    kind : Literal[exhaust, intake]
        "exhaust" or "intake".
    total_pressure, static_pressure : float or str, optional
        [Pa]
    total_temperature : float or str, optional
        [K]
    pressure_ratio, mach : float, optional
        Of an exhaust.
    direction : list of float, optional
        Of an exhaust.
    mass_flow : float or str, optional
        Of an intake [kg/s].
    face_mach : float, optional
        Of an intake.

    Examples
    --------
    >>> PoweredTable(kind="intake", mass_flow=12.0).boundary("powered.face")
    Intake(mass_flow=12.0, face_mach=None, static_pressure=None)
    """

    kind: Literal["exhaust", "intake"]
    total_pressure: Quantity | None = None
    static_pressure: Quantity | None = None
    total_temperature: Quantity | None = None
    pressure_ratio: Finite | None = None
    mach: Finite | None = None
    direction: list[Finite] | None = None
    mass_flow: Quantity | None = None
    face_mach: Finite | None = None

    def boundary(self, key: str) -> Exhaust | Intake:
        """Exhaust or intake.

        Parameters
        ----------
        key : str
            Dotted name of the table, for messages.

        Raises
        ------
        InputError
            A key belongs to the other kind, or a value is out of range.
        """
        units = {"total_pressure": "Pa", "static_pressure": "Pa", "total_temperature": "K", "mass_flow": "kg/s"}
        given = {name: value for name, value in self.model_dump(exclude={"kind"}).items() if value is not None}
        kind = Exhaust if self.kind == "exhaust" else Intake
        names = kind.__dataclass_fields__
        if strange := [name for name in given if name not in names]:
            raise InputError(f"{key}.{strange[0]}: an {self.kind} has no such key; it has: {', '.join(names)}.")
        for name in units.keys() & given.keys():
            given[name] = quantity(f"{key}.{name}", given[name], units[name])
        if "direction" in given:
            given["direction"] = tuple(given["direction"])
        return kind(**given)


class RunTable(Strict):
    """How to run.

    Attributes
    ----------
    processes : int, optional
        Local processes.
    scheduler : str, optional
        Address of a dask scheduler such as "tcp://host:8786", whose workers compute.

    Examples
    --------
    >>> RunTable(processes=2).processes
    2
    """

    processes: int | None = Field(None, ge=1, le=256)
    scheduler: str | None = None


class LatticeTable(Strict):
    """Options of the vortex lattice.

    Attributes
    ----------
    rows, strips : int
        Vortices along the chord, and strips from root to tip of the reference wing.
    parts : list of str, optional
        Parts or groups of the aircraft that take part; all wings and plates without it.
    bodies : bool
        Whether bodies take part, as slender bodies.
    wake : Literal[body, wind, relaxed]
        Where the wakes go.

    Examples
    --------
    >>> LatticeTable(rows=8).strips
    24
    """

    rows: int = 12
    strips: int = 24
    parts: list[str] | None = None
    bodies: bool = False
    wake: Literal["body", "wind", "relaxed"] = "body"

    def options(self) -> LatticeOptions:
        """Options for `lattice_model`."""
        parts = None if self.parts is None else tuple(self.parts)
        return LatticeOptions(self.rows, self.strips, parts, wake=self.wake, bodies=self.bodies)


class IncrementTable(Strict):
    """Drag on top of a build-up.

    Attributes
    ----------
    name : str
        Name.
    value : float
        Size in `unit`.
    unit : Literal[m^2, counts, percent]
        Of drag area, of the drag coefficient, or of the sum of all parts.
    group : str
        Group of the table.

    Examples
    --------
    >>> IncrementTable(name="antennas", value=0.01).group
    'excrescence'
    """

    name: str
    value: Finite
    unit: Literal["m^2", "counts", "percent"] = "m^2"
    group: str = "excrescence"


class BuildupTable(Strict):
    """Options of the drag build-up.

    Attributes
    ----------
    law : str
        Friction of turbulent plates.
    roughness : float or str
        Equivalent sand grains [m].
    laminar, interference, base : dict of str to float
        Laminar fraction, factor and base area [m^2] by part.
    increments : list of IncrementTable
        What comes on top.
    kinds : dict of str to str
        Of a surface file: what each of its labels is, "wing", "body" or "nacelle".
    thickness : dict of str to float
        Of a surface file: thickness of its wings over their chord; 0.12 without it.

    Examples
    --------
    >>> BuildupTable(roughness="7 um").options().roughness
    7e-06
    """

    law: str = "van_driest"
    roughness: Quantity = 0.0
    laminar: dict[str, Finite] = Field(default_factory=dict)
    interference: dict[str, Finite] = Field(default_factory=dict)
    base: dict[str, Finite] = Field(default_factory=dict)
    increments: list[IncrementTable] = Field(default_factory=list)
    kinds: dict[str, Literal["wing", "body", "nacelle"]] = Field(default_factory=dict)
    thickness: dict[str, Finite] = Field(default_factory=dict)

    def options(self) -> BuildupOptions:
        """Options for `zero_lift_drag`."""
        return BuildupOptions(
            law=self.law,
            laminar=self.laminar,
            roughness=quantity("buildup.roughness", self.roughness, "m"),
            interference=self.interference,
            base=self.base,
            increments=tuple(Increment(**one.model_dump()) for one in self.increments),
        )


class PanelTable(Strict):
    """Options of airfoil panels with boundary layers.

    Attributes
    ----------
    critical : float
        Exponent N of waves at transition.
    turbulence : float, optional
        Turbulence level [%], in place of `critical`.
    trip : tuple of float
        Chord fractions of trips on the upper and lower side.

    Examples
    --------
    >>> PanelTable(trip=(0.05, 1.0)).critical
    9.0
    """

    critical: Finite = 9.0
    turbulence: Finite | None = None
    trip: tuple[Finite, Finite] = (1.0, 1.0)
