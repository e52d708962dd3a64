"""Trim and derivatives asked for by the study of an aircraft: read from its file, flown, kept in its folder.

Verified by tests/test_flight.py.
"""

import json
from pathlib import Path

import pandas as pd
from pydantic import BaseModel, ConfigDict

from zephyrum.air import quantity
from zephyrum.errors import FileError, InputError
from zephyrum.mesh import Mesh
from zephyrum.one_stroke import write_text
from zephyrum.shape import Aircraft
from zephyrum.studies.flight import derivatives, lift_for, trim
from zephyrum.studies.outcome import held_solution

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
    path, key = folder / "trim.json", _trim_key(study, lift)
    if (held := _held(path, key)) is not None:
        return held
    air, options = study.freestream(own.mach, own.alpha), study.mesh_options()
    made = trim(study.shape, air, lift, own.control, own.setting, study.solver.model, study.settings(), on_point=on_point, **options)  # fmt: skip
    write_text(folder / "trim.csv", made.table.to_csv(index=False))
    out = {"alpha": made.alpha, "control": made.control, "setting": made.setting, "trimmed": made.trimmed, "lift": lift, "lift from": origin, "mach": own.mach,
           **made.solution.forces.coefficients(), "text": f"M {own.mach:g}, CL {lift:.4f} ({origin}): {made}"}  # fmt: skip
    _keep(path, key, out)
    return out


def held_trim(study, folder: Path) -> dict | None:
    """The trim that the folder holds; FileError if it is of another study."""
    return None if study.trim is None else _opened(folder / "trim.json", _trim_key(study, wanted_lift(study, study.trim)[0]))  # fmt: skip


def fly_derivatives(study, mesh: Mesh, folder: Path, on_point=None) -> pd.DataFrame | None:
    """The derivatives of the study, from the folder if they are the same; None if it asks for none."""
    own = study.derivatives
    if own is None:
        return None
    path, key = folder / "derivatives.json", _derivatives_key(study, mesh)
    if (held := _held(path, key)) is None:
        air = study.freestream(own.mach, own.alpha)
        start = held_solution(study, mesh, folder, own.mach, own.alpha)
        table = derivatives(mesh, air, study.solver.model, study.settings(), own.alpha_step, own.beta_step, start, on_point)  # fmt: skip
        write_text(folder / "derivatives.csv", table.to_csv(index=False))
        held = table.to_dict("records")
        _keep(path, key, held)
    return pd.DataFrame(held)


def held_derivatives(study, mesh: Mesh, folder: Path) -> pd.DataFrame | None:
    """The derivatives that the folder holds; FileError if they are of another study."""
    if study.derivatives is None:
        return None
    held = _opened(folder / "derivatives.json", _derivatives_key(study, mesh))
    return None if held is None else pd.DataFrame(held)


def _trim_key(study, lift: float) -> list:
    return [study.shape.surface().fingerprint, study.trim.model_dump(), lift, study.solver.model, repr(study.settings()), str(study.mesh_options()), repr(study.wall())]  # fmt: skip


def _derivatives_key(study, mesh: Mesh) -> list:
    return [mesh.fingerprint, study.derivatives.model_dump(), study.solver.model, repr(study.settings())]


def _keep(path: Path, key: list, made) -> None:
    write_text(path, json.dumps({"key": json.loads(json.dumps(key, default=str)), "made": made}, indent=1))


def _held(path: Path, key: list):
    """What an earlier run of the same left in the file."""
    if not path.is_file():
        return None
    held = json.loads(path.read_text(encoding="utf-8"))
    return held["made"] if held["key"] == json.loads(json.dumps(key, default=str)) else None


def _opened(path: Path, key: list):
    """The same, but FileError if the file was left by another study."""
    held = _held(path, key)
    if held is None and path.is_file():
        raise FileError(f"{str(path)!r} is stale: it was made from another study; run the study again.")
    return held
