"""A solved flow and everything one can ask of it."""

import functools
import json
import os
import zipfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from zephyrum.air import Freestream, Reference
from zephyrum.air.checks import choice, number
from zephyrum.errors import FileError, InputError
from zephyrum.flow import Flow, History, Settings
from zephyrum.flow.gas import Law, Scales
from zephyrum.flow.turbulence import WALL_MODELS
from zephyrum.mesh import Mesh, write_mesh
from zephyrum.results.case import slowest
from zephyrum.results.cuts import STRIPS, SpanLoading, cut_table, span_loading
from zephyrum.results.forces import Forces, wall_forces
from zephyrum.results.layer import layer_table, profile_table
from zephyrum.results.levels import level_surface, spin, velocity_slopes
from zephyrum.results.paths import Paths, stream_paths
from zephyrum.results.skin import SkinLines, skin_lines
from zephyrum.results.streamlines import bubbles, stream_function
from zephyrum.results.surface import surface_table, turning_points
from zephyrum.results.wake import wake_drag

COARSE_WALL = 5.0  # y+ of a first cell that is out of the viscous sublayer
PLAIN_WALL = 0.01  # share of the wall's area in first order that is told
EXCESS = 1e-3  # drag above the induced one that an inviscid body in space may have
LEAST_DRAG = 1e-3  # below ten counts the drag of an inviscid section is mesh error: no L/D is given


