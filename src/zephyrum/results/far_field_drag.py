"""Far-field drag: induced, wave and viscous drag, and the spurious drag that only the mesh makes.

Drag is momentum that the flow has lost, and it loses momentum where entropy is produced and where vortices carry energy
away (Oswatitsch 1945; Destarac and van der Vooren 2004, Aerosp. Sci. Technol. 8:545). Entropy that the inviscid fluxes
produce (see `entropy_production`) is, by its place,

- wave drag in shocks: where the Mach number along the pressure gradient is above 1 (Lovely and Haimes 1999, AIAA
  99-3285), and the layers of cells beside it;
- spurious drag near walls and not behind them: there flow without shocks loses nothing to inviscid fluxes (in boundary
  layers half of it is taken to be viscous, and the bar contains both);
- decay of the trailing vortices everywhere else, also in the vortices that form beside wing tips, whose vorticity lies
  along the stream: energy that a wake plane downstream no longer finds, and induced drag.

Induced drag is the energy of the vortices in planes behind the body with their decay upstream of these. The drag of the
surface less spurious drag is the second estimate of the sum, the span loading of a plane wing a third. CD is their
median, without a loading that of the wake planes; with friction it is that of the surface less spurious drag. What they
differ by widens the error bar.

Valid for converged steady subsonic streams. Verified by tests/test_far_field_drag.py and validation/far_field.py.
"""

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, set_fields, whole
from zephyrum.errors import InputError
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.discretization.entropy_production import entropy
from zephyrum.flow.outcome import Outcome
from zephyrum.flow.physics.turbulence import VISCOUS_MODELS
from zephyrum.results.section_cuts import span_loading
from zephyrum.results.wake_survey import wake_drag
from zephyrum.results.wall_interpolation import wall_faces

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution

DRAG_COLUMNS = "CD_far", "CD_far_error", "CD_induced", "CD_wave", "CD_viscous", "CD_spurious"
LAYER_EDDY_RATIO = 1.0  # eddy over molecular viscosity in a turbulent boundary layer, at least
LAYER_DEFECT = 0.05  # fraction of the stream's speed that a laminar boundary layer has lost, at least
METHOD_ERROR = 0.03  # least relative bar in space: wings and a biplane differ from theory by up to 3 %
SMOOTHING = 2  # passes over the vorticity
LEAST_SPEED = 0.3  # fraction of the stream's speed that the formula of momentum loss leaves: bounds its factor


@dataclass(frozen=True)
class DragRegions:
    """Where entropy is taken to be produced by what.

    Attributes
    ----------
    near_wall : float
        [chords] Distance from a wall within which production is spurious. Half Skerry on 12k, 22k and 58k cells, CD in
        counts of surface less spurious drag, before vortices of tips were told apart: 208, 185, 210 with 0.2, 188, 180,
        205 with 0.3, 170, 177, 202 with 0.5, 169, 177, 201 with 1; a rectangular wing on 12k to 60k changes by 0.5
        between 0.2 and 0.5.
    downstream_cosine : float
        [-] Cosine of the angle between the stream and the direction away from the nearest wall, above which a cell is
        behind that wall. The same wing changes by 0.6 counts between 0.5 and 0.85.
    shock_mach : float
        [-] Mach number along the pressure gradient above which a cell is in a shock.
    shock_rise : float
        [-] Least relative change of the pressure over the cell there.
    shock_layers : int
        [-] Layers of cells beside such cells that belong to the shock, which the scheme spreads over a few.
    tip_length : float
        [chords] Distance from the ends of a part along y in which the vortex of the tip forms. A rectangular wing with
        flat tips on 13k cells: 10 of the 21 counts produced near its wall are of these vortices; with rounded tips on
        22k cells 4 of 11. Without this CD is 8 and 6 % lower, below that of an elliptic loading.
    vortex_cosine : float
        [-] Cosine of the angle between vorticity and velocity above which a cell there is in that vortex.

    Examples
    --------
    >>> DragRegions(near_wall=0.3).downstream_cosine
    0.5
    """

    near_wall: float = 0.4
    downstream_cosine: float = 0.5
    shock_mach: float = 1.0
    shock_rise: float = 0.02
    shock_layers: int = 3
    tip_length: float = 0.3
    vortex_cosine: float = 0.5

    def __post_init__(self) -> None:
        set_fields(
            self,
            near_wall=number("near_wall", self.near_wall, 0.0),
            downstream_cosine=number("downstream_cosine", self.downstream_cosine, -1.0, 1.0),
            shock_mach=number("shock_mach", self.shock_mach, 0.0),
            shock_rise=number("shock_rise", self.shock_rise, 0.0),
            shock_layers=whole("shock_layers", self.shock_layers, 0, 20),
            tip_length=number("tip_length", self.tip_length, 0.0),
            vortex_cosine=number("vortex_cosine", self.vortex_cosine, 0.0, 1.0),
        )


