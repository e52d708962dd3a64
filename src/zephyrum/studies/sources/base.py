"""What a geometry source gives to a study: a name, a reference length, meshes, and variants."""

import hashlib
from abc import ABC, abstractmethod
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from pydantic import BaseModel

from zephyrum.conditions import Reference
from zephyrum.geometry import PropellerDisk
from zephyrum.mesh import Mesh

if TYPE_CHECKING:
    from zephyrum.studies.observer import Observer
    from zephyrum.studies.spec import AircraftStudy, SectionStudy  # type: ignore[attr-defined]


class Source(ABC):
    """Geometry and mesh options of a study file."""

    kind: ClassVar[str]  # name of its table
    MeshSpec: ClassVar[type[BaseModel]]
    residual_drop: ClassVar[float]  # decades of residual drop unless asked otherwise
    processes: ClassVar[int]  # unless asked otherwise
    shape: Any

    def __init__(self, spec: "AircraftStudy | SectionStudy"):
        self.spec = spec

    @property
    @abstractmethod
    def title(self) -> str:
        """Name of the body."""

    @property
    @abstractmethod
    def chord(self) -> float:
        """Length [m] that Reynolds numbers refer to."""

    @property
    @abstractmethod
    def reference(self) -> Reference:
        """What coefficients refer to."""

    @property
    def propellers(self) -> dict[str, PropellerDisk]:
        """Propeller disks by name."""
        return {}

    @property
    def grounded(self) -> bool:
        """Whether there is a ground, so that every alpha has a mesh of its own."""
        return False

    @property
    def winged(self) -> bool:
        """Whether there is a wing, whose span loading means something."""
        return True

    @abstractmethod
    def check(self) -> None:
        """Raise InputError for what cannot be meshed, before anything is."""

    def check_levels(self, levels: int) -> None:  # noqa: B027, not all have a limit
        """Check the number of levels of a mesh study.

        Parameters
        ----------
        levels : int
            How many.

        Raises
        ------
        InputError
            A mesh study cannot have so many levels.
        """

    @abstractmethod
    def changed(self, number: str, value: float) -> "Source":
        """The same source with a number changed.

        Parameters
        ----------
        number : str
            Dotted path of the number.
        value : float
            Its value.

        Raises
        ------
        InputError
            There is no such number; what there is is named.
        """

    @abstractmethod
    def made_from(self, attitude: float) -> dict:
        """All that the mesh is made from, as plain values.

        Parameters
        ----------
        attitude : float
            Attitude of the body [deg].
        """

    @abstractmethod
    def mesh(self, attitude: float, observer: "Observer | None") -> Mesh:
        """Mesh with the body at an attitude, which only counts over a ground.

        Parameters
        ----------
        attitude : float
            [deg]
        observer
            Receives the plan of the mesh.
        """

    @abstractmethod
    def level(self, finest: Mesh, level: int, attitude: float) -> Mesh:
        """A coarser mesh.

        Parameters
        ----------
        finest : Mesh
            Finest mesh.
        level : int
            How many levels coarser.
        attitude : float
            Attitude of the body [deg].
        """

    def made_level(self, level: int) -> bool:
        """Whether a level is a mesh of its own, to be kept.

        Parameters
        ----------
        level : int
            How many levels coarser.
        """
        return False

    @abstractmethod
    def files(self) -> list[str]:
        """Files beside the study that it reads, as named in the study."""

    def file_hashes(self) -> dict[str, str]:
        """SHA-256 of these files."""
        return {
            name: hashlib.sha256((self.spec.base / name).read_bytes()).hexdigest()
            for name in self.files()
            if (self.spec.base / name).is_file()
        }

    def write_shape(self, folder: Path) -> None:  # noqa: B027, an aircraft file is copied with the study
        """Write the geometry into the folder of the study.

        Parameters
        ----------
        folder : path
            The folder.
        """
