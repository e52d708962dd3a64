"""Long lists of independent tasks on two processes: rows are kept after each, so that a list that was broken off goes
on where it was.
"""

import json
import os
from collections.abc import Callable
from multiprocessing import get_context
from pathlib import Path

TOP = Path(__file__).parents[1]


def resumed(
    script: str, tasks: list, one: Callable, write: Callable[[list[tuple]], str], bad: Callable[[tuple], str]
) -> list[tuple]:
    """Rows `one(task)` of all tasks, a row beginning with its task; those kept in script.json are not made again.

    write: makes the page docs/script.md of the rows so far; bad: says what is wrong with a row, "" if nothing is. Each
    task has one thread.
    """
    os.environ.update(OPENBLAS_NUM_THREADS="1", OMP_NUM_THREADS="1", NUMBA_NUM_THREADS="1")
    stored = Path(script).with_suffix(".json")
    page = TOP / "docs" / f"{stored.stem}.md"
    rows = [tuple(row) for row in json.loads(stored.read_text())] if stored.is_file() else []
    rows = [(tuple(row[0]) if isinstance(row[0], list) else row[0], *row[1:]) for row in rows]
    done = {row[0] for row in rows}
    todo = [task for task in tasks if task not in done]

    def keep(row) -> None:
        rows.append(tuple(row))
        stored.write_text(json.dumps(rows))
        page.write_text(write(rows), encoding="utf-8")
        if words := bad(row):
            print(row[0], words, flush=True)

    if todo:  # compiled once, not in both workers
        keep(one(todo.pop(0)))
    with get_context("spawn").Pool(2) as pool:
        for row in pool.imap_unordered(one, todo):
            keep(row)
    return rows
