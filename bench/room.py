"""What solving a camera costs, how true it is, and what a model in the room costs: printed by ``bin/plonket bench``."""

from __future__ import annotations

import json
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import encode_8bit
from plonket.document.spot import Spot
from plonket.generators.among import Flock
from plonket.layers.light import DomeLayer, LampLayer
from plonket.layers.model import MeshLayer, Set, order_of
from plonket.media import open_clip
from plonket.media.clip import Clip
from plonket.physics.engine import simulate
from plonket.physics.fall import Fall, Loose
from plonket.raytrace.client import Renderer
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.meshes.files import read_model
from plonket.room.meshes.forms import unit_form
from plonket.room.meshes.pieces import cut_up, plate_of
from plonket.room.meshes.thing import Body, Thing, form_body, model_body
from plonket.track.camera.measure import measure_camera
from plonket.track.camera.settings import CameraMotion
from plonket.track.form.fit import with_tugs
from plonket.track.form.measure import measure_form, stood_in
from plonket.track.form.settings import FormMotion, Tug
from plonket.track.request import MeasureRequest
from synth.elements.lights import window_light
from synth.elements.models import brass_whale
from synth.phone.sets.workshop import CRATE_CORNERS, CRATE_SIZE, crate_seen

DEMO = Path(__file__).resolve().parents[1] / "demo"
FRAMES = 120


def bench_room(folder: Path) -> None:
    """Prints the figures; without the demo's clip there is nothing to print."""
    path, truth = DEMO / "clips" / "harbour.mp4", DEMO / "truth" / "harbour" / "camera.json"
    if not path.exists() or not truth.exists():
        print("\nrooms: the demo's clips are not here")
        return
    clip = open_clip(path)
    frames = min(FRAMES, clip.info.frames)
    start = time.perf_counter()
    _plain_flow(clip, frames)
    plain = time.perf_counter() - start
    motion = CameraMotion(id="c", name="c")
    start = time.perf_counter()
    track = measure_camera(motion, MeasureRequest(clip=open_clip(path), stop=frames))
    whole = time.perf_counter() - start
    start = time.perf_counter()
    measure_camera(motion.model_copy(update={"set_aside": [int(track.ids[0])]}), MeasureRequest(
        clip=clip, stop=frames, previous=track,
    ))  # fmt: skip
    again = time.perf_counter() - start
    true = json.loads(truth.read_text())
    eyes = np.array([f["position"] for f in true["frames"]])[:frames]
    length = float(np.linalg.norm(np.diff(eyes, axis=0), axis=1).sum())
    off = float(np.linalg.norm(_laid(track.position[:frames], eyes) - eyes, axis=1).mean())
    print(f"\ncamera of {path.name}, 720p, {frames} frames\n")
    against = f"{whole / plain:.2f} x plain decoding and flow ({plain:.1f} s)"
    print(f"{'solved, details found and followed':48s}{whole:9.1f} s   {against}")
    print(f"{'solved again with details set aside':48s}{again:9.1f} s")
    print(f"{'path':48s}{100 * off / length:9.3f} % of its length")
    print(f"{'focal length':48s}{100 * abs(float(track.focal[0]) / true['focal_px'] - 1):9.3f} % off")
    print(f"{'read-out':48s}{track.readout:9.3f} of the time between frames")
    _form()
    _falls()
    _sparks(folder)
    _model(RoomCamera(track, Room()), folder)


