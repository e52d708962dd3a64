"""Meshes: the one `Mesh` type, the generators that make it, its quality and its files."""

from zephyrum.mesh.aircraft import mesh_surface
from zephyrum.mesh.airfoil import mesh_airfoil
from zephyrum.mesh.bodies import mesh_bodies
from zephyrum.mesh.build import mesh_from_faces, mesh_from_quads
from zephyrum.mesh.core import Group, Mesh
from zephyrum.mesh.files import read_mesh, write_mesh
from zephyrum.mesh.layers import Layers, wall_layers
from zephyrum.mesh.planned import MeshPlan, mesh_aircraft, plan_mesh
from zephyrum.mesh.quality import Quality, quality
from zephyrum.mesh.sectors import mesh_sector
from zephyrum.mesh.shapes import mesh_outline, mesh_plate, mesh_revolved
from zephyrum.mesh.sizes import Zone

__all__ = [
    "Group",
    "Layers",
    "Mesh",
    "MeshPlan",
    "Quality",
    "Zone",
    "mesh_aircraft",
    "mesh_airfoil",
    "mesh_bodies",
    "mesh_from_faces",
    "mesh_from_quads",
    "mesh_outline",
    "mesh_plate",
    "mesh_revolved",
    "mesh_sector",
    "mesh_surface",
    "plan_mesh",
    "quality",
    "read_mesh",
    "wall_layers",
    "write_mesh",
]
