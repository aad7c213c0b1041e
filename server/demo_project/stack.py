"""Demo shots that build a stack up: keyed, generated, bent and projected things on the Small Lights clips."""

from __future__ import annotations

from typing import Any

import numpy as np

from library.models import Asset
from plonket.base.fields import Key, Keyed, Wobble, Wobbling
from plonket.base.outlines import polygon_outline
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.retime import hold, ramp, set_speed
from plonket.document.shot import Shot as Document
from plonket.document.spot import Spot
from plonket.generators.cone import LightCone
from plonket.generators.ring import RingOfSparks
from plonket.keying.screen import ScreenKey
from plonket.layers.generated import GeneratedLayer
from plonket.layers.still import StillLayer
from plonket.layers.wash import WashLayer
from plonket.looks.glow import Glow
from plonket.looks.projection import Projection
from plonket.looks.ripple import Ripple
from plonket.looks.wrap import Wrap
from plonket.masks.outlined import OutlineMask
from plonket.room.camera import RoomCamera

LAMP = 75
"""The frame that the lamp's things are placed on."""


def on(motion: str, frame: int) -> Follow:
    return Follow(target=motion, reference_frame=frame)


def size_of(asset: Asset) -> dict[str, Any]:
    return {"asset": asset.digest, "width": asset.info["width"], "height": asset.info["height"]}


def standing_at(camera: RoomCamera, frame: int, pixel: tuple[float, float]) -> Spot:
    """A spot where a pixel meets the set, as far off as the details seen round it; one pixel of it is one of the frame."""
    track = camera.track
    seen = track.kept & np.isfinite(track.xy[:, frame, 0])
    away = np.hypot(*(track.xy[seen, frame] - np.array(pixel)).T)
    near = camera.local(frame, camera.room.points(track.points[seen]))[np.argsort(away)[:7], 2]
    eye, way = camera.ray(frame, np.array(pixel))
    ahead = -camera.turn(frame)[:, 2]
    place = eye + way * float(np.median(near)) / float(way @ ahead)
    millimetres = 1000 * float(np.linalg.norm(place - eye)) / camera.lens(frame).focal
    x, y, z = (float(v) for v in place)
    return Spot(x=x, y=y, z=z, faces="upright", pixel_mm=millimetres)


def round_mask(mask_id: str, name: str, x: float, y: float, rx: float, ry: float, rides: str, **more: Any) -> OutlineMask:
    """An ellipse of eight points, riding on a motion from the lamp's frame on."""
    angle = np.arange(24) * 2 * np.pi / 24
    points = np.stack([x + rx * np.cos(angle), y + ry * np.sin(angle)], axis=1)
    return OutlineMask(id=mask_id, name=name, rides=rides, reference_frame=LAMP, outline=polygon_outline(points, LAMP), **more)


def lamp_opened(tip: tuple[float, float], night: Asset) -> list[LayerBase]:
    """A ring of sparks round the lamp, the air rippling above it, the night harbour seen through its glass."""
    x, y = tip[0] - 2, tip[1] + 50
    ring = GeneratedLayer(
        id="ring", name="Ring of sparks", x=x, y=y, follow=on("lamp", LAMP),
        generator=RingOfSparks(width=190, height=190, rate=90),
        looks=[Glow(id="look-1", name="Glow", radius=9, strength=55)],
    )  # fmt: skip
    air = WashLayer(
        id="air", name="Hot air",
        looks=[Ripple(id="look-1", name="Ripple", amount=5.0, lump=34, rides="to:lamp", reference_frame=LAMP)],
        masks=[round_mask("mask-1", "Above the lamp", x, y - 80, 110, 110, "to:lamp", soft=40.0)],
    )  # fmt: skip
    seen = StillLayer(
        id="seen", name="Night harbour", **size_of(night), x=round(x + 30, 2), y=round(y - 6, 2), size=13.0,
        follow=on("lamp", LAMP),
        masks=[round_mask("mask-1", "Glass", x, y, 23, 20, "to:lamp", soft=3.0)],
        looks=[Ripple(id="look-1", name="Old glass", form="glass", amount=2.0, lump=14, rides="own"),
               Glow(id="look-2", name="Glow", radius=6, threshold=55, strength=40)],
    )  # fmt: skip
    return [ring, air, seen]


def slowly(shot: Document) -> Document:
    """The clip slows down to a third of its speed while what stands in the stack goes on as it was; then it stands still."""
    third = set_speed(shot, 40, 89, 100 / 3)
    return hold(ramp(third, 28, 57), 200, 24)


def ship_in_the_beam(tip: tuple[float, float], ship: Asset) -> list[LayerBase]:
    """A ship of light in the lamp's beam: it comes in and goes out with eased keys, and flickers."""
    x, y = tip[0] - 2, tip[1] + 50
    fade = Keyed(keys=[
        Key(frame=12, value=0, ease="curve", out_time=0.6), Key(frame=46, value=88, ease="linear", in_time=0.25),
        Key(frame=104, value=88, ease="curve", out_time=0.25), Key(frame=138, value=0, in_time=0.6),
    ])  # fmt: skip
    grows = Keyed(keys=[Key(frame=12, value=19, ease="curve", out_time=0.5), Key(frame=138, value=25, in_time=0.5)])
    shown = StillLayer(
        id="ship", name="Little ship", **size_of(ship), x=round(x - 330, 2), y=round(y + 52, 2), size=grows, turn=-3.0,
        opacity=Wobbling(base=fade, wobble=Wobble(kind="flicker", amount=12, every=2, seed=6)), follow=on("lamp", LAMP),
        looks=[Projection(id="look-1", name="Projection", tint="#ffd79a", tinted=75.0, pitch=4.0, bar=45.0),
               Glow(id="look-2", name="Glow", radius=8, threshold=35, strength=60)],
    )  # fmt: skip
    beam = GeneratedLayer(
        id="beam", name="Light beam", x=x, y=y, turn=171.0, follow=on("lamp", LAMP),
        generator=LightCone(length=680, width=26, spread=23, bright=Wobbling(
            base=46.0, wobble=Wobble(kind="flicker", amount=7, every=2, seed=6))),
    )  # fmt: skip
    return [shown, beam]


def keeper_by_night(keeper: Asset, night: Asset) -> list[LayerBase]:
    """The keeper off his cloth, the night harbour behind him, its light wrapped round his edges."""
    subject = StillLayer(
        id="keeper", name="Keeper", **size_of(keeper), x=640.0, y=360.0, key=ScreenKey(lone=90.0, clip_white=72.0),
        looks=[Wrap(id="look-1", name="Light wrap", width=6.0, strength=60.0)],
    )  # fmt: skip
    behind = StillLayer(id="night", name="Night harbour", **size_of(night), x=640.0, y=340.0, size=112.0)
    return [subject, behind]
