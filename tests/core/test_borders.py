"""Borders of a steadied picture: which frames fill them, how far to zoom, and what the filled picture shows."""

from __future__ import annotations

import unittest

import cv2
import numpy as np
from scipy.ndimage import map_coordinates

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.image.picture import StillSource
from plonket.plate.donors import choose_donors, looked_at, zoom_to_fill
from plonket.plate.view_path import ViewPath
from plonket.render.no_media import NoMedia
from plonket.render.plate_picture import stabilised_plate

SIZE = (160, 100)
FRAMES = 21


def swaying(reach: float = 24.0) -> F64:
    """(n, 3, 3) from what is held to each frame's pixels: it sways to both sides."""
    x = reach * np.sin(np.arange(FRAMES) * 2 * np.pi / (FRAMES - 1))
    return np.stack([np.array([[1, 0, v], [0, 1, 0.3 * v], [0, 0, 1.0]]) for v in x])


def held(path: F64, donors: tuple[int, ...] = ()) -> ViewPath:
    middle = np.tile(np.array(SIZE) / 2, (FRAMES, 1))
    eye = np.tile(np.eye(3), (FRAMES, 1, 1))
    return ViewPath(picture_from_held=eye, held_from_clip=np.linalg.inv(path), zoom=np.ones(FRAMES), before=middle, after=middle, donors=donors)


def wall() -> F32:
    """A wide wall, soft enough to be sampled between its pixels; (h, w, 3) codes."""
    rng = np.random.default_rng(2)
    soft = cv2.GaussianBlur(rng.random((260, 360, 3)).astype(np.float32), (0, 0), 5)
    return np.asarray(60 + 130 * (soft - soft.min()) / np.ptp(soft), np.float32)


class Filmed(NoMedia):
    """Frames of the wall along a path; `dimmed` are darker than the others."""

    def __init__(self, path: F64, view: ViewPath, dimmed: tuple[int, ...] = ()) -> None:
        super().__init__(SIZE)
        self.path, self.view, self.dimmed = path, view, dimmed
        self.paper = wall()

    def plate(self, asset: str, frame: int) -> U8:
        code = place(self.paper, self.path[frame])
        if frame in self.dimmed:
            light = linear_from_codes(np.clip(code + 0.5, 0, 255).astype(np.uint8)) * 0.7
            code = 255 * np.where(light < 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 1e-6) ** (1 / 2.4) - 0.055)
        return np.clip(code + 0.5, 0, 255).astype(np.uint8)

    def donor(self, asset: str, frame: int) -> StillSource:
        return StillSource(self.plate(asset, frame))


def place(paper: F32, path: F64) -> F32:
    """What a frame shows whose pixels lie at path @ (what is held); what is held lies 100, 80 into the wall."""
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
    at = np.stack([x.ravel(), y.ravel(), np.ones(x.size)], axis=1) @ np.linalg.inv(path).T
    from_ = at[:, :2] / at[:, 2:] + [100, 80] - 0.5
    return np.stack([map_coordinates(paper[..., c], from_[:, ::-1].T, order=3).reshape(x.shape) for c in range(3)], axis=2)


