"""One made-up kind of each sort, in one file: what a new kind needs, and that it needs no more.

`docs/adding.md` tells of these by example.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import FormatError
from plonket.base.fields import Identifier, Number, colour, number, plain, reference, switch, value_at
from plonket.base.homography import translation
from plonket.base.registry import Entry
from plonket.base.states import TRACKED
from plonket.document.bases import FramedMotion, GeneratorBase, KeyBase, LookBase, MaskBase, TreatmentBase
from plonket.document.delivery import OutputBase
from plonket.document.kinds import (
    GENERATORS,
    KEYS,
    LAYERS,
    LOOKS,
    MASKS,
    MOTIONS,
    OUTPUTS,
    TREATMENTS,
    GeneratorEntry,
    KeyEntry,
    LayerEntry,
    LookEntry,
    MotionEntry,
    OutputEntry,
    TreatmentEntry,
)
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.generators.common import GeneratorContext
from plonket.image.picture import Picture
from plonket.keying.common import KeyContext
from plonket.layers.common import faded
from plonket.layers.placed import PlacedLayer, frame_from_anchor
from plonket.layers.sources import Sources
from plonket.looks.common import LookContext
from plonket.masks.combine import Mattes
from plonket.outputs.common import Sheet
from plonket.outputs.picture import Finished
from plonket.plate.view_path import PlateContext, ViewPath
from plonket.track.request import MeasureRequest


class Stripe(PlacedLayer):
    """A layer: an upright stripe of one colour through its place, shown only while another motion is there to lean on."""

    kind: Literal["stripe"] = "stripe"
    colour: str = colour("#ff0000", label="Colour", group="Stripe")
    wide: Number = number(40.0, label="Stripe's width", low=1, high=2000, step=1, unit="px", group="Stripe")
    framed: bool = switch(False, label="Framed", group="Stripe")
    frame_px: float = plain(4, label="Frame's width", low=1, high=50, step=1, unit="px", group="Stripe", when={"framed": (True,)})
    leans_on: Annotated[Identifier | None, reference("motion", says="leans on a motion")] = None


def draw_stripe(layer: Stripe, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    middle = view @ frame_from_anchor(layer, sources.spaces, frame) @ np.array([0.0, 0.0, 1.0])
    zoom = float(np.hypot(view[0, 0], view[1, 0]))
    rgba = np.zeros((size[1], size[0], 4), np.float32)
    across = np.abs(np.arange(size[0]) + 0.5 - middle[0] / middle[2]) < value_at(layer.wide, frame) * zoom / 2
    rgba[:, across] = (*linear_of(layer.colour), 1)
    return faded(Picture(rgba=rgba), layer, frame)


class Dimmed(LookBase):
    """A look: everything darker."""

    kind: Literal["dimmed"] = "dimmed"
    by: Number = number(50.0, label="Dimmed by", low=0, high=100, step=1, unit="%", group="Dimmed")


def dim(rgba: F32, look: Dimmed, context: LookContext) -> F32:
    share = np.float32(1 - value_at(look.by, context.frame) / 100)
    return np.asarray(rgba * np.array([share, share, share, 1], np.float32))


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """What is measured of a drifting motion: `xy` (n, 2) pixels gone since the first frame."""

    KIND: ClassVar[str] = "drift"
    xy: F64
    state: U8
    reason: U8
    confidence: F64

    @property
    def frames(self) -> int:
        return len(self.xy)

    def to_bytes(self) -> bytes:
        out = io.BytesIO()
        np.savez(out, kind=np.array(self.KIND), xy=self.xy)
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> Drift:
        with np.load(io.BytesIO(data)) as z:
            return drift(z["xy"])


def drift(xy: F64) -> Drift:
    n = len(xy)
    return Drift(xy=xy, state=np.full(n, TRACKED, np.uint8), reason=np.zeros(n, np.uint8), confidence=np.ones(n))


class DriftMotion(FramedMotion):
    """A motion: so many pixels a frame to the right, and to look at no picture at all."""

    MEASURING = frozenset({"speed"})

    kind: Literal["drifting"] = "drifting"
    speed: float = plain(2, label="Speed", low=-50, high=50, step=1, unit="px", group="Drift")


def measure_drift(motion: DriftMotion, request: MeasureRequest) -> Drift:
    frames = request.clip.info.frames
    request.work.progress(frames, frames)
    return drift(np.stack([np.arange(frames) * motion.speed, np.zeros(frames)], axis=1))


def drift_movement(motion: DriftMotion, track: Drift, reference_frame: int) -> F64:
    return np.stack([translation(*(xy - track.xy[reference_frame])) for xy in track.xy])


class Nudged(TreatmentBase):
    """A treatment: the whole picture moved down."""

    kind: Literal["nudged"] = "nudged"
    down: float = plain(10, label="Moved down", low=-500, high=500, step=1, unit="px", group="Nudged")


def nudge(treatment: Nudged, context: PlateContext, view: ViewPath) -> ViewPath:
    return replace(view, picture_from_held=np.asarray(translation(0, treatment.down) @ view.picture_from_held))


class Spot(GeneratorBase):
    """A generated element: one round spot of light at its place."""

    kind: Literal["roundspot"] = "roundspot"
    across: Number = number(20.0, label="Across", low=1, high=500, step=1, unit="px", group="Spot")


def spot(settings: Spot, context: GeneratorContext) -> F32:
    w, h = context.size
    m = context.place(context.frame)
    x, y = np.arange(w) + 0.5 - m[0, 2], np.arange(h) + 0.5 - m[1, 2]
    lit = np.hypot(x[None, :], y[:, None]) < value_at(settings.across, context.frame) * np.hypot(m[0, 0], m[1, 0]) / 2
    return np.repeat(lit[..., None], 4, axis=2).astype(np.float32)


class LeftOf(MaskBase):
    """A mask: what lies left of an upright line."""

    kind: Literal["leftof"] = "leftof"
    x: Number = number(100.0, label="Left of", low=0, high=20000, step=1, unit="px", group="Left of")


def left_of(mask: LeftOf, frame: float, size: tuple[int, int], matrix: F64, mattes: Mattes) -> F32:
    edge = matrix @ np.array([value_at(mask.x, frame), 0.0, 1.0])
    cover = np.arange(size[0]) + 0.5 < edge[0] / edge[2]
    return np.repeat(cover[None, :], size[1], axis=0).astype(np.float32)


class FaintKey(KeyBase):
    """A key: everything half gone."""

    kind: Literal["faint"] = "faint"
    kept: float = plain(50, label="Kept", low=0, high=100, step=1, unit="%", group="Faint")


def faint(light: F32, key: FaintKey, context: KeyContext) -> F32:
    return np.dstack([light * np.float32(key.kept / 100), np.full(light.shape[:2], key.kept / 100, np.float32)])


def read_drift(coming: Coming) -> tuple[DriftMotion, Drift]:
    rows = coming.text.removeprefix("drift\n").split()
    if len(rows) != coming.footage.frames:
        raise FormatError("drift.rows", "A drift file has a number for every frame of the clip.")
    xy = np.stack([np.array(rows, np.float64), np.zeros(len(rows))], axis=1)
    return DriftMotion(id=coming.motion_id, name=coming.name), drift(xy)


class Tally(OutputBase):
    """A file of a shot: how bright each frame is, as text."""

    kind: Literal["tally"] = "tally"
    digits: int = plain(2, label="Digits", low=0, high=6, step=1, group="File", whole=True)


class TallyPiece:
    """Takes the pictures of a piece, and adds a line for each."""

    def __init__(self, path: Path, digits: int) -> None:
        self.path, self.digits, self.lines = path, digits, list[str]()

    def write(self, picture: Finished) -> None:
        self.lines.append(f"{picture.codes().mean():.{self.digits}f}")

    def __enter__(self) -> TallyPiece:
        return self

    def __exit__(self, *_: object) -> None:
        self.path.write_text("".join(f"{line}\n" for line in self.lines))


def join_tally(tally: Tally, pieces: list[Path], out: Path, sheet: Sheet) -> None:
    out.write_text("".join(piece.read_text() for piece in pieces))


LAYER = LayerEntry(
    kind="stripe", label="Stripe", help="An upright stripe.", settings=Stripe, run=draw_stripe, order=900,
    clip_from_layer=lambda layer, sources, frame: frame_from_anchor(layer, sources.spaces, frame),
    traits=frozenset({"placed", "follows"}), handles="box", groups=("Stripe", "Place", "Mix"),
    card={"": "Stripe", "framed=true": "Framed stripe"}, says={"": "A stripe, {blend}"},
)  # fmt: skip
LOOK = LookEntry(kind="dimmed", label="Dimmed", help="Everything darker.", settings=Dimmed, run=dim)
MOTION = MotionEntry(
    kind="drifting", label="Drift", help="Goes by itself.", settings=DriftMotion, run=measure_drift, track=Drift,
    movement=drift_movement, groups=("Drift",),
)  # fmt: skip
TREATMENT = TreatmentEntry(
    kind="nudged", label="Nudged", help="Moved down.", settings=Nudged, run=nudge, groups=("Nudged",), says={"": "Moved down."}
)
GENERATOR = GeneratorEntry(kind="roundspot", label="Spot", help="A round spot.", settings=Spot, run=spot)
MASK = Entry(kind="leftof", label="Left of", help="Left of a line.", settings=LeftOf, run=left_of, groups=("Left of", "Mask"))
KEY = KeyEntry(kind="faint", label="Faint", help="Half gone.", settings=FaintKey, run=faint, groups=("Faint",))
FORMAT = FormatEntry(
    kind="drift.txt", label="Drift", mime="text/plain; charset=utf-8", track="drift", order=2,
    write=lambda going: "drift\n" + "\n".join(f"{x:g}" for x in going.measured.xy[:, 0]),
    recognises=lambda coming: coming.text.startswith("drift\n"), read=read_drift,
)  # fmt: skip
OUTPUT = OutputEntry(
    kind="tally", label="Tally", help="How bright each frame is.", settings=Tally, joined=join_tally, ending=lambda _: ".txt",
    run=lambda tally, path, piece: TallyPiece(path, tally.digits), endings=(".txt",), groups=("File",), order=900,
)  # fmt: skip

EVERY: list[tuple[Any, Any]] = [
    (LAYERS, LAYER), (LOOKS, LOOK), (MOTIONS, MOTION), (TREATMENTS, TREATMENT), (GENERATORS, GENERATOR), (MASKS, MASK),
    (KEYS, KEY), (FORMATS, FORMAT), (OUTPUTS, OUTPUT),
]  # fmt: skip


@contextmanager
def announced() -> Iterator[None]:
    """All of them in their registries for a while."""
    for registry, entry in EVERY:
        registry.add(entry)
    try:
        yield
    finally:
        for registry, entry in EVERY:
            registry.remove(entry.kind)


def everything(asset: str) -> dict[str, Any]:
    """Parts of a document with one of each kind: a still that is keyed and masked stands on the drift, with the look."""
    follow = {"target": "drift", "reference_frame": 0}
    still = {"kind": "still", "id": "still", "name": "Still", "asset": asset, "width": 40, "height": 40, "x": 100.0, "y": 60.0,
             "follow": follow, "key": {"kind": "faint"},
             "masks": [{"kind": "leftof", "id": "m", "name": "Left", "x": 110.0, "rides": "to:drift"}],
             "looks": [{"kind": "dimmed", "id": "dim", "name": "Dim"}]}  # fmt: skip
    return {
        "motions": [{"kind": "drifting", "id": "drift", "name": "Drift"}],
        "plate": [{"kind": "nudged", "id": "nudged", "name": "Nudged"}],
        "stack": [
            {"kind": "stripe", "id": "stripe", "name": "Stripe", "x": 40.0, "y": 60.0, "follow": follow, "leans_on": "drift"},
            {"kind": "generated", "id": "g", "name": "Spot", "generator": {"kind": "roundspot"}, "x": 160.0, "y": 60.0},
            still,
        ],
    }



