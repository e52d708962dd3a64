"""Study files: one TOML file says what to compute; every mistake is reported with its line.

Verified by tests/test_files.py, tests/test_studies.py and tests/test_misuse.py.
"""

import tomllib
from pathlib import Path
from typing import Any

import tomli_w
from pydantic import BaseModel, Field, ValidationError, create_model

from zephyrum._core.renamed import renamed_advice
from zephyrum._core.toml_reader import line_of, read_table
from zephyrum._core.units import quantity
from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream
from zephyrum.errors import InputError
from zephyrum.flow import Limiter, Numerics, Reconstruction
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.solver import Exhaust, Intake, Wall
from zephyrum.studies.common_tables import (
    FIELD_MODELS,
    QUICK_MODELS,
    AirTable,
    BuildupTable,
    LatticeTable,
    PanelTable,
    PoweredTable,
    RunTable,
    SolverTable,
    Strict,
    WallsTable,
)
from zephyrum.studies.jobs import JOBS, Job
from zephyrum.studies.sources import SOURCES, AircraftTable, SectionTable, Source

HEADER = {
    "section": """# A Zephyrum study. Run it with:  zephyrum run {file}
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
# turbulence = "flight"   # with "sa" or "sst": "flight", "quiet tunnel", "gusty", or [intensity, viscosity ratio]

[mesh]                    # lengths in chords
topology = "O"            # O wraps the tail, C follows the wake (better with friction)
around = 128              # cells on the surface; multiples of 16 nest best
outward = 32              # cells from wall to farfield; without it they follow from the layers
farfield = 100
# y_plus = 1              # with friction: height of the first cell in wall units
# growth = 1.2            # of successive layers

[solver]
model = "euler"           # "euler", "laminar", "sa" (Spalart-Allmaras), "sst" (k-omega), "panel" (no mesh), or a list
residual_drop = 8                # decades of residual drop

# [walls]                 # with friction; without it adiabatic, smooth, fully turbulent
# laminar = [0.3, 0.5]    # chord fractions held laminar, upper and lower side
# roughness = "0.1 mm"    # height of sand grains (model "sa")
# temperature = "300 K"   # of an isothermal wall
""",
    "aircraft": """# A Zephyrum study of an aircraft. Run it with:  zephyrum run {file}
title = "{title}"

[aircraft]
file = "{aircraft}"        # an aircraft file (.toml), or a surface: .stl, .obj, .ply, .step, .vtu
# set = {{ "wing.controls.flap.deflection" = 20 }}    # numbers of the aircraft file changed
# unit = "mm"             # of a surface file; nose and up: where they point in it
# nose = "-x"
# up = "+z"
# reference = {{ area = 28.0, chord = 1.75, span = 16.4, point = [4.2, 0, 1.5] }}   # without a wing to measure

[air]                     # any sufficient set: altitude, pressure, temperature, density, reynolds
altitude = "5000 ft"
# turbulence = "flight"   # with "sa" or "sst": "flight", "quiet tunnel", "gusty", or [intensity, viscosity ratio]

[mesh]
resolution = "coarse"       # "coarse", "medium", "fine", or a factor on all sizes
# cells = 800000          # or about so many cells
# y_plus = 1              # wall layers, with friction
farfield = 10             # spans
# sectors = 4             # one of so many equal sectors about the x axis, at alpha 0 only
# ground = -1.5           # height z [m] of a level ground under the aircraft at alpha 0; a mesh for every alpha

# [powered."nacelle/front"]   # a face of the aircraft, by its label, part/front, part/base, ...
# kind = "intake"         # mass_flow, face_mach or static_pressure
# mass_flow = "12 kg/s"   # of the whole aircraft
# [powered."nacelle/base"]
# kind = "exhaust"        # total_pressure, or pressure_ratio (total over static of the stream); mach if above 1
# pressure_ratio = 1.6
# total_temperature = "600 K"

[solver]
model = "euler"           # "euler", "laminar", "sa", "sst"; without a mesh "lattice", "buildup"; or a list of them
residual_drop = 4                # decades of residual drop
""",
}
FOOTER = {"section": "\n[run]\nprocesses = 2\n", "aircraft": ""}


def template(kind: str) -> str:
    """Commented study file, with {file}, {title} and {aircraft} to be filled in.

    Parameters
    ----------
    kind : str
        Kind of geometry.
    """
    return (
        HEADER[kind]
        + "".join("\n" + job.template[kind] for job in JOBS.values() if kind in job.template)
        + FOOTER[kind]
    )


