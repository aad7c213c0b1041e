"""Films the demo clips of the Small Lights world: ``bin/plonket film SET --out FOLDER``."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from types import ModuleType

import numpy as np

from plonket.base.conventions import F32
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.media.write import Coding, VideoWriter
from synth.phone.camera import PhoneCamera
from synth.phone.film import Exposure, FilmStudio
from synth.phone.sensor import Sensor
from synth.phone.shutter import expose_frame, seen_mattes
from synth.phone.solid import MiniatureSet
from synth.phone.take import (
    Recording,
    frame_times,
    photographs,
    truth_of,
    write_recording,
    write_truth,
)

SETS = ("workshop", "harbour", "keeper")
KEY_EVERY = 3
RECORDINGS = {
    "workshop": Recording(rate=Fraction(30000, 1001), frames=150, jitter_s=0.0015, clap_at=0.70, crf=19, seed=5),
    "harbour": Recording(rate=Fraction(30), frames=120, clap_at=0.60, crf=19, seed=6),
    "keeper": Recording(rate=Fraction(25), frames=100, clap_at=0.50, crf=19, seed=7),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Key:
    """A path-traced instant kept on disk."""

    time: float
    flash: bool
    path: Path


def film(name: str, out: Path, *, scale: float = 1.0, samples: int = 9, work: Work | None = None) -> None:
    """Film a demo set and write the clip, its clean picture, mattes and truth.

    Path-traced instants are kept in ``out/keys``, so that a stopped run goes on where it was.
    """
    if name not in SETS:
        raise BadInput("film.set", f"There is no set called {name}. Choose one of: {', '.join(SETS)}.")
    work = work or Work()
    module: ModuleType = importlib.import_module(f"synth.phone.sets.{name}")
    what: MiniatureSet = module.build()
    recording = RECORDINGS[name]
    size = (round(1280 * scale / 2) * 2, round(720 * scale / 2) * 2)
    camera = PhoneCamera(
        size=size, focal_px=1050.0 * scale, pose=module.PATH.pose, exposure_s=1 / 90, readout_s=0.012
    )
    times = frame_times(recording)
    out.mkdir(parents=True, exist_ok=True)
    keys = _shoot_keys(module, what, camera, times, recording, out / "keys", samples, work)
    sensor = Sensor(gain=module.GAIN)
    truth = out / "truth"
    write_truth(truth, truth_of(what, camera, times, recording.clap_at))
    with VideoWriter(truth / "clean.mp4", size, recording.rate, coding=Coding(crf=24, preset="slow")) as video:

        def lights() -> Iterator[F32]:
            """Each frame's light, its clean picture written on the way."""
            for light in _frames(keys, what, camera, times, recording):
                video.write(sensor.clean(light))
                yield light

        pictures = photographs(lights(), sensor, recording.seed)
        write_recording(out / f"{name}.mp4", pictures, times, size, recording, work)
    _write_mattes(truth, keys, what, camera, times, recording)


def _flashing(t: float, recording: Recording) -> bool:
    return -0.002 <= t - recording.clap_at < 0.055


def _shoot_keys(
    module: ModuleType, what: MiniatureSet, camera: PhoneCamera, times: np.ndarray, recording: Recording,
    folder: Path, samples: int, work: Work,
) -> list[Key]:  # fmt: skip
    folder.mkdir(parents=True, exist_ok=True)
    plain = [i for i in range(len(times)) if not _flashing(times[i], recording)]
    chosen = sorted({*plain[::KEY_EVERY], plain[-1], *(i for i in range(len(times)) if i not in plain)})
    keys = [Key(time=float(times[i]), flash=_flashing(times[i], recording), path=folder / f"{i:05d}.npz")
            for i in chosen]  # fmt: skip
    missing = [k for k in keys if not k.path.exists()]
    studio: FilmStudio | None = None
    for done, key in enumerate(missing):
        work.check_cancelled()
        studio = studio or FilmStudio(
            what, camera, samples=samples, aperture_m=module.APERTURE_M, focus_m=module.FOCUS_M
        )
        e = studio.expose(key.time)
        part = folder / "part.npz"
        np.savez(part, light=e.light.astype(np.float16), world=e.world, part=e.part, solid=e.solid)
        part.rename(key.path)
        work.progress(done + 1, len(missing))
    return keys


def _load(key: Key, what: MiniatureSet) -> Exposure:
    with np.load(key.path) as data:
        light = data["light"].astype(np.float32)
        pad = 24
        return Exposure(
            light=light, world=data["world"], part=data["part"], solid=data["solid"],
            parts=("", *what.motions), pad=pad,
        )  # fmt: skip


def _neighbours(keys: list[Key], t: float, flash: bool) -> list[tuple[Key, float]]:
    """The keys of the same light on both sides of `t`, with weights that fall with distance."""
    same = [k for k in keys if k.flash == flash]
    before = max((k for k in same if k.time <= t), key=lambda k: k.time, default=None)
    after = min((k for k in same if k.time > t), key=lambda k: k.time, default=None)
    if before is None or after is None:
        only = before or after
        assert only is not None
        return [(only, 1.0)]
    if before.time == t:
        return [(before, 1.0)]
    share = (t - before.time) / (after.time - before.time)
    if after.time - before.time > 0.2:  # across the flash: take the nearer one alone
        return [(before if share < 0.5 else after, 1.0)]
    return [(before, 1 - share), (after, share)]


def _frames(
    keys: list[Key], what: MiniatureSet, camera: PhoneCamera, times: np.ndarray, recording: Recording
) -> Iterator[F32]:
    cache: dict[Path, Exposure] = {}
    for t in times:
        near = _neighbours(keys, float(t), _flashing(t, recording))
        cache = {k.path: cache.get(k.path) or _load(k, what) for k, _ in near}
        yield expose_frame([(cache[k.path], k.time, w) for k, w in near], what, camera, float(t))


def _write_mattes(
    folder: Path, keys: list[Key], what: MiniatureSet, camera: PhoneCamera, times: np.ndarray, recording: Recording
) -> None:
    """Small grey videos, white where the named things are; up to three in one pass."""
    names = list(what.mattes)[:3]
    marked = np.zeros((len(what.solids) + 1, 3), bool)  # the last row is for "nothing seen"
    for k, name in enumerate(names):
        for j, solid in enumerate(what.solids):
            marked[j, k] = solid.name in what.mattes[name]
    with ExitStack() as stack:
        coding = Coding(crf=20, preset="medium")
        videos = [stack.enter_context(VideoWriter(folder / f"matte-{n}.mp4", camera.size, recording.rate, coding=coding))
                  for n in names]  # fmt: skip
        cache: dict[Path, Exposure] = {}
        for t in times:
            near = max(_neighbours(keys, float(t), _flashing(t, recording)), key=lambda pair: pair[1])[0]
            cache = {near.path: cache.get(near.path) or _load(near, what)}
            e = cache[near.path]
            cover = seen_mattes(e, near.time, marked[e.solid], what, camera, float(t))
            for k, video in enumerate(videos):
                grey = np.clip(cover[..., k] * 255 + 0.5, 0, 255).astype(np.uint8)
                video.write(np.repeat(grey[..., None], 3, axis=2))
