"""A section as a curve in space, for CAD programs: columns x, y, z, in true size, turned and placed.

Verified by tests/test_drawn_sections.py.
"""

from pathlib import Path

import numpy as np

from zephyrum._core.atomic_files import write_text
from zephyrum._core.units import quantity
from zephyrum._core.validation import number, numbers
from zephyrum.geometry.airfoil.section import Airfoil


def space_curve(
    foil: Airfoil,
    chord: float | None = None,
    rotation: float = 0.0,
    position: tuple[float, float, float] = (0.0, 0.0, 0.0),
) -> np.ndarray:
    """Points of a section in body axes.

    Parameters
    ----------
    foil : Airfoil
        Section.
    chord : float, optional
        [m]; that of the section without it.
    rotation : float, optional
        Nose-up about the nose, of the chord line against x [deg].
    position : tuple of float, optional
        Place of the nose: x aft, y to starboard, z up [m].

    Returns
    -------
    (n, 3) array
        [m], from the upper tail over the nose to the lower tail.

    Examples
    --------
    >>> points = space_curve(Airfoil.naca("0012"), 2.0, 0.0, (1.0, 3.0, 0.5))
    >>> points[0].round(9).tolist()
    [3.0, 3.0, 0.5]
    """
    chord = foil.chord if chord is None else number("chord", chord, 0.0, open_low=True)
    place = np.array(numbers("position", position, 3))
    along = (foil.tail - foil.nose) / foil.chord
    turn = np.radians(number("rotation", rotation, -180.0, 180.0))
    wanted = np.array([np.cos(turn), -np.sin(turn)])  # of the chord line, nose-up
    c = along @ wanted
    s = along[0] * wanted[1] - along[1] * wanted[0]
    plane = (foil.points - foil.nose) @ np.array([[c, s], [-s, c]]) * (chord / foil.chord)
    return np.stack([plane[:, 0], np.zeros(len(plane)), plane[:, 1]], axis=1) + place


def write_space_curve(points: np.ndarray, path: "str | Path", unit: str = "m") -> Path:
    """Write points as three columns x, y, z without a header.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    path : path
        File.
    unit : str, optional
        Unit of the file, such as "mm".

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     file = write_space_curve(space_curve(Airfoil.naca("0012")), Path(folder) / "rib.txt", "mm")
    ...     file.read_text().splitlines()[0].split()[0]
    '1000'
    """
    scale = quantity("unit", f"1 {unit}", "m")
    path = Path(path)
    body = "\n".join(" ".join(f"{value:.12g}" for value in row) for row in np.asarray(points) / scale)
    write_text(path, body + "\n")
    return path
