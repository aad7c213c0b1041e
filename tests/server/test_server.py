"""Uploads, edits, undo, jobs, frames and deliveries over the API."""

from __future__ import annotations

import json
import struct
import tempfile
from datetime import timedelta
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import numpy as np
from django.conf import settings
from django.test import SimpleTestCase
from django.utils import timezone

from jobs.management.commands.keep_jobs import put_back
from jobs.models import Chunk, Event, Job
from jobs.tasks import run_chunk
from library.models import Asset
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket_server import store
from tests.core.clips import number_of, phone_clip
from tests.core.shots import SHARP, plain_shot
from tests.server.client import Page, ServerTest, body_of


@cache
def _chart_clip() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "chart.mp4"
        with VideoWriter(path, (640, 360), Fraction(30), coding=Coding(crf=6)) as out:
            for frame in plain_shot().frames[:30]:
                out.write(frame)
        return path.read_bytes()


class WithFolder(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def chart_clip(self) -> Path:
        """Thirty frames of the chart, losslessly enough for truth."""
        path = self.folder / "chart.mp4"
        path.write_bytes(_chart_clip())
        return path

    def still(self) -> Path:
        picture = np.zeros((40, 40, 4), np.uint8)
        picture[5:35, 5:35] = (0, 0, 255, 255)
        path = self.folder / "red.png"
        cv2.imwrite(str(path), picture)
        return path

    def shot_with_clip(self, clip: Path | None = None) -> str:
        shot = self.new_shot()
        answer = self.page.upload(clip or self.chart_clip(), shot=shot)
        self.assertEqual(answer.status_code, 204, answer.content)
        return shot

    def add_point(self, shot: str, frame: int = 0) -> None:
        x, y = plain_shot().on_chart(*SHARP["rose"])[frame]
        motion = {"kind": "points", "id": "m", "name": "Rose", "points": [
            {"id": "p", "name": "Rose", "given": [{"frame": frame, "x": x, "y": y}]}]}  # fmt: skip
        self.page.json("POST", f"/shots/{shot}/edits", {"label": "Add", "patch": [
            {"op": "add", "path": "/motions/-", "value": motion}]})  # fmt: skip


class Uploads(WithFolder):
    def test_dropped_connection_goes_on_where_it_stopped(self) -> None:
        shot = self.new_shot()
        data = phone_clip(self.folder / "c.mp4", frames=12).read_bytes()
        begun = self.page.begin_upload("c.mp4", len(data), shot)
        address = begun["Location"]
        third = len(data) // 3
        self.assertEqual(self.page.piece(address, 0, data[:third]).status_code, 204)
        again = Page()  # the browser was closed in between
        head = again.client.head(address)
        self.assertEqual(int(head["Upload-Offset"]), third)
        self.assertEqual(again.piece(address, 7, data[7:]).status_code, 409)
        done = again.piece(address, third, data[third:])
        self.assertEqual((done.status_code, done["Plonket-Kind"]), (204, "clip"))
        footage = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]
        self.assertEqual((footage["frames"], footage["width"]), (12, 320))

    def test_a_name_is_never_a_path(self) -> None:
        self.page.upload(self.still(), name="../../../../tmp/evil.png")
        asset = Asset.objects.get()
        self.assertEqual(asset.name, "evil")
        self.assertFalse(Path("/tmp/evil.png").exists())
        inside = [p for p in store.root().rglob("*") if p.is_file()]
        self.assertTrue(any(asset.digest in p.name for p in inside))

    def test_a_zip_of_numbered_pictures_is_a_clip(self) -> None:
        import zipfile

        path = self.folder / "matte.zip"
        with zipfile.ZipFile(path, "w") as box:
            for k in (2, 0, 1):
                picture = np.full((60, 80), 40 + 80 * k, np.uint8)
                box.writestr(f"../../up/{k:04d}.png", cv2.imencode(".png", picture)[1].tobytes())
            box.writestr("notes.txt", "not a picture")
        answer = self.page.upload(path)
        self.assertEqual((answer.status_code, answer["Plonket-Kind"]), (204, "clip"))
        asset = Asset.objects.get(pk=answer["Plonket-Asset"])
        self.assertEqual((asset.state, asset.info["frames"], asset.info["width"]), ("ready", 3, 80))
        clip = open_clip(store.derived_folder(asset.digest) / "clip.mp4")
        levels = [float(clip.luma(i).mean()) for i in range(3)]
        self.assertEqual(levels, sorted(levels))
        self.assertEqual(list((store.root() / "unpacked").iterdir()), [])
        bad = self.folder / "bad.zip"
        bad.write_bytes(b"PK nothing")
        self.assertEqual(self.page.upload(bad).status_code, 422)

    def test_unusable_files_say_why_and_leave_nothing(self) -> None:
        shot = self.new_shot()
        words = self.folder / "words.mp4"
        words.write_text("only words")
        cut = self.folder / "cut.mp4"
        cut.write_bytes(phone_clip(self.folder / "w.mp4", frames=20).read_bytes()[:3000])
        thin = self.folder / "thin.png"
        cv2.imwrite(str(thin), np.zeros((3, 300, 3), np.uint8))
        for path, part in ((words, "cannot be read"), (cut, "cut off"), (thin, "300 x 3")):
            answer = self.page.upload(path, shot=shot)
            self.assertEqual(answer.status_code, 422, path)
            self.assertIn(part, answer.json()["message"])
        (self.folder / "empty.mp4").touch()
        self.assertIn("empty", self.page.upload(self.folder / "empty.mp4").json()["message"])
        self.assertEqual(Asset.objects.count(), 0)
        self.assertEqual(list((store.root() / "uploads").glob("*")), [])
        self.assertIsNone(self.page.json("GET", f"/shots/{shot}")["document"]["footage"])

    def test_full_disk_changes_nothing(self) -> None:
        with mock.patch("plonket_server.store.free_bytes", return_value=10_000):
            answer = self.page.upload(self.still())
        self.assertEqual(answer.status_code, 422)
        self.assertIn("not enough room", answer.json()["message"])
        self.assertEqual(Asset.objects.count(), 0)

    def test_the_same_clip_twice_is_one_asset(self) -> None:
        clip = phone_clip(self.folder / "c.mp4", frames=6)
        first, second = self.shot_with_clip(clip), self.shot_with_clip(clip)
        self.assertEqual(Asset.objects.filter(kind="clip").count(), 1)
        for shot in (first, second):
            self.assertIsNotNone(self.page.json("GET", f"/shots/{shot}")["document"]["footage"])


