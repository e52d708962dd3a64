"""The lattice of an aircraft: filaments, control points and normals on the mean camber surfaces of its wings.

Wings, tails, fins and plates of an `Aircraft` become lifting surfaces without thickness; bodies, ducts and struts are
left out. Both halves of a wing that meet at the plane of symmetry are one surface, without trailing vortices at the
root. Verified by tests/test_lattice.py.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import choice, number, whole
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft, Airfoil, Body, Plate, Station, Wing
from zephyrum.geometry.aircraft.part import attitude_matrix
from zephyrum.geometry.aircraft.stations import panel_of, span_lengths
from zephyrum.geometry.aircraft.wing_surface import hinge_line, normalized_section, section_frames
from zephyrum.geometry.airfoil.section_measures import mean_line
from zephyrum.loworder.vortex_lattice.spacing import (
    chordwise_points,
    front_rows,
    section_constants,
    spanwise_points,
)

LEAST_STRIPS = 6  # from root to tip of a part
MOST_BREAKS = 0.25  # stations over strips: more of them describe a curved planform, on which steps in angle stay equal
NOSE_PART = 0.03  # chord fraction ahead of which the slope of the mean line goes on in a straight line
JOINED = 1e-3  # chords between trailing edges of surfaces that are one: no cores between them
CAMBER_POINTS = 161  # at which the mean line of a section is sampled


@dataclass(frozen=True)
class WakeRelaxation:
    """How wakes that follow the flow are found.

    Attributes
    ----------
    nodes : int
        Along a wake, in growing distances from the trailing edge.
    length : float
        [spans] Length that is relaxed; behind it wakes are straight.
    first_step : float
        [mean chords] First distance between nodes.
    core : float
        [spans] Least radius of the cores that wakes see: with 0.03 the vortices at the tips of a rectangular wing do
        not come to rest.
    iterations : int
        Most iterations.
    tolerance : float
        [spans] Largest displacement of a node in the last iteration.
    damping : float
        [-] Share of a displacement that is taken.

    Examples
    --------
    >>> WakeRelaxation(iterations=60).iterations
    60
    """

    nodes: int = 24
    length: float = 3.0
    first_step: float = 0.3
    core: float = 0.05
    iterations: int = 30
    tolerance: float = 2e-3
    damping: float = 0.8

    def __post_init__(self) -> None:
        for name, low, high in (("nodes", 3, 500), ("iterations", 1, 1000)):
            object.__setattr__(self, name, whole(name, getattr(self, name), low, high))
        for name in ("length", "first_step", "core", "tolerance"):
            number(name, getattr(self, name), 0.0, open_low=True)
        number("damping", self.damping, 0.0, 1.0, open_low=True)


@dataclass(frozen=True)
class LatticeOptions:
    """How fine the lattice of an aircraft is, and what takes part in it.

    Attributes
    ----------
    rows : int
        Vortices along the chord of every surface.
    strips : int
        Strips from root to tip of the reference wing; other parts have strips in proportion to the square root of
        their span.
    parts : tuple[str, ...], optional
        Names of the parts or groups of the aircraft that take part; without it all wings and plates.
    core : float
        Radius of the viscous core of a trailing vortex as other surfaces see it, in widths of the strip beside it.
        0.5 keeps the wake of a wing from tearing at control points of a tail that it passes at less than a strip.
    wake : str
        Where the wakes go: straight along the "body" axis x, so that one factorisation serves all angles; straight
        along the "wind", with a factorisation for each pair of angles; or "relaxed" with the flow, with about ten
        factorisations for each condition.
    ground : float, optional
        Height of the moment point above a level ground [m], along which the wind blows; wakes then follow the wind.
    bodies : bool
        Whether bodies take part, as lines of doublets (slender-body theory).
    relaxation : WakeRelaxation
        How relaxed wakes are found.

    Examples
    --------
    >>> LatticeOptions(rows=8).strips
    24
    """

    rows: int = 12
    strips: int = 24
    parts: tuple[str, ...] | None = None
    core: float = 0.5
    wake: str = "body"
    ground: float | None = None
    bodies: bool = False
    relaxation: WakeRelaxation = WakeRelaxation()

    def __post_init__(self) -> None:
        for name, high in (("rows", 200), ("strips", 1000)):
            object.__setattr__(self, name, whole(name, getattr(self, name), 4, high))
        number("core", self.core, 0.0, 5.0)
        choice("wake", self.wake, ("body", "wind", "relaxed"))
        if self.ground is not None:
            number("ground", self.ground, 0.0, open_low=True)
            if self.bodies:
                raise InputError("bodies over a ground have no image; give one of bodies and ground.")
            if self.wake == "relaxed":
                raise InputError('relaxed wakes over a ground have no image; give wake = "wind" with ground.')
        if self.parts is not None:
            object.__setattr__(self, "parts", tuple(self.parts))


@dataclass(frozen=True)
class Lattice:
    """Lifting surfaces as arrays, in body axes.

    Attributes
    ----------
    filaments : (n_filaments, rows + 1, 3) array
        Nodes of the bound vortices and the trailing edge [m].
    edges : (n_filaments, rows + 1, 3) array
        Corners of the panels on each filament, from the leading to the trailing edge [m].
    left, right : (n_strips,) array
        Filaments on either side of each strip.
    controls, normals : (n_strips, rows, 3) array
        Control points [m] and their unit normals.
    bound, bound_normals : (n_strips, rows, 3) array
        Points of the bound vortices at which forces act [m] and unit normals there.
    leading, trailing, leading_normals : (n_strips, 3) array
        Leading and trailing edge of the middle of each strip [m], and unit normals at the leading edge.
    suction : (n_strips, 3) array
        Unit vector along which the suction of the leading edge pulls.
    sweep : (n_strips,) array
        Cosine of the sweep of the leading edge.
    constants : (n_strips, 2) array
        See `section_constants`.
    part, surface : (n_strips,) array
        Number of the part, and of the surface, which is another one for each piece that stands alone.
    filament_surface : (n_filaments,) array
        Number of the surface of each filament.
    fraction : (n_strips,) array
        Span fraction of the middle; negative on the port half.
    front : (n_strips,) array
        Rows ahead of the hinge line.
    control : (n_strips,) array
        Number of the control, -1 without.
    sense : (n_strips,) array
        -1 where an opposite control goes the other way, else 1.
    hinge, hinge_axis : (n_strips, 3) array
        Point of the hinge line [m] and unit vector along it.
    parts, control_names : tuple[str, ...]
        Names.
    deflections : (n_controls,) array
        As described [deg].

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> lattice = build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}), LatticeOptions(rows=4, strips=6))
    >>> lattice.controls.shape
    (12, 4, 3)
    """

    filaments: np.ndarray
    edges: np.ndarray
    left: np.ndarray
    right: np.ndarray
    controls: np.ndarray
    normals: np.ndarray
    bound: np.ndarray
    bound_normals: np.ndarray
    leading: np.ndarray
    leading_normals: np.ndarray
    trailing: np.ndarray
    suction: np.ndarray
    sweep: np.ndarray
    constants: np.ndarray
    part: np.ndarray
    surface: np.ndarray
    filament_surface: np.ndarray
    fraction: np.ndarray
    front: np.ndarray
    control: np.ndarray
    sense: np.ndarray
    hinge: np.ndarray
    hinge_axis: np.ndarray
    parts: tuple[str, ...]
    control_names: tuple[str, ...]
    deflections: np.ndarray = field(default_factory=lambda: np.zeros(0))

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.n_panels} panels in {len(self.left)} strips of {', '.join(self.parts)}"

    @property
    def rows(self) -> int:
        """Vortices along the chord.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> build_lattice(zy.Aircraft(name="plank", parts={"wing": wing}), LatticeOptions(rows=4)).rows
        4
        """
        return self.controls.shape[1]

    @property
    def n_panels(self) -> int:
        """Number of panels, each with one vortex and one control point.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
        >>> build_lattice(craft, LatticeOptions(rows=4, strips=6)).n_panels
        48
        """
        return len(self.left) * self.rows

    @property
    def chord(self) -> np.ndarray:
        """(n_strips,) length of the middle of each strip [m].

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
        >>> round(float(build_lattice(craft, LatticeOptions(rows=4, strips=6)).chord[0]), 6)
        1.0
        """
        return np.linalg.norm(self.trailing - self.leading, axis=1)

    @property
    def width(self) -> np.ndarray:
        """(n_strips,) width of each strip across the wind [m].

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
        >>> craft = zy.Aircraft(name="plank", parts={"wing": wing})
        >>> round(float(build_lattice(craft, LatticeOptions(rows=4, strips=6)).width.sum()), 6)
        6.0
        """
        across = self.filaments[self.right, -1, 1:] - self.filaments[self.left, -1, 1:]
        return np.linalg.norm(across, axis=1)


def lifting_parts(aircraft: Aircraft, chosen: tuple[str, ...] | None = None, bodies: bool = False) -> dict[str, Wing]:
    """Parts that become lifting surfaces, plates as wings without camber.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    chosen : tuple[str, ...], optional
        Names of parts, or of groups of the aircraft; parts of a group that carry no lift are left out.
    bodies : bool, optional
        Whether bodies may be named as well; they are left out here.

    Raises
    ------
    InputError
        A name is unknown or no lifting surface, or nothing is left.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> list(lifting_parts(zy.Aircraft(name="plank", parts={"wing": wing})))
    ['wing']
    """
    there = {
        name: _wing_of_plate(one) if isinstance(one, Plate) else one
        for name, one in aircraft.parts.items()
        if isinstance(one, (Wing, Plate)) and one.aerodynamic
    }
    if chosen is not None:
        for name in chosen:
            body = bodies and isinstance(aircraft.parts.get(name), Body)
            if name not in there and name not in aircraft.groups and not body:
                raise InputError(
                    f"parts: {name!r} is no lifting surface of {aircraft.name!r}; choose of: "
                    f"{', '.join([*there, *aircraft.groups]) or 'none'}."
                )
        wanted = aircraft.parts_of(chosen)
        there = {name: there[name] for name in there if name in wanted}
    if not there:
        raise InputError(f"{aircraft.name!r} has no wing, tail, fin or plate that could carry lift.")
    return there


def _wing_of_plate(plate: Plate) -> Wing:
    """The plate as stations at the corners of its outline."""
    p = np.array(plate.corners)
    loop = np.concatenate([p, p[:1]])
    low, high = p[:, 1].min(), p[:, 1].max()
    stations = []
    for y in np.unique(np.clip(p[:, 1], low + 1e-9 * (high - low), high - 1e-9 * (high - low))):
        a, b = loop[:-1], loop[1:]
        hit = (a[:, 1] - y) * (b[:, 1] - y) <= 0.0
        hit &= a[:, 1] != b[:, 1]
        x = a[hit, 0] + (y - a[hit, 1]) / (b[hit, 1] - a[hit, 1]) * (b[hit, 0] - a[hit, 0])
        chord = max(float(np.ptp(x)), 1e-6 * float(np.ptp(p[:, 0])))
        stations.append(Station(position=(float(x.min()), float(y), 0.0), chord=chord))
    common = {name: getattr(plate, name) for name in ("position", "roll", "pitch", "yaw", "mirrored")}
    return Wing(stations=tuple(stations), airfoil=Airfoil.naca("0006"), symmetric=False, **common)


class _Camber:
    """Mean lines of the stations of a wing, linear between them."""

    ANGLE = np.linspace(0.0, np.pi, CAMBER_POINTS)
    GRID = 0.5 * (1.0 - np.cos(ANGLE))  # chord fractions at which `mean_line` samples

    def __init__(self, wing: Wing):
        self.fractions = wing.span_fractions
        known: dict[int, tuple[np.ndarray, np.ndarray]] = {}
        for one in wing.sections:
            if id(one.airfoil) not in known:
                known[id(one.airfoil)] = self._sampled(normalized_section(one.airfoil, wing.tail_gap))
        self.lines = [known[id(one.airfoil)] for one in wing.sections]

    @classmethod
    def _sampled(cls, foil: Airfoil) -> tuple[np.ndarray, np.ndarray]:
        x, z, _ = mean_line(foil, CAMBER_POINTS)
        angle = cls.ANGLE
        # slope over the angle of the chord fraction: finite and smooth at the nose
        slope = np.gradient(z, angle, edge_order=2)[1:-1] / (0.5 * np.sin(angle[1:-1]))
        slope = np.concatenate([slope[:1], slope, 2.0 * slope[-1:] - slope[-2:-1]])
        # the sides are too steep at the nose to halve their distance there
        behind = (x >= NOSE_PART) & (x <= 3.0 * NOSE_PART)
        line = np.polyfit(x[behind], slope[behind], 1)
        return z, np.where(x < NOSE_PART, np.polyval(line, x), slope)

    def at(self, fraction: float, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Camber and slope at chord fractions of the section at a span fraction."""
        k, f = panel_of(self.fractions, fraction)
        return tuple(
            (1.0 - f) * np.interp(x, self.GRID, a) + f * np.interp(x, self.GRID, b)
            for a, b in zip(self.lines[k], self.lines[k + 1])
        )


