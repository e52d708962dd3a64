"""Sweeps over angle of attack and Mach number: a tree of short chains, run on several processes, resumable.

At every Mach number the point nearest alpha 0 is solved first, from a cold start; the others follow upwards and
downwards, each from its neighbour's stored state. So what a point computes does not depend on timing, on the number of
processes or on interruptions. Verified by tests/test_studies.py.
"""

import os
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import asdict, replace
from multiprocessing import get_context
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from pathlib import Path

from zephyrum.air import Freestream
from zephyrum.air.checks import PATH, number, numbers, takes, whole
from zephyrum.errors import FlowError, InputError
from zephyrum.flow import Settings
from zephyrum.mesh import Mesh, mesh_airfoil
from zephyrum.results import Polar, solve
from zephyrum.shape import Airfoil
from zephyrum.studies.cluster import Cluster
from zephyrum.studies.points import Point, now_and_then, peak_points, plan, solved
from zephyrum.studies.store import Store


def _values(name: str, values, low: float, high: float, open_low: bool = False) -> list[float]:
    sequence = [values] if isinstance(values, int | float | str) else numbers(name, values)
    if not sequence:
        raise InputError(f"{name} is empty; give at least one value.")
    out = [number(name, value, low, high, open_low=open_low) for value in sequence]
    if len({round(value, 6) for value in out}) < len(out):
        raise InputError(f"{name} = {sequence} holds a value twice; give each once.")
    return out


_WORK: dict = {}


def _prepare(shape, mesh_options, air, settings, model, store, walls, threads) -> None:
    """Make one process ready: the mesh once, few threads, and an end when the parent is gone."""
    import numba

    mesh = shape if isinstance(shape, Mesh) else mesh_airfoil(shape, **mesh_options)
    _WORK.update(mesh=mesh, air=air, settings=settings, model=model, store=store, walls=walls)
    if threads:
        numba.set_num_threads(threads)
        parent = os.getppid()

        def watch() -> None:
            while os.getppid() == parent:
                time.sleep(0.5)
            os._exit(1)

        threading.Thread(target=watch, daemon=True).start()


def _compute(point: Point, on_step: Callable[[dict], None] | None = None) -> dict:
    """Solve one point, keep its state and its row, return the row."""
    work, store = _WORK, _WORK["store"]
    known = point.after is not None and store.row(point.after.name)["verdict"] != "failed"
    solution, row = solved(
        point, work["mesh"], work["air"], work["settings"], work["model"], work["walls"], store.state(point.after.name) if known else None,
        store.root / "points" / f"{point.name}.going", on_step,
    )  # fmt: skip
    solution.save(store.state(point.name))
    store.keep_row(point.name, row)
    return row


@takes(
    shape=(Airfoil, Mesh),
    model=str,
    air=Freestream,
    folder=PATH,
    settings=Settings,
    scheduler=str,
)
def sweep(
    shape: Airfoil | Mesh,
    alpha,
    mach,
    reynolds: float | None = None,
    model: str = "euler",
    air: Freestream | None = None,
    folder: str | Path | None = None,
    processes: int = 2,
    settings: Settings | None = None,
    on_point: Callable[[dict, int, int], None] | None = None,
    peak: float = 0.0,
    walls=None,
    on_step: Callable[[Point, dict], None] | None = None,
    scheduler: str | None = None,
    **mesh_options,
) -> Polar:
    """Polar over `alpha` [deg] and `mach`, on a Mesh or on an Airfoil meshed with `mesh_options`.

    air: gas and state shared by all points (default: standard sea level). folder: where states and rows are kept; an
    interrupted sweep given the same folder goes on where it stopped. on_point(row, done, total) after each point;
    on_step(point, row) while one is computed, about twice a second.
    peak: finest spacing [deg] of the points added about the lift maximum of each Mach number; 0 adds none.
    walls: what the walls do, as in `solve`. scheduler: address of a scheduler of dask.distributed, such as "tcp://host:8786", whose workers compute instead
    of local processes (extra `cluster`); they say nothing while a point is computed.
    Raises InputError for bad input, FlowError if a process dies (run again to resume).
    """
    alphas = _values("alpha", alpha, -60.0, 60.0)
    number("peak", peak, 0.0, 10.0)
    machs = _values("mach", mach, 1e-4, 4.0)
    processes = whole("processes", processes, 1, 256)
    settings = settings or Settings()
    base = air or Freestream(mach=machs[0], reynolds=reynolds)
    if folder is None:
        with tempfile.TemporaryDirectory() as scratch:
            return sweep(
                shape, alphas, machs, None, model, base, scratch, processes, settings, on_point, peak, walls, on_step,
                scheduler, **mesh_options,
            )  # fmt: skip
    mesh = shape if isinstance(shape, Mesh) else mesh_airfoil(shape, **mesh_options)
    key = {"mesh": mesh.fingerprint, "settings": asdict(settings), "model": model,
           "air": [base.at_mach(machs[0]).pressure, base.temperature, base.gas.gamma]}  # fmt: skip
    if walls is not None:
        key["walls"] = repr(walls)
    store = Store.open(folder, key)
    points = plan(alphas, machs)
    rows: dict[str, dict] = {}
    work = (shape, mesh_options, base, settings, model, store, walls)
    if scheduler is not None:
        crew = Cluster(mesh, work, scheduler)
    else:
        crew = _Alone(mesh, work) if processes == 1 else _Crew(mesh, work, processes)
    fresh = points
    try:
        while fresh:
            rows |= {point.name: row for point in fresh if (row := store.row(point.name)) is not None}
            crew.compute([point for point in fresh if point.name not in rows], rows, len(points), on_point, on_step)
            fresh = peak_points(rows, points, peak) if peak > 0.0 else []
            points = points + fresh
    finally:
        crew.dismiss()
    notes = {"made by": "zephyrum.sweep", "mesh": mesh.recipe | {"fingerprint": mesh.fingerprint, "cells": mesh.n_cells},
             "reference": asdict(mesh.reference), "settings": asdict(settings), "model": model, "study": store.fingerprint,
             "air": [list(row) for row in base.table()]}  # fmt: skip
    return Polar.of([rows[point.name] for point in points], notes)


