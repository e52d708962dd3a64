"""Sweeps over alpha and Mach number: a polar, resumable, on one process, on several, or on a cluster.

Points of one Mach number form chains outward from the smallest alpha, each started from its neighbour; numbers do not
depend on the count of processes or on interruptions. Verified by tests/test_studies.py.
"""

import tempfile
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zephyrum._core.validation import PATH, number, numbers, set_fields, taken, takes, whole
from zephyrum.conditions import Freestream
from zephyrum.errors import InputError
from zephyrum.flow import Numerics
from zephyrum.geometry import Airfoil
from zephyrum.mesh import Mesh, mesh_airfoil
from zephyrum.results import Polar
from zephyrum.solver import Case
from zephyrum.studies.executors import ClusterExecutor, ProcessExecutor, Reports, SerialExecutor, Work
from zephyrum.studies.observer import Observer
from zephyrum.studies.point_store import Store
from zephyrum.studies.points import Point, plan, refine_near_clmax

PROCESSES = 2  # unless asked otherwise


def _values(name: str, values, low: float, high: float, open_low: bool = False) -> list[float]:
    sequence = [values] if isinstance(values, int | float | str) else numbers(name, values)
    if not sequence:
        raise InputError(f"{name} is empty; give at least one value.")
    out = [number(name, value, low, high, open_low=open_low) for value in sequence]
    if len({round(value, 6) for value in out}) < len(out):
        raise InputError(f"{name} = {sequence} holds a value twice; give each once.")
    return out


@dataclass(frozen=True)
class SweepOptions:
    """How a sweep is computed.

    Attributes
    ----------
    clmax_spacing : float
        Finest spacing [deg] of the points added about the lift maximum; 0 adds none.
    processes : int, optional
        Local processes with one thread each; 2.
    scheduler : str, optional
        Address of a dask scheduler such as "tcp://host:8786", whose workers compute (extra `cluster`).
    observer : Observer, optional
        Receives steps and finished points.

    Raises
    ------
    InputError
        A value is out of its range, or `processes` is given beside `scheduler`.

    Examples
    --------
    >>> SweepOptions(processes=1).process_count
    1
    """

    clmax_spacing: float = 0.0
    processes: int | None = None
    scheduler: str | None = None
    observer: Observer | None = None

    def __post_init__(self) -> None:
        set_fields(self, clmax_spacing=number("clmax_spacing", self.clmax_spacing, 0.0, 10.0))
        if self.processes is not None:
            set_fields(self, processes=whole("processes", self.processes, 1, 256))
        for name, kind in {"scheduler": str, "observer": Observer}.items():
            if getattr(self, name) is not None:
                set_fields(self, **{name: taken(name, getattr(self, name), kind)})
        if self.scheduler is not None and self.processes is not None:
            raise InputError(
                f"processes = {self.processes!r} has no effect beside scheduler, whose workers compute; leave it out."
            )

    @property
    def process_count(self) -> int:
        """Number of local processes.

        Examples
        --------
        >>> SweepOptions(processes=2).process_count
        2
        """
        return PROCESSES if self.processes is None else self.processes


@takes(shape=(Airfoil, Mesh), model=str, air=Freestream, folder=PATH, numerics=Numerics)
def sweep(
    shape: Airfoil | Mesh,
    alpha: float | tuple[float, ...] | list | None,
    mach: float | str | list,
    reynolds: float | None = None,
    model: str = "euler",
    air: Freestream | None = None,
    folder: str | Path | None = None,
    numerics: Numerics | None = None,
    **options,
) -> Polar:
    """Polar over alpha and Mach number.

    Parameters
    ----------
    shape : Airfoil or Mesh
        An airfoil is meshed with `mesh_options`.
    alpha : float or sequence
        Angles [deg].
    mach : float or sequence
    reynolds : float, optional
        On the reference chord, the same at every Mach number.
    model, numerics
        As in `solve`.
    air : Freestream, optional
        Gas and state of all points; standard sea level.
    folder : path, optional
        Where solutions and rows are kept: the same call resumes an interrupted sweep, and
        `open_results(folder).solution(alpha=...)` gives a point back.
    **options
        Fields of `SweepOptions` (clmax_spacing, processes, scheduler, observer), the fields `reference`, `walls`,
        `ground`, `powered` and `propellers` of `Case` as in `solve`, and the options of `mesh_airfoil`.

    Returns
    -------
    Polar

    Raises
    ------
    InputError
        For bad input, also for an argument that would have no effect.
    FlowError
        If a process dies; the same call resumes.

    Examples
    --------
    >>> import zephyrum as zy
    >>> foil = zy.Airfoil.naca("2412")
    >>> polar = zy.sweep(foil, alpha=[0.0, 4.0, 8.0], mach=0.2, folder="polar")  # doctest: +SKIP
    >>> polar.table[["alpha", "CL", "CD"]]  # doctest: +SKIP
    """
    run = SweepOptions(**_popped(options, SweepOptions.__dataclass_fields__))
    conditions = _popped(options, ("reference", "walls", "ground", "powered", "propellers"))
    alphas = _values("alpha", alpha, -60.0, 60.0)
    machs = _values("mach", mach, 1e-4, 4.0)
    if air is not None and reynolds is not None:
        raise InputError(f"reynolds = {reynolds!r} has no effect beside air, which has its own; put it into air.")
    if isinstance(shape, Mesh) and options:
        raise InputError(
            f"{', '.join(options)}: options of a mesh have no effect on a Mesh that is given; leave them out."
        )
    mesh = shape if isinstance(shape, Mesh) else mesh_airfoil(shape, **options)
    base = air or Freestream(mach=machs[0], reynolds=reynolds)
    first = Point(machs[0], alphas[0], None).case(
        Case.of(mesh, base.turned(alpha=alphas[0]), model=model, numerics=numerics, **conditions)
    )
    return sweep_case(first, alphas, machs, folder, run)


