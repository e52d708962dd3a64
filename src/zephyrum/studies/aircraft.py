"""Studies of a complete aircraft: from its file to polar, loads, pictures and mesh error, resumable.

The mesh is made once and kept; every point starts from its neighbour in alpha. The mesh error is found on coarser meshes of the
same family: one factor on every size. Verified by tests/test_space.py.
"""

import functools
import json
import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Literal

import pandas as pd
from pydantic import Field

from zephyrum.air import Reference
from zephyrum.errors import FileError, InputError
from zephyrum.mesh import Mesh, mesh_aircraft, quality, read_mesh, write_mesh
from zephyrum.one_stroke import write_text
from zephyrum.shape import Aircraft, Surface, adopt
from zephyrum.studies.contents import write_contents
from zephyrum.studies.derived import Derived, derived
from zephyrum.studies.flown import (
    DerivativesTable,
    TrimTable,
    fly_derivatives,
    fly_trim,
    held_derivatives,
    held_trim,
)
from zephyrum.studies.outcome import Finished, held_polar
from zephyrum.studies.proof import held_proof, proven
from zephyrum.studies.refine import STEP, with_errors
from zephyrum.studies.store import write_checks
from zephyrum.studies.study import Asked, RunTable, SolverTable, _Strict
from zephyrum.studies.sweep import sweep

TEMPLATE = """# A Zephyrum study of an aircraft. Run it with:  zephyrum run {file}
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

[mesh]
fineness = "coarse"       # "coarse", "medium", "fine", or a factor on all sizes
# cells = 800000          # or about so many cells
# y_plus = 1              # wall layers, with friction
farfield = 10             # spans

[solver]
model = "euler"           # "euler", "laminar", "sa", "sst"
orders = 4                # decades of residual drop

[sweep]
mach = 0.2
alpha = {{ from = 0, to = 6, step = 3 }}

# [refine]                # error bars from two coarser meshes
# mach = 0.2
# alpha = 3

# [trim]                  # alpha and a number of the aircraft for which CM = 0 and the lift carries it
# mach = 0.2
# control = "tailplane.pitch"
# mass = "3900 kg"        # or lift = 0.6; without either the mass of the described parts

# [derivatives]           # by alpha, and with half = false in [mesh] by beta
# mach = 0.2
# alpha = 3
"""


class ReferenceTable(_Strict):
    """Typed reference quantities [m^2, m]."""

    area: float
    chord: float
    span: float
    point: tuple[float, float, float]


class AircraftTable(_Strict):
    """The aircraft."""

    file: str
    set: dict[str, float | str] = Field(default_factory=dict)
    unit: str | None = None
    nose: str = "-x"
    up: str = "+z"
    reference: ReferenceTable | None = None


class SpaceTable(_Strict):
    """Options of mesh_aircraft."""

    fineness: str | float = "medium"
    cells: int | None = None
    half: bool | None = None
    y_plus: float | None = None
    farfield: float = 10.0
    ground: float | None = None
    wake: float = 0.0


class SpaceSolver(SolverTable):
    """Model and settings; in space four decades settle the coefficients to four digits."""

    orders: float = 4.0


class SpaceRefine(_Strict):
    """Where to prove the mesh."""

    mach: float
    alpha: float
    levels: Literal[3] = 3


class SpaceRun(RunTable):
    """How to run: one process with all threads, since big meshes fill the memory."""

    processes: int = Field(1, ge=1, le=256)


