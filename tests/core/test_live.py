"""The browser's own modules: what the server says while it works, how it is called, and small things that place and thin."""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Key, Keyed
from plonket.base.states import GIVEN, LOST, TRACKED
from plonket.document.follow import Follow
from plonket.document.kinds import MOTIONS
from plonket.document.spot import Spot
from plonket.layers.generated import GeneratedLayer
from plonket.layers.placed import frame_from_own
from plonket.layers.still import StillLayer
from plonket.track.spaces import Spaces
from tests.core.copies import Alike, AlikeRooms


class Changing(Alike):
    """Changes of a shot go out one after another; a server answered by hand."""

    def setUp(self) -> None:
        self.here(1)
        self.say("changing.sent")
        self.say("changing.said")

    def record(self, version: int, high: int = 0, undo: str | None = None) -> dict[str, Any]:
        return {"id": "1", "version": version, "undo": undo, "redo": None, "document": {"high": high}}

    def here(self, version: int, high: int = 0, undo: str | None = None) -> None:
        self.say("changing.here", self.record(version, high, undo))

    def answer(self, path: str, body: Any, status: int = 200) -> None:
        self.say("frames.answer", f"/api/shots/1{path}", {"status": status, "body": body})

    def sent(self) -> list[Any]:
        self.say("frames.pause", 2)
        return [[url.removeprefix("/api/shots/1"), body] for url, body in self.say("changing.sent")]

    def raised(self, to: int) -> list[Any]:
        return ["/edits", {"label": "Raise", "patch": [{"op": "replace", "path": "/high", "value": to}]}]

    def test_a_second_edit_is_made_from_the_answer_to_the_first(self) -> None:
        for by in (2, 3):
            self.say("changing.raise", by)
        self.assertEqual(self.sent(), [self.raised(2)], "one at a time")
        # The server may have done more than was asked: the next one starts from there.
        self.answer("/edits", self.record(2, high=10))
        self.assertEqual(self.sent(), [self.raised(13)])
        self.answer("/edits", self.record(3, high=13))
        self.assertEqual((self.say("changing.shot")["document"]["high"], self.sent()), (13, []))

    def test_an_operation_is_made_from_the_shot_as_it_is_by_then(self) -> None:
        self.say("changing.raise", 2)
        self.say("changing.nearer", "boat")
        self.assertEqual(self.sent(), [self.raised(2)], "one at a time")
        self.answer("/edits", self.record(2, high=7))
        self.assertEqual(self.sent(), [["/operations", {"operation": {"do": "move", "thing": "boat", "before": "7"}}]])
        self.answer("/operations", {"shot": self.record(3), "made": None})
        self.say("changing.nearer", "boat")
        self.assertEqual((self.say("changing.shot")["version"], self.sent()), (3, []), "what is nothing is not sent")

    def test_undo_takes_back_the_edit_that_was_still_on_its_way(self) -> None:
        self.say("changing.undo")
        self.assertEqual(self.sent(), [], "nothing to undo")
        self.say("changing.raise", 5)
        self.say("changing.undo")
        self.assertEqual(self.sent(), [self.raised(5)])
        self.answer("/edits", self.record(2, high=5, undo="Raise"))
        self.assertEqual(self.sent(), [["/undo", {}]])
        self.answer("/undo", self.record(3))
        self.assertEqual((self.say("changing.shot")["version"], self.say("changing.said")), (3, ["Undone: Raise"]))

    def test_what_is_refused_says_why_and_lets_the_next_go(self) -> None:
        self.say("changing.edit", "Move", [{"op": "add", "path": "/x", "value": 1}])
        self.say("changing.edit", "Nothing", [])
        self.say("changing.fail")
        self.say("changing.raise", 1)
        self.assertEqual([path for path, _ in self.sent()], ["/edits"])
        self.answer("/edits", {"code": "x", "message": "There is no room."}, status=400)
        self.assertEqual(self.sent(), [self.raised(1)], "an edit of nothing is not sent")
        said = self.say("changing.said")
        self.assertEqual(said[0], "There is no room.")
        self.assertIn("A slip of ours.", said[1])
        self.answer("/edits", self.record(2))

    def test_the_later_of_two_answers_stands(self) -> None:
        self.say("changing.ask", "/layers/a/match")
        self.sent()
        self.here(9, high=9)
        self.answer("/layers/a/match", {"shot": self.record(7, high=7)})
        self.assertEqual(self.say("changing.shot")["document"]["high"], 9)
        self.say("changing.ask", "/layers/a/match")
        self.sent()
        self.answer("/layers/a/match", {"shot": self.record(10, high=8)})
        self.assertEqual(self.say("changing.shot")["document"]["high"], 8)

    def test_a_change_that_is_heard_of_is_fetched_only_when_it_is_not_our_own(self) -> None:
        self.say("changing.raise", 1)
        self.say("changing.heard", 2)
        self.sent()
        self.answer("/edits", self.record(2, high=1))
        self.assertFalse(self.say("changing.stale"), "the answer brought what the event told of")
        self.say("changing.heard", 3)
        self.say("frames.pause", 2)
        self.assertTrue(self.say("changing.stale"))


