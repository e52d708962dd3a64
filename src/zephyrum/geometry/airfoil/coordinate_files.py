"""Reading and writing airfoil coordinates in any plain layout.

Recognised: one loop or two surfaces, either direction, header or none, a line with counts, commas, semicolons, tabs
or blanks, decimal commas, percent of chord or millimetres, repeated points, a missing last point. What was recognised
and what was changed is reported in the airfoil's notes; what is ambiguous is refused with its line number.
Verified by tests/test_shape.py.
"""

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import write_text
from zephyrum._core.units import quantity
from zephyrum._core.validation import PATH, takes
from zephyrum.errors import FileError, InputError

_COMMENT = re.compile(r"(#|!|%|//).*$")
_LARGEST = 4_000_000  # bytes; no table of coordinates is longer


@dataclass(frozen=True)
class _Row:
    x: float
    z: float
    line: int


@takes(path=PATH)
def read_coordinates(path: str | Path, unit: str | None = None) -> tuple[np.ndarray, str, list[str]]:
    """Read airfoil coordinates in any plain layout.

    Parameters
    ----------
    path : path
        File.
    unit : str, optional
        Unit such as "mm", which keeps the true size in metres; without it the section is scaled to unit chord.

    Returns
    -------
    points : (n, 2) array
        From the upper tail over the nose to the lower tail.
    name : str
    notes : list[str]
        What was recognised and changed.

    Raises
    ------
    FileError
        The file cannot be read.
    InputError
        With the number of the line that is wrong.

    Examples
    --------
    >>> import tempfile
    >>> from zephyrum import Airfoil
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder, "section.dat")
    ...     _ = Airfoil.naca("2412").write(path)
    ...     points, name, notes = read_coordinates(path)
    >>> points.shape, name
    ((401, 2), 'NACA 2412')
    """
    path = Path(path)
    text = _load(path)
    name, blocks, notes = _blocks(text, path.name, path.stem)
    points, lines = _loop(blocks, path.name, notes)
    points, lines = _cleaned(points, lines, path.name, notes)
    _refuse_implausible(points, lines, path.name)
    chord = float(np.ptp(points[:, 0]))
    if unit is not None:
        scale = quantity("unit", f"1 {unit}", "m")
        notes.append(f"unit {unit}: chord {chord * scale:.6g} m")
        return points * scale, name, notes
    if abs(chord - 1.0) > 0.02:
        kind = "percent of chord" if abs(chord - 100.0) < 2.0 else "a true size; give unit= to keep it"
        notes.append(f"x runs over {chord:.6g}, taken as {kind}: scaled to unit chord")
        origin = np.array([points[:, 0].min(), 0.0])
        points = (points - origin) / chord
    return points, name, notes


def write_coordinates(points: np.ndarray, name: str, path: str | Path) -> Path:
    """Write one loop as two columns with a header; `read_coordinates` reads it back the same.

    Parameters
    ----------
    points : (n, 2) array
        From the upper tail over the nose to the lower tail.
    name : str
        Header.
    path : path
        File.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder, "wedge.dat")
    ...     _ = write_coordinates(np.array([[1.0, 0.0], [0.0, 0.1], [1.0, 0.0]]), "wedge", path)
    ...     path.read_text().splitlines()[0]
    'wedge'
    """
    path = Path(path)
    body = "\n".join(f"{x:.17g} {z:.17g}" for x, z in points)
    write_text(path, f"{name}\n{body}\n")
    return path


def _load(path: Path) -> str:
    if not path.exists():
        raise FileError(f"coordinate file {str(path)!r} does not exist; check the name and the folder.")
    if not path.is_file():
        raise FileError(f"coordinate file {str(path)!r} is not a file; give the file itself.")
    if path.stat().st_size > _LARGEST:
        raise FileError(
            f"coordinate file {path.name!r} has {path.stat().st_size} bytes; that is no table of coordinates."
        )
    raw = path.read_bytes()
    if b"\0" in raw:
        raise FileError(f"coordinate file {path.name!r} is binary; give a text file with columns x and z.")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def _numbers(text: str, decimal_comma: bool) -> list[float] | None:
    """Numbers of a line, or None if anything else is on it."""
    if decimal_comma:
        text = text.replace(",", ".")
    parts = [part for part in re.split(r"[;,\s]+", text.strip()) if part]
    try:
        return [float(part.replace("D", "e").replace("d", "e")) for part in parts]
    except ValueError:
        return None


