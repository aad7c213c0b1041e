"""Forms: fitted by tugs, and followed by their surface, against boxes filmed with known poses."""

from __future__ import annotations

import unittest
from fractions import Fraction
from functools import cache
from typing import Any

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput, Cancelled, Degenerate
from plonket.base.outlines import polygon_outline
from plonket.base.progress import Work
from plonket.base.states import GIVEN, LOST, TRACKED
from plonket.media.clip import ArrayClip
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera, camera_movement
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.forms import edges_of, unit_form
from plonket.room.meshes.raster import seen_by
from plonket.track.context import LoneContext
from plonket.track.form.fit import FormPose, first_pose, focal_of, with_tugs
from plonket.track.form.measure import FormPartial, measure_form, stood_in
from plonket.track.form.settings import FormMotion, FormStake, Tug
from plonket.track.plane.settings import Region
from plonket.track.request import MeasureRequest

SIZE = (640, 360)
FOCAL = 620.0
BOX = (0.30, 0.22, 0.18)
CORNERS = [(x, y, z) for y in (0.0, 1.0) for z in (-0.5, 0.5) for x in (-0.5, 0.5)]


def stood(turn: float, tilt: float = 22.0, x: float = 0.0, y: float = 0.02, z: float = 0.85, roll: float = 0.0) -> FormPose:
    """A pose: turned about its upright, seen from above, its middle at a place before the camera."""
    r = Rotation.from_euler("z", roll, degrees=True) * Rotation.from_euler("x", tilt, degrees=True)
    m = r.as_matrix() @ np.diag([1.0, -1.0, -1.0]) @ Rotation.from_euler("y", turn, degrees=True).as_matrix()
    return FormPose(turn=np.asarray(m), place=np.array([x, y, z]) - m @ np.array([0, BOX[1] / 2, 0]))


@cache
def textures() -> list[U8]:
    """Six painted sides, as a crate has them: boards, marks, dirt."""
    out = []
    rng = np.random.default_rng(5)
    for k in range(6):
        grain = cv2.GaussianBlur(rng.random((300, 400)).astype(np.float32), (0, 0), 1.5, sigmaY=6)
        side = 120 + 260 * (grain - 0.5)
        for _ in range(14):
            x, y = rng.integers(20, 380), rng.integers(20, 280)
            cv2.circle(side, (int(x), int(y)), int(rng.integers(4, 16)), float(rng.uniform(40, 220)), int(rng.choice([-1, 3])))
        painted = np.ascontiguousarray(np.clip(side, 0, 255).astype(np.uint8))
        cv2.putText(painted, f"No {k}", (60, 190), cv2.FONT_HERSHEY_SIMPLEX, 3, 30, 10)
        out.append(painted)
    return out


# The corners of each side, in the order of its texture's corners: left top, right top, right bottom, left bottom.
SIDES = [(6, 7, 3, 2), (7, 5, 1, 3), (5, 4, 0, 1), (4, 6, 2, 0), (4, 5, 7, 6), (2, 3, 1, 0)]


