"""Linear algebra of a Newton step: ordering, block ILU, GMRES."""
