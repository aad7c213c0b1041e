"""Light, placing, blending, following and rendering."""

from __future__ import annotations

import unittest
from collections.abc import Callable

import numpy as np

from plonket.base.colour import decode, encode, encode_8bit, linear_from_codes
from plonket.base.conventions import F32, F64, U8, matrix_to_quaternion, quaternion_to_matrix
from plonket.base.fields import Key, Keyed, value_at
from plonket.base.homography import transform_point
from plonket.base.states import LOST, TRACKED
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.perch import Perch
from plonket.document.shot import Footage, Shot
from plonket.image.blend import lay_over
from plonket.image.picture import Picture, StillSource
from plonket.image.resample import place_still, whole_still
from plonket.layers.still import StillLayer, frame_from_still
from plonket.render.frame import render_frame
from plonket.track.movement import between, point_movement
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks
from plonket.track.spaces import Spaces

DIGEST = "a" * 64
POINTS = PointMotion(id="m", name="m")


def tracks_of(xy: F64) -> PointTracks:
    n = len(xy)
    tracks = PointTracks.empty(tuple(f"p{k}" for k in range(n)), tuple(f"p{k}" for k in range(n)), xy.shape[1])
    tracks.xy[:] = xy
    tracks.state[:] = TRACKED
    return tracks


def disc(size: int = 64, radius: float = 20.0) -> U8:
    """A white disc with a smooth edge on nothing."""
    y, x = np.mgrid[0:size, 0:size] + 0.5
    alpha = np.clip(radius - np.hypot(x - size / 2, y - size / 2) + 0.5, 0, 1)
    return np.dstack([np.full((size, size, 3), 255, np.uint8), np.round(alpha * 255).astype(np.uint8)])


def centroid(alpha: np.ndarray, x0: int = 0, y0: int = 0) -> tuple[float, float]:
    y, x = np.mgrid[0 : alpha.shape[0], 0 : alpha.shape[1]] + 0.5
    total = alpha.sum()
    return float((x * alpha).sum() / total + x0), float((y * alpha).sum() / total + y0)


class Light(unittest.TestCase):
    def test_all_codes_survive_the_round_trip(self) -> None:
        codes = np.arange(256, dtype=np.uint8)
        np.testing.assert_array_equal(encode_8bit(linear_from_codes(codes)), codes)

    def test_middle_grey(self) -> None:
        self.assertAlmostEqual(float(decode(np.array(0.5))), 0.21404, places=5)
        self.assertAlmostEqual(float(encode(np.array(0.21404))), 0.5, places=4)

    def test_quaternions(self) -> None:
        rng = np.random.default_rng(0)
        for q in rng.normal(size=(20, 4)):
            m = quaternion_to_matrix(q)
            np.testing.assert_allclose(m @ m.T, np.eye(3), atol=1e-12)
            np.testing.assert_allclose(quaternion_to_matrix(matrix_to_quaternion(m)), m, atol=1e-12)


