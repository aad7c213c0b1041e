"""Loads the Small Lights demo once: clips, shelf elements, a composed shot and untouched ones."""

from __future__ import annotations

import csv
import json
import shutil
import uuid
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.core.management.base import BaseCommand

from jobs.kinds import conform_asset
from library.assets import bring_in
from library.models import Asset, Project
from plonket.layers.beam import Anchor, BeamLayer
from plonket.layers.pin import PinLayer
from plonket.layers.still import StillLayer
from plonket.media import open_clip
from plonket.motion.following import Follow
from plonket.motion.kinds import MOTIONS
from plonket.motion.plane.settings import PlaneMotion, Region
from plonket.motion.points.settings import Given, PointMotion, TrackPoint
from plonket.outline import polygon_outline
from plonket.plate.mend import Mend
from plonket.plate.steady import Steady
from plonket.shot import Footage
from plonket.shot import Shot as Document
from plonket_server import store
from shots.editing import add_shot, change_shot, document_of

CLIPS = {"workshop": "Workshop wall", "harbour": "Harbour bench", "keeper": "Keeper on green"}


class Command(BaseCommand):
    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        mark = store.root() / "demo-loaded"
        if mark.exists() or not (settings.DEMO / "clips").exists():
            return
        load_demo()
        mark.touch()


def load_demo() -> Project:
    """Bring everything in and compose the first shot. A load that was cut short is begun afresh."""
    Project.objects.filter(name="Small Lights").delete()
    shelf = json.loads((settings.DEMO / "shelf" / "shelf.json").read_text())
    elements = {
        e["name"]: _take(settings.DEMO / "shelf" / e["file"], e["name"], words=e["words"], settings=e["settings"])
        for e in shelf
    }
    clips = {key: _take(settings.DEMO / "clips" / f"{key}.mp4", name) for key, name in CLIPS.items()
             if (settings.DEMO / "clips" / f"{key}.mp4").exists()}  # fmt: skip
    project = Project.objects.create(name="Small Lights")
    if "harbour" in clips:
        add_shot(project, Document(name="Harbour, untouched", footage=footage_of(clips["harbour"])), "Footage")
    if "keeper" in clips:
        _lanterns(project, clips["keeper"], elements)
        _bare_cloth(project, clips["keeper"])
    chart = _night_chart(project, clips["workshop"], elements)
    _held_chart(project, clips["workshop"], chart)
    _chart_wall(project, clips["workshop"], elements)
    return project


def footage_of(asset: Asset) -> Footage:
    """The whole clip as a shot's footage."""
    info = asset.info
    return Footage(asset=asset.digest, name=asset.name, width=info["width"], height=info["height"], rate=info["fps"],
                   frames=info["frames"], in_frame=0, out_frame=info["frames"] - 1)  # fmt: skip


def _take(path: Path, name: str, **known: Any) -> Asset:
    part = store.upload_path(path.stem)
    shutil.copyfile(path, part)
    asset = bring_in(part, name + path.suffix, on_shelf=True, conform_now=True, **known)
    if asset.kind == Asset.Kind.CLIP and asset.state != Asset.State.READY:
        # The strip is written last: with it there, an earlier load got as far.
        if not (store.derived_folder(asset.digest) / "strip.jpg").exists():
            conform_asset(asset)
        Asset.objects.filter(pk=asset.pk).update(state=Asset.State.READY)
        asset.refresh_from_db()
    return asset


def _true_points(clip: str, frame: int) -> dict[str, tuple[float, float]]:
    """Where the set's named points are in a frame, from the truth beside the clip."""
    with (settings.DEMO / "truth" / clip / "points.csv").open() as f:
        return {r["name"]: (float(r["x"]), float(r["y"])) for r in csv.DictReader(f) if int(r["frame"]) == frame}


def _chart_wall(project: Project, clip: Asset, elements: dict[str, Asset]) -> None:
    at = 75
    truth = _true_points("workshop", at)
    lamp = PointMotion(id="lamp", name="Lamp tip", points=[_point("lamp-tip", "Lamp tip", at, *truth["lamp tip"])])
    tacks = PointMotion(
        id="chart", name="Chart tacks",
        points=[_point("tack-1", "Left tack", at, *truth["tack top left"]),
                _point("tack-2", "Right tack", at, *truth["tack top right"])],
    )  # fmt: skip
    document = Document(name="Chart wall, take 3", footage=footage_of(clip), motions=[lamp, tacks])
    shot = add_shot(project, document, "Footage and points")
    _measure(shot.id, clip)
    boat, flare = elements["Paper boat"], elements["Lamp flare"]
    left, right = truth["tack top left"], truth["tack top right"]
    middle = ((left[0] + right[0]) / 2, (left[1] + right[1]) / 2)
    stack = [
        _still("flare", "Lamp flare", flare, truth["lamp tip"][0] - 2, truth["lamp tip"][1] + 54, "lamp", at, size=84.0,
               blend="add"),  # fmt: skip
        _still("boat", "Paper boat", boat, middle[0] - 90, middle[1] + 214, "chart", at, size=16.0, turn=-6.0),
    ]
    change_shot(shot.id, "Plonk the boat and the flare", lambda d: d.model_copy(update={"stack": stack}))


