"""Timings; `python -m benchmarks` writes docs/benchmarks.md. All ratios come from one run on one machine."""