class Placing(unittest.TestCase):
    def test_subpixel_place_is_exact(self) -> None:
        source = StillSource(disc())
        for dx, dy in ((0.0, 0.0), (0.25, 0.5), (0.01, 0.37), (0.99, 0.61)):
            m = np.array([[1, 0, 50 + dx], [0, 1, 40 + dy], [0, 0, 1.0]])
            out = place_still(source, m, (200, 160))
            x, y = centroid(out.rgba[..., 3], out.x, out.y)
            # Clamping the kernel's lobes at the hard edge costs up to a fortieth of a pixel.
            self.assertAlmostEqual(x, 82 + dx, delta=0.03)
            self.assertAlmostEqual(y, 72 + dy, delta=0.03)

    def test_reduction_keeps_place_and_coverage(self) -> None:
        source = StillSource(disc(256, 80.0))
        full = source.level(0)[0][..., 3].sum()
        for scale in (0.7, 0.5, 0.31, 0.13):
            out = place_still(source, np.array([[scale, 0, 30.3], [0, scale, 20.7], [0, 0, 1.0]]), (320, 300))
            x, y = centroid(out.rgba[..., 3], out.x, out.y)
            self.assertAlmostEqual(x, 30.3 + 128 * scale, delta=0.03)
            self.assertAlmostEqual(y, 20.7 + 128 * scale, delta=0.03)
            self.assertAlmostEqual(out.rgba[..., 3].sum() / full, scale**2, delta=0.02 * scale**2)

    def test_no_dark_rim(self) -> None:
        out = place_still(StillSource(disc()), np.array([[1.3, 0.2, 30.2], [-0.2, 1.3, 40.4], [0, 0, 1.0]]), (200, 200))
        edge = (out.rgba[..., 3] > 0.1) & (out.rgba[..., 3] < 0.9)
        straight = out.rgba[edge][:, :3] / out.rgba[edge][:, 3:]
        self.assertGreater(straight.min(), 0.97)

    def test_outside_the_frame_is_nothing(self) -> None:
        out = place_still(StillSource(disc()), np.array([[1, 0, 900], [0, 1, 40], [0, 0, 1.0]]), (200, 160))
        self.assertEqual(out.rgba.size, 0)


    def test_pixel_on_pixel_it_is_copied_wherever_it_lies_and_as_if_it_were_sampled(self) -> None:
        source = StillSource(disc())
        for x, y in ((0, 0), (30, 20), (-17, 9), (150, -40), (-60, 130), (199, 159)):
            with self.subTest((x, y)):
                shift = np.array([[1.0, 0, x], [0, 1.0, y], [0, 0, 1.0]])
                copied = whole_still(source, shift, (200, 160))
                # A millionth of a pixel aside it is sampled.
                near = shift.copy()
                near[:2, 2] += 1e-6
                np.testing.assert_allclose(copied, whole_still(source, near, (200, 160)), atol=2e-5)


class Blending(unittest.TestCase):
    def mixed(self, below: float, above: float, alpha: float, blend: str) -> float:
        canvas = np.full((4, 4, 4), below, np.float32)
        canvas[..., 3] = 1
        layer = np.full((4, 4, 4), above * alpha, np.float32)
        layer[..., 3] = alpha
        lay_over(canvas, Picture(rgba=layer), blend)  # type: ignore[arg-type]
        return float(canvas[1, 1, 0])

    def test_closed_forms(self) -> None:
        b, s, a = 0.2, 0.6, 0.5
        sb, ss = float(encode(np.array(b))), float(encode(np.array(s)))
        self.assertAlmostEqual(self.mixed(b, s, a, "normal"), 0.4, places=5)
        self.assertAlmostEqual(self.mixed(b, s, a, "add"), 0.5, places=5)
        self.assertAlmostEqual(self.mixed(b, s, a, "multiply"), 0.5 * 0.12 + 0.5 * 0.2, places=5)
        screen = float(decode(np.array(sb + ss - sb * ss)))
        self.assertAlmostEqual(self.mixed(b, s, 1, "screen"), screen, places=4)
        self.assertAlmostEqual(self.mixed(b, s, a, "lighten"), 0.4, places=4)
        self.assertAlmostEqual(self.mixed(b, s, a, "darken"), 0.2, places=4)
        overlay = 2 * sb * ss if sb <= 0.5 else 1 - 2 * (1 - sb) * (1 - ss)
        self.assertAlmostEqual(self.mixed(b, s, 1, "overlay"), float(decode(np.array(overlay))), places=4)

    def test_soft_light_and_difference_as_they_are_defined(self) -> None:
        """W3C Compositing and Blending Level 1, 9.1: both halves of soft light, dark and light below."""
        for b in (0.02, 0.3, 0.8):
            for s in (0.05, 0.7):
                sb, ss = float(encode(np.array(b))), float(encode(np.array(s)))
                d = ((16 * sb - 12) * sb + 4) * sb if sb <= 0.25 else np.sqrt(sb)
                soft = sb - (1 - 2 * ss) * sb * (1 - sb) if ss <= 0.5 else sb + (2 * ss - 1) * (d - sb)
                self.assertAlmostEqual(self.mixed(b, s, 1, "soft light"), float(decode(np.array(soft))), places=4)
                self.assertAlmostEqual(self.mixed(b, s, 1, "difference"), float(decode(np.array(abs(sb - ss)))), places=4)

    def test_nothing_changes_under_a_clear_layer(self) -> None:
        for blend in ("normal", "add", "screen", "multiply", "lighten", "darken", "overlay", "soft light", "difference"):
            self.assertAlmostEqual(self.mixed(0.3, 0.9, 0.0, blend), 0.3, places=5)


