"""Study files: one TOML file says what to compute; every mistake is told with its line.

The schema is in `Study`; `TEMPLATE` is a commented file to start from.
"""

from abc import ABC, abstractmethod
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from zephyrum.air import Freestream, quantity
from zephyrum.air.checks import PATH, takes
from zephyrum.air.tables import line_of, read_table
from zephyrum.errors import InputError
from zephyrum.flow import Settings
from zephyrum.mesh import Layers, Mesh, mesh_airfoil, wall_layers
from zephyrum.results import Wall
from zephyrum.shape import Airfoil

TEMPLATE = """# A Zephyrum study. Run it with:  zephyrum run {file}
title = "{title}"

[section]                 # one of: naca, file, class_shape
naca = "2412"             # 4 or 5 digits
# file = "section.csv"    # coordinates in any plain layout
# class_shape = {{ upper = [0.17, 0.16, 0.15], lower = [-0.17, -0.10, -0.08], gap = 0.0 }}
tail = "closed"           # or "blunt" (for naca)
chord = "1 m"             # true size
# flap = {{ hinge = 0.75, angle = 10 }}

[air]                     # any sufficient set: altitude, pressure, temperature, density, reynolds
altitude = "0 ft"

[mesh]                    # lengths in chords
topology = "O"            # O wraps the tail, C follows the wake (better with friction)
around = 128              # cells on the surface; multiples of 16 nest best
outward = 32              # cells from wall to farfield; without it they follow from the layers
farfield = 100
# y_plus = 1              # with friction: height of the first cell in wall units
# growth = 1.2            # of successive layers

[solver]
model = "euler"           # "euler", "laminar", "sa" (Spalart-Allmaras), "sst" (k-omega)
orders = 8                # decades of residual drop

[sweep]
mach = [0.2, 0.6]
alpha = {{ from = -4, to = 8, step = 2 }}   # degrees; or a list
# peak = 0.5              # with friction: finest spacing of points added about the lift maximum

# [walls]                 # with friction; without it adiabatic, smooth, fully turbulent
# laminar = [0.3, 0.5]    # chord fractions held laminar, upper and lower side
# roughness = "0.1 mm"    # height of sand grains (model "sa")
# temperature = "300 K"   # of an isothermal wall

[refine]                  # the second and third mesh: error bars for the polar
mach = 0.2
alpha = 2
levels = 3

# [time]                  # one condition followed in time, for flows that swing
# mach = 0.2
# alpha = 18
# duration = 60           # chords travelled
# step = 0.05

[run]
processes = 2
"""


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Range(_Strict):
    """An evenly spaced list of values."""

    start: float = Field(alias="from")
    to: float
    step: float = Field(gt=0)

    def values(self) -> list[float]:
        """All values from start to `to`."""
        if self.to < self.start:
            raise ValueError(f"to = {self.to:g} is below from = {self.start:g}")
        return [round(float(v), 9) for v in np.arange(self.start, self.to + 1e-9 * self.step + 1e-12, self.step)]


def _listed(value: Any) -> Any:
    if isinstance(value, dict):
        return Range.model_validate(value).values()
    return [value] if isinstance(value, int | float) and not isinstance(value, bool) else value


Numbers = Annotated[list[float], BeforeValidator(_listed), Field(min_length=1, max_length=500)]
Quantity = float | str


class ClassShape(_Strict):
    """Class-shape coefficients."""

    upper: list[float]
    lower: list[float]
    gap: float = 0.0


class Flap(_Strict):
    """A plain flap."""

    hinge: float
    angle: float


class Section(_Strict):
    """The airfoil."""

    naca: str | None = None
    file: str | None = None
    class_shape: ClassShape | None = None
    tail: Literal["closed", "blunt"] = "closed"
    chord: Quantity = "1 m"
    flap: Flap | None = None


class AirTable(_Strict):
    """What all points share."""

    altitude: Quantity | None = None
    pressure: Quantity | None = None
    temperature: Quantity | None = None
    density: Quantity | None = None
    reynolds: float | None = None


