"""A still or clip that is placed, turned and sized, and follows a motion or a perch."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import later, plain, raised, switch, times, value_at
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.document.perch import Perch
from plonket.image.picture import Picture
from plonket.layers.common import box_of, exposed, mirrored, shown_frames
from plonket.layers.copied import CopiedLayer, copy_places
from plonket.layers.hinged import HingedLayer, halves_of
from plonket.layers.placed import frame_from_own
from plonket.layers.sources import Sources
from plonket.track.spaces import Spaces

FLIPPED: dict[str, str] = {"no": "across", "across": "no", "down": "both", "both": "down"}
"""What mirroring left to right makes of how a picture is mirrored."""


class StillLayer(HingedLayer, CopiedLayer):
    """A picture: where it sits, what it follows, how it mixes. On a spot of a solved room there may be several of it."""

    kind: Literal["still"] = "still"
    copies_mirrored: bool = switch(False, label="Some mirrored", group="Copies", help="Left to right, about half of them.")
    copies_late: float = plain(0, label="Out of step", low=0, high=10000, step=1, unit="fr", group="Copies", soft=(0, 100),
                               help="By how many frames each clip runs, or each one flaps, late or early.")  # fmt: skip

    @property
    def is_several(self) -> bool:
        """Whether it is drawn as several layers of their own where it stands on a spot: as a crowd, or as halves."""
        return self.across * self.deep > 1 or self.hinged


def crowd_of(layer: StillLayer, perch: Perch) -> tuple[list[StillLayer], list[Perch]]:
    """Its copies, or their halves, as layers of their own, each on a perch of its own; the layer itself where it is one.

    perch : that it sits on, a spot of a solved room. Rows run along the spot's heading, whichever way it faces.
    """
    if not layer.is_several or perch.spot is None:
        return [layer], []
    if layer.across * layer.deep == 1:
        return halves_of(layer, perch)
    layers: list[StillLayer] = []
    perches: list[Perch] = []
    for k, place in enumerate(copy_places(layer)):
        heading = np.radians(value_at(perch.spot.heading, 0))
        c, s = float(np.cos(heading)), float(np.sin(heading))
        moved = {"x": raised(perch.spot.x, c * place.x + s * place.z), "z": raised(perch.spot.z, c * place.z - s * place.x)}
        own = perch.model_copy(update={"id": f"{layer.id}~{k}~place", "spot": perch.spot.model_copy(update=moved)})
        late = round(layer.copies_late * place.late)
        flip = layer.copies_mirrored and place.turn < 0
        one = layer.model_copy(update={
            "id": layer.id if k == 0 else f"{layer.id}~{k}", "across": 1, "deep": 1, "size": times(layer.size, place.size),
            "y": times(layer.y, place.size), "mirror": FLIPPED[layer.mirror] if flip else layer.mirror,
            "starts": layer.starts + late, "fold": later(layer.fold, late),
            "follow": layer.follow.model_copy(update={"target": own.id}),
        })  # fmt: skip
        found, stood = halves_of(one, own) if one.hinged else ([one], [own])
        layers += found
        perches += stood
    return layers, perches


def frame_from_still(layer: StillLayer, spaces: Spaces, frame: float) -> F64:
    """The (3, 3) matrix from the picture's pixels to the frame's pixels, full resolution."""
    return np.asarray(frame_from_own(layer, spaces, frame, layer.width, layer.height) @ mirrored(layer))


def clip_from_layer(layer: StillLayer, sources: Sources, frame: float) -> F64:
    """The same, as masks that ride on the picture ask for it."""
    return frame_from_still(layer, sources.spaces, frame)


def draw(layer: StillLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""

    def at(when: float) -> F64:
        return np.asarray(view @ frame_from_still(layer, sources.spaces, when))

    return exposed(layer, sources, frame, size, at, box_of(layer))


LAYERS.add(LayerEntry(
    kind="still", order=10, label="Placed", settings=StillLayer, run=draw, clip_from_layer=clip_from_layer,
    shows=shown_frames,
    help="A picture or clip that stays where you put it, or follows a motion.",
    traits=frozenset({"picture", "keyed", "placed", "follows", "slips", "matched"}), handles="box",
    groups=("Place", "Mix", "Cut", "Hinge", "Copies"),
    card={"": "Still"},
    says={"": "Placed still, {width} × {height}"},
))  # fmt: skip
