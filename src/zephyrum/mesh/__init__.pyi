"""Public names of the package; `__init__.py` imports each when it is first used."""

from .aircraft_mesh import mesh_aircraft as mesh_aircraft
from .cell_quality import Quality as Quality, quality as quality
from .clipped_2d.assembly import BodyMeshOptions as BodyMeshOptions, mesh_bodies as mesh_bodies
from .clipped_3d.generation import SurfaceMeshOptions as SurfaceMeshOptions, mesh_surface as mesh_surface
from .construction import mesh_from_faces as mesh_from_faces, mesh_from_quads as mesh_from_quads
from .core import Group as Group, Mesh as Mesh
from .extrusion import mesh_extruded as mesh_extruded
from .io import read_mesh as read_mesh, write_mesh as write_mesh
from .layer_spacing import Layers as Layers, wall_layers as wall_layers
from .periodic_sectors import mesh_sector as mesh_sector
from .planning import MeshOptions as MeshOptions, MeshPlan as MeshPlan, plan_mesh as plan_mesh
from .size_field import Zone as Zone
from .structured.airfoil_grid import AirfoilMeshOptions as AirfoilMeshOptions, mesh_airfoil as mesh_airfoil
from .structured.duct_grid import mesh_duct as mesh_duct
from .structured.outline_grid import (
    mesh_outline as mesh_outline,
    mesh_plate as mesh_plate,
    mesh_revolved as mesh_revolved,
)