class MeshTable(_Strict):
    """Options of mesh_airfoil, and the y+ from which first_height follows in viscous flow."""

    topology: Literal["C", "O"] | None = None
    around: int = 128
    outward: int | None = None
    farfield: float = 100.0
    first_height: float | None = None
    growth: float | None = None
    wake: int | None = None
    y_plus: float | None = None


class SolverTable(_Strict):
    """Model and settings."""

    model: Literal["euler", "laminar", "sa", "sst"] = "euler"
    orders: float = 8.0
    steps: int = 200
    limiter: Literal["auto", "on", "off"] = "auto"
    kappa: float = 1.0 / 3.0
    turbulence_order: Literal[1, 2] = 1
    gradient: Literal["by-cell", "green-gauss", "least-squares"] = "by-cell"


class SweepTable(_Strict):
    """Conditions."""

    mach: Numbers
    alpha: Numbers
    peak: float = Field(0.0, ge=0.0, le=10.0)


class RefineTable(_Strict):
    """Where to prove the mesh."""

    mach: float
    alpha: float
    levels: int = Field(3, ge=3, le=6)


class WallsTable(_Strict):
    """What the wall does."""

    temperature: Quantity | None = None
    roughness: Quantity = 0.0
    laminar: float | list[float] = 0.0


class TimeTable(_Strict):
    """A condition to be followed in time, lengths in chords travelled."""

    mach: float
    alpha: float
    duration: float = Field(60.0, gt=0)
    step: float = Field(0.05, gt=0)


class RunTable(_Strict):
    """How to run: local processes, or the workers of a dask scheduler at an address such as "tcp://host:8786"."""

    processes: int = Field(2, ge=1, le=256)
    scheduler: str | None = None


JOBS = ("sweep", "refine", "time", "trim", "derivatives")  # tables of a study that ask for something to be computed


class Asked(_Strict, ABC):
    """What every study file may hold."""

    title: str = "study"
    air: AirTable = AirTable()
    solver: SolverTable = SolverTable()
    sweep: SweepTable | None = None
    refine: RefineTable | None = None
    walls: WallsTable | None = None
    run: RunTable = RunTable()
    base: Path = Field(default=Path("."), exclude=True)

    @abstractmethod
    def chord(self) -> float:
        """Length [m] that Reynolds numbers refer to."""

    def freestream(self, mach: float, alpha: float = 0.0) -> Freestream:
        """The stream at one condition."""
        given = {name: value for name, value in self.air.model_dump().items() if value is not None}
        return Freestream(mach=mach, alpha=alpha, length=self.chord(), **given)

    def machs(self) -> list[float]:
        """All Mach numbers that are asked for."""
        return (self.sweep.mach if self.sweep else []) + [
            one.mach for one in (getattr(self, name, None) for name in JOBS[1:]) if one
        ]

    def wall(self) -> Wall | None:
        """What the walls do; None without a [walls] table."""
        if self.walls is None:
            return None
        own, laminar = self.walls, self.walls.laminar
        temperature = None if own.temperature is None else quantity("walls.temperature", own.temperature, "K")
        laminar = tuple(laminar) if isinstance(laminar, list) else laminar
        return Wall(temperature=temperature, roughness=quantity("walls.roughness", own.roughness, "m"), laminar=laminar)

    def settings(self) -> Settings:
        """Solver settings."""
        return Settings(**{name: value for name, value in self.solver.model_dump().items() if name != "model"})