def _form() -> None:
    """A box on the workshop's crate, from tugs on one frame, followed through the clip."""
    path, told = DEMO / "clips" / "workshop.mp4", DEMO / "truth" / "workshop" / "camera.json"
    if not path.exists() or not told.exists():
        return
    truth, clip, at = json.loads(told.read_text()), open_clip(path), 75
    size = clip.info.size
    tugs = [Tug(at=c, x=float(x), y=float(y)) for c, (x, y) in zip(CRATE_CORNERS, crate_seen(truth, at), strict=True)]
    motion = with_tugs(FormMotion(id="f", name="f", reference_frame=at, tall=CRATE_SIZE[1]), at, tugs[1:], size)
    start = time.perf_counter()
    track = measure_form(motion, MeasureRequest(clip=clip))
    whole = time.perf_counter() - start
    start = time.perf_counter()
    _plain_flow(clip, clip.info.frames)
    plain = time.perf_counter() - start
    corners = np.array(CRATE_CORNERS) * motion.size
    off = [np.linalg.norm(stood_in(track, i).seen(corners, float(track.focal[i]), size) - crate_seen(truth, i), axis=1).mean()
           for i in range(clip.info.frames)]  # fmt: skip
    print(f"\nform on a crate of {path.name}, 720p, tugs on one of {clip.info.frames} frames, lens unknown\n")
    against = f"{whole / plain:.2f} x plain decoding and flow"
    print(f"{'followed by its surface':48s}{clip.info.frames / whole:9.1f} frames/s   {against}")
    print(f"{'corners':48s}{float(np.mean(off)):9.3f} px on average, {float(np.max(off)):.3f} at worst")
    print(f"{'focal length':48s}{100 * abs(float(track.focal[0]) / truth['focal_px'] - 1):9.3f} % off")


def _plain_flow(clip: Clip, frames: int) -> None:
    """As many corners followed forward by OpenCV alone, as the cheapest thing that could be done."""
    before = clip.luma(0)
    points = cv2.goodFeaturesToTrack(before, 400, 0.01, 12)
    for i in range(1, frames):
        now = clip.luma(i)
        points, _, _ = cv2.calcOpticalFlowPyrLK(before, now, points, None)
        before = now


def _laid(path: np.ndarray, true: np.ndarray) -> np.ndarray:
    """A path turned, scaled and shifted on to another one."""
    a, b = path - path.mean(0), true - true.mean(0)
    u, d, vt = np.linalg.svd(b.T @ a)
    flip = np.array([1, 1, np.linalg.det(u @ vt)])
    return np.asarray((d * flip).sum() / (a**2).sum() * a @ (u @ np.diag(flip) @ vt).T + true.mean(0))


def _model(camera: RoomCamera, folder: Path) -> None:
    path = folder / "whale.glb"
    path.write_bytes(brass_whale())
    size = read_model(path).size
    extent = (float(size[0]), float(size[1]), float(size[2]))
    layer = MeshLayer(id="m", name="m", asset="0" * 64, extent=extent, tall=0.2)
    renderer = Renderer()
    print(f"\n{'a brass whale with its shadow':48s}{'s a frame':>9s}")
    for label, scale, quality in (("half size, quick", 0.5, "quick"), ("full size, good", 1.0, "good")):
        times = []
        for i in (0, 10, 20, 30):
            made = order_of(layer.model_copy(update={"quality": quality}), camera, Spot(), i, Set(path=str(path)), scale)
            if made is None:
                continue
            start = time.perf_counter()
            renderer.film(made[0])
            times.append(time.perf_counter() - start)
        print(f"{label:48s}{float(np.median(times[1:])) if len(times) > 1 else float('nan'):9.2f}   first {times[0]:.1f}")
    _lights(renderer, layer, camera, path, folder)
    renderer.close()


REFERENCE = 144
"""Light paths a pixel of the picture that the good one is held to."""


