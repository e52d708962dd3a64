"""Run all cases (or those named) and write their rows into docs/validation.md: `python -m validation [case ...]`."""

import sys
from pathlib import Path

from validation.cases import CASES

HEAD = """# Validation

Made by `make validation`; every row is a demand of theory or a published band. Exact: conformal maps (Milne-Thomson
1968), manufactured solutions (Roache 2002), theta-beta-M relation; bands for NACA 0012: the spread of published Euler
solutions.

| case | quantity | band | value | cells | s | outcome | run |
|---|---|---|---|---|---|---|---|
"""


def main(names: list[str]) -> int:
    """Run, print and write the table, keeping the rows of cases that were not run; 0 if every value is in its band."""
    table = Path(__file__).parents[1].joinpath("docs", "validation.md")
    old = table.read_text(encoding="utf-8").splitlines() if table.exists() else []
    made: dict[str, list[str]] = {case.__name__: [] for case in CASES}
    for line in old:
        run = line.rstrip("| ").rpartition("| ")[2]
        if run in made:
            made[run].append(line)
    missed = count = 0
    for case in [case for case in CASES if not names or case.__name__ in names]:
        lines = made[case.__name__] = []
        for label, quantity, low, high, value, cells, seconds in case():
            inside = low <= value <= high
            # an order above its band is no failure, but it is not called inside either
            above = "order" in quantity and value > high
            missed += not (inside or above)
            count += 1
            outcome = "inside" if inside else "above the band" if above else "**OUTSIDE**"
            lines.append(
                f"| {label} | {quantity} | {low:.5g} .. {high:.5g} | {value:.5g} | {cells} | {seconds:.1f} | {outcome} "
                f"| {case.__name__} |"
            )
            print(lines[-1], flush=True)
        table.write_text(HEAD + "".join(line + "\n" for lines in made.values() for line in lines), encoding="utf-8")
    print(f"{count - missed} inside, {missed} outside")
    return 0 if missed == 0 else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
