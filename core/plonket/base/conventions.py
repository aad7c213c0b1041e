"""Plonket's conventions, stated once, with the few helpers that convert to other ones.

Frames
    Count from 0 in the conformed clip, which has one constant rate, a `Fraction`.
Pixel coordinates
    x right, y down, in full-resolution pixels of the upright picture. The *centre* of the top-left
    pixel is (0.5, 0.5), so proxies and zoom scale coordinates by one factor. OpenCV and array
    indices put that centre at (0, 0): use `to_index` / `from_index`.
Homographies
    A plane's homography at frame i maps reference-frame pixels to frame i's pixels. Matrices are
    named ``b_from_a``.
World
    Right-handed, y up, metres. A camera looks along its -z with y up (as glTF). A pose is a
    position and a unit quaternion [x, y, z, w], local-to-world. Focal length is in pixels.
Angles
    Degrees in documents and on screen, radians inside. Positive turns are clockwise on screen,
    because y points down.
Sizes
    (width, height); array shapes are (height, width).
Colours
    sRGB in documents. Pictures are float32, linear light, premultiplied RGBA. 8-bit at the edges.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
F32 = NDArray[np.float32]
U8 = NDArray[np.uint8]
U16 = NDArray[np.uint16]
Codes = NDArray[np.unsignedinteger]
"""Display codes: of 8 bits, or of 16 where more was filmed."""

FAST = {"reassoc", "arcp", "contract", "afn", "nsz"}
"""Liberties of a compiled picture kernel. Not `nnan` and `ninf`: with these a comparison lets NaN through to an index."""

PIXEL_CENTRE = 0.5


def to_index(xy: F64) -> F64:
    """Pixel coordinates to array-index coordinates (top-left centre at (0, 0)); any shape."""
    return xy - PIXEL_CENTRE


def from_index(xy: F64) -> F64:
    """Array-index coordinates to pixel coordinates (top-left centre at (0.5, 0.5)); any shape."""
    return xy + PIXEL_CENTRE


_INDEX_SHIFT = np.array([[1.0, 0.0, -PIXEL_CENTRE], [0.0, 1.0, -PIXEL_CENTRE], [0.0, 0.0, 1.0]])
_PIXEL_SHIFT = np.array([[1.0, 0.0, PIXEL_CENTRE], [0.0, 1.0, PIXEL_CENTRE], [0.0, 0.0, 1.0]])


def matrix_to_index(b_from_a: F64) -> F64:
    """The (3, 3) matrix between pixel coordinates, restated between array-index coordinates."""
    return _INDEX_SHIFT @ b_from_a @ _PIXEL_SHIFT


def quaternion_to_matrix(quaternion: F64) -> F64:
    """Unit quaternion(s) [x, y, z, w], shape (..., 4), to rotation matrices (..., 3, 3)."""
    q = np.asarray(quaternion, dtype=np.float64)
    q = q / np.linalg.norm(q, axis=-1, keepdims=True)
    x, y, z, w = np.moveaxis(q, -1, 0)
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(r, axis=-1) for r in rows], axis=-2)


def matrix_to_quaternion(matrix: F64) -> F64:
    """A rotation matrix (3, 3) to a unit quaternion [x, y, z, w] with w >= 0."""
    m = np.asarray(matrix, dtype=np.float64)
    # Shepperd's method: divide by the largest of the four candidates, for accuracy.
    four = np.array(
        [
            1 + m[0, 0] - m[1, 1] - m[2, 2],
            1 - m[0, 0] + m[1, 1] - m[2, 2],
            1 - m[0, 0] - m[1, 1] + m[2, 2],
            1 + m[0, 0] + m[1, 1] + m[2, 2],
        ]
    )
    k = int(np.argmax(four))
    s = 2.0 * np.sqrt(four[k])
    if k == 0:
        q = [s / 4, (m[0, 1] + m[1, 0]) / s, (m[0, 2] + m[2, 0]) / s, (m[2, 1] - m[1, 2]) / s]
    elif k == 1:
        q = [(m[0, 1] + m[1, 0]) / s, s / 4, (m[1, 2] + m[2, 1]) / s, (m[0, 2] - m[2, 0]) / s]
    elif k == 2:
        q = [(m[0, 2] + m[2, 0]) / s, (m[1, 2] + m[2, 1]) / s, s / 4, (m[1, 0] - m[0, 1]) / s]
    else:
        q = [(m[2, 1] - m[1, 2]) / s, (m[0, 2] - m[2, 0]) / s, (m[1, 0] - m[0, 1]) / s, s / 4]
    out = np.array(q)
    return -out if out[3] < 0 else out

BETWEEN_CAMERAS = np.diag([1.0, -1.0, -1.0])
"""From a solver's camera (x right, y down, z forward) to one that looks along -z with y up, and back."""
