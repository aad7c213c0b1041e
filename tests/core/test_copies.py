"""What the browser works out by itself is what the core works out: numbers, followers, outlines."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Key, Keyed, Number, Wobble, Wobbling, value_at, wobble_at
from plonket.base.homography import jacobian, transform_point
from plonket.base.outlines import Outline, control_points
from plonket.document import retime
from plonket.document.follow import Follow
from plonket.document.shot import Footage, Shot
from plonket.track.following import Parts, local_movement
from tests.core.copies import Alike, dumped


def numbers(rng: np.random.Generator) -> Iterator[Number]:
    """Constants, keys of every kind, and wobbles about both."""
    for ease in ("hold", "linear", "smooth", "curve"):
        for count in (1, 2, 5):
            frames = np.sort(rng.choice(60, count, replace=False))
            keys = [Key(frame=int(f), value=float(rng.normal(0, 50)), ease=ease, out_time=float(rng.uniform(0, 1)),
                        out_value=float(rng.normal(0, 40)), in_time=float(rng.uniform(0, 1)),
                        in_value=float(rng.normal(0, 40))) for f in frames]  # fmt: skip
            keyed = Keyed(keys=keys)
            yield keyed
            for kind in ("smooth", "flicker", "steps"):
                wobble = Wobble(kind=kind, amount=float(rng.uniform(1, 30)), every=float(rng.uniform(0.5, 20)),
                                seed=int(rng.integers(0, 9999)))  # fmt: skip
                yield Wobbling(base=keyed, wobble=wobble)
                yield Wobbling(base=float(rng.normal()), wobble=wobble)
    yield 12.5


def homography(rng: np.random.Generator) -> F64:
    m = np.eye(3) + rng.normal(0, 0.15, (3, 3)) * np.array([[1, 1, 200], [1, 1, 200], [1e-3, 1e-3, 0]])
    return np.asarray(m / m[2, 2])


class Time(Alike):
    """Which moment of the clip a frame of the shot shows, and what of the clip that is."""

    def test_speeds_holds_ramps_and_cuts(self) -> None:
        plain = Shot(name="s", footage=Footage(asset="c" * 64, name="c", width=64, height=36, rate="30/1", frames=60, in_frame=0,
                                               out_frame=59))  # fmt: skip
        slow = retime.set_speed(plain, 20, 39, 40)
        for shot in (slow, retime.hold(slow, 10, 7), retime.ramp(slow, 12, 34), retime.cut_out(slow, 5, 24),
                     retime.set_speed(slow, 10, 50, -150), plain):  # fmt: skip
            footage = shot.footage
            assert footage is not None
            given = dumped(footage)
            self.assertEqual(self.say("time.lengthOf", given), footage.length)
            self.assertEqual(tuple(self.say("time.clipRange", given)), footage.clip_range)
            frames = range(footage.length)
            told = [self.say("time.momentOf", given, f) for f in frames]
            np.testing.assert_allclose(told, [footage.moment(f) for f in frames], atol=1e-6)
            # The frame that shows a frame of the clip does so, where one does.
            for wanted in (0, 17, 33, 59):
                shown = footage.moment(self.say("time.frameShowing", given, wanted))
                self.assertAlmostEqual(abs(shown - wanted), min(abs(footage.moment(f) - wanted) for f in frames), places=5)

    def test_stretches_say_how_fast_it_runs(self) -> None:
        plain = Shot(name="s", footage=Footage(asset="c" * 64, name="c", width=64, height=36, rate="30/1", frames=60, in_frame=0,
                                               out_frame=59))  # fmt: skip
        cut = retime.cut_out(retime.hold(retime.set_speed(plain, 20, 39, 50), 30, 8), 5, 9)
        pieces = self.say("time.piecesOf", dumped(cut.footage))
        self.assertEqual([(p["first"], p["last"], p["cut"]) for p in pieces],
                         [(0, 4, False), (5, 14, True), (15, 24, False), (25, 32, False), (33, 62, False), (63, 82, False)])  # fmt: skip
        np.testing.assert_allclose([p["from"] for p in pieces], [1, 1, 0.5, 0, 0.5, 1], atol=1e-6)


class Numbers(Alike):
    def test_keys_eases_and_wobbles(self) -> None:
        frames = [0.0, 3.0, 7.5, 21.25, 40.0, 59.0, 200.0]
        for number in numbers(np.random.default_rng(1)):
            told = [self.say("geometry.valueAt", number, f) for f in frames]
            np.testing.assert_allclose(told, [value_at(number, f) for f in frames], atol=1e-6, err_msg=str(number))

    def test_a_wobble_alone(self) -> None:
        for kind in ("smooth", "flicker", "steps"):
            wobble = Wobble(kind=kind, amount=7, every=3.3, seed=811)
            told = [self.say("geometry.wobbleAt", wobble, f) for f in range(50)]
            np.testing.assert_allclose(told, [wobble_at(wobble, f) for f in range(50)], atol=1e-9)

    def test_what_is_set_at_a_frame_is_there_and_over_all_keys_the_path_moves_as_one(self) -> None:
        for number in numbers(np.random.default_rng(2)):
            for over in ("here", "move", "scale"):
                before = [value_at(number, f) for f in range(61)]
                wanted = before[11] * 1.5 + 3
                told = Shot.model_validate(
                    {"name": "s", "stack": [{"kind": "wash", "id": "w", "name": "w",
                                             "opacity": self.say("geometry.withValue", 50.0, 11, 60.0)}]}
                )  # fmt: skip
                self.assertEqual(value_at(told.stack[0].opacity, 11), 60.0)
                changed = self.say("geometry.withValue", number, 11, wanted, over)
                again = self.say("geometry.valueAt", changed, 11)
                self.assertAlmostEqual(again, wanted, places=5, msg=f"{number} {over}")
                if over == "move" and isinstance(number, Keyed):
                    moved = [self.say("geometry.valueAt", changed, f) for f in (0, 30, 60)]
                    np.testing.assert_allclose(moved, [before[f] + wanted - before[11] for f in (0, 30, 60)], atol=1e-6)
                if over == "scale" and isinstance(number, Keyed) and abs(before[11]) > 1e-6:
                    grown = [self.say("geometry.valueAt", changed, f) for f in (0, 30, 60)]
                    np.testing.assert_allclose(grown, [before[f] * wanted / before[11] for f in (0, 30, 60)], rtol=1e-5)

    def test_every_keyed_number_of_a_layer_is_found_and_changed_in_its_place(self) -> None:
        keys = Keyed(keys=[Key(frame=0, value=1), Key(frame=9, value=4)])
        layer = {"id": "a", "opacity": dumped(keys), "x": 4.0, "masks": [{"name": "Hole", "soft": dumped(keys)}],
                 "looks": [{"name": "Glow", "radius": dumped(Wobbling(base=keys, wobble=Wobble())), "curve": [{"x": 0, "y": 1}]}]}  # fmt: skip
        found = self.say("keyed.movingOf", layer)
        self.assertEqual([m["label"] for m in found], ["opacity", "Hole: soft", "Glow: radius"])
        self.assertEqual([m["path"] for m in found], [["opacity"], ["masks", 0, "soft"], ["looks", 0, "radius"]])
        tidy = self.say("keyed.tidied", [dumped(Key(frame=4, value=v)) | {"frame": f} for f, v in ((4, 1), (-3, 2), (4, 3), (99, 5))], 10)
        self.assertEqual([(k["frame"], k["value"]) for k in tidy], [(0, 2.0), (4, 3.0), (9, 5.0)])


class Followers(Alike):
    def test_matrices(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(20):
            a, b, at = homography(rng), homography(rng), rng.uniform(0, 600, 2)
            p = {"x": at[0], "y": at[1]}
            told = self.say("geometry.apply", a.ravel().tolist(), p)
            np.testing.assert_allclose([told["x"], told["y"]], transform_point(a, at), rtol=1e-9)
            product = np.array(self.say("geometry.times", a.ravel().tolist(), b.ravel().tolist())).reshape(3, 3)
            np.testing.assert_allclose(product / product[2, 2], a @ b / (a @ b)[2, 2], rtol=1e-7)
            back = np.array(self.say("geometry.invert", a.ravel().tolist())).reshape(3, 3)
            np.testing.assert_allclose(back / back[2, 2], np.linalg.inv(a) / np.linalg.inv(a)[2, 2], rtol=1e-6, atol=1e-9)
            j = jacobian(a, at)
            local = self.say("geometry.turnAndSize", a.ravel().tolist(), p)
            self.assertAlmostEqual(local["size"], math.sqrt(abs(np.linalg.det(j))), places=9)
            corners = np.array([[0, 0], [300, 20], [320, 240], [-10, 200]], np.float64)
            to = [transform_point(a, c) for c in corners]
            quad = self.say("geometry.quadMatrix", [{"x": x, "y": y} for x, y in corners], [{"x": x, "y": y} for x, y in to])
            np.testing.assert_allclose(np.array(quad).reshape(3, 3), a, rtol=1e-6, atol=1e-9)
        folded = [{"x": 0, "y": 0}] * 4
        self.assertIsNone(self.say("geometry.quadMatrix", folded, folded))

    def test_the_parts_of_a_movement_that_a_follower_takes(self) -> None:
        rng = np.random.default_rng(4)
        for k in range(32):
            moved, start, at = homography(rng), homography(rng), rng.uniform(0, 600, 2)
            parts = {"shift": bool(k & 1), "turn": bool(k & 2), "size": bool(k & 4), "perspective": bool(k & 8)}
            expected = local_movement(Parts(**parts), moved, start, at)
            told = self.say("geometry.carried", Follow(target="m", **parts), moved.ravel().tolist(), start.ravel().tolist(),
                            {"x": at[0], "y": at[1]})  # fmt: skip
            np.testing.assert_allclose(np.array(told).reshape(3, 3), expected, rtol=1e-7, atol=1e-8)

    def test_the_viewer_s_transform_goes_there_and_back(self) -> None:
        rng = np.random.default_rng(5)
        for view in (None, homography(rng).ravel().tolist()):
            mapping = {"zoom": 1.7, "x": 40.0, "y": -12.5} | ({"view": view} if view else {})
            for _ in range(5):
                p = {"x": float(rng.uniform(0, 600)), "y": float(rng.uniform(0, 300))}
                again = self.say("viewport.toPicture", mapping, self.say("viewport.toScreen", mapping, p))
                np.testing.assert_allclose([again["x"], again["y"]], [p["x"], p["y"]], atol=1e-6)

    def test_outlines_between_their_keys(self) -> None:
        rng = np.random.default_rng(6)
        names = ("x", "y", "in_x", "in_y", "out_x", "out_y", "feather")
        shapes = [{"frame": f, "points": [dict(zip(names, rng.uniform(-50, 300, 7).tolist(), strict=True)) for _ in range(4)]}
                  for f in (3, 11, 40)]  # fmt: skip
        for keys in (shapes[:1], shapes):
            outline = Outline.model_validate({"keys": keys})
            for frame in (0, 3, 5, 11, 28, 40, 90):
                told = [[p[n] for n in names] for p in self.say("outline.outlineAt", outline, frame)]
                np.testing.assert_allclose(told, control_points(outline, frame), atol=1e-9)
        moved = [p | {"x": p["x"] + 5} for p in self.say("outline.outlineAt", {"keys": shapes}, 20)]
        told = Outline.model_validate(self.say("outline.withOutline", {"keys": shapes}, 20, moved))
        self.assertEqual([k.frame for k in told.keys], [3, 11, 20, 40])
        np.testing.assert_allclose(control_points(told, 20)[:, 0], [p["x"] for p in moved])
