"""Demo shots in solved rooms."""

from __future__ import annotations

import json

import numpy as np
from django.conf import settings

from demo_project.parts import footage_of, measure
from demo_project.stack import size_of, standing_at
from library.models import Asset, Project
from library.pool import pool
from plonket.base.fields import Key, Keyed
from plonket.document.follow import Follow
from plonket.document.perch import Perch
from plonket.document.shot import Shot as Document
from plonket.document.spot import Spot
from plonket.generators.smoke import Smoke
from plonket.generators.sparks import RisingSparks
from plonket.keying.screen import ScreenKey
from plonket.layers.breaking import BreakingLayer
from plonket.layers.form import FormLayer
from plonket.layers.generated import GeneratedLayer
from plonket.layers.light import DomeLayer, LampLayer
from plonket.layers.model import MeshLayer
from plonket.layers.solid import landing
from plonket.layers.still import StillLayer
from plonket.looks.colour import Colour
from plonket.looks.haze import Haze
from plonket.looks.wrap import Wrap
from plonket.render.sources import ShotSources
from plonket.track.camera.settings import CameraMotion
from plonket.track.depth.settings import DepthMotion
from plonket.track.form.fit import with_tugs
from plonket.track.form.settings import FormMotion, Tug
from shots.editing import add_shot, change_shot, document_of, find_shot
from synth.phone.sets.workshop import CRATE_CORNERS, CRATE_FOOT, CRATE_SIZE, CRATE_TURN, crate_seen, in_crate_room

BEAT = 10
"""Frames of a beat of a paper moth's wings."""


def keyed(*keys: tuple[int, float]) -> Keyed:
    """A number that goes from value to value at those frames."""
    return Keyed(keys=[Key(frame=frame, value=round(value, 4)) for frame, value in keys])


def on_the_quay(project: Project, plate: Asset, subject: Asset) -> None:
    """The keeper taken off his green cloth, tape crosses and all, and stood on the quay of the solved harbour."""
    at = 60
    camera = CameraMotion(id="camera", name="Camera", reference_frame=at)
    shot = add_shot(project, Document(name="The keeper on the quay", footage=footage_of(plate), motions=[camera]), "Footage")
    measure(shot.id, plate)

    def stand(now: Document) -> Document:
        solved = ShotSources(now, pool()).camera("camera")
        assert solved is not None
        spot = standing_at(solved, at, (662.0, 332.0))
        perch = Perch(id="quay", name="Quay", spot=spot, follow=Follow(target="camera", reference_frame=at, perspective=True))
        keeper = StillLayer(
            id="keeper", name="Keeper", **size_of(subject), x=0.0, y=-85.0, size=34.0, after="loop",
            key=ScreenKey(lone=90.0, clip_white=72.0),
            follow=Follow(target="quay", reference_frame=at, perspective=True), looks=[
                Colour(id="look-1", name="Colour", exposure=-0.15, warm=14.0),
                Wrap(id="look-2", name="Light wrap", width=4.0, strength=45.0),
            ],
        )  # fmt: skip
        return now.model_copy(update={"perches": [perch], "stack": [keeper]})

    change_shot(shot.id, "The keeper off his cloth", stand)


