"""Geometry of a study from [section]: an airfoil, and its structured mesh.

Verified by tests/test_files.py and tests/test_studies.py.
"""

import functools
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from zephyrum._core.units import quantity
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry import Airfoil
from zephyrum.mesh import Layers, Mesh, mesh_airfoil, wall_layers
from zephyrum.studies.common_tables import Finite, Quantity, Strict
from zephyrum.studies.grid_convergence import mesh_levels
from zephyrum.studies.sources.base import Source

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer


QUICK_CELLS = 60_000


class ClassShape(Strict):
    """Class-shape coefficients.

    Attributes
    ----------
    upper, lower : list[float]
        Coefficients of either side.
    gap : float
        Height of the tail [chords].

    Examples
    --------
    >>> ClassShape(upper=[0.17, 0.15], lower=[-0.17, -0.15]).gap
    0.0
    """

    upper: list[Finite]
    lower: list[Finite]
    gap: Finite = 0.0


class Flap(Strict):
    """A plain flap.

    Attributes
    ----------
    hinge : float
        [chords]
    angle : float
        [deg], tail down positive.

    Examples
    --------
    >>> Flap(hinge=0.75, angle=10.0).angle
    10.0
    """

    hinge: Finite
    angle: Finite


class SectionTable(Strict):
    """The table [section] of a study file.

    Attributes
    ----------
    naca : str, optional
        Digits.
    file : str, optional
        Coordinate file.
    class_shape : ClassShape, optional
        Class-shape coefficients.
    tail : Literal[closed, blunt]
        "closed" or "blunt".
    chord : float or str
        [m]
    flap : Flap, optional
        Plain flap.

    Examples
    --------
    >>> SectionTable(naca="2412").chord
    '1 m'
    """

    naca: str | None = None
    file: str | None = None
    class_shape: ClassShape | None = None
    tail: Literal["closed", "blunt"] = "closed"
    chord: Quantity = "1 m"
    flap: Flap | None = None


class SectionMesh(Strict):
    """Options of `mesh_airfoil` in a study file, and the y+ from which first_height follows in viscous flow.

    Attributes
    ----------
    topology : Literal[C, O], optional
        "C" or "O".
    around : int
        Cells on the surface.
    outward : int, optional
        Cells from wall to farfield.
    farfield : float
        [chords]
    first_height : float, optional
        [chords]
    growth : float, optional
        Ratio of successive layers.
    wake : int, optional
        Cells along the wake.
    y_plus : float, optional
        Height of the wall cell in wall units.

    Examples
    --------
    >>> SectionMesh(around=96).farfield
    100.0
    """

    topology: Literal["C", "O"] | None = None
    around: int = 128
    outward: int | None = None
    farfield: Finite = 100.0
    first_height: Finite | None = None
    growth: Finite | None = None
    wake: int | None = None
    y_plus: Finite | None = None


