"""Loads the Small Lights demo once: clips, shelf elements, a composed shot and untouched ones."""

from __future__ import annotations

import csv
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.core.management.base import BaseCommand

from demo_project.front import boat_behind_the_lamp, dusk_in_the_window, keeper_on_watch, whale_behind_the_jars
from demo_project.parts import footage_of, measure
from demo_project.rooms import (
    boards_come_down,
    cabin_on_the_crate,
    on_the_quay,
    paper_town,
    whale_behind_the_lighthouse,
    whale_on_the_bench,
)
from demo_project.stack import LAMP, keeper_by_night, lamp_opened, ship_in_the_beam, slowly
from frames.drawn import thumb_jpeg
from library.assets import bring_in
from library.models import Asset, Project
from library.pool import pool
from library.work import conform_asset
from plonket.base.colour import encode_8bit, linear_from_codes
from plonket.base.outlines import Outline, polygon_outline
from plonket.document.bases import LayerBase, Mask
from plonket.document.follow import Follow
from plonket.document.operations import with_values
from plonket.document.shot import Shot as Document
from plonket.layers.beam import Anchor, BeamLayer
from plonket.layers.pin import PinLayer
from plonket.layers.still import StillLayer
from plonket.masks.graded import GradedMask
from plonket.masks.outlined import OutlineMask
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.plate.clean import Clean, CleanFrame
from plonket.plate.mend import Mend
from plonket.plate.stabilise import Steady
from plonket.render.match import match_to_plate
from plonket.render.sources import ShotSources
from plonket.track.plane.settings import PlaneMotion, Region
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket_server import store
from shots.editing import add_shot, change_shot, document_of, thumb_frame
from shots.models import Shot

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
        marks = _bare_cloth(project, clips["keeper"])
        keeper_on_watch(project, clips["keeper"], elements["Night harbour"], marks)
    if "harbour" in clips:
        _clean_lens(project, clips["harbour"])
        if "keeper" in clips:
            on_the_quay(project, clips["harbour"], clips["keeper"])
        camera = whale_on_the_bench(project, clips["harbour"], elements["Brass whale"], elements["Cargo crate"])
        paper_town(project, clips["harbour"], elements["Little cabin"], elements["Paper moth"], camera)
        whale_behind_the_lighthouse(project, clips["harbour"], elements["Brass whale"])
    if "keeper" in clips:
        _by_night(project, clips["keeper"], elements["Night harbour"])
    _lamp(project, "A ship in the beam", clips["workshop"], lambda tip: ship_in_the_beam(tip, elements["Little ship"]))
    night = elements["Night harbour"]
    _lamp(project, "The lamp opened", clips["workshop"], lambda tip: lamp_opened(tip, night))
    _lamp(project, "The lamp, slowly", clips["workshop"], lambda tip: lamp_opened(tip, night), slowly)
    crate = cabin_on_the_crate(project, clips["workshop"], elements["Little cabin"], elements["Window light"])
    whale_behind_the_jars(project, clips["workshop"], elements["Brass whale"], crate)
    boards_come_down(project, clips["workshop"], crate, elements["Cargo crate"])
    _no_tin(project, clips["workshop"], elements)
    chart = _night_chart(project, clips["workshop"], elements)
    dusk_in_the_window(project, clips["workshop"], elements["Dusk sky"], chart)
    boat_behind_the_lamp(project, clips["workshop"], elements["Paper boat"], chart)
    _held_chart(project, clips["workshop"], chart)
    _chart_wall(project, clips["workshop"], elements)
    for shot in Shot.objects.filter(project=project).select_related("current"):
        # Made ahead, so that the first look at the Projects page has them at once.
        if shot.current is not None:
            thumb_jpeg(shot.id, shot.current.picture, thumb_frame(shot.current.document))
    return project


