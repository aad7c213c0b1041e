"""What is said of a shot's layers to whoever puts them together again: for programs as JSON, for people as a page."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from html import escape
from string import Template

from plonket.outputs.layers import BASE

WORDS = "how.html"
HOW = ("From the base up: result = light + reflection + result x (1 - matte - shadow - the reflection's share), linear light; "
       "other blends than normal are named. "
       "The finish of the shot comes after that and is not in these pictures.")
PASSES = {
    "beauty": "its light, premultiplied (PNG: straight, as seen on screen)", "matte": "what it covers",
    "shadow": "what it takes off what lies behind it besides",
    "reflection": "what the ground mirrors of it, premultiplied, and its share of the ground; only where a layer is mirrored",
    "depth": "metres along the camera's axis, 0 where it is not known",
    "normals": "which way surfaces face: x right, y up, z to the camera",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class About:
    """The facts of a folder of layers.

    Attributes
    ----------
    first : the shot's frame that the first picture shows. frames : how many. size : (width, height). kind : as what the
    pictures are written. wanted : the passes. layers : the lowest first, each with folder, name, kind and blend. beside :
    places of what else lies there.
    """

    first: int
    frames: int
    fps: str
    size: tuple[int, int]
    kind: str
    wanted: Sequence[str]
    layers: Sequence[Mapping[str, str]]
    beside: Sequence[str] = field(default=())


def page_of(about: About) -> str:
    """The page for programs."""
    told = {
        "first_frame": about.first, "frames": about.frames, "fps": about.fps, "size": list(about.size),
        "passes": list(about.wanted), "format": about.kind, "base": BASE, "layers": list(about.layers), "how": HOW,
    }  # fmt: skip
    cameras = sorted({one for one in about.beside if one.startswith("cameras/") and one.count("/") == 1})
    lenses = sorted({one.rpartition("/")[0] for one in about.beside if "-lens/" in one})
    mattes = sorted({one.split("/")[1] for one in about.beside if one.startswith("mattes/")})
    more = {"cameras": cameras, "lenses": lenses, "mattes": [f"mattes/{one}" for one in mattes]}
    if "steady.json" in about.beside:
        more["steady"] = ["steady.json"]
    return json.dumps(told | {name: listed for name, listed in more.items() if listed}, indent=1)


def words_of(about: About) -> str:
    """The page for people: HTML that needs nothing else."""
    told = json.loads(page_of(about))
    rows = "".join(
        f"<tr><td>{k}</td><td>{escape(one['name'])}</td><td>{escape(one['kind'])}</td><td>{escape(one['blend'])}</td>"
        f"<td><code>{escape(one['folder'])}/</code></td></tr>"
        for k, one in reversed(list(enumerate(about.layers, 1)))
    )  # fmt: skip
    passes = "".join(f"<li><b>{name}</b>: {PASSES[name]}</li>" for name in about.wanted)
    parts = []
    if told.get("cameras"):
        listed = ", ".join(f"<code>{escape(one)}</code>" for one in told["cameras"])
        parts.append(f"<h2>Cameras</h2><p>{listed}: path, lens, points, what stands in the room and what lights it. Metres, "
                     "y up, a camera looks along its -z. Their frames count as the pictures do.</p>")  # fmt: skip
    if told.get("lenses"):
        listed = ", ".join(f"<code>{escape(one)}/</code>" for one in told["lenses"])
        parts.append(f"<p>The lens bends, and so do the pictures. {listed} hold ST maps: <code>straight</code> is what each "
                     "pixel of a picture without the bend fetches from these, <code>bent</code> the way back.</p>")  # fmt: skip
    if told.get("mattes"):
        listed = ", ".join(f"<code>{escape(one)}/</code>" for one in told["mattes"])
        parts.append(f"<h2>Things picked out</h2><p>{listed}: 8-bit grey, white where the thing is.</p>")
    if told.get("steady"):
        parts.append("<h2>Steadied</h2><p>The pictures are steadied, the cameras are as filmed: <code>steady.json</code> "
                     "holds the homographies from a picture's pixels to those that were filmed.</p>")  # fmt: skip
    return PAPER.substitute(
        frames=about.frames, first=about.first, last=about.first + about.frames - 1, fps=escape(about.fps), width=about.size[0],
        height=about.size[1], base=BASE, rows=rows, passes=passes, parts="".join(parts), how=escape(HOW),
        files="one EXR a frame, with the channels of all layers" if about.kind == "exr-one" else
        "a folder a layer, one EXR a frame" if about.kind == "exr" else
        "a folder a layer, in it one for each pass, PNG of 16 bits",
    )  # fmt: skip


PAPER = Template("""<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>How these layers go together</title>
<style>
body { font: 15px/1.5 system-ui, sans-serif; max-width: 46rem; margin: 2rem auto; padding: 0 1rem }
body { color: #23302f; background: #faf7f1 }
table { border-collapse: collapse; width: 100% }
td, th { text-align: left; padding: .3rem .6rem .3rem 0; border-bottom: 1px solid #d9d2c4 }
code { background: #eee8db; padding: 0 .25em; border-radius: 3px } h2 { margin-top: 1.6rem; font-size: 1.1rem }
</style></head><body>
<h1>How these layers go together</h1>
<p>$frames pictures of $width x $height, $fps frames a second; they show the shot's frames $first to $last and are numbered
from 0: $files.</p>
<h2>From the top down</h2>
<table><tr><th></th><th>Layer</th><th>Kind</th><th>Blend</th><th>Where</th></tr>$rows
<tr><td>0</td><td>The plate, and all that a wash changed</td><td></td><td></td><td><code>$base/</code></td></tr></table>
<p>$how</p>
<h2>Passes</h2><ul>$passes</ul>
$parts
</body></html>
""")
