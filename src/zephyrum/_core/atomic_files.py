"""Files that are there whole or not at all: written to a temporary name beside their own, then renamed.

Verified by tests/test_promises.py.
"""

import os
import warnings
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from zephyrum.errors import FileError


@contextmanager
def disk_errors(path: str | Path) -> Iterator[None]:
    """Turn the refusals of the disk within a block into a FileError with a remedy.

    Parameters
    ----------
    path : path
        File or folder that the block works on.

    Raises
    ------
    FileError
        The disk is full or read-only, or there is no such place.

    Examples
    --------
    >>> try:
    ...     with disk_errors("missing/file.txt"):
    ...         open("missing/file.txt")
    ... except FileError as error:
    ...     print(str(error)[:33])
    'missing/file.txt' can't be writt
    """
    try:
        yield
    except OSError as cause:
        why, folder = cause.strerror or cause, str(Path(path).parent)
        raise FileError(
            f"{str(path)!r} can't be written ({why}); look at the free space and the rights of {folder!r}, or choose "
            f"another place."
        ) from None


@contextmanager
def atomic_write(path: str | Path) -> Iterator[Path]:
    r"""Write a file so that it is either complete or left as it was.

    Parameters
    ----------
    path : path
        File; its folder is made.

    Returns
    -------
    path
        Temporary name to write to, renamed to `path` at the end of the block and removed if the block fails.

    Raises
    ------
    FileError
        The disk refuses; whatever stood at `path` is still there.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     with atomic_write(Path(folder, "table.csv")) as file:
    ...         _ = file.write_text("alpha,CL\n4,0.5\n")
    ...     [path.name for path in Path(folder).iterdir()]
    ['table.csv']
    """
    path = Path(path)
    temporary = path.with_name(path.name + ".part")
    try:
        with disk_errors(path):
            path.parent.mkdir(parents=True, exist_ok=True)
            yield temporary
            os.replace(temporary, path)
    finally:
        with suppress(OSError):
            temporary.unlink(missing_ok=True)


@contextmanager
def errors_as_warnings(what_now: str) -> Iterator[None]:
    """Turn a FileError in the block into a warning, for files whose loss must not cost the run.

    Parameters
    ----------
    what_now : str
        First words of the warning.

    Examples
    --------
    >>> import warnings
    >>> with warnings.catch_warnings(record=True) as given:
    ...     with errors_as_warnings("The history is not written"):
    ...         raise FileError("the disk is full")
    >>> str(given[0].message)
    'The history is not written: the disk is full'
    """
    try:
        yield
    except FileError as cause:
        warnings.warn(f"{what_now}: {cause}", RuntimeWarning, stacklevel=4)


def write_text(path: str | Path, text: str) -> None:
    """Write a text file (UTF-8) atomically.

    Parameters
    ----------
    path : path
        File.
    text : str
        Its content.

    Raises
    ------
    FileError
        The disk refuses.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     write_text(Path(folder, "notes.txt"), "converged")
    ...     Path(folder, "notes.txt").read_text()
    'converged'
    """
    with atomic_write(path) as temporary:
        temporary.write_text(text, encoding="utf-8")
