"""How worker processes start. Verified by tests/test_studies.py and tests/test_viscous_panels.py."""

import functools
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from multiprocessing import get_all_start_methods, get_context
from multiprocessing.reduction import ForkingPickler
from types import ModuleType
from typing import Any


def worker_context(preloaded: Sequence[str]):
    """Way in which workers start: forks of a process that has imported the library once, where there are such.

    Parameters
    ----------
    preloaded : sequence of str
        Modules that this process imports.
    """
    if "forkserver" not in get_all_start_methods():
        return get_context("spawn")
    context = get_context("forkserver")
    context.set_forkserver_preload(list(preloaded))
    return context


@contextmanager
def program_hidden(payload: Any) -> Iterator[None]:
    """Workers do not import the program of the user again, unless `payload` holds an object that is defined there.

    It need not be importable (standard input), nor guarded by its name.

    Parameters
    ----------
    payload : object
        What is sent to the workers.
    """
    program = sys.modules["__main__"]
    if b"__main__" not in bytes(ForkingPickler.dumps(payload)):
        sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = program


def map_in_processes(call: Callable, items: Sequence, processes: int, preloaded: Sequence[str]) -> Iterator:
    """Results of a function for every item, in their order, by processes with one thread each.

    Parameters
    ----------
    call : callable
        Of one item; with one process it is called here.
    items : sequence
    processes : int
    preloaded : sequence of str
        Modules that workers have imported when they start.

    Examples
    --------
    >>> list(map_in_processes(abs, [-1, 2], 1, []))
    [1, 2]
    """
    if processes == 1 or len(items) < 2:
        yield from map(call, items)
        return
    with ProcessPoolExecutor(min(processes, len(items)), mp_context=worker_context(preloaded)) as pool:
        with program_hidden((call, items)):
            waiting = [pool.submit(functools.partial(_on_one_thread, call), item) for item in items]
        for one in waiting:
            yield one.result()


def _on_one_thread(call: Callable, item: Any) -> Any:
    import numba
    from threadpoolctl import threadpool_limits

    numba.set_num_threads(1)
    with threadpool_limits(1):
        return call(item)
