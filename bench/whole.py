"""``bin/plonket bench``: speed as ratios measured in one run, because machines differ."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from bench.delivery import bench_delivery
from bench.depth import bench_depth
from bench.mends import bench_mends
from bench.picture import bench_picture
from bench.room import bench_room
from bench.stack import bench_stack
from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.outlines import carry
from plonket.document.follow import Follow
from plonket.document.shot import Footage, Shot
from plonket.layers.still import StillLayer
from plonket.media import open_clip
from plonket.media.conform import conform
from plonket.media.write import Coding, VideoWriter
from plonket.plate.stabilise import Steady
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.plane.by_itself import plane_motion
from plonket.track.plane.correct import quad_homography
from plonket.track.plane.measure import measure_plane
from plonket.track.points.measure import measure_points
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket.track.request import MeasureRequest
from synth.elements.shelf import lamp_flare, paper_boat
from synth.phone.quickset import chart_shot

POINTS = 5
FRAMES = 120
PLANE_FRAMES = 60
DEMO = Path(__file__).resolve().parents[1] / "demo" / "clips" / "workshop.mp4"


def bench(clip: Path | None) -> None:
    """Print times and ratios: point tracking and rendering against plain decoding, OpenCV and encoding."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source = clip or (DEMO if DEMO.exists() else _made(folder / "made.mp4"))
        if not source.exists():
            raise BadInput("bench.clip", f"{source.name} was not found.")
        print(f"clip: {source.name}")
        started = time.perf_counter()
        working = conform(source, folder / "conformed").clip
        conformed_s = time.perf_counter() - started
        reader = open_clip(working)
        frames = min(FRAMES, reader.info.frames)
        print(f"      {reader.info.width} x {reader.info.height}, {frames} of {reader.info.frames} frames used\n")
        decode_s = _best(lambda: _decode(working, frames))
        conform_s = conformed_s * frames / reader.info.frames
        motion = _motion(working, frames)

        def tracked() -> object:
            return measure_points(motion, MeasureRequest(clip=open_clip(working), direction="forward", stop=frames))

        track_s = _best(tracked)
        plain_s = _best(lambda: _lucas_kanade(working, motion, frames))
        shot, pool, fewer = _shot(working, motion)
        sources = ShotSources(shot, pool)
        count = frames // 2
        render_s = _best(lambda: [render_frame(shot, sources, i) for i in range(count)]) / count * frames
        half_s = _best(lambda: [render_frame(shot, sources, i, scale=0.5) for i in range(count)]) / count * frames
        encode_s = _best(lambda: _encode(working, folder / "e.mp4", count)) / count * frames
        held = [_steadied(shot, fit) for fit in ("zoom", "fill")]
        zoom_s, fill_s = (
            _best(lambda s=s, to=ShotSources(s, pool): [render_frame(s, to, i) for i in range(count)]) / count * frames  # type: ignore[misc]
            for s in held
        )
        warp_s = _best(lambda: _warped(working, count)) / count * frames
        rows = [
            ("plain decoding (PyAV)", decode_s, ""),
            ("conforming (decode, encode every frame a key)", conform_s, ""),
            (f"{POINTS} points followed, decoding included", track_s, f"{track_s / decode_s:.2f} x decoding"),
            (f"{POINTS} points, plain pyramidal Lucas-Kanade", plain_s, f"ours takes {track_s / plain_s:.2f} x its time"),
            (f"rendering {fewer} layers, full size", render_s, f"{render_s / decode_s:.2f} x decoding"),
            (f"rendering {fewer} layers, half size", half_s, f"{half_s / frames * 1000:.0f} ms a frame"),
            ("the plate steadied and zoomed", zoom_s, f"{zoom_s / warp_s:.2f} x the plain warp"),
            ("the plate steadied, borders filled", fill_s, f"{fill_s / warp_s:.2f} x the plain warp"),
            ("plain 8-bit cubic warp (OpenCV)", warp_s, ""),
            ("plain encoding (x264 fast)", encode_s, ""),
            ("rendering and encoding", render_s + encode_s, f"{(render_s + encode_s) / encode_s:.2f} x encoding"),
        ]
        _print(rows, frames)
        pool.close()
        _bench_plane(folder)
        bench_mends()
        bench_picture()
        bench_stack()
        bench_delivery(working, folder)
        bench_room(folder)
        bench_depth()