class Moving(unittest.TestCase):
    def test_numbers_move_between_keys(self) -> None:
        keys = Keyed(keys=[Key(frame=10, value=0, ease="linear"), Key(frame=20, value=10, ease="smooth"),
                           Key(frame=30, value=20, ease="hold"), Key(frame=40, value=0)])  # fmt: skip
        wanted = {0: 0, 10: 0, 15: 5, 20: 10, 25: 15, 35: 20, 40: 0, 90: 0}
        self.assertEqual({f: value_at(keys, f) for f in wanted}, wanted)
        self.assertLess(value_at(keys, 22), 12)

    def test_one_point_shifts(self) -> None:
        m = point_movement(POINTS, tracks_of(np.array([[[10, 10], [14, 7], [20, 30.0]]])), 1)
        np.testing.assert_allclose(m[0] @ [5, 5, 1], [1, 8, 1])
        np.testing.assert_allclose(m[2] @ [5, 5, 1], [11, 28, 1])

    def test_two_points_turn_and_grow(self) -> None:
        a, b = np.array([10.0, 10]), np.array([50.0, 20])
        angle, scale, shift = np.radians(25), 1.4, np.array([7.0, -3])
        r = scale * np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        m = point_movement(POINTS, tracks_of(np.array([[a, r @ a + shift], [b, r @ b + shift]])), 0)
        np.testing.assert_allclose(m[1][:2, :2], r, atol=1e-9)
        np.testing.assert_allclose(m[1][:2, 2], shift, atol=1e-9)

    def test_lost_frames_are_bridged(self) -> None:
        tracks = tracks_of(np.array([[[0, 0], [2, 0], [99, 99], [6, 0], [99, 99.0]]]))
        tracks.state[0, [2, 4]] = LOST
        m = point_movement(POINTS, tracks, 0)
        np.testing.assert_allclose(m[:, 0, 2], [0, 2, 4, 6, 6])

    def test_parts_that_are_not_followed_stay(self) -> None:
        angle = np.radians(30)
        r = 2 * np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        matrices = np.tile(np.eye(3), (2, 1, 1))
        matrices[1, :2, :2], matrices[1, :2, 2] = r, (5, 6)
        layer = StillLayer(id="l", name="l", asset=DIGEST, width=20, height=10, x=40, y=30,
                           follow=Follow(target="m", turn=False, size=False))  # fmt: skip
        spaces = Spaces([], lambda motion, reference: matrices, (200, 120))
        m = frame_from_still(layer, spaces, 1)
        np.testing.assert_allclose(m[:2, :2], np.eye(2), atol=1e-12)
        np.testing.assert_allclose((m @ [10, 5, 1])[:2], r @ [40, 30] + [5, 6])
        whole = layer.model_copy(update={"follow": Follow(target="m")})
        np.testing.assert_allclose(frame_from_still(whole, spaces, 1)[:2, :2], r, atol=1e-9)


