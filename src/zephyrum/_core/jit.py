"""How every kernel is compiled: once, cached on disk by the content of its sources, race-free in parallel.

`reassoc` is left out of fastmath on purpose (it made the matrix-vector product 2.5 times slower), and so are `nnan` and
`ninf`, so that a test for a finite number still works inside a kernel. Geometric predicates are compiled without
fastmath (`exact`).

Notes
-----
Numba takes a cached kernel for fresh if the file of the kernel itself is unchanged. A kernel contains the machine code of
the kernels that it calls and the constants that it reads, so a change of another file would go unnoticed. Here the cache
is keyed by a hash of the kernel's file and of all files that it imports kernels or constants from.
Verified by tests/test_jit.py.
"""

import functools
import hashlib
import re
from collections.abc import Callable
from pathlib import Path

import numba
from numba.core.caching import FunctionCache

_FAST = {"contract", "arcp", "nsz"}
_IMPORT = re.compile(r"^from ([\w.]+) import (?:\(([^)]*)\)|([^(\n]*))", re.M)
_ROOT = Path(__file__).parents[1]


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

    These are the file itself, the kernel files that it imports from, theirs in turn, and the files of imported constants
    (names in capitals).

    Parameters
    ----------
    path : Path
        A file with kernels.
    root : Path
        Folder of the package.

    Returns
    -------
    frozenset of Path
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
    """Hash of the content of `kernel_sources`."""
    digest = hashlib.sha256()
    for file in sorted(kernel_sources(path, root)):
        digest.update(str(file.relative_to(root) if file.is_relative_to(root) else file.name).encode())
        digest.update(_text(file).encode())
    return digest.hexdigest()


class _KernelCache(FunctionCache):
    """Numba's cache on disk, whose entries are fresh as long as `source_stamp` is the same."""

    def __init__(self, function: Callable):
        super().__init__(function)
        path = Path(function.__code__.co_filename).resolve()
        root = next(
            (folder for folder in path.parents if folder.name == function.__module__.split(".")[0]), path.parent
        )
        self._cache_file._source_stamp = source_stamp(path, root)


def _compiler(**options) -> Callable:
    def compiled(function: Callable):
        dispatcher = numba.njit(**options)(function)
        dispatcher._cache = _KernelCache(function)
        return dispatcher

    return compiled


serial = _compiler(fastmath=_FAST, error_model="numpy")
inlined = _compiler(fastmath=_FAST, error_model="numpy", forceinline=True)  # into the caller's loop
# sums may be taken in any order: only for dot products over fixed chunks, which stay the same from run to run
chunked = _compiler(fastmath=_FAST | {"reassoc"}, error_model="numpy", parallel=True)
parallel = _compiler(fastmath=_FAST, error_model="numpy", parallel=True)
exact = _compiler(error_model="numpy")
exact_parallel = _compiler(error_model="numpy", parallel=True)
prange = numba.prange
