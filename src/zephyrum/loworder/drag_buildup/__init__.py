"""The drag build-up: friction, form, interference and increments by part, without a flow solution."""
