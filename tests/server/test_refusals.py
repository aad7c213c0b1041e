"""Whatever is sent to the API, it answers in words and never falls over: unknown things, wrong kinds, absurd numbers, no body."""

from __future__ import annotations

import itertools
import json
import time
from collections.abc import Iterator
from typing import Any

from django.conf import settings

from shots.models import Revision
from tests.server.client import body_of
from tests.server.test_motions import WithPlane

SCHEMA = json.loads((settings.ROOT / "web" / "openapi.json").read_text())
UNKNOWN = "00000000-0000-4000-8000-000000000000"
STRANGE = ["nothing", "x" * 300, "%2e%2e%2fetc", "ü☃", "'; DROP TABLE shots_shot; --"]
ODD: list[Any] = [None, "", "x", -1, 1e308, 10**30, True, [], {}, [[]], {"a": {}}]
SLOW = ("/measure", "/deliver", "/ahead")
"""With real things these begin work; here they are only asked about things that are not there."""


def paths(method: str) -> Iterator[tuple[str, dict[str, Any]]]:
    for path, methods in SCHEMA["paths"].items():
        if method in methods:
            yield path.removeprefix("/api"), methods[method]


def resolved(schema: dict[str, Any]) -> dict[str, Any]:
    name = schema.get("$ref", "").rpartition("/")[2]
    return dict(SCHEMA["components"]["schemas"][name]) if name else schema


def body_schema(told: dict[str, Any]) -> dict[str, Any] | None:
    content = told.get("requestBody", {}).get("content", {}).get("application/json")
    return resolved(content["schema"]) if content else None