def _take(path: Path, name: str, **known: Any) -> Asset:
    part = store.upload_path(path.stem)
    shutil.copyfile(path, part)
    asset = bring_in(part, name + path.suffix, on_shelf=True, conform_now=True, **known)
    if asset.kind == Asset.Kind.CLIP and asset.state != Asset.State.READY:
        # The clip is put in place last: with it there, an earlier load got as far.
        if not (store.derived_folder(asset.digest) / "clip.mp4").exists():
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
    measure(shot.id, clip)
    boat, flare = elements["Paper boat"], elements["Lamp flare"]
    left, right = truth["tack top left"], truth["tack top right"]
    middle = ((left[0] + right[0]) / 2, (left[1] + right[1]) / 2)
    stack = [
        _still("flare", "Lamp flare", flare, truth["lamp tip"][0] - 2, truth["lamp tip"][1] + 54, "lamp", at, size=84.0,
               blend="add"),  # fmt: skip
        _still("boat", "Paper boat", boat, middle[0] - 90, middle[1] + 214, "chart", at, size=16.0, turn=-6.0),
    ]
    change_shot(shot.id, "Plonk the boat and the flare", lambda d: d.model_copy(update={"stack": stack}))


_measured: dict[tuple[str, str], str] = {}
"""What was measured in this load, by clip and motion: several shots follow the same thing."""



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
    measure(shot.id, clip)
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


def _no_tin(project: Project, clip: Asset, elements: dict[str, Asset]) -> None:
    """The tea tin taken off the bench by a clean frame, and a paper boat with a masked hull in its place."""
    at = 75

    def box(x0: float, y0: float, x1: float, y1: float) -> Outline:
        return polygon_outline(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64), at)

    bench = PlaneMotion(
        id="bench", name="Round the tin", reference_frame=at, quad=((640, 480), (990, 480), (990, 700), (640, 700)),
        regions=[Region(id="region-1", name="Bench and planks", outline=box(600, 455, 985, 712)),
                 Region(id="region-2", name="Not the tin", use=False, outline=box(740, 545, 915, 700))],
    )  # fmt: skip
    document = Document(name="A boat for the tin", footage=footage_of(clip), motions=[bench])
    shot = add_shot(project, document, "Footage and plane")
    measure(shot.id, clip)
    round_it = [(724, 556), (752, 541), (826, 541), (858, 556), (870, 606), (918, 636), (918, 694), (790, 703), (726, 694)]
    mask = OutlineMask(id="mask-1", name="Tin and shadow", rides="to:bench", reference_frame=at, soft=5.0,
                       outline=polygon_outline(np.array(round_it, np.float64), at))  # fmt: skip
    clean = Clean(id="clean", name="No tin", target="bench", masks=[mask], frames=[CleanFrame(frame=at, suggest=True, seed=2)])
    boat = elements["Paper boat"]
    foot = GradedMask(
        id="mask-1", name="Foot", rides="to:bench", reference_frame=at, from_x=800, from_y=672, to_x=800, to_y=682
    )
    layer = _still("boat", "Paper boat", boat, 806, 642, "bench", at, size=20.0, turn=2.0, masks=[foot])
    change_shot(shot.id, "A boat for the tin", lambda d: d.model_copy(update={"plate": [clean], "stack": [layer]}))




def _lamp(
    project: Project, name: str, clip: Asset, stack: Callable[[tuple[float, float]], list[LayerBase]],
    runs: Callable[[Document], Document] | None = None,
) -> None:  # fmt: skip
    """Things on the lamp of the workshop wall, whose tip is followed; `runs` lets the footage run otherwise."""
    tip = _true_points("workshop", LAMP)["lamp tip"]
    lamp = PointMotion(id="lamp", name="Lamp tip", points=[_point("lamp-tip", "Lamp tip", LAMP, *tip)])
    shot = add_shot(project, Document(name=name, footage=footage_of(clip), motions=[lamp]), "Footage and point")
    measure(shot.id, clip)
    change_shot(shot.id, "Build it up", lambda d: d.model_copy(update={"stack": stack(tip)}))
    if runs is not None:
        change_shot(shot.id, "Let it run otherwise", runs)


def _by_night(project: Project, keeper: Asset, night: Asset) -> None:
    """The keeper before the night harbour, matched to it."""
    document = Document(name="The keeper by night", footage=footage_of(keeper), stack=keeper_by_night(keeper, night))
    shot = add_shot(project, document, "Key the keeper")
    found = match_to_plate(document, ShotSources(document, pool()), "keeper", 50)
    change_shot(shot.id, "Match Keeper to the plate", lambda d: with_values(d, "keeper", {"looks": found.looks}))


SPECK = (702, 286)