def _serve(line: Connection, work: tuple) -> None:
    """The life of a worker process: points come in along `line`, rows or exceptions go back."""
    _prepare(*work, 1)
    while True:
        try:
            point = line.recv()
        except EOFError:  # the parent has finished, or is gone
            return
        try:
            line.send(_compute(point, now_and_then(lambda *said: line.send(said), point)))
        except Exception as error:
            line.send(error)


class _Alone:
    """Computes points in this process, with all its threads."""

    def __init__(self, mesh: Mesh, work: tuple):
        self.work = (mesh, {}, *work[2:], 0)
        self.ready = False

    def compute(self, todo: list[Point], rows: dict, total: int, on_point, on_step) -> None:
        """Add the rows of the points `todo` to `rows`."""
        if todo and not self.ready:
            _prepare(*self.work)
            self.ready = True
        for point in todo:
            rows[point.name] = _compute(point, now_and_then(on_step, point))
            if on_point is not None:
                on_point(rows[point.name], len(rows), total)

    def dismiss(self) -> None:
        """Nothing to end."""


class _Crew:
    """Computes points on several processes, every point once its predecessor is there.

    Each worker has a line of its own and shares no queue or lock, so that one that is killed can't hold up the others.
    """

    def __init__(self, mesh: Mesh, work: tuple, processes: int):
        self.mesh, self.work, self.processes = mesh, work, processes
        self.workers: dict[Connection, BaseProcess] = {}

    def _call(self, many: int) -> None:
        # one thread of linear algebra a process: more would fight over the cores (read when the workers import numpy)
        held = {name: os.environ.get(name) for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "NUMBA_NUM_THREADS")}
        os.environ.update(dict.fromkeys(held, "1"))
        try:
            context = get_context("spawn")
            for _ in range(many):
                here, there = context.Pipe()
                worker = context.Process(target=_serve, args=(there, self.work), daemon=True)
                worker.start()
                there.close()  # so that the end of the worker is the end of the line
                self.workers[here] = worker
        finally:
            for name, value in held.items():
                if value is None:
                    os.environ.pop(name, None)
                else:
                    os.environ[name] = value
        # compiled here while the workers get ready: each of them would compile the same for itself
        _, _, air, settings, model, *_ = self.work
        solve(self.mesh.family()[-1], air, model, settings=replace(settings, steps=1))

    def compute(self, todo: list[Point], rows: dict, total: int, on_point, on_step) -> None:
        """Add the rows of the points `todo` to `rows`; FlowError if a worker dies."""
        try:
            if todo and not self.workers:
                self._call(min(self.processes, len(todo)))
            idle, running, waiting = list(self.workers), {}, list(todo)
            while waiting or running:
                for point in [p for p in waiting if p.after is None or p.after.name in rows][: len(idle)]:
                    line = idle.pop(0)
                    line.send(point)
                    running[line] = point
                    waiting.remove(point)
                for line in wait(running):
                    answer = line.recv()
                    if isinstance(answer, Exception):
                        raise answer
                    if isinstance(answer, tuple):
                        if on_step is not None:
                            on_step(*answer)
                        continue
                    rows[running.pop(line).name] = answer
                    idle.append(line)
                    if on_point is not None:
                        on_point(answer, len(rows), total)
        except (EOFError, ConnectionError):
            raise FlowError(
                "a worker process died (killed, or out of memory); finished points are kept: run the same study again to go on."
            ) from None

    def dismiss(self) -> None:
        """End all workers."""
        for line, worker in self.workers.items():
            line.close()
            worker.terminate()
        for worker in self.workers.values():
            worker.join()