class SectionSource(Source):
    """A section and its mesh."""

    kind = "section"
    MeshSpec = SectionMesh
    residual_drop = 8.0
    processes = 2

    @property
    def title(self) -> str:
        return self.shape.name

    @functools.cached_property
    def shape(self) -> Airfoil:
        """The section in its true size [m]."""
        s = self.spec.section
        directions = [name for name in ("naca", "file", "class_shape") if getattr(s, name) is not None]
        if len(directions) != 1:
            raise InputError(
                f"section names {' and '.join(directions) or 'nothing'}; give exactly one of naca, file, class_shape."
            )
        if s.naca is not None:
            foil = Airfoil.naca(s.naca, s.tail)
        elif s.file is not None:
            foil = Airfoil.read(self.spec.base / s.file)
        else:
            foil = Airfoil.from_class_shape(
                s.class_shape.upper, s.class_shape.lower, s.class_shape.gap, name=self.spec.title
            )
        if s.flap is not None:
            foil = foil.with_flap(s.flap.hinge, s.flap.angle)
        return foil.scaled(self.chord / foil.chord)

    @property
    def reference(self) -> Reference:
        x, z = self.shape.nose
        return Reference.of_section(self.chord, (float(x), 0.0, float(z)))

    @property
    def chord(self) -> float:
        chord = quantity("section.chord", self.spec.section.chord, "m")
        if not 0.0 < chord < 1000.0:
            raise InputError(
                f"section.chord = {self.spec.section.chord!r} is not the chord of an aircraft; give for example '1.6 "
                f"m'."
            )
        return chord

    def check(self) -> None:
        self.layers()
        _ = self.shape

    def check_levels(self, levels: int) -> None:
        mesh, options = self.spec.mesh, self.options()
        fine = 2 ** (levels - 1)
        outward = options["outward"]
        if mesh.around * (outward or 64) <= QUICK_CELLS:  # made in no time: asked itself
            mesh_levels(self.mesh(0.0, None), levels)
        elif mesh.around % (2 * fine) or (outward or fine) % fine:
            raise InputError(
                f"refine.levels = {levels}: mesh.around = {mesh.around} and mesh.outward = {outward} must be divisible "
                f"by {2 * fine} and {fine} to have so many nested levels."
            )

    def changed(self, number: str, value: float) -> "SectionSource":
        data = self.spec.section.model_dump()
        table, *inner = number.removeprefix("section.").split(".")
        if (
            inner
            and isinstance(data.get(table), dict)
            and inner[0] in data[table]
            and isinstance(data[table][inner[0]], int | float)
        ):
            data[table] = data[table] | {inner[0]: value}
        elif not inner and isinstance(data.get(table), int | float | str) and table == "chord":
            data[table] = value
        else:
            numbers = [
                "chord",
                *(
                    f"{name}.{key}"
                    for name in ("flap", "class_shape")
                    if data[name]
                    for key, entry in data[name].items()
                    if isinstance(entry, int | float)
                ),
            ]
            raise InputError(f"{number!r} is not a number of this section; choose one of: {', '.join(numbers)}.")
        changed = SectionSource(self.spec.model_copy(update={"section": SectionTable.model_validate(data)}))
        changed.check()
        return changed

    def layers(self) -> Layers | None:
        """Wall layers for the highest Reynolds number of the study; None in inviscid flow."""
        mesh, model = self.spec.mesh, self.spec.field_model
        if model == "euler":
            if mesh.y_plus is not None:
                raise InputError('mesh.y_plus has no meaning with solver.model = "euler"; leave it out.')
            return None
        if mesh.y_plus is not None and mesh.first_height is not None:
            raise InputError("mesh.y_plus and mesh.first_height are both given; drop one.")
        reynolds = max(self.spec.freestream(mach, 0.0, self.chord).reynolds for mach in self.spec.machs())
        aim = 1.0 if mesh.y_plus is None else mesh.y_plus
        layers = wall_layers(reynolds, aim, mesh.growth or 1.2, mesh.farfield)
        if mesh.first_height is not None:
            aim *= mesh.first_height / layers.first_height
            layers = wall_layers(reynolds, aim, mesh.growth or 1.2, mesh.farfield)
        return layers

    def options(self) -> dict[str, Any]:
        """Arguments of mesh_airfoil: what the file leaves open follows from the model."""
        options = self.spec.mesh.model_dump(exclude={"y_plus"})
        layers = self.layers()
        if layers is None:
            options["topology"] = options["topology"] or "O"
            if options["outward"] is None and options["growth"] is None:
                options["outward"] = 32
            return options
        options["topology"] = options["topology"] or "C"
        options["first_height"] = layers.first_height
        if options["outward"] is None:
            options |= {"outward": layers.count, "growth": None}
        return options

    def made_from(self, attitude: float) -> dict:
        return {"section": self.spec.section.model_dump(), "files": self.file_hashes(), "options": self.options()}

    def mesh(self, attitude: float, observer: "Observer | None") -> Mesh:
        return mesh_airfoil(self.shape, **self.options())

    def level(self, finest: Mesh, level: int, attitude: float) -> Mesh:
        return mesh_levels(finest, level + 1)[level]

    def files(self) -> list[str]:
        return [] if self.spec.section.file is None else [self.spec.section.file]

    def write_shape(self, folder: Path) -> None:
        self.shape.write(folder / "section.dat")
