"""Numbers that move: easing, handles, wobble; and which frames of a clip are shown."""

from __future__ import annotations

import unittest

import numpy as np
from pydantic import ValidationError

from plonket.base.fields import Key, Keyed, Wobble, Wobbling, raised, times, value_at, wobble_at
from plonket.layers.common import clip_frames
from plonket.layers.still import StillLayer


def keyed(*keys: Key) -> Keyed:
    return Keyed(keys=list(keys))


class Easing(unittest.TestCase):
    def test_hold_linear_and_smooth(self) -> None:
        for ease, at_quarter in (("hold", 0.0), ("linear", 2.5), ("smooth", 10 * (3 / 16 - 2 / 64))):
            n = keyed(Key(frame=0, value=0, ease=ease), Key(frame=8, value=10))  # type: ignore[arg-type]
            self.assertAlmostEqual(value_at(n, 2), at_quarter)
            self.assertEqual((value_at(n, -4), value_at(n, 8), value_at(n, 99)), (0, 10, 10))

    def test_handles_bend_the_way_and_a_straight_one_is_linear(self) -> None:
        a = Key(frame=0, value=0, ease="curve", out_time=1 / 3, out_value=10 / 3)
        b = Key(frame=30, value=10, in_time=1 / 3, in_value=-10 / 3)
        for f in (3, 11, 26):
            self.assertAlmostEqual(value_at(keyed(a, b), f), f / 3, places=6)
        # Flat handles of a third each are the cubic whose time is even: the smooth ease.
        flat = keyed(a.model_copy(update={"out_value": 0.0}), b.model_copy(update={"in_value": 0.0}))
        smooth = keyed(Key(frame=0, value=0), Key(frame=30, value=10))
        for f in (4, 15, 22):
            self.assertAlmostEqual(value_at(flat, f), value_at(smooth, f), places=6)

    def test_a_curve_may_overshoot_but_its_time_never_runs_back(self) -> None:
        a = Key(frame=0, value=0, ease="curve", out_time=1.0, out_value=0)
        b = Key(frame=100, value=1, in_time=1.0, in_value=0)
        values = np.array([value_at(keyed(a, b), f / 4) for f in range(401)])
        self.assertTrue((np.diff(values) >= -1e-9).all())
        over = keyed(a.model_copy(update={"out_time": 0.4, "out_value": 3.0}), b)
        self.assertGreater(max(value_at(over, f) for f in range(100)), 1.05)

    def test_keys_must_be_in_order(self) -> None:
        with self.assertRaises(ValidationError):
            keyed(Key(frame=4, value=0), Key(frame=4, value=1))


class Wobbles(unittest.TestCase):
    def test_it_stays_within_its_amount_and_is_the_same_for_its_seed(self) -> None:
        for kind in ("smooth", "flicker", "steps"):
            w = Wobble(kind=kind, amount=5, every=4, seed=9)  # type: ignore[arg-type]
            values = np.array([wobble_at(w, f) for f in range(2000)])
            self.assertLessEqual(np.abs(values).max(), 5)
            self.assertLess(abs(values.mean()), 0.6)
            self.assertGreater(values.std(), 0.8)
            other = np.array([wobble_at(w.model_copy(update={"seed": 10}), f) for f in range(2000)])
            self.assertLess(abs(np.corrcoef(values, other)[0, 1]), 0.15)

    def test_smooth_has_no_jumps_steps_hold_and_flicker_jumps(self) -> None:
        def rough(kind: str) -> float:
            w = Wobble(kind=kind, amount=1, every=10)  # type: ignore[arg-type]
            return float(np.abs(np.diff([wobble_at(w, f / 4) for f in range(1200)])).max())

        self.assertLess(rough("smooth"), 0.15)
        self.assertGreater(rough("flicker"), 0.3)
        steps = Wobble(kind="steps", amount=1, every=10)
        self.assertEqual({wobble_at(steps, f) for f in range(20, 30)}, {wobble_at(steps, 20)})

    def test_a_wobble_goes_about_keys(self) -> None:
        n = Wobbling(base=keyed(Key(frame=0, value=10, ease="linear"), Key(frame=10, value=20)), wobble=Wobble(amount=2, every=6))
        self.assertAlmostEqual(value_at(n, 5) - 15, wobble_at(n.wobble, 5))
        self.assertNotEqual(value_at(n, 5), 15)


