"""The tables that every study file may hold; those of jobs and of geometry sources stand with them.

Verified by tests/test_studies.py and tests/test_files.py.
"""

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


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


class SolverTable(Strict):
    """Flow model and numerics.

    Attributes
    ----------
    model : Literal[euler, laminar, sa, sst]
        Flow model.
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
    >>> SolverTable().model
    'euler'
    """

    model: Literal["euler", "laminar", "sa", "sst"] = "euler"
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