class AircraftStudy(Asked):
    """A study file of an aircraft."""

    aircraft: AircraftTable
    mesh: SpaceTable = SpaceTable()
    solver: SpaceSolver = SpaceSolver()
    refine: SpaceRefine | None = None
    trim: TrimTable | None = None
    derivatives: DerivativesTable | None = None
    run: SpaceRun = SpaceRun()

    @functools.cached_property
    def shape(self) -> Aircraft | Surface:
        """The aircraft, or the mended surface."""
        path = self.base / self.aircraft.file
        if not path.is_file():
            raise InputError(f"aircraft.file = {self.aircraft.file!r} does not exist beside the study; check the name.")
        if path.suffix == ".toml":
            craft = Aircraft.read(path)
            return craft.changed(self.aircraft.set) if self.aircraft.set else craft
        if self.aircraft.set:
            raise InputError("aircraft.set changes numbers of an aircraft file (.toml); a surface has none.")
        return adopt(path, self.aircraft.unit, self.aircraft.nose, self.aircraft.up).surface

    @functools.cached_property
    def reference(self) -> Reference:
        """Typed here, or that of the aircraft file."""
        typed = self.aircraft.reference
        if typed is not None:
            return Reference(typed.area, typed.chord, typed.span, typed.point)
        if isinstance(self.shape, Surface):
            raise InputError(
                "a surface has no wing to measure a reference on; add aircraft.reference = { area, chord, span, point }."
            )
        return self.shape.reference_quantities()[0]

    def chord(self) -> float:
        """Reference chord [m]."""
        return self.reference.chord

    def mesh_options(self) -> dict:
        """Arguments of mesh_aircraft."""
        options = self.mesh.model_dump() | {"reference": self.reference}
        viscous = self.solver.model != "euler"
        if viscous and self.mesh.y_plus is None:
            options["y_plus"] = 1.0
        if not viscous and self.mesh.y_plus is not None:
            raise InputError('mesh.y_plus has no meaning with solver.model = "euler"; leave it out.')
        if viscous:
            options["reynolds"] = max(self.freestream(mach).reynolds for mach in self.machs())
        if self.sweep is not None and self.mesh.wake > 0.0:
            options["alpha"] = (min(self.sweep.alpha), max(self.sweep.alpha))
        return options


@dataclass(frozen=True, repr=False)
class AircraftOutcome(Finished):
    """All that a finished study of an aircraft left (None where not asked)."""

    shape: Aircraft | Surface
    trim: dict | None = None
    derivatives: pd.DataFrame | None = None
    series: None = None

    @property
    def derived(self) -> list[Derived]:
        """Lift slope, neutral point and so on, at every Mach number."""
        return [] if self.polar is None else derived(self.polar, self.mesh.reference)


def _kept_mesh(folder: Path, name: str, key: dict, make: Callable[[], Mesh]) -> Mesh:
    """The mesh of that name in the folder, with its coarser relatives, if it was made from the same input, else a new one, kept there."""
    held = folder / f"{name}.json"
    text = json.dumps(key, sort_keys=True, default=str)

    def target(depth: int) -> Path:
        return folder / (f"{name}-start-{depth}.cgns" if depth else f"{name}.cgns")

    if held.is_file():
        notes = json.loads(held.read_text(encoding="utf-8"))
        targets = [target(depth) for depth in range(notes.get("meshes", 1))]
        if notes["made from"] == text and all(path.is_file() for path in targets):
            reference = Reference(**notes["reference"]) if notes["reference"] else None
            line = [replace(read_mesh(path), reference=reference, recipe=notes["recipe"]) for path in targets]
            mesh = line.pop()
            while line:
                mesh = line.pop().with_coarser(mesh)
            return mesh
    mesh = make()
    folder.mkdir(parents=True, exist_ok=True)
    for depth, one in enumerate(mesh.family()):
        write_mesh(one, target(depth))
    write_text(
        held,
        json.dumps(
            {
                "made from": text,
                "reference": None if mesh.reference is None else asdict(mesh.reference),
                "recipe": mesh.recipe,
                "fingerprint": mesh.fingerprint,
                "meshes": len(mesh.family()),
            },
            indent=1,
        ),
    )
    return mesh