def filmed(poses: list[FormPose], *, seed: int = 0, light: bool = True, bar: range | None = None) -> ArrayClip:
    """Frames of the box before a cluttered wall, with sensor noise; sides are lit by how they face a lamp."""
    fine = 3
    rng = np.random.default_rng(seed)
    wall = np.clip(90 + 500 * (cv2.GaussianBlur(rng.random((SIZE[1], SIZE[0])).astype(np.float32), (0, 0), 4) - 0.5), 0, 255)
    corners = np.array(CORNERS) * BOX
    frames = []
    for i, pose in enumerate(poses):
        big = cv2.resize(wall, (SIZE[0] * fine, SIZE[1] * fine)).astype(np.float32)
        local = corners @ pose.turn.T + pose.place
        flat = (local[:, :2] / local[:, 2:] * FOCAL + np.array(SIZE) / 2) * fine
        for side, texture in zip(SIDES, textures(), strict=True):
            c = local[list(side)]
            normal = np.cross(c[1] - c[0], c[3] - c[0])
            # Image coordinates run down: a side that is seen turns clockwise on screen.
            if normal @ c[0] > 0:
                normal = -normal
            quad = flat[list(side)].astype(np.float32)
            (ax, ay), (bx, by) = quad[1] - quad[0], quad[3] - quad[0]
            area = ax * by - ay * bx
            if area <= 0:
                continue
            h, w = texture.shape
            m = cv2.getPerspectiveTransform(np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32), quad)
            shift = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
            m = shift @ m @ np.linalg.inv(shift)
            n = normal / np.linalg.norm(normal)
            shade = 0.6 + 0.5 * max(0.0, float(n @ np.array([-0.5, -0.7, -0.5]))) if light else 1.0
            warped = cv2.warpPerspective(texture.astype(np.float32) * shade, m, (big.shape[1], big.shape[0]), flags=cv2.INTER_AREA)
            cover = np.zeros(big.shape, np.uint8)
            cv2.fillConvexPoly(cover, np.round((quad - 0.5) * 16).astype(np.int32), 255, shift=4)
            big = np.where(cover > 0, warped, big)
        frame = cv2.resize(big, SIZE, interpolation=cv2.INTER_AREA)
        if bar is not None and i in bar:
            at = 200 + 25 * (i - bar.start)
            frame[:, at : at + 60] = 40
        frame += rng.normal(0, 2.0, frame.shape)
        frames.append(np.repeat(np.clip(frame + 0.5, 0, 255).astype(np.uint8)[..., None], 3, axis=2))
    return ArrayClip(frames, Fraction(30))


def turning(n: int = 40) -> list[FormPose]:
    """A box that is carried and turned by a hand: by 60 degrees, nearer and further off."""
    t = np.linspace(0, 1, n)
    return [stood(-40 + 60 * k + 2 * np.sin(9 * k), 24 + 6 * np.sin(5 * k), 0.10 * np.sin(4 * k), 0.02 + 0.02 * np.cos(7 * k),
                  0.85 + 0.12 * np.sin(3 * k), 3 * np.sin(6 * k)) for k in t]  # fmt: skip


def tugs_of(pose: FormPose, which: tuple[int, ...] = tuple(range(8)), off: float = 0.0, seed: int = 0, size: tuple[float, ...] = BOX) -> list[Tug]:
    """Tugs on corners where they are truly seen, put there by a hand that is off by some pixels."""
    at = np.array([CORNERS[k] for k in which])
    seen = pose.seen(at * size, FOCAL, SIZE) + np.random.default_rng(seed).normal(0, 1, (len(which), 2)) * off
    return [Tug(at=tuple(a), x=float(p[0]), y=float(p[1])) for a, p in zip(at.tolist(), seen, strict=True)]


def form(**more: Any) -> FormMotion:
    known = {"knows": "pixels", "focal_px": FOCAL, "wide": BOX[0], "tall": BOX[1], "deep": BOX[2]}
    return FormMotion.model_validate({"id": "f", "name": "Crate", **known, **more})


def swim(track: CameraTrack, poses: list[FormPose]) -> F64:
    """(n,) how far the box's corners are from where they truly are, pixels RMS."""
    corners = np.array(CORNERS) * BOX
    out = []
    for i, pose in enumerate(poses):
        found = stood_in(track, i).seen(corners, float(track.focal[i]), SIZE)
        out.append(np.sqrt(((found - pose.seen(corners, FOCAL, SIZE)) ** 2).sum(axis=1).mean()))
    return np.array(out)


