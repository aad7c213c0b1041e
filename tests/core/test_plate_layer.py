"""The footage as a layer: what lies under it is behind it, pixel on pixel with the plate, against the truth it was filmed with."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32, F64, U8
from plonket.base.fields import Key, Keyed
from plonket.base.homography import translation
from plonket.base.outlines import polygon_outline
from plonket.document.kinds import KEYS
from plonket.document.operations import replace_footage
from plonket.document.shot import Footage, Shot, read_shot
from plonket.keying.brightness import BrightnessKey
from plonket.keying.colours import ColourKey
from plonket.keying.common import KeyContext
from plonket.masks.outlined import OutlineMask
from plonket.media import open_clip
from plonket.plate.mend import Mend
from plonket.render.deliver import deliver
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from synth.phone.sensor import Sensor
from tests.core.test_key import CLOTHS, cloth_light, subject
from tests.core.test_steady import big_picture, shot_with, steady, tracked, wandering, whole_plane, write

SIZE = (640, 360)
N = 6
BEHIND = (38, 60, 112)
SEAM = 480
"""Where one cloth ends and another begins."""


def fill(colour: tuple[int, int, int] = BEHIND, name: str = "behind") -> dict[str, Any]:
    return {"kind": "fill", "id": name, "name": name, "first": "#" + "".join(f"{c:02x}" for c in colour)}


def in_front(**settings: Any) -> dict[str, Any]:
    return {"kind": "plate", "id": "front", "name": "Front"} | settings


@cache
def before_cloth() -> tuple[list[U8], list[F32], list[F32]]:
    """A bust before a green cloth, filmed by a hand: frames, true coverage, true colours of the subject alone."""
    frames, covers, colours = [], [], []
    for k in range(N):
        colour, alpha = subject(1.7 * k)
        cloth = cloth_light(CLOTHS["green"], uneven=True)
        near = cv2.GaussianBlur(1 - alpha, (0, 0), 18)[..., None]
        lit = colour + 0.09 * near * decode(np.array([47, 154, 72]) / 255)
        light = (alpha[..., None] * lit + (1 - alpha[..., None]) * cloth).astype(np.float32)
        frames.append(Sensor(vignette=0, sharpen=0).photograph(light, np.random.default_rng(k)))
        covers.append(alpha)
        colours.append(colour)
    return frames, covers, colours


class Plates(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def sources(self, frames: list[U8], movement: F64 | None = None) -> Callable[[Shot], ShotSources]:
        path = write(self.folder / "clip.mp4", frames, crf=4)
        moves = np.tile(np.eye(3), (len(frames), 1, 1)) if movement is None else movement
        pool = MediaPool(lambda _: path, lambda _: tracked(moves))
        self.addCleanup(pool.close)
        return lambda shot: ShotSources(shot, pool)

    def shot(self, *stack: dict[str, Any], size: tuple[int, int] = SIZE, frames: int = N, **parts: Any) -> Shot:
        bare = shot_with(whole_plane(size), frames, size, **parts)
        return read_shot(bare.model_dump(mode="json") | {"stack": list(stack)})


class PixelOnPixel(Plates):
    def test_without_a_key_it_is_the_plate_to_the_bit(self) -> None:
        """As filmed, steadied with filled borders, mended, half the size, and seen from a motion."""
        size, moves = (320, 180), wandering(N)
        picture = big_picture()
        frames = [cv2.warpPerspective(picture, translation(-60, -60) @ np.linalg.inv(m), size) for m in moves]
        box = np.array([[60.0, 60], [110, 60], [110, 100], [60, 100]])
        mask = OutlineMask(id="m", name="m", outline=polygon_outline(box))
        mended = Mend(id="mend", name="Mend", masks=[mask]).model_dump(mode="json")
        of = self.sources(frames, moves)
        treatments: list[list[Any]] = [[], [steady().model_dump(mode="json")], [mended],
                                       [mended, steady(fit="fill").model_dump(mode="json")]]  # fmt: skip
        for plate in treatments:
            bare = self.shot(size=size, plate=[])
            data = bare.model_dump(mode="json") | {"plate": plate}
            plain, covered = read_shot(data), read_shot(data | {"stack": [in_front(), fill()]})
            for how in ({}, {"scale": 0.5}, {"held": "plane"}):
                a, b = (render_frame(s, of(s), 3, **how) for s in (plain, covered))  # type: ignore[arg-type]
                if "held" in how:
                    # Beyond the frame's edge there is no footage: what is behind is seen.
                    inside = cv2.erode((np.abs(b.astype(int) - BEHIND).max(axis=2) > 2).astype(np.uint8), np.ones((9, 9)),
                                       borderValue=0) > 0  # fmt: skip
                    self.assertGreater(inside.mean(), 0.7)
                    a, b = a[inside], b[inside]
                np.testing.assert_array_equal(a, b, err_msg=f"{[p['kind'] for p in plate]} {how}")

    def test_a_key_leaves_its_subject_on_the_plate_s_own_pixels(self) -> None:
        frames, covers, _ = before_cloth()
        of = self.sources(frames)
        shot = self.shot(in_front(key={"kind": "screen", "spill": 0.0, "sharp": False}), fill())
        out = render_frame(shot, of(shot), 2)
        solid = cv2.erode(covers[2], np.ones((13, 13))) > 0.999
        plate = render_frame(shot, of(shot), 2, view="plate")
        self.assertLessEqual(int(np.abs(out[solid].astype(int) - plate[solid]).max()), 3)
        self.assertLess(float(np.abs(out[solid].astype(int) - plate[solid]).mean()), 0.1)


class AgainstTruth(Plates):
    def test_a_subject_filmed_before_a_cloth_stands_before_another_background(self) -> None:
        """The true composite is made in light: what the subject alone gives off, before what was put behind."""
        frames, covers, colours = before_cloth()
        of = self.sources(frames)
        shot = self.shot(in_front(key={"kind": "screen"}), fill())
        own = Sensor(vignette=0, sharpen=0, shot=0, read=0)
        for k in (0, 4):
            alpha = covers[k][..., None]
            light = alpha * colours[k] + (1 - alpha) * decode(np.array(BEHIND) / 255)
            truth = own.clean(light.astype(np.float32)).astype(float)
            out = render_frame(shot, of(shot), k).astype(float)
            solid = cv2.erode(covers[k], np.ones((13, 13))) > 0.999
            # Noise of the sensor is in the footage and stays there: it is averaged away for the comparison.
            error = np.abs(cv2.blur(out - truth, (9, 9)))
            self.assertLess(float(error[solid].mean()), 2.0)
            far = cv2.dilate(covers[k], np.ones((15, 15))) == 0
            self.assertLess(float(np.abs(out - truth)[far].mean()), 1.0)
            edge = ~solid & ~far
            self.assertLess(float(np.abs(out - truth)[edge].mean()), 9.0)

    def test_steadied_and_keyed_it_lies_where_the_plate_does_and_borders_are_keyed_too(self) -> None:
        frames, covers, _ = before_cloth()
        moves = np.stack([translation(4.3 * np.sin(k), 3.1 * np.cos(k)) for k in range(N)])
        moves = np.asarray(moves @ np.linalg.inv(moves[0]))
        shaken = [cv2.warpPerspective(f, m, SIZE, flags=cv2.INTER_CUBIC) for f, m in zip(frames, moves, strict=True)]
        of = self.sources(shaken, moves)
        held = steady(fit="fill").model_dump(mode="json")
        shot = self.shot(in_front(key={"kind": "screen"}), fill())
        shot = read_shot(shot.model_dump(mode="json") | {"plate": [held]})
        sources = of(shot)
        out = render_frame(shot, sources, 3)
        view = sources.view
        assert view is not None
        # Warped as OpenCV counts, from pixel centre to pixel centre.
        half = translation(0.5, 0.5)
        cover = cv2.warpPerspective(covers[3], np.linalg.inv(half) @ view.matrix(3) @ half @ moves[3], SIZE)
        far = cv2.dilate(cover, np.ones((21, 21))) == 0
        self.assertLess(float(np.abs(out[far].astype(int) - BEHIND).mean()), 2.0)
        self.assertLess(float(np.abs(out[far].astype(int) - BEHIND).max(axis=1).mean()), 3.0)
        solid = cv2.erode(cover, np.ones((15, 15))) > 0.999
        plate = render_frame(shot, sources, 3, view="plate")
        self.assertLess(float(np.abs(out[solid].astype(int) - plate[solid]).mean()), 3.0)

    def test_a_sky_behind_a_ridge_has_no_rim_of_the_old_one(self) -> None:
        """Soft edges of dark boughs before a bright sky: their colours are freed of it."""
        rng = np.random.default_rng(3)
        big = np.zeros((SIZE[1] * 4, SIZE[0] * 4), np.float32)
        cv2.fillPoly(big, [np.array([[0, 900], [700, 640], [1500, 760], [2560, 560], [2560, 1440], [0, 1440]])], 1)
        for _ in range(160):
            x, y = rng.integers(300, 2300), rng.integers(620, 760)
            cv2.line(big, (int(x), int(y)), (int(x + rng.integers(-90, 90)), int(y - rng.integers(40, 260))), 1, int(rng.integers(3, 9)))
        cover = np.asarray(cv2.resize(big, SIZE, interpolation=cv2.INTER_AREA), np.float32)[..., None]
        ground = cv2.GaussianBlur(rng.uniform(0.01, 0.12, (SIZE[1], SIZE[0], 3)).astype(np.float32), (0, 0), 2)
        y = np.linspace(0, 1, SIZE[1], dtype=np.float32)[:, None, None]
        old = (0.55 + 0.3 * y) * np.array([0.8, 0.95, 1.15], np.float32) * np.ones((1, SIZE[0], 1), np.float32)
        light = (cover * ground + (1 - cover) * old).astype(np.float32)
        frames = [Sensor(vignette=0, sharpen=0).photograph(light, np.random.default_rng(k)) for k in range(2)]
        of = self.sources(frames)
        shot = self.shot(in_front(key={"kind": "brightness", "keeps": "dark", "threshold": 55, "soft": 30}), fill(), frames=2)
        out = render_frame(shot, of(shot), 0).astype(float)
        true_light = (cover * ground + (1 - cover) * decode(np.array(BEHIND) / 255)).astype(np.float32)
        truth = Sensor(vignette=0, sharpen=0).clean(true_light).astype(float)
        edge = (cover[..., 0] > 0.05) & (cover[..., 0] < 0.95)
        error = float(np.abs(out - truth)[edge].mean())
        rim = self.shot(in_front(key={"kind": "brightness", "keeps": "dark", "threshold": 55, "soft": 30, "clean": 0.0}), fill(),
                        frames=2)  # fmt: skip
        plain = float(np.abs(render_frame(rim, of(rim), 0).astype(float) - truth)[edge].mean())
        self.assertLess(error, 5.5)
        self.assertLess(error, 0.3 * plain, "edges that are told by their mix come nearer to the truth")


    def test_light_from_behind_takes_the_place_of_the_cloth_s(self) -> None:
        """A grey coat that the cloth shines on: the same share of what stands there instead, whether bright or dark."""
        frames, covers, colours = before_cloth()
        cover, share = covers[0][..., None], 0.25 * cv2.GaussianBlur(1 - covers[0], (0, 0), 18)[..., None]
        coat = colours[0].mean(axis=2, keepdims=True)
        green = decode(np.array([47, 154, 72]) / 255)
        light = cover * (coat + share * green) + (1 - cover) * cloth_light(CLOTHS["green"], uneven=True)
        of = self.sources([Sensor(vignette=0, sharpen=0).photograph(light.astype(np.float32), np.random.default_rng(2))] * 2)
        rim = (covers[0] > 0.98) & (share[..., 0] > 0.03)
        for colour, better in (((236, 160, 70), 0.75), ((10, 14, 24), 0.87), (BEHIND, 0.95)):
            new = decode(np.array(colour) / 255)
            truth = 255 * encode(np.clip(cover * (coat + share * new) + (1 - cover) * new, 0, 1))

            def off(replace: str, colour: tuple[int, int, int] = colour, truth: F64 = truth) -> float:
                shot = self.shot(in_front(key={"kind": "screen", "replace": replace}), fill(colour), frames=2)
                return float(np.abs(render_frame(shot, of(shot), 0) - truth)[rim].mean())

            grey, behind = off("grey"), off("behind")
            self.assertLess(behind, better * grey, colour)
            self.assertLess(behind, off("nothing") + 0.1, colour)

    def test_where_nothing_is_behind_spill_is_grey(self) -> None:
        frames, _, _ = before_cloth()
        of = self.sources(frames)

        def alone(replace: str) -> U8:
            shot = self.shot(in_front(key={"kind": "screen", "replace": replace}))
            footage = shot.footage.model_dump() | {"opacity": 0.0, "ground": "clear"}  # type: ignore[union-attr]
            bare = read_shot(shot.model_dump(mode="json") | {"footage": footage})
            return render_frame(bare, of(bare), 0)

        grey = alone("grey")
        np.testing.assert_array_equal(grey, alone("behind"))
        self.assertGreater(int((alone("white").astype(int) - grey).max()), 20, "white shows where it was")


class OldAndNew(Plates):
    def ridge(self) -> list[U8]:
        """A dark foot, above it a sky that grows brighter to the right."""
        rgb = np.full((360, 640, 3), 30, np.uint8)
        rgb[:200] = np.linspace(150, 250, 640).astype(np.uint8)[None, :, None]
        return [rgb] * 2

    KEY = {"kind": "brightness", "keeps": "dark", "threshold": 35, "soft": 10}

    def seen(self, of: Callable[[Shot], ShotSources], new: tuple[int, int, int], **settings: Any) -> U8:
        shot = self.shot(in_front(key=self.KEY, **settings), fill(new), frames=2)
        return render_frame(shot, of(shot), 0)

    def test_some_of_the_old_sky_stays_over_the_new_one(self) -> None:
        of = self.sources(self.ridge())
        old = render_frame(self.shot(frames=2), of(self.shot(frames=2)), 0)
        sky = np.s_[40:160, 40:600]
        none = self.seen(of, BEHIND)
        self.assertLessEqual(int(np.abs(none[sky].astype(int) - BEHIND).max()), 1)
        half = decode(self.seen(of, BEHIND, stays=50.0)[sky] / 255)
        wanted = (decode(old[sky] / 255) + decode(np.array(BEHIND) / 255)) / 2
        self.assertLess(float(np.abs(half - wanted).max()), 0.012)
        np.testing.assert_array_equal(none[260:], old[260:], "the foot is the plate's")
        # Faint, what the key keeps lets through what is behind, not the old picture once more.
        faint = [self.seen(of, BEHIND, opacity=50.0, stays=stays)[260:].astype(int) for stays in (0.0, 100.0)]
        self.assertLessEqual(int(np.abs(faint[0] - faint[1]).max()), 1)
        self.assertGreater(int(np.abs(faint[0] - old[260:]).max()), 10)

    def test_it_is_mixed_in_only_where_it_is_darker_or_brighter_or_in_a_range(self) -> None:
        of = self.sources(self.ridge())
        old = render_frame(self.shot(frames=2), of(self.shot(frames=2)), 0).astype(int)
        sky = np.s_[40:160, 40:600]
        new = (200, 200, 200)
        darker = self.seen(of, new, stays=100.0, stays_as="darken").astype(int)
        brighter = self.seen(of, new, stays=100.0, stays_as="lighten").astype(int)
        self.assertLessEqual(int(np.abs(darker[sky] - np.minimum(old[sky], 200)).max()), 1)
        self.assertLessEqual(int(np.abs(brighter[sky] - np.maximum(old[sky], 200)).max()), 1)
        within = self.seen(of, (60, 60, 60), stays=100.0, stays_from=80.0, stays_soft=2.0).astype(int)
        dim, bright = old[100, :, 0] < 0.76 * 255, old[100, :, 0] > 0.84 * 255
        self.assertLessEqual(int(np.abs(within[100, dim] - 60).max()), 1)
        self.assertLessEqual(int(np.abs(within[100, bright] - old[100, bright]).max()), 1)
        upper = self.seen(of, (60, 60, 60), stays=100.0, stays_to=80.0, stays_soft=2.0).astype(int)
        self.assertLessEqual(int(np.abs(upper[100, bright] - 60).max()), 1)

    def test_a_mask_keeps_from_the_key_what_is_as_bright_as_the_sky(self) -> None:
        rgb = self.ridge()[0].copy()
        rgb[280:320, 200:300] = 240
        of = self.sources([rgb] * 2)
        graded = {"kind": "graded", "id": "m", "name": "Below", "mode": "keep", "from_x": 0, "from_y": 240, "to_x": 0, "to_y": 220}
        shot = self.shot(in_front(key=self.KEY, masks=[graded]), fill(), frames=2)
        out = render_frame(shot, of(shot), 0)
        plate = render_frame(shot, of(shot), 0, view="plate")
        self.assertLessEqual(int(np.abs(out[250:].astype(int) - plate[250:]).max()), 1)
        self.assertLessEqual(int(np.abs(out[40:160].astype(int) - BEHIND).max()), 1)

    def test_each_cloth_has_a_key_of_its_own_within_a_mask(self) -> None:
        """Green to the left and blue to the right of one subject: one key of the layer, one of a mask."""
        colour, alpha = subject(0.0)
        cloth = cloth_light(CLOTHS["green"], uneven=True)
        cloth[:, SEAM:] = cloth_light(CLOTHS["blue"], uneven=True)[:, SEAM:]
        light = (alpha[..., None] * colour + (1 - alpha[..., None]) * cloth).astype(np.float32)
        rgb = Sensor(vignette=0, sharpen=0).photograph(light, np.random.default_rng(3))
        right: dict[str, Any] = {"kind": "outline", "id": "m", "name": "Right", "mode": "keep", "outline": {"keys": [
            {"frame": 0, "points": [{"x": x, "y": y} for x, y in ((SEAM, 0), (640, 0), (640, 360), (SEAM, 360))]}]}}  # fmt: skip
        green, blue = ({"kind": "screen", "colours": [CLOTHS[name]]} for name in ("green", "blue"))
        of = self.sources([rgb] * 2)

        def off(**settings: Any) -> F64:
            shot = self.shot(in_front(**settings), frames=2)
            matte = render_frame(shot, of(shot), 0, view="matte")[..., 0] / 255
            return np.abs(matte - alpha).mean(axis=0)

        both = off(key=green, masks=[right | {"key": blue}])
        self.assertLess(float(both[: SEAM - 3].mean()), 0.012)
        self.assertLess(float(both[SEAM + 3 :].mean()), 0.012)
        self.assertLess(float(both[SEAM - 3 : SEAM + 3].mean()), 0.06, "no line is left where they meet")
        self.assertGreater(float(off(key=green)[SEAM + 3 :].mean()), 0.3, "one key alone leaves the other cloth")
        only = off(masks=[right | {"key": blue}])
        np.testing.assert_allclose(only[SEAM + 3 :], both[SEAM + 3 :], atol=2 / 255)
        self.assertGreater(float(only[: SEAM - 3].mean()), 0.3, "without a key of the layer the rest is kept")
        same = off(key=green, masks=[right | {"key": green | {"calm": 2}}])
        plain = off(key=green)
        np.testing.assert_allclose(same[SEAM - 8 : SEAM], plain[SEAM - 8 : SEAM], atol=0.01, err_msg="one cloth has no seam")
        # Half of a mask is half of both; what lies later in the list counts where two overlap.
        half = off(key=green, masks=[right | {"key": blue, "strength": 50.0}])
        bare = off(key=green)
        np.testing.assert_allclose(half[SEAM + 3 :], (both + bare)[SEAM + 3 :] / 2, atol=0.02)
        over = off(key=green, masks=[right | {"key": blue}, right | {"id": "n", "name": "All of it"}])
        self.assertGreater(float(over[SEAM + 3 :].mean()), 0.3, "kept whole again by a mask after it")

    def test_every_number_of_a_key_can_move(self) -> None:
        of = self.sources(self.ridge())
        moving = Keyed(keys=[Key(frame=0, value=35), Key(frame=1, value=90)]).model_dump(mode="json")
        shot = self.shot(in_front(key=self.KEY | {"threshold": moving}), fill(), frames=2)
        first, last = (render_frame(shot, of(shot), k) for k in (0, 1))
        self.assertTrue((np.abs(first[100, 200].astype(int) - BEHIND) <= 1).all())
        self.assertFalse((np.abs(last[100, 200].astype(int) - BEHIND) <= 20).all(), "now the sky's dim side is kept")
        for entry in KEYS:
            told = entry.settings.model_json_schema()["properties"]
            still = [name for name, field in told.items() if field.get("x-plonket", {}).get("control") == "plain"]
            self.assertEqual(still, [], entry.kind)
            if entry.kind != "stripe":
                self.assertTrue({"choke", "soften", "specks", "holes", "lone"} <= set(told), entry.kind)

    def test_specks_and_holes_of_any_key_go(self) -> None:
        light = np.full((120, 160, 3), 0.02, np.float32)
        light[30:90, 40:120] = 0.6
        light[10:13, 10:13], light[58:61, 78:81] = 0.6, 0.02
        for key in (BrightnessKey(keeps="bright", specks=3, holes=3), ColourKey(colours=["#cccccc"], inverted=True, specks=3, holes=3)):
            alpha = KEYS.of(key).run(light, key, KeyContext())[..., 3]
            self.assertLess(float(alpha[9:14, 9:14].max()), 0.2, key.kind)
            self.assertGreater(float(alpha[56:63, 76:83].min()), 0.9, key.kind)
            thinner = KEYS.of(key).run(light, key.model_copy(update={"choke": 3.0}), KeyContext())[..., 3]
            self.assertAlmostEqual(float(np.sqrt((alpha > 0.5).sum()) - np.sqrt((thinner > 0.5).sum())), 6, delta=1.2)


class BaseOff(Plates):
    def test_without_its_footage_the_motion_stays_and_things_are_alone(self) -> None:
        frames, _, _ = before_cloth()
        of = self.sources(frames)
        bare = self.shot(frames=N)
        off = read_shot(bare.model_dump(mode="json") | {"footage": bare.footage.model_dump() | {"opacity": 0.0}})  # type: ignore[union-attr]
        self.assertEqual(int(render_frame(off, of(off), 1).max()), 0)
        self.assertGreater(int(render_frame(off, of(off), 1, view="plate").max()), 100, "the plate is there to be measured on")
        faded = read_shot(bare.model_dump(mode="json") | {"footage": bare.footage.model_dump() | {  # type: ignore[union-attr]
            "opacity": {"keys": [{"frame": 0, "value": 0, "ease": "linear"}, {"frame": 4, "value": 100}]}}})  # fmt: skip
        half = decode(render_frame(faded, of(faded), 2) / 255)
        whole = decode(render_frame(bare, of(bare), 2) / 255)
        self.assertLess(float(np.abs(half - whole / 2).max()), 0.006)

    def test_delivered_with_coverage_it_can_be_laid_over_anything(self) -> None:
        frames, covers, _ = before_cloth()
        of = self.sources(frames)
        bare = self.shot(in_front(key={"kind": "screen"}))
        footage = bare.footage.model_dump() | {"opacity": 0.0, "ground": "clear"}  # type: ignore[union-attr]
        shot = read_shot(bare.model_dump(mode="json") | {"footage": footage})
        matte = render_frame(shot, of(shot), 1, view="matte")[..., 0]
        deliver(shot, of(shot), self.folder / "png", start=0, stop=3)
        picture = cv2.imread(str(self.folder / "png" / "000001.png"), cv2.IMREAD_UNCHANGED)
        assert picture is not None
        np.testing.assert_array_equal(picture[..., 3], matte)
        deliver(shot, of(shot), self.folder / "out.mov", start=0, stop=3)
        clip = open_clip(self.folder / "out.mov")
        self.addCleanup(clip.close)
        self.assertEqual((clip.info.frames, clip.info.size), (3, SIZE))
        rgba = clip.rgba(1)
        self.assertLess(float(np.abs(rgba[..., 3].astype(int) - matte).mean()), 1.0)
        self.assertLess(float(np.abs(rgba[..., 3] / 255 - covers[1]).mean()), 0.012)
        solid = cv2.erode(covers[1], np.ones((13, 13))) > 0.999
        self.assertLess(float(np.abs(rgba[..., :3][solid].astype(int) - picture[..., 2::-1][solid]).mean()), 2.0)
        with self.assertRaisesRegex(Exception, "ending in .mov"):
            deliver(shot, of(shot), self.folder / "out.mp4", start=0, stop=2)

    def test_another_clip_leaves_the_ground_as_it_was_set(self) -> None:
        shot = self.shot(in_front())
        footage = shot.footage.model_copy(update={"opacity": 30.0, "ground": "clear"})  # type: ignore[union-attr]
        new = Footage(asset="e" * 64, name="n", width=640, height=360, rate="30/1", frames=4, in_frame=0, out_frame=3)
        changed = replace_footage(shot.model_copy(update={"footage": footage}), new)
        assert changed.footage is not None
        self.assertEqual((changed.footage.opacity, changed.footage.ground, changed.footage.frames), (30.0, "clear", 4))


class Economy(Plates):
    def test_two_layers_of_one_key_are_keyed_and_decoded_once(self) -> None:
        frames, _, _ = before_cloth()
        of = self.sources(frames)
        key = {"kind": "screen"}
        shot = self.shot(in_front(key=key), in_front(id="again", name="Again", key=key), fill())
        entry, calls = KEYS.get("screen"), []
        solve = entry.solve
        assert solve is not None

        def counted(*given: Any) -> Any:
            calls.append(1)
            return solve(*given)

        object.__setattr__(entry, "solve", counted)
        try:
            render_frame(shot, of(shot), 1)
            self.assertEqual(len(calls), 1)
            # With light from behind it is drawn three times, and what comes in its spill's place may change.
            for changed in ({"replace": "behind"}, {"replace": "tint", "tint": "#334455"}, {"spill": 40.0}):
                lit = self.shot(in_front(key=key | changed), fill())
                sources = of(lit)
                render_frame(lit, sources, 2)
                render_frame(lit, sources, 2)
            self.assertEqual(len(calls), 2, "what is cloth does not depend on what takes its place")
        finally:
            object.__setattr__(entry, "solve", solve)