def _clean_lens(project: Project, clip: Asset) -> None:
    """A speck on the lens, out of focus, filmed over the harbour and borrowed away from the frames that see past it."""
    part = store.upload_path("speck.mp4")
    reader = open_clip(store.derived_folder(clip.digest) / "clip.mp4")
    y, x = np.mgrid[0 : reader.info.height, 0 : reader.info.width]
    dark = np.exp(-((np.hypot(x - SPECK[0], (y - SPECK[1]) * 1.15) / 7.5) ** 4))[..., None]
    with VideoWriter(part, reader.info.size, reader.info.rate, coding=Coding(crf=18.0)) as out:
        for i in range(60):
            light = linear_from_codes(reader.rgb(i)) * (1 - 0.85 * dark) + 0.004 * dark
            out.write(encode_8bit(light.astype(np.float32)))
    reader.close()
    asset = bring_in(part, "Harbour with a speck.mp4", on_shelf=True, conform_now=True)
    if asset.state != Asset.State.READY:
        conform_asset(asset)
        Asset.objects.filter(pk=asset.pk).update(state=Asset.State.READY)
        asset.refresh_from_db()
    around = np.array([[-15, -13], [15, -13], [15, 13], [-15, 13]], np.float64) + SPECK
    mask = OutlineMask(id="mask-1", name="Speck", outline=polygon_outline(around))
    mend = Mend(id="mend", name="Speck", method="time", masks=[mask])
    add_shot(project, Document(name="A speck off the lens", footage=footage_of(asset), plate=[mend]), "Footage and mend")


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
    measure(shot.id, clip)
    lantern = elements["Lantern"]
    string = BeamLayer(
        id="string", name="Lantern string", curve="hanging", sag=22.0, width=3.0, colour="#8a6b45", glow=0.0, held_at=19.0,
        anchors=[Anchor(target="wands", point="left"), Anchor(target="wands", point="right")],
        bead=lantern.digest, bead_width=lantern.info["width"], bead_height=lantern.info["height"], beads=7, bead_size=16.0,
    )  # fmt: skip
    change_shot(shot.id, "Hang the lanterns", lambda d: d.model_copy(update={"stack": [string]}))


def _bare_cloth(project: Project, clip: Asset) -> PointMotion:
    """The tape crosses, which are followed and returned, taken off the green cloth, whose uneven light goes on underneath."""
    at = 50
    truth = _true_points("keeper", at)
    marks = PointMotion(
        id="marks", name="Cloth marks", gives="perspective",
        points=[_point(f"cross-{k}", f"Cross {k}", at, *truth[f"cross {k}"]).model_copy(
            update={"pattern_px": 61.0, "reach_px": 40.0}) for k in (1, 2, 3, 4, 6)],
    )  # fmt: skip
    document = Document(name="Crosses off the cloth", footage=footage_of(clip), motions=[marks])
    shot = add_shot(project, document, "Footage and points")
    measure(shot.id, clip)
    # A square round each, a little wider to the lower right, where its shadow lies.
    square = np.array([[-36, -36], [42, -36], [42, 42], [-36, 42]], np.float64)
    masks: list[Mask] = [
        OutlineMask(id=f"mask-{k}", name=f"Cross {k}", rides="to:marks", reference_frame=at,
                    outline=polygon_outline(square + truth[f"cross {k}"], at)) for k in (1, 2, 3, 4, 6)
    ]  # fmt: skip
    mends = [Mend(id="mend", name="Crosses", method="edges", masks=masks)]
    changed = change_shot(shot.id, "Take the crosses off", lambda d: d.model_copy(update={"plate": mends}))
    measured = document_of(changed).motion("marks")
    assert isinstance(measured, PointMotion)
    return measured


def _point(point_id: str, name: str, frame: int, x: float, y: float) -> TrackPoint:
    return TrackPoint(id=point_id, name=name, given=[Given(frame=frame, x=round(x, 2), y=round(y, 2))])


def _still(layer_id: str, name: str, asset: Asset, x: float, y: float, motion: str, frame: int, **more: Any) -> StillLayer:
    return StillLayer(
        id=layer_id, name=name, asset=asset.digest, width=asset.info["width"], height=asset.info["height"],
        x=round(x, 2), y=round(y, 2), follow=Follow(target=motion, reference_frame=frame), **more,
    )  # fmt: skip
