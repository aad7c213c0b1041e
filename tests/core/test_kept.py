"""Small things that much rests on: what is kept, what is registered."""

from __future__ import annotations

import threading
import unittest
from typing import Any, Literal

import numpy as np

from plonket.base.errors import BadInput
from plonket.base.fields import Settings
from plonket.base.lru_cache import Budget, LruCache, bytes_of
from plonket.base.registry import Entry, Registry
from plonket.image.picture import Picture, StillSource


class KeptThings(unittest.TestCase):
    def test_what_was_made_is_not_made_again_until_it_had_to_go(self) -> None:
        made: list[str] = []
        dropped: list[str] = []

        def make(name: str) -> str:
            made.append(name)
            return name.upper()

        kept: LruCache[str, str] = LruCache(make, 2, dropped.append)
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

        kept: LruCache[str, str] = LruCache(make, 8)
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

        kept: LruCache[str, int] = LruCache(make, 2)
        with self.assertRaises(BadInput):
            kept.get("a")
        self.assertEqual(kept.get("a"), 2)

    def test_one_may_need_another_to_be_made(self) -> None:
        kept: LruCache[int, int] = LruCache(lambda n: 0 if n == 0 else kept.get(n - 1) + n, 20)
        self.assertEqual(kept.get(6), 21)


class Budgets(unittest.TestCase):
    def test_caches_that_share_bytes_let_go_of_what_was_used_longest_ago_wherever_it_lies(self) -> None:
        budget = Budget(1000)
        dropped: list[int] = []
        first: LruCache[str, Any] = LruCache(lambda _: np.zeros(300, np.uint8), 9, lambda a: dropped.append(a.nbytes), budget)
        second: LruCache[str, Any] = LruCache(lambda _: np.zeros(250, np.uint8), 9, budget=budget)
        first.get("a")
        first.get("b")
        second.get("c")
        first.get("a")
        self.assertEqual((budget.used, dropped), (850, []))
        second.get("d")
        self.assertEqual([first.has("a"), first.has("b"), second.has("c"), second.has("d")], [True, False, True, True])
        self.assertEqual((budget.used, dropped), (800, [300]))
        # What is larger than all of it is kept alone.
        second.get("huge", lambda: np.zeros(5000, np.uint8))
        self.assertEqual((budget.used, first.has("a"), second.has("huge")), (5000, False, True))
        second.clear()
        self.assertEqual(budget.used, 0)
        few: LruCache[int, Any] = LruCache(lambda _: np.zeros(10, np.uint8), 2, budget=budget)
        for n in range(9):
            few.get(n)
        self.assertEqual(budget.used, 20)

    def test_threads_leave_the_sum_right(self) -> None:
        budget = Budget(4000)
        caches: list[LruCache[int, Any]] = [LruCache(lambda n: np.zeros(50 + n, np.uint8), 40, budget=budget) for _ in range(3)]

        def work(seed: int) -> None:
            rng = np.random.default_rng(seed)
            for n in rng.integers(0, 60, 400):
                self.assertEqual(caches[int(n) % 3].get(int(n)).nbytes, 50 + n)

        threads = [threading.Thread(target=work, args=(k,)) for k in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        there = sum(50 + n for cache in caches for n in range(60) if cache.has(n))
        self.assertLessEqual(budget.used, 4000)
        self.assertAlmostEqual(there, budget.used, delta=0.05 * 4000)

    def test_the_memory_of_what_is_kept_is_that_of_its_arrays(self) -> None:
        picture = np.zeros((40, 60, 4), np.float32)
        self.assertEqual(bytes_of(picture), 40 * 60 * 16)
        self.assertGreater(bytes_of(StillSource.of_light(picture)), 40 * 60 * 16)
        self.assertEqual(bytes_of(Picture(rgba=picture)), 40 * 60 * 16)
        self.assertEqual(bytes_of("words"), 0)


class Plain(Settings):
    kind: Literal["plain"] = "plain"


class Registered(unittest.TestCase):
    def entry(self, kind: str = "plain", settings: type[Settings] = Plain) -> Entry:  # type: ignore[type-arg]
        return Entry(kind=kind, label="Plain", help="", settings=settings, run=lambda: 1)

    def test_it_is_found_by_its_name_in_the_order_of_adding(self) -> None:
        class Other(Settings):
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
