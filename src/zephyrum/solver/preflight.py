"""What looks wrong before a run: sentences with the likely cause, shown with the results and kept with them.

Nothing here stops a run; what can't be solved at all is refused by `Case`. Verified by tests/test_space.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.conditions import Reference
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.mesh import Mesh
from zephyrum.mesh.polygons import entries_of

if TYPE_CHECKING:
    from zephyrum.solver.case import Case


# deg between a face's normal and the line of the centroids from which a mesh is reported to be bad
FOLDED_FRACTION = 150.0
NEAR_DISTANCE = 4.0  # sizes of the body to the farfield below which it is felt in CL (subsonic)
MAX_BLOCKAGE = 0.02  # frontal area over that of the domain
PLAUSIBLE_SIZES = (0.02, 120.0)  # m: lengths of bodies outside are more likely a wrong unit
# reference area over that of the body seen from above: a wing is the larger part of it, or with a canard less
PLAN_BAND = 0.2, 1.6
SPAN_BAND = (0.5, 1.5)
LAMINAR = 2e5  # Reynolds number on the chord below which layers are laminar over most of it


def preflight_warnings(case: "Case") -> list[str]:
    """Sentences about size, domain, blockage, reference and model of a case; empty if nothing looks wrong.

    Parameters
    ----------
    case : Case
        The case.

    Examples
    --------
    >>> from zephyrum import Airfoil, Case, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012").scaled(3000.0), 32, 8)  # millimetres
    >>> preflight_warnings(Case(mesh, Freestream(mach=0.3)))[0][:26]
    'the body is 3e+03 m long: '
    """
    mesh, air, reference, model = case.mesh, case.computed, case.reference, case.model
    out = []
    walls = mesh.faces_of("wall")
    corners = mesh.points[mesh.face_points[entries_of(mesh.face_start, walls)[1]]]
    low, high = corners.min(axis=0), corners.max(axis=0)
    size = float((high - low)[[0, 2] if mesh.planar else [0, 1, 2]].max())
    if not PLAUSIBLE_SIZES[0] <= size <= PLAUSIBLE_SIZES[1]:
        out.append(f"the body is {size:.3g} m long: is its unit right? A scan in mm, cm or inches has to say so.")
    outer = mesh.faces_of("farfield")
    if len(outer) and air.mach < 1.0 and not mesh.planar:
        far = float(np.abs(mesh.face_centroid[outer] - 0.5 * (low + high)).max(axis=1).min()) / size
        if far < NEAR_DISTANCE:
            out.append(
                f"the farfield is {far:.1f} sizes of the body away: CL and CD feel it by several per cent; mesh with "
                f"farfield = 10 or more."
            )
        out += _blockage(mesh, walls)
    out += _folded(mesh)
    if mesh.dimension == 3 and not mesh.planar:
        out += _reference(mesh, walls, low, high, reference)
    if model in VISCOUS_MODELS and case.reynolds < LAMINAR:
        out.append(
            f"at a Reynolds number of {case.reynolds:.2g} on the chord the boundary layer is laminar over most of it, "
            f"but model {model!r} is turbulent everywhere: "
            "set walls=Wall(laminar=...), or solve with model='laminar'."
        )
    return out


def turbulence_notes(case: "Case") -> list[str]:
    """A sentence on the turbulence of the stream that was given, at the farfield and at the body; else none.

    Parameters
    ----------
    case : Case
        The case.

    Examples
    --------
    >>> from zephyrum import Airfoil, Case, Freestream, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> turbulence_notes(Case(mesh, Freestream(mach=0.3)))
    []
    """
    mesh, air = case.mesh, case.computed
    if air.turbulence is None:
        return []
    given = air.turbulence
    level = f" ({given.name})" if given.name else ""
    text = f"turbulence of the stream{level} at the farfield: intensity {100 * given.intensity:.3g} %, eddy over "
    text += f"molecular viscosity {given.viscosity_ratio:.3g}"
    if case.model == "sa":
        return [f"{text}; model 'sa' uses the viscosity only, which stays as it is up to the body."]
    wall = mesh.points[mesh.face_points[entries_of(mesh.face_start, mesh.faces_of("wall"))[1]]]
    distance = float((wall @ np.asarray(air.wind)).min() - (mesh.points @ np.asarray(air.wind)).min())
    left = given.decayed(distance, air.speed, air.viscosity / air.density)
    return [
        f"{text}; in a uniform stream it decays over {distance:.3g} m to {100 * left.intensity:.2g} % and "
        f"{left.viscosity_ratio:.2g} at the body, on wide cells it decays less."
    ]


def _folded(mesh: Mesh) -> list[str]:
    """A sentence on faces that look back: the line between the centroids of their cells runs against their normal."""
    ni = mesh.n_interior
    line = mesh.cell_centroid[mesh.right] - mesh.cell_centroid[mesh.left[:ni]]
    area = mesh.face_area[:ni]
    cosine = np.einsum("ij,ij->i", line, area) / np.maximum(
        np.linalg.norm(line, axis=1) * np.linalg.norm(area, axis=1), 1e-300
    )
    many = int(np.count_nonzero(cosine < np.cos(np.radians(FOLDED_FRACTION))))
    if not many:
        return []
    worst = int(np.argmin(cosine))
    position = mesh.face_centroid[worst]
    return [
        f"{many:,} faces of the mesh have a non-orthogonality above {FOLDED_FRACTION:g} deg (largest "
        f"{np.degrees(np.arccos(cosine[worst])):.0f} deg at x = {position[0]:.4g}, "
        f"y = {position[1]:.4g}, z = {position[2]:.4g} m): fluxes there are of no order; look at the flow there, or "
        f"mesh more finely."
    ]


def _blockage(mesh: Mesh, walls) -> list[str]:
    front = 0.5 * float(np.abs(mesh.face_area[walls, 0]).sum())
    box = np.ptp(mesh.points, axis=0)
    fraction = front / float(box[1] * box[2])
    if fraction > MAX_BLOCKAGE:
        return [
            f"the body blocks {100 * fraction:.2g} % of the domain: the stream is sped up between them; mesh with a "
            f"larger farfield."
        ]
    return []


def _reference(mesh: Mesh, walls, low, high, reference: Reference) -> list[str]:
    out = []
    whole = 2.0 if mesh.mirrored else mesh.sectors
    plan = 0.5 * whole * float(np.abs(mesh.face_area[walls, 2]).sum())
    fraction = reference.area / plan
    if not PLAN_BAND[0] <= fraction <= PLAN_BAND[1]:
        out.append(
            f"the reference area {reference.area:.4g} m^2 is {fraction:.2g} of what the body covers seen from above "
            f"({plan:.4g} m^2): a frontal area, a half model's, "
            "or another unit? Coefficients go with one over it."
        )
    span = float(high[1] - low[1]) * (2.0 if mesh.mirrored else 1.0)
    if mesh.sectors == 1 and not SPAN_BAND[0] <= reference.span / span <= SPAN_BAND[1]:
        out.append(
            f"the reference span is {reference.span:.4g} m, but the body is {span:.4g} m wide: check it; roll and yaw "
            f"coefficients go with one over it."
        )
    if reference.chord > 1.2 * (high[0] - low[0]):
        out.append(
            f"the reference chord {reference.chord:.4g} m is longer than the body ({high[0] - low[0]:.4g} m): check "
            f"its unit."
        )
    return out
