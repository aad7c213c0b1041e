"""A form fitted to its tugs: pose, proportions and focal length."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from plonket.base.conventions import BETWEEN_CAMERAS, F64, matrix_to_quaternion, quaternion_to_matrix
from plonket.track.form.settings import FormMotion, FormStake, Pose, Tug

USUAL_FOCAL = 0.85
"""Of the picture's longer side: a phone's main camera, where nothing is known of the lens."""
HOLD_PX = 0.6
"""How much, in pixels, everything that no tug speaks of holds on to what it was."""
LEAST_FOR_SIZE = 4
"""Tugs on one frame from which proportions are told."""
LEAST_FOR_LENS = 6
"""Tugs on one frame from which a lens may be told."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FormPose:
    """A form as it stands in one frame, in the solver's camera: X_camera = turn @ X + place."""

    turn: F64
    place: F64

    def pose(self) -> Pose:
        q = matrix_to_quaternion(BETWEEN_CAMERAS @ self.turn)
        p = BETWEEN_CAMERAS @ self.place
        return Pose(place=(float(p[0]), float(p[1]), float(p[2])), turn=(float(q[0]), float(q[1]), float(q[2]), float(q[3])))

    @staticmethod
    def of(pose: Pose) -> FormPose:
        turn, place = quaternion_to_matrix(np.array(pose.turn)), np.array(pose.place)
        return FormPose(turn=BETWEEN_CAMERAS @ turn, place=BETWEEN_CAMERAS @ place)

    def seen(self, points: F64, focal: float, size: tuple[int, int]) -> F64:
        """(..., 2) pixels of points (..., 3) on the form."""
        local = points @ self.turn.T + self.place
        return np.asarray(local[..., :2] / np.maximum(local[..., 2:], 1e-6) * focal + np.array(size) / 2)


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """What tugs say.

    Attributes
    ----------
    stood : for each frame, in the order given. size : (3,) metres. focal : pixels. off_px : RMS distance of the tugs;
        worst_px : the largest. told : whether the focal length was told by the tugs themselves.
    """

    stood: tuple[FormPose, ...]
    size: F64
    focal: float
    off_px: float
    worst_px: float
    told: bool


def first_pose(motion: FormMotion) -> FormPose:
    """A form that was just put in: in the middle, a third of the picture tall, seen a little from above and aside."""
    turn = about_x(np.radians(24)) @ BETWEEN_CAMERAS @ about_y(np.radians(-30))
    extent = float(np.linalg.norm(motion.size))
    middle = np.array([0.0, motion.tall / 2 if motion.shape != "plane" else 0.0, 0.0])
    return FormPose(turn=turn, place=np.array([0.0, 0.0, 2.4 * extent]) - turn @ middle)


def about_x(angle: float) -> F64:
    return np.asarray(Rotation.from_euler("x", angle).as_matrix())


def about_y(angle: float) -> F64:
    return np.asarray(Rotation.from_euler("y", angle).as_matrix())


def focal_of(motion: FormMotion, size: tuple[int, int]) -> float:
    """The focal length in pixels that holds for a form: known, told by its tugs, or that of a usual phone."""
    return motion.focal(size) or (motion.focal_px if motion.stakes else USUAL_FOCAL * max(size))


def fit_tugs(
    motion: FormMotion, frames: Sequence[tuple[Sequence[Tug], FormPose]], size: tuple[int, int], *, focal: float,
) -> Fit:  # fmt: skip
    """The poses, proportions and lens that fit all tugs, changing nothing that they do not speak of.

    Every unknown holds weakly on to what it was: one tug shifts a form, two turn it and change its distance, more put
    it in perspective. From four tugs on a frame on, poses that explain them are tried too, however far away.

    Parameters
    ----------
    frames : tugs and the pose so far, frame by frame. size : of the picture. focal : pixels, as it is so far; kept where
        the motion says that it is known.
    """
    fits = motion.fits and motion.shape != "model" and any(len(tugs) >= LEAST_FOR_SIZE for tugs, _ in frames)
    lens = motion.knows == "unknown" and any(_spread(tugs) for tugs, _ in frames)
    start = np.array(motion.size, np.float64)
    best: Fit | None = None
    for k, poses in enumerate(_starts(frames, start, focal, size)):
        found = _solved(motion, [t for t, _ in frames], poses, start, focal, size, fits=fits, lens=lens)
        # What it was wins unless another start explains the tugs clearly better.
        if best is None or (k and found.off_px < 0.5 * best.off_px - 0.3):
            best = found
    assert best is not None
    return best


def _spread(tugs: Sequence[Tug]) -> bool:
    """Whether tugs on one frame can tell a lens: enough, and not all in one flat face."""
    if len(tugs) < LEAST_FOR_LENS:
        return False
    at = np.array([t.at for t in tugs])
    return bool(np.linalg.svd(at - at.mean(axis=0), compute_uv=False)[2] > 0.15)