class Editing(WithFolder):
    def test_undo_and_redo_walk_revisions_without_measuring_again(self) -> None:
        shot = self.shot_with_clip()
        self.add_point(shot)
        self.page.json("POST", f"/shots/{shot}/motions/m/measure", {})
        measured = self.page.json("GET", f"/shots/{shot}")
        digest = measured["document"]["motions"][0]["measurement"]
        self.assertIsNotNone(digest)
        self.assertEqual(measured["undo"], "Measure Rose")
        back = self.page.json("POST", f"/shots/{shot}/undo")
        self.assertIsNone(back["document"]["motions"][0]["measurement"])
        self.assertEqual(back["redo"], "Measure Rose")
        jobs = Job.objects.count()
        on = self.page.json("POST", f"/shots/{shot}/redo")
        self.assertEqual(on["document"]["motions"][0]["measurement"], digest)
        self.assertEqual(Job.objects.count(), jobs)
        for _ in range(3):
            back = self.page.json("POST", f"/shots/{shot}/undo")
        self.assertIsNone(back["undo"])
        self.assertEqual(self.page.json("POST", f"/shots/{shot}/undo", status=400)["code"], "shot.no_step")

    def test_the_steps_that_led_here_are_told_by_their_pictures(self) -> None:
        shot = self.shot_with_clip()
        layer = {"kind": "fill", "id": "f", "name": "F"}
        self.page.json("POST", f"/shots/{shot}/edits", {"label": "Plonk F", "patch": [
            {"op": "add", "path": "/stack/-", "value": layer}]})  # fmt: skip
        self.page.json("POST", f"/shots/{shot}/edits", {"label": "Rename", "patch": [
            {"op": "replace", "path": "/name", "value": "Another name"}]})  # fmt: skip
        now = self.page.json("GET", f"/shots/{shot}")
        steps = self.page.json("GET", f"/shots/{shot}/steps")
        # A new name changes no picture: it is no step of its own.
        self.assertEqual(steps[0]["picture"], now["picture"])
        self.assertEqual(len({one["picture"] for one in steps}), len(steps))
        before = steps[1]["picture"]
        self.assertEqual(self.page.get(f"/frames/{shot}/{before}/final/50/0.jpg").status_code, 200)
        # What was undone did not lead here.
        back = self.page.json("POST", f"/shots/{shot}/undo")
        back = self.page.json("POST", f"/shots/{shot}/undo")
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/steps")[0]["picture"], back["picture"])
        self.assertEqual(back["picture"], before)

    def test_every_change_of_a_shot_has_a_later_turn_and_is_told(self) -> None:
        shot = self.new_shot()
        before = self.page.json("GET", f"/shots/{shot}")["version"]
        heard = Event.objects.filter(kind="shot", data__shot=str(shot)).count()
        rename = {"label": "Rename", "patch": [{"op": "replace", "path": "/name", "value": "Lamp"}]}
        answers = [self.page.json("POST", f"/shots/{shot}/edits", rename)]
        answers += [self.page.json("POST", f"/shots/{shot}/{step}") for step in ("undo", "redo")]
        self.assertEqual([a["version"] for a in answers], [before + 1, before + 2, before + 3])
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["version"], before + 3)
        told = [e.data["version"] for e in Event.objects.filter(kind="shot", data__shot=str(shot)).order_by("id")][heard:]
        self.assertEqual(told, [before + 1, before + 2, before + 3])
        self.page.json("POST", f"/shots/{shot}/redo", status=400)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["version"], before + 3, "a refusal changes nothing")

    def test_an_edit_that_hits_another_item_is_refused(self) -> None:
        shot = self.shot_with_clip()
        self.add_point(shot)
        patch = [{"op": "test", "path": "/motions/0/id", "value": "other"},
                 {"op": "replace", "path": "/motions/0/name", "value": "X"}]  # fmt: skip
        answer = self.page.json("POST", f"/shots/{shot}/edits", {"label": "x", "patch": patch}, status=409)
        self.assertIn("another window", answer["message"])

    def test_an_invalid_edit_changes_nothing(self) -> None:
        shot = self.shot_with_clip()
        before = self.page.json("GET", f"/shots/{shot}")
        for patch in ([{"op": "replace", "path": "/footage/out_frame", "value": 999}],
                      [{"op": "replace", "path": "/nowhere/0", "value": 1}],
                      [{"op": "add", "path": "/stack/-", "value": {"kind": "still"}}],
                      [{"op": "launch", "path": "/name"}]):  # fmt: skip
            self.assertEqual(self.page.send("POST", f"/shots/{shot}/edits", {"label": "x", "patch": patch}).status_code, 400)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["number"], before["number"])

    def test_missing_things(self) -> None:
        self.assertEqual(self.page.get("/shots/00000000-0000-0000-0000-000000000000").status_code, 404)
        shot = self.new_shot()
        answer = self.page.json("POST", f"/shots/{shot}/motions/m/measure", {}, status=400)
        self.assertIn("no footage", answer["message"])
        self.assertEqual(self.page.send("POST", f"/shots/{shot}/deliver").status_code, 400)


