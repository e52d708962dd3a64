"""The folder of a study on disk: finished points, tables, and a page that explains them.

Every file is written to a temporary name and renamed, so a kill at any moment leaves whole files only. A point is
finished when its row is there; it is never computed twice.
"""

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path

from zephyrum.errors import FileError, InputError
from zephyrum.one_stroke import one_stroke, write_text


@dataclass(frozen=True)
class Store:
    """Folder `root` that belongs to the study with this `key` (any JSON-able description)."""

    root: Path
    key: dict

    @classmethod
    def open(cls, root: str | Path, key: dict) -> "Store":
        """Make or reopen the folder; InputError if it holds another study."""
        root = Path(root)
        if root.exists() and not root.is_dir():
            raise FileError(f"output {str(root)!r} is a file; give a folder.")
        mark = root / "identity.json"
        try:
            (root / "points").mkdir(parents=True, exist_ok=True)
        except OSError as cause:
            raise FileError(f"output folder {str(root)!r} can't be made ({cause.strerror}); choose another.") from None
        store = cls(root, key)
        if mark.is_file():
            try:
                held = json.loads(mark.read_text(encoding="utf-8"))
            except ValueError:
                raise FileError(f"{str(mark)!r} is damaged; remove the folder {str(root)!r} and run again.") from None
            if held != json.loads(json.dumps(key)):
                differs = ", ".join(k for k in key if held.get(k) != json.loads(json.dumps(key[k]))) or "more"
                raise InputError(
                    f"folder {str(root)!r} holds another study ({differs} differ): its points would be stale; choose another folder or remove it."
                )
        else:
            write_text(mark, json.dumps(key, indent=1))
        return store

    @property
    def fingerprint(self) -> str:
        """Twelve hexadecimal digits of the key."""
        return hashlib.sha256(json.dumps(self.key, sort_keys=True).encode()).hexdigest()[:12]

    def state(self, name: str) -> Path:
        """File of a point's last state."""
        return state_file(self.root, name)

    def row(self, name: str) -> dict | None:
        """Row of a finished point, or None."""
        path = self.root / "points" / f"{name}.json"
        if not path.is_file():
            return None
        try:
            return json.loads(path.read_text(encoding="utf-8"))
        except ValueError:
            raise FileError(f"{str(path)!r} is damaged; remove it and run again.") from None

    def keep(self, name: str, row: dict, state: bytes) -> None:
        """Keep the last state of a point, the bytes of its file, and mark it finished."""
        with one_stroke(self.state(name)) as temporary:
            temporary.write_bytes(state)
        self.keep_row(name, row)

    def keep_row(self, name: str, row: dict) -> None:
        """Mark a point finished."""
        write_text(self.root / "points" / f"{name}.json", json.dumps(row))


def state_file(folder: Path, name: str) -> Path:
    """File of the last state of the point of that name in the folder of its study."""
    return folder / "points" / f"{name}.npz"


def write_checks(folder: Path, outcome) -> None:
    """checks.txt: what looks wrong at every point of a sweep, each sentence once with the points that it is true of."""
    said: dict[str, list[str]] = {}
    for row in outcome.polar.table.itertuples():
        for sentence in outcome.solution(row.mach, row.alpha).checks():
            said.setdefault(sentence, []).append(f"M {row.mach:g} alpha {row.alpha:g}")
    lines = [f"{', '.join(at)}: {sentence}" for sentence, at in said.items()] or ["Nothing looks wrong."]
    write_text(folder / "checks.txt", "\n".join(lines) + "\n")