class Refused(WithPlane):
    def setUp(self) -> None:
        super().setUp()
        self.shot = self.shot_with_clip()
        self.add_plane(self.shot)
        self.edit(
            self.shot,
            {"op": "add", "path": "/motions/-", "value": {"kind": "camera", "id": "cam", "name": "Camera"}},
            {"op": "add", "path": "/motions/-", "value": {"kind": "points", "id": "dots", "name": "Dots"}},
            {"op": "add", "path": "/motions/-", "value": {"kind": "form", "id": "form", "name": "Form"}},
            {"op": "add", "path": "/stack/0", "value": {"kind": "fill", "id": "night", "name": "Night"}},
        )
        self.revisions = Revision.objects.count()

    def well(self, answer: Any, what: str, refused: bool | None = None) -> None:
        self.assertLess(answer.status_code, 500, (what, answer.content[:300] if not answer.streaming else ""))
        if refused is not None:
            self.assertEqual(answer.status_code >= 400, refused, (what, answer.status_code))
        if answer.status_code == 404 and "json" not in answer.headers["Content-Type"]:
            return  # No address of the API at all.
        if answer.status_code >= 400:
            told = json.loads(answer.content)
            self.assertTrue(told.get("message"), (what, told))
            self.assertNotIn("Traceback", told["message"])

    def filled(self, path: str, ids: dict[str, str]) -> str:
        for name in ("project_id", "shot_id", "job_id", "delivery_id"):
            path = path.replace("{" + name + "}", ids.get(name, UNKNOWN))
        for part in ("motion_id", "layer_id", "thing_id", "mask_id", "treatment", "digest", "registry", "form"):
            path = path.replace("{" + part + "}", ids.get(part, "nothing"))
        return path.replace("{frame}", ids.get("frame", "0"))

    def test_things_that_are_not_there(self) -> None:
        for method in ("get", "post", "delete", "patch"):
            for path, _ in paths(method):
                if "{" not in path:
                    continue
                what = f"{method} {path}"
                answer = (self.page.get(self.filled(path, {})) if method == "get"
                          else self.page.send(method.upper(), self.filled(path, {})))  # fmt: skip
                self.well(answer, what)

    def test_strange_names_of_things_in_a_real_shot(self) -> None:
        for method in ("get", "post", "delete"):
            for path, _ in paths(method):
                if "{shot_id}" not in path or path.count("{") < 2:
                    continue
                for strange in STRANGE:
                    ids = dict.fromkeys(("motion_id", "layer_id", "thing_id", "mask_id", "treatment", "form"), strange)
                    where = self.filled(path, ids | {"shot_id": self.shot, "frame": "999999"})
                    answer = self.page.get(where) if method == "get" else self.page.send(method.upper(), where)
                    # Whether something is being painted elsewhere is answered with no, whatever it is.
                    asks = method != "post" and path.endswith("/outside")
                    self.well(answer, f"{method} {path} {strange}", refused=None if asks else True)
        self.assertEqual(Revision.objects.count(), self.revisions, "nothing was changed")

    def test_bodies_of_every_wrong_kind(self) -> None:
        for path, told in paths("post"):
            if any(slow in path for slow in SLOW) or path.endswith(("/shots", "/projects", "/undo", "/redo")):
                continue
            schema = body_schema(told)
            if schema is None:
                continue
            for motion, layer in (("plane", "night"), ("cam", "night"), ("form", "nothing"), ("dots", "nothing")):
                ids = {"shot_id": self.shot, "motion_id": motion, "layer_id": layer, "thing_id": layer, "treatment": layer}
                where = self.filled(path, ids)
                for body in ODD:
                    self.well(self.page.send("POST", where, body), f"{path} {body!r}")
                for field, odd in itertools.product(schema.get("properties", {}), ODD):
                    self.well(self.page.send("POST", where, {field: odd}), f"{path} {field}={odd!r}")

    def test_a_body_that_is_no_json(self) -> None:
        for path, told in paths("post"):
            if body_schema(told) is None:
                continue
            where = f"/api{self.filled(path, {'shot_id': self.shot, 'motion_id': 'plane', 'layer_id': 'night'})}"
            for raw in (b"", b"{", b"\xff\xfe", b'{"frame": NaN}', b"[" * 2000):
                answer = self.page.client.generic("POST", where, raw, content_type="application/json",
                                                  headers={"X-CSRFToken": self.page.token})  # fmt: skip
                if not any(slow in path for slow in SLOW):
                    self.well(answer, f"{path} {raw[:20]!r}")

    def test_numbers_in_addresses(self) -> None:
        document = self.page.json("GET", f"/shots/{self.shot}")
        digest, asset = document["picture"], document["document"]["footage"]["asset"]
        for view, percent, frame in itertools.product(("final", "held-plane", "held-no", "zzz"), (0, 33, 50, 9999), (0, 29, 30, 10**12)):
            answer = self.page.get(f"/frames/{self.shot}/{digest}/{view}/{percent}/{frame}.jpg")
            self.well(answer, f"{view} {percent} {frame}",
                      refused=not (view in ("final", "held-plane") and percent == 50 and frame < 30))  # fmt: skip
        for start, stop in ((0, 0), (5, 2), (-1, 3), (0, 10**9), ("a", "b")):
            answer = self.page.get(f"/frames/{self.shot}/{digest}/final/50/range?start={start}&stop={stop}")
            self.well(answer, f"range {start} {stop}", refused=True)
        for at in ("x=nan&y=1", "x=1e400&y=1", "x=&y=", "x=-5&y=-5", ""):
            self.well(self.page.get(f"/clips/{asset}/detail?frame=0&{at}"), f"detail {at}")

    def test_patches_that_lead_nowhere(self) -> None:
        before = self.page.json("GET", f"/shots/{self.shot}")["document"]
        for patch in (
            [{"op": "remove", "path": "/stack/99"}],
            [{"op": "replace", "path": "/footage/asset", "value": "../../etc/passwd"}],
            [{"op": "add", "path": "/stack/0", "value": {"kind": "nothing"}}],
            [{"op": "move", "from": "/stack", "path": "/stack/0"}],
            [{"op": "copy", "from": "/stack/0", "path": "/stack/1"}],
            [{"op": "test", "path": "/name", "value": "another"}],
            [{"op": "add", "path": "/__class__", "value": 1}],
            [{"op": "replace", "path": "", "value": {}}],
            [{"op": "replace", "path": "/stack/0/opacity", "value": float("inf")}],
            [{"op": "replace", "path": "/stack/0/opacity", "value": "NaN"}],
            [{"op": "add", "path": "/stack/0/follow", "value": {"target": "nobody"}}],
            [{"op": "replace", "path": "/name", "value": "x" * 10_000}],
        ):
            answer = self.page.send("POST", f"/shots/{self.shot}/edits", {"label": "x", "patch": patch})
            self.well(answer, json.dumps(patch), refused=True)
        self.assertEqual(self.page.json("GET", f"/shots/{self.shot}")["document"], before)

    def test_patches_that_would_never_end(self) -> None:
        deep: Any = 1
        for _ in range(900):
            deep = [deep]
        doubling = [{"op": "copy", "from": "", "path": f"/x{k}"} for k in range(19)]
        keys = [{"op": "add", "path": "/stack/0/masks", "value": list(range(3000))}]
        keys += [{"op": "copy", "from": "/stack/0/masks", "path": f"/stack/0/masks/{k}"} for k in range(30)]
        for patch in ([{"op": "add", "path": "/stack/0/x", "value": deep}], doubling, keys):
            began = time.monotonic()
            answer = self.page.send("POST", f"/shots/{self.shot}/edits", {"label": "x", "patch": patch})
            self.well(answer, str(patch)[:60], refused=True)
            self.assertLess(time.monotonic() - began, 20)
        nested = b'{"label": "x", "patch": ' + b"[" * 50_000 + b"]" * 50_000 + b"}"
        raw = self.page.client.generic("POST", f"/api/shots/{self.shot}/edits", nested, content_type="application/json",
                                       headers={"X-CSRFToken": self.page.token})  # fmt: skip
        self.well(raw, "nested", refused=True)

    def test_headers_that_are_no_numbers_or_no_addresses(self) -> None:
        asset = self.page.json("GET", f"/shots/{self.shot}")["document"]["footage"]["asset"]
        strip = f"/media/{asset}/strip.jpg"
        whole = len(body_of(self.page.get(strip)))
        for odd in ("bytes=" + "9" * 5000 + "-", "bytes=²-³", "bytes=-" + "1" * 5000, "bytes=5-2", "lines=1-2", "bytes=--"):
            answer = self.page.get(strip, Range=odd)
            self.assertIn(answer.status_code, (200, 416), odd[:30])
            if answer.status_code == 200:
                self.assertEqual(len(body_of(answer)), whole)
        for origin in ("http://[::1", "http://[", "null", "\x00"):
            self.assertEqual(self.page.get("/projects", Origin=origin).status_code, 403, origin)

    def test_queries_hold_numbers(self) -> None:
        asset = self.page.json("GET", f"/shots/{self.shot}")["document"]["footage"]["asset"]
        for query in ("x=5&y=5&pattern_px=nan", "x=inf&y=5", "x=5&y=-Infinity", "x=NaN&y=5", "x=5&y=5&pattern_px=-3"):
            self.well(self.page.get(f"/clips/{asset}/detail?frame=0&{query}"), query, refused=True)
