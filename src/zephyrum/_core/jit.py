"""How every kernel is compiled: once, cached on disk by the content of its sources, race-free in parallel.

`reassoc` is left out of fastmath on purpose (it made the matrix-vector product 2.5 times slower), and so are `nnan` and
`ninf`, so that a test for a finite number still works inside a kernel. Geometric predicates are compiled without
fastmath (`exact`).

Notes
-----
Numba takes a cached kernel for fresh if the file of the kernel itself is unchanged. A kernel contains the machine code
of the kernels that it calls and the constants that it reads, so a change of another file would go unnoticed. Here the
cache is keyed by a hash of the kernel's file and of all files that it imports kernels or constants from.

Processes that start together on an empty cache would each compile every kernel. Here a process that finds no entry
locks the kernel and compiles it, and the others wait and read the entry from disk. Kernels call each other without
cycles, so the locks cannot block each other without end. Verified by tests/test_jit.py.
"""

import contextlib
import functools
import hashlib
import re
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any

import numba
import numpy as np
from numba.core.caching import FunctionCache

try:
    import fcntl
except ImportError:  # no advisory locks on this system: processes compile side by side
    fcntl = None

_FAST = {"contract", "arcp", "nsz"}
_IMPORT = re.compile(r"^from ([\w.]+) import (?:\(([^)]*)\)|([^(\n]*))", re.M)
_ROOT = Path(__file__).parents[1]
_LONGEST_COMPILATION = 300.0  # [s] after which another process is taken to hang, and its lock is no longer waited for


@functools.cache
def _text(path: Path) -> str:
    return path.read_text(encoding="utf-8")


def _is_kernel_file(path: Path) -> bool:
    return "_core.jit import" in _text(path)


def _module_file(root: Path, module: str) -> Path | None:
    """File of a module of the package whose folder is `root`; None if it is not of this package."""
    parts = module.split(".")
    if parts[0] != root.name:
        return None
    base = root.joinpath(*parts[1:])
    return next((path for path in (base.with_suffix(".py"), base / "__init__.py") if path.is_file()), None)


@functools.cache
def kernel_sources(path: Path, root: Path = _ROOT) -> frozenset[Path]:
    """Files whose content the compiled kernels of the file `path` depend on.

    These are the file itself, the kernel files that it imports from, theirs in turn, and the files of imported
    constants (names in capitals).

    Parameters
    ----------
    path : Path
        A file with kernels.
    root : Path
        Folder of the package.

    Returns
    -------
    frozenset of Path

    Examples
    --------
    >>> sources = kernel_sources(_ROOT / "flow/physics/transport.py")
    >>> sorted(path.name for path in sources)
    ['__init__.py', 'jit.py', 'sa.py', 'sst.py', 'transport.py']
    """
    found, queue = {path}, [path]
    while queue:
        for module, in_brackets, on_line in _IMPORT.findall(_text(queue.pop())):
            file = _module_file(root, module)
            if file is None or file in found:
                continue
            names = [name.split()[0] for name in (in_brackets or on_line).split(",") if name.strip()]
            if _is_kernel_file(file):
                queue.append(file)
            elif not any(name.isupper() for name in names):
                continue
            found.add(file)
    return frozenset(found)


@functools.cache
def source_stamp(path: Path, root: Path = _ROOT) -> str:
    """Hash the content of `kernel_sources`.

    Parameters
    ----------
    path : path
        File with kernels.
    root : path, optional
        Folder of the package.

    Examples
    --------
    >>> len(source_stamp(_ROOT / "flow/physics/smoothing.py"))
    64
    """
    digest = hashlib.sha256()
    for file in sorted(kernel_sources(path, root)):
        digest.update(str(file.relative_to(root) if file.is_relative_to(root) else file.name).encode())
        digest.update(_text(file).encode())
    return digest.hexdigest()


_listeners: list[Callable[[str], None]] = []


@contextlib.contextmanager
def compilations(listener: Callable[[str], None]) -> Iterator[None]:
    """Report every kernel that is not on disk yet, before it is compiled.

    Parameters
    ----------
    listener : callable
        Receives the name of the kernel.

    Examples
    --------
    >>> names = []
    >>> with compilations(names.append):
    ...     pass  # calls of kernels
    >>> names
    []
    """
    _listeners.append(listener)
    try:
        yield
    finally:
        _listeners.remove(listener)


