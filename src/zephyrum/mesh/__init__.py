"""Meshes: the one `Mesh` type, the generators that make it, its quality and its files."""

from zephyrum.mesh.cell_quality import Quality, quality
from zephyrum.mesh.clipped_2d.assembly import mesh_bodies
from zephyrum.mesh.clipped_3d.generation import mesh_surface
from zephyrum.mesh.construction import mesh_from_faces, mesh_from_quads
from zephyrum.mesh.core import Group, Mesh
from zephyrum.mesh.io import read_mesh, write_mesh
from zephyrum.mesh.layer_spacing import Layers, wall_layers
from zephyrum.mesh.periodic_sectors import mesh_sector
from zephyrum.mesh.planning import MeshPlan, mesh_aircraft, plan_mesh
from zephyrum.mesh.size_field import Zone
from zephyrum.mesh.structured.airfoil_grid import mesh_airfoil
from zephyrum.mesh.structured.outline_grid import mesh_outline, mesh_plate, mesh_revolved

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
