"""Points computed by several local processes, every point once its predecessor is there.

Each worker has a pipe of its own and shares no queue or lock, so that one that is killed cannot hold up the others.
Verified by tests/test_promises.py and tests/test_studies.py.
"""

import os
import signal
import threading
import time
from dataclasses import replace
from multiprocessing import get_all_start_methods, resource_tracker, set_start_method
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess

from zephyrum._core.worker_processes import program_hidden, worker_context
from zephyrum.errors import FlowError
from zephyrum.solver import run_case
from zephyrum.studies.executors.base import Reports, Work
from zephyrum.studies.observer import Observer, step_reports
from zephyrum.studies.points import Point

PRELOADED = ["zephyrum.studies.executors.processes", "zephyrum.mesh"]
ONE_THREAD = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "NUMBA_NUM_THREADS")


class _Sender(Observer):
    """Reports steps along a pipe."""

    def __init__(self, pipe: Connection):
        self.pipe = pipe

    def step(self, task, row):
        self.pipe.send(("step", task, row))


def _serve(pipe: Connection, work: Work) -> None:
    """The life of a worker process: points come in along `pipe`, rows or exceptions go back."""
    import numba

    if "fork" in get_all_start_methods():  # locks (of Numba) then have no name that a worker which is ended would leave
        set_start_method("fork", force=True)
    numba.set_num_threads(1)
    parent = os.getppid()

    def watch() -> None:  # an end when the parent is gone
        while os.getppid() == parent:
            time.sleep(0.5)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()
    sender = _Sender(pipe)
    while True:
        try:
            point, task = pipe.recv()
        except (EOFError, KeyboardInterrupt):  # the parent has finished, or is gone
            return
        try:
            pipe.send(("row", work.compute(point, step_reports(sender, task))))
        except KeyboardInterrupt:
            return
        except Exception as error:
            pipe.send(("error", error))


class ProcessExecutor:
    """Computes points on `processes` processes with one thread each."""

    def __init__(self, work: Work, processes: int):
        self.work, self.processes = work, processes
        self.workers: dict[Connection, BaseProcess] = {}

    def _start(self, many: int) -> None:
        # one thread of linear algebra a process: more would fight over the cores (read when the workers import numpy)
        stored = {name: os.environ.get(name) for name in ONE_THREAD}
        os.environ.update(dict.fromkeys(stored, "1"))
        # Ctrl-C is for this process, which ends the workers: they inherit that it is blocked, here it waits
        # until they are started
        masked = hasattr(signal, "pthread_sigmask")
        if masked:
            resource_tracker.ensure_running()  # started here: its start ends with signals unblocked
        before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT}) if masked else None
        try:
            context = worker_context(PRELOADED)
            with program_hidden(self.work):
                for _ in range(many):
                    here, there = context.Pipe()
                    worker = context.Process(target=_serve, args=(there, self.work), daemon=True)
                    worker.start()
                    there.close()  # so that the end of the worker is the end of the pipe
                    self.workers[here] = worker
        finally:
            if masked:
                signal.pthread_sigmask(signal.SIG_SETMASK, before)
            for name, value in stored.items():
                if value is None:
                    os.environ.pop(name, None)
                else:
                    os.environ[name] = value
        # compiled here while the workers get ready: each of them would compile the same for itself
        base = self.work.base
        smallest = replace(
            base,
            mesh=replace(base.mesh.family()[-1], reference=base.mesh.reference),
            numerics=replace(base.numerics, max_iterations=1),
        )
        run_case(smallest)

    def compute(self, todo: list[Point], rows: dict, reports: Reports) -> None:
        """Compute points in local processes.

        Parameters
        ----------
        todo : list[Point]
            Points.
        rows : dict
            Receives their rows by name.
        reports : Reports
            Reports to the observer.

        Raises
        ------
        FlowError
            A process dies.
        """
        try:
            if todo and not self.workers:
                self._start(min(self.processes, len(todo)))
            idle, waiting = list(self.workers), list(todo)
            running: dict = {}
            while waiting or running:
                for point in [p for p in waiting if p.after is None or p.after.name in rows][: len(idle)]:
                    pipe = idle.pop(0)
                    pipe.send((point, reports.task(point)))
                    running[pipe] = point
                    waiting.remove(point)
                for pipe in wait(running):
                    kind, *answer = pipe.recv()  # type: ignore[call-arg, union-attr]
                    if kind == "error":
                        raise answer[0]  # type: ignore[misc]
                    if kind == "step":
                        if reports.observer is not None:
                            reports.observer.step(*answer)
                        continue
                    point = running.pop(pipe)
                    rows[point.name] = answer[0]
                    idle.append(pipe)  # type: ignore[arg-type]
                    reports.finished(point, answer[0], len(rows))  # type: ignore[arg-type]
        except (EOFError, ConnectionError):
            raise FlowError(
                "a worker process died (killed, or out of memory); finished points are kept: run the same study again "
                "to go on."
            ) from None

    def close(self) -> None:
        """End all workers."""
        for pipe, worker in self.workers.items():
            pipe.close()
            worker.terminate()
        for worker in self.workers.values():
            worker.join()
