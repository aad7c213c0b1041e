"""The bench's part on what belongs to the footage: its colours, its grain, its light; each against a plain library call."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.image.degrain import degrained_picture
from plonket.image.grain_in_time import measure_grain
from plonket.lighting.set_light import set_light
from plonket.matting.measure import measure_matte
from plonket.media import open_clip
from plonket.media.clip import ArrayClip
from plonket.media.conform import conform
from plonket.media.write import Coding, VideoWriter
from plonket.track.matte.settings import MatteMotion, PickClick
from plonket.track.request import MeasureRequest
from synth.phone import texture as tx
from synth.phone.sets.yard import Daylight, yard_take

SIZE = (640, 360)
FRAMES = 24
GRAIN = 5.0
SUN = Daylight(heading=125, height=32, soft_deg=3, sun=(0.8, 0.65, 0.45), sky=(0.15, 0.17, 0.22))
GREY = Daylight(heading=0, height=45, soft_deg=1, sun=(0, 0, 0), sky=(0.75, 0.78, 0.82))


def bench_picture() -> None:
    """Print how far colours are off once a clip was brought in, what is told of grain and light, and how long it takes."""
    clean = _moved(FRAMES)
    with tempfile.TemporaryDirectory() as name:
        _bench_colours(Path(name), clean)
    _bench_grain(clean)
    _bench_light()
    _bench_matte()


def _moved(frames: int) -> list[F32]:
    """A busy made-up wall before a hand-held camera, display codes 0 to 255 (h, w, 3)."""
    light = np.concatenate([tx.crate_face((900, 300), seed=40 + k) for k in range(2)])
    code = np.asarray(np.clip(light, 0, 1) ** 0.4545 * 255, np.float32)
    out = []
    for k in range(frames):
        m = np.array([[1.0, 0, -60 - 30 * np.sin(k / 9)], [0, 1.0, -60 - 22 * np.cos(k / 7)]])
        out.append(np.asarray(cv2.warpAffine(code, m, SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT), np.float32))
    return out


def _bench_colours(folder: Path, clean: list[F32]) -> None:
    path = folder / "made.mp4"
    with VideoWriter(path, SIZE, Fraction(30), coding=Coding(crf=4.0)) as out:
        for one in clean:
            out.write(np.clip(one + 0.5, 0, 255).astype(np.uint8))
    working = conform(path, folder / "conformed").clip
    luma = np.array([0.2126, 0.7152, 0.0722])
    kept = [float((open_clip(working).rgb(k) @ luma - open_clip(path).rgb(k) @ luma).mean()) for k in (0, FRAMES // 2)]
    off = [float(np.abs(open_clip(working).rgb(k) @ luma - open_clip(path).rgb(k) @ luma).mean()) for k in (0, FRAMES // 2)]
    ours = _time(lambda: _decoded(path))
    plain = _time(lambda: _swscale(path))
    print("\ncolours: brought in and decoded again\n")
    print(f"  luma after conforming    {np.mean(kept):+.3f} of 255 on average, {np.mean(off):.3f} off")
    print(f"  decoded to display codes {FRAMES / ours:.0f} frames/s, by the library's own {FRAMES / plain:.0f}")


def _decoded(path: Path) -> None:
    clip = open_clip(path)
    for k in range(FRAMES):
        clip.rgb(k)
    clip.close()


def _swscale(path: Path) -> None:
    with av.open(str(path)) as box:
        for frame in box.decode(video=0):
            frame.to_ndarray(format="rgb24")


def _bench_grain(clean: list[F32]) -> None:
    rng = np.random.default_rng(7)
    seen: list[U8] = [
        np.asarray(np.clip(one + GRAIN * rng.standard_normal(one.shape) + 0.5, 0, 255), np.uint8) for one in clean
    ]
    started = time.perf_counter()
    found = measure_grain(ArrayClip(seen))
    took = time.perf_counter() - started
    print("\ngrain: five codes put into a busy wall before a hand-held camera\n")
    if found is None:
        print("  nothing was told")
        return
    print(f"  told in time             {np.mean(found.profile.strength):.2f} codes in {took:.1f} s; by one frame's Laplacian "
          f"{_immerkaer(seen[0]):.2f}")  # fmt: skip
    k = FRAMES // 2
    started = time.perf_counter()
    ours = degrained_picture(lambda i: seen[i], k, FRAMES, found.profile)
    ours_s = time.perf_counter() - started
    best, plain_s = 0.0, 0.0
    for h in (3, 5, 8):
        started = time.perf_counter()
        plain = cv2.fastNlMeansDenoisingColored(seen[k], None, h, h, 5, 15)
        if _psnr(plain, clean[k]) > best:
            best, plain_s = _psnr(plain, clean[k]), time.perf_counter() - started
    was = _psnr(seen[k], clean[k])
    print(f"  de-grained               {_psnr(ours, clean[k]):.1f} dB in {ours_s:.2f} s; it was {was:.1f}; "
          f"non-local means (OpenCV, best of three strengths) {best:.1f} dB in {plain_s:.2f} s")  # fmt: skip


def _immerkaer(rgb: U8) -> float:
    """Noise of one picture by its Laplacian (J. Immerkaer, 1996, doi:10.1006/cviu.1996.0060), which takes texture for it."""
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    response = cv2.filter2D(rgb[..., 1].astype(np.float32), -1, kernel)
    return float(np.sqrt(np.pi / 2) * np.abs(response).mean() / 6)


def _bench_light() -> None:
    print("\nlight: a yard of our own under a known sun, and under clouds\n")
    for name, light in (("sun", SUN), ("clouds", GREY)):
        take = yard_take(light)
        started = time.perf_counter()
        found = set_light(take.solved(), lambda k, take=take: take.frames[k], take.points, take.xy)  # type: ignore[misc]
        took = time.perf_counter() - started
        off = np.degrees(np.arccos(np.clip(found.way @ light.way, -1, 1)))
        known = f"{off:.1f}° off, {found.soft_deg:.1f}° wide (is {light.soft_deg:.0f})"
        truth = known if max(light.sun) > 0 else "no direction"
        missing = ", ".join(f"{100 * v:.0f}" for v in found.shadow)
        print(f"  {name:<8} told by {found.told}: {truth}, a shadow takes {missing} % of red, green and blue "
              f"(is {', '.join(f'{100 * v:.0f}' for v in light.missing)}), {took:.1f} s")  # fmt: skip


def _bench_matte() -> None:
    """The demo's keeper by one click, before his uneven cloth, against GrabCut in a box that is carried by dense flow."""
    demo = Path(__file__).resolve().parents[1] / "demo"
    clip, truth = open_clip(demo / "clips" / "keeper.mp4"), open_clip(demo / "truth" / "keeper" / "matte-keeper.mp4")
    start, stop, at = 40, 70, 50
    true = [truth.luma(k) > 127 for k in range(start, stop)]
    far = cv2.distanceTransform(true[at - start].astype(np.uint8), cv2.DIST_L2, 5)
    y, x = np.unravel_index(int(far.argmax()), far.shape)
    motion = MatteMotion(id="m", name="m", clicks=[PickClick(frame=at, x=float(x), y=float(y))])
    measure_matte(motion, MeasureRequest(clip=clip, start=at, stop=at + 2))
    begun = time.perf_counter()
    track = measure_matte(motion, MeasureRequest(clip=clip, start=start, stop=stop))
    ours = time.perf_counter() - begun
    found = [(a > 127) if (a := track.alpha(k)) is not None else np.zeros_like(true[0]) for k in range(start, stop)]
    begun = time.perf_counter()
    plain = _boxed([clip.rgb(k) for k in range(start, stop)], true[at - start], at - start)
    theirs = time.perf_counter() - begun
    like, also = ([float((a & b).sum() / (a | b).sum()) for a, b in zip(m, true, strict=True)] for m in (found, plain))
    print(f"matte, one click  IoU {np.mean(like):.3f}, at worst {min(like):.3f}, {(stop - start) / ours:.1f} frames/s;"
          f"  GrabCut in a box, and flow {np.mean(also):.3f}, {min(also):.3f}, {(stop - start) / theirs:.1f}")  # fmt: skip


