"""Airfoil sections by panels: inviscid flow of any number of elements."""
