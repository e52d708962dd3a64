"""The tables that every study file may hold; those of jobs and of geometry sources stand with them.

Verified by tests/test_studies.py and tests/test_files.py.
"""

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


class Strict(BaseModel):
    """A table in which an unknown key is an error."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Range(Strict):
    """An evenly spaced list of values."""

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
    """The stream, as far as all conditions share it."""

    altitude: Quantity | None = None
    pressure: Quantity | None = None
    temperature: Quantity | None = None
    density: Quantity | None = None
    reynolds: Finite | None = None


class SolverTable(Strict):
    """Model and numerics."""

    model: Literal["euler", "laminar", "sa", "sst"] = "euler"
    residual_drop: Finite = 8.0
    max_iterations: int = 200
    limiter: Literal["auto", "on", "off"] = "auto"
    kappa: Finite = 1.0 / 3.0
    turbulence_order: Literal[1, 2] = 1
    gradient: Literal["by-cell", "green-gauss", "least-squares"] = "by-cell"


class WallsTable(Strict):
    """What the walls do, and the ground if there is one."""

    temperature: Quantity | None = None
    roughness: Quantity = 0.0
    laminar: Finite | list[Finite] = 0.0
    ground: Literal["belt", "still", "slip"] | None = None


class RunTable(Strict):
    """How to run: local processes, or the workers of a dask scheduler at an address such as "tcp://host:8786"."""

    processes: int | None = Field(None, ge=1, le=256)
    scheduler: str | None = None
