"""Files on their way in: what goes wrong is told, and what had arrived is not lost."""

from __future__ import annotations

import os
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock
from urllib.parse import unquote

import cv2

from jobs.management.commands.keep_jobs import put_back
from library.models import Asset, Upload
from library.uploads import take_in, take_in_complete
from plonket.base.errors import MediaError
from plonket_server import store
from shots.exchange import look_outside
from shots.models import Exchange
from tests.core.clips import phone_clip
from tests.core.test_bad_media import png_that_claims
from tests.server.test_server import WithFolder


class Uploads(WithFolder):
    def head(self, address: str) -> Any:
        return self.page.client.head(address, headers={"Tus-Resumable": "1.0.0"})

    def test_an_unexpected_error_is_told_at_once_and_whenever_it_is_asked_for(self) -> None:
        data = self.still().read_bytes()
        address = self.page.begin_upload("red.png", len(data))["Location"]
        with mock.patch("library.assets.probe", side_effect=RuntimeError("boom")), self.assertLogs("library.uploads"):
            answer = self.page.piece(address, 0, data)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("red.png was taken in", answer.json()["message"])
        told = self.head(address)
        self.assertEqual((told.status_code, told["Plonket-State"]), (200, "failed"))
        self.assertEqual(unquote(told["Plonket-Problem"]), answer.json()["message"])
        self.assertEqual(list((store.root() / "uploads").glob("*")), [])

    def test_the_asset_is_told_whenever_it_is_asked_for(self) -> None:
        data = self.still().read_bytes()
        address = self.page.begin_upload("red.png", len(data))["Location"]
        self.page.piece(address, 0, data)
        told = self.head(address)
        self.assertEqual((told["Plonket-State"], told["Plonket-Kind"]), ("done", "still"))
        self.assertEqual(told["Plonket-Asset"], Asset.objects.get().digest)

    def test_what_was_complete_when_the_server_ended_is_taken_in_later(self) -> None:
        data = self.still().read_bytes()
        for name in ("first", "second"):
            address = self.page.begin_upload("red.png", len(data))["Location"]
            with mock.patch("library.uploads.take_in"):
                self.page.piece(address, 0, data)
            self.assertEqual(self.head(address)["Plonket-State"], "complete")
            one = Upload.objects.get(pk=address.rpartition("/")[2])
            if name == "second":
                # It ended in the middle of that: the file has its ending already.
                part = store.upload_path(str(one.pk))
                part.rename(part.with_name(part.name + ".png"))
            take_in_complete()
            self.assertEqual(self.head(address)["Plonket-State"], "done")

    def test_only_one_process_takes_a_file_in(self) -> None:
        data = self.still().read_bytes()
        address = self.page.begin_upload("red.png", len(data))["Location"]
        seen: list[str] = []

        def slow(*args: Any, **kwargs: Any) -> Any:
            seen.append("in")
            take_in_complete()
            raise MediaError("m", "No.")

        with mock.patch("library.uploads.bring_in", slow):
            self.page.piece(address, 0, data)
        self.assertEqual(seen, ["in"])
        self.assertEqual(self.head(address)["Plonket-State"], "failed")

    def test_a_still_is_no_footage_and_says_so(self) -> None:
        shot = self.new_shot()
        answer = self.page.upload(self.still(), shot=shot)
        self.assertEqual((answer.status_code, answer.json()["code"]), (422, "footage.still"))
        self.assertIn("a shot is made on a clip", answer.json()["message"])
        self.assertEqual(self.page.upload(self.still()).status_code, 204)

    def test_a_lost_file_is_told(self) -> None:
        one = Upload.objects.create(name="gone.mp4", length=9, offset=9, state="complete")
        take_in(one)
        one.refresh_from_db()
        self.assertEqual(one.state, "failed")
        self.assertIn("gone.mp4 was lost", one.problem["message"])

    def test_a_zip_that_is_broken_inside_is_told(self) -> None:
        for method in (zipfile.ZIP_DEFLATED, zipfile.ZIP_LZMA):
            path = self.folder / f"frames-{method}.zip"
            with zipfile.ZipFile(path, "w", method) as box:
                box.writestr("0001.png", self.still().read_bytes() * 40)
            data = bytearray(path.read_bytes())
            data[60:90] = b"\xff" * 30
            path.write_bytes(bytes(data))
            answer = self.page.upload(path)
            self.assertEqual((answer.status_code, answer.json()["code"]), (422, "media.zip"), method)

    def test_a_slow_or_broken_model_is_read_elsewhere(self) -> None:
        path = self.folder / "model.obj"
        path.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        with mock.patch("plonket.room.meshes.files.read_model", side_effect=AssertionError("it was read in the web process")):
            self.assertEqual(self.page.upload(path).status_code, 204)
        self.assertEqual(Asset.objects.get().info["extent"], [1.0, 1.0, 0.0])
        with mock.patch("library.assets.MODEL_BYTES", 300 * 1024**2):
            answer = self.page.upload(self.box_of_many_faces())
        self.assertEqual(answer.status_code, 422)
        self.assertIn("big.obj took too long or too much memory", answer.json()["message"])

    def test_a_model_of_several_files_becomes_one_and_says_what_it_is_made_of(self) -> None:
        path = self.folder / "card.zip"
        obj = "mtllib card.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl paper\nf 1 2 3\nusemtl brass\nf 3 2 1\n"
        with zipfile.ZipFile(path, "w") as box:
            box.writestr("card.obj", obj)
            box.writestr("card.mtl", "newmtl paper\nKd 1 1 1\nnewmtl brass\nKd 1 0.8 0.2\n")
        self.assertEqual(self.page.upload(path).status_code, 204)
        asset = Asset.objects.get()
        self.assertEqual((asset.kind, asset.ending, asset.name), ("model", ".glb", "card"))
        told = self.page.get(f"/assets/{asset.digest}/model").json()
        self.assertEqual((sorted(told["materials"]), told["clips"]), (["brass", "paper"], []))
        # One that was brought in before that was asked is read once more.
        Asset.objects.update(info={k: v for k, v in asset.info.items() if k not in ("materials", "clips")})
        self.assertEqual(self.page.get(f"/assets/{asset.digest}/model").json(), told)
        self.assertIn("materials", Asset.objects.get().info)
        with zipfile.ZipFile(path, "w") as box:
            box.writestr("card.gltf", '{"asset": {"version": "2.0"}, "buffers": [{"uri": "gone.bin", "byteLength": 4}]}')
        answer = self.page.upload(path)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("gone.bin", answer.json()["message"])
        self.assertEqual(self.page.upload(self.still()).status_code, 204)
        still = Asset.objects.get(kind="still")
        self.assertEqual(self.page.get(f"/assets/{still.digest}/model").status_code, 400)

    def box_of_many_faces(self) -> Path:
        path = self.folder / "big.obj"
        path.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\n" + "f 1 2 3\n" * 200_000)
        return path


