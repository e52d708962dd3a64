"""A study: its file, its geometry, its folder, and the results of its jobs.

`run_study` checks everything, then computes what is missing; `open_study` only reads. Verified by
tests/test_studies.py.
"""

import functools
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zephyrum._core.atomic_files import disk_errors, write_text
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream
from zephyrum.errors import FileError, InputError
from zephyrum.flow import Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.geometry import PropellerDisk
from zephyrum.mesh import Mesh
from zephyrum.mesh.mesh_store import read_stored_mesh, stored_notes
from zephyrum.results import Polar, Solution, TimeSeries, load_solution, solve_case
from zephyrum.results.solution_file import stored_case
from zephyrum.solver import Case, Wall
from zephyrum.studies.grid_convergence import Refinement
from zephyrum.studies.jobs import JOBS, Figure, Table
from zephyrum.studies.observer import Observer
from zephyrum.studies.points import Point
from zephyrum.studies.polar_slopes import PolarSlopes, polar_slopes_of
from zephyrum.studies.readme import write_readme
from zephyrum.studies.sources import Source
from zephyrum.studies.spec import StudyBase, member_text, read_spec
from zephyrum.studies.workspace import Workspace

if TYPE_CHECKING:
    from zephyrum.conditions.reference import Reference


STUDY = "study.toml"