def _steadied(shot: Shot, fit: str) -> Shot:
    steady = Steady.model_validate({"id": "s", "name": "s", "targets": ["m"], "fit": fit, "perspective": False})
    return shot.model_copy(update={"plate": [steady], "stack": []})


def _warped(path: Path, frames: int) -> None:
    clip = open_clip(path)
    matrix = np.array([[1.05, 0.01, -20], [-0.01, 1.05, -15], [0, 0, 1.0]])
    for i in range(frames):
        cv2.warpPerspective(clip.rgb(i), matrix, clip.info.size, flags=cv2.INTER_CUBIC)


def _print(rows: list[tuple[str, float, str]], frames: int) -> None:
    print(f"{'':46s}{'seconds':>9s}{'frames/s':>10s}")
    for label, seconds, note in rows:
        print(f"{label:46s}{seconds:9.2f}{frames / seconds:10.1f}   {note}")


def _bench_plane(folder: Path) -> None:
    """A plane against a plain grid of pyramidal Lucas-Kanade with RANSAC, on a clip whose truth is known."""
    shot = chart_shot(size=(1280, 720), frames=PLANE_FRAMES, samples=2, shake=1.5, exposure_s=1 / 90)
    truth = np.stack([shot.on_chart(u, v) for u, v in ((0, 0), (1, 0), (1, 1), (0, 1))], axis=1)
    path = folder / "plane.mp4"
    with VideoWriter(path, (1280, 720), Fraction(30), coding=Coding(crf=20.0, key_every=1, b_frames=0)) as out:
        for picture in shot.frames:
            out.write(picture)
    middle = truth[0].mean(axis=0)
    inner = middle + (truth[0] - middle) * 0.98
    motion = plane_motion([(inner, True)], [], (1280, 720), frame=0, freedom="perspective", reach_px=48, matte=False)
    found: dict[str, F64] = {}

    def ours() -> None:
        found["ours"] = measure_plane(motion, MeasureRequest(clip=open_clip(path), direction="forward")).homography

    def grid() -> None:
        found["grid"] = _grid(path, inner)

    decode_s = _best(lambda: _decode(path, PLANE_FRAMES))
    ours_s, grid_s = _best(ours), _best(grid)
    off = {
        name: np.array([np.hypot(*(carry(truth[0], m[i]) - truth[i]).T) for i in range(PLANE_FRAMES)])
        for name, m in found.items()
    }
    print(f"\nplane: the fast phone's chart, 1280 x 720, {PLANE_FRAMES} frames\n")
    _print(
        [
            ("plain decoding (PyAV)", decode_s, ""),
            ("the plane, decoding included", ours_s, f"{ours_s / decode_s:.2f} x decoding"),
            ("Lucas-Kanade grid with RANSAC", grid_s, f"ours takes {ours_s / grid_s:.2f} x its time"),
        ],
        PLANE_FRAMES,
    )
    for name, e in off.items():
        print(f"corner error, {name}: {e.mean():.3f} px mean, {e.max():.3f} px worst")
    print(f"the grid's mean error is {off['grid'].mean() / off['ours'].mean():.1f} x ours")


def _grid(path: Path, outline: F64) -> F64:
    """Homographies (n, 3, 3) by a grid of points followed from frame to frame."""
    clip = open_clip(path)
    u, v = np.meshgrid(np.linspace(0.02, 0.98, 24), np.linspace(0.02, 0.98, 16))
    onto = quad_homography(np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]), outline)
    assert onto is not None
    start = carry(np.stack([u.ravel(), v.ravel()], axis=1), onto).astype(np.float32)
    at, alive = start.copy().reshape(-1, 1, 2), np.ones(len(start), bool)
    before = clip.luma(0)
    out = np.tile(np.eye(3), (clip.info.frames, 1, 1))
    for i in range(1, clip.info.frames):
        now = clip.luma(i)
        at, state, _ = cv2.calcOpticalFlowPyrLK(before, now, at, None, winSize=(21, 21), maxLevel=3)
        alive &= state.ravel() > 0
        found, _ = cv2.findHomography(start[alive], at.reshape(-1, 2)[alive], cv2.RANSAC, 1.5)
        out[i] = out[i - 1] if found is None else found
        before = now
    return out


