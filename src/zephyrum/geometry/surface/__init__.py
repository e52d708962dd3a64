"""Triangulated surfaces: files, repair, booleans, features, remeshing."""
