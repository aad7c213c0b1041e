"""What kinds there are of everything in a document, and what an entry of each sort carries.

Nothing here knows any kind: each announces itself from its own file, in the package that its registry names.

Traits of layers: ``picture`` shows something from the shelf; ``footage`` shows the shot's own plate; ``keyed`` can be keyed;
``placed`` has a place, turn and size of its own; ``standing`` stands on a spot of a solved room; ``lights`` gives light there
and is not seen itself; ``follows`` may follow something; ``filmed`` is slow to draw and can be worked out ahead; ``slips`` can
be checked against the plate;
``matched`` can be matched to the plate; ``wash`` has no picture, its looks apply to everything below.
Traits of motions: ``room`` solves a room; ``surface`` is flat, with a quad; ``points`` is made of named points;
``regions`` is told by outlines where to look; ``counts`` counts on point motions; ``matte`` says what a thing covers;
``depth`` says how far away everything is; ``whole`` is measured
over the whole range at once, without a direction; ``unfollowed`` moves nothing, so nothing can follow it.
Traits of treatments: ``mends`` changes pictures, not where they lie; ``masked`` has masks; ``everywhere`` needs none, and
works all over the picture then.
Traits of keys: ``matte`` takes a matte, and is for the footage only; ``strokes`` is told by strokes over its layer's picture.
Traits of files: ``covered`` may say what is covered; ``light`` holds linear light; ``picture`` is one picture, ``pictures``
many, ``parts`` the layers one by one, of the whole picture; ``moving`` a loop that a browser shows as a picture, ``played`` a
video that it plays; ``sound`` has sound, ``unseen`` nothing but sound.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from plonket.base.registry import Entry, Registry


@dataclass(frozen=True, slots=True, kw_only=True)
class LookEntry(Entry):
    """`run`: (RGBA, look, `LookContext`) -> RGBA.

    reach : (look, frame) -> how far beyond the picture's edge it spreads, in pixels of the clip; None: it does not.
    neighbours : whether it looks at the frames beside its own.
    """

    reach: Callable[[Any, int], float] | None = None
    neighbours: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyEntry(Entry):
    """`run`: (linear light, key, `KeyContext`) -> premultiplied RGBA.

    learn : (key, `Element`) -> what it knows of the whole clip, found once; None: nothing.
    learns_from : the fields which that depends on. restores : (key) -> whether a clip's coarse colour is made finer first.
    solve, finish : (linear light, key, `KeyContext`) -> what is kept, and (linear light, what is kept, key) -> premultiplied
        RGBA, where the fields `finish_by` change only the second; None: `run` does it all at once.
    by_behind : (key) -> the key with nothing and with white light in its spill's place, where that comes from what is behind;
        None: what is behind makes no difference.
    """

    learn: Callable[[Any, Any], Any] | None = None
    learns_from: tuple[str, ...] = ()
    restores: Callable[[Any], bool] = lambda _key: False
    solve: Callable[[Any, Any, Any], Any] | None = None
    finish: Callable[[Any, Any, Any], Any] | None = None
    finish_by: frozenset[str] = frozenset()
    by_behind: Callable[[Any], tuple[Any, Any] | None] = lambda _key: None


@dataclass(frozen=True, slots=True, kw_only=True)
class GeneratorEntry(Entry):
    """`run`: (settings, `GeneratorContext`) -> RGBA. preview : where it stands in its preview picture of 640 x 360."""

    preview: tuple[float, float] = (320.0, 180.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class TreatmentEntry(Entry):
    """`run`: (settings, `PlateContext`, `ViewPath`) -> `ViewPath`. once : why there can be only one; "": there can be many."""

    once: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class MotionEntry(Entry):
    """`run`: measures it; see `plonket.track.request`.

    track : the class of what is measured. movement : (motion, measured, reference frame) -> (n, 3, 3).
    """

    track: type[Any]
    movement: Callable[[Any, Any, int], Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerEntry(Entry):
    """`run`: (layer, `Sources`, frame, size, view) -> `Picture`.

    clip_from_layer : (layer, `Sources`, frame) -> (3, 3) from its own pixels to the clip's; None: it has none.
    shows : (layer, `Sources`, frame) -> the frames of assets that are its own picture there: (asset, frame, share) of each.
    shadowless : (layer) -> the same without the shadow that its picture carries; None: it carries none.
    mirrorless : (layer) -> the same without what the ground mirrors of it; None: nothing is mirrored.
    surface : (layer, `Sources`, frame, size, view) -> how far before the camera each pixel of it lies, (h, w) in metres, and
        its normals (h, w, 3) before the camera or None; None: it has no place in a room.
    things : (layer, `Sources`, moments, whether it is shown itself) -> `Filmed`, what the renderer is told of it; None: nothing
        but what is known of its kind.
    bodies : (layer, `Sources`, first frame) -> `Bodies`, what it is where things fall in its room; None: nothing.
    hides_itself : (layer) -> whether it takes off by itself what is hidden of it by what is nearer in its room.
    under : (layer, `Sources`, frame, size, view, its picture) -> a `Picture` that is laid before its own, and its blend; None:
        nothing is.
    """

    clip_from_layer: Callable[[Any, Any, float], Any] | None = None
    shows: Callable[[Any, Any, int], list[tuple[str, int, float]]] | None = None
    under: Callable[[Any, Any, int, tuple[int, int], Any, Any], tuple[Any, Any] | None] | None = None
    things: Callable[[Any, Any, Any, bool], Any] | None = None
    bodies: Callable[[Any, Any, int], Any] | None = None
    hides_itself: Callable[[Any], bool] = lambda _layer: False
    shadowless: Callable[[Any], Any] | None = None
    mirrorless: Callable[[Any], Any] | None = None
    surface: Callable[[Any, Any, int, tuple[int, int], Any], tuple[Any, Any] | None] | None = None


MASKS: Registry[Entry] = Registry("mask", "plonket.masks")
"""`run`: (mask, frame, size, matrix, mattes) -> coverage (h, w)."""
LOOKS: Registry[LookEntry] = Registry("look", "plonket.looks")
KEYS: Registry[KeyEntry] = Registry("key", "plonket.keying")
GENERATORS: Registry[GeneratorEntry] = Registry("generated element", "plonket.generators")
TREATMENTS: Registry[TreatmentEntry] = Registry("treatment", "plonket.plate")
MOTIONS: Registry[MotionEntry] = Registry("motion", "plonket.track", "plonket.matting", "plonket.depth")
LAYERS: Registry[LayerEntry] = Registry("layer", "plonket.layers")
PLACES: Registry[Entry] = Registry("place", "plonket.room")
"""Where a perch may be in what a motion solves. `run`: (`RoomCamera`, spot) -> (n, 3, 3)."""

FOOTAGE: Registry[Entry] = Registry("footage")
"""What a shot is made on."""


@dataclass(frozen=True, slots=True, kw_only=True)
class OutputEntry(Entry):
    """A file that is made of a shot. `run`: (output, path, `Piece`) -> a `PieceWriter`, which takes some frames.

    ending : (output) -> how the finished file's name ends. joined : (output, pieces, path, `Sheet`) -> None, makes the finished
    file of them. endings : of files that are of this kind, where nothing else says so.
    wants : (output, `Moment`) -> whether that frame is written at all.
    """

    ending: Callable[[Any], str]
    joined: Callable[[Any, list[Any], Any, Any], None]
    endings: tuple[str, ...] = ()
    wants: Callable[[Any, Any], bool] = lambda _output, _moment: True


OUTPUTS: Registry[OutputEntry] = Registry("kind of file", "plonket.outputs")
FRAMES: Registry[Entry] = Registry("frame")
"""Parts of the picture that are delivered."""

REGISTRIES: dict[str, Registry[Any]] = {
    "motion": MOTIONS, "treatment": TREATMENTS, "layer": LAYERS, "generator": GENERATORS, "mask": MASKS, "key": KEYS,
    "look": LOOKS, "place": PLACES, "footage": FOOTAGE, "output": OUTPUTS, "frame": FRAMES,
}  # fmt: skip