def prepare(study: AircraftStudy, folder: Path, on_plan: Callable | None = None):
    """(shape, mesh, function that makes the mesh so many steps coarser)."""
    shape, options = study.shape, study.mesh_options()
    mark = shape.surface().fingerprint if isinstance(shape, Aircraft) else shape.fingerprint
    key = {
        "shape": mark,
        **{name: value for name, value in options.items() if name != "reference"},
        "reference": str(options["reference"]),
    }
    mesh = _kept_mesh(folder, "mesh", key, lambda: mesh_aircraft(shape, on_plan=on_plan, **options))

    def coarser(step: int) -> Mesh:
        factor = mesh.recipe["factor"] * STEP**step
        own = options | {"fineness": factor, "cells": None}
        return _kept_mesh(folder, f"mesh-{step}", key | {"factor": factor}, lambda: mesh_aircraft(shape, **own))

    return shape, mesh, coarser


def run_aircraft_study(
    path: Path, folder: Path, on_point=None, on_level=None, on_plan=None, on_step=None
) -> AircraftOutcome:
    """Compute everything an aircraft study asks for into `folder`; go on where an earlier run stopped."""
    from zephyrum.studies.study import read_study

    study = read_study(path)
    if folder.exists() and not folder.is_dir():
        raise FileError(f"output {str(folder)!r} is a file; give a folder.")
    shape, mesh, coarser = prepare(study, folder, on_plan)
    if path.resolve() != (folder / "study.toml").resolve():
        shutil.copyfile(study.base / study.aircraft.file, folder / Path(study.aircraft.file).name)
        text = path.read_text(encoding="utf-8").replace(study.aircraft.file, Path(study.aircraft.file).name)
        write_text(folder / "study.toml", text)
    polar = refinement = None
    if study.sweep is not None:
        base = study.freestream(study.sweep.mach[0])
        polar = sweep(mesh, study.sweep.alpha, study.sweep.mach, model=study.solver.model, air=base, folder=folder, processes=study.run.processes,
                      settings=study.settings(), on_point=on_point, peak=study.sweep.peak, walls=study.wall(),
                      on_step=on_step, scheduler=study.run.scheduler)  # fmt: skip
    if study.refine is not None:
        refinement = proven(study, mesh, coarser, folder, on_level, on_step)
    if polar is not None:
        if refinement is not None:
            polar = with_errors(polar, refinement)
        polar.write(folder / "polar.csv")
        _loads(AircraftOutcome(study, folder, mesh, polar, refinement, shape))
    write_text(folder / "mesh.txt", f"{json.dumps(mesh.recipe)}\n{quality(mesh)}\n")
    slopes = fly_derivatives(study, mesh, folder)
    outcome = AircraftOutcome(study, folder, mesh, polar, refinement, shape, fly_trim(study, folder), slopes)
    if polar is not None:
        write_checks(folder, outcome)
    write_contents(outcome, Path(study.aircraft.file).name)
    return outcome


def open_aircraft_study(study: AircraftStudy, folder: Path) -> AircraftOutcome:
    """A finished study from its folder."""
    shape, mesh, _ = prepare(study, folder)
    polar = held_polar(study, mesh, folder)
    made = held_trim(study, folder), held_derivatives(study, mesh, folder)
    return AircraftOutcome(study, folder, mesh, polar, held_proof(study, folder), shape, *made)


def _loads(outcome: AircraftOutcome) -> None:
    """forces.csv, loading.csv and derived.csv: all points by part and cause, span loadings, and what follows from the sweep."""
    forces, loads = [], []
    for row in outcome.polar.table.itertuples():
        solution = outcome.solution(row.mach, row.alpha)
        place = {"mach": row.mach, "alpha": row.alpha}
        forces.append(solution.forces.table().assign(**place))
        load = solution.span_loading()
        loads.append(load.table.assign(**place, **{"induced CD": load.induced, "span efficiency": load.efficiency}))
    for name, frames in (("forces", forces), ("loading", loads)):
        made = pd.concat(frames, ignore_index=True)
        write_text(
            outcome.folder / f"{name}.csv",
            made[["mach", "alpha", *made.columns.drop(["mach", "alpha"])]].to_csv(index=False),
        )
    write_text(outcome.folder / "derived.csv", pd.DataFrame([one.row() for one in outcome.derived]).to_csv(index=False))