def _pieces(wing: Wing) -> list[tuple[float, bool]]:
    """(side, whether both halves) of the pieces of a wing."""
    if not wing.symmetric:
        return [(1.0, False)]
    return [(1.0, True)] if wing.centred else [(1.0, False), (-1.0, False)]


@dataclass(frozen=True)
class _Layout:
    """Where the filaments and strips of one piece of a wing lie.

    Attributes
    ----------
    wing : Wing
        The wing.
    rows, front : int
        Rows along the chord, and those ahead of the hinge line.
    filaments, middles : (n + 1,), (n,) array
        Span fractions, negative on the port half.
    sides : (n + 1,) list
        1 or -1: the half on which each filament lies.
    both : bool
        Whether the piece runs through the plane of symmetry.
    """

    wing: Wing
    rows: int
    front: int
    filaments: np.ndarray
    middles: np.ndarray
    sides: list[float]
    both: bool

    @classmethod
    def of(cls, wing: Wing, strips: int, rows: int, side: float, both: bool) -> "_Layout":
        controls = wing.controls.values()
        breaks = {0.0, 1.0, *(s for c in controls for s in (c.start, c.end))}
        if len(wing.sections) - 2 <= strips * MOST_BREAKS:
            breaks |= set(wing.span_fractions.tolist())
        edges, middles = spanwise_points(strips, np.array(sorted(breaks)))
        if both:
            filaments, between = np.r_[-edges[:0:-1], edges], np.r_[-middles[::-1], middles]
        else:
            filaments, between = (side * (one if side > 0 else one[::-1]) for one in (edges, middles))
        sides = [side if not both else 1.0 if s > 0.0 else -1.0 for s in filaments]
        front = front_rows(rows, float(np.mean([c.hinge for c in controls]))) if controls else rows
        return cls(wing, rows, front, filaments, between, sides, both)

    def hinges(self, fractions: np.ndarray) -> list[float | None]:
        """Chord fractions of the hinge line at span fractions, None without controls."""
        if not self.wing.controls:
            return [None] * len(fractions)
        return [round(float(one), 9) for one in hinge_line(self.wing, np.abs(fractions))]

    def lines(self) -> tuple[np.ndarray, np.ndarray]:
        """Points and chordwise tangents (n + 1, 2 rows + 3, 3) of the camber surface at every filament.

        At the vortices, the trailing edge, the control points, the leading edge and the hinge.
        """
        wing, fractions = self.wing, np.abs(self.filaments)
        frames = section_frames(wing, fractions, list(zip(self.sides, fractions)), self.both)
        camber, front = _Camber(wing), self.front if wing.controls else None
        points, tangents = [], []
        for side, s, (up, mitre), hinge in zip(self.sides, fractions, frames, self.hinges(self.filaments)):
            vortices, controls = chordwise_points(self.rows, hinge, front)
            x = np.r_[vortices, 1.0, controls, 0.0, hinge or 0.0]
            z, slope = camber.at(s, x)
            one = wing.at(s)
            cosine, sine = np.cos(np.radians(one.twist)), np.sin(np.radians(one.twist))
            along, across = np.array([1.0, 0.0, 0.0]), mitre * up
            plane = np.stack([cosine * along - sine * across, sine * along + cosine * across])  # chord and its normal
            local = np.stack([x - wing.twist_at, z], axis=1)
            pivot = np.array(one.position) * [1.0, side, 1.0] + one.chord * wing.twist_at * along
            points.append(pivot + one.chord * local @ plane)
            tangents.append(np.stack([np.ones_like(slope), slope], axis=1) @ plane)
        return np.array(points), np.array(tangents)

    def control_of_strips(self) -> tuple[np.ndarray, np.ndarray]:
        """(n,) number of the control of each strip, -1 without, and 1 or -1 for its sense."""
        control, sense = np.full(len(self.middles), -1), np.ones(len(self.middles))
        for k, one in enumerate(self.wing.controls.values()):
            inside = (np.abs(self.middles) > one.start) & (np.abs(self.middles) < one.end)
            control[inside] = k
            sense[inside & (self.middles < 0.0) & one.opposite] = -1.0
        return control, sense

    def arrays(self) -> dict[str, np.ndarray]:
        """Arrays of the piece in the part's own axes; names as of `Lattice`."""
        rows, n = self.rows, len(self.middles)
        points, tangents = self.lines()
        share = ((self.middles - self.filaments[:-1]) / np.diff(self.filaments))[:, None, None]
        middle = (1.0 - share) * points[:-1] + share * points[1:]
        across = points[1:] - points[:-1]
        normals = _unit(np.cross((1.0 - share) * tangents[:-1] + share * tangents[1:], across))
        vortices, tail, controls, nose, hinge = slice(rows), rows, slice(rows + 1, 2 * rows + 1), -2, -1
        edge, chordline = _unit(across[:, nose]), _unit(middle[:, tail] - middle[:, nose])
        pull = (chordline * edge).sum(axis=1)[:, None] * edge - chordline
        front = self.front if self.wing.controls else None
        control, sense = self.control_of_strips()
        return {
            "filaments": points[:, : rows + 1],
            "edges": np.concatenate([points[:, nose, None], points[:, controls]], axis=1),
            "controls": middle[:, controls],
            "normals": normals[:, controls],
            "bound": middle[:, vortices],
            "bound_normals": normals[:, vortices],
            "leading": middle[:, nose],
            "leading_normals": normals[:, nose],
            "trailing": middle[:, tail],
            "suction": _unit(pull),
            "sweep": np.linalg.norm(pull, axis=1),
            "constants": np.array([section_constants(rows, one, front) for one in self.hinges(self.middles)]),
            "fraction": self.middles,
            "front": np.full(n, self.front),
            "control": control,
            "sense": sense,
            "hinge": middle[:, hinge],
            "hinge_axis": _unit(across[:, hinge]),
        }


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.linalg.norm(vectors, axis=-1, keepdims=True)