@dataclass(frozen=True, eq=False)
class Study:
    """A study and what was computed of it.

    Attributes
    ----------
    spec : StudyBase
        Content of the study file.
    source : Source
        Geometry and mesh options.
    workspace : Workspace
        Folder of the study.
    results : dict[str, Any]
        By the name of the job.
    meshes : dict[tuple, Mesh]
        Meshes that are in memory.

    Notes
    -----
    Its methods give cases, meshes and stored solutions to the jobs and to the user.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.open_study("results"))  # doctest: +SKIP
    """

    spec: StudyBase
    source: Source
    workspace: Workspace
    results: dict[str, Any] = field(default_factory=dict)
    meshes: dict[tuple, Mesh] = field(default_factory=dict)

    __repr__ = short_repr

    def __str__(self) -> str:
        found = ", ".join(
            f"{name}: {result}"
            for name, result in self.results.items()
            if isinstance(result, Polar | Refinement | TimeSeries)
        )
        return (
            f"{self.spec.title} in {self.workspace.folder}; "
            f"{found or ', '.join(self.results) or 'nothing computed yet'}"
        )

    # -- conditions ----------------------------------------------------------------------------------------------------
    @property
    def folder(self) -> Path:
        """The folder of the study."""
        return self.workspace.folder

    @property
    def grounded(self) -> bool:
        """Whether every alpha has a mesh of its own."""
        return self.source.grounded

    @property
    def members(self) -> "dict[str, Study]":
        """Studies of the field models, by model, where there are several."""
        return self.results.get("fields") or {}

    @property
    def winged(self) -> bool:
        """Whether span loadings mean something."""
        return self.source.winged and not self.mesh.planar

    def freestream(self, mach: float, alpha: float = 0.0) -> Freestream:
        """Stream at one condition.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float, optional
            [deg]

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> study.freestream(mach=0.2, alpha=4.0).speed  # doctest: +SKIP
        """
        return self.spec.freestream(mach, alpha, self.source.chord)

    def numerics(self) -> Numerics:
        """The numerics."""
        return self.spec.numerics(self.source.residual_drop)

    def wall(self) -> Wall | None:
        """What the walls do."""
        return self.spec.wall()

    def propellers(self) -> dict[str, PropellerDisk]:
        """Propeller disks of the aircraft."""
        return self.source.propellers

    # -- running and reading -------------------------------------------------------------------------------------------
    def member(self, model: str) -> "Study":
        """Study of one of several field models, as its part of the study file asks.

        Parameters
        ----------
        model : str
            The model.
        """
        spec = self.spec.of_model(model)
        return Study(spec, spec.source(), Workspace(self.folder / model))

    def write_member(self, model: str) -> "Study":
        """Write the study file of one of several field models into a folder of its own.

        Parameters
        ----------
        model : str
            The model.

        Returns
        -------
        Study
            What the file asks for.
        """
        folder = Workspace(self.folder / model).open().folder
        write_text(folder / STUDY, self._member_text(model))
        return _read(folder)

    def stored_member(self, model: str) -> "Study | None":
        """Study of one of several field models as it was written; None if it was not.

        Parameters
        ----------
        model : str
            The model.

        Raises
        ------
        FileError
            It is stale.
        """
        folder = self.folder / model
        if not (folder / STUDY).is_file():
            return None
        if (folder / STUDY).read_text(encoding="utf-8") != self._member_text(model):
            raise FileError(f"the results in {str(folder)!r} are stale: {STUDY} beside it has changed; run it again.")
        return _read(folder)

    def _member_text(self, model: str) -> str:
        """Study file of one field model; the files it reads are in the folder of this study."""
        return member_text((self.folder / STUDY).read_text(encoding="utf-8"), model, self.source.files())

    def check(self) -> None:
        """Check everything in the study; nothing is meshed or solved.

        Raises
        ------
        InputError
            Something cannot be computed.
        """
        if self.spec.field_model:
            self.source.check()
        self.numerics()
        self.wall()
        if self.spec.boundaries() and self.spec.kind != "aircraft":
            raise InputError("powered: a section has no exhaust and no intake; remove [powered].")
        for mach in self.spec.machs():
            for alpha in (min(self.spec.alphas()), max(self.spec.alphas())):
                self.freestream(mach, alpha)
        if self.spec.walls is not None and self.spec.walls.ground is not None and not self.grounded:
            raise InputError(
                "walls.ground has no effect without mesh.ground, the height of the ground; give both or none."
            )
        for job, spec in self.spec.asked():
            job.check(self, spec)

    def compute(self, observer: Observer) -> "Study":
        """Compute what is missing, and write tables and README.

        Parameters
        ----------
        observer : Observer
            Receives steps and finished tasks.
        """
        self.workspace.open()
        for job, own in self.spec.asked():
            self.results[job.name] = job.run(self, own, observer)
        for name in self.results:
            JOBS[name].finish(self)
        self.source.write_shape(self.folder)
        write_readme(self)
        return self

    def load(self) -> "Study":
        """Read what was computed; nothing is computed or written."""
        for job, own in self.spec.asked():
            result = job.load(self, own)
            if result is not None:
                self.results[job.name] = result
        return self

    # -- meshes and cases ----------------------------------------------------------------------------------------------
    @functools.cached_property
    def mesh(self) -> Mesh:
        """The finest mesh that is there: over a ground that of the alpha nearest to 0."""
        if not self.spec.field_model:
            members = ", ".join(str(self.folder / model) for model in self.spec.field_models)
            raise InputError(
                f"{str(self.folder)!r} holds no field solution itself"
                f"{f'; open one of {members}' if members else ', since its models need no mesh'}."
            )
        alphas = sorted(self.spec.alphas(), key=abs)
        mesh = next((found for alpha in alphas if (found := self._mesh(alpha, None)) is not None), None)
        if mesh is None:  # of variants only
            stored = [path for path in sorted(self.folder.glob("mesh*.cgns")) if stored_notes(path) is not None]
            if not stored:
                raise FileError(f"{str(self.folder)!r} holds no mesh yet; run the study.")
            mesh = read_stored_mesh(stored[0], family=False)
        return mesh

    def _mesh(self, alpha: float, observer: Observer | None, level: int = 0) -> Mesh | None:
        """The mesh at an alpha, kept in the workspace; without an observer it is only read."""
        attitude = alpha if self.grounded else 0.0
        key = (attitude, level)
        if key not in self.meshes:
            mesh = self._found_mesh(attitude, observer, level)
            if mesh is None:
                return None
            self.meshes[key] = mesh
        return self.meshes[key]

    def _found_mesh(self, attitude: float, observer: Observer | None, level: int) -> Mesh | None:
        source, name = self.source, "mesh" + (f"-a{attitude:+.3f}" if self.grounded else "")
        made_from = source.made_from(attitude)
        if level == 0:
            make = None if observer is None else (lambda: source.mesh(attitude, observer))
            return self.workspace.mesh(name, made_from, make)
        finest = self._mesh(attitude, observer)
        if finest is None or not source.made_level(level):
            return finest and source.level(finest, level, attitude)
        make = None if observer is None else (lambda: source.level(finest, level, attitude))
        return self.workspace.mesh(f"{name}-{level}", made_from | {"level": level}, make)

    def _case(self, mesh: Mesh, mach: float, alpha: float, reference) -> Case:
        ground = None if self.spec.walls is None else self.spec.walls.ground
        return Case(
            mesh,
            self.freestream(mach, alpha),
            self.spec.field_model,
            reference,
            self.wall(),
            self.numerics(),
            ground,
            self.spec.boundaries(),
            self.propellers(),
        )

    def case(self, mach: float, alpha: float, observer: Observer | None = None, level: int = 0) -> Case:
        """Case at one condition.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float
            [deg]
        observer : Observer, optional
            With it the mesh is made if it is not there.
        level : int, optional
            How many levels coarser than the finest mesh.

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> study.case(mach=0.2, alpha=4.0).fingerprint  # doctest: +SKIP
        """
        finest = self._mesh(alpha, observer)
        mesh = self._mesh(alpha, observer, level)
        if mesh is None or finest is None:
            raise FileError(f"{str(self.folder)!r} holds no mesh for alpha {alpha:g} deg yet; run the study.")
        return self._case(mesh, mach, alpha, finest.reference)

    def stored_case(self, mach: float, alpha: float) -> Case | None:
        """Case at one condition if its mesh is there; nothing is made.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float
            [deg]
        """
        return None if self._mesh(alpha, None) is None else self.case(mach, alpha)

    def varied_case(
        self,
        name: str,
        number: str,
        value: float,
        mach: float,
        alpha: float,
        observer: Observer | None,
        reference: "Reference | None" = None,
    ) -> Case | None:
        """Case about a variant of the geometry.

        Parameters
        ----------
        name : str
            Name under which its mesh is kept.
        number : str
            Dotted path of the number that varies.
        value : float
            Its value.
        mach : float
            Mach number.
        alpha : float
            [deg]
        observer : Observer or None
            With it the mesh is made if it is not there.
        reference : Reference, optional
            Reference quantities.

        Returns
        -------
        Case
            None if the mesh is not there and no observer is given.
        """
        source = self.source.changed(number, value)
        attitude = alpha if self.grounded else 0.0
        make = None if observer is None else (lambda: source.mesh(attitude, observer))
        mesh = self.workspace.mesh(name, source.made_from(attitude), make)
        return None if mesh is None else self._case(mesh, mach, alpha, reference or mesh.reference)

    def case_key(self, mach: float, alpha: float) -> dict:
        """What a case depends on before its mesh is made, for records of jobs that make meshes of their own.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float
            [deg]
        """
        air = self.freestream(mach, alpha)
        return {
            "made from": self.source.made_from(0.0),
            "mach": air.mach,
            "alpha": air.alpha,
            "pressure": air.pressure,
            "temperature": air.temperature,
            "reynolds": air.reynolds,
            "turbulence": air.turbulence,
            "model": self.spec.field_model,
            "numerics": self.numerics(),
            "walls": self.wall(),
            "powered": self.spec.boundaries(),
            "propellers": self.propellers(),
        }

    # -- stored solutions ----------------------------------------------------------------------------------------------
    def stored_solution(self, case: Case, name: str | None = None) -> Solution | None:
        """Stored solution of a case.

        Parameters
        ----------
        case : Case
            The case.
        name : str, optional
            Name of the point; that of the case without it.

        Returns
        -------
        Solution
            None if it is not there, or of another case.
        """
        store = self.workspace.store
        name = name or Point(case.air.mach, case.air.alpha, None).name
        path = store.state(name)
        if not path.is_file():
            return None
        solution = load_solution(path, case.mesh) if self._same_mesh(path, case) else None
        return solution if solution is not None and solution.case.fingerprint == case.fingerprint else None

    @staticmethod
    def _same_mesh(path: Path, case: Case) -> bool:
        return stored_case(path)[1]["mesh"]["fingerprint"] == case.mesh.fingerprint

    def solved_point(self, name: str, case: Case, start: Solution | None, on_step: Callable) -> Solution:
        """Solution of a case, from the store or computed into it.

        Parameters
        ----------
        name : str
            Name of the point.
        case : Case
            The case.
        start : Solution or None
            Solution to start from.
        on_step : callable
            Receives the columns of the history after every step.
        """
        store = self.workspace.store
        if store.row(name) is not None and (stored := self.stored_solution(case, name)) is not None:
            return stored
        made = solve_case(case, start, on_step, self.folder / "points" / f"{name}.going")
        made.save(store.state(name), store.mesh_file(case.mesh))
        store.keep_row(name, made.row())
        return made

    def solution(self, mach: float, alpha: float) -> Solution:
        """Stored solution of one point.

        Parameters
        ----------
        mach : float
            Mach number.
        alpha : float
            [deg]

        Raises
        ------
        FileError
            It is not there.

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> study.solution(mach=0.2, alpha=4.0).forces.table()  # doctest: +SKIP
        """
        case = self.stored_case(mach, alpha)
        stored = None if case is None else self.stored_solution(case)
        if stored is None:
            raise FileError(
                f"{str(self.folder)!r} holds no finished point at M {mach:g}, alpha {alpha:g} deg; run the study "
                f"again, or see its polar.csv for those there are."
            )
        return stored

    # -- what was found ------------------------------------------------------------------------------------------------
    @property
    def polar(self) -> Polar | None:
        """The polar with its error bars; None if there is none.

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> study.polar.table[["alpha", "CL", "CL_error"]]  # doctest: +SKIP
        """
        return JOBS["sweep"].polar(self) if "sweep" in self.results else None  # type: ignore[attr-defined]

    @property
    def refinement(self) -> Refinement | None:
        """The mesh study.

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> study.refinement.estimates["CD"].error  # doctest: +SKIP
        """
        return self.results.get("refine")

    @property
    def series(self) -> TimeSeries | None:
        """The run in time."""
        return self.results.get("time")

    @property
    def derived(self) -> list[PolarSlopes]:
        """Lift slope, neutral point and so on, at every Mach number; empty for sections.

        Examples
        --------
        >>> import zephyrum as zy
        >>> study = zy.open_study("results")  # doctest: +SKIP
        >>> [slopes.row() for slopes in study.derived]  # doctest: +SKIP
        """
        return [] if self.polar is None or self.mesh.planar else polar_slopes_of(self.polar, self.mesh.reference)

    def missing(self) -> list[str]:
        """Names of the jobs that are asked for and not finished.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.open_study("results").missing()  # doctest: +SKIP
        """
        found = [job.name for job, spec in self.spec.asked() if job.name not in self.results]
        found += [f"{model}: {name}" for model, one in self.members.items() for name in one.missing()]
        sweep = self.results.get("sweep")
        if sweep is not None and len(sweep.table) < JOBS["sweep"].count(self.spec.sweep):  # type: ignore[attr-defined]
            found.append("sweep")
        return found

    def outcomes(self) -> list[str]:
        """Outcomes of all that was solved."""
        return [outcome for name, result in self.results.items() for outcome in JOBS[name].outcomes(result)]

    @property
    def converged(self) -> bool:
        """Whether everything that was solved converged, plausibly.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.open_study("results").converged  # doctest: +SKIP
        """
        return all(outcome == Outcome.CONVERGED for outcome in self.outcomes())

    @property
    def implausible(self) -> bool:
        """Whether anything is implausible."""
        slopes = [one for one in self.derived if one.slope[0] < 0.0]
        return Outcome.IMPLAUSIBLE in self.outcomes() or bool(slopes)

    def tables(self) -> list[Table]:
        """Tables of all jobs.

        Examples
        --------
        >>> import zephyrum as zy
        >>> [table.title for table in zy.open_study("results").tables()]  # doctest: +SKIP
        """
        return [table for name, result in self.results.items() for table in JOBS[name].tables(self, result)]

    def figures(self) -> list[Figure]:
        """Figures of all jobs.

        Examples
        --------
        >>> import zephyrum as zy
        >>> [figure.name for figure in zy.open_study("results").figures()]  # doctest: +SKIP
        """
        return [figure for name, result in self.results.items() for figure in JOBS[name].figures(self, result)]