class Measuring(WithFolder):
    def test_measured_track_is_true_and_told_frame_by_frame(self) -> None:
        shot = self.shot_with_clip()
        self.add_point(shot, frame=10)
        job = self.page.json("POST", f"/shots/{shot}/motions/m/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done")
        digest = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["measurement"]
        track = self.page.json("GET", f"/measurements/{digest}")["points"][0]
        xy = np.array(track["xy"]).reshape(-1, 2)
        truth = plain_shot().on_chart(*SHARP["rose"])[:30]
        self.assertLess(np.abs(xy - truth).max(), 0.2)
        rows = [r for e in self.page.json("GET", f"/jobs/{job['id']}/partial") for r in e["rows"]]
        self.assertEqual({r[1] for r in rows}, set(range(30)))
        movement = self.movement(shot, "m", 10).tolist()
        np.testing.assert_allclose(np.array(movement)[:, [2, 5]], xy - xy[10], atol=0.002)
        csv = self.page.get(f"/shots/{shot}/motions/m/export/points.csv").content.decode()
        self.assertTrue(csv.startswith("name,frame,x,y,confidence,state\nRose,0,"))

    def test_flat_spot_fails_with_advice(self) -> None:
        shot = self.shot_with_clip()
        flat = {"kind": "points", "id": "m", "name": "M", "points": [
            {"id": "p", "name": "Nothing", "given": [{"frame": 0, "x": 999, "y": 999}]}]}  # fmt: skip
        self.page.json("POST", f"/shots/{shot}/edits", {"label": "x", "patch": [{"op": "add", "path": "/motions/-", "value": flat}]})
        job = self.page.json("POST", f"/shots/{shot}/motions/m/measure", {})
        found = Job.objects.get(pk=job["id"])
        self.assertEqual(found.state, "failed")
        self.assertIn("outside the picture", found.message)


