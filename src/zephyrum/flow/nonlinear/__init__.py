"""Nonlinear solution: start-up, pseudo-transient continuation, step control, time integration."""