class Forms(unittest.TestCase):
    def test_sharp_edges_and_what_is_seen(self) -> None:
        self.assertEqual([len(edges_of(unit_form(k))[0]) for k in ("box", "plane", "cylinder")], [12, 4, 96])
        # A square of a metre, three metres off: (focal / depth)^2 pixels, each at its true depth.
        corners = unit_form("plane").corners() @ np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0.0]]).T + [0.013, 0.017, 3]
        depth, which = seen_by(corners, 300.0, (160.0, 120.0), (320, 240))
        self.assertAlmostEqual(int((which >= 0).sum()), 100**2, delta=40)
        np.testing.assert_allclose(depth[which >= 0], 3.0, rtol=1e-5)
        # A floor that reaches behind the camera is seen up to the picture's lower edge, and its depth falls off as it must.
        floor = unit_form("plane").corners() * 40 * [1, 1, 1] @ np.diag([1.0, 1.0, 1.0]) + [0, 1.0, 0]
        depth, which = seen_by(floor, 300.0, (160.0, 120.0), (320, 240))
        self.assertTrue((which[-1] >= 0).all())
        rows = np.array([150, 180, 220])
        np.testing.assert_allclose(depth[rows, 160], 300.0 / (rows + 0.5 - 120), rtol=1e-4)


class Tugged(unittest.TestCase):
    def test_one_tug_moves_two_turn_and_more_put_it_in_perspective(self) -> None:
        motion = form()
        start = first_pose(motion)
        one = start.seen(np.array([CORNERS[7]]) * BOX, FOCAL, SIZE)[0] + [40, -25]
        moved = with_tugs(motion, 0, [Tug(at=CORNERS[7], x=float(one[0]), y=float(one[1]))], SIZE)
        shifted = FormPose.of(moved.stakes[0].pose)
        got = shifted.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)
        before = start.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)
        np.testing.assert_allclose(got[7], one, atol=0.5)
        self.assertLess(float(np.abs((got - before) - [40, -25]).max()), 25, "all of it went along")
        self.assertEqual((moved.wide, moved.deep), BOX[::2], "nothing was said of its proportions")
        # All that is seen of it dragged to where it truly is.
        true = stood(30)
        seen = (2, 3, 4, 5, 6, 7)
        fitted = with_tugs(motion, 0, tugs_of(true, seen), SIZE)
        off = FormPose.of(fitted.stakes[0].pose).seen(np.array(CORNERS) * BOX, FOCAL, SIZE) - true.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)
        self.assertLess(float(np.abs(off).max()), 0.5)

    def test_proportions_and_lens_come_from_the_tugs(self) -> None:
        true = stood(35, tilt=30)
        motion = form(wide=0.22, deep=0.22, knows="unknown", focal_px=700.0)
        fitted = with_tugs(motion, 0, tugs_of(true, (1, 2, 3, 4, 5, 6, 7)), SIZE)
        self.assertAlmostEqual(fitted.wide, BOX[0], delta=0.01 * BOX[0])
        self.assertAlmostEqual(fitted.deep, BOX[2], delta=0.01 * BOX[2])
        self.assertEqual(fitted.tall, BOX[1])
        # Nothing was known of the lens: a usual one to begin with.
        self.assertAlmostEqual(focal_of(fitted, SIZE), FOCAL, delta=0.05 * FOCAL)
        kept = with_tugs(form(fits=False), 0, tugs_of(true, off=0.5), SIZE)
        self.assertEqual(kept.size, BOX)

    def test_however_far_it_is_dragged_it_finds_its_place(self) -> None:
        for turn in (-150, -60, 70, 170):
            true = stood(turn, x=-0.12, z=1.1)
            fitted = with_tugs(form(), 0, tugs_of(true, off=0.7, seed=turn + 200), SIZE)
            off = FormPose.of(fitted.stakes[0].pose).seen(np.array(CORNERS) * BOX, FOCAL, SIZE)
            self.assertLess(float(np.abs(off - true.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)).max()), 2.5, turn)

    def test_tugs_on_other_frames_stay_true_together(self) -> None:
        a, b = stood(20), stood(55, x=0.1)
        motion = with_tugs(form(wide=0.25, deep=0.25), 3, tugs_of(a, (2, 3, 5, 6, 7)), SIZE)
        motion = with_tugs(motion, 20, tugs_of(b, (2, 3, 4, 5, 6, 7)), SIZE)
        self.assertEqual([s.frame for s in motion.stakes], [3, 20])
        for stake, true in zip(motion.stakes, (a, b), strict=True):
            got = FormPose.of(stake.pose).seen(np.array(CORNERS) * motion.size, FOCAL, SIZE)
            self.assertLess(float(np.abs(got - true.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)).max()), 0.8)
        gone = with_tugs(motion, 20, [], SIZE)
        self.assertEqual(gone.stakes[1].tugs, [])


