"""Accuracy runs against exact solutions and published bands; `python -m validation` writes docs/validation.md."""
