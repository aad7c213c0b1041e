"""Open formats: planes, corners, points as JSON, and outlines as SVG."""

from __future__ import annotations

import json
import unittest

import numpy as np

from plonket.base.errors import FormatError
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, carry, control_points
from plonket.base.states import GIVEN, LOST, NONE, TRACKED
from plonket.formats.corners_csv import read_corners, write_corners
from plonket.formats.plane_json import read_plane, write_plane
from plonket.formats.points_csv import read_points
from plonket.formats.points_json import read_points_json, write_points_json
from plonket.formats.svg_outlines import NamedOutline, path_of, read_svg, write_svg
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack
from plonket.track.stored import read_measured

PLANE_BY_HAND = """{"reference_frame":1,"frames":[
{"frame":0,"homography":[1,0,-4,0,1,2.5,0,0,1],"confidence":0.9,"state":"tracked"},
{"frame":1,"homography":[1,0,0,0,1,0,0,0,1],"confidence":1,"state":"given"},
{"frame":3,"homography":[2,0,0,0,2,0,0,0,2],"confidence":0,"state":"lost"}]}"""
CORNERS_BY_HAND = """frame,x1,y1,x2,y2,x3,y3,x4,y4,confidence,state
0,10,10,110,10,110,60,10,60,1,given
1,12,13,112,13,112,63,12,63,0.8,tracked
"""
QUAD = ((0.0, 0.0), (100.0, 0.0), (100.0, 50.0), (0.0, 50.0))


class PlaneJson(unittest.TestCase):
    def test_file_checked_by_hand(self) -> None:
        track = read_plane(PLANE_BY_HAND)
        self.assertEqual((track.frames, track.reference_frame), (4, 1))
        self.assertEqual(track.state.tolist(), [TRACKED, GIVEN, NONE, LOST])
        np.testing.assert_allclose(carry(np.array([[10.0, 10]]), track.homography[0]), [[6, 12.5]])
        np.testing.assert_allclose(track.homography[3], np.eye(3))

    def test_round_trip(self) -> None:
        track = read_plane(PLANE_BY_HAND)
        again = read_plane(write_plane(track))
        np.testing.assert_allclose(again.homography, track.homography)
        np.testing.assert_array_equal(again.state, track.state)
        data = json.loads(write_plane(track))
        self.assertEqual(set(data["frames"][0]) >= {"frame", "homography", "confidence", "state"}, True)
        stored = read_measured(track.to_bytes())
        assert isinstance(stored, PlaneTrack)
        self.assertEqual(stored.to_bytes(), track.to_bytes())

    def test_wrong_files(self) -> None:
        for text, word in (
            ("[]", "needs"), ("{", "needs"), ('{"reference_frame":0,"frames":[]}', "no frames"),
            ('{"reference_frame":0,"frames":[{"frame":0,"homography":[1,2]}]}', "Entry 1"),
            ('{"reference_frame":0,"frames":[{"frame":0,"homography":[0,0,0,0,0,0,0,0,1]}]}', "inverted"),
            ('{"reference_frame":0,"frames":[{"frame":0,"homography":[1,0,0,0,1,0,0,0,NaN]}]}', "Entry 1"),
        ):  # fmt: skip
            with self.assertRaises(FormatError) as caught:
                read_plane(text)
            self.assertIn(word, caught.exception.message)
        with self.assertRaises(FormatError) as caught:
            read_plane(PLANE_BY_HAND, frames=2)
        self.assertIn("clip ends at 1", caught.exception.message)


class CornersCsv(unittest.TestCase):
    def test_file_checked_by_hand(self) -> None:
        quad, track = read_corners(CORNERS_BY_HAND, 0)
        np.testing.assert_allclose(quad[2], [110, 60])
        np.testing.assert_allclose(track.homography[1], [[1, 0, 2], [0, 1, 3], [0, 0, 1]], atol=1e-9)

    def test_round_trip(self) -> None:
        track = read_plane(PLANE_BY_HAND.replace('"lost"', '"tracked"'))
        motion = PlaneMotion(id="m", name="m", reference_frame=1, quad=QUAD)
        text = write_corners(motion, track)
        quad, again = read_corners(text, 1)
        np.testing.assert_allclose(quad, QUAD, atol=1e-4)
        np.testing.assert_allclose(carry(quad, again.homography[0]), carry(np.array(QUAD), track.homography[0]), atol=1e-3)

    def test_wrong_files(self) -> None:
        for text, word in (
            ("frame,x\n1,2\n", "columns"),
            (CORNERS_BY_HAND.replace("112,13", "x,13"), "Line 3"),
            (CORNERS_BY_HAND.split("\n")[0] + "\n", "no frames"),
            (CORNERS_BY_HAND.replace("12,13,112,13,112,63,12,63", "1,1,2,2,3,3,4,4"), "folded"),
        ):
            with self.assertRaises(FormatError) as caught:
                read_corners(text, 0)
            self.assertIn(word, caught.exception.message)


class PointsJson(unittest.TestCase):
    def test_same_facts_as_the_table(self) -> None:
        tracks = read_points("name,frame,x,y,confidence,state\nlamp,0,10.5,20.25,1,given\nlamp,2,12,21,0,lost\n")
        again = read_points_json(write_points_json(tracks))
        np.testing.assert_allclose(again.xy, tracks.xy)
        np.testing.assert_array_equal(again.state, tracks.state)
        self.assertEqual(again.names, ("lamp",))

    def test_wrong_files(self) -> None:
        for text in ("{}", '{"points":[{"name":"a","frames":[{"frame":-1,"x":0,"y":0}]}]}', '{"points":[]}'):
            with self.assertRaises(FormatError):
                read_points_json(text)


class Svg(unittest.TestCase):
    def test_drawn_by_hand(self) -> None:
        text = """<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 100" width="100" height="100">
          <g transform="translate(10,0)"><path id="hull" d="M 1 2 h 10 v 5 q 3 4 -10 5 z"/></g>
          <circle cx="50" cy="50" r="10" class="ignore"/><rect x="1" y="2" width="3" height="4"/></svg>"""
        found = read_svg(text, 7)
        self.assertEqual([(f.name, f.use) for f in found], [("hull", True), ("Outline 2", False), ("Outline 3", True)])
        points = control_points(found[0].outline, 7)
        np.testing.assert_allclose(points[:4, :2], [[11, 2], [21, 2], [21, 7], [11, 12]])
        np.testing.assert_allclose(points[2, 4:6], [2, 8 / 3], atol=1e-6)
        radius = np.hypot(*(control_points(found[1].outline, 7)[:, :2] - 50).T)
        np.testing.assert_allclose(radius, 10, atol=0.01)

    def test_round_trip(self) -> None:
        points = [OutlinePoint(x=10, y=10, out_x=5, out_y=-3), OutlinePoint(x=60, y=12), OutlinePoint(x=30, y=50, in_x=4)]
        outline = Outline(keys=[OutlineKey(frame=0, points=points)])
        text = write_svg([NamedOutline(name='Tin & "lid"', use=False, outline=outline)], (100, 80), 0)
        again = read_svg(text, 0)
        self.assertEqual((again[0].name, again[0].use), ('Tin & "lid"', False))
        self.assertEqual(path_of(again[0].outline, 0), path_of(outline, 0))

    def test_wrong_files(self) -> None:
        for text in ("no", "<svg", "<svg xmlns='http://www.w3.org/2000/svg'/>",
                     "<!DOCTYPE svg [<!ENTITY a 'b'>]><svg xmlns='http://www.w3.org/2000/svg'/>"):  # fmt: skip
            with self.assertRaises(FormatError):
                read_svg(text, 0)