class Changed(unittest.TestCase):
    def test_larger_and_raised_at_every_frame(self) -> None:
        """Handles of curves and the width of wobbles go along."""
        curve = Keyed(keys=[Key(frame=0, value=2.0, ease="curve", out_value=5.0), Key(frame=20, value=-1.0, in_value=-3.0)])
        wobbling = Wobbling(base=curve, wobble=Wobble(amount=4.0, every=3.0))
        for number in (7.0, curve, wobbling):
            for frame in (-2, 0, 5, 13.5, 20, 30):
                was = value_at(number, frame)
                self.assertAlmostEqual(value_at(times(number, 3.0), frame), 3 * was)
                self.assertAlmostEqual(value_at(raised(number, 1.5), frame), was + 1.5)


class ClipTime(unittest.TestCase):
    def shown(self, frames: list[int], length: int = 5, **settings: object) -> list[object]:
        layer = StillLayer(id="l", name="l", asset="a" * 64, width=8, height=8, **settings)  # type: ignore[arg-type]
        out: list[object] = []
        for f in frames:
            parts = clip_frames(layer, f, length)
            out.append(parts[0][0] if len(parts) == 1 else parts or None)
        return out

    def test_after_its_end_it_holds_loops_turns_or_is_gone(self) -> None:
        self.assertEqual(self.shown([0, 5, 7, 12], starts=5), [0, 0, 2, 4])
        self.assertEqual(self.shown([4, 5, 10, 11], starts=5, after="loop"), [4, 0, 0, 1])
        self.assertEqual(self.shown([0, 3, 4, 5, 8, 9], after="turn"), [0, 3, 4, 3, 0, 1])
        self.assertEqual(self.shown([4, 6, 11], starts=5, after="gone"), [None, 1, None])

    def test_speed_trim_and_backwards(self) -> None:
        self.assertEqual(self.shown([0, 1, 2, 3], length=20, speed=200.0), [0, 2, 4, 6])
        self.assertEqual(self.shown([0, 1, 2, 9], length=20, speed=-100.0), [19, 18, 17, 10])
        self.assertEqual(self.shown([0, 2, 3, 9], length=20, first=4, last=6), [4, 6, 6, 6])
        self.assertEqual(self.shown([0, 1, 2, 3, 4], length=20, first=4, last=6, speed=-100.0, after="loop"), [6, 5, 4, 6, 5])
        self.assertEqual(self.shown([0, 50], length=20, first=7, speed=0.0), [7, 7])

    def test_slow_motion_takes_the_nearest_or_mixes_two(self) -> None:
        self.assertEqual(self.shown([0, 1, 2, 3], length=20, speed=40.0), [0, 0, 1, 1])
        parts = self.shown([1], length=20, speed=40.0, between="mixed")[0]
        assert isinstance(parts, list)
        self.assertEqual([k for k, _ in parts], [0, 1])
        np.testing.assert_allclose([share for _, share in parts], [0.6, 0.4])

    def test_frames_by_keys_hold_and_run_back(self) -> None:
        shows = keyed(Key(frame=0, value=0, ease="linear"), Key(frame=4, value=8, ease="hold"), Key(frame=10, value=2))
        self.assertEqual(self.shown([0, 2, 4, 9, 10], length=20, by_keys=True, shows=shows), [0, 4, 8, 8, 2])

    def test_a_still_is_always_itself(self) -> None:
        self.assertEqual(self.shown([0, 99], length=1, speed=-50.0, after="gone"), [0, 0])
