"""Outlines that bend with what they lie on, against shapes whose every movement is known."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from functools import cache

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import Cancelled, Degenerate
from plonket.base.outlines import Outline, OutlineKey, control_points, fill, flatten
from plonket.base.progress import Work
from plonket.masks.follow_outline import FollowedOutline, drawn_keys, follow_outline, points_of, through, with_followed
from tests.core.photos import photo

SIZE = (640, 360)
FRAMES = 20
BLOB = np.array([
    (-70, -50), (-20, -72), (38, -60), (78, -18), (70, 38), (24, 66), (-34, 60), (-80, 14),
], np.float64)  # fmt: skip


def bent(at: F64, t: float, amount: float) -> F64:
    """Where places about the middle of the thing are at a time: it turns, grows, goes its way and bends like a flag."""
    turn, grow = 0.35 * np.sin(1.1 * t), 1 + 0.12 * np.sin(0.9 * t)
    x, y = at[..., 0], at[..., 1]
    bx = x + amount * (np.sin(y / 42 + 1.3 * t) - np.sin(y / 42))
    by = y + amount * (np.sin(x / 50 + 1.7 * t) - np.sin(x / 50))
    c, s = np.cos(turn) * grow, np.sin(turn) * grow
    return np.stack([c * bx - s * by + 260 + 55 * t, s * bx + c * by + 180 + 14 * np.sin(1.6 * t)], axis=-1)


def smooth(at: F64) -> F64:
    """Control points (n, 7) of a closed round curve through places."""
    arm = (np.roll(at, -1, axis=0) - np.roll(at, 1, axis=0)) / 6
    return np.hstack([at, -arm, arm, np.zeros((len(at), 1))])


@cache
def film(
    figure: str, behind: str, amount: float, *, light: bool = False, post: bool = False
) -> tuple[list[U8], Callable[[int], F64]]:
    """A bending cut of a photograph over another that pans; and its true outline (n, 7), of any frame."""
    rng = np.random.default_rng(3)
    w, h = SIZE
    front, rear = photo(figure, (260, 260)).astype(np.float32), photo(behind, (w + 160, h + 80)).astype(np.float32)
    frames = []
    for k in range(FRAMES):
        t = k / 12
        cover = fill(flatten(true_of(amount)(k)), SIZE).astype(np.float32)[..., None] / 255
        x, y, wide, high = cv2.boundingRect((cover[..., 0] > 0).astype(np.uint8))
        part = np.s_[y : y + high, x : x + wide]
        pixels = np.stack(np.meshgrid(np.arange(x, x + wide) + 0.5, np.arange(y, y + high) + 0.5), axis=-1)
        # The way back, by going there again and again.
        back = pixels - np.array([260 + 55 * t, 180])
        for _ in range(16):
            back += 0.8 * (pixels - bent(back, t, amount))
        spots = (back + 130 - 0.5).astype(np.float32)
        seen = cv2.warpAffine(rear, np.array([[1, 0, -70 - 30 * np.sin(t)], [0, 1, -30 - 10 * np.cos(t)]]), SIZE, flags=cv2.INTER_CUBIC)
        shows = seen.copy()
        shows[part] = cv2.remap(front, spots, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        code = shows * cover + seen * (1 - cover)
        if post:
            code[:, 356:374] = (40, 44, 42)
        if light:
            code = code * (1 - 0.35 * k / FRAMES) + 12 * k / FRAMES
        frames.append(np.clip(code + 2 * rng.standard_normal((h, w, 3)) + 0.5, 0, 255).astype(np.uint8))
    return frames, true_of(amount)


def true_of(amount: float) -> Callable[[int], F64]:
    def shape(k: int) -> F64:
        at, start = smooth(BLOB), bent(BLOB, k / 12, amount)
        out = at.copy()
        out[:, :2] = start
        out[:, 2:4] = bent(BLOB + at[:, 2:4], k / 12, amount) - start
        out[:, 4:6] = bent(BLOB + at[:, 4:6], k / 12, amount) - start
        return out

    return shape


def outline(true: Callable[[int], F64], *frames: int) -> Outline:
    return Outline(keys=[OutlineKey(frame=f, points=points_of(true(f))) for f in frames])


def off(found: F64, true: F64) -> float:
    """Pixels by which points are off, RMS."""
    return float(np.sqrt(((found[:, :2] - true[:, :2]) ** 2).sum(axis=1).mean()))


def likeness(found: F64, true: F64) -> float:
    a, b = (fill(flatten(one), SIZE) > 127 for one in (found, true))
    return float((a & b).sum() / (a | b).sum())


class Follows(unittest.TestCase):
    def check(self, shot: tuple[list[U8], Callable[[int], F64]], *, mean_px: float, like: float, **how: float) -> None:
        frames, true = shot
        found = follow_outline(outline(true, 0), lambda k: frames[k], 0, FRAMES, **how)
        self.assertEqual(sorted(found.shapes), list(range(FRAMES)))
        px = [off(found.shapes[k], true(k)) for k in range(FRAMES)]
        self.assertLess(float(np.mean(px)), mean_px, px)
        self.assertGreater(min(likeness(found.shapes[k], true(k)) for k in range(FRAMES)), like)

    def test_a_bending_cloth_over_stones(self) -> None:
        self.check(film("coffee.png", "gravel.png", 6.0), mean_px=1.5, like=0.98)

    def test_another_one_over_a_photograph(self) -> None:
        self.check(film("astronaut.png", "coffee.png", 6.0), mean_px=0.6, like=0.985)

    def test_what_only_turns_and_grows_is_followed_to_parts_of_a_pixel(self) -> None:
        self.check(film("chelsea.png", "brick.png", 0.0), mean_px=0.08, like=0.995)
        self.check(film("chelsea.png", "brick.png", 0.0), mean_px=0.05, like=0.995, bend=0.0)

    def test_light_that_falls_changes_nothing(self) -> None:
        self.check(film("coffee.png", "gravel.png", 6.0, light=True), mean_px=1.5, like=0.98)

    def test_a_post_that_comes_before_it_does_not_take_it_along(self) -> None:
        self.check(film("coffee.png", "gravel.png", 6.0, post=True), mean_px=1.7, like=0.965)

    def test_at_half_the_size_it_is_the_same(self) -> None:
        frames, true = film("astronaut.png", "coffee.png", 6.0)
        small = [cv2.resize(f, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) for f in frames]
        found = follow_outline(outline(lambda k: true(k) / 2, 0), lambda k: np.asarray(small[k], np.uint8), 0, FRAMES)
        self.assertLess(off(found.shapes[FRAMES - 1] * 2, true(FRAMES - 1)), 1.5)


class Drawn(unittest.TestCase):
    def test_between_two_drawn_shapes_both_count_and_those_stay(self) -> None:
        frames, true = film("coffee.png", "gravel.png", 6.0)
        drawn = outline(true, 0, 16)
        found = follow_outline(drawn, lambda k: frames[k], 0, FRAMES)
        alone = follow_outline(outline(true, 0), lambda k: frames[k], 0, FRAMES)
        between = range(8, 16)
        self.assertLess(np.mean([off(found.shapes[k], true(k)) for k in between]),
                        0.8 * np.mean([off(alone.shapes[k], true(k)) for k in between]))  # fmt: skip
        kept = with_followed(drawn, found)
        self.assertEqual([k.frame for k in drawn_keys(kept)], [0, 16])
        self.assertEqual(drawn_keys(kept)[1].points, drawn.keys[1].points)
        # Each kept shape says how far the frames round it are to be trusted: never more than any of them.
        for before, key, after in zip(kept.keys, kept.keys[1:], kept.keys[2:], strict=False):
            if key.followed:
                assert key.trust is not None
                least = min(found.trust[f] for f in range(before.frame + 1, after.frame))
                self.assertAlmostEqual(key.trust, least, places=3)

    def test_only_as_many_shapes_are_kept_as_are_needed(self) -> None:
        frames, true = film("chelsea.png", "brick.png", 0.0)
        found = follow_outline(outline(true, 4), lambda k: frames[k], 0, FRAMES)
        kept = with_followed(outline(true, 4), found)
        self.assertLess(len(kept.keys), FRAMES)
        for k in range(FRAMES):
            self.assertLess(float(np.abs(control_points(kept, k)[:, :2] - found.shapes[k][:, :2]).max()), 0.15)

    def test_a_long_one_of_many_points_keeps_no_more_than_a_document_can_bear(self) -> None:
        rng = np.random.default_rng(2)
        shapes = {f: np.hstack([50 + 30 * np.cos(np.arange(80))[:, None] + rng.normal(0, 0.4, (80, 2)), np.zeros((80, 5))])
                  for f in range(200)}  # fmt: skip
        first = Outline(keys=[OutlineKey(frame=0, points=points_of(shapes[0]))])
        kept = with_followed(first, FollowedOutline(shapes=shapes))
        self.assertLess(sum(len(k.points) for k in kept.keys), 3200)
        self.assertEqual(kept.keys[-1].frame, 199)

    def test_followed_again_it_starts_from_what_was_drawn(self) -> None:
        frames, true = film("astronaut.png", "coffee.png", 6.0)
        once = with_followed(outline(true, 5), follow_outline(outline(true, 5), lambda k: frames[k], 0, FRAMES))
        again = with_followed(once, follow_outline(once, lambda k: frames[k], 0, FRAMES))
        self.assertEqual(once, again)

    def test_in_pixels_of_its_own_it_is_the_same(self) -> None:
        frames, true = film("astronaut.png", "coffee.png", 6.0)

        def to_clip(frame: int) -> F64:
            return np.array([[2.0, 0, 10 + 3 * frame], [0, 2.0, -7], [0, 0, 1]])

        own = Outline(keys=[OutlineKey(frame=0, points=points_of(through(true(0), np.linalg.inv(to_clip(0)))))])
        found = follow_outline(own, lambda k: frames[k], 0, 12, to_clip=to_clip)
        for k in (4, 11):
            self.assertLess(off(through(found.shapes[k], to_clip(k)), true(k)), 0.6)


class Refused(unittest.TestCase):
    def test_what_cannot_be_followed_says_why(self) -> None:
        frames, true = film("coffee.png", "gravel.png", 6.0)
        flat = [np.full((SIZE[1], SIZE[0], 3), 90, np.uint8)] * 3
        tiny = Outline(keys=[OutlineKey(frame=0, points=points_of(through(true(0), np.diag([0.01, 0.01, 1]))))])
        for given, shown, code in (
            (outline(true, 0), flat, "outline.flat"), (tiny, frames, "outline.tiny"), (outline(true, 20), flat, "outline.no_key"),
        ):  # fmt: skip
            with self.assertRaises(Degenerate) as told:
                follow_outline(given, lambda k, shown=shown: shown[k], 0, 3)
            self.assertEqual(told.exception.code, code)

    def test_where_it_is_gone_it_ends(self) -> None:
        frames, true = film("coffee.png", "gravel.png", 6.0)
        rng = np.random.default_rng(9)
        cut = [f if k < 6 else rng.integers(0, 255, f.shape).astype(np.uint8) for k, f in enumerate(frames)]
        found = follow_outline(outline(true, 0), lambda k: cut[k], 0, FRAMES)
        self.assertEqual(sorted(found.shapes), list(range(6)))
        self.assertEqual(found.stopped, {6: "lost"})

    def test_stop_stops(self) -> None:
        frames, true = film("coffee.png", "gravel.png", 6.0)
        asked = iter([False, False, True])
        with self.assertRaises(Cancelled):
            follow_outline(outline(true, 0), lambda k: frames[k], 0, FRAMES, work=Work(is_cancelled=lambda: next(asked)))
