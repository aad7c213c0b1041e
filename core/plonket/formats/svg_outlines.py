"""Outlines as SVG paths, out and in (SVG 2, chapter 9): pixels of the picture are user units."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from xml.etree import ElementTree
from xml.sax.saxutils import quoteattr

import numpy as np
import svgelements

from plonket.base.errors import FormatError
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, control_points
from plonket.formats.registry import FORMATS, FormatEntry, Going

MOST_BYTES = 4 * 1024**2
MOST_OUTLINES = 60
MOST_FRAMES = 1_000_000
MOST_WORK = 100_000_000
"""Letters that are gone through for a drawing that changes."""
MARK = "data-plonket"


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedOutline:
    """An outline with its name and whether it is looked at (of a mask: added) or ignored (taken off)."""

    name: str
    use: bool
    outline: Outline


Changing = dict[ElementTree.Element, dict[int, dict[str, str]]]
"""By element, frame and attribute, what that becomes."""
_Read = tuple[str, NamedOutline]


def write_svg(outlines: list[NamedOutline], size: tuple[int, int], frame: int, fps: Fraction | None = None) -> str:
    """Outlines as they are at a frame, one ``path`` each; ignored ones have the class ``ignore``.

    With `fps` those that change do so: an ``animate`` goes from key to key in straight lines, as they do, from frame 0 on.
    """
    rows = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {size[0]} {size[1]}" width="{size[0]}" height="{size[1]}">']
    for one in outlines:
        kind = "use" if one.use else "ignore"
        tint = "#0c6670" if one.use else "#6b4694"
        look = f'class="{kind}" data-name={quoteattr(one.name)} fill="none" stroke="{tint}"'
        frames = [key.frame for key in one.outline.keys]
        moves = fps is not None and len(frames) > 1
        soft = any(control_points(one.outline, at)[:, 6].any() for at in (frames if moves else [frame]))
        if soft:
            look += f' data-feather="{_feathers(one.outline, frame)}"'
        start = f'<path {look} d="{path_of(one.outline, frame, curved=moves)}"'
        if fps is None or not moves:
            rows.append(start + "/>")
            continue
        told = {"d": [path_of(one.outline, at, curved=True) for at in frames]}
        if soft:
            told["data-feather"] = [_feathers(one.outline, at) for at in frames]
        rows += [start + ">", *(_animate(name, values, frames, fps) for name, values in told.items()), "</path>"]
    return "\n".join([*rows, "</svg>"]) + "\n"


def _animate(name: str, values: Sequence[str], frames: Sequence[int], fps: Fraction) -> str:
    """From value to value, each on its frame; the first one holds from the beginning."""
    if frames[0] > 0:
        frames, values = [0, *frames], [values[0], *values]
    times = ";".join(f"{at / frames[-1]:.9g}" for at in frames)
    return (f'<animate attributeName="{name}" begin="0s" dur="{float(frames[-1] / fps):.9g}s" fill="freeze" calcMode="linear"'
            f' keyTimes="{times}" values="{";".join(values)}"/>')  # fmt: skip


def _feathers(outline: Outline, frame: float) -> str:
    return " ".join(f"{f:.3f}" for f in control_points(outline, frame)[:, 6])


def path_of(outline: Outline, frame: float, *, curved: bool = False) -> str:
    """The path data of an outline at a frame: lines where both handles are nought, cubic curves elsewhere, or everywhere."""
    points = control_points(outline, frame)
    parts = [f"M{points[0, 0]:.3f},{points[0, 1]:.3f}"]
    for a, b in zip(points, np.roll(points, -1, axis=0), strict=True):
        if not curved and np.abs(a[4:6]).max() < 1e-9 and np.abs(b[2:4]).max() < 1e-9:
            parts.append(f"L{b[0]:.3f},{b[1]:.3f}")
        else:
            p1, p2 = a[:2] + a[4:6], b[:2] + b[2:4]
            parts.append(f"C{p1[0]:.3f},{p1[1]:.3f} {p2[0]:.3f},{p2[1]:.3f} {b[0]:.3f},{b[1]:.3f}")
    return " ".join([*parts, "Z"])


def read_svg(text: str, frame: int, fps: Fraction | None = None) -> list[NamedOutline]:
    """Closed shapes of an SVG file as outlines keyed at a frame. Raises `FormatError`.

    Paths, rectangles, circles, ellipses and polygons are read, with their transforms. With `fps`, outlines whose path data is
    animated get a key for each of its values that has as many points, from frame 0 on.
    """
    if len(text.encode()) > MOST_BYTES:
        raise FormatError("svg.size", "This SVG file is too large; up to 4 MB of outlines are read.")
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise FormatError("svg.doctype", "SVG files with a document type or entities are not read. Save it as plain SVG.")
    try:
        tree = ElementTree.fromstring(text)
        told = _animated(tree, fps) if fps is not None else {}
        out = _keyed(tree, told) if told else [one for _, one in _outlines(text, frame)]
    except (ElementTree.ParseError, ValueError, TypeError, AttributeError, IndexError, OverflowError) as error:
        raise FormatError("svg.unreadable", "This is not a readable SVG file.") from error
    if not out:
        raise FormatError("svg.empty", "There is no closed outline in this SVG file.")
    if len(out) > MOST_OUTLINES:
        raise FormatError("svg.many", f"There are {len(out)} outlines in this SVG file; up to {MOST_OUTLINES} are read.")
    return out


def _outlines(text: str, frame: int) -> list[_Read]:
    """All closed outlines of a drawing as it stands, each with the mark of its element."""
    drawing = svgelements.SVG.parse(io.StringIO(text), reify=True, ppi=96)
    out: list[_Read] = []
    for shape in drawing.elements():
        if not isinstance(shape, svgelements.Shape):
            continue
        values = shape.values
        for part in svgelements.Path(shape).as_subpaths():
            outline = _outline(svgelements.Path(part), frame)
            if outline is not None:
                outline = _feathered(outline, str(values.get("data-feather") or ""))
                name = str(values.get("data-name") or values.get("id") or f"Outline {len(out) + 1}")[:120]
                use = "ignore" not in str(values.get("class") or "")
                out.append((str(values.get(MARK) or ""), NamedOutline(name=name, use=use, outline=outline)))
    return out


def _animated(tree: ElementTree.Element, fps: Fraction) -> Changing:
    """What the attributes of elements that change are on frames; what says so is taken out of the tree."""
    out: Changing = {}
    for element in tree.iter():
        for child in list(element):
            if not str(child.tag).endswith("animate"):
                continue
            name, values = child.get("attributeName", ""), [v.strip() for v in child.get("values", "").split(";") if v.strip()]
            seconds = _seconds(child.get("dur", ""))
            if name not in ("d", "points", "data-feather") or len(values) < 2 or seconds is None:
                continue
            times = [float(t) for t in child.get("keyTimes", "").split(";") if t.strip()]
            if len(times) != len(values):
                times = [k / (len(values) - 1) for k in range(len(values))]
            begin = _seconds(child.get("begin", "0s")) or 0.0
            for time, value in zip(times, values, strict=True):
                at = round((begin + time * seconds) * float(fps))
                if 0 <= at < MOST_FRAMES:
                    out.setdefault(element, {}).setdefault(at, {})[name] = value
            element.remove(child)
    return out


def _keyed(tree: ElementTree.Element, told: Changing) -> list[NamedOutline]:
    """Outlines with a key on each frame on which their element has a value.

    The drawing is read once for each such frame, so that whatever else holds of an element holds of all its shapes.
    """
    frames = sorted({at for changes in told.values() for at in changes})
    if len(frames) * len(ElementTree.tostring(tree)) > MOST_WORK:
        raise FormatError("svg.size", "This SVG file changes on too many frames for its size.")
    for k, element in enumerate(told):
        element.set(MARK, str(k))
    on = {str(k): set(changes) for k, changes in enumerate(told.values())}
    first: list[_Read] = []
    keys: list[list[OutlineKey]] = []
    for frame in frames:
        for element, changes in told.items():
            for name, value in changes.get(frame, {}).items():
                element.set(name, value)
        found = _outlines(ElementTree.tostring(tree, encoding="unicode"), frame)
        if not first:
            first, keys = found, [[] for _ in found]
        if len(found) != len(first):
            continue
        for known, (mark, one) in zip(keys, found, strict=True):
            key = one.outline.keys[0]
            if (frame in on[mark] if mark else not known) and (not known or len(key.points) == len(known[0].points)):
                known.append(key)
    return [replace(one, outline=Outline(keys=known)) for known, (_, one) in zip(keys, first, strict=True) if known]


def _seconds(said: str) -> float | None:
    """A time as SVG states it, in seconds; None where it is none."""
    text = said.strip().lower()
    factor = 0.001 if text.endswith("ms") else 1.0
    try:
        found = factor * float(text.removesuffix("ms").removesuffix("s"))
    except ValueError:
        return None
    return found if 0 <= found < 1e6 else None


def _feathered(outline: Outline, listed: str) -> Outline:
    """With the feathers that were written along, one for each point; anything else leaves it hard."""
    points = outline.keys[0].points
    try:
        feathers = [float(f) for f in listed.split()]
    except ValueError:
        return outline
    if len(feathers) != len(points) or not np.isfinite(feathers).all() or max(map(abs, feathers)) > 2000:
        return outline
    soft = [p.model_copy(update={"feather": f}) for p, f in zip(points, feathers, strict=True)]
    return Outline(keys=[OutlineKey(frame=outline.keys[0].frame, points=soft)])


def _outline(path: svgelements.Path, frame: int) -> Outline | None:
    path.approximate_arcs_with_cubics()
    curves: list[np.ndarray] = []  # (4, 2) control points of each piece
    for piece in path:
        if isinstance(piece, svgelements.Move) or piece.start is None or piece.end is None:
            continue
        a, d = np.array([piece.start.x, piece.start.y]), np.array([piece.end.x, piece.end.y])
        if isinstance(piece, svgelements.CubicBezier):
            b, c = np.array([piece.control1.x, piece.control1.y]), np.array([piece.control2.x, piece.control2.y])
        elif isinstance(piece, svgelements.QuadraticBezier):
            q = np.array([piece.control.x, piece.control.y])
            b, c = a + 2 / 3 * (q - a), d + 2 / 3 * (q - d)
        else:
            if np.abs(a - d).max() < 1e-6:
                continue
            b, c = a, d
        curves.append(np.array([a, b, c, d], np.float64))
    if len(curves) < 2 or not np.isfinite(np.array(curves)).all():
        return None
    if np.abs(curves[0][0] - curves[-1][3]).max() > 1e-6:
        curves.append(np.array([curves[-1][3]] * 2 + [curves[0][0]] * 2))
    points = []
    for k, curve in enumerate(curves):
        before = curves[k - 1]
        (x, y), (ox, oy), (ix, iy) = curve[0], curve[1] - curve[0], before[2] - before[3]
        points.append(OutlinePoint(x=x, y=y, in_x=ix, in_y=iy, out_x=ox, out_y=oy))
    return Outline(keys=[OutlineKey(frame=frame, points=points)]) if len(points) >= 3 else None


def _write(going: Going) -> str:
    outlines = [NamedOutline(name=r.name, use=r.use, outline=r.outline) for r in going.motion.regions]
    return write_svg(outlines, (going.footage.width, going.footage.height), going.motion.reference_frame)


FORMATS.add(FormatEntry(
    kind="regions.svg", order=30, label="Regions SVG", mime="image/svg+xml; charset=utf-8", traits=frozenset({"surface"}),
    write=_write,
))  # fmt: skip
