"""Wakes of a lattice that follow the flow: trailing vortices without force (Katz and Plotkin 2001, ch. 14).

The nodes of every trailing vortex are moved along the velocities at them until they rest. Verified by
tests/test_lattice.py.
"""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.geometric_steps import growth_ratio
from zephyrum.errors import FlowError
from zephyrum.loworder.vortex_lattice.basis import Factor, motion_velocities
from zephyrum.loworder.vortex_lattice.setting import LatticeSetting

if TYPE_CHECKING:
    from zephyrum.loworder.vortex_lattice.lattice import Lattice, WakeRelaxation
    from zephyrum.loworder.vortex_lattice.model import VortexLattice


def relaxed_setting(
    model: "VortexLattice", setting: LatticeSetting, motion: np.ndarray, angles: tuple[float, ...]
) -> LatticeSetting:
    """The setting with wakes along the flow of a motion.

    Parameters
    ----------
    model : VortexLattice
        The lattice.
    setting : LatticeSetting
        Straight wakes to begin with.
    motion : (6,) array
        Stream and rotation over the speed of the stream [-, 1/m].
    angles : tuple of float
        Deflections of all controls [deg].

    Raises
    ------
    FlowError
        The wakes do not come to rest, as behind a wing whose wake meets another surface.
    """
    lattice, reference, options = model.lattice, model.reference, model.options.relaxation
    lengths = _steps(lattice, reference.span, options)
    tails, wind = lattice.filaments[:, -1], np.array(setting.wake)
    nodes = tails[:, None] + np.cumsum(lengths)[None, :, None] * wind
    for _ in range(options.iterations):
        now = replace(setting, nodes=tuple(nodes.ravel().tolist()))
        basis = model.basis(now, angles)
        points = np.concatenate([tails[:, None], nodes], axis=1)
        velocity = _velocities(basis, points.reshape(-1, 3), motion, options.core * reference.span).reshape(
            points.shape
        )
        along = velocity / np.linalg.norm(velocity, axis=2)[..., None]
        mean = along[:, 1:] + along[:, :-1]
        mean /= np.linalg.norm(mean, axis=2)[..., None]
        change = tails[:, None] + np.cumsum(lengths[None, :, None] * mean, axis=1) - nodes
        if np.linalg.norm(change, axis=2).max() < options.tolerance * reference.span:
            return now
        nodes = nodes + options.damping * change
    largest = float(np.linalg.norm(change, axis=2).max())
    raise FlowError(
        f"the wakes do not come to rest: they still move by {largest:.3g} m after {options.iterations} iterations. "
        'Take wake = "wind", or fewer strips.'
    )


def _steps(lattice: "Lattice", span: float, options: "WakeRelaxation") -> np.ndarray:
    """(nodes,) lengths of the segments of a wake [m], in geometric progression."""
    first = options.first_step * float(lattice.chord.mean())
    return first * growth_ratio(first, options.length * span, options.nodes) ** np.arange(options.nodes)


def _velocities(basis, points: np.ndarray, motion: np.ndarray, core: float) -> np.ndarray:
    """(n, 3) velocities of the whole flow at points (n, 3), with cores of at least that radius [m]."""
    filaments = basis.factor.filaments
    smooth: Factor = replace(basis.factor, filaments=filaments._replace(core=np.maximum(filaments.core, core)))
    sets = np.r_[motion, np.zeros(basis.circulation.shape[1] - len(motion))]
    made = smooth.induced(points, np.full(len(points), -1), (basis.circulation @ sets)[:, None])[:, 0]
    made = made + np.einsum("nmk,m->nk", motion_velocities(points, basis.centre), motion)
    crossflow = np.einsum("nsk,s->nk", basis.crossflow, sets)[:, None]
    return made + smooth.displaced(points, crossflow)[:, 0]