@dataclass(frozen=True, eq=False)
class FarFieldDrag:
    """Drag coefficient by what the flow loses.

    Attributes
    ----------
    CD : float
        Sum of induced, wave and viscous drag.
    uncertainty : float
        Of CD, from what its estimates differ by and from the choice of the regions, in space at least 3 %; without the
        mesh error that all share.
    induced, wave, viscous : float
        Parts of CD.
    spurious : float
        What the dissipation of the scheme makes near walls.
    near_field : float
        CD of the pressures and friction on the surface.
    estimates : pandas.DataFrame
        Columns "estimate", "CD".
    parts : pandas.DataFrame
        Columns "part", "near-field CD", "wave CD", "spurious CD", and "CD" of the surface less the spurious one.
    """

    CD: float
    uncertainty: float
    induced: float
    wave: float
    viscous: float
    spurious: float
    near_field: float
    estimates: pd.DataFrame = field(repr=False)
    parts: pd.DataFrame = field(repr=False)

    __repr__ = short_repr

    def __str__(self) -> str:
        causes = ", ".join(
            f"{name} {value:.5f}"
            for name, value in (("induced", self.induced), ("wave", self.wave), ("viscous", self.viscous))
            if value != 0.0
        )
        return (
            f"far-field CD {self.CD:.5f} +- {self.uncertainty:.1g} ({causes or 'nothing is lost'}); on the surface "
            f"{self.near_field:.5f}, of which spurious {self.spurious:.5f}"
        )


def far_field_drag(solution: "Solution", regions: DragRegions | None = None) -> FarFieldDrag:
    """Far-field drag of a steady solution; see `Solution.far_field_drag`.

    Parameters
    ----------
    solution : Solution
        Solution.
    regions : DragRegions, optional
        Where entropy is taken to be produced by what.
    """
    mesh, air = solution.mesh, solution.air
    if air.mach >= 1.0:
        raise InputError(f"far-field drag is known in subsonic streams, not for Mach {air.mach:g}.")
    if solution.case.driven:
        raise InputError(
            "far-field drag of a body with exhausts, intakes or propellers is not known; see thrust_account()."
        )
    if mesh.wedge:
        raise InputError("far-field drag is that of sections and of meshes in space, not of a wedge of a body.")
    chosen = regions or DragRegions()
    lost = _drag_of_production(solution)
    gradients = _gradients(solution)
    cosine, shock = _directions_and_shocks(solution, gradients, chosen)
    distance = mesh.body_distance / solution.reference.chord
    before = ~shock & (cosine < chosen.downstream_cosine)
    if not mesh.planar:
        before &= ~_tip_vortices(solution, gradients[:, 1:4], chosen)
    near = before & (distance < chosen.near_wall)
    wave, spurious = float(lost[shock].sum()), float(lost[near].sum())
    layers = float(lost[near & _boundary_layers(solution)].sum()) if solution.viscous else 0.0
    fewer, more = (float(lost[before & (distance < factor * chosen.near_wall)].sum()) for factor in (0.5, 1.5))
    surface = solution.forces.CD
    induced = _induced_drag(solution, np.where(shock | near, 0.0, lost))
    estimates = {"surface less spurious": surface - spurious}
    if solution.viscous:  # in a boundary layer friction and the scheme both act, and cannot be told apart for certain
        estimates["the same outside boundary layers"] = surface - spurious + layers
    else:
        estimates |= {name: value + wave for name, value in induced.items()}
    total = float(np.median(list(estimates.values())))
    if set(induced) == {"wake planes"} and not solution.viscous:  # leaks of curved walls spoil the other one
        total = estimates["wake planes"]
    carried = viscous = 0.0
    if solution.viscous:
        carried = float(np.mean(list(induced.values())))
        viscous = total - wave - carried
    elif mesh.planar:  # no other cause than shocks
        total = wave = total if shock.any() else 0.0
    else:
        carried = total - wave
    spread = max(abs(value - total) for value in estimates.values())
    return FarFieldDrag(
        total,
        max(spread, 0.5 * abs(more - fewer), 0.0 if mesh.planar else METHOD_ERROR * abs(total)),
        carried,
        wave,
        viscous,
        spurious - 0.5 * layers,
        surface,
        pd.DataFrame({"estimate": list(estimates), "CD": list(estimates.values())}),
        _drag_of_parts(solution, np.where(shock, lost, 0.0), np.where(near, lost, 0.0)),
    )


