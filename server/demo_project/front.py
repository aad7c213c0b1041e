"""Demo shots in which something stands behind the footage, or behind a part of it."""

from __future__ import annotations

from typing import Any

import numpy as np

from demo_project.parts import footage_of, measure
from demo_project.stack import size_of
from library.models import Asset, Project
from plonket.base.outlines import polygon_outline
from plonket.document.delivery import DeliveryFrame
from plonket.document.follow import Follow
from plonket.document.perch import Perch
from plonket.document.shot import Shot as Document
from plonket.document.spot import Spot
from plonket.keying.colours import ColourKey
from plonket.keying.cutout import CutOutKey
from plonket.keying.picked import PickedKey
from plonket.keying.screen import ScreenKey
from plonket.layers.model import MeshLayer
from plonket.layers.plate import PlateLayer
from plonket.layers.still import StillLayer
from plonket.looks.blur import Blur
from plonket.looks.wrap import Wrap
from plonket.masks.outlined import OutlineMask
from plonket.matting.carried import CutStroke
from plonket.track.form.settings import FormMotion
from plonket.track.matte.settings import MatteMotion, PickClick
from plonket.track.plane.settings import PlaneMotion
from plonket.track.points.settings import PointMotion
from shots.editing import add_shot, change_shot
from synth.phone.sets.workshop import in_crate_room

BEHIND_JARS = (0.765, 0.453, 0.045)
"""A place on the shelf, against the wall, in the workshop's metres."""


def keeper_on_watch(project: Project, clip: Asset, night: Asset, marks: PointMotion) -> None:
    """The keeper's own footage keyed, the night harbour behind him riding on what the crosses of his cloth do."""
    at = 50
    footage = footage_of(clip).model_copy(update={"opacity": 0.0})
    shot = add_shot(project, Document(name="The keeper on watch", footage=footage, motions=[marks]), "Footage and points")
    measure(shot.id, clip)
    keeper = PlateLayer(
        id="keeper", name="Keyed footage", key=ScreenKey(lone=90.0, clip_white=72.0),
        looks=[Wrap(id="look-1", name="Light wrap", width=6.0, strength=55.0)],
    )  # fmt: skip
    behind = StillLayer(
        id="night", name="Night harbour", **size_of(night), x=640.0, y=392.0, size=122.0, follow=Follow(
            target="marks", reference_frame=at, perspective=True), looks=[Blur(id="look-1", name="Out of focus", radius=1.5)],
    )  # fmt: skip
    change_shot(shot.id, "The harbour behind him", lambda d: d.model_copy(update={"stack": [keeper, behind]}))


def dusk_in_the_window(project: Project, clip: Asset, dusk: Asset, chart: PlaneMotion) -> None:
    """Another sky behind the bars of the workshop's window, some of the old clouds left in it."""
    at = chart.reference_frame
    document = Document(name="Dusk in the window", footage=footage_of(clip), motions=[chart])
    shot = add_shot(project, document, "Footage and plane")
    mask = OutlineMask(
        id="mask-1", name="Round the panes", mode="keep", inverted=True, rides="to:chart", reference_frame=at,
        outline=polygon_outline(np.array(PANES), at),
    )  # fmt: skip
    before = PlateLayer(
        id="bars", name="Before the sky", masks=[mask], stays=18.0, stays_from=86.0, stays_soft=18.0,
        key=ColourKey(colours=["#fdfdfd", "#a3d1f3", "#b8ddf4", "#d9effa"], reach=7.0, soft=5.0, brightness=7.0),
    )  # fmt: skip
    sky = StillLayer(
        id="dusk", name="Dusk sky", **size_of(dusk), x=165.0, y=150.0, size=64.0,
        follow=Follow(target="chart", reference_frame=at), looks=[Blur(id="look-1", name="Out of focus", radius=1.2)],
    )  # fmt: skip
    change_shot(shot.id, "Dusk behind the bars", lambda d: d.model_copy(update={"stack": [before, sky]}))


