"""Meshes about closed curves: layers on the walls, square cells clipped by their outer front."""