class Called(Alike):
    """Calls of the server, answered by hand."""

    def called(self, method: str, path: str, body: Any = None, reply: Any = None) -> Any:
        self.say("server.call", method, path, body)
        self.say("frames.answer", f"/api{path}", reply)
        return self.say("server.told")

    def test_what_is_sent_is_json_with_the_page_s_word(self) -> None:
        told = self.called("POST", "/shots/1/edits", {"label": "Move"}, {"status": 200, "body": {"number": 7}})
        self.assertEqual(told, {"number": 7})
        asked = self.say("server.asked")
        self.assertEqual((asked["method"], json.loads(asked["body"])), ("POST", {"label": "Move"}))
        self.assertEqual(asked["headers"], {"X-CSRFToken": "secret", "Content-Type": "application/json"})

    def test_nothing_sent_is_no_json_and_nothing_told_is_nothing(self) -> None:
        self.assertIsNone(self.called("DELETE", "/assets/1", None, {"status": 204, "body": None}))
        self.assertEqual(self.say("server.asked")["headers"], {"X-CSRFToken": "secret"})

    def test_problems_come_in_the_server_s_words(self) -> None:
        body = {"code": "room.pair", "message": "Pick two details for this.", "details": {"found": 1}}
        self.assertEqual(self.called("POST", "/a", {}, {"status": 400, "body": body}), {"status": 400, **body})
        told = self.called("GET", "/b", None, {"status": 502, "body": None})
        self.assertEqual((told["status"], told["code"]), (502, "unknown"))
        self.assertIn("502", told["message"])

    def test_a_server_that_is_gone_is_said(self) -> None:
        told = self.called("GET", "/c", None, "silence")
        self.assertEqual((told["status"], told["code"]), (0, "network"))
        self.assertIn("Nothing is lost", told["message"])


