"""A client that behaves as the page does: cookie and token, tus uploads."""

from __future__ import annotations

import base64
import json
import uuid
from pathlib import Path
from typing import Any

import numpy as np
from asgiref.sync import async_to_sync
from django.test import Client, TransactionTestCase

from library.pool import pool
from shots.editing import document_of, find_shot


class Page:
    """The page's side of the API, with CSRF checks on."""

    def __init__(self) -> None:
        self.client = Client(enforce_csrf_checks=True, headers={"Host": "127.0.0.1"})
        self.client.get("/")
        self.token = self.client.cookies["plonket_csrf"].value

    def get(self, path: str, **headers: str) -> Any:
        return self.client.get(f"/api{path}", headers=headers)

    def send(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        return self.client.generic(
            method, f"/api{path}", json.dumps(body if body is not None else {}), content_type="application/json",
            headers={"X-CSRFToken": self.token, **headers},
        )  # fmt: skip

    def json(self, method: str, path: str, body: Any = None, status: int = 200) -> Any:
        answer = self.get(path) if method == "GET" else self.send(method, path, body)
        assert answer.status_code == status, (answer.status_code, answer.content[:400])
        return json.loads(answer.content) if answer.content else None

    def begin_upload(self, name: str, length: int, shot: str | None = None, project: str | None = None) -> Any:
        told = {"filename": name, "shot": shot, "project": project}
        words = ",".join(f"{key} {base64.b64encode(value.encode()).decode()}" for key, value in told.items() if value)
        return self.client.post(
            "/api/uploads", b"", content_type="application/octet-stream",
            headers={"X-CSRFToken": self.token, "Upload-Length": str(length), "Upload-Metadata": words,
                     "Tus-Resumable": "1.0.0"},
        )  # fmt: skip

    def piece(self, address: str, offset: int, data: bytes) -> Any:
        return self.client.patch(
            address, data, content_type="application/offset+octet-stream",
            headers={"X-CSRFToken": self.token, "Upload-Offset": str(offset), "Tus-Resumable": "1.0.0"},
        )  # fmt: skip

    def upload(self, path: Path, name: str | None = None, shot: str | None = None, project: str | None = None) -> Any:
        """Send a whole file; the last answer."""
        data = path.read_bytes()
        begun = self.begin_upload(name or path.name, len(data), shot, project)
        if begun.status_code != 201:
            return begun
        return self.piece(begun["Location"], 0, data)


def body_of(answer: Any) -> bytes:
    """The whole of a streamed answer."""

    async def whole() -> bytes:
        return b"".join([piece async for piece in answer.streaming_content])

    return async_to_sync(whole)()


class ServerTest(TransactionTestCase):
    """A test with a page; jobs run at once."""

    def setUp(self) -> None:
        self.page = Page()

    def movement(self, shot: str, motion: str, reference: int) -> np.ndarray:
        """(n, 9) the movement of a stored shot's motion from a frame on."""
        path = pool().movement(document_of(find_shot(uuid.UUID(shot))).motion(motion), reference)
        assert path is not None
        return path.reshape(len(path), 9)

    def new_shot(self, name: str = "Shot") -> str:
        project = self.page.json("POST", "/projects", {"name": "Small Lights"})
        return str(self.page.json("POST", f"/projects/{project['id']}/shots", {"name": name})["id"])
