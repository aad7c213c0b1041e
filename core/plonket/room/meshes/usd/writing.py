"""Models as prims of a USD stage: meshes, preview surfaces, pictures beside the file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np

from plonket.base.conventions import F64
from plonket.room.meshes.mesh import Material, Mesh, Part, Texture, mean_colour

if TYPE_CHECKING:
    from pxr import Usd, UsdGeom, UsdShade


class StageWriter:
    """Puts things on to a stage.

    Parameters
    ----------
    pictures : the folder beside the file in which pictures may lie; None: surfaces have the mean of their pictures.
    """

    def __init__(self, stage: Usd.Stage, pictures: Path | None) -> None:
        self.stage, self._folder = stage, pictures
        self._materials: dict[int, UsdShade.Material] = {}
        self._files: dict[int, str] = {}
        self._kept: list[Material] = []
        self._patterns: dict[int, str] = {}

    def place(self, name: str, below: str = "") -> str:
        """A path below another that nothing has yet, by a name that may have any letters."""
        plain = "".join(c if c.isascii() and c.isalnum() else "_" for c in name)[:60] or "thing"
        plain = plain if not plain[0].isdigit() else f"_{plain}"
        path, k = f"{below}/{plain}", 1
        while self.stage.GetPrimAtPath(path):
            k += 1
            path = f"{below}/{plain}_{k}"
        return path

    def move(self, prim: UsdGeom.Xformable, frames: np.ndarray, stands: F64) -> None:
        """Its place (n, 4, 4) on frames; one for all where it does not move."""
        from pxr import Gf

        operation = prim.AddTransformOp()
        if np.allclose(stands, stands[0], atol=1e-9):
            operation.Set(Gf.Matrix4d(stands[0].T.tolist()))
            return
        for frame, one in zip(frames, stands, strict=True):
            operation.Set(Gf.Matrix4d(one.T.tolist()), float(frame))

    def model(self, name: str, mesh: Mesh, frames: np.ndarray, stands: F64, below: str) -> None:
        """A model that stands somewhere; what stands more than once is written once."""
        from pxr import UsdGeom

        thing = UsdGeom.Xform.Define(self.stage, self.place(name, below))
        self.move(thing, frames, stands)
        if (pattern := self._patterns.get(id(mesh))) is not None:
            thing.GetPrim().GetReferences().AddInternalReference(pattern)
            return
        inside = UsdGeom.Xform.Define(self.stage, f"{thing.GetPath()}/model")
        self._patterns[id(mesh)] = str(inside.GetPath())
        for k, part in enumerate(mesh.parts):
            self._part(f"{inside.GetPath()}/part{k}", part)

    def _part(self, path: str, part: Part) -> None:
        from pxr import Sdf, UsdGeom, UsdShade, Vt

        corners = part.faces.ravel()
        mesh = UsdGeom.Mesh.Define(self.stage, path)
        mesh.CreateSubdivisionSchemeAttr("none")
        mesh.CreateDoubleSidedAttr(True)
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(part.faces), 3, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.arange(len(corners), dtype=np.int32)))
        places = part.vertices[corners].astype(np.float32)
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(places))
        mesh.CreateExtentAttr([tuple(map(float, places.min(axis=0))), tuple(map(float, places.max(axis=0)))])
        mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(part.normals[corners].astype(np.float32)))
        mesh.SetNormalsInterpolation("vertex")
        vars_ = UsdGeom.PrimvarsAPI(mesh)
        uv = Vt.Vec2fArray.FromNumpy(part.uv[corners].astype(np.float32))
        vars_.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex").Set(uv)
        tinted, colours = part.tints is not None, mean_colour(part.material)[None]
        if part.tints is not None:
            colours = part.tints[corners] * colours
        kept = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(colours, np.float32))
        vars_.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "vertex" if tinted else "constant").Set(kept)
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(self._material(part.material))

    def _material(self, of: Material) -> UsdShade.Material:
        """Source: the OpenUSD specification of UsdPreviewSurface."""
        from pxr import Sdf, UsdShade

        if id(of) in self._materials:
            return self._materials[id(of)]
        root = str(self.stage.GetDefaultPrim().GetPath()) + "/materials"
        if not self.stage.GetPrimAtPath(root):
            self.stage.DefinePrim(root, "Scope")
        material = UsdShade.Material.Define(self.stage, self.place(of.name or "material", root))
        shader = UsdShade.Shader.Define(self.stage, f"{material.GetPath()}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        kinds = Sdf.ValueTypeNames

        def say(name: str, kind: Any, value: Any, found: Texture | None, output: str, gain: Any = None) -> None:
            if found is None or self._folder is None:
                shader.CreateInput(name, kind).Set(value)
            else:
                picture = self._picture(material, name, found, raw=output != "rgb" or name == "normal", gain=gain)
                shader.CreateInput(name, kind).ConnectToSource(picture.ConnectableAPI(), output)

        colour = mean_colour(of) if self._folder is None else of.colour
        gain = (*(float(v) for v in of.colour), 1.0)
        say("diffuseColor", kinds.Color3f, tuple(float(v) for v in colour), of.picture, "rgb", gain)
        say("emissiveColor", kinds.Color3f, tuple(map(float, of.glow)), of.glow_picture if max(of.glow) > 0 else None, "rgb",
            (*map(float, of.glow), 1.0))  # fmt: skip
        say("roughness", kinds.Float, float(of.rough), of.surface, "r", (float(of.rough), 1.0, 1.0, 1.0))
        say("metallic", kinds.Float, float(of.metal), of.surface, "g", (1.0, float(of.metal), 1.0, 1.0))
        say("opacity", kinds.Float, float(of.opacity) * (1 - 0.8 * of.clear), of.cover, "r", (float(of.opacity), 1.0, 1.0, 1.0))
        if of.bumps is not None and self._folder is not None:
            say("normal", kinds.Normal3f, None, of.bumps, "rgb", (2.0, 2.0, 2.0, 1.0))
        self._materials[id(of)] = material
        self._kept.append(of)
        return material

    def _picture(
        self, material: UsdShade.Material, name: str, found: Texture, *, raw: bool, gain: Any
    ) -> UsdShade.Shader:
        from pxr import Sdf, UsdShade

        kinds = Sdf.ValueTypeNames
        reader = UsdShade.Shader.Define(self.stage, f"{material.GetPath()}/{name}_place")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", kinds.String).Set("st")
        last = reader
        if not np.allclose(found.at, np.eye(3)):
            last = UsdShade.Shader.Define(self.stage, f"{material.GetPath()}/{name}_moved")
            last.CreateIdAttr("UsdTransform2d")
            last.CreateInput("in", kinds.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
            at = found.at
            last.CreateInput("scale", kinds.Float2).Set(tuple(float(v) for v in np.hypot(at[0, :2], at[1, :2])))
            last.CreateInput("rotation", kinds.Float).Set(float(np.degrees(np.arctan2(at[1, 0], at[0, 0]))))
            last.CreateInput("translation", kinds.Float2).Set((float(at[0, 2]), float(at[1, 2])))
        picture = UsdShade.Shader.Define(self.stage, f"{material.GetPath()}/{name}_picture")
        picture.CreateIdAttr("UsdUVTexture")
        picture.CreateInput("file", kinds.Asset).Set(self._file(found))
        picture.CreateInput("sourceColorSpace", kinds.Token).Set("raw" if raw else "sRGB")
        for way in ("wrapS", "wrapT"):
            picture.CreateInput(way, kinds.Token).Set({"repeat": "repeat", "mirror": "mirror"}.get(found.wrap, "clamp"))
        picture.CreateInput("st", kinds.Float2).ConnectToSource(last.ConnectableAPI(), "result")
        if gain is not None:
            picture.CreateInput("scale", kinds.Float4).Set(tuple(gain))
        if name == "normal":
            picture.CreateInput("bias", kinds.Float4).Set((-1.0, -1.0, -1.0, 0.0))
        for output, kind in (("rgb", kinds.Float3), ("r", kinds.Float), ("g", kinds.Float)):
            picture.CreateOutput(output, kind)
        return picture

    def _file(self, found: Texture) -> str:
        """A picture beside the file, written once."""
        assert self._folder is not None
        if id(found) not in self._files:
            pixels = found.pixels
            if pixels.shape[2] == 2:
                pixels = np.dstack([pixels, np.zeros_like(pixels[..., :1])])
            name = f"picture{len(self._files)}.png"
            if not cv2.imwrite(str(self._folder / name), pixels[..., ::-1]):
                raise OSError(f"{name} could not be written")
            self._files[id(found)] = f"./{name}"
        return self._files[id(found)]