class Followed(unittest.TestCase):
    def test_a_box_in_a_hand_is_followed_from_one_frame(self) -> None:
        poses = turning()
        motion = with_tugs(form(), 12, tugs_of(poses[12]), SIZE)
        track = measure_form(motion, MeasureRequest(clip=filmed(poses)))
        self.assertEqual(int(track.state[12]), GIVEN)
        self.assertTrue((track.state[:12] == TRACKED).all() and (track.state[13:] == TRACKED).all())
        off = swim(track, poses)
        self.assertLess(float(off.mean()), 0.12)
        self.assertLess(float(off.max()), 0.5)

    def test_two_stakes_share_the_drift(self) -> None:
        poses = turning(30)
        motion = with_tugs(form(), 0, tugs_of(poses[0], off=0.8), SIZE)
        motion = with_tugs(motion, 29, tugs_of(poses[29], off=0.8, seed=3), SIZE)
        track = measure_form(motion, MeasureRequest(clip=filmed(poses, seed=2)))
        self.assertTrue(track.known().all())
        self.assertLess(float(swim(track, poses).mean()), 1.2)
        # It arrives at both stakes without a jump.
        corners = np.array(CORNERS) * motion.size
        path = np.stack([stood_in(track, i).seen(corners, FOCAL, SIZE) for i in range(30)])
        true = np.stack([p.seen(np.array(CORNERS) * BOX, FOCAL, SIZE) for p in poses])
        jump = np.linalg.norm(np.diff(path - true, axis=0), axis=2).max(axis=1)
        self.assertLess(float(jump.max()), 1.0)

    def test_something_crosses_it_and_it_is_found_again(self) -> None:
        poses = turning(30)
        motion = with_tugs(form(), 0, tugs_of(poses[0]), SIZE)
        track = measure_form(motion, MeasureRequest(clip=filmed(poses, bar=range(8, 18))))
        off = swim(track, poses)
        self.assertLess(float(np.median(off)), 0.6)
        self.assertTrue((track.state[20:] == TRACKED).all())
        self.assertLess(float(off[20:].max()), 1.5)

    def test_what_is_outlined_or_in_a_matte_is_not_looked_at(self) -> None:
        poses = turning()[:16]
        bare = filmed(poses)
        paper = textures()[3]
        # A poster slides over half of the box from the first frame on: it looks as much like a surface as the box does.
        frames = [bare.rgb(i).copy() for i in range(16)]
        for i, frame in enumerate(frames):
            frame[60:350, 200:330] = np.roll(paper, 4 * i, axis=1)[:290, :130, None]
        clip = ArrayClip(frames, Fraction(30))
        motion = with_tugs(form(), 0, tugs_of(poses[0]), SIZE)
        outline = polygon_outline(np.array([[195, 55], [335, 55], [335, 355], [195, 355]]), 0)
        region = Region(id="r", name="Poster", use=False, follow="screen", outline=outline)
        told = motion.model_copy(update={"regions": [region]})
        pulled, held = swim(measure_form(motion, MeasureRequest(clip=clip)), poses), swim(measure_form(told, MeasureRequest(clip=clip)), poses)
        self.assertLess(float(held.max()), 0.6)
        self.assertGreater(float(pulled.max()), 4 * float(held.max()))

        class Beside(LoneContext):
            def matte(self, asset: str) -> ArrayClip:
                white = np.zeros((*SIZE[::-1], 3), np.uint8)
                white[60:350, 200:330] = 255
                return ArrayClip([white] * 16, Fraction(30))

        matted = motion.model_copy(update={"ignore_matte": "a" * 64})
        self.assertLess(float(swim(measure_form(matted, MeasureRequest(clip=clip, context=Beside())), poses).max()), 0.6)

    def test_out_of_the_picture_it_is_lost_not_made_up(self) -> None:
        poses = [stood(20, x=0.02 * i + 0.0006 * i * i) for i in range(30)]
        motion = with_tugs(form(), 0, tugs_of(poses[0]), SIZE)
        track = measure_form(motion, MeasureRequest(clip=filmed(poses)))
        gone = next(i for i, p in enumerate(poses) if p.seen(np.array(CORNERS) * BOX, FOCAL, SIZE)[:, 0].min() > SIZE[0] - 12)
        self.assertTrue((track.state[gone:] == LOST).all())
        known = np.flatnonzero(track.known())
        self.assertLess(float(swim(track, poses)[known].max()), 2.0)

    def test_what_is_put_on_it_moves_with_it(self) -> None:
        """Its track is a camera's path round it: a place on the form is seen where the form shows it."""
        poses = turning(12)
        track = measure_form(with_tugs(form(), 0, tugs_of(poses[0]), SIZE), MeasureRequest(clip=filmed(poses)))
        camera = RoomCamera(track, Room())
        at = np.array([[0.1, BOX[1], 0.05], [0.0, 0.0, 0.0]])
        for i in (0, 5, 11):
            np.testing.assert_allclose(camera.project(i, at), poses[i].seen(at, FOCAL, SIZE), atol=1.2)
        # What follows the form as a whole goes where its foot goes.
        path = camera_movement(track, 0)
        foot = np.append(poses[0].seen(np.zeros((1, 3)), FOCAL, SIZE)[0], 1.0)
        for i in (5, 11):
            moved = path[i] @ foot
            np.testing.assert_allclose(moved[:2] / moved[2], poses[i].seen(np.zeros((1, 3)), FOCAL, SIZE)[0], atol=1.2)
        again = CameraTrack.from_bytes(track.to_bytes())
        np.testing.assert_array_equal(again.position, track.position)

    def test_only_one_way_keeps_what_was_measured_the_other(self) -> None:
        poses = turning(24)
        clip = filmed(poses)
        motion = with_tugs(form(), 10, tugs_of(poses[10]), SIZE)
        first = measure_form(motion, MeasureRequest(clip=clip, direction="forward"))
        self.assertTrue(first.known()[10:].all() and not first.known()[:10].any())
        both = measure_form(motion, MeasureRequest(clip=clip, direction="backward", previous=first))
        self.assertTrue(both.known().all())
        np.testing.assert_allclose(both.position[11:], first.position[11:], atol=1e-9)
        other = measure_form(motion.model_copy(update={"tall": 0.5}), MeasureRequest(clip=clip, direction="backward", previous=first))
        self.assertFalse(other.known()[11:].any(), "another size: what was measured does not hold")

    def test_a_cylinder_too(self) -> None:
        rng = np.random.default_rng(1)
        skin = np.clip(120 + 700 * (cv2.GaussianBlur(rng.random((200, 600)).astype(np.float32), (0, 0), 3) - 0.5), 0, 255)
        size = np.array([0.16, 0.3, 0.16])
        poses = [stood(50 * i / 20, 18, 0.03 * np.sin(i / 4), 0.02, 0.8) for i in range(20)]
        frames = [_can(skin, size, p) for p in poses]
        motion = form(shape="cylinder", wide=0.16, tall=0.3, deep=0.16)
        stake = FormStake(frame=0, tugs=[Tug(at=(0, 0, 0), x=0, y=0)], pose=poses[0].pose())
        track = measure_form(motion.model_copy(update={"stakes": [stake]}), MeasureRequest(clip=ArrayClip(frames, Fraction(30))))
        marks = np.array([[0.08 * np.cos(a), y, 0.08 * np.sin(a)] for a in np.linspace(0, 6, 12) for y in (0.05, 0.25)])
        off = [np.linalg.norm(stood_in(track, i).seen(marks, FOCAL, SIZE) - p.seen(marks, FOCAL, SIZE), axis=1).mean()
               for i, p in enumerate(poses)]  # fmt: skip
        self.assertTrue(track.known().all())
        self.assertLess(float(np.mean(off)), 0.8)

    def test_nothing_to_hold_on_to_is_said(self) -> None:
        flat = ArrayClip([np.full((SIZE[1], SIZE[0], 3), 120, np.uint8)] * 5, Fraction(30))
        with self.assertRaises(BadInput):
            measure_form(form(), MeasureRequest(clip=flat))
        outside = with_tugs(form(), 0, tugs_of(stood(20, x=5.0)), SIZE)
        with self.assertRaises(Degenerate) as caught:
            measure_form(outside, MeasureRequest(clip=flat))
        self.assertIn("Crate", caught.exception.message)

    def test_stop_ends_it_and_what_was_found_is_told(self) -> None:
        poses = turning(24)
        motion = with_tugs(form(), 0, tugs_of(poses[0]), SIZE)
        told: list[FormPartial] = []
        seen: list[int] = []
        work = Work(on_progress=lambda done, _: seen.append(done), is_cancelled=lambda: len(seen) >= 17,
                    on_partial=told.append)  # fmt: skip
        with self.assertRaises(Cancelled):
            measure_form(motion, MeasureRequest(clip=filmed(poses), work=work))
        kept = [p.track for p in told if p.track is not None]
        self.assertEqual(int(kept[-1].known().sum()), 17)
        # Frame by frame it says where the form is, for the page to draw.
        corners = np.array(CORNERS) * BOX
        for part in told:
            assert part.stood is not None
            off = part.stood.seen(corners, FOCAL, SIZE) - poses[part.frame].seen(corners, FOCAL, SIZE)
            self.assertLess(float(np.abs(off).max()), 1.0)


