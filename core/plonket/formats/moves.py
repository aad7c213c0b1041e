"""How a picture was moved, frame by frame, as a table and as JSON that comes back as a plane."""

from __future__ import annotations

import csv
import io
import json

import numpy as np

from plonket.base.conventions import F64


def write_moves_json(picture_from_clip: F64) -> str:
    """(n, 3, 3) matrices from what was filmed to the picture shown, as a plane whose reference is that picture: its
    homographies lead from the picture to what was filmed, so steadying by it does the same again."""
    rows = []
    for frame, matrix in enumerate(np.linalg.inv(picture_from_clip)):
        m = matrix / matrix[2, 2]
        numbers = [round(float(v), 10) for v in m.ravel()]
        rows.append({"frame": frame, "homography": numbers, "confidence": 1, "state": "given"})
    lines = ",\n".join(json.dumps(row, separators=(",", ":")) for row in rows)
    return f'{{"reference_frame":0,"frames":[\n{lines}\n]}}\n'


def write_moves_csv(picture_from_clip: F64, size: tuple[int, int]) -> str:
    """One row a frame: how far the picture's middle goes in pixels, its turn in degrees, its size in percent, and all nine
    numbers of the matrix from what was filmed to the picture, row by row."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["frame", "x", "y", "turn", "size", *(f"m{r}{c}" for r in range(3) for c in range(3))])
    middle = np.array([size[0] / 2, size[1] / 2, 1.0])
    for frame, matrix in enumerate(picture_from_clip):
        m = matrix / matrix[2, 2]
        at = m @ middle
        x, y = at[:2] / at[2]
        # The affine map that it is at the middle.
        near = (m[:2, :2] - np.outer([x, y], m[2, :2])) / at[2]
        turn = float(np.degrees(np.arctan2(near[1, 0] - near[0, 1], near[0, 0] + near[1, 1])))
        large = 100 * float(np.sqrt(abs(np.linalg.det(near))))
        table.writerow([frame, f"{x - middle[0]:.4f}", f"{y - middle[1]:.4f}", f"{turn:.5f}", f"{large:.4f}",
                        *(f"{v:.9g}" for v in m.ravel())])  # fmt: skip
    return out.getvalue()
