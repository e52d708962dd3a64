"""Finite-volume discretisation: face data, gradient, reconstruction, limiter, residual, Jacobian."""
