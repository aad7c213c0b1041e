"""A solved camera with what stands in its room and lights it as USD: text, or all in one USDZ; cameras read from USD."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError
from plonket.base.isolated import call_apart
from plonket.formats.camera_path import CameraPath, add_camera_format
from plonket.formats.registry import Coming
from plonket.formats.scene import Scene, SetLight, turned_about
from plonket.room.meshes.usd.opening import array_of, is_usd, metres_from, opened
from plonket.room.meshes.usd.writing import StageWriter

if TYPE_CHECKING:
    from pxr import Usd

APERTURE = 20.955
"""Tenths of a unit, as the format states it: what any lens is given as its picture's width."""
BULB_M = 0.01
"""Half the width of a bulb, which the format has no other word for."""
MOST_FRAMES = 200_000
READ_S, READ_BYTES = 30, 6 * 1024**3
"""Of processor time and memory, for reading a file that nobody has looked at yet, in a process of its own."""


def write_camera_usd(scene: Scene, ending: str) -> bytes:
    """The camera's path, the points of the room, the models that stand in it and its lights.

    `ending` : ``.usda`` (text; surfaces have plain colours), ``.usdc`` (the same, binary) or ``.usdz`` (with all pictures).
    Source: the OpenUSD documentation of UsdGeomCamera, UsdLux and UsdPreviewSurface.
    """
    from pxr import Usd, UsdUtils

    with tempfile.TemporaryDirectory(prefix="plonket-usd-") as aside:
        folder = Path(aside)
        layer = folder / f"shot{'.usdc' if ending == '.usdz' else ending}"
        stage = Usd.Stage.CreateNew(str(layer))
        _fill(stage, scene, folder if ending == ".usdz" else None)
        stage.GetRootLayer().Save()
        if ending == ".usdz" and not UsdUtils.CreateNewUsdzPackage(str(layer), str(folder / "whole.usdz")):
            raise OSError("the USDZ could not be written")
        return (folder / "whole.usdz" if ending == ".usdz" else layer).read_bytes()


def _fill(stage: Usd.Stage, scene: Scene, pictures: Path | None) -> None:
    from pxr import Gf, UsdGeom, Vt

    known, track = scene.frames(), scene.track
    width, height = track.size
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetStartTimeCode(float(known[0]))
    stage.SetEndTimeCode(float(known[-1]))
    stage.SetTimeCodesPerSecond(float(scene.fps))
    stage.SetFramesPerSecond(float(scene.fps))
    root = UsdGeom.Xform.Define(stage, "/shot")
    stage.SetDefaultPrim(root.GetPrim())
    writer = StageWriter(stage, pictures)
    camera = UsdGeom.Camera.Define(stage, writer.place(scene.name, "/shot"))
    camera.CreateHorizontalApertureAttr(APERTURE)
    camera.CreateVerticalApertureAttr(APERTURE * height / width)
    camera.CreateClippingRangeAttr(Gf.Vec2f(0.01, 10000))
    focal = track.focal[known] / width * APERTURE
    if np.ptp(focal) < 1e-9:
        camera.CreateFocalLengthAttr(float(focal[0]))
    else:
        for frame, value in zip(known, focal, strict=True):
            camera.CreateFocalLengthAttr().Set(float(value), float(frame))
    writer.move(camera, known, scene.poses())
    points = scene.points().astype(np.float32)
    cloud = UsdGeom.Points.Define(stage, "/shot/details")
    cloud.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points))
    cloud.CreateWidthsAttr([0.005])
    cloud.SetWidthsInterpolation("constant")
    if len(points):
        cloud.CreateExtentAttr([tuple(map(float, points.min(axis=0))), tuple(map(float, points.max(axis=0)))])
    for thing in scene.placed:
        writer.model(thing.name, thing.model, known, thing.stands[known], "/shot")
    for light in scene.lights:
        _light(writer, light, known)


def _light(writer: StageWriter, of: SetLight, known: np.ndarray) -> None:
    """A light of the same radiance, each frame."""
    from pxr import UsdLux

    path = writer.place(of.name, "/shot")
    stage, gain = writer.stage, 1.0
    light: UsdLux.DistantLight | UsdLux.DomeLight | UsdLux.RectLight | UsdLux.SphereLight
    if of.shape == "sun":
        light = UsdLux.DistantLight.Define(stage, path)
        half = max(of.soft, 0.002)
        light.CreateAngleAttr(float(2 * np.degrees(half)))
        gain = 1 / (np.pi * np.sin(half) ** 2)
    elif of.shape == "sky":
        light = UsdLux.DomeLight.Define(stage, path)
    elif of.shape == "soft":
        light = UsdLux.RectLight.Define(stage, path)
        light.CreateWidthAttr(of.wide)
        light.CreateHeightAttr(of.tall)
    else:
        light = UsdLux.SphereLight.Define(stage, path)
        light.CreateRadiusAttr(BULB_M)
        gain = 1 / (np.pi * BULB_M**2)
        if of.shape == "spot":
            shaping = UsdLux.ShapingAPI.Apply(light.GetPrim())
            shaping.CreateShapingConeAngleAttr(float(np.degrees(of.cone)))
            shaping.CreateShapingConeSoftnessAttr(float(1 - of.edge / max(of.cone, 1e-9)))
    writer.move(light, known, turned_about(of.stands[known]))
    values = of.light[known]
    most = values.max(axis=1)
    colour, level = light.CreateColorAttr(), light.CreateIntensityAttr()
    colours = values / np.where(most > 0, most, 1)[:, None]
    steady = np.allclose(values, values[0], rtol=1e-6, atol=1e-9)
    for k, frame in enumerate(known[:1] if steady else known):
        when = () if steady else (float(frame),)
        colour.Set(tuple(float(v) for v in colours[k]), *when)
        level.Set(float(most[k] * gain), *when)


