"""Geometry of a study from [aircraft]: an aircraft file or a surface, and its volume mesh.

Verified by tests/test_space.py and tests/test_flight.py.
"""

import functools
from typing import TYPE_CHECKING, Any

from pydantic import Field

from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft, PropellerDisk, Surface, import_surface
from zephyrum.mesh import Mesh, mesh_aircraft, mesh_sector
from zephyrum.studies.common_tables import Finite, Strict
from zephyrum.studies.grid_convergence import coarsened
from zephyrum.studies.sources.base import Source

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer


COARSEST_Y_PLUS = 10.0  # of the first cell, above which a model that resolves the wall layer is refused


class ReferenceTable(Strict):
    """Typed reference quantities.

    Attributes
    ----------
    area : float
        [m^2]
    chord, span : float
        [m]
    point : tuple[float, float, float]
        Moment point [m].

    Examples
    --------
    >>> ReferenceTable(area=12.5, chord=1.3, span=10.0, point=(0.4, 0.0, 0.0)).area
    12.5
    """

    area: Finite
    chord: Finite
    span: Finite
    point: tuple[Finite, Finite, Finite]


class AircraftTable(Strict):
    """The table [aircraft] of a study file.

    Attributes
    ----------
    file : str
        Aircraft file or surface file.
    set : dict[str, float | str]
        Numbers at dotted paths that are changed.
    unit : str, optional
        Unit of a surface file.
    nose, up : str
        Axes of a surface file.
    reference : ReferenceTable, optional
        Typed reference quantities.

    Examples
    --------
    >>> AircraftTable(file="skerry.toml").nose
    '-x'
    """

    file: str
    set: dict[str, Finite | str] = Field(default_factory=dict)
    unit: str | None = None
    nose: str = "-x"
    up: str = "+z"
    reference: ReferenceTable | None = None


class AircraftMesh(Strict):
    """Options of `mesh_aircraft` in a study file.

    Attributes
    ----------
    resolution : str or float
        "coarse", "medium", "fine" or a factor.
    cells : int, optional
        About how many cells, in place of a resolution.
    half : bool, optional
        Whether half a model is meshed.
    y_plus : float, optional
        Height of the wall cell in wall units.
    farfield : float
        Distance of the outer boundary [spans].
    ground : float, optional
        z of a level ground [m].
    wake : float
        Length of the finer cells behind [spans].
    sectors : int, optional
        One of so many equal sectors about the x axis is computed, with alpha 0 only; see `mesh_sector`.

    Examples
    --------
    >>> AircraftMesh(resolution="coarse").farfield
    10.0
    """

    resolution: str | Finite = "medium"
    cells: int | None = None
    half: bool | None = None
    y_plus: Finite | None = None
    farfield: Finite = 10.0
    ground: Finite | None = None
    wake: Finite = 0.0
    sectors: int | None = Field(None, ge=2, le=360)


