"""Reading solutions from disk: see `solution_writer` for the file.

The mesh is inside, or in a kept mesh that the file refers to. What is read is checked against the fingerprint of its
case. Verified by tests/test_case.py and tests/test_studies.py.
"""

import contextlib
import json
from pathlib import Path

import numpy as np

from zephyrum._core.npz_reader import read_arrays
from zephyrum._core.validation import PATH, takes
from zephyrum.conditions import Freestream, Gas, Reference
from zephyrum.conditions.stream_turbulence import StreamTurbulence
from zephyrum.errors import FileError, InputError, MeshError
from zephyrum.flow import FlowState, History, Numerics
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.geometry import Blades, PropellerDisk
from zephyrum.mesh import Mesh
from zephyrum.mesh.mesh_store import ARRAYS, mesh_of, read_stored_mesh
from zephyrum.results.solution import Solution
from zephyrum.results.solution_writer import FORMAT, STATES
from zephyrum.solver import Case, Exhaust, Intake, Wall
from zephyrum.solver.powered import Powered, powered_mesh

DAMAGED = (OSError, ValueError, KeyError, TypeError, EOFError, IndexError, AttributeError, InputError, MeshError)


@takes(path=PATH, mesh=Mesh)
def load_solution(path: str | Path, mesh: Mesh | None = None) -> Solution:
    """The solution in a file written by `Solution.save`.

    Parameters
    ----------
    path : path
    mesh : Mesh, optional
        The mesh of the solution if it is at hand, which saves reading it.

    Returns
    -------
    Solution
        With its case: mesh, freestream, model, walls, reference and numerics.

    Raises
    ------
    FileError
        If the file is missing, damaged, of another version, or if `mesh` is not that of the solution.

    Examples
    --------
    >>> import tempfile
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     again = zy.load_solution(solution.save(f"{folder}/point.npz"))
    >>> again.case.fingerprint == solution.case.fingerprint
    True
    """
    path = Path(path)
    facts, arrays = _read(path)
    try:
        powered = {name: _powered_of(one) for name, one in facts["powered"].items()}
    except DAMAGED as cause:
        raise FileError(f"solution {str(path)!r} can't be read ({cause}); remove it and run again.") from None
    if mesh is not None:
        with contextlib.suppress(InputError):  # a mesh without these faces is another one
            mesh = powered_mesh(mesh, powered)
    if mesh is not None and mesh.fingerprint != facts["mesh"]["fingerprint"]:
        raise FileError(
            f"solution {str(path)!r} is stale: it belongs to the mesh {facts['mesh']['fingerprint']}, not to "
            f"{mesh.fingerprint}; remove it and run again."
        )
    try:
        case = _case_of(facts, arrays, path, mesh, powered)
        flow = FlowState(  # type: ignore[call-arg]
            *(arrays[name] for name in STATES),  # type: ignore[arg-type]
            Scales.of(case.computed),
            Outcome(facts["outcome"]),
            facts["reason"],
            History([tuple(row) for row in arrays["history"]]),
            facts["seconds"],
        )
        _checked(flow, case, path)
    except FileError:
        raise
    except DAMAGED as cause:
        raise FileError(f"solution {str(path)!r} can't be read ({cause}); remove it and run again.") from None
    return Solution(case, flow, tuple(facts["notes"]), facts["fallback"])


@takes(path=PATH)
def stored_case(path: str | Path) -> tuple[str, dict]:
    """Fingerprint and description of the case of a stored solution, without reading its states.

    Parameters
    ----------
    path : path
        File.

    Returns
    -------
    fingerprint : str
    description : dict

    Raises
    ------
    FileError
        The file cannot be read.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     key, description = stored_case(solution.save(f"{folder}/point.npz"))
    >>> key == solution.case.fingerprint
    True
    """
    facts, _ = _read(Path(path), states=False)
    return facts["fingerprint"], facts["case"]


def _read(path: Path, states: bool = True) -> tuple[dict, dict[str, np.ndarray]]:
    if not path.is_file():
        raise FileError(f"solution {str(path)!r} does not exist; check the name.")
    try:
        arrays = read_arrays(path, None if states else ("facts",))
        facts = json.loads(str(arrays.pop("facts")))
        if not isinstance(facts, dict) or facts.get("format") != FORMAT:
            raise FileError(
                f"solution {str(path)!r} was written by another version of Zephyrum; remove it and run again."
            )
        return facts, arrays
    except FileError:
        raise
    except DAMAGED as cause:
        raise FileError(f"solution {str(path)!r} can't be read ({cause}); remove it and run again.") from None


def _powered_of(facts: dict) -> Powered:
    """Exhaust or intake of its stored fields."""
    kind = {"Exhaust": Exhaust, "Intake": Intake}[facts["kind"]]
    values = {name: tuple(one) if isinstance(one, list) else one for name, one in facts.items() if name != "kind"}
    return kind(**values)


def _disk_of(facts: dict) -> PropellerDisk:
    """Propeller disk of its stored fields."""
    values = {name: _tuples(one) for name, one in facts.items()}
    if values["blades"] is not None:
        values["blades"] = Blades(**{name: _tuples(one) for name, one in facts["blades"].items()})
    return PropellerDisk(**values)


def _tuples(value):
    """A stored value with its lists as tuples."""
    return tuple(_tuples(one) for one in value) if isinstance(value, list) else value


def _case_of(facts: dict, arrays: dict, path: Path, mesh: Mesh | None, powered: dict[str, Powered]) -> Case:
    if mesh is None and "mesh file" in facts:
        mesh = read_stored_mesh(path.parent / facts["mesh file"], family=False)
    elif mesh is None:
        mesh = mesh_of({name: arrays[f"mesh {name}"] for name in ARRAYS}, facts["mesh"])
    given = dict(facts["freestream"])
    stream = given["turbulence"] and StreamTurbulence(**given["turbulence"])
    air = Freestream(**given | {"gas": Gas(**given["gas"]), "turbulence": stream})
    walls = {
        name: Wall(**{key: tuple(value) if isinstance(value, list) else value for key, value in wall.items()})  # type: ignore[arg-type]
        for name, wall in facts["walls"].items()
    }
    case = Case(
        mesh,
        air,
        facts["model"],
        Reference(**facts["reference"]),
        walls or None,
        Numerics.from_description(facts["numerics"]),
        facts["ground"],
        powered,
        {name: _disk_of(one) for name, one in facts["propellers"].items()},
    )
    if case.fingerprint != facts["fingerprint"]:
        differ = ", ".join(case.differences(facts["case"])) or "its description"
        raise FileError(
            f"solution {str(path)!r} is stale or damaged ({differ} differ from what it was computed with); remove it "
            f"and run again."
        )
    return case


def _checked(flow: FlowState, case: Case, path: Path) -> None:
    n, nb = case.mesh.n_cells, case.mesh.n_faces - case.mesh.n_interior
    if (
        len(flow.q) != n
        or len(flow.boundary_pressure) != nb
        or flow.traction.shape != (nb, 3)
        or len(flow.entropy_production) != n
        or len(flow.first_order_cells) != n
    ):
        raise FileError(f"solution {str(path)!r} is damaged: its states do not fit its mesh; remove it and run again.")