def _boxed(frames: list[U8], true: np.ndarray, at: int) -> list[np.ndarray]:
    """A box round the truth cut by GrabCut, carried by dense flow to all frames."""
    ys, xs = np.nonzero(true)
    marks = np.zeros(true.shape, np.uint8)
    box = (int(xs.min()) - 12, int(ys.min()) - 12, int(np.ptp(xs)) + 24, int(np.ptp(ys)) + 24)
    cv2.grabCut(frames[at], marks, box, np.zeros((1, 65)), np.zeros((1, 65)), 5, cv2.GC_INIT_WITH_RECT)
    out: dict[int, np.ndarray] = {at: np.isin(marks, (cv2.GC_FGD, cv2.GC_PR_FGD)).astype(np.uint8)}
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    grey = [cv2.cvtColor(f, cv2.COLOR_RGB2GRAY) for f in frames]
    v, u = np.mgrid[: true.shape[0], : true.shape[1]].astype(np.float32)
    for k, back in [*((k, -1) for k in range(at + 1, len(frames))), *((k, 1) for k in range(at - 1, -1, -1))]:
        moved = flow.calc(grey[k], grey[k + back], np.zeros((*true.shape, 2), np.float32))
        out[k] = cv2.remap(out[k + back], u + moved[..., 0], v + moved[..., 1], cv2.INTER_NEAREST)
    return [out[k] > 0 for k in range(len(frames))]


def _psnr(a: np.ndarray, b: F32) -> float:
    return float(10 * np.log10(255**2 / np.mean((a.astype(np.float64) - np.clip(b, 0, 255)) ** 2)))


def _time(what: Callable[[], object]) -> float:
    best = np.inf
    for _ in range(3):
        started = time.perf_counter()
        what()
        best = min(best, time.perf_counter() - started)
    return float(best)
