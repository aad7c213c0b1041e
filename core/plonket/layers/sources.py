"""What rendering reads: media and measurements by their ids."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import TYPE_CHECKING, Protocol, TypeVar

from plonket.base.conventions import F32, F64, U8, Codes
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import KeyBase
from plonket.document.spot import Spot
from plonket.image.grain_in_time import MeasuredGrain
from plonket.image.picture import StillSource
from plonket.plate.view_path import ViewPath
from plonket.raytrace.request import RenderRequest
from plonket.room.camera import RoomCamera
from plonket.track.spaces import Spaces

if TYPE_CHECKING:
    from plonket.document.bases import LayerBase
    from plonket.layers.falling import FallenLayer


T = TypeVar("T")


class Sources(Protocol):
    """Access to what a document refers to. Implementations cache; calls may come from threads.

    A *frame* is one of the shot's, a *moment* is in frames of its clip; they are the same unless the footage runs otherwise
    than it was filmed.
    """

    @property
    def spaces(self) -> Spaces:
        """Where followers are."""
        ...

    @property
    def view(self) -> ViewPath | None:
        """How the clip's frames lie in the picture; None: as they are."""
        ...

    @property
    def size(self) -> tuple[int, int]:
        """The clip's (width, height)."""
        ...

    @property
    def covered(self) -> bool:
        """Whether the footage says itself what it covers: a clip with alpha."""
        ...

    def moment(self, frame: float) -> float:
        """The clip's moment, in its frames, that a moment of the shot shows."""
        ...

    def plate(self, asset: str, moment: float) -> Codes:
        """The footage, mended, at a moment of the clip, between its frames too: 8-bit sRGB-coded (h, w, 3)."""
        ...

    def keyed_plate(self, moment: float, key: KeyBase | None, level: int = 0) -> StillSource:
        """The same less what a key (taken `at_moment`) takes off, halved `level` times at the most; without one, what it says
        itself that it covers."""
        ...

    def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: KeyBase | None) -> F32:
        """The plate as it lies in a picture of `size`, less what a key takes off: (h, w, 4).

        `view` (3, 3) leads from the clip's pixels to the picture's.
        """
        ...

    def donor(self, asset: str, frame: int) -> StillSource:
        """A frame of the clip ready for placing, kept: the same few fill the borders of all others."""
        ...

    def picked(self, motion: str, moment: float, *, shadow: bool = False) -> U8 | None:
        """What a matte among the motions covers at a moment of the clip, with its shadow if asked, 8-bit (h, w); None: it is
        not known there."""
        ...

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> FrameDepth | None:
        """How far away each pixel of the clip is that a frame shows, in metres along the axis of the room's camera in which
        `target` stands; None: it is not measured, or, asked what `hides`, is not to hide anything."""
        ...

    def grain(self, asset: str) -> MeasuredGrain | None:
        """A clip's grain, measured once; None where nothing tells."""
        ...

    def length(self, asset: str) -> int:
        """How many frames an element has; a still has one."""
        ...

    @property
    def fps(self) -> float:
        """The shot's frames a second."""
        ...

    def pace(self, asset: str) -> float:
        """How many frames of an element pass by in one of the shot's, at its own rate; 1 for a still."""
        ...

    def element(self, asset: str, frame: int, key: KeyBase | None = None, level: int = 0) -> StillSource:
        """A still, or one frame of a clip, ready for placing: as it is, or keyed. What is keyed need not be finer than the
        picture halved `level` times."""
        ...

    def quad(self, plane: str) -> F64 | None:
        """(4, 2) corners of a plane motion's quad in its reference frame."""
        ...

    def on_plane(self, plane: str, frame: float) -> F64:
        """(3, 3) from a motion's reference-frame pixels to the frame; the identity while it is not measured."""
        ...

    def anchor(self, target: str, point: str | None, at: F64, frame: float) -> F64 | None:
        """(2,) where a point of a motion, a spot on a plane or one from a perch is in a frame; None: not known."""
        ...

    def layer(self, layer_id: str) -> LayerBase | None:
        """A layer of the shot, wherever it lies; None: it is not there any more."""
        ...

    def copies(self, layer: LayerBase) -> Sequence[LayerBase]:
        """A layer, or the copies of it that stand in a room, each a layer of its own."""
        ...

    def parcel(self, parcel_id: str) -> Sequence[LayerBase]:
        """The layers of a parcel, nearest first."""
        ...

    def kept(self, key: Hashable, make: Callable[[], T]) -> T:
        """What several layers of one picture ask for alike: the last of it is kept."""
        ...

    def lay(self, canvas: F32, layers: Sequence[LayerBase], frame: int, view: F64, scale: float) -> F32:
        """Layers, nearest first, laid on a canvas (h, w, 4); `view` leads from the clip's pixels to the canvas's."""
        ...

    def canvas(self, frame: int, size: tuple[int, int], make: Callable[[], F32]) -> F32:
        """The whole picture of a frame before its finish, kept for a while: frames beside it are looked at again soon."""
        ...

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        """The room and the spot in it that a perch stands on, however many perches down; None: it stands in none."""
        ...

    def on_spot(self, target: str | None) -> bool:
        """Whether a perch that is a spot of a solved room carries what follows `target`, however many perches down: it has a
        place there then, while what follows the camera itself only moves with its picture."""
        ...

    @property
    def room(self) -> str | None:
        """The motion whose room counts where none is named: the first solved camera with depth; None: there is none."""
        ...

    @property
    def footage(self) -> str | None:
        """The asset that the shot is made on."""
        ...

    def neighbours(self, target: str | None, *, hidden: bool = False) -> Sequence[LayerBase]:
        """The layers that are shown and stand in the same room as what follows `target`, nearest first."""
        ...

    def model(self, asset: str) -> str:
        """The path of a file that the renderer reads by itself: a 3D model or a light map."""
        ...

    def film(self, order: RenderRequest) -> F32:
        """3D things filmed as ordered: (h, w, 7), see `FilmSet.film`."""
        ...

    def fallen(self, layer: str) -> FallenLayer | None:
        """Where a layer is that falls, with all else that falls in its room; None: it does not."""
        ...

    def baked(self, layer: str, what: str, make: Callable[[], tuple[str, bytes]]) -> str:
        """The path of a model that is made for a layer: `make` gives a name by what is in it, and the file; once."""
        ...

    def table(self, asset: str) -> F32:
        """A colour table's lattice (n, n, n, 3), its first axis red; or (n, 3) for one table for each channel."""
        ...
