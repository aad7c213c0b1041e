"""Cameras solved over the API, their rooms put straight, and what goes out in open formats."""

from __future__ import annotations

import io
import json
import struct
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import trimesh

from jobs.models import Job
from library.pool import pool
from plonket.base.conventions import F64, U8
from plonket.document.shot import read_shot
from plonket.document.spot import Spot
from plonket.formats.camera_json import read_camera
from plonket.layers.model import MeshLayer, stands
from plonket.render.sources import ShotSources
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from synth.elements.models import cargo_crate
from synth.phone.quickroom import RoomShot, room_shot
from synth.phone.take import Recording, frame_times, write_recording
from tests.server.test_motions import WithPlane

SIZE = (640, 360)
FRAMES = 24


@cache
def room() -> RoomShot:
    return room_shot("orbit", frames=FRAMES, samples=2)


def film(path: Path, shot: RoomShot) -> Path:
    recording = Recording(rate=Fraction(30), frames=len(shot.frames), crf=14, sound=False)
    write_recording(path, iter(shot.frames), frame_times(recording), SIZE, recording)
    return path


class Rooms(WithPlane):
    def solved(self) -> str:
        shot = self.shot_with_clip(film(self.folder / "room.mp4", room()))
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": {"kind": "camera", "id": "cam", "name": "Camera"}})
        job = self.page.json("POST", f"/shots/{shot}/motions/cam/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done", Job.objects.get(pk=job["id"]).message)
        return shot

    def motion(self, shot: str) -> dict[str, object]:
        return self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]  # type: ignore[no-any-return]

    def track(self, shot: str) -> CameraTrack:
        found = pool().measured(str(self.motion(shot)["measurement"]))
        assert isinstance(found, CameraTrack)
        return found

    def camera(self, shot: str) -> RoomCamera:
        return RoomCamera(self.track(shot), Room.model_validate(self.motion(shot)["room"]))

    def straighten(self, shot: str, does: str, details: list[int], amount: float | None = None, status: int = 200) -> None:
        body = {"does": does, "details": details, "amount": amount}
        self.page.json("POST", f"/shots/{shot}/motions/cam/room", body, status=status)

    def test_a_room_is_solved_put_straight_stood_in_and_sent_out(self) -> None:
        shot = self.solved()
        track = self.track(shot)
        self.assertEqual(track.kind, "full")
        told = self.page.json("GET", f"/measurements/{self.motion(shot)['measurement']}")["camera"]
        self.assertEqual(len(told["details"]), len(track.ids))
        self.assertEqual(len(told["rotation"]), 4 * FRAMES)

        # The bench was found as the ground: what lies on it is level, and most of it at height nought.
        places = track.points[track.kept]
        low = places[np.abs(places[:, 1]) < 0.02]
        self.assertGreater(len(low), 30)

        # Three details of the ground, then a distance, an origin and a direction.
        inside = (np.abs(track.xy[:, 0] - np.array(SIZE) / 2) < [220, 120]).all(axis=1)
        # Before the crates: what is far away is less exact.
        front = inside & (track.xy[:, 0, 1] > 200)
        on = np.flatnonzero(track.kept & front & (np.abs(track.points[:, 1]) < 0.01))
        spread = track.points[on]
        a, b = on[np.argmin(spread[:, 0])], on[np.argmax(spread[:, 0])]
        # In front of the crates, where the bench is bare.
        c = on[np.argmin(np.hypot(*(track.xy[on, 0] - np.array([420, 300])).T))]
        ids = [int(track.ids[k]) for k in (a, b, c)]
        self.straighten(shot, "ground", ids)
        self.straighten(shot, "scale", ids[:2], 0.8)
        self.straighten(shot, "origin", ids[:1])
        self.straighten(shot, "axis", ids[:2])
        straight = self.camera(shot).room
        np.testing.assert_allclose(straight.points(track.points[a]), 0, atol=1e-9)
        far = straight.points(track.points[b])
        self.assertAlmostEqual(float(np.linalg.norm(far)), 0.8, places=6)
        self.assertAlmostEqual(float(far[2]), 0, places=9)
        np.testing.assert_allclose(straight.points(track.points[c])[1], 0, atol=1e-9)

        # What cannot be is refused, and nothing changes.
        self.straighten(shot, "ground", ids[:2], status=422)
        self.straighten(shot, "scale", ids[:2], -1, status=400)
        self.straighten(shot, "origin", [1], status=400)
        self.assertEqual(self.camera(shot).room, straight)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertNotEqual(self.camera(shot).room, straight)
        self.page.json("POST", f"/shots/{shot}/redo", {})
        self.assertEqual(self.camera(shot).room, straight)

        # A surface through three details is a perch that lies on it: its own pixels are the bench's.
        body = {"details": ids, "frame": 0}
        lying = self.page.json("POST", f"/shots/{shot}/motions/cam/surface", body)["document"]["perches"][-1]
        self.assertAlmostEqual(lying["spot"]["tilt"], 90, delta=1e-3)
        self.assertAlmostEqual(lying["spot"]["y"], 0, delta=1e-5)
        self.page.json("POST", f"/shots/{shot}/motions/cam/surface", body | {"details": ids[:2]}, status=422)
        self.page.json("POST", f"/shots/{shot}/undo", {})

        # A box round details that stand up from the bench is really there: what is put on it meets it.
        lifted = straight.points(track.points)[track.kept]
        high = [int(i) for i, p in zip(track.ids[track.kept], lifted, strict=True) if 0.05 < p[1] < 0.5]
        made = self.page.json("POST", f"/shots/{shot}/motions/cam/box", {"details": high, "frame": 0})["document"]
        form, perch = made["stack"][0], made["perches"][-1]
        self.assertEqual((form["kind"], form["use"], form["follow"]["target"]), ("form", "holdout", perch["id"]))
        self.assertEqual((perch["spot"]["y"], perch["spot"]["faces"], perch["follow"]["target"]), (0, "still", "cam"))
        tops = lifted[[list(track.ids[track.kept]).index(i) for i in high]]
        self.assertAlmostEqual(form["tall"], float(tops[:, 1].max()), delta=1e-4)
        right, up = Spot.model_validate(perch["spot"]).axes(0, np.zeros(3), np.eye(3))
        local = (tops - Spot.model_validate(perch["spot"]).place(0)) @ np.stack([right, up, np.cross(right, up)], axis=1)
        self.assertLess(float((np.abs(local[:, [0, 2]]) - [form["wide"] / 2, form["deep"] / 2]).max()), 1e-3, "all are within")
        self.page.json("POST", f"/shots/{shot}/motions/cam/box", {"details": ids, "frame": 0}, status=422)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        left = self.page.json("GET", f"/shots/{shot}")["document"]
        self.assertEqual((left["stack"], left["perches"]), ([], []), "one step")

        # A picture stands on a spot of the bench; the plate under it agrees.
        place = straight.points(track.points[c])
        spot = {"x": place[0], "y": place[1], "z": place[2], "faces": "upright", "pixel_mm": 1.0}
        perch = {"id": "p", "name": "Perch", "spot": spot, "follow": {"target": "cam", "perspective": True}}
        asset = self.page.upload(self.still())["Plonket-Asset"]
        still = {"kind": "still", "id": "s", "name": "Red", "asset": asset, "width": 40, "height": 40, "x": 0, "y": -20,
                 "follow": {"target": "p", "perspective": True}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/perches/-", "value": perch}, {"op": "add", "path": "/stack/0", "value": still})
        self.page.json("POST", f"/shots/{shot}/slip", {})
        (check,) = self.page.json("GET", f"/shots/{shot}/slip")
        # Most frames: where a crate passes before the little piece of ground that is looked at, it says too much.
        judged = [px for px in check["px"] if px is not None]
        self.assertGreater(len(judged), 15, check["message"])
        self.assertLess(float(np.median(judged)), 0.5, check["px"])
        self.edit(shot, {"op": "add", "path": "/perches/-", "value": perch | {"id": "q", "follow": {}}}, status=400)

        self._clicks_land(shot, place)
        self._goes_out(shot, track, straight)
        self._model_stands(shot)
        # One step sets details aside; measured again, they have no say.
        worst = [int(track.ids[k]) for k in on[:5]]
        self.edit(shot, {"op": "add", "path": "/motions/0/set_aside", "value": worst})
        self.page.json("POST", f"/shots/{shot}/motions/cam/measure", {})
        again = self.track(shot)
        self.assertFalse(again.kept[np.isin(again.ids, worst)].any())

    def _clicks_land(self, shot: str, place: F64) -> None:
        """On the ground, on what is really there, on a wall that is named; nowhere in the sky."""
        seen = self.camera(shot)
        path = f"/shots/{shot}/motions/cam/landing"

        def landed(at: F64, **more: object) -> dict[str, Any]:
            pixel = [float(v) for v in seen.project(0, at)]
            return dict(self.page.json("POST", path, {"frame": 0, "pixel": pixel, **more}))

        on_ground = landed(place)
        self.assertIsNone(on_ground["on"])
        np.testing.assert_allclose(on_ground["place"], place, atol=1e-3)
        box = {"kind": "form", "id": "box", "name": "Box", "wide": 0.1, "tall": 0.06, "deep": 0.1, "follow": {"target": "p"}}
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": box})
        top = place + [0, 0.06, 0]
        on_box = landed(top)
        self.assertEqual(on_box["on"], "box")
        np.testing.assert_allclose(on_box["place"], top, atol=1e-3)
        through = landed(top, without="box")
        self.assertIsNone(through["on"])
        self.assertAlmostEqual(through["place"][1], 0, places=6)
        # The still's perch stands upright to the camera: as a wall it goes through the box.
        wall = landed(place + [0, 0.03, 0], surface="p")
        self.assertIsNone(wall["on"])
        np.testing.assert_allclose(wall["place"], place + [0, 0.03, 0], atol=1e-3)
        eye, ahead = seen.eye(0), -seen.turn(0)[:, 2]
        up = seen.project(0, eye + [ahead[0], 0.5, ahead[2]])
        self.assertIsNone(self.page.json("POST", path, {"frame": 0, "pixel": up.tolist()})["place"])
        self.page.json("POST", f"/shots/{shot}/motions/gone/landing", {"frame": 0, "pixel": [1, 1]}, status=400)
        self.edit(shot, {"op": "remove", "path": "/stack/0"})

    def _model_stands(self, shot: str) -> None:
        """A model from a file, on the shelf with a picture of itself, and in the shot's frames."""
        path = self.folder / "crate.glb"
        path.write_bytes(cargo_crate())
        digest = self.page.upload(path)["Plonket-Asset"]
        (asset,) = [a for a in self.page.json("GET", "/assets?kind=model") if a["digest"] == digest]
        np.testing.assert_allclose(asset["extent"], [0.2, 0.16, 0.16], atol=1e-4)
        portrait = self.page.get(f"/models/{digest}.jpg")
        self.assertEqual((portrait.status_code, portrait["Content-Type"]), (200, "image/jpeg"))
        layer = {"kind": "model", "id": "crate", "name": "Crate", "asset": digest, "extent": asset["extent"], "tall": 0.1,
                 "follow": {"target": "p"}, "quality": "quick", "shadow": False}  # fmt: skip
        self.edit(shot, {"op": "replace", "path": "/stack/0", "value": layer})
        record = self.page.json("GET", f"/shots/{shot}")
        answer = self.page.get(f"/frames/{shot}/{record['picture']}/matte/50/0.jpg")
        matte = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_GRAYSCALE)
        ys, xs = np.nonzero(matte > 127)
        seen, spot = self.camera(shot), Spot.model_validate(record["document"]["perches"][0]["spot"])
        box = np.array([[sx * 0.1, sy * 0.16, sz * 0.08] for sx in (-1, 1) for sy in (0, 1) for sz in (-1, 1)])
        m = stands(MeshLayer.model_validate(record["document"]["stack"][0]), seen, spot, 0)
        at = seen.project(0, box @ m[:3, :3].T + m[:3, 3]) / 2
        found = [xs.min(), ys.min(), xs.max() + 1, ys.max() + 1]
        edge = np.array(SIZE) / 2
        expected = np.concatenate([np.clip(at.min(axis=0), 0, edge), np.clip(at.max(axis=0), 0, edge)])
        np.testing.assert_allclose(found, expected, atol=2)
        self._is_lit_as_the_set(shot)
        self._pivot_is_picked(shot, 2 * float(np.median(xs)), 2 * float(np.median(ys)), matte)
        broken = self.folder / "broken.glb"
        broken.write_bytes(b"glTF but not quite")
        answer = self.page.upload(broken)
        self.assertGreaterEqual(answer.status_code, 400)
        self.assertIn("broken.glb", answer.json()["message"])
        self.edit(shot, {"op": "remove", "path": "/stack/0"})

    def _is_lit_as_the_set(self, shot: str) -> None:
        """The set's light is told, taken by a model and by a picture's shadow, and grown into a light map; each is one step."""
        place = self.page.json("GET", f"/shots/{shot}")["document"]["perches"][0]["spot"]
        at = {"frame": 0, "place": [place["x"], place["y"], place["z"]], "tall": 0.1}
        told = self.page.json("POST", f"/shots/{shot}/motions/cam/light", {"stands": at})
        self.assertIsNone(self.page.json("POST", f"/shots/{shot}/motions/cam/light", {})["shadow"])
        self.assertIn(told["told"], {"shadows", "shading", "overcast", "habit"})
        self.assertEqual(told["shadow"]["kind"], "shadow")
        lit = self.page.json("POST", f"/shots/{shot}/layers/crate/light", {"frame": 0})
        crate = next(one for one in lit["shot"]["document"]["stack"] if one["id"] == "crate")
        self.assertEqual({k: crate[k] for k in told["model"]}, told["model"])
        self.assertEqual(lit["says"], told["says"])
        self.page.json("POST", f"/shots/{shot}/undo", {})
        still = {"kind": "still", "id": "standee", "name": "Standee", "asset": self.page.upload(self.still())["Plonket-Asset"],
                 "width": 40, "height": 40, "x": 0, "y": -20, "follow": {"target": "p", "perspective": True}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": still})
        for _ in range(2):
            lit = self.page.json("POST", f"/shots/{shot}/layers/standee/light", {"frame": 0})
        (look,) = lit["shot"]["document"]["stack"][-1]["looks"]
        self.assertEqual(look["kind"], "shadow")
        # Pointed at where no shadow lies, nothing is made up; what stands nowhere in the room is refused.
        self.page.json("POST", f"/shots/{shot}/layers/standee/shadow", {"frame": 0, "pixel": [-5, 3]}, status=422)
        self.page.json("POST", f"/shots/{shot}/layers/none/light", {"frame": 0}, status=404)
        grown = self.page.json("POST", f"/shots/{shot}/motions/cam/light-map", {})["shot"]["document"]["stack"][-1]
        self.assertEqual((grown["kind"], grown["follow"]["target"]), ("dome", "cam"))
        (asset,) = [a for a in self.page.json("GET", "/assets?kind=light") if a["digest"] == grown["asset"]]
        self.assertEqual((asset["width"], asset["height"]), (512, 256))
        for _ in range(4):
            self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(len(self.page.json("GET", f"/shots/{shot}")["document"]["stack"]), 1)

    def _pivot_is_picked(self, shot: str, x: float, y: float, before: U8) -> None:
        """It stays where it is, turns about the place that was clicked, and leaves others on its perch where they are."""

        def crate() -> dict[str, Any]:
            return next(one for one in self.page.json("GET", f"/shots/{shot}")["document"]["stack"] if one["id"] == "crate")

        def matte() -> U8:
            record = self.page.json("GET", f"/shots/{shot}")
            answer = self.page.get(f"/frames/{shot}/{record['picture']}/matte/50/0.jpg")
            return np.asarray(cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_GRAYSCALE), np.uint8)

        path = f"/shots/{shot}/layers/crate/pivot"
        self.page.json("POST", path, {"frame": 0, "pixel": [2, 2]}, status=400)
        self.page.json("POST", path, {"frame": 0, "pixel": [x, y]})
        self.assertGreater(float(np.abs(crate()["pivot"]).max()), 0.03)
        self.assertEqual(crate()["follow"]["target"], "p")
        # The spot stays on the ground, where the shadow falls.
        self.assertGreater(crate()["lift"], 0.01)
        ground = [p["spot"]["y"] for p in self.page.json("GET", f"/shots/{shot}")["document"]["perches"] if p["id"] == "p"]
        self.assertAlmostEqual(ground[0], 0, places=6)
        self.assertLess(int(((matte() > 127) != (before > 127)).sum()), 0.04 * int((before > 127).sum()))
        # A place on its front does not move when the crate is turned: matte stays there.
        self.edit(shot, {"op": "replace", "path": "/stack/0/heading", "value": 70.0})
        self.assertGreater(int(matte()[int(y / 2), int(x / 2)]), 127)
        self.edit(shot, {"op": "replace", "path": "/stack/0/heading", "value": 0.0})
        beside = crate() | {"id": "beside", "name": "Beside", "pivot": [0, 0, 0]}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": beside})
        spots = {p["id"]: p["spot"] for p in self.page.json("GET", f"/shots/{shot}")["document"]["perches"]}
        after = self.page.json("POST", path, {"frame": 0})["document"]
        self.assertEqual(crate()["pivot"], [0, 0, 0])
        self.assertNotEqual(crate()["follow"]["target"], "p")
        self.assertEqual({p["id"]: p["spot"] for p in after["perches"]}["p"], spots["p"])
        self.edit(shot, {"op": "remove", "path": "/stack/1"})
        self.assertLess(int(((matte() > 127) != (before > 127)).sum()), 0.04 * int((before > 127).sum()))
        self._pivot_in_a_parcel(shot, crate(), path, (x, y))

    def _pivot_in_a_parcel(self, shot: str, crate: dict[str, Any], path: str, pixel: tuple[float, float]) -> None:
        """What lies in a parcel stands in the room as well: its pivot is picked there, and others know of it."""
        packed = {"id": "q", "name": "Packed", "stack": [crate]}
        shows = {"kind": "parcel", "id": "shows", "name": "Shows", "parcel": "q", "width": 640, "height": 360, "x": 320.0, "y": 180.0}
        kept = self.page.json("GET", f"/shots/{shot}")["document"]["stack"]
        self.edit(shot, {"op": "add", "path": "/parcels/-", "value": packed}, {"op": "replace", "path": "/stack", "value": [shows]})
        self.page.json("POST", path, {"frame": 0, "pixel": list(pixel)})
        document = self.page.json("GET", f"/shots/{shot}")["document"]
        self.assertGreater(float(np.abs(document["parcels"][0]["stack"][0]["pivot"]).max()), 0.03)
        sources = ShotSources(read_shot(document), pool())
        self.assertEqual([one.id for one in sources.neighbours(crate["follow"]["target"])], ["crate"])
        self.edit(shot, {"op": "replace", "path": "/stack/0/shown", "value": False})
        hidden = ShotSources(read_shot(self.page.json("GET", f"/shots/{shot}")["document"]), pool())
        self.assertEqual(list(hidden.neighbours(crate["follow"]["target"])), [], "a parcel that is hidden hides what is in it")
        self.edit(shot, {"op": "replace", "path": "/stack", "value": kept}, {"op": "replace", "path": "/parcels", "value": []})

    def _goes_out(self, shot: str, track: CameraTrack, straight: Room) -> None:
        def get(form: str) -> bytes:
            return bytes(self.page.get(f"/shots/{shot}/motions/cam/export/{form}").content)

        back = read_camera(get("camera.json").decode(), FRAMES, SIZE)
        np.testing.assert_allclose(back.position, straight.points(track.position), atol=1e-6)
        np.testing.assert_allclose(back.rotation, straight.turns(track.rotation), atol=1e-7)
        camera = RoomCamera(back, Room())
        for k in np.flatnonzero(track.kept)[::20]:
            at = straight.points(track.points[k])
            np.testing.assert_allclose(camera.project(7, at), self.camera(shot).project(7, at), atol=1e-3)
        rows = get("camera.csv").decode().splitlines()
        self.assertEqual((len(rows), rows[0].split(",")[0]), (FRAMES + 1, "frame"))
        self.assertEqual(len(get("details.csv").decode().splitlines()), int(track.kept.sum()) + 1)
        scene = trimesh.load(io.BytesIO(get("camera.glb")), file_type="glb")
        cloud = next(iter(scene.geometry.values()))
        np.testing.assert_allclose(cloud.vertices, straight.points(track.points[track.kept]), atol=1e-5)
        raw = get("camera.glb")
        document = json.loads(raw[20 : 20 + struct.unpack("<I", raw[12:16])[0]])
        self.assertEqual(document["animations"][0]["channels"][1]["target"]["path"], "rotation")
        usda = get("camera.usda").decode()
        self.assertTrue(usda.startswith("#usda 1.0"))
        self.assertIn('def Camera "Camera"', usda)