class Jobs(WithFolder):
    def queued(self) -> tuple[str, Job, Chunk]:
        """A measuring job whose message got lost."""
        shot = self.shot_with_clip()
        self.add_point(shot)
        with mock.patch("jobs.queue.send"):
            made = self.page.json("POST", f"/shots/{shot}/motions/m/measure", {})
        job = Job.objects.get(pk=made["id"])
        return shot, job, job.pieces.get()

    def test_a_lost_message_is_sent_again(self) -> None:
        _, job, _ = self.queued()
        self.assertEqual(put_back(), 0)
        Job.objects.filter(pk=job.pk).update(created=timezone.now() - timedelta(minutes=1))
        self.assertEqual(put_back(), 1)
        job.refresh_from_db()
        self.assertEqual(job.state, "done")

    def test_a_dead_workers_chunk_is_done_again_and_a_live_ones_is_not(self) -> None:
        _, job, chunk = self.queued()
        now = timezone.now()
        Job.objects.filter(pk=job.pk).update(state="running", started=now)
        Chunk.objects.filter(pk=chunk.pk).update(state="running", claim="someone", heartbeat=now)
        run_chunk(chunk.pk)  # delivered twice: the other worker lives
        self.assertEqual(Chunk.objects.get(pk=chunk.pk).claim, "someone")
        self.assertEqual(put_back(), 0)
        Chunk.objects.filter(pk=chunk.pk).update(heartbeat=now - timedelta(minutes=1))
        self.assertEqual(put_back(), 1)
        job.refresh_from_db()
        self.assertEqual((job.state, job.done), ("done", job.total))

    def test_stop_keeps_what_was_measured_and_retry_goes_on(self) -> None:
        shot, job, chunk = self.queued()
        calls = {"n": 0}

        def asked(_work: Any) -> bool:
            calls["n"] += 1
            return calls["n"] > 12

        with mock.patch("shots.measuring.stop_asked", asked):
            run_chunk(chunk.pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "stopped")
        digest = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["measurement"]
        states = self.page.json("GET", f"/measurements/{digest}")["points"][0]["state"]
        self.assertEqual(sum(s != 0 for s in states), 12)
        self.page.json("POST", f"/jobs/{job.pk}/retry")
        job.refresh_from_db()
        self.assertEqual(job.state, "done")

    def test_a_crash_inside_is_told_without_a_traceback(self) -> None:
        _, job, chunk = self.queued()
        with mock.patch("shots.measuring.open_clip", side_effect=RuntimeError("boom")), self.assertLogs("jobs.tasks"):
            run_chunk(chunk.pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.assertIn("Something went wrong", job.message)
        self.assertNotIn("boom", job.message)

    def test_stopping_before_it_starts(self) -> None:
        _, job, chunk = self.queued()
        self.page.json("POST", f"/jobs/{job.pk}/stop")
        run_chunk(chunk.pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "stopped")
        self.assertTrue(Event.objects.filter(kind="job", data__state="stopped").exists())


class Frames(WithFolder):
    def decoded(self, answer: Any) -> np.ndarray:
        data = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)
        assert data is not None
        return data[..., ::-1]

    def test_frames_are_exact_immutable_and_follow_edits(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=40))
        record = self.page.json("GET", f"/shots/{shot}")
        base = f"/frames/{shot}/{record['picture']}"
        for i in (0, 39, 17):
            answer = self.page.get(f"{base}/final/100/{i}.jpg")
            self.assertEqual(number_of(self.decoded(answer)), i)
            self.assertIn("immutable", answer["Cache-Control"])
        self.assertEqual(self.decoded(self.page.get(f"{base}/final/50/3.jpg")).shape, (90, 160, 3))
        self.page.upload(self.still())
        red = Asset.objects.get(kind="still")
        layer = {"kind": "still", "id": "l", "name": "Red", "asset": red.digest, "width": 40, "height": 40, "x": 200,
                 "y": 100}  # fmt: skip
        edited = self.page.json("POST", f"/shots/{shot}/edits", {"label": "Plonk", "patch": [
            {"op": "add", "path": "/stack/0", "value": layer}]})  # fmt: skip
        self.assertNotEqual(edited["picture"], record["picture"])
        new = self.decoded(self.page.get(f"/frames/{shot}/{edited['picture']}/final/100/5.jpg"))
        self.assertTrue(np.abs(new[100, 200].astype(int) - [255, 0, 0]).max() < 12)
        old = self.decoded(self.page.get(f"{base}/final/100/5.jpg"))
        self.assertGreater(np.abs(old[100, 200].astype(int) - [255, 0, 0]).max(), 50)
        matte = self.decoded(self.page.get(f"/frames/{shot}/{edited['picture']}/matte/100/5.jpg"))
        self.assertGreater(matte[100, 200].min(), 240)
        self.assertLess(matte[20, 20].max(), 10)
        for bad in (f"{base}/final/100/40.jpg", f"{base}/final/33/0.jpg", f"{base}/other/50/0.jpg",
                    f"/frames/{shot}/{'0' * 64}/final/50/0.jpg"):  # fmt: skip
            self.assertIn(self.page.get(bad).status_code, (400, 404), bad)

    def test_a_run_of_frames_comes_as_one_stream(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=20))
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]
        answer = self.page.get(f"/frames/{shot}/{picture}/final/100/range?start=4&stop=11")
        data = body_of(answer)
        seen = []
        while data:
            number, size = struct.unpack("<II", data[:8])
            picture_ = cv2.imdecode(np.frombuffer(data[8 : 8 + size], np.uint8), cv2.IMREAD_COLOR)
            self.assertEqual(number_of(picture_[..., ::-1]), number)
            seen.append(number)
            data = data[8 + size :]
        self.assertEqual(seen, list(range(4, 11)))
        self.assertEqual(self.page.get(f"/frames/{shot}/{picture}/final/100/range?start=9&stop=99").status_code, 400)


