"""Run all cases (or those named) and write docs/validation.md: `python -m validation [case ...]`."""

import sys
from pathlib import Path

from validation.cases import CASES

HEAD = """# Validation

Made by `make validation`; every row is a demand of theory or a published band. Exact: conformal maps (Milne-Thomson 1968),
manufactured solutions (Roache 2002), theta-beta-M relation; bands for NACA 0012: the spread of published Euler solutions.

| case | quantity | band | value | cells | s | verdict |
|---|---|---|---|---|---|---|
"""


def main(names: list[str]) -> int:
    """Run, print and (if all were run) write the table; 0 if every value is inside its band."""
    chosen = [case for case in CASES if not names or case.__name__ in names]
    lines, missed = [], 0
    for case in chosen:
        for label, quantity, low, high, value, cells, seconds in case():
            inside = low <= value <= high
            # an order above its band is no failure, but it is not called inside either
            above = "order" in quantity and value > high
            missed += not (inside or above)
            verdict = "inside" if inside else "above the band" if above else "**OUTSIDE**"
            lines.append(
                f"| {label} | {quantity} | {low:.5g} .. {high:.5g} | {value:.5g} | {cells} | {seconds:.1f} | {verdict} |"
            )
            print(lines[-1], flush=True)
    if not names:
        Path(__file__).parents[1].joinpath("docs", "validation.md").write_text(
            HEAD + "\n".join(lines) + "\n", encoding="utf-8"
        )
    print(f"{len(lines) - missed} inside, {missed} outside")
    return 0 if missed == 0 else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
