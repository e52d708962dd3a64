"""What every package stands on: argument validation, units, TOML reading, atomic file writing, fingerprints, JIT
policy.

Nothing here knows of aerodynamics; this package imports only `zephyrum.errors`.
"""
