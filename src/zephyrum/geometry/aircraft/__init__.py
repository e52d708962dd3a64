"""Described aircraft: wings, bodies, assemblies, measures, mass."""
