"""One look for all figures: the colour-blind-safe palette of Okabe and Ito (2008), thin grids, units on every axis."""

from pathlib import Path
from typing import TYPE_CHECKING

import matplotlib
import numpy as np

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
MARKERS = ("o", "s", "^", "D", "v", "P", "X")
SIZE = (12.8, 8.0)
DPI = 100


def new_axes(rows: int = 1, columns: int = 1, **options):
    """A figure of the standard size, drawn without a display.

    Parameters
    ----------
    rows, columns : int, optional
        Number of axes.
    **options
        Options of matplotlib's `subplots`.

    Returns
    -------
    figure : matplotlib.figure.Figure
    axes : matplotlib.axes.Axes or array of them

    Examples
    --------
    >>> figure, axes = new_axes(1, 2)
    >>> axes.shape
    (2,)
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=SIZE, dpi=DPI, layout="constrained")
    FigureCanvasAgg(figure)
    return figure, figure.subplots(rows, columns, **options)


def format_axes(ax: "Axes", x: str, y: str, title: str = ""):
    """Set labels, title and grid.

    Parameters
    ----------
    ax : Axes
        Axes.
    x, y : str
        Labels, with units.
    title : str, optional
        Title.

    Examples
    --------
    >>> from matplotlib.figure import Figure
    >>> ax = Figure().subplots()
    >>> _ = format_axes(ax, "alpha [deg]", "CL [-]")
    >>> ax.get_ylabel()
    'CL [-]'
    """
    ax.set_xlabel(x)
    ax.set_ylabel(y)
    if title:
        ax.set_title(title, fontsize="medium")
    ax.grid(True, color="#dddddd", linewidth=0.6)
    ax.set_axisbelow(True)
    return ax


def clipped_ends(values: np.ndarray, low: float, high: float) -> str:
    """Which ends of a colour bar are clipped.

    Parameters
    ----------
    values : array
        All values.
    low, high : float
        Range of the colours.

    Returns
    -------
    str
        "neither", "min", "max" or "both".

    Examples
    --------
    >>> import numpy as np
    >>> clipped_ends(np.array([0.0, 2.0]), 0.0, 1.0)
    'max'
    """
    below, above = bool(np.min(values) < low), bool(np.max(values) > high)
    return {(False, False): "neither", (True, False): "min", (False, True): "max", (True, True): "both"}[below, above]


def save(figure: "Figure", path: "Path") -> None:
    """Write a figure.

    Parameters
    ----------
    figure : Figure
        Figure.
    path : path
        File; its ending picks the format.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> from matplotlib.figure import Figure
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     save(Figure(), Path(folder, "empty.png"))
    """
    with matplotlib.rc_context({"svg.fonttype": "none"}):
        figure.savefig(path)
