"""Small things that much rests on: what is kept, what is registered."""

from __future__ import annotations

import threading
import unittest
from typing import Literal

from plonket.errors import BadInput
from plonket.fields import Model
from plonket.kept import Kept
from plonket.registry import Entry, Registry


class KeptThings(unittest.TestCase):
    def test_what_was_made_is_not_made_again_until_it_had_to_go(self) -> None:
        made: list[str] = []
        dropped: list[str] = []

        def make(name: str) -> str:
            made.append(name)
            return name.upper()

        kept: Kept[str, str] = Kept(make, 2, dropped.append)
        self.assertEqual([kept.get(n) for n in ("a", "b", "a", "c")], ["A", "B", "A", "C"])
        # `b` had lain longest unused.
        self.assertEqual((made, dropped), (["a", "b", "c"], ["B"]))
        self.assertEqual([kept.has(n) for n in "abc"], [True, False, True])
        self.assertEqual(kept.get("a", lambda: "another"), "A")
        self.assertEqual(kept.get("d", lambda: "given"), "given")
        kept.clear()
        self.assertEqual((dropped, kept.has("d")), (["B", "C", "A", "given"], False))

    def test_many_who_want_the_same_wait_for_one_and_others_do_not(self) -> None:
        begun, go_on = threading.Event(), threading.Event()
        made: list[str] = []

        def make(name: str) -> str:
            made.append(name)
            if name == "slow":
                begun.set()
                self.assertTrue(go_on.wait(20))
            return name

        kept: Kept[str, str] = Kept(make, 8)
        answers: list[str] = []
        threads = [threading.Thread(target=lambda: answers.append(kept.get("slow"))) for _ in range(4)]
        for thread in threads:
            thread.start()
        self.assertTrue(begun.wait(20))
        self.assertEqual(kept.get("quick"), "quick", "another one is had while the slow one is made")
        go_on.set()
        for thread in threads:
            thread.join(20)
        self.assertEqual((answers, made.count("slow")), (["slow"] * 4, 1))

    def test_what_failed_is_tried_again(self) -> None:
        tries: list[int] = []

        def make(name: str) -> int:
            tries.append(1)
            if len(tries) == 1:
                raise BadInput("no", "Not yet.")
            return len(tries)

        kept: Kept[str, int] = Kept(make, 2)
        with self.assertRaises(BadInput):
            kept.get("a")
        self.assertEqual(kept.get("a"), 2)

    def test_one_may_need_another_to_be_made(self) -> None:
        kept: Kept[int, int] = Kept(lambda n: 0 if n == 0 else kept.get(n - 1) + n, 20)
        self.assertEqual(kept.get(6), 21)


class Plain(Model):
    kind: Literal["plain"] = "plain"


class Registered(unittest.TestCase):
    def entry(self, kind: str = "plain", settings: type[Model] = Plain) -> Entry:  # type: ignore[type-arg]
        return Entry(kind=kind, label="Plain", help="", settings=settings, run=lambda: 1)

    def test_it_is_found_by_its_name_in_the_order_of_adding(self) -> None:
        class Other(Model):
            kind: Literal["other"] = "other"

        registry: Registry = Registry("thing")  # type: ignore[type-arg]
        registry.add(self.entry())
        registry.add(self.entry("other", Other))
        self.assertEqual([e.kind for e in registry], ["plain", "other"])
        self.assertIs(registry.get("plain").settings, Plain)

    def test_twice_unknown_or_by_another_name_is_refused_in_words(self) -> None:
        registry: Registry = Registry("thing")  # type: ignore[type-arg]
        registry.add(self.entry())
        with self.assertRaisesRegex(ValueError, "registered twice"):
            registry.add(self.entry())
        with self.assertRaisesRegex(ValueError, "need kind"):
            registry.add(self.entry("odd"))
        with self.assertRaises(BadInput) as told:
            registry.get("odd")
        self.assertEqual(told.exception.message, "There is no thing called 'odd'. Known: plain.")
