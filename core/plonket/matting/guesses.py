"""What may lie under a click, told in several ways, and how good a cut of it is."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from plonket.base.conventions import F32, U8

BESIDE = 4
"""Frames before and after in which movement is looked for."""
MOVES_PX = 0.7
"""Reduced pixels by which a thing must move otherwise than the rest, for that to tell."""
CELLS = (16, 32, 32)
COUNTS = CELLS[0] * CELLS[1] * CELLS[2]
"""Cells in which colours are counted: of brightness and both differences."""
GROWN = 240
"""Pixels across at which regions grow from a click."""
STEPS = (0.25, 0.4, 0.6, 0.85, 1.2)
"""How much steepness a growing region may climb, as multiples of what is usual."""
SMALLEST, LARGEST = 0.0008, 0.5
"""Shares of the picture that a picked thing may cover."""
STILL = 0.2
"""Of the speed of what moves in a box, less than that stands still."""
UNLIKE = 14.0
"""Distance in CIELAB from every colour of the rest at which a pixel is not of it."""


def moving_parts(mask: U8, moving: NDArray[np.bool_]) -> U8:
    """The parts of a mask (h, w) of which a good share moves; all of it if none does."""
    count, labels = cv2.connectedComponents((mask > 127).astype(np.uint8))
    kept = [k for k in range(1, count) if float(moving[labels == k].mean()) > 0.3]
    return np.where(np.isin(labels, kept), mask, 0).astype(np.uint8) if kept else mask


def halved_mask(where: NDArray[np.bool_], size: tuple[int, int]) -> NDArray[np.bool_]:
    """A mask (h, w) at another `size` (width, height); what is thin stays."""
    return np.asarray(cv2.resize(where.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.3)


def by_movement(moving: F32, on: NDArray[np.bool_], seen: NDArray[np.bool_]) -> list[NDArray[np.bool_]]:
    """Masks (h, w) of what moves as the clicked place does, where that moves at all."""
    here = float(np.median(moving[on]))
    if here < MOVES_PX / BESIDE:
        return []
    return [hanging_together(made_solid((moving > share * here) & seen), on) for share in (0.35, 0.6)]


def made_solid(where: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """A region (h, w) with its gaps and holes: within a thing there may be nothing to see."""
    closed = cv2.morphologyEx(where.astype(np.uint8), cv2.MORPH_CLOSE, disc(6))
    outlines, _ = cv2.findContours(closed, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    return np.asarray(cv2.drawContours(np.zeros_like(closed), outlines, -1, 1, -1) > 0)


def moving_together(moving: F32, on: NDArray[np.bool_], seen: NDArray[np.bool_]) -> NDArray[np.bool_] | None:
    """Mask (h, w) of what moves with the click; None where that says nothing."""
    here = float(np.median(moving[on]))
    if here < MOVES_PX / BESIDE:
        return None
    found = hanging_together(made_solid((moving > 0.5 * here) & seen), on)
    return found if SMALLEST * found.size < found.sum() < LARGEST * found.size else None


def box_guesses(inside: NDArray[np.bool_], shows: NDArray[np.bool_], moving: F32, fast: float) -> list[U8]:
    """Marks for what may be meant by a box: what moves in it, all that is not as what lies round it, what lies in its middle.

    inside, shows : (h, w) where the box is, and where there is enough to see for movement. moving : (h, w) reduced pixels a
    frame; `fast`, of what is quick in the box.
    """
    whole = np.where(inside, cv2.GC_PR_FGD, cv2.GC_BGD).astype(np.uint8)
    out = [whole]
    if fast > 2 * MOVES_PX / BESIDE:
        still = inside & shows & (moving < STILL * fast)
        moves = whole.copy()
        moves[cv2.erode(still.astype(np.uint8), disc(1)) > 0] = cv2.GC_PR_BGD
        out.insert(0, moves)
    # However many boxes there are, the deepest part of each is its middle.
    deep = cv2.distanceTransform(inside.astype(np.uint8), cv2.DIST_L2, 3)
    middle = np.where(inside, cv2.GC_PR_BGD, cv2.GC_BGD).astype(np.uint8)
    middle[deep > 0.35 * deep.max()] = cv2.GC_PR_FGD
    return [*out, middle]


def by_colour(lab: F32, on: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Mask (h, w) of what hangs together with the click and has none of the colours of the picture far from it."""
    h, w = on.shape
    far = cv2.distanceTransform((~on).astype(np.uint8), cv2.DIST_L2, 3) > 0.3 * w
    samples = lab[far][::7] if far.sum() > 500 else lab.reshape(-1, 3)[::7]
    cv2.setRNGSeed(7)
    stop = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 15, 0.5)
    _, _, means = cv2.kmeans(samples, min(14, len(samples)), None, stop, 1, cv2.KMEANS_PP_CENTERS)  # type: ignore[call-overload]
    away = np.stack([np.linalg.norm(lab - m, axis=2) for m in means]).min(axis=0)
    unlike = cv2.GaussianBlur(np.asarray(away, np.float32), (0, 0), 1.5) > UNLIKE
    closed = cv2.morphologyEx(unlike.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8))
    return hanging_together(closed > 0, on)


