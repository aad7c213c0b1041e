"""The path tracer and the denoiser, imported late: only what films needs them.

The library for its just-in-time compiler has to be LLVM 19: older ones abort the process, so the path is set before the
import.
"""

from __future__ import annotations

import glob
import os
from typing import Any

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32
from plonket.base.errors import BadInput


def import_mitsuba() -> Any:
    """Mitsuba with the LLVM RGB variant; `BadInput` with advice when something is missing."""
    if "DRJIT_LIBLLVM_PATH" not in os.environ:
        found = sorted(glob.glob("/usr/lib/*/libLLVM*19*.so*"))
        if not found:
            raise BadInput("film.llvm", "3D models need Debian's package libllvm19. Install it and try again.")
        os.environ["DRJIT_LIBLLVM_PATH"] = found[0]
    try:
        import mitsuba
    except ImportError as error:
        raise BadInput("film.mitsuba", "3D models need the Python packages mitsuba and pyoidn.") from error
    mitsuba.set_variant("llvm_ad_rgb")
    return mitsuba


def mesh_of(
    mi: Any, name: str, vertices: NDArray[Any], faces: NDArray[Any], uv: NDArray[Any], props: Any, normals: NDArray[Any] | None,
    tints: tuple[str, NDArray[Any]] | None = None,
) -> Any:  # fmt: skip
    """A Mitsuba mesh of arrays; `uv` has v up from the texture's bottom. `normals` None: flat faces. `tints` are colours (n, 3)
    of its vertices, by the name under which surfaces ask for them."""
    mesh = mi.Mesh(
        name, vertex_count=len(vertices), face_count=len(faces), has_vertex_normals=normals is not None,
        has_vertex_texcoords=True, props=props,
    )  # fmt: skip
    if tints is not None:
        mesh.add_attribute(tints[0], 3, np.ascontiguousarray(tints[1], np.float32).ravel())
    params = mi.traverse(mesh)
    params["vertex_positions"] = np.asarray(vertices, np.float32).ravel()
    params["faces"] = np.asarray(faces, np.uint32).ravel()
    if normals is not None and len(normals):
        params["vertex_normals"] = np.asarray(normals, np.float32).ravel()
    flipped = np.array(uv, np.float32)
    flipped[:, 1] = 1 - flipped[:, 1]
    params["vertex_texcoords"] = flipped.ravel()
    params.update()
    return mesh


class Denoiser:
    """Open Image Denoise, its device made once."""

    def __init__(self) -> None:
        self._device: Any = None

    def run(self, light: F32, albedo: F32, normal: F32) -> F32:
        """Linear light (h, w, 3) without noise, guided by albedo and normals (h, w, 3)."""
        import pyoidn as oidn

        if self._device is None:
            self._device = oidn.Device()
            self._device.commit()
        height, width = light.shape[:2]
        out = np.zeros_like(light)
        work = oidn.Filter(self._device, "RT")
        guides = (("color", light), ("albedo", np.clip(albedo, 0, 1)), ("normal", normal))
        kept = [(name, np.ascontiguousarray(a, np.float32)) for name, a in guides] + [("output", out)]
        for name, array in kept:
            work.set_image(name, array, oidn.OIDN_FORMAT_FLOAT3, width, height)
        work.set_bool("hdr", True)
        work.commit()
        work.execute()
        return out
