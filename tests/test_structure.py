"""What may import what: no circle of files, no arrow against the path of the data."""

import ast
import unittest
from pathlib import Path

import networkx as nx

import zephyrum

ROOT = Path(zephyrum.__file__).parent
ORDER = (
    "errors",
    "_core",
    "conditions",
    "geometry",
    "loworder",
    "mesh",
    "flow",
    "solver",
    "results",
    "studies",
    "plotting",
    "report",
    "cli",
)  # data travels to the right
CORE = ("conditions", "geometry", "loworder", "mesh", "flow", "solver", "results")


def modules() -> dict[str, Path]:
    names = {}
    for path in ROOT.rglob("*.py"):
        parts = ("zephyrum", *path.relative_to(ROOT).with_suffix("").parts)
        names[".".join(parts).removesuffix(".__init__")] = path
    return names


def for_type_checkers(node: ast.AST) -> bool:
    """Whether this is a block of imports that only type checkers read."""
    return isinstance(node, ast.If) and isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING"


def imports(at_run_time: bool = False) -> nx.DiGraph:
    """An arrow from every module to those that it imports, also within functions; at_run_time: not for hints only."""
    known = modules()
    graph = nx.DiGraph()
    for name, path in known.items():
        tree = ast.parse(path.read_text(encoding="utf-8"))
        if at_run_time:
            tree.body = [node for node in tree.body if not for_type_checkers(node)]
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("zephyrum"):
                for one in node.names:
                    target = f"{node.module}.{one.name}"
                    graph.add_edge(name, target if target in known else node.module)
    graph.remove_edges_from(list(nx.selfloop_edges(graph)))
    return graph


class Structure(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.graph = imports()

    def test_there_is_no_circle_of_files(self):
        # a package's own list of names is no part of a circle, nor is a hint of the class whose methods a file holds
        arrows = [(a, b) for a, b in imports(at_run_time=True).edges if not b.startswith(a + ".")]
        circles = [sorted(one) for one in nx.strongly_connected_components(nx.DiGraph(arrows)) if len(one) > 1]
        self.assertEqual(circles, [])

    def test_no_package_imports_one_to_its_right(self):
        wrong = []
        for a, b in self.graph.edges:
            if a == "zephyrum":
                continue
            left, right = a.split(".")[1], b.split(".")[1] if "." in b else "zephyrum"
            if right == "zephyrum" or ORDER.index(right) > ORDER.index(left):
                wrong.append((a, b))
        self.assertEqual(wrong, [])

    def test_the_core_neither_prints_nor_draws_nor_parses(self):
        for name in CORE:
            for path in (ROOT / name).rglob("*.py"):
                tree = ast.parse(path.read_text(encoding="utf-8"))
                for node in ast.walk(tree):
                    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                        self.assertNotEqual(node.func.id, "print", path)
                    if isinstance(node, ast.Import | ast.ImportFrom):
                        module = node.module or "" if isinstance(node, ast.ImportFrom) else node.names[0].name
                        self.assertNotIn(
                            module.split(".")[0], ("matplotlib", "click", "rich", "argparse", "plotly"), path
                        )


if __name__ == "__main__":
    unittest.main()
