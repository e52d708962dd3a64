"""Structured grids in nested families: airfoils, outlines, plates, bodies of revolution."""
