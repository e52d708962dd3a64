"""Examples of the documentation run as printed: docstrings, pages of the site, generated reference."""

import contextlib
import doctest
import importlib.util
import io
import pkgutil
import re
import tempfile
import unittest
from pathlib import Path

import zephyrum

TOP = Path(__file__).parents[1]
PAGES = sorted(
    path
    for path in (TOP / "docs").rglob("*.md")
    if "reference" not in path.parts and re.search(r"^```python$", path.read_text(encoding="utf-8"), re.M)
)


class Docstrings(unittest.TestCase):
    def test_examples_give_what_they_print(self):
        attempted = 0
        for info in pkgutil.walk_packages(zephyrum.__path__, "zephyrum."):
            module = importlib.import_module(info.name)
            with self.subTest(info.name), contextlib.redirect_stdout(io.StringIO()) as said:
                result = doctest.testmod(module, optionflags=doctest.NORMALIZE_WHITESPACE | doctest.ELLIPSIS)
                attempted += result.attempted
                self.assertEqual(result.failed, 0, said.getvalue())
        self.assertGreater(attempted, 10)


class Pages(unittest.TestCase):
    def test_code_blocks_run_in_order(self):
        self.assertGreater(len(PAGES), 4)
        for page in PAGES:
            names: dict = {}
            blocks = re.findall(r"^```python\n(.*?)^```", page.read_text(encoding="utf-8"), re.S | re.M)
            with (
                self.subTest(page.name),
                tempfile.TemporaryDirectory() as folder,
                contextlib.chdir(folder),
                contextlib.redirect_stdout(io.StringIO()),
            ):
                for block in blocks:
                    exec(compile(block, page.name, "exec"), names)

    def test_study_files_of_the_pages_are_taken(self):
        from zephyrum.studies.spec import read_spec

        taken = 0
        for page in (TOP / "docs").rglob("*.md"):
            for block in re.findall(r"^```toml\n(.*?)^```", page.read_text(encoding="utf-8"), re.S | re.M):
                if "[section]" in block or "[aircraft]" in block:
                    with self.subTest(page.name), tempfile.TemporaryDirectory() as folder:
                        path = Path(folder) / "study.toml"
                        path.write_text(block, encoding="utf-8")
                        (Path(folder) / "scan.stl").write_bytes(b"")
                        read_spec(path)
                        taken += 1
        self.assertGreater(taken, 1)

    def test_the_generated_reference_has_every_command_key_and_column(self):
        spec = importlib.util.spec_from_file_location("make_reference", TOP / "docs" / "make_reference.py")
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        for word in ("zephyrum run", "zephyrum compile", "--resolution"):
            self.assertIn(word, module.commands())
        for word in ("`clmax_spacing`", "`residual_drop`", "[trim]", "[aircraft]"):
            self.assertIn(word, module.study_keys())
        self.assertIn("`outcome`", module.columns())
        self.assertIn("::: zephyrum.solve", module.api())


if __name__ == "__main__":
    unittest.main()
