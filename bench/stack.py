"""What keys, looks and a stack cost, and whether memory stays flat: printed by ``bin/plonket bench``."""

from __future__ import annotations

import gc
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import colours_to_8bit, linear_from_codes
from plonket.base.conventions import U8
from plonket.document.shot import Shot, read_shot
from plonket.image.interpolation import interpolated
from plonket.image.pair_flow import pair_flow
from plonket.image.picture import StillSource
from plonket.keying.screen import ScreenKey, key_screen, samples_of
from plonket.media import open_clip
from plonket.render.frame import in_order, render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.plane.by_itself import plane_motion
from plonket.track.plane.measure import measure_plane
from plonket.track.request import MeasureRequest
from synth.elements.shelf import lamp_flare, paper_boat

DEMO = Path(__file__).resolve().parents[1] / "demo"
KEYED = (10, 30, 50, 70, 90)
LONG = 1000


def bench_stack() -> None:
    """Prints the figures; without the demo's clips there is nothing to print."""
    keeper, harbour = DEMO / "clips" / "keeper.mp4", DEMO / "clips" / "harbour.mp4"
    if not keeper.exists() or not harbour.exists():
        print("\nkeys and stack: the demo's clips are not here")
        return
    _keys(keeper)
    _stack(keeper, harbour)
    _between(keeper)


def _keys(path: Path) -> None:
    clip = open_clip(path)
    frames = [linear_from_codes(np.ascontiguousarray(clip.rgb(i))) for i in KEYED]
    settings = ScreenKey(lone=90.0)
    samples = samples_of(frames[2], settings)
    print(f"\nkey of {path.name}, 720p\n\n{'':48s}{'frames/s':>9s}")
    halves = [cv2.resize(f, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) for f in frames]
    for label, some in (("screen key, full size", frames), ("screen key, half size", halves)):
        key_screen(some[0], settings, colours=samples)
        start = time.perf_counter()
        for light in some:
            key_screen(np.asarray(light, np.float32), settings, colours=samples)
        print(f"{label:48s}{len(some) / (time.perf_counter() - start):9.1f}")
    start = time.perf_counter()
    for i in KEYED:
        hsv = cv2.cvtColor(clip.rgb(i), cv2.COLOR_RGB2HSV)
        cv2.GaussianBlur(cv2.inRange(hsv, np.array([40, 60, 20]), np.array([90, 255, 255])), (0, 0), 1.0)
    print(f"{'(decoding, plain range of hues and blur)':48s}{len(KEYED) / (time.perf_counter() - start):9.1f}")


def five_layers(keeper: Path, harbour: Path, folder: Path) -> tuple[Shot, MediaPool]:
    """The keeper keyed on a measured plane, with wrap and grain, a boat, a flare, sparks and a wash."""
    clip = open_clip(harbour)
    outline = np.array([[250.0, 168], [1076, 168], [1076, 382], [250, 382]])
    motion = plane_motion([(outline, True)], [], clip.info.size, frame=60, freedom="perspective", reach_px=40, matte=False)
    track = measure_plane(motion, MeasureRequest(clip=clip, direction="both"))
    for name, picture in (("b", paper_boat()), ("f", lamp_flare())):
        cv2.imwrite(str(folder / f"{name}.png"), cv2.cvtColor(picture, cv2.COLOR_RGBA2BGRA))
    paths = {"a": harbour, "k": keeper, "b": folder / "b.png", "f": folder / "f.png"}
    digest = {name: f"{ord(name):x}" * 32 for name in paths}
    by_digest = {digest[name]: path for name, path in paths.items()}
    boat, flare = paper_boat(), lamp_flare()
    follow = {"target": motion.id, "reference_frame": 60}
    info = clip.info
    stack = [
        {"kind": "wash", "id": "w", "name": "w", "looks": [{"kind": "colour", "id": "c", "name": "c", "contrast": 8.0}]},
        {"kind": "generated", "id": "g", "name": "g", "x": 900.0, "y": 200.0, "follow": follow,
         "generator": {"kind": "ring"}},
        {"kind": "still", "id": "f", "name": "f", "asset": digest["f"], "width": flare.shape[1], "height": flare.shape[0],
         "x": 300.0, "y": 200.0, "size": 50.0, "blend": "add", "follow": follow},
        {"kind": "still", "id": "k", "name": "k", "asset": digest["k"], "width": 1280, "height": 720, "x": 612.0, "y": 252.0,
         "size": 34.0, "after": "loop", "follow": follow, "key": {"kind": "screen", "lone": 90.0},
         "looks": [{"kind": "wrap", "id": "r", "name": "r"}, {"kind": "grain", "id": "n", "name": "n"}]},
        {"kind": "still", "id": "b", "name": "b", "asset": digest["b"], "width": boat.shape[1], "height": boat.shape[0],
         "x": 700.0, "y": 560.0, "size": 40.0, "follow": follow},
    ]  # fmt: skip
    rate = f"{info.rate.numerator}/{info.rate.denominator}"
    footage = {"asset": digest["a"], "name": "h", "width": info.width, "height": info.height, "frames": info.frames,
               "rate": rate, "in_frame": 0, "out_frame": info.frames - 1}  # fmt: skip
    used = motion.model_copy(update={"measurement": "1" * 64}).model_dump()
    shot = read_shot({"name": "bench", "footage": footage, "motions": [used], "stack": stack})
    return shot, MediaPool(lambda d: by_digest[d], lambda _: track)


