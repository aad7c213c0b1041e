"""The command that solves cameras."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from plonket.base.errors import BadInput
from plonket.cli.terminal import parse_range, terminal_work


def add_camera_commands(commands: Any) -> None:
    """`solve-camera` and `solve-object`, into the parser's commands."""
    one = commands.add_parser("solve-camera", help="solve the camera's movement, its lens and points of the set, to JSON")
    one.add_argument("clip", type=Path, metavar="CLIP")
    known = one.add_mutually_exclusive_group()
    known.add_argument("--focal-35mm", type=float, metavar="F", help="focal length as the 35 mm equivalent")
    known.add_argument("--focal-px", type=float, metavar="F", help="focal length in pixels")
    one.add_argument("--ignore", type=Path, metavar="MATTE", help="a folder of PNGs or a video; white is ignored")
    one.add_argument("--zoom", action="store_true", help="the focal length changes through the clip")
    one.add_argument("--details", type=int, default=400, metavar="N", help="details followed at a time (default 400)")
    one.add_argument("--strength", type=float, default=1.5, metavar="S", help="how clear a detail must be (default 1.5)")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="camera.json", help=".json, .csv, .glb, .usda, .usdc or .usdz")
    one.set_defaults(run=_solve_camera)

    one = commands.add_parser("solve-object", help="solve a rigid thing before a still camera from points on it, to JSON")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--points", type=Path, required=True, metavar="points.csv",
                     help="what track-points wrote; eight points or more")  # fmt: skip
    one.add_argument("--focal-px", type=float, metavar="F", help="focal length in pixels (default: looked for)")
    one.add_argument("--out", type=Path, required=True, metavar="object.json")
    one.set_defaults(run=_solve_object)


def _solve_camera(options: argparse.Namespace) -> None:
    from plonket.formats.camera_csv import write_camera_csv
    from plonket.formats.camera_gltf import write_camera_glb
    from plonket.formats.camera_json import write_camera
    from plonket.formats.camera_usd import write_camera_usd
    from plonket.formats.scene import Scene
    from plonket.media import open_clip
    from plonket.media.clip import gyroscope_of
    from plonket.room.alignment import Room
    from plonket.track.camera.measure import measure_camera
    from plonket.track.camera.settings import CameraMotion
    from plonket.track.context import LoneContext
    from plonket.track.plane.by_itself import MATTE
    from plonket.track.request import MeasureRequest

    form = options.out.suffix.lower()
    if form not in (".json", ".csv", ".glb", ".usda", ".usdc", ".usdz"):
        raise BadInput("cli.out", "--out must end in .json, .csv, .glb, .usda, .usdc or .usdz.")
    clip = open_clip(options.clip)
    size = clip.info.size
    focal = options.focal_px
    if options.focal_35mm is not None:
        focal = options.focal_35mm / 36.0 * max(size)
    _check_focal(focal, size)
    if not 60 <= options.details <= 2000 or not 0.2 <= options.strength <= 12:
        raise BadInput("cli.details", "--details must be from 60 to 2000 and --strength from 0.2 to 12.")
    matte = open_clip(options.ignore) if options.ignore else None
    motion = CameraMotion(
        id="camera", name="camera", knows="unknown" if focal is None else "pixels", focal_px=focal or 1000.0,
        zoom=options.zoom, count=options.details, strength=options.strength, ignore_matte=MATTE if matte else None,
    )  # fmt: skip
    start, stop = parse_range(options.range, clip.info.frames)
    record = gyroscope_of(clip)
    track = measure_camera(motion, MeasureRequest(
        clip=clip, start=start, stop=stop, work=terminal_work("Solving"),
        context=LoneContext(clip=matte, record=record),
    ))  # fmt: skip
    fps = clip.info.rate
    if form == ".json":
        options.out.write_text(write_camera(track, fps))
    elif form == ".csv":
        options.out.write_text(write_camera_csv(track, Room()))
    elif form == ".glb":
        options.out.write_bytes(write_camera_glb(Scene(track=track, room=Room(), fps=fps)))
    else:
        options.out.write_bytes(write_camera_usd(Scene(track=track, room=Room(), fps=fps), form))


def _check_focal(focal: float | None, size: tuple[int, int]) -> None:
    if focal is not None and not 0.15 * max(size) <= focal <= 40 * max(size):
        raise BadInput("cli.focal", f"A focal length of {focal:.0f} pixels cannot belong to a picture {size[0]} pixels wide.")


def _solve_object(options: argparse.Namespace) -> None:
    from plonket.formats.camera_json import write_camera
    from plonket.formats.points_csv import read_points
    from plonket.media import open_clip
    from plonket.track.object.solve import solve_object

    clip = open_clip(options.clip)
    if not options.points.exists():
        raise BadInput("cli.file", f"{options.points.name} was not found.")
    _check_focal(options.focal_px, clip.info.size)
    tracks = read_points(options.points.read_text(errors="replace"), clip.info.frames)
    track = solve_object(tracks, clip.info.size, focal=options.focal_px, work=terminal_work("Solving"))
    options.out.write_text(write_camera(track, clip.info.rate, names=tracks.names))