def _measure(shot_id: uuid.UUID, clip: Asset) -> None:
    """Measure every motion of a shot here and now."""
    reader = open_clip(store.derived_folder(clip.digest) / "clip.mp4")

    def change(document: Document) -> Document:
        measured = []
        for motion in document.motions:
            digest = store.keep_measurement(MOTIONS.get(motion.kind).run(motion, reader).to_bytes())
            measured.append(motion.model_copy(update={"measurement": digest}))
        return document.model_copy(update={"motions": measured})

    change_shot(shot_id, "Measure", change)
    reader.close()


def _night_chart(project: Project, clip: Asset, elements: dict[str, Asset]) -> PlaneMotion:
    """The sea chart on the wall replaced by its night version, pinned to the measured plane, which is returned."""
    at = 75
    truth = json.loads((settings.DEMO / "truth" / "workshop" / "planes.json").read_text())
    a, b, c, d = ((round(x, 2), round(y, 2)) for x, y in truth["corners"]["sea chart"][at])
    chart = PlaneMotion(
        id="chart", name="Sea chart", reference_frame=at, quad=(a, b, c, d),
        regions=[Region(id="region-1", name="Chart outline", outline=polygon_outline(np.array([a, b, c, d]), at))],
    )  # fmt: skip
    document = Document(name="Night chart on the wall", footage=footage_of(clip), motions=[chart])
    shot = add_shot(project, document, "Footage and plane")
    _measure(shot.id, clip)
    night = elements["Night chart"]
    pinned = PinLayer(id="night", name="Night route", asset=night.digest, width=night.info["width"],
                      height=night.info["height"], plane="chart", shutter=120.0)  # fmt: skip
    changed = change_shot(shot.id, "Pin the night chart", lambda d: d.model_copy(update={"stack": [pinned]}))
    measured = document_of(changed).motion("chart")
    assert isinstance(measured, PlaneMotion)
    return measured


def _held_chart(project: Project, clip: Asset, chart: PlaneMotion) -> None:
    """The workshop locked on its chart, its borders filled from other frames."""
    document = Document(name="The chart held still", footage=footage_of(clip), motions=[chart])
    shot = add_shot(project, document, "Footage and plane")
    steady = Steady(id="steady", name="Steady", targets=["chart"], reference_frame=chart.reference_frame, fit="fill")
    change_shot(shot.id, "Lock it on the chart", lambda d: d.model_copy(update={"plate": [steady]}))


def _lanterns(project: Project, clip: Asset, elements: dict[str, Asset]) -> None:
    """A string of little lanterns hung between the keeper's wands, swinging with them."""
    at = 50
    truth = _true_points("keeper", at)
    wands = PointMotion(
        id="wands", name="Wands",
        points=[_point(side, f"{side.capitalize()} wand", at, *truth[f"wand {side}"]).model_copy(
            update={"pattern_px": 37.0, "reach_px": 60.0}) for side in ("left", "right")],
    )  # fmt: skip
    document = Document(name="Lanterns for the keeper", footage=footage_of(clip), motions=[wands])
    shot = add_shot(project, document, "Footage and points")
    _measure(shot.id, clip)
    lantern = elements["Lantern"]
    string = BeamLayer(
        id="string", name="Lantern string", curve="hanging", sag=22.0, width=3.0, colour="#8a6b45", glow=0.0, held_at=19.0,
        anchors=[Anchor(target="wands", point="left"), Anchor(target="wands", point="right")],
        bead=lantern.digest, bead_width=lantern.info["width"], bead_height=lantern.info["height"], beads=7, bead_size=16.0,
    )  # fmt: skip
    change_shot(shot.id, "Hang the lanterns", lambda d: d.model_copy(update={"stack": [string]}))


def _bare_cloth(project: Project, clip: Asset) -> None:
    """The tape crosses taken off the green cloth, whose uneven light goes on underneath."""
    at = 50
    truth = _true_points("keeper", at)
    marks = PointMotion(
        id="marks", name="Cloth marks", gives="perspective",
        points=[_point(f"cross-{k}", f"Cross {k}", at, *truth[f"cross {k}"]).model_copy(
            update={"pattern_px": 61.0, "reach_px": 40.0}) for k in (1, 2, 3, 4, 6)],
    )  # fmt: skip
    document = Document(name="Crosses off the cloth", footage=footage_of(clip), motions=[marks])
    shot = add_shot(project, document, "Footage and points")
    _measure(shot.id, clip)
    # A square round each, a little wider to the lower right, where its shadow lies.
    square = np.array([[-36, -36], [42, -36], [42, 42], [-36, 42]], np.float64)
    mends = [
        Mend(id=f"mend-{k}", name=f"Cross {k}", method="edges", target="marks", reference_frame=at,
             outline=polygon_outline(square + truth[f"cross {k}"], at)) for k in (1, 2, 3, 4, 6)
    ]  # fmt: skip
    change_shot(shot.id, "Take the crosses off", lambda d: d.model_copy(update={"plate": mends}))


def _point(point_id: str, name: str, frame: int, x: float, y: float) -> TrackPoint:
    return TrackPoint(id=point_id, name=name, given=[Given(frame=frame, x=round(x, 2), y=round(y, 2))])


def _still(layer_id: str, name: str, asset: Asset, x: float, y: float, motion: str, frame: int, **more: Any) -> StillLayer:
    return StillLayer(
        id=layer_id, name=name, asset=asset.digest, width=asset.info["width"], height=asset.info["height"],
        x=round(x, 2), y=round(y, 2), follow=Follow(target=motion, reference_frame=frame), **more,
    )  # fmt: skip