def drag_columns(solution: "Solution") -> dict[str, float]:
    """Columns of far-field drag in the row of a polar; NaN where it is not known.

    Parameters
    ----------
    solution : Solution
        Solution.

    Returns
    -------
    dict of str to float
        CD_far, CD_far_error, CD_induced, CD_wave, CD_viscous, CD_spurious.

    Examples
    --------
    >>> import zephyrum as zy
    >>> mesh = zy.mesh_airfoil(zy.Airfoil.naca("0012"), around=32, outward=8, topology="O")
    >>> solution = zy.solve(mesh, zy.Freestream(mach=0.3), numerics=zy.Numerics(residual_drop=3))
    >>> list(drag_columns(solution))[:2]
    ['CD_far', 'CD_far_error']
    """
    unknown = dict.fromkeys(DRAG_COLUMNS, float("nan"))
    if solution.flow.outcome != Outcome.CONVERGED:
        return unknown
    try:
        d = solution.far_field_drag()
    except InputError:  # supersonic, a wedge, or a domain that ends before the wake planes
        return unknown
    return dict(zip(DRAG_COLUMNS, (d.CD, d.uncertainty, d.induced, d.wave, d.viscous, d.spurious), strict=True))


def _drag_of_production(solution: "Solution") -> np.ndarray:
    """(n,) drag coefficient of the entropy produced in every cell."""
    mesh, mach = solution.mesh, solution.computed.mach
    scale = mesh.multiples[0][0] / (0.5 * mach**3 * solution.reference.area)
    return solution.flow.entropy_production * scale * _momentum_per_energy(solution)


def _boundary_layers(solution: "Solution") -> np.ndarray:
    """(n,) cells in boundary layers: by the eddy viscosity, in laminar flow by the velocity lost for good."""
    if solution.model in VISCOUS_MODELS:
        return solution.flow.eddy_ratio > LAYER_EDDY_RATIO
    return _far_velocity(solution)[1] < 1.0 - LAYER_DEFECT


def _momentum_per_energy(solution: "Solution") -> np.ndarray:
    """(n,) momentum lost far downstream for the entropy produced here, over that where the entropy is the stream's.

    The derivative of the velocity defect to the entropy (van der Vooren and Destarac 2004), in terms of the work
    T ds / U of the first order.
    """
    growth, left = _far_velocity(solution)
    return growth / np.maximum(left, LEAST_SPEED)


def _far_velocity(solution: "Solution") -> tuple[np.ndarray, np.ndarray]:
    """(n,) factor by which the entropy of a cell has raised the temperature at the stream's pressure; (n,) speed that
    its air has there, in terms of the stream's.
    """
    air, q, law = solution.computed, solution.flow.q, solution.law
    g1 = law.gamma - 1.0
    growth = np.exp(np.clip(entropy(q, law.gamma) / law.gamma, -1.0, 1.0))
    return growth, np.sqrt(np.maximum(1.0 - 2.0 * (growth - 1.0) / (g1 * air.mach**2), 0.0))


def _gradients(solution: "Solution") -> np.ndarray:
    """(n, 5, 3) gradients of the distance from the body, of the scaled velocity and of the scaled pressure."""
    mesh, q = solution.mesh, solution.flow.q
    values = np.column_stack([mesh.body_distance, q[:, 1:4], 1.0 + solution.law.gamma * q[:, 0]])
    out = np.zeros((mesh.n_cells, 5, 3))
    GradientOperator.of(mesh, solution.numerics.reconstruction.gradient)(values, out)
    return out