def _popped(options: dict, names: Iterable[str]) -> dict:
    """Those of the options that have one of the names, removed from `options`."""
    return {name: options.pop(name) for name in names if name in options}


def sweep_case(
    base: Case,
    alphas: list[float],
    machs: list[float],
    folder: str | Path | None = None,
    options: SweepOptions | None = None,
) -> Polar:
    """Compute the polar of a case over its attitudes and Mach numbers.

    Parameters
    ----------
    base : Case
    alphas, machs : list of float
        Angles [deg] and Mach numbers.
    folder : path, optional
        Where solutions and rows are kept.
    options : SweepOptions, optional
    """
    options = options or SweepOptions()
    if folder is None:
        with tempfile.TemporaryDirectory() as scratch:
            return _swept(base, plan(alphas, machs), Store.open(scratch), None, options)
    store = Store.open(folder)
    return _swept(base, plan(alphas, machs), store, store.mesh_file, options)


def _swept(base: Case, points: list[Point], store: Store, keep_mesh: "Callable | None", options: SweepOptions) -> Polar:
    """The polar, its points kept in a store; keep_mesh(mesh) keeps the mesh there, None if nobody will read the
    solutions later.
    """
    clmax_spacing = options.clmax_spacing
    for point in points:  # every one is checked before any is computed
        point.case(base)
    rows = _known(points, base, store)
    executor = None
    fresh = points
    try:
        while fresh:
            rows |= _known(fresh, base, store)
            todo = [point for point in fresh if point.name not in rows]
            if todo and executor is None:
                work = Work(base, store, keep_mesh(base.mesh) if keep_mesh else store.root / "mesh.cgns")
                executor = _executor(work, options)
            if todo:
                executor.compute(todo, rows, Reports(options.observer, len(points)))
            fresh = refine_near_clmax(rows, points, clmax_spacing) if clmax_spacing > 0.0 else []
            points = points + fresh
    finally:
        if executor is not None:
            executor.close()
    return polar_of(points, rows, base)


def stored_polar(
    base: Case, alphas: list[float], machs: list[float], folder: str | Path, clmax_spacing: float = 0.0
) -> Polar | None:
    """Points of a sweep that a folder holds; nothing is computed or written.

    Parameters
    ----------
    base : Case
        Case with everything else.
    alphas : list[float]
        [deg]
    machs : list[float]
        Mach numbers.
    folder : path
        The folder.
    clmax_spacing : float, optional
        As in `SweepOptions`.

    Returns
    -------
    Polar
        None without any point.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> case = Case(mesh_airfoil(Airfoil.naca("0012"), 32, 8), Freestream(mach=0.3))
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     stored_polar(case, [0.0], [0.3], folder) is None  # nothing is computed yet
    True
    """
    store, points = Store(Path(folder)), plan(alphas, machs)
    rows: dict = {}
    fresh = points
    while fresh:
        rows |= _known(fresh, base, store)
        whole_sweep = all(point.name in rows for point in points)
        fresh = refine_near_clmax(rows, points, clmax_spacing) if clmax_spacing > 0.0 and whole_sweep else []
        points = points + fresh
    points = [point for point in points if point.name in rows]
    return polar_of(points, rows, base) if points else None


def _known(points: list[Point], base: Case, store: Store) -> dict[str, dict]:
    found = {point.name: store.finished(point.name, point.case(base)) for point in points}
    return {name: row for name, row in found.items() if row is not None}


def _executor(work: Work, options: SweepOptions):
    if options.scheduler is not None:
        return ClusterExecutor(work, options.scheduler)
    count = options.process_count
    return SerialExecutor(work) if count == 1 else ProcessExecutor(work, count)


def polar_of(points: list[Point], rows: dict[str, dict], base: Case) -> Polar:
    """Polar of finished points, with how it was made.

    Parameters
    ----------
    points : list[Point]
        Points.
    rows : dict[str, dict]
        Their rows by name.
    base : Case
        Case with everything else.
    """
    mesh = base.mesh
    notes = {
        "made by": "zephyrum.sweep",
        "mesh": mesh.recipe | {"fingerprint": mesh.fingerprint, "cells": mesh.n_cells},
        "reference": asdict(base.reference),
        "numerics": asdict(base.numerics),
        "model": base.model,
        "walls": base.description["walls"],
        "ground": base.ground,
        "powered": base.description["powered"],
        "propellers": base.description["propellers"],
        "case": replace(base, air=base.air.turned(alpha=base.mesh.attitude)).fingerprint,
        "air": [list(row) for row in base.air.table()],
    }
    return Polar.of([rows[point.name] for point in points], notes)
