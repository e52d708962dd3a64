"""Readers of other libraries run in a child process: nothing in a file can end, hang or fill this process, or print to
it.

The reader is a function that takes a path and returns a dictionary of arrays and texts. Verified by tests/test_fuzz.py.
"""

import contextlib
import importlib
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from zephyrum._core.npz_reader import DamagedArrays, read_arrays
from zephyrum.errors import FileError, InputError

START_BYTES = 6_000_000_000  # address space of a child with its libraries before it reads anything
BYTES_PER_BYTE = 400  # of memory that a reader may take for each byte of the file
START_SECONDS = 60.0  # of a child, most of it loading libraries
SECONDS_PER_MEGABYTE = 20.0


def read_in_child(reader: str, path: Path, what: str) -> dict:
    """What a reader returns for a file.

    Parameters
    ----------
    reader : str
        "package.module:function" of a function of a path that returns a dict of arrays and texts.
    path : Path
    what : str
        Kind of the file, for the error.

    Returns
    -------
    dict of str to ndarray or str

    Raises
    ------
    FileError
        If the file cannot be read, or ends, hangs or fills the child.
    InputError
        If the reader raises one: a package is missing.
    """
    size = path.stat().st_size
    seconds = START_SECONDS + SECONDS_PER_MEGABYTE * size / 1e6
    with tempfile.TemporaryDirectory() as scratch:
        out = Path(scratch) / "read.npz"
        words = [
            sys.executable,
            "-c",
            "from zephyrum._core.child_process import main; main()",
            reader,
            str(path.resolve()),
            str(out),
            str(START_BYTES + BYTES_PER_BYTE * size),
            str(seconds),
        ]
        environment = os.environ | {"PYTHONPATH": os.pathsep.join(entry for entry in sys.path if entry)}
        try:
            done = subprocess.run(
                words,
                env=environment,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                timeout=seconds,
                check=False,
            )
        except subprocess.TimeoutExpired:
            raise FileError(f"{what} {str(path)!r} can't be read within {seconds:.0f} s; it is damaged.") from None
        if not out.is_file():
            raise FileError(
                f"{what} {str(path)!r} can't be read: it ends its reader (exit code {done.returncode}); it is damaged."
            )
        try:
            made = read_arrays(out)
        except DamagedArrays as cause:
            raise FileError(f"{what} {str(path)!r} can't be read ({cause}).") from None
    facts = json.loads(str(made.pop("facts")))
    if "input error" in facts:
        raise InputError(facts["input error"])
    if "error" in facts:
        raise FileError(f"{what} {str(path)!r} can't be read ({facts['error']}).")
    return made | facts


def main() -> None:
    """In the child: limits, the reader, its result."""
    reader, path, out, memory, seconds = sys.argv[1:]
    with contextlib.suppress(ImportError, ValueError, OSError):
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (int(memory), int(memory)))
        resource.setrlimit(resource.RLIMIT_CPU, (int(float(seconds)) + 1, int(float(seconds)) + 1))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    module, function = reader.split(":")
    facts, arrays = {}, {}
    try:
        made = getattr(importlib.import_module(module), function)(Path(path))
        arrays = {name: value for name, value in made.items() if isinstance(value, np.ndarray)}
        facts = {name: value for name, value in made.items() if not isinstance(value, np.ndarray)}
    except InputError as cause:
        facts = {"error" if isinstance(cause, FileError) else "input error": str(cause)}
    except Exception as cause:  # a reader of another library raises anything
        facts = {"error": f"{type(cause).__name__}: {(str(cause).splitlines() or [''])[0][:120]}".rstrip(": ")}
    part = out + ".part.npz"
    np.savez(part, facts=np.array(json.dumps(facts)), **arrays)  # type: ignore[arg-type]
    os.replace(part, out)