def _blocks(text: str, file: str, stem: str) -> tuple[str, list[list[_Row]], list[str]]:
    """Name, runs of points separated by blank or word lines, notes."""
    notes: list[str] = []
    decimal_comma = bool(re.search(r"\d,\d+\s*[;\t]\s*-?\d+,\d", text)) or bool(
        re.search(r"^\s*-?\d+,\d+\s+-?\d+,\d+\s*$", text, re.M)
    )
    if decimal_comma:
        notes.append("decimal commas")
    header: list[str] = []
    blocks: list[list[_Row]] = [[]]
    counts: list[int] = []
    for number, raw in enumerate(text.splitlines(), 1):
        line = _COMMENT.sub("", raw).strip()
        values = _numbers(line, decimal_comma) if line else []
        if values is None:
            if not any(blocks) and not re.match(r"[-+]?\d*[.,]\d+[^\s]*\s+\S+$|\S+\s+[-+]?\d*[.,]\d+$", line):
                header.append(line)
            elif re.search(r"upper|lower|top|bottom", line, re.I) and not re.search(r"\d\.\d", line):
                blocks.append([])
            else:
                raise InputError(
                    f"{file}, line {number}: {raw.strip()[:40]!r} is not a pair of numbers; repair or remove the line."
                )
            continue
        if not values:
            blocks.append([])
            continue
        if not all(np.isfinite(values)):
            raise InputError(f"{file}, line {number}: a coordinate is not finite; repair or remove the line.")
        first = not any(blocks)
        if first and not counts and all(v == int(v) and v >= 5 for v in values) and len(values) <= 2:
            counts = [int(v) for v in values]
            blocks.append([])
            continue
        if len(values) == 3 and values[2] == 0.0:
            values = values[:2]
        if len(values) != 2:
            raise InputError(
                f"{file}, line {number}: {len(values)} numbers where x and z are needed; keep two columns."
            )
        blocks[-1].append(_Row(values[0], values[1], number))
    blocks = [block for block in blocks if block]
    if not blocks:
        raise InputError(f"{file}: no coordinates found; give lines with x and z.")
    total = sum(len(block) for block in blocks)
    if counts and sum(counts) == total and len(counts) == 2:
        rows = [row for block in blocks for row in block]
        blocks = [rows[: counts[0]], rows[counts[0] :]]
        notes.append(f"counts line: {counts[0]} + {counts[1]} points")
    elif counts and counts == [total]:
        notes.append(f"counts line: {total} points")
    elif counts:
        raise InputError(
            f"{file}: the counts line announces {' + '.join(map(str, counts))} points, but {total} follow; is the file "
            f"truncated?"
        )
    if total < 7:
        raise InputError(f"{file}: only {total} points; a section needs at least 7.")
    if header:
        notes.append(f"header of {len(header)} line{'s' * (len(header) > 1)}")
    return (header[0] if header else stem), blocks, notes


def _loop(blocks: list[list[_Row]], file: str, notes: list[str]) -> tuple[np.ndarray, np.ndarray]:
    """One loop of points from tail over nose to tail, with line numbers."""
    rows = [row for block in blocks for row in block]
    x = np.array([row.x for row in rows])
    span = np.ptp(x)
    if span <= 0.0:
        raise InputError(f"{file}, line {rows[0].line}: all x are the same; the first column must run along the chord.")
    if len(blocks) == 1:
        back = np.flatnonzero(np.abs(np.diff(x)) > 0.6 * span)
        if back.size == 1 and 2 <= back[0] <= len(rows) - 4:
            blocks = [rows[: back[0] + 1], rows[back[0] + 1 :]]
        elif back.size:
            raise InputError(
                f"{file}, line {rows[back[0] + 1].line}: x jumps by more than half the chord; is a value or a minus "
                f"sign lost?"
            )
    if len(blocks) > 2:
        raise InputError(
            f"{file}, line {blocks[2][0].line}: a third run of points starts here; give one section of one loop or two "
            f"surfaces."
        )
    if len(blocks) == 1:
        notes.append(f"one loop of {len(rows)} points")
        points = np.array([(row.x, row.z) for row in rows])
        lines = np.array([row.line for row in rows])
        if min(x[0], x[-1]) < x.min() + 0.3 * span:
            if max(x[0], x[-1]) > x.min() + 0.7 * span:
                raise InputError(
                    f"{file}, line {rows[-1].line}: the points end at x = {x[-1]:g} without coming back; half of the "
                    f"section is missing."
                )
            turn = int(np.argmax(x))
            points, lines = np.roll(points, -turn, axis=0), np.roll(lines, -turn)
            notes.append("the loop began at the nose: turned to begin at the tail")
        return points, lines
    surfaces = []
    for block in blocks:
        points = np.array([(row.x, row.z) for row in block])
        lines = np.array([row.line for row in block])
        if len(block) < 3:
            raise InputError(f"{file}, line {block[0].line}: a surface of {len(block)} points; it needs at least 3.")
        if points[0, 0] > points[-1, 0]:
            points, lines = points[::-1], lines[::-1]
        if (np.diff(points[:, 0]) < -0.02 * span).any():
            bad = int(np.argmax(np.diff(points[:, 0]) < -0.02 * span))
            raise InputError(
                f"{file}, line {lines[bad + 1]}: x turns back within a surface; sort the points or repair the line."
            )
        surfaces.append((points, lines))
    common = np.linspace(x.min() + 0.1 * span, x.max() - 0.1 * span, 40)
    height = [np.interp(common, p[:, 0], p[:, 1]).mean() for p, _ in surfaces]
    (up, up_lines), (low, low_lines) = surfaces if height[0] > height[1] else surfaces[::-1]
    notes.append(f"two surfaces of {len(blocks[0])} and {len(blocks[1])} points")
    return np.concatenate([up[::-1], low]), np.concatenate([up_lines[::-1], low_lines])