class Live(Alike):
    def job(self, **more: Any) -> dict[str, Any]:
        return {"id": "j", "kind": "measure", "state": "running", "motion": "m", "label": "Delivering it", "message": "", "result": {}, **more}

    def partial(self, rows: list[list[float]], kind: str = "plane", job: str = "j", ids: list[str] | None = None) -> None:
        self.say("live.partial", {"job": job, "motion": "m", "kind": kind, "ids": ids or [], "rows": rows})

    def test_rows_come_in_and_the_last_word_on_a_frame_holds(self) -> None:
        eye = np.eye(3).ravel().tolist()
        self.partial([[4, 0.9, TRACKED, 0, 3, *eye], [5, 0.8, TRACKED, 0, 3, *eye]])
        moved = [1, 0, 7, 0, 1, 2, 0, 0, 1]
        self.partial([[5, 0.7, TRACKED, 0, 3, *moved], [6, 0.6, TRACKED, 0, 3, *eye]])
        told = self.say("live.rows", "m")
        self.assertEqual([key for key, _ in told["rows"]], ["4", "5", "6"])
        self.assertEqual((told["last"], self.say("live.plane", "m", 5)), (6, moved))
        self.assertIsNone(self.say("live.plane", "m", 9))
        # Another run begins anew.
        self.partial([[0, 1.0, TRACKED, 0, 3, *eye]], job="k")
        self.assertEqual([key for key, _ in self.say("live.rows", "m")["rows"]], ["0"])

    def test_points_are_told_apart_by_their_numbers(self) -> None:
        self.partial([[0, 3, 10, 20, 0.9, TRACKED, 0], [1, 3, 30, 40, 0.9, TRACKED, 0]], "points", "p", ["a", "b"])
        told = self.say("live.rows", "m")
        self.assertEqual([key for key, _ in told["rows"]], ["0:3", "1:3"])
        self.assertEqual((told["last"], told["ids"]), (3, ["a", "b"]))
        self.assertIsNone(self.say("live.plane", "m", 3), "points are no plane")

    def test_what_was_partly_measured_goes_when_its_job_ends(self) -> None:
        eye = np.eye(3).ravel().tolist()
        for state in ("done", "failed", "stopped"):
            self.partial([[0, 1.0, TRACKED, 0, 3, *eye]])
            self.say("live.job", self.job())
            self.assertIsNotNone(self.say("live.rows", "m"), state)
            self.say("live.job", self.job(state=state, motion="other"))
            self.assertIsNotNone(self.say("live.rows", "m"), state)
            self.say("live.job", self.job(state=state))
            self.assertIsNone(self.say("live.rows", "m"), state)
            self.assertEqual(self.say("live.jobs")["j"]["state"], state)

    def test_what_an_ended_job_changed_is_fetched_anew(self) -> None:
        self.say("live.stale")
        self.say("live.job", self.job(kind="deliver", state="running"))
        self.assertEqual(self.say("live.stale"), [])
        self.say("live.job", self.job(kind="deliver", state="done"))
        self.assertEqual(self.say("live.stale"), [{"queryKey": ["deliveries"]}])
        self.say("live.job", self.job(kind="conform", state="failed"))
        self.assertEqual(self.say("live.stale"), [{"queryKey": ["assets"]}])

    def test_lost_frames_are_told_in_runs(self) -> None:
        states = [TRACKED, LOST, LOST, TRACKED, LOST, GIVEN, LOST]
        self.assertEqual(self.say("live.badRuns", "plane", states, [], 0, 6), [[1, 2], [4, 4], [6, 6]])
        self.assertEqual(self.say("live.badRuns", "plane", states, [], 2, 5), [[2, 2], [4, 4]])
        self.assertEqual(self.say("live.badRuns", "plane", [TRACKED], [], 0, 5), [])

    def test_of_a_matte_unsure_frames_are_told_and_not_those_without_it(self) -> None:
        self.say("kinds.learnKinds", "motion", [{"kind": e.kind, "traits": sorted(e.traits)} for e in MOTIONS])
        states = [GIVEN, TRACKED, TRACKED, TRACKED, LOST, TRACKED]
        self.assertEqual(self.say("live.badRuns", "matte", states, [0.1, 0.4, 0.2, 0.9, 0.0, 0.3], 0, 5), [[1, 2], [5, 5]])

    def test_a_point_s_handle_stands_where_it_is_known_nearest(self) -> None:
        motion = {"points": [{"id": "a", "given": [{"frame": 2, "x": 1, "y": 2}, {"frame": 9, "x": 5, "y": 6}]}]}
        known = {4: {"x": 3, "y": 3, "state": TRACKED, "confidence": 1, "reason": 0}}
        spot = [self.say("live.handle", known, motion, "a", frame) for frame in (4, 3, 7)]
        self.assertEqual([(s["x"], s["y"]) for s in spot], [(3, 3), (1, 2), (5, 6)])
        self.assertEqual((spot[0]["state"], spot[2]["confidence"]), (TRACKED, 0))