class Donors(unittest.TestCase):
    def test_few_of_them_fill_all_others(self) -> None:
        path = swaying()
        view = held(path)
        donors = choose_donors(view.picture_from_held, view.held_from_clip, SIZE, 0, FRAMES)
        self.assertTrue(1 <= len(donors) <= 3, donors)
        spots = np.stack(np.meshgrid(np.linspace(4, 156, 20), np.linspace(4, 96, 12)), axis=-1).reshape(-1, 2)
        for frame in range(FRAMES):
            shown = np.zeros(len(spots), bool)
            for one in (frame, *donors):
                at = spots + path[one, :2, 2]
                shown |= ((at > 0) & (at < np.array(SIZE))).all(axis=1)
            self.assertTrue(shown.all(), frame)

    def test_a_still_camera_needs_none_and_no_zoom(self) -> None:
        view = held(swaying(0.0))
        self.assertEqual(choose_donors(view.picture_from_held, view.held_from_clip, SIZE, 0, FRAMES), ())
        zoom = zoom_to_fill(view.picture_from_held, view.held_from_clip, (), SIZE, 0, FRAMES)
        assert zoom is not None
        self.assertLess(zoom, 1.06)

    def test_with_donors_less_zoom_is_needed_and_it_is_enough(self) -> None:
        view = held(swaying())
        donors = choose_donors(view.picture_from_held, view.held_from_clip, SIZE, 0, FRAMES)
        without = zoom_to_fill(view.picture_from_held, view.held_from_clip, (), SIZE, 0, FRAMES)
        filled = zoom_to_fill(view.picture_from_held, view.held_from_clip, donors, SIZE, 0, FRAMES)
        assert without is not None and filled is not None
        # A shift of 24 pixels to both sides leaves 160 - 48 of the width (and two pixels' care).
        self.assertAlmostEqual(without, 160 / (160 - 48 - 4), delta=0.04)
        self.assertLess(filled, without - 0.2)

    def test_what_no_zoom_can_hide_is_said(self) -> None:
        self.assertIsNone(zoom_to_fill(held(swaying(60.0)).picture_from_held, held(swaying(60.0)).held_from_clip, (), SIZE, 0, FRAMES))

    def test_only_the_range_gives(self) -> None:
        view = held(swaying())
        donors = choose_donors(view.picture_from_held, view.held_from_clip, SIZE, 0, 8)
        self.assertTrue(all(0 <= d < 8 for d in donors))
        frames = looked_at(5, 200)
        self.assertEqual((frames[0], frames[-1], len(frames)), (5, 199, 24))
        np.testing.assert_array_equal(looked_at(3, 7), [3, 4, 5, 6])


class Filled(unittest.TestCase):
    def shown(self, frame: int, *, dimmed: tuple[int, ...] = (), fill: bool = True) -> F32:
        path = swaying()
        bare = held(path)
        donors = choose_donors(bare.picture_from_held, bare.held_from_clip, SIZE, 0, FRAMES)
        view = held(path, donors)
        sources = Filmed(path, view, tuple(d for d in donors if d != frame) if dimmed == (-1,) else dimmed)
        return stabilised_plate(sources, "a", frame, np.eye(3), view.matrix(frame), SIZE, fill=fill)

    def true(self) -> F32:
        return linear_from_codes(np.clip(place(wall(), np.eye(3)) + 0.5, 0, 255).astype(np.uint8))

    def test_every_frame_shows_the_whole_wall(self) -> None:
        true = self.true()
        for frame in (0, 5, 13):
            made = self.shown(frame)
            inside = made[3:-3, 3:-3]
            self.assertGreater(float(inside[..., 3].min()), 0.999, frame)
            off = np.abs(inside[..., :3] - true[3:-3, 3:-3])
            self.assertLess(float(off.max()), 0.02, frame)
            self.assertLess(float(off.mean()), 0.002, frame)

    def test_without_filling_its_edge_is_where_the_frame_ends(self) -> None:
        made = self.shown(5, fill=False)
        shift = swaying()[5, 0, 2]
        # The frame lies `shift` to the left of what is held: that many columns of the right are empty.
        self.assertAlmostEqual(float((made[50, :, 3] < 0.5).sum()), abs(shift), delta=1)

    def test_darker_donors_are_brought_to_the_frame_s_light(self) -> None:
        made = self.shown(13, dimmed=(-1,))
        inside = made[3:-3, 3:-3, :3]
        self.assertLess(float(np.abs(inside - self.true()[3:-3, 3:-3]).mean()), 0.004)
        self.assertLess(float(np.abs(inside - self.true()[3:-3, 3:-3]).max()), 0.03)