@dataclass(frozen=True, eq=False)
class Solution:
    """One solved condition on one mesh.

    verdict: "settled" (residuals down and forces at rest), "wandering" (neither, but bounded) or "failed"; `reason`
    says why. Coefficients refer to `reference`; the mesh error of a single solution is unknown until `refine` finds it.
    """

    mesh: Mesh
    air: Freestream
    reference: Reference
    model: str
    settings: Settings
    flow: Flow
    notes: tuple[str, ...] = field(default=())

    def __repr__(self) -> str:
        found = ", ".join(f"{name} {getattr(self.forces, name):.4g}" for name in ("CL", "CD", "CM"))
        return f"<Solution, {self.model}, {self.air.describe()}, {self.mesh.n_cells:,} cells: {found}; {self.verdict}, {self.reason}>"

    @property
    def verdict(self) -> str:
        """settled, wandering or failed."""
        return self.flow.verdict

    @property
    def reason(self) -> str:
        """One sentence on the verdict."""
        return self.flow.reason

    @property
    def history(self) -> History:
        """Residuals and coefficients of every step."""
        return self.flow.history

    @property
    def wall_pressure(self) -> np.ndarray:
        """Gauge pressure (n_boundary,) on the boundary faces [Pa]."""
        return self.flow.boundary_pressure * self._stress

    @property
    def _stress(self) -> float:
        """What one scaled unit of pressure is worth [Pa]: Cp is that of the Mach number computed at."""
        return 2.0 * self.air.dynamic_pressure / self.computed.mach**2

    @property
    def computed(self) -> Freestream:
        """The air computed with: `air` itself unless its Mach number is very low."""
        return slowest(self.air, self.reference.chord)

    @property
    def forces(self) -> Forces:
        """Forces and coefficients; `.about(point)` moves the moment point."""
        return wall_forces(self.mesh, self.wall_pressure, self.wall_friction, self.air, self.reference)

    @property
    def viscous(self) -> bool:
        """Whether the model has friction."""
        return self.model != "euler"

    @property
    def law(self) -> Law:
        """The gas in scaled units, with the viscosity that was computed with."""
        return Scales.law(self.computed, self.reference.chord)

    @property
    def reynolds(self) -> float:
        """Reynolds number on the chord that was computed with [-]; infinite without friction."""
        return self.computed.mach * self.reference.chord / self.law.viscosity if self.viscous else float("inf")

    @property
    def wall_friction(self) -> np.ndarray | None:
        """Friction (n_boundary, 3) on the boundary faces [Pa]; None without friction."""
        if not self.viscous:
            return None
        area = self.mesh.face_area[self.mesh.n_interior :]
        normal = area / np.linalg.norm(area, axis=1)[:, None]
        return (self.flow.traction - self.flow.boundary_pressure[:, None] * normal) * self._stress

    @property
    def wall_heat(self) -> np.ndarray:
        """Heat flux (n_boundary,) from isothermal walls to the air [W/m^2]."""
        unit = self.air.density * (self.air.speed / self.computed.mach) * self.air.sound_speed**2
        return self.flow.heat * unit

    @property
    def y_plus(self) -> np.ndarray | None:
        """y+ (n_boundary,) of the height of the first cell (twice its centroid's distance); None without friction."""
        if not self.viscous:
            return None
        ni, law = self.mesh.n_interior, self.law
        cell = self.mesh.left[ni:]
        tau = np.linalg.norm(self.wall_friction, axis=1) / self._stress
        T = self.flow.q[cell, 4]
        rho = (1.0 + law.gamma * self.flow.boundary_pressure) / T
        mu = law.viscosity_at(T)
        return np.sqrt(tau * rho) * 2.0 * self.mesh.wall_distance[cell] / mu

    def wall_out_of_range(self, limit: float = COARSE_WALL) -> tuple[float, float]:
        """(share of the wall's area whose first cell is higher than y+ `limit`, largest y+)."""
        self._refuse_inviscid("has no y+")
        faces = self.mesh.faces_of("wall")
        area, high = np.linalg.norm(self.mesh.face_area[faces], axis=1), self.y_plus[faces - self.mesh.n_interior]
        return float(area[high > limit].sum() / area.sum()), float(high.max())

    @property
    def wall_of_first_order(self) -> float:
        """Share of the wall's area at cells that lost their slopes to settle."""
        faces = self.mesh.faces_of("wall")
        area = np.linalg.norm(self.mesh.face_area[faces], axis=1)
        return float(area[self.flow.calmed[self.mesh.left[faces]]].sum() / max(area.sum(), 1e-300))

    def surface(self):
        """DataFrame along the surface: part, side, x, y, z, x/c, Cp, and in viscous flow Cf (signed) and y+.

        With isothermal walls also "heat flux" [W/m^2], positive from the wall to the air.
        """
        return self._surface.copy()

    @functools.cached_property
    def _surface(self):
        heat = self.wall_heat if self.flow.heat.any() else None
        return surface_table(
            self.mesh, self.wall_pressure, self.air, self.reference, self.wall_friction, self.y_plus, heat
        )

    def cp(self):
        """DataFrame of Cp along the surface: part, side, x, y, z, x/c, Cp."""
        return self._surface.drop(columns=["Cf", "y+", "heat flux"], errors="ignore")

    def cuts(self, at, part: str | None = None, axis: str = "y"):
        """DataFrame of pressures in sections of a body in space, at one or more places [m] along y (wings) or x (bodies).

        A row for every triangle cut: part, place, x, y, z [m], "fraction" of the local chord from its foremost point, side, Cp (and Cf), the
        local "chord" [m], and its share of the section's force coefficients cx, cz: their sums are those of the section.
        """
        return cut_table(self, at, part, axis)

    def span_loading(self, strips: int = STRIPS, part: str | None = None) -> SpanLoading:
        """How the lift is spread over the span in so many strips, and the induced drag that belongs to it."""
        return span_loading(self, strips, part)

    def wake_drag(self, at=None):
        """DataFrame of the drag seen in planes x = `at` [m] behind a body in space (by default four, up to a reference chord behind it):

        "induced CD" of the trailing vortices, "entropy CD" of friction, shocks and, in smooth inviscid flow, of the mesh's error; their sum.
        """
        return wake_drag(self, at)

    def turning_points(self):
        """DataFrame of stagnation, separation and reattachment points: part, side, kind, x/c and its uncertainty."""
        if not self.viscous:
            raise InputError("inviscid flow does not separate; solve with model='laminar', 'sa' or 'sst'.")
        return turning_points(self._surface)

    def boundary_layer(self):
        """DataFrame along a section: part, side, x/c, delta99, displacement and momentum thickness [m], shape factor."""
        self._refuse_inviscid("has no boundary layer")
        return layer_table(self.mesh, self.fields()["velocity"], self._surface, self.reference, self.air.speed)

    def profile(self, place: float, side: str = "upper"):
        """DataFrame of the velocity profile at chord fraction `place` on a side: y [m], u [m/s], u/ue."""
        self._refuse_inviscid("has no boundary layer")
        choice("side", side, ("upper", "lower"))
        number("place", place, 0.0, 1.0)
        made = profile_table(self.mesh, self.fields()["velocity"], self._surface, self.reference, place, side)
        if made is None:
            raise InputError(
                f"place = {place:g} on the {side} side: no boundary layer is found there; try another place."
            )
        return made

    def _refuse_inviscid(self, why: str) -> None:
        if not self.viscous:
            raise InputError(f"inviscid flow {why}; solve with model='laminar', 'sa' or 'sst'.")
        if not self.mesh.planar and "layer" in why:
            raise InputError("boundary-layer tables are for sections and axisymmetric bodies only.")

    def fields(self) -> dict[str, np.ndarray]:
        """Cell fields in SI: pressure [Pa], velocity (n, 3) [m/s], temperature [K], density [kg/m^3], mach, cp.

        With a turbulence model also the eddy viscosity over the molecular one.
        """
        q, air = self.flow.q, self.air
        pressure = air.pressure + q[:, 0] * self._stress
        temperature = q[:, 4] * air.temperature
        velocity = q[:, 1:4] * air.speed / self.computed.mach
        out = {"pressure": pressure, "velocity": velocity, "temperature": temperature, "density": pressure / (air.gas.R * temperature),
               "mach": np.linalg.norm(q[:, 1:4], axis=1) / np.sqrt(q[:, 4]) * air.mach / self.computed.mach, "cp": q[:, 0] / (0.5 * self.computed.mach**2)}  # fmt: skip
        if self.model in WALL_MODELS:
            out["eddy viscosity ratio"] = self.flow.eddies
        return out

    def vorticity(self) -> np.ndarray:
        """(n,) rate of rotation about y in the cells [1/s], nose-up positive (twice the angular velocity)."""
        slopes = velocity_slopes(self)
        return slopes[:, 0, 2] - slopes[:, 2, 0]

    def spin(self) -> dict[str, np.ndarray]:
        """Cell fields (n,) of rotation: "vorticity", its size over speed and chord, and "q", the Q criterion over their square (positive in cores)."""
        return spin(self)

    def level_surface(self, name: str, level: float):
        """(Surface on which the field `name` of `fields` or `spin` has the value `level`, cell (t,) of each of its triangles); in space.

        Normals point to lower values. InputError if there is no such place.
        """
        return level_surface(self, name, level)

    def paths(self, seeds=None, length: float | None = None) -> Paths:
        """Streamlines in space through `seeds` (k, 3) [m], both ways over `length` [m] at most (three bodies); without seeds from before the body."""
        return stream_paths(self, seeds, length)

    def skin_lines(self, spacing: float | None = None) -> SkinLines:
        """Lines of friction on the surface in space, as oil would draw them; without friction of the air's way along it.

        They cover the body evenly, `spacing` [m] apart (1.2 % of the body without it).
        """
        return skin_lines(self, spacing)

    def stream_function(self) -> np.ndarray:
        """(n_points,) mass between a point on the front side and the wall over that through a chord; lines are streamlines.

        See `results.streamlines`; of planar flow only.
        """
        if not self.mesh.planar:
            raise InputError("a stream function exists in two dimensions and about an axis only.")
        fields = self.fields()
        flow = fields["density"][:, None] * fields["velocity"]
        return stream_function(self.mesh, flow) / self._through_chord

    @property
    def _through_chord(self) -> float:
        across = np.pi * self.reference.chord**2 if self.mesh.wedge else self.reference.chord * self.mesh.depth
        return self.air.density * self.air.speed * across

    def separated(self, stream: np.ndarray | None = None) -> np.ndarray:
        """(n_points,) bool: points in zones of closed streamlines, which are separation bubbles (`stream`: if at hand)."""
        return bubbles(self.mesh, self.stream_function() if stream is None else stream, 1.0)

    def swing(self) -> dict[str, tuple[float, float]]:
        """(mean, half of peak to peak) of CL, CD, CM over the last half of the fine-mesh history (at most 40 steps)."""
        out = {}
        for name in ("CL", "CD", "CM"):
            values = self.history.column(name, 0)
            tail = values[-max(1, min(40, len(values) // 2)) :]
            out[name] = (float(tail.mean()), float(0.5 * np.ptp(tail)))
        return out

    def extremes(self):
        """DataFrame of the extremes of the fields with their places, the physical bound of each, and whether it holds.

        Bounds (inviscid, steady): total temperature and total pressure of the freestream limit temperature, pressure and
        Cp from above (total pressure only downstream of no shock, so as an upper bound); vacuum from below.
        """
        import pandas as pd

        air, fields, c = self.air, self.fields(), self.mesh.cell_centroid
        bounds = {"pressure": (0.0, air.pressure * air.gas.pitot_pressure_ratio(air.mach) if air.mach <= 1 else air.total_pressure),
                  "temperature": (0.0, air.total_temperature), "cp": (air.cp_vacuum, air.cp_stagnation), "mach": (0.0, np.inf)}  # fmt: skip
        units = {"pressure": "Pa", "temperature": "K", "cp": "-", "mach": "-"}
        rows = []
        for name, (low, high) in bounds.items():
            slack = 0.02 * ((high - low) if np.isfinite(high) else 1.0)
            for kind, pick, bound in (("min", np.argmin, low), ("max", np.argmax, high)):
                k = int(pick(fields[name]))
                value = float(fields[name][k])
                holds = value >= low - slack if kind == "min" else value <= high + slack
                rows.append(
                    {
                        "field": name,
                        "unit": units[name],
                        "extreme": kind,
                        "value": value,
                        "x": c[k, 0],
                        "z": c[k, 2],
                        "bound": bound,
                        "holds": bool(holds),
                    }
                )
        return pd.DataFrame(rows)

    def checks(self) -> list[str]:
        """Sentences on what looks wrong, with the likely cause; empty if nothing does."""
        found = list(self.notes)
        if self.verdict != "settled":
            found.append(f"the run ended {self.verdict}: {self.reason}.")
        if self.verdict == "wandering":
            found.append(self._swinging())
        for row in self.extremes().itertuples():
            if not row.holds:
                found.append(
                    f"{row.field} {row.extreme} {row.value:.4g} at x = {row.x:.4g}, z = {row.z:.4g} m is beyond the physical bound {row.bound:.4g}: look at the mesh there."
                )
        c = self.forces.coefficients()
        if (plain := self.wall_of_first_order) > PLAIN_WALL:
            found.append(
                f"the cells at {100 * plain:.1f} % of the wall's area are computed in first order, since they would not settle in second: drag and "
                "pressures carry more mesh error there; refine the mesh, or prove it with a mesh study."
            )
        if self.viscous and self.model in WALL_MODELS:
            coarse, largest = self.wall_out_of_range()
            if coarse > 0.05:
                found.append(
                    f"y+ is above {COARSE_WALL:g} on {100 * coarse:.0f} % of the wall's area (largest {largest:.2g}): mesh with a smaller first_height."
                )
        if (
            not self.viscous
            and self.mesh.dimension == 2
            and self.air.mach < 0.5
            and abs(self.air.alpha) < 8
            and self.verdict == "settled"
            and c["CD"] > 0.005 + 0.02 * c["CL"] ** 2
        ):
            found.append(
                f"an inviscid section at this Mach number has no drag, but CD is {c['CD']:.4f}: the mesh is too coarse at nose or tail."
            )
        if not self.mesh.planar and self.verdict == "settled":
            found += _implausible(c, self.air)
        if not self.viscous and not self.mesh.planar and self.air.mach < 0.5 and c["CL"] != 0.0:
            load = self.span_loading()
            excess = c["CD"] - load.induced
            if excess > max(EXCESS, 0.1 * load.induced) and load.induced > 0.0:
                found.append(
                    f"CD of the surface pressures {c['CD']:.4f} is {excess:.4f} above the induced drag of the span loading: without friction and "
                    "shocks that is error of the mesh (or separation at a sharp corner); refine it, or trust the induced drag."
                )
        return found

    def _swinging(self) -> str:
        """What a wandering run does, and what to do about it."""
        swing, period = self.swing(), self.history.period()
        cycle = "without a clear period" if np.isnan(period) else f"about every {period:.0f} steps of the march"
        words = f"CL swings by +-{swing['CL'][1]:.2g} about {swing['CL'][0]:.4g}, CD by +-{swing['CD'][1]:.2g} about {swing['CD'][0]:.4g}, {cycle}"
        return f"{words}; to see whether the flow itself swings, follow it in time with solve_in_time(..., start=this solution)."

    def row(self) -> dict:
        """The row of this point in a polar."""
        c, swing = self.forces.coefficients(), self.swing()
        drop = self.history.drop()
        worst = float(drop[-1].max()) if len(drop) else 1.0
        fields = self.fields()
        friction = {}
        if self.viscous:
            friction = {"CD pressure": self.forces.coefficients(cause="pressure")["CD"], "CD friction": self.forces.coefficients(cause="friction")["CD"],
                        "y+ max": float(self._surface["y+"].max())}  # fmt: skip
        return {"mach": self.air.mach, "alpha": self.air.alpha, "reynolds": self.reynolds if self.viscous else self.air.reynolds, **{k: c[k] for k in ("CL", "CD", "CM", "CX", "CZ")},
                "L/D": c["CL"] / c["CD"] if c["CD"] > LEAST_DRAG else float("nan"), "verdict": self.verdict,
                "orders": round(-np.log10(max(worst, 1e-16)), 2), "drift": self.history.drift(),
                "CL swing": swing["CL"][1] if self.verdict != "settled" else 0.0, "CD swing": swing["CD"][1] if self.verdict != "settled" else 0.0,
                **friction, "cp min": float(fields["cp"].min()), "mach max": float(fields["mach"].max()), "model": self.model, "cells": self.mesh.n_cells,
                "mesh": self.mesh.fingerprint, "steps": int(self.history.column("step", 0)[-1]), "seconds": round(self.flow.seconds, 2), "reason": self.reason}  # fmt: skip

    def write(self, path: str | Path) -> Path:
        """Write the fields on the mesh to a .vtu or .cgns file."""
        return write_mesh(self.mesh, path, self.fields())

    def save(self, path: str | Path) -> Path:
        """Keep the last state and the history in one .npz file, written in one stroke, for a later start or reading."""
        path = Path(path)
        temporary = path.with_name(path.name + ".part")
        facts = {"verdict": self.verdict, "reason": self.reason, "mesh": self.mesh.fingerprint, "mach": self.air.mach, "alpha": self.air.alpha,
                 "beta": self.air.beta, "seconds": self.flow.seconds, "model": self.model, "notes": self.notes}  # fmt: skip
        with open(temporary, "wb") as file:
            np.savez(
                file,
                q=self.flow.q,
                wall=self.flow.boundary_pressure,
                traction=self.flow.traction,
                heat=self.flow.heat,
                eddies=self.flow.eddies,
                calmed=self.flow.calmed,
                history=np.array(self.history.rows, dtype=float),
                facts=json.dumps(facts),
            )
        os.replace(temporary, path)
        return path


def _implausible(c: dict[str, float], air: Freestream) -> list[str]:
    """Sentences on coefficients of a body in space that no aircraft has, with the likely cause."""
    out = []
    if c["CD"] < 0.0:
        out.append(f"CD is negative ({c['CD']:.4g}): the mesh is too coarse, or the nose does not point to -x.")
    if abs(c["CL"]) > 0.1 and c["CD"] > 2.0 * abs(c["CL"]) and abs(air.alpha) < 30.0:
        out.append(f"CD {c['CD']:.3g} is {c['CD'] / abs(c['CL']):.2g} times CL: are nose and up right (x aft, z up), and is the reference area that of the wing?")  # fmt: skip
    if c["CD"] > 1e-4 and abs(c["CL"]) / c["CD"] > 120.0:
        out.append(f"L/D is {abs(c['CL']) / c['CD']:.0f}, beyond any aircraft: drag is missing, or alpha is far off.")
    if abs(c["CL"]) > 5.0:
        out.append(f"CL is {c['CL']:.3g}: the reference area is likely too small, or in another unit.")
    if c["CL"] * air.alpha < 0.0 and abs(air.alpha) > 8.0:
        out.append(f"CL is {c['CL']:.3g} at alpha {air.alpha:g} deg: is the body upside down, or tail first?")
    return out


def load_solution(path: str | Path, mesh: Mesh, air: Freestream, reference: Reference, settings: Settings) -> Solution:
    """A solution kept by `Solution.save`; FileError if it does not belong to this mesh and condition."""
    path = Path(path)
    try:
        with np.load(path, allow_pickle=False) as data:
            facts = json.loads(str(data["facts"]))
            history = History([tuple(row) for row in data["history"]])
            q, wall, traction, heat, eddies, calmed = (
                data[name].copy() for name in ("q", "wall", "traction", "heat", "eddies", "calmed")
            )
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile) as cause:
        raise FileError(f"solution {str(path)!r} can't be read ({cause}); remove it and run again.") from None
    if (
        facts["mesh"] != mesh.fingerprint
        or abs(facts["alpha"] - air.alpha) > 1e-9
        or abs(facts["mach"] - air.mach) > 1e-9
    ):
        raise FileError(
            f"solution {str(path)!r} is stale: it belongs to another mesh or condition; remove it and run again."
        )
    flow = Flow(
        q,
        wall,
        traction,
        heat,
        eddies,
        calmed,
        Scales.of(air),
        facts["verdict"],
        facts["reason"],
        history,
        facts["seconds"],
    )
    return Solution(mesh, air, reference, facts["model"], settings, flow, tuple(facts.get("notes", ())))
