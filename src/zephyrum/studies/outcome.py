"""What a finished study left in its folder, whatever its body is."""

from dataclasses import dataclass
from pathlib import Path

from zephyrum.errors import FileError
from zephyrum.mesh import Mesh
from zephyrum.results import Polar, Solution, load_solution
from zephyrum.studies.points import Point
from zephyrum.studies.refine import Refinement
from zephyrum.studies.store import state_file
from zephyrum.told import told


@dataclass(frozen=True)
class Finished:
    """Study file, folder, mesh, polar and refinement (None where not asked)."""

    study: object
    folder: Path
    mesh: Mesh
    polar: Polar | None
    refinement: Refinement | None

    __repr__ = told

    def __str__(self) -> str:
        asked = ", ".join(str(part) for part in (self.polar, self.refinement) if part is not None)
        return f"study in {self.folder}, {self.mesh.n_cells:,} cells; {asked or 'nothing flown'}"

    def solution(self, mach: float, alpha: float) -> Solution:
        """The stored solution of one point; FileError if it is not there."""
        held = held_solution(self.study, self.mesh, self.folder, mach, alpha)
        if held is None:
            raise FileError(
                f"{str(self.folder)!r} holds no finished point at M {mach:g}, alpha {alpha:g} deg; run the study again, or see its polar.csv for those there are."
            )
        return held

    @property
    def settled(self) -> bool:
        """Whether every point and every mesh level settled."""
        rows = [] if self.polar is None else list(self.polar.table["verdict"])
        rows += [] if self.refinement is None else list(self.refinement.table["verdict"])
        return all(verdict == "settled" for verdict in rows)


def held_solution(study, mesh: Mesh, folder: Path, mach: float, alpha: float) -> Solution | None:
    """The stored solution of one point of the study; None if it is not there."""
    path = state_file(folder, Point(mach, alpha, None).name)
    if not path.is_file():
        return None
    return load_solution(path, mesh, study.freestream(mach, alpha), mesh.reference, study.settings())


def held_polar(study, mesh: Mesh, folder: Path) -> Polar | None:
    """The polar in the folder, None if the study asks for none; FileError if it belongs to another mesh."""
    polar = Polar.read(folder / "polar.csv") if study.sweep is not None else None
    if polar is not None and polar.notes.get("mesh", {}).get("fingerprint") != mesh.fingerprint:
        raise FileError(
            f"the tables in {str(folder)!r} are stale: they belong to another mesh than its study.toml gives; run the study again."
        )
    return polar
