"""A take: films a set along a handheld path and writes a clip as a phone would, with its truth."""

from __future__ import annotations

import csv
import json
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from plonket.base.conventions import F32, F64, U8, matrix_to_quaternion
from plonket.base.progress import Work
from plonket.media.sound import Sound
from plonket.media.write import mux_sound
from synth.phone.camera import PhoneCamera
from synth.phone.sensor import Sensor
from synth.phone.solid import MiniatureSet
from synth.phone.sound import room_with_clap

__all__ = ["Recording", "Truth", "frame_times", "truth_of", "write_recording"]

CLOCK = 90_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Truth:
    """Exact facts about a take; arrays are indexed by frame.

    Attributes
    ----------
    times : (n,) seconds of each frame. points : name -> (n, 2) pixels.
    planes : name -> (n, 4, 2) pixels of the corners, clockwise from top left.
    positions : (n, 3) metres, rotations : (n, 4) unit quaternions [x, y, z, w].
    """

    times: F64
    points: dict[str, F64]
    planes: dict[str, F64]
    positions: F64
    rotations: F64
    focal_px: float
    size: tuple[int, int]
    clap_at: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """What the phone stores: how the file is coded.

    Attributes
    ----------
    rate : nominal frames per second. frames : number of frames.
    jitter_s : SD of the uneven frame times (0: constant rate).
    rotation : clockwise turn to upright written as the phone's rotation flag; the stored picture
        is turned the other way.
    crf : H.264 quality. sound : whether there is a sound track.
    """

    rate: Fraction
    frames: int
    jitter_s: float = 0.0
    rotation: int = 0
    crf: float = 23.0
    sound: bool = True
    clap_at: float = 0.5
    seed: int = 5


def frame_times(recording: Recording) -> F64:
    """Capture times of the frames in seconds, on the container's clock."""
    rng = np.random.default_rng(recording.seed)
    times = np.arange(recording.frames) / float(recording.rate)
    times = times + np.clip(rng.normal(0, 1, recording.frames), -2, 2) * recording.jitter_s
    times[0] = max(times[0], 0.0)
    return np.asarray(np.round(times * CLOCK) / CLOCK, np.float64)


def truth_of(what: MiniatureSet, camera: PhoneCamera, times: F64, clap_at: float) -> Truth:
    """Exact projections of a set's named points and planes at each frame time."""

    def world(point: F64, part: str) -> Callable[[float], F64] | F64:
        if part not in what.motions:
            return np.atleast_2d(point)
        at = np.hstack([np.atleast_2d(point), np.ones((len(np.atleast_2d(point)), 1))])
        return lambda t: np.asarray((at @ what.part_at(part, t).T)[:, :3])

    points = {
        name: np.array([camera.project(float(t), world(p, part))[0] for t in times])
        for name, (p, part) in what.points.items()
    }
    planes = {
        name: np.array([camera.project(float(t), world(patch.corners, patch.part)) for t in times])
        for name, patch in what.patches.items()
    }
    poses = [camera.pose(float(t)) for t in times]
    return Truth(
        times=times,
        points=points,
        planes=planes,
        positions=np.array([p for p, _ in poses]),
        rotations=np.array([matrix_to_quaternion(r) for _, r in poses]),
        focal_px=camera.focal_px,
        size=camera.size,
        clap_at=clap_at,
    )


