"""Open formats: planes, corners, points as JSON, outlines as SVG, lenses as ST maps."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.errors import FormatError
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, carry, control_points
from plonket.base.states import GIVEN, LOST, NONE, TRACKED
from plonket.document.shot import Footage
from plonket.formats.camera_csv import camera_path_of_csv, write_camera_csv
from plonket.formats.camera_json import read_camera
from plonket.formats.camera_st_maps import st_maps, write_st_maps
from plonket.formats.corners_csv import read_corners, write_corners
from plonket.formats.plane_json import read_plane, write_plane
from plonket.formats.points_csv import read_points
from plonket.formats.points_json import read_points_json, write_points_json
from plonket.formats.registry import Coming, motion_from_file
from plonket.formats.svg_outlines import NamedOutline, path_of, read_svg, write_svg
from plonket.image.exr import read_exr
from plonket.room.alignment import Room
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


class StMaps(unittest.TestCase):
    SIZE = (96, 64)

    def maps(self, k1: float, *focal: float) -> dict[str, F32]:
        frames = [{"frame": i, "position": [0, 0, 0], "rotation": [0, 0, 0, 1], "focal_px": f} for i, f in enumerate(focal)]
        text = json.dumps({"width": 96, "height": 64, "focal_px": focal[0], "distortion": {"k1": k1, "k2": 0.03}, "frames": frames})
        track = read_camera(text, len(focal), self.SIZE)
        track = replace(track, focal=np.array(focal))
        found: dict[str, F32] = {}
        with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(io.BytesIO(write_st_maps(track))) as archive:
            for name in archive.namelist():
                path = Path(folder) / "map.exr"
                path.write_bytes(archive.read(name))
                found[name] = read_exr(path, "RG")
        return found

    def pixels(self, st: F32) -> F64:
        return np.stack([st[..., 0] * 96.0, (1 - st[..., 1].astype(float)) * 64.0], axis=-1)

    def test_a_camera_comes_back_from_its_table(self) -> None:
        turn = [0.1, -0.2, 0.05, 0.97]
        frames = [{"frame": i, "position": [0.1 * i, 1.5, -2], "rotation": turn, "focal_px": 90 + i} for i in range(1, 5)]
        track = read_camera(json.dumps({"width": 96, "height": 64, "focal_px": 92, "frames": frames}), 6, self.SIZE)
        footage = Footage(asset="a" * 64, name="f", width=96, height=64, rate="25/1", frames=6, in_frame=0, out_frame=5)
        text = write_camera_csv(track, Room())
        motion, back = motion_from_file(Coming(text=text, data=text.encode(), motion_id="c", name="C", footage=footage))
        self.assertEqual((motion.kind, back.KIND), ("camera", "camera"))
        for name in ("position", "rotation", "focal"):
            np.testing.assert_allclose(getattr(back, name)[1:5], getattr(track, name)[1:5], atol=1e-5)
        np.testing.assert_array_equal(back.state, track.state)
        for bad in ("frame,x,y,z,qx,qy,qz,qw,focal_px\n", text.replace("focal_px", "lens"), text.replace("1.5", "one"),
                    text.replace("\n4,", "\n3,")):  # fmt: skip
            with self.assertRaises(FormatError):
                camera_path_of_csv(bad)

    def test_they_fetch_from_where_the_lens_bent_it_and_lead_back(self) -> None:
        found = self.maps(-0.15, 90.0)
        self.assertEqual(sorted(found), ["bent.exr", "straight.exr"])
        straight, bent = self.pixels(found["straight.exr"]), self.pixels(found["bent.exr"])
        # A corner of the straight picture lies nearer to the middle in the filmed one: Brown by hand.
        r2 = ((0.5 - 48) / 90) ** 2 + ((0.5 - 32) / 90) ** 2
        radial = 1 - 0.15 * r2 + 0.03 * r2 * r2
        np.testing.assert_allclose(straight[0, 0], [48 + (0.5 - 48) * radial, 32 + (0.5 - 32) * radial], atol=0.01)
        # From the filmed picture to the straight one and back is nowhere.
        y, x = np.mgrid[8:56, 8:88] + 0.5
        at = bent[8:56, 8:88]
        back = cv2.remap(np.ascontiguousarray(straight, np.float32), (at[..., 0] - 0.5).astype(np.float32),
                         (at[..., 1] - 0.5).astype(np.float32), cv2.INTER_LINEAR)  # fmt: skip
        np.testing.assert_allclose(back, np.stack([x, y], axis=-1), atol=0.05)

    def test_a_straight_lens_moves_nothing_and_one_that_zooms_has_a_pair_for_each_frame(self) -> None:
        track = read_camera(json.dumps({"width": 96, "height": 64, "focal_px": 90, "frames": [
            {"frame": 0, "position": [0, 0, 0], "rotation": [0, 0, 0, 1]}]}), 1, self.SIZE)  # fmt: skip
        y, x = np.mgrid[0:64, 0:96] + 0.5
        for st in st_maps(track.lens(0), self.SIZE).values():
            np.testing.assert_allclose(self.pixels(st), np.stack([x, y], axis=-1), atol=1e-4)
        zoomed = self.maps(-0.15, 90.0, 120.0)
        self.assertEqual(sorted(zoomed), [f"{name}/00000{k}.exr" for name in ("bent", "straight") for k in range(2)])
        self.assertGreater(float(np.abs(zoomed["straight/000000.exr"] - zoomed["straight/000001.exr"]).max()), 0.005)
