"""API: what a shot is made on, and parts of its footage brought in front of what is put behind them."""

from __future__ import annotations

import uuid
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any, Literal

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.api import AssetOut, asset_out
from library.assets import bring_in, find_asset, prepare
from library.models import Asset
from library.pool import pool
from plonket.base.colour import deep_codes
from plonket.base.errors import BadInput
from plonket.document.operations import fresh_id, fresh_name
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.image.picture import premultiplied
from plonket.keying.sky import below_sky, find_sky
from plonket.media.blank import write_blank, write_held
from plonket.media.stills import read_straight
from plonket_server import store
from plonket_server.drawing import draw
from shots.api import shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.operations import OperationOut

router = Router(tags=["footage"])
SKY_FRAMES = 5
"""A sky is looked for in so many frames, over the whole range."""
FEATHER = 0.016
"""Part of the picture's height over which the sky's key gives way below its foot."""


class FromShelf(Schema):
    """A clip that was brought in before."""

    source: Literal["shelf"]
    asset: str


class Empty(Schema):
    """An empty canvas."""

    source: Literal["empty"]
    width: int
    height: int
    rate: str = Field(pattern=r"^[1-9]\d{0,5}(/[1-9]\d{0,5})?$", description="Frames a second, as 30 or 30000/1001")
    frames: int


class Still(Schema):
    """A still of the shelf, for so many frames."""

    source: Literal["still"]
    asset: str
    rate: str = Field(pattern=r"^[1-9]\d{0,5}(/[1-9]\d{0,5})?$", description="Frames a second, as 30 or 30000/1001")
    frames: int


Source = Annotated[FromShelf | Empty | Still, Field(discriminator="source")]


class SourceIn(Schema):
    footage: Source


@router.post("/shots/{shot_id}/footage", response=AssetOut)
def give(request: HttpRequest, shot_id: uuid.UUID, body: SourceIn) -> Any:
    """Make a shot on a clip or a still of the shelf, or on an empty canvas; it is there once the clip is prepared."""
    find_shot(shot_id)
    wanted = body.footage
    if isinstance(wanted, FromShelf):
        asset = find_asset(wanted.asset)
        if asset.kind != Asset.Kind.CLIP:
            raise BadInput("footage.still", f"{asset.name} is no clip, and a shot is made on one.")
        prepare(asset.digest, shot_id)
    elif isinstance(wanted, Still):
        asset = _held(wanted, shot_id)
    else:
        asset = _canvas(wanted, shot_id)
    return asset_out(find_asset(asset.digest))


def _canvas(wanted: Empty, shot_id: uuid.UUID) -> Asset:
    store.root().mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory(dir=store.root()) as folder:
        path = Path(folder) / "canvas.mp4"
        write_blank(path, (wanted.width, wanted.height), Fraction(wanted.rate), wanted.frames)
        return bring_in(path, f"Empty {wanted.width} x {wanted.height}.mp4", shot_id=shot_id, settings={"canvas": True})


def _held(wanted: Still, shot_id: uuid.UUID) -> Asset:
    still = find_asset(wanted.asset)
    if still.kind != Asset.Kind.STILL:
        raise BadInput("footage.no_still", f"{still.name} is no still picture.")
    rgba = premultiplied(read_straight(store.original_path(still.digest, still.ending)))
    codes = deep_codes(rgba[: rgba.shape[0] // 2 * 2, : rgba.shape[1] // 2 * 2])
    with TemporaryDirectory(dir=store.root()) as folder:
        path = Path(folder) / "held.mp4"
        write_held(path, codes, Fraction(wanted.rate), wanted.frames)
        return bring_in(path, f"{still.name}.mp4", shot_id=shot_id)


class FrontIn(Schema):
    what: Literal["screen", "sky", "colours", "strokes"] = Field(
        description="What stays in front: what is before a cloth or the sky, all but some colours, what strokes tell"
    )
    name: str = Field(min_length=1, max_length=80)


@router.post("/shots/{shot_id}/front", response=OperationOut)
def bring_forward(request: HttpRequest, shot_id: uuid.UUID, body: FrontIn) -> Any:
    """The footage as a layer before all others, cut so that what is put under it is behind part of it."""
    document = document_of(find_shot(shot_id))
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    keys = {"screen": {"kind": "screen", "replace": "behind"}, "colours": {"kind": "colours"}, "strokes": {"kind": "cutout"}}
    values = draw(sky_values, document) if body.what == "sky" else {"key": keys[body.what]}
    made: list[str] = []

    def change(now: Document) -> Document | None:
        if now.footage is None:
            return None
        made[:] = [fresh_id(now, "layer")]
        name = fresh_name(body.name, {t.name for t in now.things()})
        data = now.model_dump(mode="json")
        data["stack"].insert(0, {"kind": "plate", "id": made[0], "name": name, **values})
        if body.what == "screen":
            # Else the cloth itself would be seen under what is before it.
            data["footage"]["opacity"] = 0.0
        return read_shot(data)

    shot = change_shot(shot_id, body.name, change)
    return OperationOut(shot=shot_out(shot), made=made[0] if made else None)


def sky_values(document: Document) -> dict[str, Any]:
    """The key and the masks that take the sky off the footage, found in the drawing process. Raises `Degenerate`."""
    footage = document.footage
    assert footage is not None
    clip = pool().clip(footage.asset)
    first, last = footage.clip_range
    count = min(SKY_FRAMES, last - first + 1)
    step = (last - first) / max(count - 1, 1)
    sky = find_sky([clip.rgb(first + round(k * step)) for k in range(count)])
    values: dict[str, Any] = {"key": sky.key.model_dump(mode="json")}
    line = below_sky(sky, FEATHER)
    if line is not None:
        w, h = footage.width, footage.height
        corners = [*(line * (w, h)).tolist(), ((1 + FEATHER) * w, (1 + FEATHER) * h), (-FEATHER * w, (1 + FEATHER) * h)]
        points = [{"x": round(x, 1), "y": round(y, 1)} for x, y in corners]
        values["masks"] = [{
            "kind": "outline", "id": "mask-1", "name": "Below the sky", "mode": "keep", "soft": round(FEATHER * h, 1),
            "outline": {"keys": [{"frame": 0, "points": points}]},
        }]  # fmt: skip
    return values