class Synced(WithFolder):
    def test_a_row_is_written_after_its_file_is_on_the_disk(self) -> None:
        order: list[str] = []
        real_sync, real_record = os.fsync, Asset.objects.get_or_create

        def sync(fd: int) -> None:
            order.append(Path(os.readlink(f"/proc/self/fd/{fd}")).name)
            real_sync(fd)

        def record(**given: Any) -> Any:
            order.append("row")
            return real_record(**given)

        with mock.patch("os.fsync", sync), mock.patch.object(type(Asset.objects), "get_or_create", lambda self, **g: record(**g)):
            self.page.upload(self.still())
        before = order[: order.index("row")]
        digest = Asset.objects.get().digest
        self.assertTrue(any(name.endswith(".png") for name in before), order)
        self.assertIn(digest[:2], before, "and the folder that holds its name")

    def test_measurements_and_clips_are_synced(self) -> None:
        synced: list[str] = []
        real = os.fsync

        def sync(fd: int) -> None:
            synced.append(os.readlink(f"/proc/self/fd/{fd}"))
            real(fd)

        with mock.patch("os.fsync", sync):
            self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=12))
            store.keep_measurement(b"numbers")
        for part in ("clip.mp4", "strip.jpg", "/measurements/"):
            self.assertTrue(any(part in path for path in synced), part)


