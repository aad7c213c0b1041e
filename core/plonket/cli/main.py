"""The core's command line: ``bin/plonket probe | track-points | solve-camera | render | ...``."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from plonket.base.errors import BadInput
from plonket.cli.camera import add_camera_commands
from plonket.cli.depth import add_depth_command
from plonket.cli.key import add_key_commands
from plonket.cli.looking import add_looking_commands
from plonket.cli.matching import add_matching_commands
from plonket.cli.packing import add_packing_commands
from plonket.cli.terminal import parse_range, run_command, terminal_work
from plonket.document.shot import Shot
from plonket.track.plane.settings import FREEDOMS

if TYPE_CHECKING:
    from plonket.media.info import ClipInfo
    from plonket.plate.repair.behind import MeasuredDepth


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit code."""
    return run_command(_parser().parse_args(arguments))


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="plonket", description="Tracked effect shots from handheld footage.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    one = commands.add_parser("probe", help="facts about a clip as JSON")
    one.add_argument("clip", type=Path, metavar="CLIP", help="a video, a folder of numbered pictures, or a still")
    one.set_defaults(run=_probe)

    one = commands.add_parser("track-points", help="follow points through a clip, to CSV")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--point", action="append", required=True, metavar="NAME=FRAME,X,Y",
                     help="a point put by hand; the same name again is a stake on another frame")  # fmt: skip
    one.add_argument("--out", type=Path, required=True, metavar="points.csv")
    one.add_argument("--pattern", type=float, default=23, metavar="PX", help="size of the detail (default 23)")
    one.add_argument("--reach", type=float, default=40, metavar="PX", help="how far it is looked for (default 40)")
    one.add_argument("--change", choices=["shift", "similar", "affine", "perspective"], default="similar",
                     help="how the pattern may change: shift, turn and grow (default), skew too, perspective")  # fmt: skip
    one.add_argument("--channel", choices=["luma", "red", "green", "blue"], default="luma")
    one.add_argument("--direction", choices=["forward", "backward", "both"], default="both")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.set_defaults(run=_track_points)

    one = commands.add_parser("track-plane", help="follow a flat surface through a clip, to JSON or CSV")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--frame", type=int, default=0, metavar="N", help="frame on which the regions are drawn (default 0)")
    one.add_argument("--region", action="append", default=[], metavar='"x,y x,y x,y ..."',
                     help="an outline of the surface in pixels; may be given several times")  # fmt: skip
    one.add_argument("--regions", type=Path, metavar="FILE.svg",
                     help="outlines as SVG paths; those of class \"ignore\" are not looked at")  # fmt: skip
    one.add_argument("--ignore", type=Path, metavar="MATTE", help="a folder of PNGs or a video; white is ignored")
    one.add_argument("--motion", choices=list(FREEDOMS), default="perspective", help="how the surface may move")
    one.add_argument("--reach", type=float, default=48, metavar="PX", help="how far it may jump in a frame (default 48)")
    one.add_argument("--direction", choices=["forward", "backward", "both"], default="both")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="plane.json",
                     help=".json for homographies, .csv for the corners of the region's box")  # fmt: skip
    one.set_defaults(run=_track_plane)

    add_camera_commands(commands)

    one = commands.add_parser("steady", help="steady a clip on a plane that was followed")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--plane", type=Path, required=True, metavar="plane.json", help="what track-plane wrote")
    one.add_argument("--mode", choices=["lock", "smooth"], default="lock",
                     help="lock: the surface stands still; smooth: only the bumps are taken out (default lock)")  # fmt: skip
    one.add_argument("--seconds", type=float, default=1.5, metavar="S",
                     help="with smooth: swings as long as this are kept by half (default 1.5)")  # fmt: skip
    one.add_argument("--fit", choices=["none", "zoom", "glide", "fill"], default="none",
                     help="empty borders: shown, zoomed away (glide: slowly), or filled from other frames")  # fmt: skip
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="OUT", help=".mp4, .mov or a folder for PNG files")
    one.set_defaults(run=_steady)

    one = commands.add_parser("fill", help="take out what a matte covers, in every frame")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--matte", type=Path, required=True, metavar="MATTE", help="a folder of PNGs or a video; white is filled")
    one.add_argument("--method", choices=["time", "edges", "texture"], default="time",
                     help="time: borrow what other frames show there; edges: from its surroundings; texture: go on with "
                          "patches of them, found once and carried along (default time)")  # fmt: skip
    one.add_argument("--camera", type=Path, metavar="camera.json", help="the solved camera, for --depth")
    one.add_argument("--depth", type=Path, metavar="FOLDER", help="the clip's depth, as `depth` writes it: borrowed by that")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="OUT", help=".mp4, .mov or a folder for PNG files")
    one.set_defaults(run=_fill)

    add_key_commands(commands)
    add_looking_commands(commands)
    add_depth_command(commands)
    add_matching_commands(commands)

    one = commands.add_parser("render", help="render a shot file to a video or folder")
    one.add_argument("shot", type=Path, metavar="SHOT.json")
    one.add_argument("--out", type=Path, required=True, metavar="OUT", help="a file by its ending, or a folder for pictures")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 (default: the shot's own range)")
    one.add_argument("--scale", type=float, default=None, metavar="S", help="of full size, such as 0.5")
    one.add_argument("--passes", metavar="NAME,...",
                     help="each layer by itself, in a folder: beauty, shadow, matte, depth, normals")  # fmt: skip
    one.add_argument("--format", metavar="NAME",
                     help="h264, h265, av1, vp9, prores422, prores4444, ffv1, png, exr, tiff, jpeg, webp, gif, still or wav "
                          "(default: by OUT's ending); of passes exr (default) or png, with 16 bits")  # fmt: skip
    one.add_argument("--frame", metavar="NAME", help="the delivery frame to be cut out (default: the whole picture)")
    one.add_argument("--set", action="append", default=[], metavar="NAME=VALUE",
                     help="a setting of the format, such as quality=best, bits=10 or at_most=50 (MB)")  # fmt: skip
    one.set_defaults(run=_render)

    add_packing_commands(commands)
    return parser


def parse_point(text: str) -> tuple[str, int, float, float]:
    """``NAME=FRAME,X,Y`` to its parts."""
    name, _, rest = text.partition("=")
    parts = rest.split(",")
    try:
        if not name.strip() or len(parts) != 3:
            raise ValueError
        return name.strip(), int(parts[0]), float(parts[1]), float(parts[2])
    except ValueError:
        raise BadInput("cli.point", f"{text!r} is not a point. Write NAME=FRAME,X,Y such as lamp=0,512,300.") from None


def parse_outline(text: str) -> list[tuple[float, float]]:
    """``x,y x,y x,y ...`` to its points."""
    try:
        points = [(float(x), float(y)) for x, y in (pair.split(",") for pair in text.replace(";", " ").split())]
        if len(points) < 3:
            raise ValueError
        return points
    except ValueError:
        raise BadInput(
            "cli.region", f'{text!r} is not an outline. Write three points or more, such as "10,20 300,20 300,200".'
        ) from None


def _probe(options: argparse.Namespace) -> None:
    from plonket.media import probe

    print(json.dumps(probe(options.clip).to_json(), indent=1))


def _track_points(options: argparse.Namespace) -> None:
    from plonket.formats.points_csv import write_points
    from plonket.media import open_clip
    from plonket.track.points.measure import measure_points
    from plonket.track.points.settings import Given, PointMotion, TrackPoint
    from plonket.track.request import MeasureRequest

    given: dict[str, list[Given]] = {}
    for text in options.point:
        name, frame, x, y = parse_point(text)
        given.setdefault(name, []).append(Given(frame=max(frame, 0), x=x, y=y))
    if not 7 <= options.pattern <= 201 or not 4 <= options.reach <= 400:
        raise BadInput("cli.pattern", "--pattern must be from 7 to 201 and --reach from 4 to 400 pixels.")
    points = []
    for k, (name, at) in enumerate(given.items()):
        frames = {g.frame: g for g in at}
        points.append(
            TrackPoint(id=f"p{k + 1}", name=name, pattern_px=options.pattern, reach_px=options.reach,
                       given=[frames[f] for f in sorted(frames)])
        )  # fmt: skip
    motion = PointMotion(
        id="points", name="Points", points=points, channel=options.channel, change=options.change
    )
    clip = open_clip(options.clip)
    start, stop = parse_range(options.range, clip.info.frames)
    tracks = measure_points(motion, MeasureRequest(
        clip=clip, direction=options.direction, start=start, stop=stop, work=terminal_work("Frames"),
    ))  # fmt: skip
    options.out.write_text(write_points(tracks))


def _track_plane(options: argparse.Namespace) -> None:
    from plonket.formats.corners_csv import write_corners
    from plonket.formats.plane_json import write_plane
    from plonket.formats.svg_outlines import read_svg
    from plonket.media import open_clip
    from plonket.track.context import LoneContext
    from plonket.track.plane.by_itself import plane_motion
    from plonket.track.plane.measure import measure_plane
    from plonket.track.request import MeasureRequest

    clip = open_clip(options.clip)
    outlines = [(np.array(parse_outline(text)), True) for text in options.region]
    drawn = read_svg(_text_of(options.regions), options.frame) if options.regions else []
    if not 0 <= options.frame < clip.info.frames:
        raise BadInput("cli.frame", f"--frame {options.frame} is outside the clip, which has {clip.info.frames} frames.")
    if not 4 <= options.reach <= 400:
        raise BadInput("cli.reach", "--reach must be from 4 to 400 pixels.")
    matte = open_clip(options.ignore) if options.ignore else None
    motion = plane_motion(outlines, drawn, clip.info.size, frame=options.frame, freedom=options.motion,
                          reach_px=options.reach, matte=matte is not None)  # fmt: skip
    start, stop = parse_range(options.range, clip.info.frames)
    track = measure_plane(motion, MeasureRequest(
        clip=clip, direction=options.direction, start=start, stop=stop, work=terminal_work("Frames"),
        context=LoneContext(clip=matte),
    ))  # fmt: skip
    table = options.out.suffix.lower() == ".csv"
    options.out.write_text(write_corners(motion, track) if table else write_plane(track))


def _text_of(path: Path) -> str:
    if not path.exists():
        raise BadInput("cli.file", f"{path.name} was not found.")
    return path.read_text(errors="replace")


def _render(options: argparse.Namespace) -> None:
    from plonket.formats.shot_file import read_shot_file
    from plonket.media.sound import SOUNDS, read_sound, read_sound_file
    from plonket.render.deliver import deliver, delivery_scale, output_for, with_settings
    from plonket.render.media_pool import MediaPool
    from plonket.render.passes import write_passes
    from plonket.render.soundtrack import Recording
    from plonket.render.sources import ShotSources

    file = read_shot_file(options.shot)
    if file.shot.footage is None:
        raise BadInput("shot.no_footage", f"{options.shot.name} has no footage.")
    footage = file.shot.footage
    start, stop = footage.in_frame, footage.out_frame + 1
    if options.range is not None:
        start, stop = parse_range(options.range, footage.length)
    pool = MediaPool(file.path_of, lambda digest: file.measurements[digest])

    def recording(digest: str) -> Recording | None:
        path = file.path_of(digest)
        if path.suffix.lower() in SOUNDS:
            return Recording(sound=read_sound_file(path))
        info = pool.clip(digest).info
        sound = read_sound(path) if path.is_file() and info.has_audio else None
        return None if sound is None else Recording(sound=sound, rate=info.rate, frames=info.frames)

    scale = options.scale if options.scale is not None else delivery_scale(file.shot)
    if options.passes is not None:
        wanted = [name.strip() for name in options.passes.split(",") if name.strip()]
        write_passes(
            file.shot, ShotSources(file.shot, pool), options.out, start=start, stop=stop, scale=scale, wanted=wanted,
            kind=options.format or "exr", work=terminal_work("Frames"),
        )  # fmt: skip
        return
    output = output_for(file.shot, options.out, options.format, _frame_named(file.shot, options.frame))
    deliver(
        file.shot, ShotSources(file.shot, pool), options.out, start=start, stop=stop, scale=scale,
        recording=recording, work=terminal_work("Frames"), output=with_settings(output, parse_settings(options.set)),
    )  # fmt: skip


def _frame_named(shot: Shot, name: str | None) -> str | None:
    """The id of a delivery frame by its id or name. Raises `BadInput`."""
    found = next((one.id for one in shot.frames if name in (one.id, one.name)), None)
    if name is not None and found is None:
        known = ", ".join(one.name for one in shot.frames) or "none"
        raise BadInput("cli.frame", f"This shot has no frame called {name!r}. It has: {known}.")
    return found


def parse_settings(texts: list[str]) -> dict[str, str]:
    """``NAME=VALUE`` to names and values. Raises `BadInput`."""
    out = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name.strip():
            raise BadInput("cli.set", f"{text!r} is not a setting. Write NAME=VALUE such as quality=best.")
        out[name.strip()] = value.strip()
    return out


def _steady(options: argparse.Namespace) -> None:
    from plonket.document.shot import Footage, Shot
    from plonket.formats.plane_json import read_plane
    from plonket.media import open_clip
    from plonket.media.sound import read_sound
    from plonket.plate.stabilise import Steady
    from plonket.plate.view_path import corners_of
    from plonket.render.deliver import deliver
    from plonket.render.media_pool import MediaPool
    from plonket.render.soundtrack import Recording
    from plonket.render.sources import ShotSources
    from plonket.track.plane.settings import PlaneMotion

    if not 0.1 <= options.seconds <= 20:
        raise BadInput("cli.seconds", "--seconds must be from 0.1 to 20.")
    info = open_clip(options.clip).info
    start, stop = parse_range(options.range, info.frames)
    track = read_plane(_text_of(options.plane), info.frames)
    if track.frames != info.frames:
        raise BadInput(
            "cli.plane",
            f"{options.plane.name} holds {track.frames} frames, {options.clip.name} {info.frames}: another clip was followed.",
        )
    motion = PlaneMotion(
        id="plane", name="Plane", reference_frame=track.reference_frame, measurement="1" * 64,
        quad=[(float(x), float(y)) for x, y in corners_of(info.size)],
    )  # fmt: skip
    steady = Steady(
        id="steady", name="Steady", targets=["plane"], reference_frame=track.reference_frame, mode=options.mode,
        seconds=options.seconds, fit=options.fit,
    )  # fmt: skip
    footage = Footage(
        asset="0" * 64, name=options.clip.name, width=info.width, height=info.height,
        rate=f"{info.rate.numerator}/{info.rate.denominator}", frames=info.frames, in_frame=start, out_frame=stop - 1,
    )  # fmt: skip
    shot = Shot(name=options.clip.stem, footage=footage, motions=[motion], plate=[steady])
    sources = ShotSources(shot, MediaPool(lambda _: options.clip, lambda _: track))
    if sources.view is not None and sources.view.says:
        print(sources.view.says, file=sys.stderr)
    sound = read_sound(options.clip) if options.clip.is_file() and info.has_audio else None
    recorded = None if sound is None else Recording(sound=sound, rate=info.rate, frames=info.frames)
    deliver(shot, sources, options.out, start=start, stop=stop, recording=lambda _: recorded, work=terminal_work("Frames"))


def _fill(options: argparse.Namespace) -> None:
    from plonket.media import open_clip
    from plonket.media.sound import read_sound
    from plonket.outputs.h264 import H264, coding_of
    from plonket.plate.repair.fill import fill_clip
    from plonket.plate.repair.filled import Filled
    from plonket.render.deliver import write_pictures

    clip, matte = open_clip(options.clip), open_clip(options.matte)
    start, stop = parse_range(options.range, clip.info.frames)
    told = Filled()
    depth = _depth_given(options, clip.info)
    frames = fill_clip(clip, matte, method=options.method, start=start, stop=stop, told=told, depth=depth,
                       work=terminal_work("Frames"))  # fmt: skip
    sound = read_sound(options.clip) if options.clip.is_file() and clip.info.has_audio else None
    under = sound.cut(start, stop, clip.info.rate) if sound is not None else None
    coding = coding_of(H264(id="file", name="Filled", quality="best"))
    write_pictures(frames, options.out, clip.info.size, clip.info.rate, coding=coding, sound=under)
    if told.filled:
        print(told.says(), file=sys.stderr)


def _depth_given(options: argparse.Namespace, info: ClipInfo) -> MeasuredDepth | None:
    """Depth that `fill` is given, in files; None: there is none."""
    from plonket.depth.files import depths_in
    from plonket.formats.camera_json import read_camera
    from plonket.plate.repair.behind import MeasuredDepth

    if options.depth is None and options.camera is None:
        return None
    if options.depth is None or options.camera is None:
        raise BadInput("fill.depth", "Depth goes by its camera: give both --camera and --depth, or neither.")
    track = read_camera(options.camera.read_text(), info.frames, info.size)
    return MeasuredDepth(track, depths_in(options.depth, info.size))


if __name__ == "__main__":
    sys.exit(main())
