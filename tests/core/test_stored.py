"""Documents as versions before stored them open, and say what they said: one folder a version of the format, never changed."""

from __future__ import annotations

import json
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from plonket.document.references import references
from plonket.document.shot import FORMAT, read_shot

STORED = Path(__file__).parent / "stored"


def differing(stored: Any, now: Any, way: str = "") -> Iterator[str]:
    """Where a value that was stored is not there any more, or another one."""
    if isinstance(stored, dict) and isinstance(now, dict):
        for key, value in stored.items():
            yield from differing(value, now[key], f"{way}/{key}") if key in now else [f"{way}/{key} is gone"]
    elif isinstance(stored, list) and isinstance(now, list) and len(stored) == len(now):
        for k, (a, b) in enumerate(zip(stored, now, strict=True)):
            yield from differing(a, b, f"{way}/{k}")
    elif stored != now:
        yield f"{way}: {stored!r} became {now!r}"


class Stored(unittest.TestCase):
    def test_every_version_of_the_format_has_its_documents(self) -> None:
        self.assertEqual(sorted(int(p.name) for p in STORED.iterdir()), list(range(1, FORMAT + 1)))

    def test_they_open_and_say_what_they_said(self) -> None:
        for path in sorted(STORED.glob("*/*.json")):
            with self.subTest(f"{path.parent.name}/{path.stem}"):
                stored = json.loads(path.read_text())
                shot = read_shot(stored, stored=True)
                self.assertEqual(list(differing(stored, shot.model_dump(mode="json"))), [])
                self.assertTrue(any(one.declared.to == "measurement" for one in references(shot)) or not shot.motions)
                # What is opened can be stored again.
                self.assertEqual(read_shot(shot.model_dump(mode="json")), shot)

    def test_what_it_finds(self) -> None:
        found = list(differing({"a": [1, 2], "b": 3, "c": 4}, {"a": [1, 5], "b": 3}))
        self.assertEqual(found, ["/a/1: 2 became 5", "/c is gone"])
