"""Who may talk to the server, and what it hands out."""

from __future__ import annotations

import asyncio
import json
from typing import Any

from django.test import SimpleTestCase

from plonket_server.guard import MOST_BODY, Gate
from tests.server.client import ServerTest


class Guard(ServerTest):
    def test_only_this_page_may_drive_the_server(self) -> None:
        page = self.page
        self.assertEqual(page.get("/projects", Host="evil.example").status_code, 403)
        self.assertEqual(page.get("/projects", Origin="http://evil.example").status_code, 403)
        self.assertEqual(page.get("/projects", **{"Sec-Fetch-Site": "cross-site"}).status_code, 403)
        self.assertEqual(page.send("POST", "/projects", {"name": "x"}, Origin="http://127.0.0.1").status_code, 200)
        bare = page.client.post("/api/projects", b'{"name":"x"}', content_type="application/json")
        self.assertEqual(bare.status_code, 403)
        self.assertIn("frame-ancestors 'none'", page.get("/projects")["Content-Security-Policy"])

    def test_nothing_outside_the_store_is_served(self) -> None:
        for path in ("/media/..%2f..%2fsecrets.json/original", f"/media/{'a' * 64}/..%2f..%2fsecrets.json",
                     "/clips/../../etc/50/0.jpg", f"/measurements/{'g' * 64}"):  # fmt: skip
            self.assertIn(self.page.get(path).status_code, (400, 404), path)


class BeforeDjango(SimpleTestCase):
    """The gate before everything: whoever is refused is refused before a byte of the body is read."""

    def ask(self, headers: dict[str, str], path: str = "/api/projects", kind: str = "http", pieces: int = 3) -> Any:
        """What is sent back, and how many pieces of the body were read."""
        sent: list[dict[str, Any]] = []
        read = {"pieces": 0, "app": 0}

        async def receive() -> dict[str, Any]:
            if kind == "websocket":
                return {"type": "websocket.connect"}
            read["pieces"] += 1
            return {"type": "http.request", "body": b"x" * (MOST_BODY // 2), "more_body": read["pieces"] < pieces}

        async def send(message: dict[str, Any]) -> None:
            sent.append(message)

        async def app(scope: Any, receive: Any, send: Any) -> None:
            while (message := await receive())["type"] == "http.request":
                read["app"] += len(message["body"])
                if not message["more_body"]:
                    await send({"type": "http.response.start", "status": 200, "headers": []})
                    return

        raw = [(k.encode(), v.encode()) for k, v in headers.items()]
        asyncio.run(Gate(app)({"type": kind, "path": path, "headers": raw}, receive, send))
        return sent, read

    def test_what_comes_from_elsewhere_is_refused_unread(self) -> None:
        good = {"host": "127.0.0.1:8790", "content-length": "9"}
        for headers in ({"host": "evil.example"}, good | {"origin": "http://evil.example"}, good | {"origin": "http://[::1"},
                        good | {"sec-fetch-site": "cross-site"}, {}):  # fmt: skip
            sent, read = self.ask(headers)
            self.assertEqual((sent[0]["status"], read["pieces"]), (403, 0), headers)
            self.assertEqual(json.loads(sent[1]["body"])["code"], "guard.refused")
        sent, read = self.ask(good | {"origin": "http://127.0.0.1:8790"}, pieces=1)
        self.assertEqual((sent[0]["status"], read["pieces"]), (200, 1))

    def test_bodies_have_a_limit_whether_they_say_their_length_or_not(self) -> None:
        good = {"host": "localhost:8790"}
        for length in (str(MOST_BODY + 1), "9" * 5000, "-1", "²"):
            sent, read = self.ask(good | {"content-length": length.encode("utf-8").decode("latin-1")})
            self.assertEqual((sent[0]["status"], read["pieces"]), (413, 0), length[:20])
        sent, read = self.ask(good, pieces=9)
        self.assertEqual(sent, [], "it breaks off")
        self.assertEqual(read["app"], MOST_BODY)

    def test_there_are_no_websockets(self) -> None:
        sent, _ = self.ask({"host": "localhost:8790"}, kind="websocket")
        self.assertEqual(sent, [{"type": "websocket.close", "code": 1008}])