def _cleaned(points, lines, file, notes):
    """Remove repeated points, add a missing last one, run from the upper tail."""
    span = np.ptp(points[:, 0])
    keep = np.r_[True, np.linalg.norm(np.diff(points, axis=0), axis=1) > 1e-9 * span]
    if not keep.all():
        notes.append(f"{int((~keep).sum())} repeated point(s) dropped (line {', '.join(map(str, lines[~keep][:4]))})")
        points, lines = points[keep], lines[keep]
    x, z = points.T
    if 0.5 * np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z) < 0.0:
        points, lines = points[::-1], lines[::-1]
        notes.append("order reversed: now from the upper tail over the nose")
    ends = points[[0, -1], 0]
    if abs(ends[0] - ends[1]) > 0.002 * span:
        last = int(np.argmin(ends))  # the end that stops short of the tail
        other = points[-1] if last == 0 else points[0]
        camber = 0.5 * (points[0, 1] + points[-1, 1])
        if abs(other[1] - camber) > 0.02 * span:
            raise InputError(
                f"{file}, line {lines[0 if last == 0 else -1]}: one surface stops at x = {ends[last]:g} short of the "
                f"tail; add its last point."
            )
        points = np.concatenate([other[None], points] if last == 0 else [points, other[None]])
        lines = np.r_[lines[-1], lines] if last == 0 else np.r_[lines, lines[0]]
        notes.append("the last point was missing: the tail is closed with the first one")
    return points, lines


def _refuse_implausible(points, lines, file) -> None:
    """Refuse spikes and crossings, which are mostly lost minus signs."""
    step = np.diff(points, axis=0)
    length = np.linalg.norm(step, axis=1)
    turn = np.degrees(
        np.arccos(np.clip(np.einsum("ij,ij->i", step[:-1], step[1:]) / (length[:-1] * length[1:]), -1, 1))
    )
    span = np.ptp(points[:, 0])
    inside = (points[1:-1, 0] > points[:, 0].min() + 0.02 * span) & (
        points[1:-1, 0] < points[:, 0].max() - 0.005 * span
    )
    sharp = np.flatnonzero((turn > 75.0) & inside)
    if sharp.size:
        worst = sharp[np.argmax(turn[sharp])] + 1
        raise InputError(
            f"{file}, line {lines[worst]}: the surface turns by {turn[worst - 1]:.0f} degrees at x = "
            f"{points[worst, 0]:g}, z = {points[worst, 1]:g}; "
            "is a minus sign lost or a digit wrong?"
        )
    nose = int(np.argmin(points[:, 0]))
    up, low = points[nose::-1], points[nose:]
    if (np.diff(up[:, 0]) > 0).all() and (np.diff(low[:, 0]) > 0).all():
        x = np.linspace(points[:, 0].min() + 0.02 * span, points[:, 0].max() - 0.02 * span, 80)
        gap = np.interp(x, up[:, 0], up[:, 1]) - np.interp(x, low[:, 0], low[:, 1])
        if gap.min() < -1e-4 * span:
            at = x[np.argmin(gap)]
            near = int(np.argmin(np.abs(low[:, 0] - at))) + nose
            raise InputError(
                f"{file}, line {lines[near]}: upper and lower surface cross near x = {at:.4g}; is a minus sign lost?"
            )