def _directions_and_shocks(
    solution: "Solution", gradients: np.ndarray, regions: DragRegions
) -> tuple[np.ndarray, np.ndarray]:
    """(n,) cosine between the stream and the direction away from the nearest wall; (n,) cells in shocks."""
    mesh, flow = solution.mesh, solution.flow
    pressure = 1.0 + solution.law.gamma * flow.q[:, 0]
    away, rise = gradients[:, 0], gradients[:, 4]
    cosine = away @ solution.computed.axes[0] / np.maximum(np.linalg.norm(away, axis=1), 1e-300)
    steep = np.linalg.norm(rise, axis=1)
    along = np.einsum("ij,ij->i", flow.q[:, 1:4], rise) / np.maximum(steep, 1e-300) / np.sqrt(flow.q[:, 4])
    volume = mesh.cell_volume
    size = np.sqrt(volume / mesh.depth) if mesh.planar else np.cbrt(volume)
    shock = (along > regions.shock_mach) & (steep * size > regions.shock_rise * pressure)
    left, right = mesh.left[: mesh.n_interior], mesh.right
    for _ in range(regions.shock_layers if shock.any() else 0):
        touched = shock.copy()
        touched[left[shock[right]]] = touched[right[shock[left]]] = True
        shock = touched
    return cosine, shock


def _tip_vortices(solution: "Solution", gradients: np.ndarray, regions: DragRegions) -> np.ndarray:
    """(n,) cells near the ends of parts along y whose vorticity, averaged with that of their neighbours, lies along the
    stream; gradients (n, 3, 3) of the velocity.
    """
    mesh, reach = solution.mesh, regions.tip_length * solution.reference.chord
    near, y = np.zeros(mesh.n_cells, dtype=bool), mesh.cell_centroid[:, 1]
    for group in mesh.groups:
        if group.role == "wall":
            own = mesh.face_centroid[group.faces, 1]
            width = own.max() if mesh.mirrored else 0.5 * np.ptp(own)
            if width > solution.reference.chord:  # a fin or a fuselage ends nowhere along y
                near |= np.abs(y - own.max()) < reach
                near |= (np.abs(y - own.min()) < reach) & (not mesh.mirrored)
    near &= mesh.body_distance < regions.near_wall * 1.5 * solution.reference.chord
    if not near.any():
        return near
    volume = mesh.cell_volume
    spin = np.stack([gradients[:, (j + 2) % 3, (j + 1) % 3] - gradients[:, (j + 1) % 3, (j + 2) % 3] for j in range(3)])
    left, right, n = mesh.left[: mesh.n_interior], mesh.right, mesh.n_cells
    for _ in range(SMOOTHING):  # differences of the total pressure from cell to cell make vorticity too
        total = volume + np.bincount(left, volume[right], n) + np.bincount(right, volume[left], n)
        weighted = spin * volume
        sums = [s + np.bincount(left, s[right], n) + np.bincount(right, s[left], n) for s in weighted]
        spin = np.stack(sums) / total
    velocity = solution.flow.q[:, 1:4]
    along = np.abs(np.einsum("jn,nj->n", spin, velocity))
    size = np.linalg.norm(spin, axis=0) * np.linalg.norm(velocity, axis=1)
    return near & (along > regions.vortex_cosine * size)


def _induced_drag(solution: "Solution", decay: np.ndarray) -> dict[str, float]:
    """Estimates of the induced drag; `decay` (n,) what the vortices lose in every cell."""
    if solution.mesh.planar:
        return {"shocks": 0.0}
    planes = wake_drag(solution)
    x = solution.mesh.cell_centroid[:, 0]
    with_decay = [row["induced CD"] + decay[x < row["x"]].sum() for _, row in planes.iterrows()]
    out = {"wake planes": float(np.mean(with_decay))}
    load = span_loading(solution)
    if np.isfinite(load.induced):
        out["span loading"] = load.induced
    return out


def _drag_of_parts(solution: "Solution", wave: np.ndarray, spurious: np.ndarray) -> pd.DataFrame:
    """Table of the parts; cells count to the part that is nearest."""
    from scipy.spatial import cKDTree

    mesh = solution.mesh
    cells = np.flatnonzero((wave != 0.0) | (spurious != 0.0))
    faces, names = wall_faces(mesh, None)
    nearest = names[cKDTree(mesh.face_centroid[faces]).query(mesh.cell_centroid[cells])[1]] if len(cells) else cells
    rows = []
    for name in dict.fromkeys(names.tolist()):
        own = cells[nearest == name]
        surface, off = solution.forces.coefficients(name)["CD"], float(spurious[own].sum())
        rows.append(
            {
                "part": name,
                "near-field CD": surface,
                "wave CD": float(wave[own].sum()),
                "spurious CD": off,
                "CD": surface - off,
            }
        )
    return pd.DataFrame(rows)