def _placed(wing: Wing, piece: dict, mirrored: bool) -> dict:
    """Arrays of a piece at the position and attitude of its part, or of its mirror image."""
    turn = attitude_matrix(wing.roll, wing.pitch, wing.yaw)
    out = dict(piece)
    for name in ("filaments", "edges", "controls", "bound", "leading", "trailing", "hinge"):
        out[name] = piece[name] @ turn.T + np.asarray(wing.position)
    for name in ("normals", "bound_normals", "leading_normals", "suction", "hinge_axis"):
        out[name] = piece[name] @ turn.T
    if mirrored:  # strips in the other order, so that bound vortices still point to starboard
        flip = np.array([1.0, -1.0, 1.0])
        for name, value in out.items():
            value = value[::-1]
            if value.ndim >= 2 and value.shape[-1] == 3:
                value = value * flip
            out[name] = value
        out["hinge_axis"], out["fraction"] = -out["hinge_axis"], -out["fraction"]
    return out


def _joined_surfaces(made: list[dict]) -> np.ndarray:
    """(n_surfaces,) number of the group of each surface: those whose trailing edges meet are one."""
    tails = np.concatenate([one["filaments"][:, -1] for one in made])
    owner = np.concatenate([one["filament_surface"] for one in made])
    lengths = np.concatenate([np.linalg.norm(one["filaments"][:, -1] - one["filaments"][:, 0], axis=1) for one in made])
    pairs = cKDTree(tails).query_pairs(JOINED * float(lengths.max()), output_type="ndarray")
    a, b = owner[pairs[:, 0]], owner[pairs[:, 1]]
    graph = coo_matrix((np.ones(len(a)), (a, b)), shape=(len(made), len(made)))
    return connected_components(graph, directed=False)[1].astype(np.int64)