def whale_on_the_bench(project: Project, clip: Asset, whale: Asset, crate: Asset) -> CameraMotion:
    """The brass whale on the bench before the solved harbour, with a crate behind it, and their shadows; its camera."""
    at = 60
    camera = CameraMotion(id="camera", name="Camera", reference_frame=at)
    shot = add_shot(project, Document(name="A whale on the bench", footage=footage_of(clip), motions=[camera]), "Footage")
    measure(shot.id, clip)

    def stand(now: Document) -> Document:
        solved = ShotSources(now, pool()).camera("camera")
        assert solved is not None
        spot = standing_at(solved, at, (1010.0, 652.0)).model_copy(update={"faces": "still"})
        bench = Perch(id="bench", name="Bench", spot=spot, follow=Follow(target="camera", reference_frame=at, perspective=True))
        model = MeshLayer(
            id="whale", name="Brass whale", asset=whale.digest, extent=whale.info["extent"], tall=0.15, heading=-24.0,
            sun=85.0, sun_heading=-35.0, sun_height=58.0, sun_soft=8.0, sky=70.0,
            follow=Follow(target="bench", reference_frame=at, perspective=True),
        )  # fmt: skip
        beside = spot.model_copy(update={"x": float(spot.x) + 0.16, "z": float(spot.z) - 0.1})  # type: ignore[arg-type]
        follow = Follow(target="camera", reference_frame=at, perspective=True)
        back = Perch(id="back", name="Behind it", spot=beside, follow=follow)
        box = MeshLayer(
            id="crate", name="Cargo crate", asset=crate.digest, extent=crate.info["extent"], tall=0.13, heading=28.0,
            lit_like="whale",
            follow=Follow(target="back", reference_frame=at, perspective=True),
        )  # fmt: skip
        # In focus is the whale, however the camera goes; what is as far as the houses is soft.
        focus = Haze(
            id="look-1", name="Focus on the whale", does="blur", goes="room", sides="both", radius=4.0, rides="to:bench",
            reference_frame=at, near_x=0.0, near_y=-45.0, far_x=-560.0, far_y=-320.0,
        )  # fmt: skip
        return now.model_copy(update={"perches": [bench, back], "stack": [model, box], "finish": [focus]})

    change_shot(shot.id, "Stand the whale and a crate on the bench", stand)
    solved = document_of(find_shot(shot.id)).motion("camera")
    assert isinstance(solved, CameraMotion)
    return solved