def _starts(
    frames: Sequence[tuple[Sequence[Tug], FormPose]], extent: F64, focal: float, size: tuple[int, int]
) -> list[list[FormPose]]:
    given = [stood for _, stood in frames]
    out = [given]
    k = np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1.0]])
    for i, (tugs, _) in enumerate(frames):
        if len(tugs) < 4:
            continue
        at = np.array([t.at for t in tugs]) * extent
        seen = np.array([(t.x, t.y) for t in tugs])
        try:
            count, turns, places, _ = cv2.solvePnPGeneric(at, seen, k, None, flags=cv2.SOLVEPNP_SQPNP)  # type: ignore[call-overload]
        except cv2.error:
            continue
        for j in range(count):
            turn = Rotation.from_rotvec(np.asarray(turns[j]).ravel()).as_matrix()
            place = np.asarray(places[j], np.float64).ravel()
            if ((at @ turn.T + place)[:, 2] > 0).all():
                out.append([*given[:i], FormPose(turn=np.asarray(turn), place=place), *given[i + 1 :]])
    return out


def _solved(
    motion: FormMotion, tugs: Sequence[Sequence[Tug]], poses: Sequence[FormPose], extent: F64, focal: float,
    size: tuple[int, int], *, fits: bool, lens: bool,
) -> Fit:  # fmt: skip
    count = len(poses)
    at = [np.array([t.at for t in some]).reshape(-1, 3) for some in tugs]
    seen = [np.array([(t.x, t.y) for t in some]).reshape(-1, 2) for some in tugs]
    # A step of one in any unknown moves the form in the picture by about its own extent.
    reach = float(np.linalg.norm(extent))
    depths = [max(float(p.place[2]), 1e-3 * reach) for p in poses]

    def unpacked(x: F64) -> tuple[list[FormPose], F64, float]:
        stood = []
        for k, pose in enumerate(poses):
            turn = Rotation.from_rotvec(x[6 * k : 6 * k + 3]).as_matrix() @ pose.turn
            middle = pose.turn @ np.array([0, extent[1] / 2, 0])
            # Turned about its middle, shifted in the picture, its distance by a factor.
            shift = x[6 * k + 3 : 6 * k + 6]
            centre = pose.place + middle
            moved = centre * np.exp(shift[2]) + np.array([shift[0], shift[1], 0]) * depths[k] * np.exp(shift[2])
            stood.append(FormPose(turn=turn, place=moved - turn @ np.array([0, extent[1] / 2, 0])))
        grown = extent * np.exp(np.array([x[6 * count], 0.0, x[6 * count + 1]]))
        if motion.shape == "cylinder":
            grown[2] = grown[0]
        if motion.shape == "plane":
            # Its width is what the creator says it is.
            grown = extent * np.exp(np.array([0.0, 0.0, x[6 * count + 1]]))
        return stood, grown, focal * float(np.exp(x[6 * count + 2]))

    size_of = [max(20.0, focal * reach / d) for d in depths]
    free = np.ones(6 * count + 3, bool)
    free[6 * count : 6 * count + 2] = fits
    free[6 * count + 2] = lens
    held = np.concatenate([*(np.full(6, s) for s in size_of), np.full(3, float(np.mean(size_of)))]) * 0.01 * HOLD_PX
    # The lens is told by perspective alone, which is weak: it holds on to what is usual a little more.
    held[6 * count + 2] *= 4

    def residuals(values: F64) -> F64:
        x = np.zeros(6 * count + 3)
        x[free] = values
        stood, grown, f = unpacked(x)
        off = [(s.seen(a * grown, f, size) - p).ravel() for s, a, p in zip(stood, at, seen, strict=True)]
        return np.concatenate([*off, (x * held)[free]])

    found = least_squares(residuals, np.zeros(int(free.sum())), method="trf", ftol=1e-10, xtol=1e-10, max_nfev=200)
    x = np.zeros(6 * count + 3)
    x[free] = found.x
    stood, grown, f = unpacked(x)
    every = [np.linalg.norm(s.seen(a * grown, f, size) - p, axis=1) for s, a, p in zip(stood, at, seen, strict=True)]
    off = np.concatenate([*every, np.zeros(0)])
    return Fit(
        stood=tuple(stood), size=grown, focal=f, off_px=float(np.sqrt((off**2).mean())) if len(off) else 0.0,
        worst_px=float(off.max()) if len(off) else 0.0, told=lens,
    )  # fmt: skip


def with_tugs(
    motion: FormMotion, frame: int, tugs: Sequence[Tug], size: tuple[int, int], start: FormPose | None = None
) -> FormMotion:
    """The motion with these tugs on a frame, everything fitted anew.

    `start` says where the form is on that frame so far, where it has no stake.
    """
    focal = focal_of(motion, size)
    kept = motion.stake(frame)
    before = kept.pose if kept else (start or first_pose(motion)).pose()
    others = [s for s in motion.stakes if s.frame != frame]
    stakes = sorted([*others, FormStake(frame=frame, tugs=list(tugs), pose=before)], key=lambda s: s.frame)
    values: dict[str, object] = {"stakes": stakes, "focal_px": focal}
    told = [s for s in stakes if s.tugs]
    if told:
        fit = fit_tugs(motion, [(s.tugs, FormPose.of(s.pose)) for s in told], size, focal=focal)
        poses = {s.frame: stood.pose() for s, stood in zip(told, fit.stood, strict=True)}
        values |= {
            "stakes": [s.model_copy(update={"pose": poses.get(s.frame, s.pose)}) for s in stakes], "focal_px": fit.focal,
            "wide": float(fit.size[0]), "tall": float(fit.size[1]), "deep": float(fit.size[2]),
        }  # fmt: skip
    return motion.model_copy(update=values)
