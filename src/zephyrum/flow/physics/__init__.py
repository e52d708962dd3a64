"""Equations: gas model, inviscid flux, boundary conditions, turbulence models."""
