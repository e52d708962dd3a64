"""Tables as the commands print them; nothing of the solver is imported, so that quick commands start at once."""

import sys

import click

from zephyrum.report.columns import HEADS, cell

SHORTEST = 14  # characters of a column of words before it is folded
COLUMN_GAP = 3  # characters between two columns: padding on both sides of a divider
WIDTH = 150  # characters of a table that is not written to a terminal
# columns that a narrow terminal keeps
KEPT = (
    "mach",
    "alpha",
    "state",
    "part",
    "coefficient",
    "derivative",
    "CL",
    "CD_far",
    "CD",
    "CM",
    "value",
    "change",
    "outcome",
)


def table(rows: list[dict], columns: dict[str, str], title: str = "") -> None:
    """Print rows as a table; columns that do not fit are left out by importance and named.

    Parameters
    ----------
    rows : list[dict]
        One dict for each row.
    columns : dict[str, str]
        Format of each column.
    title : str, optional
        Caption.
    """
    from rich import box
    from rich.console import Console
    from rich.table import Table

    console = Console(width=None if sys.stdout.isatty() else WIDTH)
    shown = {name: [cell(row.get(name), form) for row in rows] for name, form in columns.items()}
    folded = {name for name, form in columns.items() if form == ""}
    dropped = _too_wide(shown, folded, console.width)
    made = Table(title=title or None, box=box.SIMPLE_HEAD, title_justify="left", pad_edge=False)
    for name in columns:
        if name not in dropped:
            words = name in folded
            made.add_column(
                HEADS.get(name, name),
                justify="left" if words else "right",
                no_wrap=not words,
                min_width=min(max(map(len, shown[name])), SHORTEST) if words else max(map(len, shown[name])),
            )
    for k in range(len(rows)):
        made.add_row(*[shown[name][k] for name in columns if name not in dropped])
    console.print(made)
    if dropped:
        click.echo(f"not shown for lack of width: {', '.join(dropped)} (all are in the CSV files)")


def _too_wide(shown: dict[str, list[str]], folded: set[str], width: int) -> list[str]:
    """Columns to be left out so that numbers keep their digits: the least important ones, from the right."""

    def needed(name: str) -> int:
        longest = max([len(HEADS.get(name, name)), *map(len, shown[name])])
        return COLUMN_GAP + (min(longest, SHORTEST) if name in folded else longest)

    order = [name for name in shown if name not in KEPT][::-1] + [
        name for name in shown if name in KEPT and name not in list(shown)[:3]
    ][::-1]
    dropped: list[str] = []
    # without the padding at both edges, with a blank in its place
    while order and sum(needed(name) for name in shown if name not in dropped) - 1 > width:
        dropped.append(order.pop(0))
    return [name for name in shown if name in dropped]
