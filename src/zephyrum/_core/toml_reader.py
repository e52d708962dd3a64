"""TOML files read with errors that say where: the file, the line, the key. Verified by tests/test_studies.py."""

import re
import tomllib
from pathlib import Path

from zephyrum.errors import FileError, InputError


def read_table(path: Path, what: str, hint: str = "") -> tuple[str, dict]:
    r"""Read a TOML file.

    Parameters
    ----------
    path : path
        File.
    what : str
        Role of the file, such as "study".
    hint : str, optional
        Advice for a file that does not exist.

    Returns
    -------
    text : str
        Content of the file.
    table : dict
        Its table.

    Raises
    ------
    FileError
        The file cannot be read.
    InputError
        The file is not TOML; the line is named.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder, "study.toml")
    ...     _ = path.write_text("[air]\nmach = 0.3\n")
    ...     text, table = read_table(path, "study")
    >>> table
    {'air': {'mach': 0.3}}
    """
    if not path.exists():
        raise FileError(f"{what} file {str(path)!r} does not exist{'; ' + hint if hint else ''}.")
    if not path.is_file():
        raise FileError(f"{what} {str(path)!r} is not a file; give the .toml file itself.")
    try:
        text = path.read_bytes().decode("utf-8")
    except UnicodeDecodeError:
        raise FileError(f"{what} file {path.name!r} is not text; give a TOML file.") from None
    try:
        return text, tomllib.loads(text)
    except tomllib.TOMLDecodeError as cause:
        line = re.search(r"line (\d+)", str(cause))
        where = f"{path.name}:{line[1]}" if line else path.name
        raise InputError(f"{where}: not valid TOML ({str(cause).split(' (')[0].lower()}); repair the line.") from None


def line_of(text: str, keys: list) -> int:
    r"""Find the line of a key in a TOML text.

    Parameters
    ----------
    text : str
        Content of the file.
    keys : list
        Path of the key; numbers count the items of lists of tables.

    Returns
    -------
    int
        Line, from 1; that of the nearest table above if the key itself is not there.

    Notes
    -----
    Numbers in `keys` count the items of lists of tables.

    Examples
    --------
    >>> line_of("[air]\nmach = 0.3", ["air", "mach"])
    2
    """
    wanted = [str(key) for key in keys]
    table: list[str] = []
    counts: dict[str, int] = {}
    best, depth = 1, 0
    for number, line in enumerate(text.splitlines(), 1):
        head = re.match(r"\s*(\[+)\s*([^\]]+?)\s*\]+", line)
        if head:
            name = head[2]
            table = [part.strip('" ') for part in name.split(".")]
            for length in range(1, len(table) + 1):  # items of the lists of tables that the name passes
                key = ".".join(table[:length])
                if length == len(table) and head[1] == "[[":
                    counts[key] = counts.get(key, -1) + 1
            table = _numbered(table, counts)
            if wanted[: len(table)] == table and len(table) >= depth:
                best, depth = number, len(table)
            continue
        key = re.match(r"\s*([\w.\-\"]+)\s*=", line)
        if not key:
            continue
        path = [*table, *(part for part in key[1].replace('"', "").split(".") if part)]
        if path == wanted[: len(path)]:
            return number
    return best


def _numbered(table: list[str], counts: dict[str, int]) -> list[str]:
    out: list[str] = []
    for length, part in enumerate(table, 1):
        out.append(part)
        key = ".".join(table[:length])
        if key in counts:
            out.append(str(counts[key]))
    return out
