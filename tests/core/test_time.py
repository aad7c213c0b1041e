"""Footage that runs slower, faster, backwards, or stands still: what stays put on it, what lies between its frames, its sound."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed
from plonket.base.outlines import polygon_outline
from plonket.document import retime
from plonket.document.follow import Follow
from plonket.document.hashes import mends_hash
from plonket.document.shot import Footage, Shot, read_shot
from plonket.image.interpolation import interpolated
from plonket.image.pair_flow import pair_flow
from plonket.image.picture import StillSource
from plonket.layers.raytraced import view_at
from plonket.media import open_clip
from plonket.media.clip import ArrayClip
from plonket.media.sound import Sound, read_sound
from plonket.render.deliver import deliver
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.soundtrack import soundtrack
from plonket.render.sources import ShotSources
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.track.points.measure import measure_points
from plonket.track.points.tracks import PointTracks
from plonket.track.request import MeasureRequest
from synth.phone.quickset import QuickShot, chart_shot
from synth.phone.sensor import Sensor
from tests.core.shots import SHARP, motion_on
from tests.core.test_scene import camera
from tests.core.test_soundtrack import of
from tests.core.test_steady import CLIP, steady, tracked, wandering, whole_plane, write

N = 16
FINE = 5
"""Pictures of the truth for each frame of the clip."""


def footage(frames: int = 60, **settings: Any) -> Footage:
    return Footage.model_validate(
        {"asset": CLIP, "name": "c", "width": 640, "height": 360, "rate": "30/1", "frames": frames, "in_frame": 0,
         "out_frame": frames - 1} | settings
    )  # fmt: skip


def plain(frames: int = 60, **parts: Any) -> Shot:
    return Shot(name="s", footage=footage(frames), **parts)


def moments(shot: Shot) -> list[float]:
    assert shot.footage is not None
    return [shot.footage.moment(f) for f in range(shot.footage.length)]


class Clean(Sensor):
    """One without noise."""

    def photograph(self, light: F32, rng: np.random.Generator) -> U8:
        return self.clean(light)


@cache
def fine_shot() -> QuickShot:
    """A card passes before the chart while the hand shakes, filmed five times as often as the clip."""

    def hand(t: float) -> F64:
        x = -0.5 + 1.1 * t
        return np.array([[x, 0.12, 0.2], [x + 0.16, 0.12, 0.2], [x + 0.16, -0.1, 0.2], [x, -0.1, 0.2]])

    return chart_shot(frames=FINE * (N - 1) + 1, rate=Fraction(30 * FINE), hand=hand, sensor=Clean(), samples=2)


@cache
def bare_shot() -> QuickShot:
    """The chart alone, with a phone's noise."""
    return chart_shot(frames=N, seed=5)


@cache
def points() -> PointTracks:
    """Points that lie exactly where they are seen."""
    measured = measure_points(motion_on(bare_shot()), MeasureRequest(clip=ArrayClip(bare_shot().frames)))
    return replace(measured, xy=np.stack([bare_shot().on_chart(*SHARP[name]) for name in measured.ids]))