class Study(Asked):
    """A study file of a section."""

    section: Section
    mesh: MeshTable = MeshTable()
    time: TimeTable | None = None

    def foil(self) -> Airfoil:
        """The section in its true size [m]."""
        s = self.section
        ways = [name for name in ("naca", "file", "class_shape") if getattr(s, name) is not None]
        if len(ways) != 1:
            raise InputError(
                f"section names {' and '.join(ways) or 'nothing'}; give exactly one of naca, file, class_shape."
            )
        if s.naca is not None:
            foil = Airfoil.naca(s.naca, s.tail)
        elif s.file is not None:
            foil = Airfoil.read(self.base / s.file)
        else:
            foil = Airfoil.from_class_shape(
                s.class_shape.upper, s.class_shape.lower, s.class_shape.gap, name=self.title
            )
        if s.flap is not None:
            foil = foil.with_flap(s.flap.hinge, s.flap.angle)
        return foil.scaled(self.chord() / foil.chord)

    def chord(self) -> float:
        """True chord [m]."""
        chord = quantity("section.chord", self.section.chord, "m")
        if not 0.0 < chord < 1000.0:
            raise InputError(
                f"section.chord = {self.section.chord!r} is not the chord of an aircraft; give for example '1.6 m'."
            )
        return chord

    def mesh_of(self, foil: Airfoil) -> Mesh:
        """The mesh about the section; what the file leaves open follows from the model."""
        options = self.mesh.model_dump(exclude={"y_plus"})
        layers = self.layers()
        if layers is None:
            options["topology"] = options["topology"] or "O"
            if options["outward"] is None and options["growth"] is None:
                options["outward"] = 32
            return mesh_airfoil(foil, **options)
        options["topology"] = options["topology"] or "C"
        options["first_height"] = layers.first_height
        if options["outward"] is None:
            options |= {"outward": layers.count, "growth": None}
        return mesh_airfoil(foil, **options)

    def layers(self) -> Layers | None:
        """Wall layers for the highest Reynolds number of the study; None in inviscid flow."""
        if self.solver.model == "euler":
            if self.mesh.y_plus is not None:
                raise InputError('mesh.y_plus has no meaning with solver.model = "euler"; leave it out.')
            return None
        if self.mesh.y_plus is not None and self.mesh.first_height is not None:
            raise InputError("mesh.y_plus and mesh.first_height are both given; drop one.")
        reynolds = max(self.freestream(mach).reynolds for mach in self.machs())
        aim = 1.0 if self.mesh.y_plus is None else self.mesh.y_plus
        layers = wall_layers(reynolds, aim, self.mesh.growth or 1.2, self.mesh.farfield)
        if self.mesh.first_height is not None:
            aim *= self.mesh.first_height / layers.first_height
            layers = wall_layers(reynolds, aim, self.mesh.growth or 1.2, self.mesh.farfield)
        return layers


@takes(path=PATH)
def read_study(path: str | Path) -> Asked:
    """Read and validate a study file, of a section or with [aircraft] of an aircraft; mistakes are InputErrors `file:line: key: what to do`."""
    from zephyrum.studies.aircraft import AircraftStudy

    path = Path(path)
    text, data = read_table(path, "study", f"make one with: zephyrum new {path.name}")
    kind = AircraftStudy if "aircraft" in data else Study
    try:
        study = kind.model_validate(data)
    except ValidationError as cause:
        # an unknown key explains a missing one, so it is told first
        error = min(cause.errors(), key=lambda e: e["type"] != "extra_forbidden")
        keys = [
            str(key)
            for key in error["loc"]
            if not (isinstance(key, str) and ("[" in key or key in ("float", "str", "int")))
        ]
        raise InputError(f"{path.name}:{line_of(text, keys)}: {'.'.join(keys)}: {_advice(kind, error, keys)}") from None
    study.base = path.parent
    jobs = [name for name in JOBS if name in kind.model_fields]
    if all(getattr(study, name) is None for name in jobs):
        raise InputError(f"{path.name}: none of {', '.join(f'[{name}]' for name in jobs)} is there, so there is nothing to compute; add one.")  # fmt: skip
    return study


def _advice(kind: type[Asked], error: dict, keys: list[str]) -> str:
    name, value = error["type"], error.get("input")
    if name == "extra_forbidden":
        table: Any = kind
        for key in keys[:-1]:
            annotation = table.model_fields[key].annotation
            table = next(
                (
                    a
                    for a in (annotation, *getattr(annotation, "__args__", ()))
                    if isinstance(a, type) and issubclass(a, BaseModel)
                ),
                kind,
            )
        names = [field.alias or key for key, field in table.model_fields.items() if key != "base"]
        return f"unknown key; known here: {', '.join(names)}."
    if name == "missing":
        return "is missing; add it."
    return f"{error['msg'][0].lower()}{error['msg'][1:]}, but it is {value!r}."