def by_growing(lab: F32, on: NDArray[np.bool_]) -> list[NDArray[np.bool_]]:
    """Masks (h, w) that grow from the click over little steepness: the way to a place costs what it climbs."""
    h, w = on.shape
    by = GROWN / w
    size = (GROWN, max(2, round(h * by)))
    small = cv2.resize(lab, size, interpolation=cv2.INTER_AREA)
    seeds = cv2.resize(on.astype(np.uint8), size, interpolation=cv2.INTER_AREA) > 0
    if not seeds.any():
        ys, xs = np.nonzero(on)
        seeds[min(int(ys.mean() * by), size[1] - 1), min(int(xs.mean() * by), size[0] - 1)] = True
    index = np.arange(size[0] * size[1]).reshape(size[1], size[0])
    across = np.linalg.norm(small[:, 1:] - small[:, :-1], axis=2)
    down = np.linalg.norm(small[1:] - small[:-1], axis=2)
    cost = np.concatenate([across.ravel(), down.ravel()]) + 0.3
    one = np.concatenate([index[:, :-1].ravel(), index[:-1].ravel()])
    two = np.concatenate([index[:, 1:].ravel(), index[1:].ravel()])
    graph = coo_matrix((cost, (one, two)), shape=(index.size, index.size)).tocsr()
    climbed = dijkstra(graph, directed=False, indices=index[seeds], min_only=True).reshape(index.shape)
    usual = float(np.median(climbed))
    grown = [(climbed < step * usual).astype(np.uint8) for step in STEPS]
    return [cv2.resize(one, (w, h), interpolation=cv2.INTER_NEAREST) > 0 for one in grown]


def hanging_together(where: NDArray[np.bool_], on: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The parts of a region (h, w) that hang together with the click."""
    _, labels = cv2.connectedComponents((where | on).astype(np.uint8))
    return np.isin(labels, np.unique(labels[on]))


def marks_round(one: NDArray[np.bool_], given: U8) -> U8:
    """Marks (h, w) for a cut: a guess and a ring round it in which the edge may lie; clicks are sure."""
    reach = max(4, round(0.18 * float(np.sqrt(one.sum()))))
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))
    near = cv2.dilate(one.astype(np.uint8), disc) > 0
    marks = np.full(one.shape, cv2.GC_BGD, np.uint8)
    marks[near] = cv2.GC_PR_BGD
    marks[one] = cv2.GC_PR_FGD
    for value in (cv2.GC_FGD, cv2.GC_BGD):
        marks[given == value] = value
    return marks


def marks_along(one: NDArray[np.bool_], given: U8) -> U8:
    """The same marks (h, w) where only the edge of the guess is in doubt."""
    solid = one.astype(np.uint8)
    marks = np.full(one.shape, cv2.GC_BGD, np.uint8)
    marks[cv2.dilate(solid, disc(3)) > 0] = cv2.GC_PR_BGD
    marks[one] = cv2.GC_PR_FGD
    marks[cv2.erode(solid, disc(6)) > 0] = cv2.GC_FGD
    for value in (cv2.GC_FGD, cv2.GC_BGD):
        marks[given == value] = value
    return marks


def steepness(lab: F32) -> F32:
    """(h, w) how steep the colours are, as the share of the picture that is less steep."""
    gx, gy = cv2.Sobel(lab, cv2.CV_32F, 1, 0), cv2.Sobel(lab, cv2.CV_32F, 0, 1)
    size = np.sqrt((gx**2 + gy**2).sum(axis=2))
    order = np.argsort(np.argsort(size.ravel(), kind="stable"), kind="stable")
    rank = (order / max(size.size - 1, 1)).astype(np.float32).reshape(size.shape)
    return np.asarray(cv2.dilate(rank, np.ones((3, 3), np.uint8)), np.float32)


def worth_of(inside: NDArray[np.bool_], lab: F32, steep: F32, together: NDArray[np.bool_] | None) -> float:
    """How good a cut (h, w) is: how steep its edge, how different in colour its sides, how well it is what moves `together`."""
    solid = inside.astype(np.uint8)
    rim = cv2.dilate(solid, np.ones((3, 3), np.uint8)) - solid
    edge = rim > 0
    edge[[0, -1]] = edge[:, [0, -1]] = False
    if not edge.any():
        return -np.inf
    reach = max(6, round(0.25 * float(np.sqrt(inside.sum()))))
    beside = cv2.dilate(solid, np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)) > solid
    if not beside.any():
        return -np.inf
    colours = unlikeness(lab, inside, beside)
    # What is told by movement is some pixels too wide.
    moves = 0.0 if together is None else float((inside & together).sum()) / float((inside | together).sum())
    # A thing that leaves the picture on several sides is rather what lies behind.
    sides = sum(bool(side.mean() > 0.3) for side in (inside[0], inside[-1], inside[:, 0], inside[:, -1]))
    ragged = float(edge.sum()) / float(np.sqrt(inside.sum()))
    return float(np.mean(steep[edge])) + 0.8 * colours + 1.5 * moves - 0.3 * sides - 0.02 * ragged


def unlikeness(lab: F32, inside: NDArray[np.bool_], beside: NDArray[np.bool_]) -> float:
    """How little the colours of two regions (h, w) have in common, 0 to 1 (A. Bhattacharyya's distance of their counts)."""
    cells = colour_cells(lab)
    one, two = (np.bincount(cells[where], minlength=COUNTS) / max(int(where.sum()), 1) for where in (inside, beside))
    return float(1 - np.sqrt(one * two).sum())


def colour_cells(lab: F32) -> NDArray[np.int_]:
    """(h, w) the cell of colours that each pixel falls into."""
    at = np.minimum((lab / (256 / np.array(CELLS, np.float32))).astype(np.int64), np.array(CELLS) - 1)
    return np.asarray((at[..., 0] * CELLS[1] + at[..., 1]) * CELLS[2] + at[..., 2])


def smooth_counts(counts: F32) -> F32:
    """Shares of colours, those beside them counting too."""
    grid = counts.reshape(CELLS)
    for axis in range(3):
        grid = 0.5 * grid + 0.25 * (np.roll(grid, 1, axis) + np.roll(grid, -1, axis))
    return np.asarray(grid.ravel() / max(float(grid.sum()), 1e-9), np.float32)


def disc(radius: int) -> U8:
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)), np.uint8)