class FakeSources:
    """Sources with one grey plate and one white disc; every motion is the same one."""

    def copies(self, layer: LayerBase) -> list[LayerBase]:
        return [layer]

    def __init__(self, movement: F64 | None = None, perches: list[Perch] | None = None) -> None:
        self.moves = movement
        self.spaces = Spaces(perches or [], lambda motion, reference: movement, (200, 120))

    def moment(self, frame: float) -> float:
        return frame

    def plate(self, asset: str, frame: int) -> U8:
        return np.full((120, 200, 3), 90, np.uint8)

    def length(self, asset: str) -> int:
        return 1

    def seat(self, target: str | None) -> None:
        return None

    def on_spot(self, target: str | None) -> bool:
        return False

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> None:
        return None

    def picked(self, motion: str, moment: float, *, shadow: bool = False) -> None:
        return None

    def grain(self, asset: str) -> None:
        return None

    def pace(self, asset: str) -> float:
        return 1.0

    def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
        return StillSource(disc())

    def quad(self, plane: str) -> F64 | None:
        return np.array([[40.0, 30], [120, 30], [120, 90], [40, 90]])

    def on_plane(self, plane: str, frame: float) -> F64:
        return np.eye(3) if self.moves is None else between(self.moves, frame)

    view = None
    covered = False
    footage = DIGEST
    size = (200, 120)

    def layer(self, layer_id: str) -> None:
        return None

    def canvas(self, frame: int, size: tuple[int, int], make: Callable[[], F32]) -> F32:
        return make()

    def parcel(self, parcel_id: str) -> list[LayerBase]:
        return []

    def table(self, asset: str) -> F32:
        raise NotImplementedError

    def donor(self, asset: str, frame: int) -> StillSource:
        raise NotImplementedError

    def anchor(self, target: str, point: str | None, at: F64, frame: float) -> F64 | None:
        return transform_point(self.on_plane(target, frame), at)


def shot_with(**layer: object) -> Shot:
    footage = Footage(asset=DIGEST, name="c", width=200, height=120, rate="30/1", frames=3, in_frame=0, out_frame=2)
    still = StillLayer(id="l", name="l", asset="b" * 64, width=64, height=64, **({"x": 100.0, "y": 60.0} | layer))
    return Shot(name="s", footage=footage, stack=[still])


class Rendering(unittest.TestCase):
    def test_layer_sits_on_its_place_at_every_scale(self) -> None:
        shot = shot_with(x=80.25, y=50.75)
        for scale in (1.0, 0.5, 0.25):
            out = render_frame(shot, FakeSources(), 0, scale=scale, view="matte")[..., 0].astype(float)
            x, y = centroid(out)
            self.assertAlmostEqual(x / scale, 80.25, delta=0.05 / scale)
            self.assertAlmostEqual(y / scale, 50.75, delta=0.05 / scale)

    def test_half_cover_mixes_light_not_codes(self) -> None:
        out = render_frame(shot_with(opacity=50.0), FakeSources(), 0)
        wanted = encode_8bit(np.array([(linear_from_codes(np.uint8([90]))[0] + 1) / 2], np.float32))[0]
        self.assertEqual(int(out[60, 100, 0]), int(wanted))

    def test_plate_is_untouched_where_nothing_lies(self) -> None:
        out = render_frame(shot_with(), FakeSources(), 0)
        self.assertTrue((out[:20] == 90).all())
        self.assertTrue((render_frame(shot_with(shown=False), FakeSources(), 0) == 90).all())
        self.assertTrue((render_frame(shot_with(), FakeSources(), 0, view="plate") == 90).all())

    def test_every_setting_changes_the_picture(self) -> None:
        base = render_frame(shot_with(size=60.0, turn=0.0), FakeSources(), 0)
        for change in ({"x": 90.0}, {"y": 70.0}, {"size": 90.0}, {"opacity": 40.0}, {"blend": "multiply"}, {"blend": "overlay"}):
            changed = render_frame(shot_with(**({"size": 60.0} | change)), FakeSources(), 0)
            self.assertGreater(np.abs(changed.astype(int) - base).max(), 10, change)
