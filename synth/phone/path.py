"""Handheld camera paths: an intended move plus breathing, sway and tremor of the hands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64


@dataclass(frozen=True, slots=True, kw_only=True)
class HandheldPath:
    """A camera path, a pure function of time.

    Attributes
    ----------
    eyes, targets : (n, 3) float64, metres; way-points of the camera and of the point it looks at,
        passed smoothly at equal spacing over `seconds`.
    seconds : length of the move.
    shake_m, shake_deg : RMS amount of hand shake in position and in angle.
    tremor_deg : RMS of the fast (5-9 Hz) part of the shake.
    """

    eyes: F64
    targets: F64
    seconds: float
    shake_m: float = 0.004
    shake_deg: float = 0.35
    tremor_deg: float = 0.03
    seed: int = 1

    def pose(self, t: float) -> tuple[F64, F64]:
        """Position (3,) and local-to-world rotation (3, 3) at time `t` in seconds."""
        u = float(np.clip(t / self.seconds, 0.0, 1.0))
        eye = _through(self.eyes, u) + self.shake_m * _sway(t, self.seed, 3)
        target = _through(self.targets, u)
        rot = look_at(eye, target)
        angles = np.radians(self.shake_deg) * _sway(t, self.seed + 50, 3)
        angles = angles + np.radians(self.tremor_deg) * _tremor(t, self.seed + 90, 3)
        angles[2] *= 0.6
        return eye, rot @ _small_rotation(angles)


def look_at(eye: F64, target: F64) -> F64:
    """Local-to-world rotation (3, 3) of a camera at `eye` looking at `target`, y up."""
    back = eye - target
    back = back / np.linalg.norm(back)
    right = np.cross([0.0, 1.0, 0.0], back)
    right = right / np.linalg.norm(right)
    return np.stack([right, np.cross(back, right), back], axis=1)


def _through(points: F64, u: float) -> F64:
    """Catmull-Rom through (n, 3) points, eased at both ends."""
    p = np.asarray(points, dtype=np.float64)
    if len(p) == 1:
        return p[0]
    u = u * u * (3 - 2 * u) * 0.6 + u * 0.4
    s = u * (len(p) - 1)
    k = min(int(s), len(p) - 2)
    f = s - k
    a, b, c, d = (p[int(np.clip(k + j, 0, len(p) - 1))] for j in (-1, 0, 1, 2))
    return 0.5 * (2 * b + (c - a) * f + (2 * a - 5 * b + 4 * c - d) * f**2 + (3 * (b - c) + d - a) * f**3)


def _waves(t: float, seed: int, n: int, lows: float, highs: float, count: int, fall: float) -> F64:
    rng = np.random.default_rng(seed)
    freq = np.exp(rng.uniform(np.log(lows), np.log(highs), (n, count)))
    phase = rng.uniform(0, 2 * np.pi, (n, count))
    amount = freq ** (-fall)
    amount = amount / np.sqrt(0.5 * np.sum(amount**2, axis=1, keepdims=True))
    return np.asarray(np.sum(amount * np.sin(2 * np.pi * freq * t + phase), axis=1))


def _sway(t: float, seed: int, n: int) -> F64:
    return _waves(t, seed, n, 0.15, 3.0, 9, 1.1)


def _tremor(t: float, seed: int, n: int) -> F64:
    return _waves(t, seed, n, 5.0, 9.0, 6, 0.0)


def _small_rotation(angles: F64) -> F64:
    ax, ay, az = angles
    cx, sx, cy, sy, cz, sz = np.cos(ax), np.sin(ax), np.cos(ay), np.sin(ay), np.cos(az), np.sin(az)
    rx = np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])
    ry = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    rz = np.array([[cz, -sz, 0], [sz, cz, 0], [0, 0, 1]])
    return rz @ ry @ rx