class Ranges(unittest.TestCase):
    """What the operations make of a clip of sixty frames."""

    def test_a_speed_for_all_of_it(self) -> None:
        slow = retime.set_speed(plain(), 0, 59, 40)
        np.testing.assert_allclose(moments(slow), 0.4 * np.arange(148), atol=1e-9)
        back = retime.set_speed(plain(), 0, 59, -100)
        np.testing.assert_allclose(moments(back), np.arange(60)[::-1])
        fast = retime.set_speed(plain(), 0, 59, 200)
        np.testing.assert_allclose(moments(fast), 2 * np.arange(30))

    def test_a_speed_for_a_part_goes_on_where_the_clip_is(self) -> None:
        shot = retime.set_speed(plain(), 20, 39, 50)
        want = [*range(20), *(20 + 0.5 * np.arange(40)), *range(40, 60)]
        np.testing.assert_allclose(moments(shot), want, atol=1e-9)
        assert shot.footage is not None
        self.assertEqual((shot.footage.in_frame, shot.footage.out_frame), (0, 79))
        # As fast again as it was: nothing is lost by going there and back.
        np.testing.assert_allclose(moments(retime.set_speed(shot, 20, 59, 200)), np.arange(60), atol=1e-9)

    def test_hold_cut_and_another_range(self) -> None:
        held = retime.hold(plain(), 30, 12)
        np.testing.assert_allclose(moments(held), [*range(31), *[30] * 12, *range(31, 60)], atol=1e-9)
        cut = retime.cut_out(plain(), 20, 39)
        np.testing.assert_allclose(moments(cut), [*range(20), *range(40, 60)])
        more = retime.add_range(cut, 10, 5)
        np.testing.assert_allclose(moments(more)[40:], [10, 9, 8, 7, 6, 5])
        # Twice as fast over both cuts: they stay cuts, and no frame lies between their sides.
        for moment in moments(retime.set_speed(more, 10, 45, 200)):
            self.assertTrue(moment <= 20 or 40 <= moment <= 59, moment)

    def test_a_ramp_leads_from_one_speed_to_the_other(self) -> None:
        shot = retime.ramp(retime.set_speed(plain(), 30, 59, 25), 20, 49)
        speeds = np.diff(moments(shot))
        self.assertAlmostEqual(float(speeds[10]), 1.0, places=6)
        self.assertAlmostEqual(float(speeds[80]), 0.25, places=6)
        inner = speeds[20:44]
        self.assertLess(np.abs(np.diff(inner, 2)).max(), 0.005, "it changes evenly")
        self.assertLess(np.diff(speeds).max(), 1e-6, "it only falls")

    def test_instants_of_an_exposure_stay_on_their_side_of_a_cut(self) -> None:
        cut = retime.cut_out(plain(), 20, 39).footage
        assert cut is not None
        self.assertAlmostEqual(cut.moment(19.2), 19.2)
        self.assertAlmostEqual(cut.moment(19.8), 39.8)

    def test_what_comes_later_goes_along(self) -> None:
        still = {"kind": "fill", "id": "late", "name": "Late", "begins": 40, "ends": 50}
        early = {"kind": "fill", "id": "early", "name": "Early", "begins": 5, "ends": 50}
        shot = read_shot(plain().model_dump() | {"stack": [still, early], "markers": [{"id": "m", "name": "M", "frame": 45}]})
        held = retime.hold(shot, 30, 12)
        self.assertEqual([(one.begins, one.ends) for one in held.stack], [(52, 62), (5, 50)])
        self.assertEqual(held.markers[0].frame, 57)

    def test_as_filmed_again(self) -> None:
        shot = retime.cut_out(retime.set_speed(plain(), 20, 39, 50), 0, 9)
        back = retime.clear(shot)
        assert back.footage is not None
        self.assertIsNone(back.footage.time)
        self.assertEqual((back.footage.in_frame, back.footage.out_frame), (10, 59))

    def test_bad_input_in_words(self) -> None:
        for wrong, words in (
            (lambda: retime.set_speed(plain(), 0, 59, 0), "hold a frame"), (lambda: retime.set_speed(plain(), 50, 70, 50), "0 to 59"),
            (lambda: retime.cut_out(plain(), 0, 59), "nothing of the shot"), (lambda: retime.ramp(plain(), 0, 20), "before it"),
            (lambda: retime.add_range(plain(), 50, 60), "0 to 59"), (lambda: retime.hold(plain(), 3, 0), "one frame"),
            (lambda: retime.set_speed(retime.hold(plain(), 3, 99_000), 0, 99_000, 1), "is the most"),
        ):  # fmt: skip
            with self.assertRaises(BadInput) as caught:
                wrong()
            self.assertIn(words, caught.exception.message)
        out = {"moment": Keyed(keys=[Key(frame=0, value=0), Key(frame=40, value=90)]).model_dump()}
        with self.assertRaises(BadInput) as caught:
            read_shot(plain().model_dump() | {"footage": footage().model_dump() | {"time": out}})
        self.assertIn("the clip's frame 90", caught.exception.message)
        with self.assertRaises(ValueError):
            Key(frame=0, value=float("nan"))