class StudyBase(Strict):
    """What a study file holds beside its geometry, its mesh and its jobs.

    Attributes
    ----------
    title : str
        Title.
    air : AirTable
        Stream.
    solver : SolverTable
        Flow model and numerics.
    walls : WallsTable, optional
        Conditions of the walls.
    powered : dict of str to PoweredTable
        Exhausts and intakes, by label of the aircraft.
    lattice, buildup, panel : LatticeTable, BuildupTable, PanelTable
        Options of the quick methods.
    reference_data : list of str
        CSV files of measured or published coefficients; see `read_reference_data`.
    run : RunTable
        How to run.
    base : path
        Folder of the file.
    """

    title: str = "study"
    air: AirTable = AirTable()
    solver: SolverTable = SolverTable()
    walls: WallsTable | None = None
    powered: dict[str, PoweredTable] = Field(default_factory=dict)
    lattice: LatticeTable = LatticeTable()
    buildup: BuildupTable = BuildupTable()
    panel: PanelTable = PanelTable()
    reference_data: list[str] = Field(default_factory=list)
    run: RunTable = RunTable()
    base: Path = Field(default=Path("."), exclude=True)

    @property
    def kind(self) -> str:
        """Name of the table of its geometry."""
        return next(kind for kind in SOURCES if getattr(self, kind, None) is not None)

    def source(self) -> Source:
        """Its geometry."""
        return SOURCES[self.kind](self)

    @property
    def field_models(self) -> list[str]:
        """Models that are solved on a mesh."""
        return [model for model in self.solver.models if model in FIELD_MODELS]

    @property
    def field_model(self) -> str:
        """The one model whose solutions the folder of the study holds; empty if there are none or several."""
        return self.field_models[0] if len(self.field_models) == 1 else ""

    @property
    def quick_models(self) -> list[str]:
        """Models that need no mesh."""
        return [model for model in self.solver.models if model in QUICK_MODELS]

    def of_model(self, model: str) -> "StudyBase":
        """The same study with one field model only, without reference data.

        Parameters
        ----------
        model : str
            A field model.
        """
        own = self.model_copy(update={"solver": self.solver.model_copy(update={"models": [model]})})
        own.reference_data = []
        if model not in VISCOUS_MODELS:
            own.air = self.air.model_copy(update={"turbulence": None})
        if model == "euler" and "y_plus" in self.mesh.model_fields_set:  # type: ignore[attr-defined]
            own.mesh = self.mesh.model_copy(update={"y_plus": None})  # type: ignore[attr-defined]
        return own

    def tables(self) -> list[tuple[Job, Any]]:
        """(job, its table) of all tables of jobs in the file."""
        tabled = [job for job in JOBS.values() if job.tabled]
        return [(job, spec) for job in tabled if (spec := getattr(self, job.name, None)) is not None]

    def asked(self) -> list[tuple[Job, Any]]:
        """(job, what is asked of it) of all jobs that are asked for, in their order."""
        return [(job, spec) for job in JOBS.values() if (spec := job.asked(self)) is not None]

    def has(self, name: str) -> bool:
        """Whether the file has the table of a job.

        Parameters
        ----------
        name : str
            Name of the table.
        """
        return getattr(self, name, None) is not None

    def freestream(self, mach: float, alpha: float, chord: float) -> Freestream:
        """Stream at one condition.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float
            [deg]
        chord : float
            Length of the Reynolds number [m].
        """
        given = {name: value for name, value in self.air.model_dump().items() if value is not None}
        return Freestream(mach=mach, alpha=alpha, length=chord, **given)

    def machs(self) -> list[float]:
        """All Mach numbers that are asked for."""
        return [mach for job, spec in self.tables() for mach in job.machs(spec)]

    def alphas(self) -> list[float]:
        """All angles of attack that are asked for [deg]."""
        return [alpha for job, spec in self.tables() for alpha in job.alphas(spec)]

    def wall(self) -> Wall | None:
        """What the walls do; None without a [walls] table."""
        if self.walls is None:
            return None
        own, laminar = self.walls, self.walls.laminar
        temperature = None if own.temperature is None else quantity("walls.temperature", own.temperature, "K")
        laminar = tuple(laminar) if isinstance(laminar, list) else laminar
        return Wall(temperature=temperature, roughness=quantity("walls.roughness", own.roughness, "m"), laminar=laminar)  # type: ignore[arg-type]

    def boundaries(self) -> dict[str, Exhaust | Intake]:
        """Exhausts and intakes by name of their wall."""
        return {name: one.boundary(f"powered.{name}") for name, one in self.powered.items()}

    def numerics(self, residual_drop: float) -> Numerics:
        """Numerics of the study.

        Parameters
        ----------
        residual_drop : float
            Orders of magnitude, unless the file says otherwise.
        """
        asked = self.solver
        drop = asked.residual_drop if "residual_drop" in asked.model_fields_set else residual_drop
        return Numerics(
            drop,
            asked.max_iterations,
            reconstruction=Reconstruction(
                turbulence_order=asked.turbulence_order, kappa=asked.kappa, gradient=asked.gradient
            ),
            limiter=Limiter(asked.limiter),
        )


