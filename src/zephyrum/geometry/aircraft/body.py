"""Bodies: rings along a length, from fuselages and floats to spheres and boxes; and ducts, open or faired.

Half width, half height, centre line and the form of the ring follow monotone curves through the rings (Fritsch and
Carlson 1980, SIAM J. Numer. Anal. 17:238); a round nose or tail is a quarter of an ellipse, so that ellipsoids and
capsules are exact. Verified by tests/test_bodies.py.
"""

import functools
import itertools
from typing import Annotated, Literal

import numpy as np
from pydantic import Field
from scipy.interpolate import PchipInterpolator

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.loft import lofted, positions, sagitta_spacing
from zephyrum.geometry.aircraft.part import Length, Metres, Part, Section, part
from zephyrum.geometry.aircraft.wing_surface import normalized_section
from zephyrum.geometry.surface.triangulation import Surface

_DENSE = 721


@part
class Ring:
    """A cross-section of a body.

    Attributes
    ----------
    x : float
        [m]
    width, height : float
        [m]; 0 closes the body there. The height is the width without it.
    y, z : float
        Centre [m].
    form : Literal[ellipse, rectangle, free]
        "ellipse", "rectangle" or "free".
    radius : float
        Of the corners of a rectangle [m].
    outline : tuple[tuple[float, float], ...]
        Points (n, 2) in y, z of a free form, counter-clockwise seen from behind, scaled to width and height.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Ring(x=1.0, width=0.6, height=0.8).tall
    0.8
    """

    x: Metres
    width: Annotated[Metres, Field(ge=0.0)]
    height: Annotated[Metres, Field(ge=0.0)] | None = None
    y: Metres = 0.0
    z: Metres = 0.0
    form: Literal["ellipse", "rectangle", "free"] = "ellipse"
    radius: Annotated[Metres, Field(ge=0.0)] = 0.0
    outline: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        if (self.width == 0.0) != (self.tall == 0.0):
            raise InputError(
                f"ring at x = {self.x:g} m is a line ({self.width:g} x {self.tall:g} m); give both sizes, or 0 for "
                f"both."
            )
        if (self.form == "free") != bool(self.outline):
            raise InputError(f"ring at x = {self.x:g} m: form 'free' and outline go together; give both or neither.")
        if self.form == "free" and (len(self.outline) < 3 or _turning(np.array(self.outline)) <= 0.0):
            raise InputError(
                f"ring at x = {self.x:g} m: outline must be three points or more, counter-clockwise seen from behind."
            )
        if self.form == "rectangle" and self.radius > 0.5 * min(self.width, self.tall) + 1e-12:
            raise InputError(
                f"ring at x = {self.x:g} m: radius = {self.radius:g} m does not fit {self.width:g} x {self.tall:g} m."
            )
        if self.form != "rectangle" and self.radius:
            raise InputError(f"ring at x = {self.x:g} m: radius belongs to form 'rectangle'; leave it out.")

    @property
    def tall(self) -> float:
        """Height [m]: the width unless given.

        Examples
        --------
        >>> Ring(x=1.0, width=0.5).tall
        0.5
        """
        return self.width if self.height is None else self.height

    def unit(self, angle: np.ndarray) -> np.ndarray:
        """Form of the ring within [-1, 1] x [-1, 1].

        Parameters
        ----------
        angle : (n,) array
            Polar-like angle from starboard over the top [rad].

        Returns
        -------
        (n, 2) array
            y and z [-].

        Examples
        --------
        >>> Ring(x=0.0, width=1.0).unit(np.array([0.0])).round(6).tolist()
        [[1.0, 0.0]]
        """
        c, s = np.cos(angle), np.sin(angle)
        if self.form == "ellipse" or self.width == 0.0:
            return np.stack([c, s], axis=1)
        if self.form == "free":
            points = np.array(self.outline)
            low, high = points.min(axis=0), points.max(axis=0)
            points = (points - 0.5 * (low + high)) / (0.5 * (high - low))
            return _ray(points, c, s)
        # straight sides and quarter ellipses, met by the ray at that angle
        a, b = 1.0 - 2.0 * self.radius / self.width, 1.0 - 2.0 * self.radius / self.tall
        quarter = np.linspace(0.0, 0.5 * np.pi, 33)
        one = np.stack([a + (1.0 - a) * np.cos(quarter), b + (1.0 - b) * np.sin(quarter)], axis=1)
        top = np.concatenate([one, one[::-1] * [-1.0, 1.0]])
        return _ray(np.concatenate([top, top[::-1] * [1.0, -1.0]]), c, s)


