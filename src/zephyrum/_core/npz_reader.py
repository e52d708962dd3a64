"""Arrays from .npz files whose content is not trusted: nothing is allocated that the file does not hold.

Verified by tests/test_case.py and the fuzz tests.
"""

import zipfile
from pathlib import Path

import numpy as np

MOST_WORDS = 160  # characters of another library's message
MOST_RATIO = 1100  # of unpacked to packed bytes; deflate reaches 1032 at most


class DamagedArrays(ValueError):
    """The file is no .npz file, or damaged.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder, "states.npz")
    ...     _ = path.write_bytes(b"no archive")
    ...     try:
    ...         read_arrays(path)
    ...     except DamagedArrays:
    ...         print("damaged")
    damaged
    """


def read_arrays(path: str | Path, names: tuple[str, ...] | None = None) -> dict[str, np.ndarray]:
    """Arrays of an .npz file by name; all of them without `names`.

    Parameters
    ----------
    path : path
    names : tuple of str, optional
        Those to be read.

    Returns
    -------
    dict of str to ndarray
        Numbers and text only; no objects.

    Raises
    ------
    DamagedArrays
        If the file or one of the arrays cannot be read, with the reason.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder, "states.npz")
    ...     np.savez(path, q=np.zeros((2, 5)))
    ...     arrays = read_arrays(path)
    >>> arrays["q"].shape
    (2, 5)
    """
    try:
        with zipfile.ZipFile(path) as archive:
            there = {info.filename.removesuffix(".npy"): info for info in archive.infolist()}
            chosen = there if names is None else names
            return {name: _array(archive, there[name]) for name in chosen}
    except KeyError as cause:
        raise DamagedArrays(f"it has no array {cause}") from None
    except DamagedArrays:
        raise
    except Exception as cause:  # what zipfile, zlib and the parser of array headers raise is not documented as a list
        raise DamagedArrays(_short(str(cause)) or type(cause).__name__) from None


def _short(words: str) -> str:
    """The first words of a message, which can quote bytes of the file."""
    return words if len(words) <= MOST_WORDS else words[:MOST_WORDS] + "..."


def _array(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> np.ndarray:
    if info.file_size > MOST_RATIO * max(info.compress_size, 1):
        raise DamagedArrays(f"array {info.filename} claims more bytes than it holds")
    with archive.open(info) as file:
        version = np.lib.format.read_magic(file)
        header = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
        shape, fortran, kind = header(file)
        if kind.hasobject:
            raise DamagedArrays(f"array {info.filename} holds objects")
        count = 1
        for length in shape:
            count *= int(length)
        if count < 0 or count * kind.itemsize > info.file_size:
            raise DamagedArrays(f"array {info.filename} claims more values than it holds")
        data = file.read()
    if len(data) != count * kind.itemsize:
        raise DamagedArrays(f"array {info.filename} is cut short")
    values = np.frombuffer(data, dtype=kind).copy() if kind.itemsize else np.zeros(count, dtype=kind)
    return values.reshape(shape[::-1]).T if fortran else values.reshape(shape)
