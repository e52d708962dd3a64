"""Running a whole study file into a folder that explains itself."""

import json
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zephyrum.errors import FileError
from zephyrum.mesh import Mesh, quality
from zephyrum.one_stroke import write_text
from zephyrum.results import TimeSeries, solve_in_time
from zephyrum.shape import Airfoil
from zephyrum.studies.aircraft import AircraftOutcome, AircraftStudy, open_aircraft_study, run_aircraft_study
from zephyrum.studies.contents import write_contents
from zephyrum.studies.outcome import Finished, held_polar, held_solution
from zephyrum.studies.proof import held_proof, proven
from zephyrum.studies.refine import nested, with_errors
from zephyrum.studies.store import write_checks
from zephyrum.studies.study import Study, read_study
from zephyrum.studies.sweep import sweep


@dataclass(frozen=True, repr=False)
class Outcome(Finished):
    """All that a finished study of a section left."""

    foil: Airfoil
    series: TimeSeries | None = None


def run_study(
    path: str | Path,
    folder: str | Path,
    on_point: Callable | None = None,
    on_level: Callable | None = None,
    on_time: Callable | None = None,
    on_plan: Callable | None = None,
    on_step: Callable | None = None,
) -> Outcome | AircraftOutcome:
    """Compute everything the study file asks for into `folder`; go on where an earlier run stopped.

    on_point and on_step as in `sweep` (the latter also on the meshes of a refinement); on_level(row) after each mesh of a refinement, on_time(row) after each step in time,
    on_plan(plan) before a mesh in space is made.
    """
    path, folder = Path(path), Path(folder)
    study = read_study(path)
    if isinstance(study, AircraftStudy):
        return run_aircraft_study(path, folder, on_point, on_level, on_plan, on_step)
    foil = study.foil()
    mesh = study.mesh_of(foil)
    if folder.exists() and not folder.is_dir():
        raise FileError(f"output {str(folder)!r} is a file; give a folder.")
    family = mesh.family() if study.refine is None else nested(mesh, study.refine.levels)
    polar = refinement = None
    if study.sweep is not None:
        base = study.freestream(study.sweep.mach[0])
        polar = sweep(mesh, study.sweep.alpha, study.sweep.mach, model=study.solver.model, air=base, folder=folder,
                      processes=study.run.processes, settings=study.settings(), on_point=on_point, peak=study.sweep.peak, walls=study.wall(),
                      on_step=on_step, scheduler=study.run.scheduler)  # fmt: skip
    folder.mkdir(parents=True, exist_ok=True)
    if path.resolve() != (folder / "study.toml").resolve():
        shutil.copyfile(path, folder / "study.toml")
        if study.section.file is not None:
            shutil.copyfile(study.base / study.section.file, folder / Path(study.section.file).name)
            text = (
                (folder / "study.toml")
                .read_text(encoding="utf-8")
                .replace(study.section.file, Path(study.section.file).name)
            )
            write_text(folder / "study.toml", text)
    if study.refine is not None:
        refinement = proven(study, mesh, family.__getitem__, folder, on_level, on_step)
    series = None if study.time is None else _followed(study, mesh, folder, on_time)
    if polar is not None:
        if refinement is not None:
            polar = with_errors(polar, refinement)
        polar.write(folder / "polar.csv")
    write_text(folder / "mesh.txt", f"{json.dumps(mesh.recipe)}\n{quality(mesh)}\n")
    foil.write(folder / "section.dat")
    outcome = Outcome(study, folder, mesh, polar, refinement, foil, series)
    if polar is not None:
        write_checks(folder, outcome)
    write_contents(outcome)
    return outcome


def open_study(folder: str | Path) -> Outcome | AircraftOutcome:
    """A finished study from its folder; FileError if it is not one."""
    folder = Path(folder)
    if not (folder / "study.toml").is_file():
        raise FileError(
            f"{str(folder)!r} is not the folder of a study (no study.toml in it); run one with: zephyrum run STUDY.toml"
        )
    study = read_study(folder / "study.toml")
    if isinstance(study, AircraftStudy):
        return open_aircraft_study(study, folder)
    foil = study.foil()
    mesh = study.mesh_of(foil)
    polar = held_polar(study, mesh, folder)
    refinement = held_proof(study, folder)
    series = None
    if study.time is not None and (folder / "time.npz").is_file():
        series = _followed(study, mesh, folder, None)
    return Outcome(study, folder, mesh, polar, refinement, foil, series)


def _followed(study: Study, mesh: Mesh, folder: Path, on_time) -> TimeSeries:
    """The march in time of the study; a finished one is only read."""
    own = study.time
    air = study.freestream(own.mach, own.alpha)
    start = held_solution(study, mesh, folder, own.mach, own.alpha)
    series = solve_in_time(mesh, air, study.solver.model, own.duration, own.step, settings=study.settings(), start=start, walls=study.wall(),
                           on_step=on_time, keep=folder / "time.npz")  # fmt: skip
    write_text(folder / "time.csv", series.table().to_csv(index=False))
    return series