def _turning(points: np.ndarray) -> float:
    y, z = points.T
    return 0.5 * float(np.sum(y * np.roll(z, -1) - np.roll(y, -1) * z))


def _ray(points: np.ndarray, c: np.ndarray, s: np.ndarray) -> np.ndarray:
    """Where marching directions from the centre at directions (c, s) meet the closed polygon through `points`, which
    they see whole.
    """
    angle = np.unwrap(np.arctan2(points[:, 1], points[:, 0]))
    if (np.diff(angle) < -1e-9).any():
        raise InputError("a free outline must be seen whole from its middle; move points that fold back.")
    close = np.concatenate([points, points[:1]])
    (ax, ay), (bx, by) = close[:-1].T, np.diff(close, axis=0).T
    x, y = np.asarray(c, dtype=float)[:, None], np.asarray(s, dtype=float)[:, None]
    with np.errstate(divide="ignore", invalid="ignore"):  # a + f b on the ray: cross((x, y), a + f b) = 0
        f = -(x * ay - y * ax) / (x * by - y * bx)
    met = (f >= -1e-12) & (f <= 1.0 + 1e-12)  # within the side
    f = np.where(met, f, 0.0)
    reach = np.where(met, x * (ax + f * bx) + y * (ay + f * by), 0.0).max(axis=1)
    return reach[:, None] * np.hstack([x, y])