def _lights(renderer: Renderer, layer: MeshLayer, camera: RoomCamera, path: Path, folder: Path) -> None:
    """What lamps and light maps cost beside the sun, and how far a good picture is from one of very many paths."""
    light_map = folder / "window.hdr"
    cv2.imwrite(str(light_map), np.ascontiguousarray(window_light()[..., ::-1]))
    dark = layer.model_copy(update={"sun": 0.0, "sky": 0.0})
    lamp = LampLayer(id="l", name="l", lift=0.6, heading=30.0)
    dome = DomeLayer(id="d", name="d", asset="0" * 64)
    print(f"\n{'its light at full size, good':36s}{'s a frame':>12s}{'light off':>12s}{'99 % of it':>12s}{'shadow off':>12s}")
    for label, one, room in (
        ("sun and even sky", layer, Set(path=str(path))),
        ("a soft lamp", dark, Set(path=str(path), lamps=[(lamp, Spot(x=0.3, z=0.4))])),
        ("a light map", dark, Set(path=str(path), dome=(dome, str(light_map)))),
    ):
        made = order_of(one, camera, Spot(), 20, room, 1.0)
        if made is None:
            continue
        renderer.film(made[0])
        start = time.perf_counter()
        good = renderer.film(made[0])
        took = time.perf_counter() - start
        true = renderer.film(replace(made[0], samples=REFERENCE))
        inside = true[..., 3] > 0.99
        a, b = (encode_8bit(np.ascontiguousarray(film[..., :3])).astype(int) for film in (good, true))
        off = np.abs(a - b).max(axis=2)[inside]
        shade = float(np.abs(good[..., 4] - true[..., 4])[true[..., 4] > 0.02].mean()) * 100
        print(f"{label:36s}{took:12.2f}{float(off.mean()):9.2f} /255{float(np.percentile(off, 99)):7.1f} /255{shade:10.2f} %")


def _falls() -> None:
    """What until all rests costs, of pieces of a floor and of boxes on a heap."""
    pieces = cut_up("shards", 1.0, 1.0, 60, 1, 1)
    hulls = [np.unique(np.round(np.concatenate(plate_of(one * 0.98, 0.04)).reshape(-1, 3), 7), axis=0) for one in pieces]
    flat = np.eye(4)
    flat[1, 3] = 0.5
    floor = tuple(Loose(hull=one, start=flat, lets_go=k * 0.1) for k, one in enumerate(hulls))
    box = unit_form("box").vertices * 0.15
    heap = []
    for k in range(40):
        start = np.eye(4)
        start[:3, 3] = 0.16 * (k % 2), 0.2 + 0.16 * (k // 2), 0.05 * (k % 3)
        heap.append(Loose(hull=box, start=start, lets_go=0))
    for name, loose in (("60 shards", floor), ("40 boxes", tuple(heap))):
        start_at = time.perf_counter()
        told = simulate(Fall(loose=loose, driven=(), first=0, fps=30.0, ground=0.0))
        took = time.perf_counter() - start_at
        print(f"{f'{name}, at rest after {len(told.poses) / 30:.1f} s':48s}{took:9.1f} s")


def _sparks(folder: Path) -> None:
    """What a frame's sparks cost that bounce on the ground alone, and off four boxes and the whale as well."""
    path = folder / "sparks-whale.glb"
    path.write_bytes(brass_whale())
    whale = model_body(str(path), (0.3, 0.12, 0.12))

    def at(x: float, size: float) -> np.ndarray:
        out = np.diag([size, size, size, 1.0])
        out[0, 3] = x
        return out

    def thing(body: Body, x: float, size: float) -> Thing:
        return Thing(body=body, stands=lambda when: [at(x, size)])

    every = [*(thing(form_body("box"), x, 0.2) for x in (-1.0, -0.5, 0.5, 1.0)), thing(whale, 0.0, 1.0)]
    rng = np.random.default_rng(0)
    for count, life in ((1500, 40), (20000, 60)):
        begins, speed = rng.uniform([-1, 0.3, -0.3], [1, 0.6, 0.3], (count, 3)), rng.normal(0, 0.01, (count, 3))
        took = []
        for things in ([], every):
            for _ in range(2):
                start = time.perf_counter()
                Flock(begins, speed, np.full(count, 0.002), np.full(count, 0.03), rng.uniform(0, life, count), "bounces",
                      things, 100, None).at()  # fmt: skip
            took.append(1000 * (time.perf_counter() - start))
        label = f"{count} sparks that bounce off {len(whale.corners)} triangles"
        print(f"{label:48s}{took[1]:9.0f} ms  (off the ground alone {took[0]:.0f} ms)")
