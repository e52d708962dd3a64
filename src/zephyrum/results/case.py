"""A case checked and made ready for the solver: what is refused, what is changed, and what the user is told."""

from typing import NamedTuple

import numpy as np

from zephyrum.air import Freestream, Reference
from zephyrum.air.checks import choice
from zephyrum.errors import InputError
from zephyrum.flow import MODELS
from zephyrum.flow.gas import Scales
from zephyrum.flow.turbulence import WALL_MODELS
from zephyrum.mesh import Mesh
from zephyrum.mesh.layers import first_height
from zephyrum.results.before import doubts
from zephyrum.results.walls import WallRows, wall_rows

LEAST_MACH = 0.05  # below it this compressible solver loses accuracy: it computes there at equal Reynolds number
COARSEST_WALL = 10.0  # y+ of the first cell above which they are refused


class Case(NamedTuple):
    """A case checked and made ready: reference, the air computed with, wall conditions by mesh, notes to the user."""

    reference: Reference
    computed: Freestream
    walls: WallRows | None
    notes: list[str]


def slowest(air: Freestream, chord: float) -> Freestream:
    """`air`, or below Mach `LEAST_MACH` the same at that Mach number with the Reynolds number on `chord` [m] kept."""
    if air.mach >= LEAST_MACH:
        return air
    reynolds = air.mach * chord / Scales.law(air, chord).viscosity
    return Freestream(
        mach=LEAST_MACH, reynolds=reynolds, length=chord, temperature=air.temperature, alpha=air.alpha, beta=air.beta,
        gas=air.gas,
    )  # fmt: skip


def prepared(mesh: Mesh, air: Freestream, model: str, reference: Reference | None, walls) -> Case:
    """Check a case and make it ready; InputError for what can't be solved."""
    choice("model", model, MODELS)
    notes: list[str] = []
    if reference is None:
        if mesh.reference is None:
            raise InputError(
                "the mesh carries no measured reference; give reference=Reference(area, chord, span, point)."
            )
        reference = mesh.reference
    elif mesh.reference is not None:
        notes = reference.disagreement(mesh.reference)
    if (mesh.wedge or mesh.sectors > 1) and (abs(air.alpha) > 1e-9 or abs(air.beta) > 1e-9):
        kind = "an axisymmetric mesh" if mesh.wedge else "one of several equal sectors"
        raise InputError(
            f"alpha = {air.alpha:g}, beta = {air.beta:g} deg: flow about {kind} runs along its axis; "
            "use alpha = beta = 0, or a mesh of the whole body."
        )
    if mesh.dimension == 2 and abs(air.beta) > 1e-9:
        raise InputError(f"beta = {air.beta:g} deg has no meaning on a two-dimensional mesh; leave it out.")
    if not len(mesh.faces_of("wall")):
        raise InputError("the mesh has no boundary with the role 'wall', so there is nothing to take forces of.")
    if not air.mach > 0.0:
        raise InputError(f"mach = {air.mach:g}: the air is at rest; give a speed.")
    computed = slowest(air, reference.chord)
    if computed is not air:
        notes.append(
            f"computed at Mach {LEAST_MACH:g} instead of {air.mach:.3g} with the same Reynolds number: pressure and friction "
            f"coefficients differ by about {100 * 0.25 * LEAST_MACH**2:.2g} %."
        )
    if model in WALL_MODELS:
        _refuse_without_layers(mesh, computed, reference, model)
    notes += doubts(mesh, computed, reference, model)
    return Case(reference, computed, wall_rows(walls, mesh, model, reference, computed.speed / air.speed), notes)


def _refuse_without_layers(mesh: Mesh, air: Freestream, reference: Reference, model: str) -> None:
    """InputError if the first cells are far too high for a model that resolves the wall layer."""
    faces = mesh.faces_of("wall")
    high = 2.0 * float(np.median(mesh.wall_distance[mesh.left[faces]])) / reference.chord
    reynolds = air.mach * reference.chord / Scales.law(air, reference.chord).viscosity
    fit = first_height(reynolds, 1.0)
    if high > COARSEST_WALL * fit:
        raise InputError(
            f"model {model!r} needs thin layers at the wall: the first cells are {high:.2g} chords high, y+ about {high / fit:.0f}; "
            f"mesh with first_height = {fit:.2g} (y+ 1 at Reynolds number {reynolds:.2g})."
        )
