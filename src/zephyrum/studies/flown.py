"""Trim and derivatives asked for by the study of an aircraft: read from its file, flown, kept in its folder.

Verified by tests/test_flight.py.
"""

import json
from pathlib import Path

import pandas as pd
from pydantic import BaseModel, ConfigDict

from zephyrum.air import quantity
from zephyrum.errors import InputError
from zephyrum.mesh import Mesh
from zephyrum.results import load_solution
from zephyrum.shape import Aircraft
from zephyrum.studies.flight import derivatives, lift_for, trim
from zephyrum.studies.points import Point
from zephyrum.studies.store import write_text

GRAVITY = 9.80665  # m/s^2


class TrimTable(BaseModel):
    """What to trim with, at which Mach number: for a lift coefficient, or for a mass ("3900 kg"), by default that of the described parts."""

    model_config = ConfigDict(extra="forbid")
    mach: float
    control: str
    lift: float | None = None
    mass: float | str | None = None
    alpha: float = 2.0
    setting: float = 0.0


class DerivativesTable(BaseModel):
    """Where to take derivatives, and the steps [deg]."""

    model_config = ConfigDict(extra="forbid")
    mach: float
    alpha: float
    alpha_step: float = 1.0
    beta_step: float = 3.0


def wanted_lift(study, own: TrimTable) -> tuple[float, str]:
    """(CL to trim for, where it comes from)."""
    if own.lift is not None and own.mass is not None:
        raise InputError("trim gives both lift and mass; give one.")
    if own.lift is not None:
        return own.lift, "typed"
    if own.mass is not None:
        mass, origin = quantity("trim.mass", own.mass, "kg"), "typed mass"
    else:
        mass, origin = study.shape.mass_properties()[0].mass, "mass of the described parts"
        if mass <= 0.0:
            raise InputError(
                "trim has neither lift nor mass, and no part of the aircraft has a mass; give one of them."
            )
    return lift_for(mass * GRAVITY, study.freestream(own.mach), study.reference.area), f"{origin}, {mass:,.0f} kg"


def fly_trim(study, folder: Path, on_point=None) -> dict | None:
    """The trim of the study as a dict with a sentence `text`, from the folder if it is the same; None if it asks for none."""
    own = study.trim
    if own is None:
        return None
    if not isinstance(study.shape, Aircraft):
        raise InputError("trim changes a number of the aircraft file; a surface has none.")
    lift, origin = wanted_lift(study, own)
    key = [study.shape.surface().fingerprint, own.model_dump(), lift, study.solver.model, repr(study.settings()), str(study.mesh_options()), repr(study.wall())]  # fmt: skip
    path = folder / "trim.json"
    if (held := _held(path, key)) is not None:
        return held
    air = study.freestream(own.mach, own.alpha)
    made = trim(
        study.shape,
        air,
        lift,
        own.control,
        own.setting,
        study.solver.model,
        study.settings(),
        on_point=on_point,
        **study.mesh_options(),
    )
    write_text(folder / "trim.csv", made.table.to_csv(index=False))
    out = {"alpha": made.alpha, "control": made.control, "setting": made.setting, "trimmed": made.trimmed, "lift": lift, "lift from": origin, "mach": own.mach,
           **made.solution.forces.coefficients(), "text": f"M {own.mach:g}, CL {lift:.4f} ({origin}): {made}"}  # fmt: skip
    write_text(path, json.dumps({"key": json.loads(json.dumps(key, default=str)), "made": out}, indent=1))
    return out


def fly_derivatives(study, mesh: Mesh, folder: Path, on_point=None) -> pd.DataFrame | None:
    """The derivatives of the study, from the folder if they are the same; None if it asks for none."""
    own = study.derivatives
    if own is None:
        return None
    air = study.freestream(own.mach, own.alpha)
    key = [mesh.fingerprint, own.model_dump(), study.solver.model, repr(study.settings())]
    path = folder / "derivatives.json"
    if (held := _held(path, key)) is None:
        state = folder / "points" / f"{Point(own.mach, own.alpha, None).name}.npz"
        start = load_solution(state, mesh, air, mesh.reference, study.settings()) if state.is_file() else None
        table = derivatives(mesh, air, study.solver.model, study.settings(), own.alpha_step, own.beta_step, start, on_point)  # fmt: skip
        write_text(folder / "derivatives.csv", table.to_csv(index=False))
        held = table.to_dict("records")
        write_text(path, json.dumps({"key": json.loads(json.dumps(key, default=str)), "made": held}, indent=1))
    return pd.DataFrame(held)


def _held(path: Path, key: list):
    """What an earlier run of the same left in the file."""
    if not path.is_file():
        return None
    held = json.loads(path.read_text(encoding="utf-8"))
    return held["made"] if held["key"] == json.loads(json.dumps(key, default=str)) else None