class Deliveries(WithFolder):
    def test_chunks_become_one_video_of_the_range(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=70))
        self.page.json("POST", f"/shots/{shot}/edits", {"label": "Range", "patch": [
            {"op": "replace", "path": "/footage/in_frame", "value": 6},
            {"op": "replace", "path": "/footage/out_frame", "value": 65}]})  # fmt: skip
        with mock.patch("deliveries.work.FRAMES_PER_CHUNK", 25):
            job = self.page.json("POST", f"/shots/{shot}/deliver")
        found = Job.objects.get(pk=job["id"])
        self.assertEqual((found.state, found.done, found.pieces.count()), ("done", 60, 3))
        one = self.page.json("GET", "/deliveries")[0]
        self.assertEqual((one["frames"], one["width"]), (60, 320))
        answer = self.page.get(f"/deliveries/{one['id']}/file?download")
        self.assertIn('filename="Shot.mp4"', answer["Content-Disposition"])
        path = self.folder / "got.mp4"
        path.write_bytes(body_of(answer))
        clip = open_clip(path)
        self.assertEqual([number_of(clip.rgb(i)) for i in range(60)], list(range(6, 66)))
        part = self.page.get(f"/deliveries/{one['id']}/file", Range="bytes=10-19")
        self.assertEqual((part.status_code, part["Content-Range"]), (206, f"bytes 10-19/{one['bytes']}"))
        self.assertEqual(body_of(part), path.read_bytes()[10:20])
        self.assertEqual(self.page.send("DELETE", f"/deliveries/{one['id']}").status_code, 204)
        self.assertEqual(self.page.json("GET", "/deliveries"), [])


class Schema(SimpleTestCase):
    def test_the_browsers_types_are_made_from_this_schema(self) -> None:
        from plonket_server.api import api

        now = json.loads(json.dumps(api.get_openapi_schema(path_prefix="/api/"), default=str))
        kept = json.loads((settings.ROOT / "web" / "openapi.json").read_text())
        self.assertEqual(now, kept, "web/openapi.json is stale: export it and run npm run api-types")