def keyed_plate(keeper: Path, folder: Path) -> tuple[Shot, MediaPool]:
    """The keeper's own footage keyed, with wrap; a picture behind it, a flare, sparks and a wash before it."""
    info = open_clip(keeper).info
    y, x = np.mgrid[0:720, 0:1280]
    behind = np.dstack([40 + y / 12, 60 + x / 20, 120 + y / 9]).astype(np.uint8)
    flare = lamp_flare()
    cv2.imwrite(str(folder / "f.png"), cv2.cvtColor(flare, cv2.COLOR_RGBA2BGRA))
    cv2.imwrite(str(folder / "n.png"), behind)
    paths = {"k": keeper, "f": folder / "f.png", "n": folder / "n.png"}
    digest = {name: f"{ord(name):x}" * 32 for name in paths}
    by_digest = {digest[name]: path for name, path in paths.items()}
    stack = [
        {"kind": "wash", "id": "w", "name": "w", "looks": [{"kind": "colour", "id": "c", "name": "c", "contrast": 8.0}]},
        {"kind": "generated", "id": "g", "name": "g", "x": 900.0, "y": 200.0, "generator": {"kind": "ring"}},
        {"kind": "still", "id": "f", "name": "f", "asset": digest["f"], "width": flare.shape[1], "height": flare.shape[0],
         "x": 300.0, "y": 200.0, "size": 50.0, "blend": "add"},
        {"kind": "plate", "id": "k", "name": "k", "key": {"kind": "screen", "lone": 90.0},
         "looks": [{"kind": "wrap", "id": "r", "name": "r"}]},
        {"kind": "still", "id": "n", "name": "n", "asset": digest["n"], "width": 1280, "height": 720, "x": 640.0, "y": 360.0},
    ]  # fmt: skip
    rate = f"{info.rate.numerator}/{info.rate.denominator}"
    footage = {"asset": digest["k"], "name": "k", "width": info.width, "height": info.height, "frames": info.frames,
               "rate": rate, "in_frame": 0, "out_frame": info.frames - 1, "opacity": 0.0}  # fmt: skip
    shot = read_shot({"name": "bench", "footage": footage, "stack": stack})
    return shot, MediaPool(lambda d: by_digest[d], lambda _: np.zeros(0))  # type: ignore[arg-type, return-value]


def _stack(keeper: Path, harbour: Path) -> None:
    with tempfile.TemporaryDirectory() as name:
        shot, pool = keyed_plate(keeper, Path(name))
        print("\nfive layers, one of them the footage itself, keyed, with wrap; a picture behind it, 720p\n")
        _timed(shot, pool, 12)
        shot, pool = five_layers(keeper, harbour, Path(name))
        print("\nfive layers, one keyed on a measured plane with wrap and grain, a ring of sparks, a wash, 720p\n")
        _timed(shot, pool, 8)
        sources = ShotSources(shot, pool)
        assert shot.footage is not None
        before = after = 0.0
        for k in range(LONG):
            render_frame(shot, sources, k % shot.footage.frames, scale=0.25)
            if k == LONG // 5:
                gc.collect()
                before = _resident_mb()
        gc.collect()
        after = _resident_mb()
        print(f"{f'memory after {LONG // 5} and {LONG} frames':48s}{before:9.0f} and {after:.0f} MB")


