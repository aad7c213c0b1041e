"""Outlines as SVG paths, out and in (SVG 2, chapter 9): pixels of the picture are user units."""

from __future__ import annotations

import io
from dataclasses import dataclass
from xml.etree import ElementTree
from xml.sax.saxutils import quoteattr

import numpy as np
import svgelements

from plonket.base.errors import FormatError
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, control_points
from plonket.formats.registry import FORMATS, FormatEntry, Going

MOST_BYTES = 4 * 1024**2
MOST_OUTLINES = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedOutline:
    """An outline with its name and whether it is looked at (of a mask: added) or ignored (taken off)."""

    name: str
    use: bool
    outline: Outline


def write_svg(outlines: list[NamedOutline], size: tuple[int, int], frame: int) -> str:
    """Outlines as they are at a frame, one ``path`` each; ignored ones have the class ``ignore``."""
    rows = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {size[0]} {size[1]}" width="{size[0]}" height="{size[1]}">']
    for one in outlines:
        kind = "use" if one.use else "ignore"
        tint = "#0c6670" if one.use else "#6b4694"
        look = f'class="{kind}" data-name={quoteattr(one.name)} fill="none" stroke="{tint}"'
        feathers = control_points(one.outline, frame)[:, 6]
        if feathers.any():
            look += f' data-feather="{" ".join(f"{f:.3f}" for f in feathers)}"'
        rows.append(f'<path {look} d="{path_of(one.outline, frame)}"/>')
    return "\n".join([*rows, "</svg>"]) + "\n"


def path_of(outline: Outline, frame: int) -> str:
    """The path data of an outline at a frame: lines where both handles are nought, cubic curves elsewhere."""
    points = control_points(outline, frame)
    parts = [f"M{points[0, 0]:.3f},{points[0, 1]:.3f}"]
    for a, b in zip(points, np.roll(points, -1, axis=0), strict=True):
        if np.abs(a[4:6]).max() < 1e-9 and np.abs(b[2:4]).max() < 1e-9:
            parts.append(f"L{b[0]:.3f},{b[1]:.3f}")
        else:
            p1, p2 = a[:2] + a[4:6], b[:2] + b[2:4]
            parts.append(f"C{p1[0]:.3f},{p1[1]:.3f} {p2[0]:.3f},{p2[1]:.3f} {b[0]:.3f},{b[1]:.3f}")
    return " ".join([*parts, "Z"])


def read_svg(text: str, frame: int) -> list[NamedOutline]:
    """Closed shapes of an SVG file as outlines keyed at a frame. Raises `FormatError`.

    Paths, rectangles, circles, ellipses and polygons are read, with their transforms.
    """
    if len(text.encode()) > MOST_BYTES:
        raise FormatError("svg.size", "This SVG file is too large; up to 4 MB of outlines are read.")
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise FormatError("svg.doctype", "SVG files with a document type or entities are not read. Save it as plain SVG.")
    try:
        ElementTree.fromstring(text)
        drawing = svgelements.SVG.parse(io.StringIO(text), reify=True, ppi=96)
    except (ElementTree.ParseError, ValueError, TypeError, AttributeError, IndexError) as error:
        raise FormatError("svg.unreadable", "This is not a readable SVG file.") from error
    out: list[NamedOutline] = []
    for shape in drawing.elements():
        if not isinstance(shape, svgelements.Shape):
            continue
        values = shape.values
        for part in svgelements.Path(shape).as_subpaths():
            outline = _outline(svgelements.Path(part), frame)
            if outline is not None:
                outline = _feathered(outline, str(values.get("data-feather") or ""))
                name = str(values.get("data-name") or values.get("id") or f"Outline {len(out) + 1}")[:120]
                out.append(NamedOutline(name=name, use="ignore" not in str(values.get("class") or ""), outline=outline))
    if not out:
        raise FormatError("svg.empty", "There is no closed outline in this SVG file.")
    if len(out) > MOST_OUTLINES:
        raise FormatError("svg.many", f"There are {len(out)} outlines in this SVG file; up to {MOST_OUTLINES} are read.")
    return out


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
