"""Details found by themselves: spread evenly, followed without drift, kept out of what is ignored."""

from __future__ import annotations

import unittest
from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Cancelled
from plonket.base.progress import Work
from plonket.track.camera.details import Details, follow_details
from plonket.track.camera.patches import AREA, UNKNOWNS, cut, match

SIZE = (320, 200)
FRAMES = 12


def wallpaper(seed: int = 3) -> F32:
    """(h, w) larger than a frame, detail everywhere."""
    rng = np.random.default_rng(seed)
    fine = cv2.GaussianBlur(rng.standard_normal((300, 460)).astype(np.float32), (0, 0), 2.2)
    return np.asarray(125 + 34 * fine / fine.std(), np.float32)


def seen_through(paper: F32, turn: float, size: float, shift: tuple[float, float]) -> U8:
    """A frame of the wallpaper: frame pixel p shows the wallpaper's place of `placed`."""
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
    at = placed(np.stack([x.ravel(), y.ravel()], axis=1), turn, size, shift) - 0.5
    grey = map_coordinates(paper, at[:, ::-1].T, order=3, mode="nearest").reshape(SIZE[::-1])
    return np.asarray(np.clip(grey + 0.5, 0, 255), np.uint8)


def placed(at: F64, turn: float, size: float, shift: tuple[float, float]) -> F64:
    c, s = np.cos(turn) / size, np.sin(turn) / size
    middle = np.array(SIZE) / 2
    return np.asarray((at - middle) @ np.array([[c, s], [-s, c]]) + np.array([230.0, 150.0]) + np.array(shift))


def path(i: int) -> tuple[float, float, tuple[float, float]]:
    return 0.004 * i, 1 + 0.006 * i, (3.3 * i - 18, 6 * np.sin(i / 3))


class Followed(unittest.TestCase):
    def followed(self, **options: object) -> Details:
        paper = wallpaper()
        pictures = [seen_through(paper, *path(i)) for i in range(FRAMES)]
        return follow_details(lambda i: pictures[i], range(FRAMES), FRAMES, **{"count": 160, "spacing_px": 12.0, **options})  # type: ignore[arg-type]

    def test_no_drift_over_the_clip(self) -> None:
        details = self.followed()
        long = details.seen.sum(axis=1) >= FRAMES - 2
        self.assertGreater(int(long.sum()), 50)
        # All sightings of one detail are one place of the wallpaper.
        for k in np.flatnonzero(long):
            on = np.array([placed(details.xy[k, i][None], *path(i))[0] for i in np.flatnonzero(details.seen[k])])
            self.assertLess(float(np.linalg.norm(on - on.mean(axis=0), axis=1).max()), 0.15, k)

    def test_they_lie_apart_and_everywhere(self) -> None:
        details = self.followed()
        first = details.xy[details.seen[:, 0], 0]
        # Those found there, on whole pixels; others were followed back to it and may come near.
        first = first[(np.abs(first % 1 - 0.5) < 1e-9).all(axis=1)]
        self.assertGreater(len(first), 90)
        away = np.linalg.norm(first[:, None] - first[None], axis=2) + 1e3 * np.eye(len(first))
        self.assertGreaterEqual(float(away.min()), 11.5)
        # Every sixth of the picture has its share.
        columns, rows = (np.clip((first / SIZE * [3, 2]).astype(int), 0, [2, 1])).T
        share = np.bincount(rows * 3 + columns, minlength=6) / len(first)
        self.assertGreater(float(share.min()), 0.09)
        self.assertLess(float(share.max()), 0.26)

    def test_more_room_between_them_means_fewer_and_a_higher_threshold_none(self) -> None:
        wide = self.followed(spacing_px=40.0)
        self.assertLess(int(wide.seen[:, 0].sum()), 45)
        self.assertEqual(len(self.followed(least=400.0).xy), 0)

    def test_nothing_is_found_or_followed_in_what_is_ignored(self) -> None:
        def ignored(i: int) -> NDArray[np.bool_] | None:
            out = np.zeros(SIZE[::-1], bool)
            out[40:120, 100 + 4 * i : 180 + 4 * i] = True
            return out

        details = self.followed(ignored=ignored)
        for i in range(FRAMES):
            x, y = details.xy[details.seen[:, i], i].T
            inside = (x > 100 + 4 * i) & (x < 180 + 4 * i) & (y > 40) & (y < 120)
            self.assertFalse(inside.any(), i)
        self.assertGreater(len(details.xy), 60)

    def test_fresh_ones_are_found_where_the_picture_is_new_and_followed_back(self) -> None:
        details = self.followed()
        late = ~details.seen[:, 0] & details.seen[:, -1]
        self.assertGreater(int(late.sum()), 5)
        # The camera goes right: what is new comes in there.
        self.assertGreater(float(np.median(details.xy[late, -1, 0])), SIZE[0] * 0.6)

    def test_large_pictures_are_followed_reduced_in_their_own_pixels(self) -> None:
        paper = wallpaper()
        pictures = [cv2.resize(seen_through(paper, *path(i)), None, fx=6, fy=6, interpolation=cv2.INTER_CUBIC) for i in range(4)]
        details = follow_details(lambda i: np.asarray(pictures[i], np.uint8), range(4), 4, count=60, spacing_px=60.0)
        all_four = details.seen.all(axis=1)
        self.assertGreater(int(all_four.sum()), 20)
        for k in np.flatnonzero(all_four):
            on = np.array([placed(details.xy[k, i][None] / 6, *path(i))[0] for i in range(4)])
            self.assertLess(float(np.linalg.norm(on - on.mean(axis=0), axis=1).max()), 0.25)

    def test_stop_ends_it_and_a_blank_clip_has_none(self) -> None:
        told: list[tuple[int, int]] = []
        asked = iter([False, False, True] + [True] * 100)
        work = Work(lambda done, total: told.append((done, total)), lambda: next(asked))
        with self.assertRaises(Cancelled):
            self.followed(work=work)
        self.assertEqual(told, [(1, 2 * FRAMES), (2, 2 * FRAMES)])
        blank = np.full(SIZE[::-1], 99, np.uint8)
        none = follow_details(lambda i: blank, range(3), 5)
        self.assertEqual((none.xy.shape, none.frames), ((0, 5, 2), 5))