@takes(path=PATH)
def read_study(path: str | Path) -> StudyBase:
    """Read and validate a study file.

    Parameters
    ----------
    path : path
        File.

    Raises
    ------
    InputError
        A mistake, as `file:line: key: what to do`.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.read_study("skerry.toml").title  # doctest: +SKIP
    """
    return read_spec(path)


@takes(path=PATH, folder=PATH, observer=Observer)
def run_study(path: str | Path, folder: str | Path, observer: Observer | None = None) -> Study:
    """Compute everything that a study file asks for into a folder; go on where an earlier run stopped.

    Notes
    -----
    Everything is checked before anything is computed.

    Parameters
    ----------
    path : path
        The study file.
    folder : path
        Where meshes, points, tables are kept.
    observer : Observer, optional
        Is reported of steps and finished tasks.

    Returns
    -------
    Study
        With the results of its jobs.

    Raises
    ------
    InputError, FileError
        For what cannot be computed, or a folder that holds another study.

    Examples
    --------
    >>> import zephyrum as zy
    >>> study = zy.run_study("skerry.toml", "results")  # doctest: +SKIP
    >>> study.results["sweep"].table  # doctest: +SKIP
    """
    path, folder = Path(path), Path(folder)
    spec = read_spec(path)
    study = Study(spec, spec.source(), Workspace(folder))
    study.check()
    if folder.exists() and not folder.is_dir():
        raise FileError(f"output {str(folder)!r} is a file; give a folder.")
    study.workspace.open()
    _copy_inputs(path, spec, folder)
    return study.compute(observer or Observer())