class Placed(Alike):
    def test_a_layer_s_own_pixels_lie_where_the_core_draws_them(self) -> None:
        path: F64 = np.array([[[1.1, 0.1, 12.0], [-0.08, 0.95, -7.0], [2e-4, -1e-4, 1.0]]] * 12)
        spaces = Spaces([], lambda motion, reference: path, (640, 360))
        keyed = Keyed(keys=[Key(frame=0, value=30.0), Key(frame=10, value=90.0)])
        follow = Follow(target="m", perspective=True)
        still = {"id": "a", "name": "a", "asset": "a" * 64, "width": 80, "height": 50, "y": 44.0, "turn": 20.0, "size": 70.0,
                 "follow": follow.model_dump()}  # fmt: skip
        for more in ({}, {"anchor_x": 0.0, "anchor_y": 100.0}, {"anchor_x": 130.0}):
            layer = StillLayer.model_validate({**still, **more, "x": keyed.model_dump()})
            for frame in (0, 4, 11):
                told = self.say("placing.own", layer, path[0].ravel().tolist(), frame)
                expected = frame_from_own(layer, spaces, frame, 80, 50)
                same(self, told, expected)

    def test_masks_on_a_mirrored_picture_are_mirrored_with_it(self) -> None:
        common = {"id": "a", "name": "a", "asset": "a" * 64, "width": 80, "height": 50, "x": 100.0, "y": 60.0}
        eye = np.eye(3).ravel().tolist()
        plain = through(self.say("placing.picture", StillLayer.model_validate(common), eye, 0), (10, 20))
        np.testing.assert_allclose(plain, (100 - 40 + 10, 60 - 25 + 20))
        for mirror, at in (("across", (70, 20)), ("down", (10, 30)), ("both", (70, 30))):
            layer = StillLayer.model_validate(common | {"mirror": mirror})
            told = through(self.say("placing.picture", layer, eye, 0), at)
            np.testing.assert_allclose(told, plain, err_msg=mirror)

    def test_what_is_generated_has_its_middle_where_it_sits(self) -> None:
        layer = GeneratedLayer.model_validate({"id": "g", "name": "g", "generator": {"kind": "ring"}, "x": 33.0, "y": 44.0})
        told = self.say("placing.picture", layer, np.eye(3).ravel().tolist(), 0)
        np.testing.assert_allclose(through(told, (0, 0)), (33, 44), atol=1e-9)

    def test_a_stroke_is_thinned_but_keeps_its_ends(self) -> None:
        path = [{"x": 0.1 * k, "y": 0.0} for k in range(101)]
        told = self.say("placing.thinned", path, 20)
        self.assertEqual((told[0], told[-1]), ([0, 0], [10, 0]))
        gaps = np.diff([x for x, _ in told[:-1]])
        self.assertGreaterEqual(float(gaps.min()), 0.5 - 1e-9)
        self.assertLess(len(told), 22)
        self.assertEqual(self.say("placing.thinned", path[:1], 20), [[0, 0]])


class Dragged(AlikeRooms):
    """A spot dragged to a pixel of the room."""

    def moved(self, spot: Spot, frame: int, pixel: F64, lift: bool, above: float = 0.0) -> Spot:
        at = {"x": float(pixel[0]), "y": float(pixel[1])}
        return Spot.model_validate(self.say("placing.movedSpot", "ROOM", spot, frame, at, lift, above))

    def test_over_its_level_up_and_down_and_what_is_held_above_it(self) -> None:
        seen = self.made(-0.08, 0.0)
        spot = Spot(x=0.1, y=0.0, z=-0.1)
        place = np.array([-0.15, 0.0, 0.12])
        along = self.moved(spot, 2, seen.project(2, place), False)
        np.testing.assert_allclose(along.place(2), place, atol=2e-4)
        # On a table it stays on the table's level.
        table = Spot(x=0.1, y=0.2, z=-0.1)
        place = np.array([0.0, 0.2, 0.1])
        np.testing.assert_allclose(self.moved(table, 2, seen.project(2, place), False).place(2), place, atol=2e-4)
        up = self.moved(spot, 2, seen.project(2, np.array([0.1, 0.0, -0.1])) - [0, 40], True).place(2)
        self.assertGreater(float(up[1]), 0.02)
        # Held by its head: the head goes to the pixel, the foot stays on the ground.
        head = np.array([-0.15, 0.25, 0.12])
        foot = self.moved(spot, 2, seen.project(2, head), False, 0.25)
        np.testing.assert_allclose(foot.place(2), head - [0, 0.25, 0], atol=2e-4)

    def test_a_keyed_spot_is_keyed_where_it_is_dragged(self) -> None:
        seen = self.made(0.0, 0.0)
        keys = Keyed(keys=[Key(frame=0, value=0.0), Key(frame=4, value=0.2)])
        spot = Spot(x=keys, z=-0.1)
        moved = self.moved(spot, 2, seen.project(2, np.array([0.3, 0.0, 0.0])), False)
        assert isinstance(moved.x, Keyed)
        self.assertEqual([k.frame for k in moved.x.keys], [0, 2, 4])
        np.testing.assert_allclose(moved.place(2), [0.3, 0, 0], atol=2e-4)
        np.testing.assert_allclose([moved.place(0)[0], moved.place(4)[0]], [0, 0.2])


def through(matrix: list[float], at: tuple[float, float]) -> F64:
    out = np.array(matrix).reshape(3, 3) @ [*at, 1.0]
    return np.asarray(out[:2] / out[2])


def same(test: Alike, told: list[float], expected: F64) -> None:
    for at in ((0.0, 0.0), (80.0, 0.0), (80.0, 50.0), (13.0, 31.0)):
        np.testing.assert_allclose(through(told, at), through(expected.ravel().tolist(), at), atol=1e-6)