def _best(run: Callable[[], object], times: int = 2) -> float:
    """The shorter of a few runs, after one that compiles and warms up."""
    run()
    out = []
    for _ in range(times):
        start = time.perf_counter()
        run()
        out.append(time.perf_counter() - start)
    return min(out)


def _made(path: Path) -> Path:
    """A clip of the fast phone where the demo is not installed."""
    shot = chart_shot(size=(1280, 720), frames=40, samples=2)
    with VideoWriter(path, (1280, 720), Fraction(30)) as out:
        for k in range(120):
            out.write(shot.frames[k % 40 if k // 40 % 2 == 0 else 39 - k % 40])
    return path


def _decode(path: Path, frames: int) -> None:
    with av.open(str(path)) as box:
        box.streams.video[0].thread_type = "AUTO"
        for k, _frame in enumerate(box.decode(video=0)):
            if k + 1 >= frames:
                return


def _encode(path: Path, out: Path, frames: int) -> None:
    clip = open_clip(path)
    with VideoWriter(out, clip.info.size, clip.info.rate, coding=Coding(crf=18.0)) as writer:
        for i in range(frames):
            writer.write(clip.rgb(i))


def _motion(path: Path, frames: int) -> PointMotion:
    """The strongest details of the first frame that stay well inside."""
    luma = open_clip(path).luma(0)
    h, w = luma.shape
    inner = np.zeros_like(luma)
    inner[h // 5 : -h // 5, w // 5 : -w // 5] = 255
    found = cv2.goodFeaturesToTrack(luma, POINTS, 0.01, 60, mask=inner, blockSize=11)
    points = [
        TrackPoint(id=f"p{k}", name=f"p{k}", given=[Given(frame=0, x=float(x) + 0.5, y=float(y) + 0.5)])
        for k, ((x, y),) in enumerate(found)
    ]
    return PointMotion(id="m", name="Bench", points=points)


def _lucas_kanade(path: Path, motion: PointMotion, frames: int) -> None:
    clip = open_clip(path)
    before = clip.luma(0)
    at = np.array([[[p.given[0].x, p.given[0].y]] for p in motion.points], np.float32)
    for i in range(1, frames):
        now = clip.luma(i)
        at, _, _ = cv2.calcOpticalFlowPyrLK(before, now, at, None, winSize=(23, 23), maxLevel=3)
        before = now


def _shot(path: Path, motion: PointMotion) -> tuple[Shot, MediaPool, int]:
    """Five layers on one motion: flares and boats."""
    from plonket.image.picture import StillSource

    info = open_clip(path).info
    asked = MeasureRequest(clip=open_clip(path), direction="forward", stop=min(FRAMES, info.frames))
    tracks = measure_points(motion, asked)
    stills = {"b" * 64: StillSource(paper_boat()), "f" * 64: StillSource(lamp_flare())}
    pool = MediaPool(lambda _digest: path, lambda _digest: tracks)
    element, length = pool.element, pool.length
    pool.element = lambda asset, frame, key=None, level=0: stills.get(asset) or element(asset, frame)  # type: ignore[method-assign, assignment, misc]
    pool.length = lambda asset: 1 if asset in stills else length(asset)  # type: ignore[method-assign, assignment]
    layers = []
    for k in range(5):
        asset = "f" * 64 if k % 2 else "b" * 64
        still = stills[asset]
        layers.append(
            StillLayer(id=f"l{k}", name=f"l{k}", asset=asset, width=still.width, height=still.height, size=40.0,
                       x=250.0 + 190 * k, y=200.0 + 70 * k, blend="add" if k % 2 else "normal",
                       follow=Follow(target="m"))
        )  # fmt: skip
    footage = Footage(asset="c" * 64, name="bench", width=info.width, height=info.height, rate=f"{info.rate.numerator}/"
                      f"{info.rate.denominator}", frames=info.frames, in_frame=0, out_frame=info.frames - 1)  # fmt: skip
    used = motion.model_copy(update={"measurement": "a" * 64})
    return Shot(name="Bench", footage=footage, motions=[used], stack=layers), pool, len(layers)
