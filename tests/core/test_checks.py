"""Slip and the adviser, against shots whose truth is known."""

from __future__ import annotations

import unittest
from pathlib import Path

import numpy as np

from plonket.base.errors import BadInput, Degenerate, FormatError
from plonket.checks.advise import advise
from plonket.checks.slip import Slip, measure_slip
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.shot import Footage, Shot
from plonket.layers.pin import PinLayer
from plonket.layers.still import StillLayer
from plonket.media.clip import ArrayClip
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.apart import apart, paths_of
from plonket.track.plane.measure import measure_plane
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack
from plonket.track.request import MeasureRequest
from synth.phone.quickset import chart_shot, quad
from tests.core.shots import filmed, plane_on

FOOTAGE = Footage(asset="c" * 64, name="c", width=800, height=450, rate="30/1", frames=34, in_frame=0, out_frame=33)


def slip_of(motion: PlaneMotion, track: PlaneTrack, layer: LayerBase, frames: list[np.ndarray]) -> Slip:
    shot = Shot(name="s", footage=FOOTAGE, motions=[motion.model_copy(update={"measurement": "d" * 64})], stack=[layer])
    pool = MediaPool(lambda _digest: Path("/nowhere"), lambda _digest: track)
    return measure_slip(shot, ShotSources(shot, pool), ArrayClip(frames), layer.id, start=0, stop=34)


def pinned() -> PinLayer:
    return PinLayer(id="l", name="Night", asset="a" * 64, width=100, height=70, plane="plane")


class Slipping(unittest.TestCase):
    def test_a_good_track_does_not_slip(self) -> None:
        frames, corners = filmed("plain")
        motion = plane_on(corners)
        slip = slip_of(motion, measure_plane(motion, MeasureRequest(clip=ArrayClip(frames))), pinned(), frames)
        # The chart hangs two centimetres before the wall that is taken in round it: that is seen too.
        self.assertLess(slip.rms_px, 0.18)
        self.assertEqual(slip.worst(), [])
        again = Slip.from_bytes(slip.to_bytes())
        np.testing.assert_array_equal(again.px, slip.px)

    def test_a_track_that_is_off_slips_by_as_much_and_says_where(self) -> None:
        frames, corners = filmed("plain")
        motion = plane_on(corners)
        track = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames)))
        for i in range(12, 18):
            track.homography[i] = np.array([[1, 0, 1.2], [0, 1, 0.9], [0, 0, 1]]) @ track.homography[i]
        slip = slip_of(motion, track, pinned(), frames)
        np.testing.assert_allclose(slip.px[12:18], 1.5, atol=0.2)
        self.assertLess(float(np.nanmax(slip.px[20:])), 0.3)
        first, last, px = slip.worst()[0]
        self.assertEqual((first, last), (12, 17))
        self.assertAlmostEqual(px, 1.5, delta=0.25)

    def test_a_placed_picture_on_a_plane_in_perspective(self) -> None:
        frames, corners = filmed("tilt")
        motion = plane_on(corners)
        track = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames)))
        x, y = corners[0].mean(axis=0)
        layer = StillLayer(id="l", name="Boat", asset="a" * 64, width=120, height=90, x=float(x), y=float(y),
                           follow=Follow(target="plane", perspective=True))  # fmt: skip
        self.assertLess(slip_of(motion, track, layer, frames).rms_px, 0.2)

    def test_what_cannot_be_judged_is_said(self) -> None:
        frames, corners = filmed("plain")
        motion = plane_on(corners)
        track = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames[:34])))
        free = StillLayer(id="l", name="Boat", asset="a" * 64, width=100, height=70)
        with self.assertRaises(BadInput) as caught:
            slip_of(motion, track, free, frames)
        self.assertIn("follows nothing", caught.exception.message)
        flat = [np.full((450, 800, 3), 90, np.uint8)] * 34
        with self.assertRaises(Degenerate):
            slip_of(motion, track, pinned(), flat)
        with self.assertRaises(FormatError):
            Slip.from_bytes(b"no")


class Advising(unittest.TestCase):
    def facts(self, frames: list[np.ndarray]) -> dict[str, str]:
        return {f.about: f.grade for f in advise(ArrayClip(frames)).facts}

    def test_a_flat_wall_suggests_a_plane_there(self) -> None:
        frames, corners = filmed("plain")
        advice = advise(ArrayClip(frames))
        first = advice.suggestions[0]
        self.assertEqual(first.kind, "plane")
        outline = np.array(first.outline)
        # It lies on the wall and takes in most of the chart.
        chart = corners[first.frame]
        self.assertTrue((outline.min(axis=0) < chart.mean(axis=0)).all() and (outline.max(axis=0) > chart.mean(axis=0)).all())
        self.assertEqual(advice.movers, ())
        # What it suggests can be measured as it stands.
        from plonket.base.outlines import polygon_outline
        from plonket.track.plane.settings import Region

        region = Region(id="r", name="r", outline=polygon_outline(outline, first.frame))
        motion = plane_on(corners, first.frame).model_copy(update={"regions": [region]})
        track = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames)))
        self.assertTrue(track.known().all())

    def test_light_and_blur_are_noticed(self) -> None:
        self.assertEqual(self.facts(filmed("plain")[0])["light"], "good")
        self.assertNotEqual(self.facts(filmed("light")[0])["light"], "good")
        self.assertNotEqual(self.facts(filmed("defocus")[0])["blur"], "good")

    def test_depth_suggests_the_camera_as_well(self) -> None:
        def near(t: float) -> np.ndarray:
            return quad((0.0, -0.12, 0.35), 0.3, 0.2)

        shot = chart_shot(size=(640, 360), frames=30, hand=near, eyes=[(-0.22, 0.03, 0.95), (0.22, 0.0, 0.9)], samples=2)
        kinds = {s.kind for s in advise(ArrayClip(shot.frames)).suggestions}
        self.assertIn("plane", kinds)
        self.assertNotEqual(self.facts(shot.frames)["depth"], "good")

    def test_nothing_to_hold_on_to_is_said(self) -> None:
        rng = np.random.default_rng(0)
        noise = [np.clip(rng.normal(120, 2, (180, 320, 3)), 0, 255).astype(np.uint8) for _ in range(8)]
        advice = advise(ArrayClip(noise))
        self.assertEqual({f.about: f.grade for f in advice.facts}["detail"], "poor")
        self.assertIn("by hand", advice.suggestions[-1].why)
        with self.assertRaises(BadInput):
            advise(ArrayClip(noise[:1]))


class Apart(unittest.TestCase):
    def test_it_is_what_a_spot_is_taken_to_by_the_one_and_the_other(self) -> None:
        still = np.tile(np.eye(3), (5, 1, 1))
        pan = still.copy()
        pan[:, 0, 2], pan[:, 1, 2] = 3.0 * np.arange(5), 4.0 * np.arange(5)
        np.testing.assert_allclose(apart(paths_of(still, pan, np.array([50.0, 20.0]))), 5.0 * np.arange(5))
        grows = still * np.array([1.0, 1.1, 1.2])[np.array([0, 1, 2, 2, 2])][:, None, None]
        grows[:, 2, 2] = 1
        # What grows about the corner takes a spot far from it further.
        near, far = (apart(paths_of(still, grows, np.array(spot)))[2] for spot in ([10.0, 0.0], [100.0, 0.0]))
        self.assertAlmostEqual(float(near), 2.0)
        self.assertAlmostEqual(float(far), 20.0)
        self.assertEqual(len(apart(paths_of(still[:3], pan, np.zeros(2)))), 3)