def write_recording(
    path: Path,
    pictures: Iterator[U8],
    times: F64,
    size: tuple[int, int],
    recording: Recording,
    work: Work | None = None,
) -> None:
    """Write the stored file: uneven stamps, rotation flag, H.264, AAC.

    `pictures` are upright 8-bit pictures of `size`; they are turned before coding when the
    recording has a rotation flag.
    """
    work = work or Work()
    turned = recording.rotation in (90, 270)
    stored = (size[1], size[0]) if turned else size
    with av.open(str(path), "w", format="mp4") as box:
        stream = box.add_stream("libx264", rate=recording.rate)
        stream.width, stream.height = stored
        stream.pix_fmt = "yuv420p"
        stream.codec_context.time_base = Fraction(1, CLOCK)
        stream.time_base = Fraction(1, CLOCK)
        context = stream.codec_context
        context.color_primaries = context.color_trc = context.colorspace = 1
        context.color_range = 1
        stream.options = {"crf": str(recording.crf), "preset": "medium", "g": "60"}
        audio = None
        if recording.sound:
            audio = box.add_stream("aac", rate=48000, layout="stereo")
            audio.bit_rate = 128_000
        for i, picture in enumerate(pictures):
            work.check_cancelled()
            out = np.rot90(picture, k=recording.rotation // 90) if recording.rotation else picture
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(out), format="rgb24")
            frame = frame.reformat(format="yuv420p", dst_colorspace=1, src_colorspace=1)
            frame.pts = round(times[i] * CLOCK)
            frame.time_base = Fraction(1, CLOCK)
            for packet in stream.encode(frame):
                box.mux(packet)
            work.progress(i + 1, recording.frames)
        for packet in stream.encode(None):
            box.mux(packet)
        if audio is not None:
            seconds = recording.frames / float(recording.rate)
            tone = room_with_clap(seconds, recording.clap_at, seed=recording.seed)
            samples = np.round(tone.T * 32767).astype(np.int16)
            mux_sound(box, audio, Sound(samples=samples))
    if recording.rotation:
        set_rotation_flag(path, recording.rotation)


def set_rotation_flag(path: Path, rotation: int) -> None:
    """Write the display matrix of the first track's ``tkhd`` box (ISO/IEC 14496-12, 8.3.2)."""
    a, b = {90: (0, 1), 180: (-1, 0), 270: (0, -1)}[rotation]
    one = 1 << 16
    matrix = struct.pack(">9i", a * one, b * one, 0, -b * one, a * one, 0, 0, 0, 1 << 30)
    data = bytearray(path.read_bytes())
    at = data.find(b"tkhd")
    version = data[at + 4]
    offset = at + 4 + 4 + (32 if version else 20) + 16
    data[offset : offset + 36] = matrix
    path.write_bytes(bytes(data))


def write_truth(folder: Path, truth: Truth) -> None:
    """Points as CSV, planes and camera as JSON, in the formats of the command line."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "points.csv").open("w", newline="") as f:
        out = csv.writer(f)
        out.writerow(["name", "frame", "x", "y", "confidence", "state"])
        for name, xy in truth.points.items():
            for i, (x, y) in enumerate(xy):
                out.writerow([name, i, f"{x:.4f}", f"{y:.4f}", 1, "given"])
    frames = range(len(truth.times))
    planes = {name: [[[round(float(v), 4) for v in c] for c in quad[i]] for i in frames]
              for name, quad in truth.planes.items()}  # fmt: skip
    (folder / "planes.json").write_text(json.dumps({"corners": planes}, separators=(",", ":")))
    camera = {
        "width": truth.size[0],
        "height": truth.size[1],
        "focal_px": truth.focal_px,
        "principal": [truth.size[0] / 2, truth.size[1] / 2],
        "clap_at": truth.clap_at,
        "frames": [
            {"frame": i, "time": round(float(truth.times[i]), 6),
             "position": np.round(truth.positions[i], 6).tolist(),
             "rotation": np.round(truth.rotations[i], 8).tolist()}
            for i in frames
        ],
    }  # fmt: skip
    (folder / "camera.json").write_text(json.dumps(camera, separators=(",", ":")))


def photographs(light: Iterator[F32], sensor: Sensor, seed: int) -> Iterator[U8]:
    """The sensor's pictures of a run of linear light."""
    rng = np.random.default_rng(seed)
    for frame in light:
        yield sensor.photograph(frame, rng)

