"""The report of a study in one HTML file."""

from zephyrum.report.page import write_report

__all__ = ["write_report"]
