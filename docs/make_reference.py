"""Write the generated pages of the reference into docs/reference: commands, study keys, table columns, API."""

import inspect
import re
from pathlib import Path

import click

import zephyrum as zy
from zephyrum.cli.main import main
from zephyrum.results.polar import COLUMNS
from zephyrum.studies.spec import SPECS

HERE = Path(__file__).parent / "reference"
UNITS = {
    "alpha": "deg",
    "seconds": "s",
    "reynolds": "-",
    "cells": "-",
}


def commands() -> str:
    """Page of all commands with their options."""
    lines = ["# Commands", ""]
    for name, command in main.commands.items():
        context = click.Context(command, info_name=f"zephyrum {name}")
        lines += [f"## zephyrum {name}", "", "```text", command.get_help(context), "```", ""]
    return "\n".join(lines)


def default_of(field) -> str:
    """Default of a key as it is typed in TOML; empty if the key may be left out."""
    if field.is_required():
        return "required"
    value = field.get_default(call_default_factory=True)
    if value is None or value in ({}, []):
        return ""
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    return f'`"{value}"`' if isinstance(value, str) else f"`{value:g}`" if isinstance(value, float) else f"`{value}`"


def meanings(table: type) -> dict[str, str]:
    """Descriptions in the section Attributes of a docstring, by name."""
    text = inspect.getdoc(table) or ""
    found = re.search(r"Attributes\n-+\n(.*?)(?:\n\n|\Z)", text, re.DOTALL)
    out: dict[str, str] = {}
    names: list[str] = []
    for line in found[1].splitlines() if found else ():
        if line.startswith(" "):
            for name in names:
                out[name] = f"{out.get(name, '')} {line.strip()}".strip()
        else:
            names = [name.strip() for name in line.partition(" : ")[0].split(",")]
    return out


def study_keys() -> str:
    """Page of all tables and keys of study files."""
    lines = ["# Study keys", "", "A study file is TOML. An unknown key is refused with its line.", ""]
    for kind, spec in SPECS.items():
        lines += [f"## Study of a {kind}" if kind == "section" else f"## Study of an {kind}", ""]
        for name, field in spec.model_fields.items():
            table = next(
                (
                    a
                    for a in (field.annotation, *getattr(field.annotation, "__args__", ()))
                    if hasattr(a, "model_fields")
                ),
                None,
            )
            if table is None:
                continue
            summary = (table.__doc__ or "").strip().splitlines()[0]
            known = meanings(table)
            lines += [f"### [{name}]", "", summary, "", "| Key | Default | Meaning |", "|---|---|---|"]
            for key, one in table.model_fields.items():
                lines.append(f"| `{one.alias or key}` | {default_of(one)} | {known.get(key, '')} |")
            lines.append("")
    return "\n".join(lines)


def columns() -> str:
    """Page of the columns of a polar."""
    lines = ["# Table columns", "", "Columns of a polar (`polar.csv`), in order.", "", "| Column | Unit |", "|---|---|"]
    lines += [f"| `{name}` | {UNITS.get(name, '-')} |" for name in COLUMNS]
    return "\n".join([*lines, ""])


def api() -> str:
    """Page of every public name."""
    lines = ["# Public calls", ""]
    for name in zy.__all__:
        lines += [f"::: zephyrum.{name}", ""]
    return "\n".join(lines)


if __name__ == "__main__":
    HERE.mkdir(exist_ok=True)
    for name, made in (("commands", commands), ("study_keys", study_keys), ("columns", columns), ("api", api)):
        (HERE / f"{name}.md").write_text(made(), encoding="utf-8")