def paper_town(project: Project, clip: Asset, cabin: Asset, moth: Asset, camera: CameraMotion) -> None:
    """A dozen cabins of one model on the bench before the harbour, which lies in a haze that grows with distance; a paper moth
    flutters over them."""
    at = camera.reference_frame
    shot = add_shot(project, Document(name="A paper town in the haze", footage=footage_of(clip), motions=[camera]), "Footage")

    def build(now: Document) -> Document:
        solved = ShotSources(now, pool()).camera(camera.id)
        assert solved is not None
        # On the bench as the whale stands on it, nearer and to the left.
        foot = standing_at(solved, at, (1010.0, 652.0))
        x, z = float(foot.x) - 0.27, float(foot.z) + 0.145  # type: ignore[arg-type]
        spot = foot.model_copy(update={"faces": "still", "x": x, "z": z})
        perch = Perch(id="town", name="Town", spot=spot, follow=Follow(target=camera.id, reference_frame=at, perspective=True))
        town = MeshLayer(
            id="cabins", name="Paper town", asset=cabin.digest, extent=cabin.info["extent"], tall=0.062, heading=-14.0,
            surface="paper", across=6, deep=2, across_gap=0.098, deep_gap=0.075, scattered=35.0, copies_sized=22.0,
            copies_turned=22.0, copies_seed=4, sun=150.0, sun_heading=-35.0, sun_height=58.0, sun_soft=8.0, sky=160.0,
            follow=Follow(target="town", reference_frame=at, perspective=True),
        )  # fmt: skip
        # In flight: from behind the town over its roofs to the front, bobbing with each beat of its wings.
        frames = range(0, clip.info["frames"], BEAT // 2)
        path = spot.model_copy(update={
            "x": keyed((0, x - 0.42), (80, x + 0.02), (159, x + 0.34)),
            "z": keyed((0, z - 0.3), (80, z + 0.02), (159, z - 0.12)),
            "y": keyed(*((k, 0.16 + 0.03 * np.sin(k / 19) + 0.006 * (k // (BEAT // 2) % 2)) for k in frames)),
            "tilt": 48.0, "heading": keyed((0, -30.0), (80, 14.0), (159, 40.0)), "pixel_mm": 0.21,
        })  # fmt: skip
        air = perch.model_copy(update={"id": "air", "name": "In the air", "spot": path})
        flutters = StillLayer(
            id="moth", name="Paper moth", **size_of(moth), hinged=True,
            fold=keyed(*((k, -18.0 if k // (BEAT // 2) % 2 else 62.0) for k in frames)), shutter=180.0,
            follow=Follow(target="air", reference_frame=at, perspective=True),
        )  # fmt: skip
        haze = Haze(
            id="look-1", name="Haze over the harbour", goes="room", colour="#c3ccd2", density=50.0, rides="to:town",
            reference_frame=at, near_x=0.0, near_y=-20.0, far_x=-560.0, far_y=-360.0,
        )  # fmt: skip
        return now.model_copy(update={"perches": [perch, air], "stack": [flutters, town], "finish": [haze]})

    change_shot(shot.id, "A paper town in the haze", build)


def whale_behind_the_lighthouse(project: Project, clip: Asset, whale: Asset) -> None:
    """The brass whale afloat in the harbour, behind its lighthouse and quay by the clip's measured depth: nothing is drawn."""
    at = 40
    camera = CameraMotion(id="camera", name="Camera", reference_frame=60)
    footage = footage_of(clip)
    shot = add_shot(project, Document(name="A whale behind the lighthouse", footage=footage, motions=[camera]), "Footage")
    measure(shot.id, clip)
    depth = DepthMotion(id="depth", name="Depth", camera="camera", quality="quick")
    part = footage.model_copy(update={"in_frame": at - 12, "out_frame": at + 11})
    change_shot(shot.id, "Ask for its depth",
                lambda now: now.model_copy(update={"motions": [*now.motions, depth], "footage": part}))  # fmt: skip
    measure(shot.id, clip)

    def swim(now: Document) -> Document:
        found = landing(ShotSources(now, pool()), "camera", at, (381.0, 430.0))
        assert found is not None
        x, y, z = (float(v) for v in found.place)
        perch = Perch(id="sea", name="Sea", spot=Spot(x=x, y=y - 0.036, z=z),
                      follow=Follow(target="camera", reference_frame=at, perspective=True))  # fmt: skip
        model = MeshLayer(
            id="whale", name="Brass whale", asset=whale.digest, extent=whale.info["extent"], tall=0.17, heading=20.0,
            sun=85.0, sun_heading=-35.0, sun_height=58.0, sun_soft=8.0, sky=70.0,
            follow=Follow(target="sea", reference_frame=at, perspective=True),
        )  # fmt: skip
        return now.model_copy(update={"perches": [perch], "stack": [model]})

    change_shot(shot.id, "A whale on the water", swim)


def cabin_on_the_crate(project: Project, clip: Asset, cabin: Asset, light: Asset) -> FormMotion:
    """A box tugged on to the crate in the workshop and followed by its boards, which is returned; a lit cabin in its place."""
    at = 75
    form = FormMotion(id="crate", name="Crate", reference_frame=at, tall=CRATE_SIZE[1], moves="camera")
    truth = json.loads((settings.DEMO / "truth" / "workshop" / "camera.json").read_text())
    # All corners but the one at its back, on the bench, which nobody sees.
    seen = crate_seen(truth, at).round(1).tolist()
    tugs = [Tug(at=corner, x=x, y=y) for corner, (x, y) in zip(CRATE_CORNERS, seen, strict=True)][1:]
    form = with_tugs(form, at, tugs, (clip.info["width"], clip.info["height"]))
    document = Document(name="The crate is a cabin", footage=footage_of(clip), motions=[form])
    shot = add_shot(project, document, "Footage and form")
    measure(shot.id, clip)
    follow = Follow(target="place", reference_frame=at, perspective=True)
    place = Perch(id="place", name="On the crate's place", spot=Spot(),
                  follow=Follow(target="crate", reference_frame=at, perspective=True))  # fmt: skip
    size = cabin.info["extent"]
    model = MeshLayer(
        id="cabin", name="Little cabin", asset=cabin.digest, extent=size, tall=round(size[1] * 1.03, 4), sun=45.0,
        sun_heading=-60.0, sun_height=50.0, sun_soft=12.0, shadow_strength=55.0, follow=follow,
    )  # fmt: skip
    dome = DomeLayer(id="light", name="Window light", asset=light.digest, strength=55.0,
                     follow=Follow(target="crate", reference_frame=at, perspective=True))  # fmt: skip
    aside = Perch(id="aside", name="Beside the rope", spot=Spot(x=0.45, z=0.35),
                  follow=Follow(target="crate", reference_frame=at, perspective=True))  # fmt: skip
    lamp = LampLayer(
        id="lamp", name="Lamp from the right", lift=0.35, heading=-128.0, tilt=25.0, strength=30.0, wide=0.3, tall=0.2,
        colour="#ffca8a", follow=Follow(target="aside", reference_frame=at, perspective=True),
    )  # fmt: skip
    changed = change_shot(shot.id, "A cabin in its place",
                          lambda d: d.model_copy(update={"perches": [place, aside], "stack": [model, dome, lamp]}))  # fmt: skip
    measured = document_of(changed).motion("crate")
    assert isinstance(measured, FormMotion)
    return measured


def boards_come_down(project: Project, clip: Asset, crate: FormMotion, small: Asset) -> None:
    """Three boards of the workshop's wall break out and fall on the bench; a small crate drops after them."""
    at, begins = crate.reference_frame, 40
    shot = add_shot(project, Document(name="The wall gives way", footage=footage_of(clip), motions=[crate]), "Footage and form")

    def perch(name: str, place: tuple[float, float, float], heading: float = 0.0) -> Perch:
        x, y, z = (round(float(v), 4) for v in in_crate_room(place))
        return Perch(id=name.lower().replace(" ", "-").replace("'", "-"), name=name, spot=Spot(x=x, y=y, z=z, heading=heading),
                     follow=Follow(target="crate", reference_frame=at, perspective=True))  # fmt: skip

    def on(name: str) -> Follow:
        return Follow(target=name, reference_frame=at, perspective=True)

    boards = BreakingLayer(
        id="boards", name="Boards", on="wall", roll=90.0, wide=0.236, deep=0.5, from_frame=at, inside="#a67a4e",
        pattern="planks", rows=2, pieces=4, seed=3, falls_from=begins, runs=10, gap=0.003, thick=0.024, hollow=0.14, falling=3,
        pushed=0.45, tumbles=90.0, sun=75.0, sun_heading=-35.0, sun_height=42.0, sun_soft=14.0, sky=45.0, follow=on("wall"),
    )  # fmt: skip
    really = [
        FormLayer(id="real-tin", name="Tin, really there", shape="cylinder", wide=0.107, tall=0.143, deep=0.107,
                  follow=on("tin")),
        FormLayer(id="real-rope", name="Rope, really there", shape="cylinder", wide=0.15, tall=0.08, deep=0.15,
                  follow=on("rope")),
        FormLayer(id="real-crate", name="Crate, really there", wide=CRATE_SIZE[0], tall=CRATE_SIZE[1], deep=CRATE_SIZE[2],
                  follow=on("crate-s-foot")),
    ]  # fmt: skip
    box = MeshLayer(
        id="small-crate", name="Small crate", asset=small.digest, extent=small.info["extent"], tall=0.075, heading=24.0,
        lift=0.55, falls=True, falls_from=begins + 26, tumbles=200.0, heavy=150.0, begins=begins + 26, lit_like="boards",
        follow=on("bench"),
    )  # fmt: skip
    sparks = GeneratedLayer(
        id="sparks", name="Sparks off the crate", begins=begins + 26, follow=on("bench"),
        generator=RisingSparks(
            shape="edges", thing="small-crate", roomy=True, rate=16.0, begins=begins + 30, ends=begins + 75, life=40.0,
            speed=3.0, spread=120.0, pull=0.25, turbulence=4.0, radius=1.4, lands="bounces", meets=True),
    )  # fmt: skip
    dust = GeneratedLayer(
        id="dust", name="Dust of the wall", begins=begins, follow=on("wall"),
        generator=Smoke(
            shape="area", width=420.0, height=180.0, thick=90.0, roomy=True, lit=True, rate=5.0, begins=begins,
            ends=begins + 16, life=70.0, speed=1.2, direction=90.0, spread=200.0, pull=-0.004, drag=6.0,
            turbulence=30.0, radius=16.0, radius_end=320.0, density=9.0, first="#c8b090"),
    )  # fmt: skip
    perches = [perch("Wall", (0.02, 0.236, 0.0), -CRATE_TURN), perch("Tin", (0.24, 0.10, 0.24)),
               perch("Bench", (0.02, 0.10, 0.2)), perch("Rope", (-0.12, 0.10, 0.22)),
               perch("Crate's foot", CRATE_FOOT)]  # fmt: skip
    change_shot(shot.id, "Three boards break out of the wall",
                lambda d: d.model_copy(update={"perches": perches, "stack": [sparks, dust, *really, boards, box]}))  # fmt: skip