class Outside(WithFolder):
    """Frames that lie in the exchange folder, where anything may happen to them."""

    def setUp(self) -> None:
        super().setUp()
        self.shot = self.shot_with_clip()
        self.good = self.painted("good", 5)
        self.bad = self.painted("bad", 9)

    def painted(self, treatment: str, frame: int) -> Exchange:
        """A frame that is out for painting."""
        outline = {"keys": [{"frame": frame, "points": [{"x": 10, "y": 10}, {"x": 90, "y": 10}, {"x": 50, "y": 80}]}]}
        clean = {"kind": "clean", "id": treatment, "name": treatment, "frames": [{"frame": frame}],
                 "masks": [{"kind": "outline", "id": f"m-{treatment}", "name": "m", "outline": outline}]}  # fmt: skip
        self.page.json("POST", f"/shots/{self.shot}/edits", {"label": "Clean", "patch": [
            {"op": "add", "path": "/plate/-", "value": clean}]})  # fmt: skip
        self.page.json("POST", f"/shots/{self.shot}/clean/{treatment}/{frame}/outside")
        return Exchange.objects.get(treatment=treatment)

    def path(self, one: Exchange) -> Path:
        return store.exchange_folder() / one.file

    def save(self, one: Exchange, data: bytes) -> None:
        path = self.path(one)
        path.unlink()
        path.write_bytes(data)
        stat = path.stat()
        os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns + 10**9))

    def looked(self) -> None:
        """Looked at twice: the second time the files are quiet."""
        look_outside()
        look_outside()
        self.good.refresh_from_db()
        self.bad.refresh_from_db()

    def repainted(self) -> bytes:
        picture = cv2.imread(str(self.path(self.good)))
        assert picture is not None
        picture[:40] = (0, 0, 255)
        return bytes(cv2.imencode(".png", picture)[1])

    def test_a_huge_picture_is_told_and_holds_up_nothing(self) -> None:
        self.save(self.bad, png_that_claims(40_000, 40_000))
        self.save(self.good, self.repainted())
        with mock.patch("shutil.copyfileobj", wraps=__import__("shutil").copyfileobj) as copied:
            self.looked()
        self.assertIn("too large", self.bad.problem)
        self.assertEqual(self.good.problem, "")
        self.assertEqual(copied.call_count, 1, "what is too large is not copied")
        told = self.page.json("GET", f"/shots/{self.shot}/clean/bad/9/outside")
        self.assertEqual(told["problem"], self.bad.problem)

    def test_links_are_not_followed(self) -> None:
        secret = self.folder / "secret.png"
        secret.write_bytes(self.repainted())
        self.path(self.bad).unlink()
        self.path(self.bad).symlink_to(secret)
        before = Asset.objects.count()
        self.looked()
        self.assertEqual(Asset.objects.count(), before)

    def test_whatever_one_file_raises_the_others_come_back(self) -> None:
        self.save(self.bad, self.repainted())
        self.save(self.good, self.repainted()[:-1] + b"\0")
        with mock.patch("shots.exchange._take", side_effect=[ValueError("boom"), None]), self.assertLogs("shots.exchange"):
            self.looked()
        self.assertEqual(sorted([self.good.problem == "", self.bad.problem == ""]), [False, True])
        self.assertEqual(put_back(), 0)

    def test_a_full_disk_is_told_at_the_desk(self) -> None:
        self.save(self.bad, self.repainted())
        with mock.patch("shots.exchange.bring_in", side_effect=MediaError("media.disk_full", "The disk is full.")):
            self.looked()
        self.assertEqual(self.bad.problem, "The disk is full.")
        self.assertEqual(list((store.root() / "uploads").glob("outside-*")), [])