def _spec(kind: str, table: type[BaseModel]) -> type[StudyBase]:
    """The schema of a study of that kind of geometry."""
    mesh = SOURCES[kind].MeshSpec
    jobs = {job.name: (job.Spec | None, None) for job in JOBS.values() if job.tabled and kind in job.kinds}
    return create_model(  # type: ignore[call-overload]
        f"{kind.title()}Study", __base__=StudyBase, **{kind: (table, ...), "mesh": (mesh, mesh())}, **jobs
    )


SPECS = {"section": _spec("section", SectionTable), "aircraft": _spec("aircraft", AircraftTable)}


@takes(path=PATH)
def read_spec(path: str | Path) -> StudyBase:
    """Read and validate a study file.

    Parameters
    ----------
    path : path
        File, with [section] or [aircraft].

    Raises
    ------
    InputError
        A mistake, as `file:line: key: what to do`.
    """
    path = Path(path)
    text, data = read_table(path, "study", f"make one with: zephyrum new {path.name}")
    if "aircraft" in data and "section" in data:
        raise InputError(f"{path.name}: both [section] and [aircraft] are there; a study has one of them.")
    kind = SPECS["aircraft" if "aircraft" in data else "section"]
    try:
        spec = kind.model_validate(data)
    except ValidationError as cause:
        # an unknown key explains a missing one, so it is reported first
        error = min(cause.errors(), key=lambda e: e["type"] != "extra_forbidden")
        keys = [
            str(key)
            for key in error["loc"]
            if not (isinstance(key, str) and ("[" in key or key in ("float", "str", "int")))
        ]
        raise InputError(f"{path.name}:{line_of(text, keys)}: {'.'.join(keys)}: {_advice(kind, error, keys)}") from None  # type: ignore[arg-type]
    spec.base = path.parent
    if not spec.tables():
        names = [f"[{name}]" for name in JOBS if name in kind.model_fields]
        raise InputError(f"{path.name}: none of {', '.join(names)} is there, so there is nothing to compute; add one.")
    return spec


def member_text(text: str, model: str, files: list[str]) -> str:
    """Study file of one of several field models.

    Parameters
    ----------
    text : str
        Study file with all models.
    model : str
        The model.
    files : list of str
        Files that it reads, which are in the folder above.

    Examples
    --------
    >>> print(member_text('[section]\\nnaca = "2412"\\n[solver]\\nmodel = ["panel", "sa"]', "sa", []))
    [section]
    naca = "2412"
    <BLANKLINE>
    [solver]
    model = "sa"
    <BLANKLINE>
    """
    data = tomllib.loads(text)
    data["solver"]["model"] = model
    data.pop("reference_data", None)
    if model not in VISCOUS_MODELS:
        data.get("air", {}).pop("turbulence", None)
    if model == "euler":
        data.get("mesh", {}).pop("y_plus", None)
    for kind in SOURCES:
        if data.get(kind, {}).get("file") in files:
            data[kind]["file"] = f"../{data[kind]['file']}"
    return tomli_w.dumps(data)


def _advice(kind: type[StudyBase], error: dict, keys: list[str]) -> str:
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
        if renamed := renamed_advice(keys[-1]):
            return f"unknown key; {renamed}."
        names = [field.alias or key for key, field in table.model_fields.items() if key != "base"]
        return f"unknown key; known here: {', '.join(names)}."
    if name == "missing":
        return "is missing; add it."
    shown = repr(value)
    return (
        f"{error['msg'][0].lower()}{error['msg'][1:]}, but it is {shown if len(shown) <= 80 else shown[:77] + '...'}."
    )