@part
class Body(Part):
    """A closed body through rings in order of x.

    Attributes
    ----------
    rings : tuple[Ring, ...]
        Cross-sections.
    nose, tail : Literal[round, pointed]
        How it ends where the first or last ring has no size: "round" (a quarter ellipse) or "pointed"; a ring with a
        size there makes a flat face.
    straight : bool
        Straight lines between rings in place of smooth ones.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.Body.ellipsoid(1.0, 1.0).surface()
    >>> print(ball.watertight)
    True
    """

    kind: Literal["body"] = "body"
    rings: tuple[Ring, ...]
    nose: Literal["round", "pointed"] = "round"
    tail: Literal["round", "pointed"] = "pointed"
    straight: bool = False

    def __post_init__(self) -> None:
        if len(self.rings) < 2:
            raise InputError("a body needs at least two rings.")
        x = np.array([one.x for one in self.rings])
        if (np.diff(x) <= 0.0).any():
            k = int(np.argmax(np.diff(x) <= 0.0))
            raise InputError(
                f"rings.{k + 1}.x = {x[k + 1]:g} m does not lie behind the ring before it at {x[k]:g} m; order rings "
                f"from nose to tail."
            )
        inner = [k for k, one in enumerate(self.rings[1:-1], 1) if one.width == 0.0]
        if inner:
            raise InputError(f"rings.{inner[0]}.width = 0: only the first and the last ring may close the body.")
        if len(self.rings) == 2 and all(one.width == 0.0 for one in self.rings):
            raise InputError("both rings of the body have no size; give one between them.")

    @classmethod
    def ellipsoid(cls, length: float, width: float, height: float | None = None) -> "Body":
        """An ellipsoid with its nose at the origin.

        Parameters
        ----------
        length : float
            [m]
        width : float
            [m]
        height : float, optional
            [m]; the width without it.

        Examples
        --------
        >>> Body.ellipsoid(2.0, 1.0).length
        2.0
        """
        rings = (Ring(x=0.0, width=0.0), Ring(x=0.5 * length, width=width, height=height), Ring(x=length, width=0.0))
        return cls(rings=rings, nose="round", tail="round")

    @classmethod
    def capsule(cls, length: float, diameter: float) -> "Body":
        """A cylinder with hemispheres as ends.

        Parameters
        ----------
        length : float
            Over all [m].
        diameter : float
            [m]

        Examples
        --------
        >>> Body.capsule(3.0, 1.0).length
        3.0
        """
        r = 0.5 * diameter
        midpoint = (Ring(x=r, width=diameter), Ring(x=length - r, width=diameter))
        return cls(rings=(Ring(x=0.0, width=0.0), *midpoint, Ring(x=length, width=0.0)), nose="round", tail="round")

    @classmethod
    def box(cls, length: float, width: float, height: float) -> "Body":
        """A box with its front face at x = 0, centred on the x axis.

        Parameters
        ----------
        length : float
            Along x [m].
        width : float
            Along y [m].
        height : float
            Along z [m].

        Examples
        --------
        >>> round(Body.box(2.0, 1.0, 0.5).surface().volume, 6)
        1.0
        """
        return cls(rings=tuple(Ring(x=x, width=width, height=height, form="rectangle") for x in (0.0, length)))

    @property
    def length(self) -> float:
        """From first to last ring [m].

        Examples
        --------
        >>> Body.capsule(3.0, 1.0).length
        3.0
        """
        return self.rings[-1].x - self.rings[0].x

    @functools.cached_property
    def _laws(self):
        """Interpolants over x of width, height, y, z and of the unit forms' blend."""
        x = np.array([one.x for one in self.rings])
        values = np.array([[one.width, one.tall, one.y, one.z] for one in self.rings]) * [0.5, 0.5, 1.0, 1.0]
        round_ends = [self.nose == "round" and not values[0, 0], self.tail == "round" and not values[-1, 0]]
        inner = slice(1 if round_ends[0] else 0, len(x) - 1 if round_ends[1] else len(x))
        size = None if len(x[inner]) < 2 else _through(x[inner], values[inner, :2], self.straight)
        midpoint = _through(x, values[:, 2:], self.straight)
        return x, values, round_ends, size, midpoint

    def sizes(self, x: np.ndarray) -> np.ndarray:
        """Half width, half height, and y and z of the centre line.

        Parameters
        ----------
        x : (n,) array
            [m]

        Returns
        -------
        (n, 4) array
            [m]

        Examples
        --------
        >>> Body.ellipsoid(2.0, 1.0).sizes(np.array([1.0])).round(6).tolist()
        [[0.5, 0.5, 0.0, 0.0]]
        """
        at, values, ends, size, midpoint = self._laws
        x = np.atleast_1d(np.asarray(x, dtype=float))
        inner = np.clip(x, at[1] if ends[0] else at[0], at[-2] if ends[1] else at[-1])
        out = np.concatenate(
            [np.tile(values[1, :2], (len(x), 1)) if size is None else size(inner), midpoint(x)], axis=1
        )
        for end, near, far, sign in ((ends[0], 1, 0, 1.0), (ends[1], -2, -1, -1.0)):
            here = (x < at[1]) if sign > 0 else (x > at[-2])
            if not end or not here.any():
                continue
            length = abs(at[near] - at[far])
            f = np.clip(sign * (x[here] - at[far]) / length, 0.0, 1.0)[:, None]
            slope = np.zeros(2) if size is None else sign * size(at[near], 1) * length
            slope = np.clip(slope, -values[near, :2], values[near, :2])  # keeps the end convex
            out[here, :2] = values[near, :2] * np.sqrt(f * (2.0 - f)) - slope * f * (1.0 - f)
        out[:, :2] = np.maximum(out[:, :2], 0.0)
        return out

    def form(self, x: np.ndarray, angle: np.ndarray) -> np.ndarray:
        """Unit rings in y and z.

        Parameters
        ----------
        x : (n,) array
            [m]
        angle : (m,) array
            Polar-like angle [rad].

        Returns
        -------
        (n, m, 2) array
            [-]

        Examples
        --------
        >>> Body.ellipsoid(2.0, 1.0).form(np.array([1.0]), np.array([0.0, np.pi / 2.0])).round(6) + 0.0
        array([[[1., 0.],
                [0., 1.]]])
        """
        rings = self.rings
        units = [one.unit(angle) for one in rings]
        if rings[0].width == 0.0:
            units[0] = units[1]
        if rings[-1].width == 0.0:
            units[-1] = units[-2]
        at = np.array([one.x for one in rings])
        return _through(at, np.array(units).reshape(len(at), -1), self.straight)(x).reshape(len(x), len(angle), 2)

    def surface(self, name: str = "body", tolerance: float = 5e-4, largest: float = 0.1) -> Surface:
        """Closed surface in the part's own axes.

        Parameters
        ----------
        name : str, optional
            Prefix of the labels.
        tolerance : float, optional
            Distance of the triangles from the body, in its largest width or height.
        largest : float, optional
            Longest edge along x in lengths, round it in diameters (twice that).

        Notes
        -----
        Labels: name/side, name/front and name/base (flat ends).

        Examples
        --------
        >>> Body.ellipsoid(2.0, 1.0).surface("ball").labels
        ('ball/side',)
        """
        if not 1e-6 <= tolerance <= 0.05:
            raise InputError(f"tolerance = {tolerance:g} is out of range; it must be at least 1e-6 and at most 0.05.")
        at = np.array([one.x for one in self.rings])
        biggest = max(max(one.width, one.tall) for one in self.rings)
        # towards a round end points crowd, as x = u^2 does
        u = np.linspace(0.0, 1.0, 161)
        pieces = []
        for k, (low, high) in enumerate(itertools.pairwise(at)):
            steep = (k == 0 and self._laws[2][0]), (k == len(at) - 2 and self._laws[2][1])
            fraction = (
                u
                if not any(steep)
                else (0.5 * (1 - np.cos(np.pi * u)) if all(steep) else (u**2 if steep[0] else 1.0 - (1.0 - u) ** 2))
            )
            pieces.append(low + (high - low) * fraction)
        dense = np.unique(np.concatenate(pieces))
        law = self.sizes(dense)
        h, s = np.full(len(dense), np.inf), np.zeros(len(dense))
        for direction in (law[:, 1] + law[:, 3], law[:, 1] - law[:, 3], law[:, 0] + law[:, 2], law[:, 0] - law[:, 2]):
            own, length = sagitta_spacing(
                np.stack([dense, direction], axis=1), tolerance * biggest, largest * self.length
            )
            h, s = np.minimum(h, own), np.maximum(s, length)
        x = positions(dense, h, s, fixed=at if self.straight or _forms(self.rings) else ())
        angle = self._angles(tolerance, largest)
        law = self.sizes(x)
        unit = self.form(x, angle)
        rings = np.empty((len(x), len(angle), 3))
        rings[:, :, 0] = x[:, None]
        rings[:, :, 1:] = law[:, None, 2:] + law[:, None, :2] * unit
        faces = np.full((len(x) - 1, len(angle)), f"{name}/side", dtype=object)
        caps = tuple(
            f"{name}/{label}" if one.width > 0.0 else None
            for one, label in ((self.rings[0], "front"), (self.rings[-1], "base"))
        )
        return lofted(rings, faces, name, caps, fan=True)  # type: ignore[arg-type]

    def _angles(self, tolerance: float, largest: float) -> np.ndarray:
        """(m,) angles round the ring, denser where any of the rings bends; corners and the plane of symmetry are
        met.
        """
        dense = np.linspace(0.0, 2.0 * np.pi, _DENSE)
        h, s = np.full(_DENSE, np.inf), np.zeros(_DENSE)
        corners = [0.5 * np.pi, np.pi, 1.5 * np.pi]
        for one in self.rings:
            if one.width == 0.0:
                continue
            biggest = max(one.width, one.tall)
            curve = 0.5 * one.unit(dense) * [one.width, one.tall] / biggest
            own, length = sagitta_spacing(curve, tolerance, 2.0 * largest)
            if one.form == "free" or (one.form == "rectangle" and one.radius == 0.0):  # corners are points, not bends
                outline = (
                    np.array(one.outline)
                    if one.form == "free"
                    else np.array([[1.0, 1.0], [-1.0, 1.0], [-1.0, -1.0], [1.0, -1.0]])
                )
                low, high = outline.min(axis=0), outline.max(axis=0)
                y, z = ((outline - 0.5 * (low + high)) / (high - low)).T
                if len(outline) < 40:
                    corners += (np.arctan2(z, y) % (2.0 * np.pi)).tolist()
                    own = np.full(_DENSE, 2.0 * largest)
            h, s = np.minimum(h, own), np.maximum(s, length)
        corners = np.sort(corners)
        corners = corners[np.r_[True, np.diff(corners) > 1e-9]]
        return positions(dense, h, s, fixed=corners)[:-1]