class Retimed(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def sources(self, shot: Shot, clip: Path, *tracks: Any) -> ShotSources:
        pool = MediaPool(lambda _: clip, lambda _: tracks[0])
        self.addCleanup(pool.close)
        return ShotSources(shot, pool)


class StaysPut(Retimed):
    def test_a_follower_is_where_it_belongs_between_frames(self) -> None:
        """0.4 of the speed, a hold and a ramp: what sits on a point is within 0.1 px of where that truly is."""
        motion = motion_on(bare_shot()).model_copy(update={"measurement": "0" * 64})
        slow = retime.set_speed(plain(N, motions=[motion]), 4, N - 1, 40)
        for shot in (slow, retime.hold(slow, 20, 9), retime.ramp(slow, 2, 15)):
            clip = self.folder / "none.mp4"
            sources = self.sources(shot, clip, points())
            worst = 0.0
            for name, (u, v) in SHARP.items():
                filmed = bare_shot()
                start = filmed.on_chart(u, v)[0]
                for frame, moment in enumerate(moments(shot)):
                    spot = replace(filmed, times=np.array([moment / 30])).on_chart(u, v)[0]
                    lies = sources.anchor("m", name, start, frame)
                    assert lies is not None
                    worst = max(worst, float(np.hypot(*(lies - spot))))
            self.assertLess(worst, 0.1)

    def test_the_stack_keeps_its_own_time(self) -> None:
        """A keyed layer crosses the picture in the shot's time, masks and the footage's own key in the clip's."""
        write(self.folder / "c.mp4", [np.full((90, 160, 3), 40, np.uint8)] * 20)
        outline = polygon_outline(np.array([[0.0, 0], [80, 0], [80, 90], [0, 90]]))
        there = polygon_outline(np.array([[40.0, 0], [120, 0], [120, 90], [40, 90]]), 10)
        mask = {"kind": "outline", "id": "k", "name": "K", "outline": {"keys": [o.keys[0].model_dump() for o in (outline, there)]}}
        fade = {"keys": [{"frame": 0, "value": 0, "ease": "linear"}, {"frame": 40, "value": 100, "ease": "linear"}]}
        layer = {"kind": "fill", "id": "f", "name": "F", "first": "#ffffff", "opacity": fade, "masks": [mask]}
        base = {"asset": CLIP, "name": "c", "width": 160, "height": 90, "rate": "30/1", "frames": 20, "in_frame": 0, "out_frame": 19}
        shot = retime.set_speed(read_shot({"name": "s", "footage": base, "stack": [layer]}), 0, 19, 50)
        sources = self.sources(shot, self.folder / "c.mp4")
        half = render_frame(shot, sources, 20)
        # The mask has moved by ten frames of the clip, the fade by twenty of the shot's forty.
        self.assertTrue((half[45, 50:115] > 150).all())
        self.assertTrue((half[45, :38] < 60).all() and (half[45, 125:] < 60).all())
        # Half of white's light over the plate's.
        self.assertAlmostEqual(float(half[45, 80, 0]), 190, delta=3)

    def test_what_runs_by_itself_keeps_its_pace(self) -> None:
        """A ring of sparks on a clip at a third of its speed is in every frame what it was, the clip being one colour."""
        write(self.folder / "c.mp4", [np.full((90, 160, 3), 40, np.uint8)] * 20)
        base = {"asset": CLIP, "name": "c", "width": 160, "height": 90, "rate": "30/1", "frames": 20, "in_frame": 0,
                "out_frame": 19}  # fmt: skip
        ring = {"kind": "generated", "id": "r", "name": "R", "x": 80.0, "y": 45.0, "size": 40.0,
                "generator": {"kind": "ring", "rate": 300}}  # fmt: skip
        plainly = read_shot({"name": "s", "footage": base, "stack": [ring]})
        slow = retime.set_speed(plainly, 0, 19, 100 / 3)
        sources = [self.sources(shot, self.folder / "c.mp4") for shot in (plainly, slow)]
        for frame in (5, 12, 19):
            asked = [render_frame(one.shot, one, frame) for one in sources]
            self.assertGreater(int(asked[0].max()), 80)
            self.assertLessEqual(int(np.abs(asked[0].astype(int) - asked[1].astype(int)).max()), 1)

    def test_a_steadied_plate_stands_still_between_frames_too(self) -> None:
        frames = 16
        path = wandering(frames)
        picture = bare_shot().frames[0]
        shaken = [cv2.warpPerspective(picture, m, (640, 360), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE) for m in path]
        write(self.folder / "c.mp4", shaken)
        motion = whole_plane((640, 360))
        held = steady(targets=[motion.id], mode="lock", fit="none")
        shot = retime.set_speed(plain(frames, motions=[motion], plate=[held]), 0, frames - 1, 40)
        sources = self.sources(shot, self.folder / "c.mp4", tracked(path))
        inner = np.s_[60:300, 80:560]
        still = picture[inner].astype(float)
        off = {k: np.abs(render_frame(shot, sources, k)[inner].astype(float) - still).mean() for k in (0, 3, 4, 5, 9, 17)}
        # A hand's shake bends from frame to frame; what is made between them bends along.
        self.assertLess(max(off.values()), 1.25 * max(off[0], off[5]))

    def test_a_camera_is_between_its_frames(self) -> None:
        turn = [np.array([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [-np.sin(a), 0, np.cos(a)]]) for a in 0.02 * np.arange(6) ** 2]
        track = replace(camera().track, rotation=np.stack(turn), position=np.outer(np.arange(6.0) ** 2, [0.1, 0, 0]))
        seen = RoomCamera.at_moments(track, Room(), None, np.array([0.0, 1.4, 2.5, 5.0]))
        np.testing.assert_allclose(seen.eye(1), [0.1 * 1.4**2, 0, 0], atol=1e-9)
        angle = np.arctan2(seen.turn(2)[0, 2], seen.turn(2)[0, 0])
        self.assertAlmostEqual(float(angle), 0.02 * 2.5**2, delta=2e-4)
        np.testing.assert_allclose(seen.turn(2) @ seen.turn(2).T, np.eye(3), atol=1e-9)
        # An exposure mixes poses of frames that follow one another, and none across a cut.
        cut = RoomCamera.at_moments(track, Room(), None, np.array([0.0, 0.5, 1.0, 4.5, 5.0]))
        np.testing.assert_allclose(view_at(cut, 1.25).eye, 0.75 * cut.eye(1) + 0.25 * cut.eye(2), atol=1e-9)
        np.testing.assert_allclose(view_at(cut, 2.25).eye, cut.eye(2), atol=1e-9)

    def test_mends_are_the_clips(self) -> None:
        """Running otherwise makes no mended frame anew."""
        shot = plain(N)
        self.assertEqual(mends_hash(shot), mends_hash(retime.as_filmed(retime.set_speed(shot, 0, N - 1, 40))))


class Between(Retimed):
    def clip(self) -> Path:
        return write(self.folder / "c.mp4", fine_shot().frames[::FINE], crf=4)

    def test_made_by_movement_against_the_truth(self) -> None:
        """What a hand films between two frames, a card passing before it: far nearer than two frames mixed, or one of them."""
        def off(a: U8, b: U8) -> float:
            return float(np.sqrt(np.mean((a.astype(float) - b.astype(float)) ** 2)))

        clip = self.clip()
        errors: dict[str, list[float]] = {}
        for way in ("moved", "mixed", "nearest"):
            shot = retime.set_speed(plain(N), 0, N - 1, 20)
            assert shot.footage is not None and shot.footage.time is not None
            time = shot.footage.time.model_copy(update={"between": way})
            shot = shot.model_copy(update={"footage": shot.footage.model_copy(update={"time": time})})
            sources = self.sources(shot, clip)
            errors[way] = [off(render_frame(shot, sources, f), fine_shot().frames[f]) for f in (22, 38, 53, 67)]
        moved, mixed, nearest = (float(np.mean(errors[way])) for way in ("moved", "mixed", "nearest"))
        self.assertLess(moved, 0.6 * mixed)
        self.assertLess(moved, 0.5 * nearest)

    def test_what_is_uncovered_is_shown_from_where_it_is_seen(self) -> None:
        """Round the card, where one of the two frames shows the wall and the other does not."""
        fine = fine_shot().frames
        a, b = (StillSource(fine[k]).level(0)[0] for k in (50, 55))
        made = interpolated(a, b, pair_flow(fine[50], fine[55]), 0.4)
        truth = StillSource(fine[52]).level(0)[0][1:-1, 1:-1]
        dark = truth[..., 0] < 0.05
        edge = np.abs(np.gradient(dark.astype(float), axis=1)) > 0
        near = np.zeros_like(dark)
        for k in range(-12, 13):
            near |= np.roll(edge, k, axis=1)
        plain_mix = 0.6 * a[1:-1, 1:-1] + 0.4 * b[1:-1, 1:-1]
        self.assertLess(np.abs(made - truth)[near].mean(), 0.5 * np.abs(plain_mix - truth)[near].mean())

    def test_across_a_cut_nothing_is_mixed(self) -> None:
        rng = np.random.default_rng(3)
        other = cv2.GaussianBlur(rng.integers(0, 255, (360, 640, 3)).astype(np.uint8), (0, 0), 4)
        pair = (bare_shot().frames[0], cv2.normalize(other, None, 0, 255, cv2.NORM_MINMAX))  # type: ignore[call-overload]
        flow = pair_flow(*pair)
        self.assertTrue(flow.is_cut)
        first, second = (StillSource(one).level(0)[0] for one in pair)
        np.testing.assert_array_equal(interpolated(first, second, flow, 0.4), first[1:-1, 1:-1])
        np.testing.assert_array_equal(interpolated(first, second, flow, 0.6), second[1:-1, 1:-1])
        self.assertFalse(pair_flow(fine_shot().frames[50], fine_shot().frames[60]).is_cut)

    def test_frames_of_its_own_are_shown_as_they_are(self) -> None:
        clip = self.clip()
        shot = retime.set_speed(plain(N), 0, N - 1, 50)
        sources = self.sources(shot, clip)
        for k in (0, 7, 15):
            np.testing.assert_array_equal(render_frame(shot, sources, 2 * k), sources.pool.clip(CLIP).rgb(k))

    def test_a_keyed_layer_between_frames_lies_on_the_plate(self) -> None:
        """With a key that takes nothing off, the footage as a layer is what the plate is."""
        clip = self.clip()
        key = {"kind": "brightness", "keeps": "bright", "threshold": 10.0}
        shot = retime.set_speed(plain(N), 0, N - 1, 40)
        layered = read_shot(shot.model_dump() | {"stack": [{"kind": "plate", "id": "p", "name": "P", "key": key}]})
        sources = self.sources(shot, clip)
        plate = render_frame(shot, sources, 22)
        laid, whole = (render_frame(layered, self.sources(layered, clip), 22, view=view) for view in ("final", "matte"))
        solid = whole[..., 0] == 255
        self.assertGreater(solid.mean(), 0.6)
        self.assertLess(np.abs(plate.astype(int) - laid.astype(int))[solid].max(), 3)


class Heard(Retimed):
    def tone(self, seconds: float = 2.0) -> Sound:
        wave = 9000 * np.sin(2 * np.pi * 440 * np.arange(round(48000 * seconds)) / 48000)
        return Sound(samples=np.repeat(wave.astype(np.int16)[:, None], 2, axis=1))

    def hertz(self, sound: Sound | None) -> float:
        assert sound is not None
        mono = sound.samples[3000:-3000, 0].astype(float)
        return float(np.argmax(np.abs(np.fft.rfft(mono * np.hanning(len(mono)))))) * 48000 / len(mono)

    def test_pitch_goes_along_or_is_kept(self) -> None:
        for percent, heard in ((50, 220.0), (200, 880.0)):
            shot = retime.set_speed(plain(), 0, 59, percent)
            assert shot.footage is not None
            for pitch, hertz in (("along", heard), ("kept", 440.0)):
                laid = shot.model_copy(update={"sound": shot.sound.model_copy(update={"pitch": pitch})})
                sound = soundtrack(laid, of(self.tone()), 0, shot.footage.length)
                self.assertAlmostEqual(self.hertz(sound), hertz, delta=2)
                assert sound is not None
                self.assertEqual(len(sound.samples), round(shot.footage.length / 30 * 48000))

    def test_a_clap_is_heard_when_it_is_seen(self) -> None:
        """Within a third of a frame, however the footage runs; held frames are silent."""
        samples = np.zeros((96000, 2), np.int16)
        at = round(40.5 / 30 * 48000)
        samples[at : at + 60] = 20000
        slow = retime.set_speed(plain(), 30, 49, 40)
        for shot in (slow, retime.hold(slow, 20, 15), retime.cut_out(slow, 3, 12), retime.set_speed(plain(), 0, 59, -100)):
            assert shot.footage is not None
            sound = soundtrack(shot, of(Sound(samples=samples)), 0, shot.footage.length)
            assert sound is not None
            loud = float(np.abs(sound.samples[:, 0].astype(float)).argmax()) / 48000 * 30
            want = float(np.interp(40.5, *zip(*sorted((m, f) for f, m in enumerate(moments(shot))), strict=True)))
            self.assertAlmostEqual(loud, want, delta=0.7)
        held = soundtrack(retime.hold(plain(), 30, 30), of(self.tone()), 32, 58)
        assert held is not None
        self.assertEqual(int(np.abs(held.samples).max()), 0)

    def test_delivered_slower_with_its_sound(self) -> None:
        clip = write(self.folder / "c.mp4", fine_shot().frames[::FINE], crf=12)
        shot = retime.set_speed(plain(N), 0, N - 1, 40)
        assert shot.footage is not None
        out = self.folder / "out.mp4"
        deliver(shot, self.sources(shot, clip), out, start=0, stop=shot.footage.length, scale=0.5, recording=of(self.tone()))
        made = open_clip(out).info
        self.assertEqual((made.frames, made.rate), (38, 30))
        sound = read_sound(out)
        assert sound is not None
        self.assertAlmostEqual(len(sound.samples) / 48000, 38 / 30, delta=0.03)


class Followed(unittest.TestCase):
    def test_reference_frames_are_the_clips(self) -> None:
        """A follower set on a frame of the clip lies there as it was set when that frame is shown, wherever in the shot."""
        motion = motion_on(bare_shot()).model_copy(update={"measurement": "0" * 64})
        still = {"kind": "still", "id": "s", "name": "S", "asset": "b" * 64, "width": 10, "height": 10, "x": 300.0, "y": 200.0,
                 "follow": Follow(target="m", reference_frame=12).model_dump()}  # fmt: skip
        base = read_shot(plain(N, motions=[motion]).model_dump() | {"stack": [still]})
        shot = retime.set_speed(retime.hold(base, 5, 10), 0, 25, 50)
        sources = ShotSources(shot, MediaPool(lambda _: Path("none"), lambda _: points()))
        frame = moments(shot).index(12.0)
        layer = shot.stack[0]
        lies = sources.spaces.placed(layer.follow, frame, np.array([300.0, 200.0]))  # type: ignore[attr-defined]
        np.testing.assert_allclose(lies, np.eye(3), atol=1e-6)


if __name__ == "__main__":
    unittest.main()
