"""A section drawn by hand: control points that are dragged in a figure, with measures and pressures redrawn at once.

Works with any interactive backend of Matplotlib, in a window or a notebook. Verified by tests/test_drawn_sections.py
with events that are sent without a screen.
"""

import textwrap
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import number
from zephyrum.errors import InputError, ZephyrumError
from zephyrum.geometry import Airfoil, SplineAirfoil
from zephyrum.plotting.style import COLOURS, format_axes, new_axes

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from zephyrum.loworder import PanelPolar

REACH = 12.0  # pixels: how near to a control point a press takes it
WITHOUT_WINDOWS = ("agg", "cairo", "pdf", "pgf", "ps", "svg", "template")  # backends of Matplotlib
PANELS = 120  # of the pressures that are redrawn at once: 10 ms
KEYS = (
    ("v", "viscous polar"),
    ("a", "add a point after the chosen one"),
    ("d", "delete the chosen point"),
    ("u", "undo"),
    ("w", "write the section file"),
)
ANGLES = tuple(range(-4, 17, 2))  # deg, of the viscous polar


class SectionEditor:
    """A figure in which the control points of a section are dragged.

    Parameters
    ----------
    section : SplineAirfoil or Airfoil
        Where to start; an `Airfoil` is fitted with control points first.
    path : path, optional
        Section file that the key "w" writes.
    alpha : float, optional
        Angle of the pressures [deg].
    reynolds : float, optional
        Of the viscous polar.
    angles : sequence of float, optional
        Of the viscous polar [deg].
    figure : Figure, optional
        Figure to draw into.

    Attributes
    ----------
    section : SplineAirfoil
        The section as it is drawn now.
    polar : PanelPolar or None
        Last viscous polar, of the section as it was at that moment.
    message : str
        Last sentence shown: what was written, or what is wrong.

    Notes
    -----
    Mouse: press near a control point and drag it. Keys: v computes the viscous polar, a adds a point after the chosen
    one, d deletes it, u undoes, w writes the section file. A position that is no section is refused with a sentence,
    and the point stays where it was.

    Examples
    --------
    >>> editor = SectionEditor(Airfoil.naca("2412"))
    >>> editor.move(4, 0.35, 0.11)
    >>> editor.section.points[4].tolist()
    [0.35, 0.11]
    """

    def __init__(
        self,
        section: SplineAirfoil | Airfoil,
        path: "str | Path | None" = None,
        alpha: float = 4.0,
        reynolds: float = 3e6,
        angles: Sequence[float] = ANGLES,
        figure: "Figure | None" = None,
    ):
        self.section = SplineAirfoil.fit(section) if isinstance(section, Airfoil) else section
        self.path = Path(path) if path is not None else None
        self.alpha, self.reynolds = number("alpha", alpha, -40.0, 40.0), number("reynolds", reynolds, 1e4, 1e9)
        self.angles = tuple(angles)
        self.chosen: int | None = None
        self.polar: PanelPolar | None = None
        self.message = "drag a control point; " + ", ".join(f"{key}: {words}" for key, words in KEYS)
        self._before: list[SplineAirfoil] = []
        self._dragged = False
        self._start(figure)
        self._lay_out()

    # -- what events do, callable without them -------------------------------------------------------------------------
    def move(self, index: int, x: float, z: float) -> None:
        """Move a control point, as dragging does.

        Parameters
        ----------
        index : int
            Number of the point.
        x, z : float
            New coordinates [m].
        """
        self._take(self.section.with_point(index, x, z))

    def add(self) -> None:
        """Add a control point after the chosen one."""
        if self.chosen is None:
            self._say("choose a control point first: press near it")
        else:
            self._take(self.section.with_added_point(self.chosen))

    def delete(self) -> None:
        """Delete the chosen control point."""
        if self.chosen is None:
            self._say("choose a control point first: press near it")
            return
        self._take(self.section.without_point(self.chosen))
        self.chosen = None
        self._redraw()

    def undo(self) -> None:
        """Go back to the section before the last change."""
        if self._before:
            self.section = self._before.pop()
            self.message = "undone"
            self._redraw()

    def write(self) -> None:
        """Write the section file."""
        if self.path is None:
            self._say("no file was named; give path= to SectionEditor")
        else:
            self._say(f"written: {self.section.write(self.path)}")

    def solve_layers(self) -> None:
        """Compute the viscous polar of the section as it is."""
        from zephyrum.loworder import panel_polar

        self.polar = panel_polar(self.section.airfoil, self.angles, self.reynolds)
        lost = len(self.angles) - len(self.polar.flows)
        self._say(f"viscous polar at Re {self.reynolds:.3g}{f'; {lost} angles did not converge' if lost else ''}")

    # -- events --------------------------------------------------------------------------------------------------------
    def _start(self, figure) -> None:
        if figure is None:
            figure, ax = new_axes()
            ax.remove()
        figure.set_layout_engine("none")  # it takes longer than everything else
        places = {"left": 0.06, "right": 0.97, "bottom": 0.07, "top": 0.96, "hspace": 0.22, "wspace": 0.14}
        grid = figure.add_gridspec(2, 2, height_ratios=(3, 2), **places)
        self.figure = figure
        self.shape = figure.add_subplot(grid[0, :])
        self.pressures, self.drag = (figure.add_subplot(grid[1, k]) for k in range(2))
        connect = figure.canvas.mpl_connect
        self._connections = [
            connect("button_press_event", self._press),
            connect("motion_notify_event", self._motion),
            connect("button_release_event", self._release),
            connect("key_press_event", self._key),
        ]

    def _press(self, event) -> None:
        if event.inaxes is not self.shape or event.button != 1:
            return
        places = self.shape.transData.transform(self.section.points)
        apart = np.hypot(*(places - (event.x, event.y)).T)
        self.chosen = int(np.argmin(apart)) if apart.min() <= REACH else None
        self._dragged = False
        self._redraw()

    def _motion(self, event) -> None:
        if self.chosen is None or event.inaxes is not self.shape or event.button != 1:
            return
        moved = self.section.with_point(self.chosen, float(event.xdata), float(event.ydata))
        if self._take(moved, undo=not self._dragged):  # one step of undo for the whole drag
            self._dragged = True

    def _release(self, _event) -> None:
        self._dragged = False

    def _key(self, event) -> None:
        actions = {"v": self.solve_layers, "a": self.add, "d": self.delete, "u": self.undo, "w": self.write}
        if event.key in actions:
            try:
                actions[event.key]()
            except ZephyrumError as cause:
                self._say(str(cause))

    def _take(self, section: SplineAirfoil, undo: bool = True) -> bool:
        """Show another section, or say why it is none."""
        try:
            _ = section.airfoil.measures, section.shape_warnings
        except ZephyrumError as cause:
            self._say(f"that is no section: {cause}")
            return False
        if undo:
            self._before.append(self.section)
        self.section = section
        self.message = "; ".join(section.shape_warnings)
        self._redraw()
        return True

    # -- drawing -------------------------------------------------------------------------------------------------------
    def _say(self, sentence: str) -> None:
        self.message = sentence
        self._redraw()

    def _lay_out(self) -> None:
        """Axes and lines, once; what changes is set in them."""
        foil = self.section.airfoil
        (self._curve,) = self.shape.plot([], [], color=COLOURS[0], linewidth=1.5)
        (self._control,) = self.shape.plot([], [], "s--", color="#888888", markerfacecolor="white", linewidth=0.8)
        (self._mark,) = self.shape.plot([], [], "s", color=COLOURS[1], markersize=8)
        format_axes(self.shape, "x [m]", "z [m]", " ")
        centre, reach = 0.5 * (foil.nose + foil.tail), 0.56 * foil.chord
        self.shape.set_xlim(centre[0] - reach, centre[0] + reach)
        self.shape.set_ylim(centre[1] - 0.33 * reach, centre[1] + 0.33 * reach)
        self.shape.set_aspect("equal", adjustable="box")
        (self._cp,) = self.pressures.plot([], [], color=COLOURS[0], linewidth=1.2)
        self.pressures.set(xlim=(-0.03, 1.03), ylim=(1.1, -2.5))
        format_axes(self.pressures, "x / chord [-]", "Cp [-]", " ")
        (self._polar,) = self.drag.plot([], [], "o-", color=COLOURS[2], markersize=4)
        format_axes(self.drag, "CD [counts]", "CL [-]", 'drag polar with boundary layers: press "v"')
        self._words = self.shape.text(0.01, 0.03, "", transform=self.shape.transAxes, fontsize="small")
        self._redraw()

    def _redraw(self) -> None:
        foil, points = self.section.airfoil, self.section.points
        self._curve.set_data(*foil.curve(np.linspace(0.0, foil.length, 800)).T)
        self._control.set_data(*points.T)
        self._mark.set_data(*(([], []) if self.chosen is None else points[[self.chosen]].T))
        m, count = foil.measures, f"{self.section.name}, {len(points)} control points"
        chosen = "" if self.chosen is None else f", point {self.chosen} chosen"
        self.shape.set_title(
            f"{count}{chosen}: thickness {100 * m.thickness:.2f} % at {100 * m.thickness_at:.1f} %, camber "
            f"{100 * m.camber:.2f} % at {100 * m.camber_at:.1f} %, nose radius {100 * m.nose_radius:.2f} %, tail "
            f"{m.tail_angle:.1f} deg",
            fontsize="medium",
        )
        self._show_pressures(foil)
        self._show_polar()
        self._words.set_text(textwrap.fill(self.message, 150))
        self._words.set_color("#a83f00" if self.section.shape_warnings else "#333333")
        self.figure.canvas.draw_idle()

    def _show_pressures(self, foil: Airfoil) -> None:
        """Pressures without friction, of a few panels."""
        from zephyrum.loworder import panel_section

        flow = panel_section(foil, PANELS).solve(self.alpha)
        nodes = np.concatenate(flow.section.points)
        self._cp.set_data((nodes[:, 0] - foil.nose[0]) / foil.chord, flow.cp)
        low = min(-0.5, float(np.floor(flow.cp.min())))
        self.pressures.set_ylim(1.1, low)
        title = f"without friction at {self.alpha:g} deg: CL {flow.cl:.3f}, CM {flow.cm:+.3f}"
        self.pressures.set_title(title, fontsize="medium")

    def _show_polar(self) -> None:
        """Drag polar with boundary layers, when it was asked for."""
        if self.polar is None:
            return
        drag, lift = (np.array([getattr(flow, name) for flow in self.polar.flows]) for name in ("cd", "cl"))
        now = self.polar.foil is self.section.airfoil
        self._polar.set_data(1e4 * drag, lift)
        self._polar.set_linestyle("-" if now else ":")
        self.drag.set_xlim(0.0, 1.05e4 * min(drag.max(), 4.0 * drag.min()))
        self.drag.set_ylim(lift.min() - 0.1, lift.max() + 0.1)
        state = "" if now else ", before the last change"
        self.drag.set_title(f"boundary layers, Re {self.polar.reynolds:.3g}{state}", fontsize="medium")


