"""What a user types on the command line, as objects."""

from pathlib import Path


def section_of(text: str, tail: str = "closed"):
    """Section that a user names.

    Parameters
    ----------
    text : str
        "naca2412" or a coordinate file.
    tail : str, optional
        "closed" or "blunt", for NACA sections.

    Examples
    --------
    >>> section_of("naca2412").name
    'NACA 2412'
    """
    from zephyrum.geometry import Airfoil

    compact = text.lower().replace(" ", "").replace("-", "")
    if compact.startswith("naca") and not Path(text).exists():
        return Airfoil.naca(compact[4:], tail)
    return Airfoil.read(text)