def _copy_inputs(path: Path, spec: StudyBase, folder: Path) -> None:
    """The study file and what it reads, so that the folder can be run again."""
    if path.resolve() == (folder / STUDY).resolve():
        return
    text = path.read_text(encoding="utf-8")
    with disk_errors(folder / STUDY):
        for name in (*spec.source().files(), *spec.reference_data):
            target = folder / Path(name).name
            if (spec.base / name).resolve() != target.resolve():
                shutil.copyfile(spec.base / name, target)
            text = text.replace(name, Path(name).name)
    write_text(folder / STUDY, text)


@takes(folder=PATH)
def open_study(folder: str | Path) -> Study:
    """Open the study in a folder with what was computed of it so far; nothing is computed or written.

    Parameters
    ----------
    folder : path
        The folder.

    Raises
    ------
    FileError
        If the folder is not one of a study, or if its results are stale: made from another input than its study.toml
        gives.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.open_study("results").solution(mach=0.2, alpha=4.0)  # doctest: +SKIP
    """
    folder = Path(folder)
    if not (folder / STUDY).is_file():
        raise FileError(
            f"{str(folder)!r} is not the folder of a study (no {STUDY} in it); run one with: zephyrum run STUDY.toml"
        )
    study = _read(folder)
    if study.spec.field_model:
        _ = study.mesh
    return study.load()


def _read(folder: Path) -> Study:
    """Study of a folder without results."""
    spec = read_spec(folder / STUDY)
    return Study(spec, spec.source(), Workspace(folder))