def camera_path_of_usd(data: bytes, size: tuple[int, int]) -> CameraPath:
    """The first camera of a USD file, its lens for a picture of that size, and all that the file draws as points.

    Raises `FormatError` that says what is wrong.
    """
    from pxr import Tf, Usd, UsdGeom

    ending = ".usdz" if data[:2] == b"PK" else ".usda" if data[:5] == b"#usda" else ".usdc"
    with tempfile.TemporaryDirectory(prefix="plonket-usd-") as aside:
        path = Path(aside) / f"camera{ending}"
        path.write_bytes(data)
        try:
            with opened(path) as (stage, _):
                found = next((p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.Camera)), None)
                if found is None:
                    raise FormatError("camera_usd.none", "There is no camera in this file.")
                return _path_of(stage, UsdGeom.Camera(found), size)
        except Tf.ErrorException as error:
            raise FormatError("camera_usd.unreadable", "This USD file could not be read.") from error
        except FormatError as error:
            error.message = error.message.replace(path.name, "The file").replace("3D model", "camera")
            raise


def _path_of(stage: Usd.Stage, camera: object, size: tuple[int, int]) -> CameraPath:
    from pxr import Usd, UsdGeom

    assert isinstance(camera, UsdGeom.Camera)
    above, moments = camera.GetPrim(), set(camera.GetFocalLengthAttr().GetTimeSamples())
    while above and not above.IsPseudoRoot():
        space = UsdGeom.Xformable(above)
        moments.update(space.GetTimeSamples() if space else ())
        above = above.GetParent()
    finite = sorted(one for one in moments if np.isfinite(one))
    if not finite:
        finite = [stage.GetStartTimeCode() if stage.HasAuthoredTimeCodeRange() else 0.0]
    if finite[-1] - finite[0] > MOST_FRAMES:
        raise FormatError("camera_usd.long", "The camera in this file moves for longer than any clip.")
    times = np.array(sorted({*finite, *np.arange(np.ceil(finite[0]), finite[-1] + 1e-9).tolist()}))
    metres = metres_from(stage)
    stands = np.stack([metres @ array_of(camera.ComputeLocalToWorldTransform(float(t))) for t in times])
    turn = stands[:, :3, :3]
    scale = np.linalg.norm(turn, axis=1)
    if not np.isfinite(scale).all() or not (scale > 0).all():
        raise FormatError("camera.numbers", "The camera file has numbers that no camera can have.")
    apertures = [float(camera.GetHorizontalApertureAttr().Get(float(t)) or np.nan) for t in times]
    focals = [float(camera.GetFocalLengthAttr().Get(float(t)) or np.nan) for t in times]
    points = [np.zeros((0, 3))]
    rest = Usd.TimeCode(float(times[0]))
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        if prim.IsA(UsdGeom.Points):
            given = UsdGeom.Points(prim).GetPointsAttr().Get(rest)
            cloud: F64 = np.asarray([] if given is None else given, np.float64).reshape(-1, 3)
            m = metres @ array_of(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(rest))
            points.append(cloud @ m[:3, :3].T + m[:3, 3])
    said = stage.GetRootLayer().HasTimeCodesPerSecond() or stage.GetRootLayer().HasFramesPerSecond()
    return CameraPath(
        frames=times, position=stands[:, :3, 3], rotation=turn / scale[:, None],
        focal=np.array(focals) / np.array(apertures) * size[0], points=np.concatenate(points),
        rate=float(stage.GetTimeCodesPerSecond()) if said else None,
    )  # fmt: skip


def _path(coming: Coming) -> CameraPath:
    size = (coming.footage.width, coming.footage.height)
    return call_apart(camera_path_of_usd, coming.data, size, seconds=READ_S, most_bytes=READ_BYTES, what="This USD file")


add_camera_format(
    "camera.usdz", order=2, label="USDZ, with pictures", mime="model/vnd.usdz+zip",
    write=lambda going: write_camera_usd(going.scene(), ".usdz"), recognises=lambda coming: is_usd(coming.data), path=_path,
)
add_camera_format(
    "camera.usda", order=3, label="USD, as text", mime="text/plain; charset=utf-8",
    write=lambda going: write_camera_usd(going.scene(), ".usda"), recognises=lambda _: False, path=_path,
)
