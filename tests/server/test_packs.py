"""A project packed, everything deleted, opened again and delivered: the same file. What is damaged is refused whole."""

from __future__ import annotations

import json
import os
import shutil
import time
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

from deliveries.models import Delivery
from jobs.models import Job
from library.models import Asset, Project, Upload
from library.pool import pool
from packs.work import arrived_path, pack_path, sweep
from plonket_server import store
from shots.models import Measurement, Revision, Shot
from tests.server.client import body_of
from tests.server.test_motions import WithPlane


class Packs(WithPlane):
    def pack(self, project: str, **body: Any) -> Path:
        """A packed project as it is saved."""
        job = self.page.json("POST", f"/projects/{project}/pack", body)
        done = Job.objects.get(pk=job["id"])
        self.assertEqual(done.state, "done", done.message)
        answer = self.page.get(f"/packs/{job['id']}/file")
        self.assertIn("Small Lights.plonket", answer.headers["Content-Disposition"])
        path = self.folder / "saved.plonket"
        path.write_bytes(body_of(answer))
        return path

    def open(self, path: Path, project: str | None = None) -> Job:
        answer = self.page.upload(path, project=project)
        self.assertEqual(answer.status_code, 204, answer.content)
        return Job.objects.get(pk=answer["Plonket-Job"])

    def forget_everything(self) -> None:
        """As on a new computer."""
        for model in (Delivery, Project, Job, Upload, Asset, Measurement):
            model.objects.all().delete()  # type: ignore[attr-defined]
        for name in ("originals", "derived", "measurements", "deliveries", "packs", "scratch"):
            shutil.rmtree(store.root() / name, ignore_errors=True)
        pool.cache_clear() if hasattr(pool, "cache_clear") else None

    def delivered(self, shot: str) -> bytes:
        self.page.json("POST", f"/shots/{shot}/deliver")
        return Delivery.objects.latest("created").path.read_bytes()

    def project_of(self, shot: str) -> str:
        return str(self.page.json("GET", f"/shots/{shot}")["project"])

    def test_everything_deleted_and_opened_again_the_same_file_is_delivered(self) -> None:
        shot = self.pinned_shot()
        project = self.project_of(shot)
        before, document = self.delivered(shot), self.page.json("GET", f"/shots/{shot}")["document"]
        path = self.pack(project, history=True)
        self.forget_everything()
        job = self.open(path)
        self.assertEqual((job.state, job.result["shots"]), ("done", 1), job.message)
        back = self.page.json("GET", f"/projects/{job.result['project']}/shots")[0]["id"]
        self.assertEqual(Project.objects.get().name, "Small Lights")
        self.assertEqual(self.page.json("GET", f"/shots/{back}")["document"], document)
        self.assertEqual(self.delivered(back), before)
        # Its steps came along: undo goes back to before the picture was pinned.
        undone = self.page.json("POST", f"/shots/{back}/undo")
        self.assertEqual((undone["document"]["stack"], undone["redo"]), ([], "x"))
        self.assertFalse(arrived_path(str(Upload.objects.latest("created").pk)).exists(), "what came in is not kept twice")

    def test_without_steps_it_has_one_and_what_is_here_is_not_taken_in_twice(self) -> None:
        shot = self.pinned_shot()
        project = self.project_of(shot)
        path = self.pack(project)
        conforms = Job.objects.filter(kind="conform").count()
        job = self.open(path, project)
        self.assertEqual((job.state, job.result["project"]), ("done", project), job.message)
        self.assertEqual((Project.objects.count(), Shot.objects.count(), Asset.objects.count()), (1, 2, 2))
        self.assertEqual(Job.objects.filter(kind="conform").count(), conforms)
        self.assertEqual(Shot.objects.latest("created").revisions.count(), 1)

    def test_a_worker_that_dies_makes_it_once(self) -> None:
        shot = self.pinned_shot()
        path = self.pack(self.project_of(shot))
        job = self.open(path)
        chunk = job.pieces.get()
        from packs.work import Unpacking

        Unpacking().run(Job.objects.get(pk=job.pk), chunk, mock.Mock())
        self.assertEqual(Project.objects.count(), 2)

    def test_what_is_damaged_leaves_everything_as_it_was(self) -> None:
        shot = self.pinned_shot()
        path = self.pack(self.project_of(shot))
        forged = self.folder / "forged.plonket"
        with zipfile.ZipFile(path) as box, zipfile.ZipFile(forged, "w") as other:
            for info in box.infolist():
                data = box.read(info)
                if info.filename == "shots/000.json":
                    data = data.replace(b'"Red"', b'"Rad"')
                other.writestr(info.filename, data)
        newer = self.folder / "newer.plonket"
        with zipfile.ZipFile(newer, "w") as other:
            other.writestr("manifest.json", json.dumps({"plonket_pack": 9}))
        text = self.folder / "text.plonket"
        text.write_text("nothing of the kind")
        held = (Project.objects.count(), Asset.objects.count(), Revision.objects.count(), Measurement.objects.count())
        for bad, words in ((forged, "damaged"), (newer, "newer Plonket"), (text, "not a packed project")):
            with self.subTest(bad.name):
                job = self.open(bad)
                self.assertEqual(job.state, "failed")
                self.assertIn(words, job.message)
                self.assertIn(bad.name, job.message, "it is called what the creator calls it")
        now = (Project.objects.count(), Asset.objects.count(), Revision.objects.count(), Measurement.objects.count())
        self.assertEqual(now, held)
        self.page.json("POST", f"/projects/{self.page.json('POST', '/projects', {'name': 'Empty'})['id']}/pack", {}, status=400)

    def test_packs_are_kept_for_a_day(self) -> None:
        shot = self.pinned_shot()
        self.pack(self.project_of(shot))
        made = pack_path(str(Job.objects.get(kind="pack").pk))
        sweep()
        self.assertTrue(made.exists())
        os.utime(made, (time.time() - 2 * 86400,) * 2)
        sweep()
        self.assertFalse(made.exists())
        self.assertEqual(self.page.get(f"/packs/{Job.objects.get(kind='pack').pk}/file").status_code, 404)

    def test_a_shot_is_copied_into_another_project(self) -> None:
        shot = self.pinned_shot()
        other = self.page.json("POST", "/projects", {"name": "Night"})["id"]
        copy = self.page.json("POST", f"/shots/{shot}/copy", {"project": other})
        document = self.page.json("GET", f"/shots/{shot}")["document"]
        self.assertEqual((copy["project"], copy["document"]), (other, document))
        again = self.page.json("POST", f"/shots/{shot}/copy", {"project": self.project_of(shot)})
        self.assertEqual(again["document"]["name"], f"{document['name']} 2")
        self.page.json("DELETE", f"/shots/{shot}", status=204)
        self.assertEqual(self.page.json("GET", f"/shots/{copy['id']}")["document"], document)

    def test_projects_come_in_the_order_in_which_they_were_worked_in(self) -> None:
        first = self.page.json("POST", "/projects", {"name": "First"})["id"]
        shot = self.page.json("POST", f"/projects/{first}/shots", {"name": "A"})
        self.page.json("POST", "/projects", {"name": "Second"})
        self.assertEqual([one["name"] for one in self.page.json("GET", "/projects")], ["Second", "First"])
        renamed = [{"op": "replace", "path": "/name", "value": "B"}]
        self.page.json("POST", f"/shots/{shot['id']}/edits", {"label": "Name", "patch": renamed})
        self.assertEqual([one["name"] for one in self.page.json("GET", "/projects")], ["First", "Second"])