def boat_behind_the_lamp(project: Project, clip: Asset, boat: Asset, chart: PlaneMotion) -> None:
    """The lamp picked out by three clicks, and a paper boat on the shelf behind it."""
    at = chart.reference_frame
    lamp = MatteMotion(id="lamp", name="Lamp", clicks=[PickClick(frame=at, x=x, y=y) for x, y in ON_THE_LAMP])
    footage = footage_of(clip).model_copy(update={"in_frame": 60, "out_frame": 109})
    upright = DeliveryFrame(id="upright", name="Upright", target="lamp", size=80.0, smooth=1.2)
    square = DeliveryFrame(id="square", name="Square", shape="1:1", x=820.0, y=360.0)
    document = Document(name="A boat behind the lamp", footage=footage, motions=[lamp, chart], frames=[upright, square])
    shot = add_shot(project, document, "Footage, matte and plane")
    measure(shot.id, clip)
    before = PlateLayer(id="before", name="Lamp, in front", key=PickedKey(motion="lamp"))
    behind = StillLayer(
        id="boat", name="Paper boat", **size_of(boat), x=908.0, y=366.0, size=16.0, turn=-3.0,
        follow=Follow(target="chart", reference_frame=at),
    )  # fmt: skip
    change_shot(shot.id, "A boat behind it", lambda d: d.model_copy(update={"stack": [before, behind]}))


ON_THE_LAMP = ((958.0, 358.0), (960.0, 203.0), (962.0, 180.0))
"""Places on the lamp's tower, glass and roof in frame 75 of the workshop."""
PANES = ((30.0, 36.0), (300.0, 40.0), (300.0, 402.0), (32.0, 402.0))
"""The window's panes in frame 75 of the workshop."""
JARS = (
    ((1035, 350), (1055, 340), (1075, 352), (1075, 384), (1035, 384), (1035, 352)),
    ((1058, 316), (1078, 316)), ((1040, 332), (1085, 332)),
    ((1117, 360), (1130, 350), (1143, 360), (1145, 388), (1117, 388), (1118, 362)), ((1124, 337), (1140, 337)),
    ((1160, 330), (1180, 318), (1200, 332), (1200, 380), (1162, 380), (1162, 334)), ((1162, 293), (1195, 293)),
)  # fmt: skip
"""Strokes over the jars on the shelf in that frame, and beside them."""
BESIDE = (
    ((1015, 290), (1100, 270), (1150, 255), (1230, 270)), ((1099, 310), (1101, 380)), ((1014, 300), (1016, 380)),
    ((1226, 300), (1230, 390)), ((1020, 408), (1225, 408)), ((1150, 312), (1128, 318)),
)  # fmt: skip


def whale_behind_the_jars(project: Project, clip: Asset, whale: Asset, crate: FormMotion) -> None:
    """The brass whale on the workshop's shelf, behind the jars that stand there, in the room that the crate's form solved."""
    at = crate.reference_frame
    document = Document(name="A whale behind the jars", footage=footage_of(clip), motions=[crate])
    shot = add_shot(project, document, "Footage and form")

    def strokes(lines: Any, subject: bool) -> list[CutStroke]:
        return [CutStroke(frame=at, subject=subject, width=9.0, points=[(float(x), float(y)) for x, y in line])
                for line in lines]  # fmt: skip

    x, y, z = (round(float(v), 4) for v in in_crate_room(BEHIND_JARS))
    shelf = Perch(id="shelf", name="On the shelf", spot=Spot(x=x, y=y, z=z),
                  follow=Follow(target="crate", reference_frame=at, perspective=True))  # fmt: skip
    model = MeshLayer(
        id="whale", name="Brass whale", asset=whale.digest, extent=whale.info["extent"], tall=0.175, heading=-26.0,
        sun=75.0, sun_heading=-35.0, sun_height=42.0, sun_soft=14.0, sky=45.0, shadow_strength=60.0,
        follow=Follow(target="shelf", reference_frame=at, perspective=True),
    )  # fmt: skip
    jars = PlateLayer(id="jars", name="Jars", key=CutOutKey(strokes=strokes(JARS, True) + strokes(BESIDE, False), band=4.0))
    change_shot(shot.id, "A whale behind the jars",
                lambda d: d.model_copy(update={"perches": [shelf], "stack": [jars, model]}))  # fmt: skip
