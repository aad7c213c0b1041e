"""The command that makes an element look as if it had been filmed with the plate."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from plonket.base.errors import BadInput


def add_matching_commands(commands: Any) -> None:
    """`match`, into the parser's commands."""
    one = commands.add_parser("match", help="match a layer of a shot file to its plate")
    one.add_argument("shot", type=Path, metavar="SHOT.json")
    one.add_argument("--layer", required=True, metavar="ID")
    one.add_argument("--frame", type=int, default=None, metavar="N", help="where it is looked at (default: the range's middle)")
    one.add_argument("--out", type=Path, required=True, metavar="SHOT.json", help="the shot file with the layer's new looks")
    one.set_defaults(run=_match)


def _match(options: argparse.Namespace) -> None:
    from plonket.formats.shot_file import read_shot_file, with_layer_values
    from plonket.render.match import match_to_plate
    from plonket.render.media_pool import MediaPool
    from plonket.render.sources import ShotSources

    file = read_shot_file(options.shot)
    footage = file.shot.footage
    if footage is None:
        raise BadInput("shot.no_footage", f"{options.shot.name} has no footage.")
    if all(one.id != options.layer for one in file.shot.stack):
        names = ", ".join(one.id for one in file.shot.stack) or "none"
        raise BadInput("match.layer", f"There is no layer {options.layer} in the stack. It has: {names}.")
    frame = (footage.in_frame + footage.out_frame) // 2 if options.frame is None else options.frame
    if not 0 <= frame < footage.length:
        raise BadInput("cli.frame", f"Frame {frame} is outside the shot, which has frames 0 to {footage.length - 1}.")
    pool = MediaPool(file.path_of, lambda digest: file.measurements[digest])
    found = match_to_plate(file.shot, ShotSources(file.shot, pool), options.layer, frame)
    values: dict[str, Any] = {"looks": [look.model_dump(mode="json") for look in found.looks]}
    if found.shutter is not None:
        values["shutter"] = found.shutter
    with_layer_values(options.shot, options.out, options.layer, values)
    for line in found.says or ["nothing differs enough to change"]:
        print(line, file=sys.stderr)
    if found.left:
        print(f"left alone, for no change brings them nearer: {', '.join(found.left)}", file=sys.stderr)