def _timed(shot: Shot, pool: MediaPool, goal: int) -> None:
    """Prints how fast a stack is drawn, beside decoding alone."""
    sources = ShotSources(shot, pool)
    assert shot.footage is not None
    frames = range(5, 45)
    render_frame(shot, sources, 4)
    start = time.perf_counter()
    for _ in in_order(lambda f: render_frame(shot, sources, f), frames.start, frames.stop):
        pass
    rate = len(frames) / (time.perf_counter() - start)
    render_frame(shot, sources, 50, scale=0.5)
    start = time.perf_counter()
    for i in range(51, 66):
        render_frame(shot, sources, i, scale=0.5)
    preview = (time.perf_counter() - start) / 15
    clip = pool.clip(shot.footage.asset)
    start = time.perf_counter()
    for i in frames:
        clip.rgb(i)
    plain = len(frames) / (time.perf_counter() - start)
    print(f"{'full size':48s}{rate:9.1f} frames/s (goal {goal})")
    print(f"{'a changed frame at half size':48s}{1000 * preview:9.0f} ms       (goal 120)")
    print(f"{'(decoding alone)':48s}{plain:9.1f} frames/s")


def _between(path: Path) -> None:
    """Frames made between every second one of a clip, against the clip's own that were left out."""
    clip = open_clip(path)
    shown = [np.ascontiguousarray(clip.rgb(i)) for i in range(20, 44)]

    print(f"\nframes between, {path.name}, 720p, from every second frame\n\n{'':48s}{'frames/s':>9s}{'off by':>9s}")
    first, second = (StillSource(rgb).level(0)[0] for rgb in (shown[0], shown[2]))
    interpolated(first, second, pair_flow(shown[0], shown[2]), 0.5)
    start, made = time.perf_counter(), []
    flows = [pair_flow(shown[0], shown[2]), pair_flow(shown[2], shown[4])]
    for k in range(2, 20, 2):
        flows.append(pair_flow(shown[k + 2], shown[k + 4]))
        first, second = (StillSource(shown[k + j]).level(0)[0] for j in (0, 2))
        made.append(colours_to_8bit(interpolated(first, second, flows[-2], 0.5, flows[-3], flows[-1])))
    spent = time.perf_counter() - start
    _told("made by movement (goal 6)", made, spent, shown)
    start = time.perf_counter()
    plain = [cv2.addWeighted(shown[k], 0.5, shown[k + 2], 0.5, 0) for k in range(2, 20, 2)]
    spent = time.perf_counter() - start
    _told("(two frames mixed in codes)", plain, spent, shown)
    start, plain = time.perf_counter(), []
    y, x = np.mgrid[0 : shown[0].shape[0], 0 : shown[0].shape[1]].astype(np.float32)
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST)
    for k in range(2, 20, 2):
        grey = [cv2.cvtColor(shown[k + j], cv2.COLOR_RGB2GRAY) for j in (0, 2)]
        flow = dis.calc(grey[0], grey[1], None)  # type: ignore[call-overload]
        plain.append(cv2.remap(shown[k], x - flow[..., 0] / 2, y - flow[..., 1] / 2, cv2.INTER_CUBIC))
    spent = time.perf_counter() - start
    _told("(plain dense flow and remap of the first)", plain, spent, shown)


def _told(label: str, made: list[U8], spent: float, shown: list[U8]) -> None:
    """One row: frames a second, and how far they are in 8-bit codes from the clip's own third, fifth and so on."""
    off = [float(np.sqrt(np.mean((one.astype(np.float32) - shown[3 + 2 * k]) ** 2))) for k, one in enumerate(made)]
    print(f"{label:48s}{len(made) / spent:9.1f}{np.mean(off):9.2f}")


def _resident_mb() -> float:
    """Memory that this process holds, in MB (Linux)."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * 4096 / 2**20
