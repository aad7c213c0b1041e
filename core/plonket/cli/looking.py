"""The commands that look at a clip and say what they find: `grain`, `advise` and `light`."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from plonket.base.errors import BadInput, Degenerate
from plonket.cli.terminal import parse_range, terminal_work


def add_looking_commands(commands: Any) -> None:
    """`grain`, `advise` and `light`, into the parser's commands."""
    one = commands.add_parser("grain", help="how strong and how fine a clip's grain is, as JSON")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--frame", type=int, default=None, metavar="N", help="about this frame (default: all over the clip)")
    one.set_defaults(run=_grain)

    one = commands.add_parser("advise", help="what would be good to follow in a clip, and what moves by itself, as JSON")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.set_defaults(run=_advise)

    one = commands.add_parser("light", help="where a solved set's light comes from, how soft it is and its colours, as JSON")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--camera", type=Path, required=True, metavar="camera.json", help="the solved camera with its points")
    one.set_defaults(run=_light)


def _grain(options: argparse.Namespace) -> None:
    from plonket.image.grain import BANDS
    from plonket.image.grain_in_time import measure_grain
    from plonket.media import open_clip

    clip = open_clip(options.clip)
    if options.frame is not None and not 0 <= options.frame < clip.info.frames:
        raise BadInput("cli.frame", f"Frame {options.frame} is outside the clip, which has frames 0 to {clip.info.frames - 1}.")
    found = measure_grain(clip, options.frame, terminal_work("Comparing"))
    if found is None:
        raise Degenerate("grain.none", f"{options.clip.name} is too small, or nowhere calm enough, for its grain to be told.")
    known = [k for k, is_known in enumerate(found.known) if is_known]
    print(json.dumps({
        "levels": [round(float(BANDS[k]), 4) for k in known],
        "sd": [[round(v * found.filmed, 3) for v in found.profile.strength[k]] for k in known],
        "correlation_px": round(found.correlation_px, 3), "how": found.how, "sure": round(found.sure, 2),
    }))  # fmt: skip


NAMES = {"point": "points"}
"""What a suggestion is called for the command line, where that differs."""


def _advise(options: argparse.Namespace) -> None:
    from plonket.checks.advise import advise
    from plonket.media import open_clip

    clip = open_clip(options.clip)
    found = advise(clip, *parse_range(options.range, clip.info.frames))
    print(json.dumps({
        "suggest": [
            {"kind": NAMES.get(s.kind, s.kind), "why": s.why, "frame": s.frame, "outline": [list(at) for at in s.outline]}
            for s in found.suggestions
        ],
        "movers": [{"first": m.first, "last": m.last, "box": list(m.box), "who": m.who} for m in found.movers],
        "facts": [{"about": f.about, "grade": f.grade, "says": f.says} for f in found.facts],
    }))  # fmt: skip


def _light(options: argparse.Namespace) -> None:
    from plonket.formats.camera_json import read_camera
    from plonket.lighting.set_light import set_light
    from plonket.media import open_clip
    from plonket.room.alignment import Room
    from plonket.room.camera import RoomCamera

    clip = open_clip(options.clip)
    track = read_camera(options.camera.read_text(), clip.info.frames, (clip.info.width, clip.info.height))
    found = set_light(RoomCamera(track, Room()), clip.codes, track.points, track.xy, terminal_work("Looking"))
    print(json.dumps({
        "direction": [round(float(v), 4) for v in found.way], "heading_deg": round(found.heading, 2),
        "height_deg": round(found.height, 2), "soft_deg": round(found.soft_deg, 2),
        "main": [round(float(v), 4) for v in found.sun], "rest": [round(float(v), 4) for v in found.sky],
        "shadow": [round(float(v), 4) for v in found.shadow], "told_by": found.told, "sure": round(found.sure, 2),
        "soft_sure": round(found.soft_sure, 2), "says": found.says(),
    }))  # fmt: skip
