"""Meshes: the one `Mesh` type, the generators that make it, its quality and its files."""

from zephyrum.mesh.airfoil import mesh_airfoil
from zephyrum.mesh.core import Group, Mesh, mesh_from_faces, mesh_from_quads

__all__ = ["Group", "Mesh", "mesh_airfoil", "mesh_from_faces", "mesh_from_quads"]