class Matched(unittest.TestCase):
    def pieces(self, at: F64) -> tuple[F64, F64, F64, NDArray[np.bool_]]:
        n = len(at)
        out = np.zeros((n, AREA)), np.zeros((n, AREA, UNKNOWNS)), np.zeros((n, UNKNOWNS, UNKNOWNS)), np.zeros(n, bool)
        cut(wallpaper(), at, *out)
        return out

    def matched(self, picture: F32, at: F64, start: F64) -> tuple[F64, F64, F64]:
        templates, slopes, inverse, sound = self.pieces(at)
        self.assertTrue(sound.all())
        xy, shape, likeness = start.copy(), np.tile(np.eye(2), (len(at), 1, 1)), np.zeros(len(at))
        match(picture, templates, slopes, inverse, xy, shape, likeness)
        return xy, shape, likeness

    def test_shift_and_shape_come_back(self) -> None:
        paper = wallpaper()
        at = np.array([[80.3, 90.7], [200.0, 150.0], [333.2, 120.9]])
        shape = np.array([[1.05, 0.04], [-0.03, 0.97]])
        for k in range(3):
            move: Callable[[F64], F64] = lambda p, k=k: (p - at[k] - [1.3, -0.8]) @ np.linalg.inv(shape).T + at[k]  # noqa: E731
            y, x = np.mgrid[0 : paper.shape[0], 0 : paper.shape[1]].astype(float)
            from_ = move(np.stack([x.ravel(), y.ravel()], axis=1))
            moved = map_coordinates(paper, from_[:, ::-1].T, order=3, mode="nearest").reshape(paper.shape)
            xy, found, likeness = self.matched(np.asarray(0.7 * moved + 22, np.float32), at[k : k + 1], at[k : k + 1])
            np.testing.assert_allclose(xy[0], at[k] + [1.3, -0.8], atol=0.02)
            np.testing.assert_allclose(found[0], shape, atol=0.01)
            self.assertGreater(float(likeness[0]), 0.999, "a change of light is none of detail")

    def test_what_is_not_there_is_not_alike_and_the_rim_is_no_place(self) -> None:
        at = np.array([[200.0, 150.0]])
        _, _, likeness = self.matched(wallpaper(8), at, at)
        self.assertLess(float(likeness[0]), 0.7)
        _, _, likeness = self.matched(wallpaper(), at, np.array([[4.0, 150.0]]))
        self.assertEqual(float(likeness[0]), -1)
        *_, sound = self.pieces(np.array([[3.0, 50.0], [200.0, 150.0]]))
        self.assertEqual(sound.tolist(), [False, True])
