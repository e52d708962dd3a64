"""Airfoil sections: families, coordinates, flaps, measures."""