def _can(skin: Any, size: F64, pose: FormPose) -> U8:
    """A can with a skin, each pixel's ray met with the cylinder exactly."""
    w, h = SIZE
    y, x = np.mgrid[0:h, 0:w].astype(np.float64)
    ray = np.stack([(x + 0.5 - w / 2) / FOCAL, (y + 0.5 - h / 2) / FOCAL, np.ones_like(x)], axis=-1)
    d, o = ray @ pose.turn, -pose.place @ pose.turn
    r = size[0] / 2
    a = d[..., 0] ** 2 + d[..., 2] ** 2
    b = d[..., 0] * o[0] + d[..., 2] * o[2]
    disc = b**2 - a * (o[0] ** 2 + o[2] ** 2 - r**2)
    t = (-b - np.sqrt(np.maximum(disc, 0))) / a
    at = o + t[..., None] * d
    hit = (disc > 0) & (at[..., 1] > 0) & (at[..., 1] < size[1])
    u = (np.arctan2(at[..., 2], at[..., 0]) / (2 * np.pi) % 1) * skin.shape[1]
    v = at[..., 1] / size[1] * skin.shape[0]
    shown = cv2.remap(skin.astype(np.float32), u.astype(np.float32), v.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)
    noise = np.random.default_rng(int(1e6 * abs(pose.place[0]))).normal(0, 1.5, (h, w))
    return np.repeat(np.clip(np.where(hit, shown, 70) + noise, 0, 255).astype(np.uint8)[..., None], 3, axis=2)