def _forms(rings) -> bool:
    """Whether rings differ in form, so that each has to be met."""
    return len({(one.form, one.radius, one.outline) for one in rings if one.width > 0.0}) > 1


def _through(x: np.ndarray, values: np.ndarray, straight: bool):
    """A curve through rows of values at x: monotone cubic, or straight lines; call it with x and the derivative."""
    if not straight and len(x) > 2:
        return PchipInterpolator(x, values, axis=0, extrapolate=True)
    slope = np.diff(values, axis=0) / np.diff(x)[:, None]

    def line(at, derivative: int = 0):
        k = np.clip(np.searchsorted(x, at, side="right") - 1, 0, len(x) - 2)
        if derivative:
            return slope[k]
        return values[k] + slope[k] * (np.asarray(at, dtype=float) - x[k])[..., None]

    return line


@part
class Duct(Part):
    """A ring wing: a nacelle, open from end to end, or faired with rounded closures.

    Attributes
    ----------
    length : float
        [m]
    inlet, exit : float
        Diameters of the chord line [m].
    airfoil : Airfoil or str
        Section, upper side outwards.
    faired : bool
        Whether the ends are closed.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Duct(length=1.0, inlet=0.6, exit=0.5, airfoil="NACA 0012").faired
    False
    """

    kind: Literal["duct"] = "duct"
    length: Length
    inlet: Length
    exit: Length
    airfoil: Section
    faired: bool = False

    def surface(self, name: str = "duct", tolerance: float = 5e-4, largest: float = 0.1) -> Surface:
        """Closed surface in the part's own axes.

        Parameters
        ----------
        name : str, optional
            Prefix of the labels.
        tolerance : float, optional
            Distance of the triangles from the duct, in chords of its section.
        largest : float, optional
            Longest edge in lengths and in turns of half a circle.

        Notes
        -----
        Labels: name/outer, /inner (open) and /tail.

        Examples
        --------
        >>> from zephyrum import Airfoil
        >>> duct = Duct(length=1.0, inlet=0.5, exit=0.4, airfoil=Airfoil.naca("0012"))
        >>> duct.surface(tolerance=0.005).watertight
        True
        """
        foil = normalized_section(self.airfoil, None)
        r0, r1 = 0.5 * self.inlet, 0.5 * self.exit
        t = np.r_[np.linspace(0.0, 1.0, 401) ** 2]
        sides = []
        for end in (0.0, foil.length):
            curve = foil.curve(foil.nose_parameter + (end - foil.nose_parameter) * t)
            h, s = sagitta_spacing(curve, tolerance, largest)
            sides.append(np.stack([np.interp(positions(t, h, s), t, curve[:, k]) for k in (0, 1)], axis=1))
        outer, inner = sides

        def placed(curve: np.ndarray) -> np.ndarray:
            x = curve[:, 0] * self.length
            return np.stack([x, r0 + (r1 - r0) * curve[:, 0] + curve[:, 1] * self.length], axis=1)

        outer, inner = placed(outer), placed(inner)
        if inner[:, 1].min() <= 0.0:
            raise InputError(
                f"the walls of the duct meet inside: {self.airfoil.name} is too thick for an inlet of {self.inlet:g} m."
            )
        biggest = outer[:, 1].max()
        n = int(np.ceil(np.pi / np.arccos(1.0 - tolerance) / 4.0)) * 4
        n = max(16, min(n, 400))
        angle = 2.0 * np.pi * np.arange(n) / n
        if self.faired:
            f = np.sin(np.linspace(0.0, 0.5 * np.pi, 13))
            nose = np.stack([-0.7 * r0 * np.sqrt(1.0 - f**2), outer[0, 1] * f], axis=1)
            tail = np.stack(
                [self.length + 1.2 * outer[-1, 1] * np.sqrt(1.0 - f[::-1] ** 2), outer[-1, 1] * f[::-1]], axis=1
            )
            line = np.concatenate([nose[:-1], outer, tail[1:]])
            names, closed = np.full(len(line) - 1, f"{name}/outer", dtype=object), False
        else:
            line = np.concatenate([outer[::-1], inner[1:]])
            names = np.full(len(line), f"{name}/outer", dtype=object)
            names[len(outer) - 1 :] = f"{name}/inner"
            names[-1], closed = f"{name}/tail", True
        if biggest <= 0.0:
            raise InputError("the duct has no size.")
        rings = np.stack(
            [np.repeat(line[:, :1], n, axis=1), line[:, 1:] * np.cos(angle), line[:, 1:] * np.sin(angle)], axis=-1
        )
        return lofted(rings, np.repeat(names[:, None], n, axis=1), name, closed=closed)