def build_lattice(aircraft: Aircraft, options: LatticeOptions | None = None) -> Lattice:
    """Lattice on the mean camber surfaces of an aircraft.

    Parameters
    ----------
    aircraft : Aircraft
        The aircraft.
    options : LatticeOptions, optional
        How fine.

    Raises
    ------
    InputError
        No part could carry lift, or one that was named is none.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0), airfoil="NACA 0012")
    >>> print(build_lattice(zy.Aircraft(name="plank", parts={"wing": wing})))
    576 panels in 48 strips of wing
    """
    options = options or LatticeOptions()
    parts = lifting_parts(aircraft, options.parts, options.bodies)
    spans = {name: float(span_lengths(wing.sections)[-1]) for name, wing in parts.items()}
    main = aircraft.main_wing
    largest = spans[main] if main in spans else max(spans.values())
    made: list[dict[str, np.ndarray]] = []
    names: list[str] = []
    controls: list[str] = []
    deflections: list[float] = []
    n_filaments = 0
    for number_of_part, (name, wing) in enumerate(parts.items()):
        strips = max(LEAST_STRIPS, round(options.strips * (spans[name] / largest) ** 0.5))
        for side, both in _pieces(wing):
            piece = _Layout.of(wing, strips, options.rows, side, both).arrays()
            for mirrored in (False, True)[: 1 + wing.mirrored]:
                one = _placed(wing, piece, mirrored)
                n = len(one["fraction"])
                one["left"] = n_filaments + np.arange(n)
                one["right"] = one["left"] + 1
                one["part"] = np.full(n, number_of_part)
                one["surface"] = np.full(n, len(made))
                one["filament_surface"] = np.full(n + 1, len(made))
                one["control"] = np.where(one["control"] >= 0, one["control"] + len(controls), -1)
                n_filaments += n + 1
                made.append(one)
        names.append(name)
        controls += [f"{name}.{control}" for control in wing.controls]
        deflections += [control.deflection for control in wing.controls.values()]
    arrays = {key: np.concatenate([one[key] for one in made]) for key in made[0]}
    group = _joined_surfaces(made)
    for name in ("surface", "filament_surface"):
        arrays[name] = group[arrays[name]]
    return Lattice(
        **arrays, parts=tuple(names), control_names=tuple(controls), deflections=np.array(deflections, dtype=float)
    )
