"""Public names of the package; `__init__.py` imports each when it is first used."""

from .page import write_report as write_report