def edit_section(section: SplineAirfoil | Airfoil, path: "str | Path | None" = None, **options) -> SplineAirfoil:
    """Open a window in which a section is drawn, and give back what was drawn when it is closed.

    Parameters
    ----------
    section : SplineAirfoil or Airfoil
        Where to start.
    path : path, optional
        Section file that the key "w" writes.
    **options
        `alpha` [deg] and `reynolds`, as in `SectionEditor`.

    Raises
    ------
    InputError
        The backend of Matplotlib shows no windows.

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.plotting import edit_section
    >>> drawn = edit_section(zy.Airfoil.naca("2412"), "mine.dat")  # doctest: +SKIP
    """
    import matplotlib
    import matplotlib.pyplot as plt

    if matplotlib.get_backend().lower() in WITHOUT_WINDOWS:
        raise InputError(
            f"the Matplotlib backend {matplotlib.get_backend()!r} shows no window; choose an interactive one with "
            f"MPLBACKEND, such as tkagg, or move points with SplineAirfoil.with_point."
        )
    # keys of the toolbar that would act too
    for name in ("keymap.save", "keymap.back", "keymap.forward", "keymap.home"):
        matplotlib.rcParams[name] = []
    editor = SectionEditor(section, path, figure=plt.figure(figsize=(12.8, 8.0), layout="constrained"), **options)
    plt.show(block=True)
    return editor.section
