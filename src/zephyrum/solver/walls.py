"""What the walls and the ground do: move, keep a temperature, be rough, be laminar up to a chord fraction.

Verified by tests/test_walls.py.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import number, taken
from zephyrum.conditions.axes import turned_body
from zephyrum.errors import InputError
from zephyrum.flow import WallData
from zephyrum.mesh import Mesh
from zephyrum.mesh.section_walls import chord_fractions, section_order

if TYPE_CHECKING:
    from zephyrum.solver.case import Case


GROUNDS = ("belt", "still", "slip")  # moves with the wind; at rest, with friction; without friction
WallRows = Callable[[Mesh], WallData]
SLIDES = 1e-3  # fraction of a wall's speed that may point through it


@dataclass(frozen=True)
class Wall:
    """Conditions of a wall; by default at rest, adiabatic, smooth and, with a turbulence model, fully turbulent.

    Attributes
    ----------
    velocity : tuple[float, float, float]
        In body axes, along the wall [m/s].
    spin : float
        About the y axis through `about`, nose-up positive [rad/s].
    about : tuple[float, float, float]
        [m]
    temperature : float, optional
        Of an isothermal wall [K]; adiabatic without it.
    roughness : float
        Sand-grain height [m], model "sa" only.
    laminar : float or tuple[float, float]
        Chord fractions up to which the upper and the lower side are held laminar: one number for both, or a pair.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Wall(temperature=350.0).temperature
    350.0
    """

    velocity: tuple[float, float, float] = (0.0, 0.0, 0.0)
    spin: float = 0.0
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)
    temperature: float | None = None
    roughness: float = 0.0
    laminar: float | tuple[float, float] = 0.0

    def __post_init__(self) -> None:
        for name in ("velocity", "about"):
            value = getattr(self, name)
            if np.shape(value) != (3,) or not np.isfinite(np.asarray(value, dtype=float)).all():
                raise InputError(f"{name} = {value!r} of a wall must be three numbers.")
        number("spin", self.spin, -1e6, 1e6)
        if self.temperature is not None:
            number("temperature", self.temperature, 0.0, 5000.0, open_low=True)
        number("roughness", self.roughness, 0.0, 1.0)
        for fraction in self.sides:
            number("laminar", fraction, 0.0, 1.0)

    @property
    def sides(self) -> tuple[float, float]:
        """Chord fractions of laminar flow on the upper and the lower side.

        Examples
        --------
        >>> Wall(laminar=(0.3, 0.1)).sides
        (0.3, 0.1)
        """
        pair = self.laminar if isinstance(self.laminar, tuple | list) else (self.laminar, self.laminar)
        if len(pair) != 2:
            raise InputError(f"laminar = {self.laminar!r} must be one chord fraction or a pair (upper, lower).")
        return tuple(pair)  # type: ignore[return-value]


def named_walls(walls: "Wall | Mapping[str, Wall] | None", mesh: Mesh, model: str) -> dict[str, Wall]:
    """Conditions of the walls that are not plain ones, by name in sorted order.

    Parameters
    ----------
    walls : Wall or Mapping[str, Wall] or None
        For all walls, or by name.
    mesh : Mesh
        Mesh.
    model : str
        Flow model.

    Raises
    ------
    InputError
        A model or a mesh cannot do what a wall asks for.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8, first_height=1e-3)
    >>> sorted(named_walls(Wall(roughness=1e-4), mesh, "sa"))
    ['airfoil']
    """
    if walls is None:
        return {}
    names = [group.name for group in mesh.groups if group.role == "wall"]
    taken("walls", walls, (Wall, Mapping))
    chosen = dict.fromkeys(names, walls) if isinstance(walls, Wall) else dict(walls)
    for name, wall in chosen.items():
        taken(f"walls[{name!r}]", wall, Wall)
        if name not in names:
            raise InputError(f"walls: the mesh has no wall named {name!r}; it has: {', '.join(names)}.")
    chosen = {name: chosen[name] for name in sorted(chosen) if chosen[name] != Wall()}
    for wall in chosen.values():
        if model == "euler":
            raise InputError(
                "walls: model 'euler' has no friction, so its walls can't move, heat, be rough or laminar."
            )
        if wall.roughness > 0.0 and model != "sa":
            raise InputError(f"walls: roughness is modelled by 'sa' only, not by {model!r}; leave it out.")
        if max(wall.sides) > 0.0 and model == "laminar":
            raise InputError("walls: with model 'laminar' every wall is laminar; leave 'laminar' out.")
        if max(wall.sides) > 0.0 and not mesh.planar:
            raise InputError("walls: laminar chord fractions are for sections (two-dimensional meshes).")
    return chosen


def wall_rows(case: "Case") -> WallRows:
    """Function from a mesh of the family of a case to its `WallData`.

    Parameters
    ----------
    case : Case
        The case.

    Raises
    ------
    InputError
        A wall moves through itself.
    """
    faster = case.computed.speed / case.air.speed

    def rows(level: Mesh) -> WallData:
        out = WallData.plain(level)
        for name, wall in case.walls.items():  # type: ignore[union-attr]
            group = level.group(name)
            own = slice(group.start - level.n_interior, group.stop - level.n_interior)
            faces = np.arange(group.start, group.stop)
            arm = level.face_centroid[faces] - np.asarray(wall.about)
            speed = turned_body(wall.velocity, level.attitude) + np.cross([0.0, wall.spin, 0.0], arm)
            _refuse_through(level, faces, speed, name)
            out.velocity[own] = faster * speed
            out.temperature[own] = wall.temperature or 0.0
            out.roughness[own] = wall.roughness
            if max(wall.sides) > 0.0:
                ordered, side = section_order(level, name)
                position = chord_fractions(level, case.reference, level.face_centroid[ordered])
                limit = np.where(np.array(side) == "upper", wall.sides[0], wall.sides[1])
                out.laminar[ordered - level.n_interior] = position < limit
        if case.ground == "belt":  # along the wind, which blows along the ground
            along = np.asarray(case.computed.wind) * [1.0, 1.0, 0.0]
            out.velocity[level.faces_of("ground") - level.n_interior] = case.computed.speed * along
        return out

    return rows


def _refuse_through(mesh: Mesh, faces: np.ndarray, speed: np.ndarray, name: str) -> None:
    """InputError if a wall would move through itself."""
    normal = mesh.face_area[faces] / np.linalg.norm(mesh.face_area[faces], axis=1)[:, None]
    through = np.abs(np.einsum("ij,ij->i", speed, normal))
    largest = float(np.linalg.norm(speed, axis=1).max())
    if largest > 0.0 and through.max() > max(SLIDES, 2.0 / len(faces)) * largest:
        raise InputError(
            f"walls: {name!r} would move through itself at {through.max():.3g} m/s; a wall can only slide along its "
            f"surface."
        )
