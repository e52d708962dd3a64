"""`zephyrum compare`: results of several studies and reference data side by side."""

from collections.abc import Callable
from pathlib import Path

import click


def compare_command(paths: tuple[Path, ...], csv: Path | None, figure: Path | None, print_table: Callable) -> None:
    """Run `zephyrum compare`.

    Parameters
    ----------
    paths : tuple of path
        Study folders and CSV files of reference data.
    csv : path or None
        File for the table.
    figure : path or None
        File for the figure.
    print_table : callable
        Prints a `Table`.
    """
    from zephyrum.studies.compared_results import compare_results
    from zephyrum.studies.jobs.methods import comparison_tables

    found = compare_results(paths)
    for made in comparison_tables(found):
        print_table(made)
    if csv:
        csv.parent.mkdir(parents=True, exist_ok=True)
        found.table.to_csv(csv, index=False)
        click.echo(f"written: {csv}")
    if figure:
        from zephyrum.plotting import draw_methods
        from zephyrum.plotting.style import save

        save(draw_methods(found), figure)
        click.echo(f"drawn: {figure}")