class _KernelCache(FunctionCache):
    """Numba's cache on disk, whose entries are fresh as long as `source_stamp` is the same."""

    def __init__(self, function: Callable):
        super().__init__(function)
        path = Path(function.__code__.co_filename).resolve()
        root = next(
            (folder for folder in path.parents if folder.name == function.__module__.split(".")[0]), path.parent
        )
        self._cache_file._source_stamp = source_stamp(path, root)
        self._locks: dict[object, IO | None] = {}  # open lock files, by signature, and that of the index
        self._name = f"{function.__module__}.{function.__name__}"

    def load_overload(self, sig, target_context):
        """Compiled kernel of a signature from disk; None if this process has to compile it, with the signature
        locked.
        """
        found = super().load_overload(sig, target_context)
        if found is None and sig not in self._locks:
            for listener in _listeners:
                listener(self._name)
            self._locks[sig] = self._lock(str(sig))
            found = super().load_overload(sig, target_context)
        if found is not None:
            self._unlock(sig)
        return found

    def save_overload(self, sig, data):
        """Write a compiled kernel to disk and unlock its signature."""
        self._locks["index"] = self._lock("index")  # two processes that add to one index would drop an entry
        try:
            super().save_overload(sig, data)
        finally:
            self._unlock("index")
            self._unlock(sig)

    def _lock(self, key: str) -> IO | None:
        """Lock file of a key, waited for; None where files cannot be locked or the wait is too long."""
        if fcntl is None:
            return None
        name = hashlib.sha256(f"{self._cache_file._index_name} {key}".encode()).hexdigest()[:24]
        try:
            folder = Path(self._cache_path)
            folder.mkdir(parents=True, exist_ok=True)
            file = (folder / f"{name}.lock").open("w")
        except OSError:  # a folder that cannot be written to has no entries to share either
            return None
        last = time.monotonic() + _LONGEST_COMPILATION
        while time.monotonic() < last:
            with contextlib.suppress(OSError):
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return file
            time.sleep(0.05)
        file.close()
        return None

    def unlock_all(self) -> None:
        """Give up the locks of signatures whose compilation failed."""
        for sig in list(self._locks):
            self._unlock(sig)

    def _unlock(self, sig) -> None:
        file = self._locks.pop(sig, None)
        if file is not None:
            file.close()


def _compiler(**options: Any) -> Callable:
    def compiled(function: Callable):
        # nothing calls a kernel as a C function: 9 % less to compile
        dispatcher = numba.njit(no_cfunc_wrapper=True, **options)(function)  # type: ignore[call-overload]
        cache = dispatcher._cache = _KernelCache(function)
        compile_signature = dispatcher.compile

        def compile_or_unlock(signature):
            try:
                return compile_signature(signature)
            except BaseException:  # other processes must not wait for a kernel that nobody compiles
                cache.unlock_all()
                raise

        dispatcher.compile = compile_or_unlock
        return dispatcher

    return compiled


def read_only(array: np.ndarray) -> np.ndarray:
    """Make a view of an array that cannot be written to.

    Parameters
    ----------
    array : array
        Any array.

    Notes
    -----
    Kernels are compiled apart for arrays that can and cannot be written to.

    Examples
    --------
    >>> import numpy as np
    >>> read_only(np.zeros(2)).flags.writeable
    False
    """
    view = np.ascontiguousarray(array).view()
    view.flags.writeable = False
    return view


# a function that does not say so inherits `forceinline` from the function that happens to call it first
_SERIAL = {"fastmath": _FAST, "error_model": "numpy", "forceinline": False}
_INLINED = {"fastmath": _FAST, "error_model": "numpy", "forceinline": True}  # into the caller's loop
_EXACT = {"error_model": "numpy"}
_INNER = {"no_cpython_wrapper": True}  # no entry from Python: 7 % less to compile
serial, inner_serial = _compiler(**_SERIAL), _compiler(**_SERIAL, **_INNER)
inlined, inner_inlined = _compiler(**_INLINED), _compiler(**_INLINED, **_INNER)
exact, inner_exact = _compiler(**_EXACT), _compiler(**_EXACT, **_INNER)
# sums may be taken in any order: only for dot products over fixed chunks, which stay the same from run to run
chunked = _compiler(fastmath=_FAST | {"reassoc"}, error_model="numpy", parallel=True)
parallel = _compiler(fastmath=_FAST, error_model="numpy", parallel=True)
exact_parallel = _compiler(error_model="numpy", parallel=True)
prange = numba.prange
