"""What the documents say about adding kinds is so."""

from __future__ import annotations

import inspect
import re
import unittest
from pathlib import Path
from typing import Any

from plonket.base.registry import Registry
from plonket.document.kinds import REGISTRIES
from plonket.formats.registry import FORMATS
from tests.kinds import EVERY, announced

ROOT = Path(__file__).resolve().parents[2]
ROW = re.compile(r"^\| an? ([a-z ]+) \| `([^`]+)` \| (\d+) \|$", re.MULTILINE)
SORTS = {"layer": "layer", "look": "look", "motion": "motion", "treatment of the plate": "treatment",
         "generated element": "generator", "mask": "mask", "key": "key",
         "delivered file": "output"}  # fmt: skip


def table() -> dict[str, tuple[str, int]]:
    """The table of `docs/architecture.md`: sort -> its file and how many files are touched."""
    text = (ROOT / "docs/architecture.md").read_text()
    return {sort: (file, int(count)) for sort, file, count in ROW.findall(text)}


def registry_of(sort: str) -> Registry[Any]:
    return FORMATS if sort == "file format" else REGISTRIES[SORTS[sort]]


class Table(unittest.TestCase):
    def test_every_sort_is_in_it(self) -> None:
        self.assertEqual(set(table()), {*SORTS, "file format"})

    def test_kinds_lie_where_it_says(self) -> None:
        for sort, (file, _) in table().items():
            folder = f"plonket.{file.split('NAME')[0].rstrip('/').replace('/', '.')}"
            for entry in registry_of(sort):
                made = entry.settings if hasattr(entry, "settings") else (entry.write or entry.read)
                with self.subTest(f"{sort} {entry.kind}"):
                    self.assertTrue(inspect.getmodule(made).__name__.startswith(folder))  # type: ignore[union-attr]

    def test_a_new_kind_touches_as_many_files_as_it_says(self) -> None:
        with announced():
            for sort, (_, count) in table().items():
                entry = next(e for r, e in EVERY if r is registry_of(sort))
                told = re.compile(rf"""["']{re.escape(entry.kind)}["']""")
                knows = [p for folder in ("core", "server", "web/src") for p in (ROOT / folder).rglob("*")
                         if p.suffix in (".py", ".ts", ".tsx") and p.name != "schema.ts" and told.search(p.read_text())]  # fmt: skip
                # Its own file is the one in which it is made up, outside all of these.
                self.assertEqual(len(knows) + 1, count, (sort, knows))

    def test_kinds_are_announced_once_and_in_order(self) -> None:
        for registry in (*REGISTRIES.values(), FORMATS):
            orders = [entry.order for entry in registry]
            self.assertEqual(orders, sorted(orders))
            self.assertEqual(len(set(registry.kinds())), len(registry.kinds()))


class Example(unittest.TestCase):
    def test_what_it_quotes_stands_in_the_made_up_kinds(self) -> None:
        quoted = re.findall(r"```python\n(.*?)```", (ROOT / "docs/adding.md").read_text(), re.DOTALL)
        made = (ROOT / "tests/kinds.py").read_text()
        lines = {line.strip() for line in made.splitlines()}
        for block in quoted:
            for line in (one.strip() for one in block.splitlines()):
                if line and not line.startswith(('"""', "LAYERS.add", "))")):
                    self.assertIn(line, lines)
