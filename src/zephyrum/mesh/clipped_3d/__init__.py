"""Meshes about triangulated surfaces: prism layers on the walls, cubes of an octree clipped by their outer front."""