class AircraftSource(Source):
    """An aircraft, or a surface from outside, and its mesh."""

    kind = "aircraft"
    MeshSpec = AircraftMesh
    residual_drop = 4.0  # in space four decades converge the coefficients to four digits
    processes = 1  # with all threads, since large meshes fill the memory

    @property
    def title(self) -> str:
        return self.shape.name

    @functools.cached_property
    def shape(self) -> Aircraft | Surface:
        """The aircraft, or the repaired surface."""
        own = self.spec.aircraft
        path = self.spec.base / own.file
        if not path.is_file():
            raise InputError(f"aircraft.file = {own.file!r} does not exist beside the study; check the name.")
        if path.suffix == ".toml":
            craft = Aircraft.read(path)
            return craft.changed(own.set) if own.set else craft
        if own.set:
            raise InputError("aircraft.set changes numbers of an aircraft file (.toml); a surface has none.")
        return import_surface(path, own.unit, own.nose, own.up).surface

    @functools.cached_property
    def reference(self) -> Reference:
        """Typed here, or that of the aircraft file."""
        typed = self.spec.aircraft.reference
        if typed is not None:
            return Reference(typed.area, typed.chord, typed.span, typed.point)
        if isinstance(self.shape, Surface):
            raise InputError(
                "a surface has no wing to measure a reference on; add aircraft.reference = { area, chord, span, point "
                "}."
            )
        return self.shape.reference_quantities()[0]

    @property
    def chord(self) -> float:
        return self.reference.chord

    @property
    def propellers(self) -> dict[str, PropellerDisk]:
        own = self.shape.propellers if isinstance(self.shape, Aircraft) else {}
        return {name: disk for name, disk in own.items() if not disk.idle}

    @property
    def grounded(self) -> bool:
        return self.spec.mesh.ground is not None

    @property
    def winged(self) -> bool:
        return not isinstance(self.shape, Aircraft) or self.shape.measured_reference is not None

    def check(self) -> None:
        mesh, model = self.spec.mesh, self.spec.field_model
        if mesh.sectors is not None and (mesh.half or mesh.ground is not None or any(self.spec.alphas())):
            raise InputError(
                f"mesh.sectors = {mesh.sectors}: one of several equal sectors has alpha 0 only, no half model and no "
                f"ground; leave these out, or sectors."
            )
        if mesh.y_plus is not None and mesh.y_plus > COARSEST_Y_PLUS and model in ("sa", "sst"):
            raise InputError(
                f"mesh.y_plus = {mesh.y_plus:g}: model {model!r} resolves the wall layer and needs y+ of about 1, at "
                f"most {COARSEST_Y_PLUS:g}; set mesh.y_plus = 1."
            )
        self.options()

    def changed(self, number: str, value: float) -> "AircraftSource":
        if not isinstance(self.shape, Aircraft):
            raise InputError(f"{number!r}: a surface has no numbers to change; give an aircraft file (.toml).")
        table = self.spec.aircraft.model_copy(update={"set": self.spec.aircraft.set | {number: value}})
        changed = AircraftSource(self.spec.model_copy(update={"aircraft": table}))
        _ = changed.shape
        return changed

    def options(self, attitude: float = 0.0) -> dict[str, Any]:
        """Arguments of `mesh_aircraft`.

        Parameters
        ----------
        attitude : float, optional
            Attitude of the body [deg].
        """
        spec = self.spec
        options = spec.mesh.model_dump(exclude={"sectors"}) | {"reference": self.reference}
        if spec.mesh.sectors is not None:
            options["half"] = False
        viscous = spec.field_model != "euler"
        if viscous and spec.mesh.y_plus is None:
            options["y_plus"] = 1.0
        if not viscous and spec.mesh.y_plus is not None:
            raise InputError('mesh.y_plus has no meaning with solver.model = "euler"; leave it out.')
        if viscous:
            options["reynolds"] = max(spec.freestream(mach, 0.0, self.chord).reynolds for mach in spec.machs())
        if spec.mesh.wake > 0.0 and not self.grounded:
            options["alpha"] = (min(spec.alphas()), max(spec.alphas()))
        if self.grounded:
            options["attitude"] = attitude
        if separate := [name for name in sorted(spec.powered) if "/" in name]:
            options["separate"] = separate
        return options

    def made_from(self, attitude: float) -> dict:
        options = self.options(attitude)
        sectors = {} if self.spec.mesh.sectors is None else {"sectors": self.spec.mesh.sectors}
        return {"aircraft": self.spec.aircraft.model_dump(), "files": self.file_hashes(), "options": options} | sectors

    def mesh(self, attitude: float, observer: "Observer | None") -> Mesh:
        return self._sector(mesh_aircraft(self.shape, on_plan=observer.planned, **self.options(attitude)))

    def level(self, finest: Mesh, level: int, attitude: float) -> Mesh:
        return self._sector(mesh_aircraft(self.shape, **self.options(attitude) | coarsened(finest, level)))

    def _sector(self, mesh: Mesh) -> Mesh:
        """The mesh, or one of the sectors that are asked for."""
        count = self.spec.mesh.sectors
        return mesh if count is None else mesh_sector(mesh, count)

    def made_level(self, level: int) -> bool:
        return level > 0

    def files(self) -> list[str]:
        return [self.spec.aircraft.file]
