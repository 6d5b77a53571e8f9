"""One rendered view: layers and a camera in, a picture out, off screen."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  registers the renderer
from PySide6.QtGui import QImage
from vtkmodules.util.numpy_support import numpy_to_vtk, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkObject, vtkUnsignedCharArray
from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPolyData
from vtkmodules.vtkRenderingCore import (
    vtkActor,
    vtkPolyDataMapper,
    vtkRenderer,
    vtkRenderWindow,
    vtkTexture,
)

from usual_clay.bench.camera import VIEW_ANGLE, Camera, free_view
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats

vtkObject.GlobalWarningDisplayOff()

# What is drawn first lies under the rest.
DEPTHS = ("under", "in place", "over")
# How far layers are kept apart in depth where they coincide, in the renderer's own units.
SCAN_BACK = (2.0, 400.0)


@dataclass(frozen=True, eq=False)
class Layer:
    """Something to draw.

    Attributes
    ----------
    data : vtkPolyData
    light : vtkPolyData or None
        A coarser stand-in for while the view moves.
    back : (float, float)
        Polygon offset that moves it away from the eye.
    line : str or None
        For polylines, and for what is of one colour: that colour.
    picture : (h, w, 4) bytes or None
        What is put on the triangles by their texture coordinates.
    spots : (a, b, 4) bytes or None
        The same, spot by spot, rows going up, and lit.
    depth : str
        "under" the model, "in place" or "over" it.
    opacity : float
    lift : float
        How far a line comes towards the eye, in the renderer's own units.
    """

    data: vtkPolyData
    light: vtkPolyData | None = None
    back: tuple[float, float] = (0.0, 0.0)
    line: str | None = None
    gloss: float = 0.0
    picture: np.ndarray | None = None
    spots: np.ndarray | None = None
    depth: str = "in place"
    opacity: float = 1.0
    lift: float = 600.0
    width: float = 1.2


class View:
    """Renders layers off screen."""

    def __init__(self) -> None:
        self.camera: Camera = free_view()
        self._window = vtkRenderWindow()
        self._window.SetOffScreenRendering(1)
        self._window.SetMultiSamples(0)
        self._window.SetNumberOfLayers(len(DEPTHS))
        self._renderers = {depth: vtkRenderer() for depth in DEPTHS}
        for number, renderer in enumerate(self._renderers.values()):
            renderer.SetLayer(number)
            renderer.SetActiveCamera(self._renderers["in place"].GetActiveCamera())
            self._window.AddRenderer(renderer)
        self._renderers["under"].GradientBackgroundOn()
        self._actors: dict[str, tuple[Layer, vtkActor]] = {}
        self._box = np.array([[-50.0, -50, -50], [50, 50, 50]])
        self.size = (100, 100)
        self._window.SetSize(*self.size)
        self._rendered: tuple[tuple[object, ...], QImage] = ((), QImage())

    def set_layers(self, layers: dict[str, Layer]) -> None:
        """Show these layers; those that are the same objects as before keep their buffers."""
        for key in [key for key in self._actors if key not in layers]:
            layer, actor = self._actors.pop(key)
            self._renderers[layer.depth].RemoveActor(actor)
        for key, layer in layers.items():
            known = self._actors.get(key)
            if known is not None and known[0] is layer:
                continue
            actor = known[1] if known is not None else self._new_actor()
            if known is not None and known[0].depth != layer.depth:
                self._renderers[known[0].depth].RemoveActor(actor)
            if not self._renderers[layer.depth].HasViewProp(actor):
                self._renderers[layer.depth].AddActor(actor)
            self._dress(actor, layer)
            self._actors[key] = (layer, actor)
        self._box = _joint_box(layer.data for layer in layers.values())

    def resize(self, width: int, height: int) -> None:
        size = (max(width, 8), max(height, 8))
        if size != self.size:
            self.size = size
            self._window.SetSize(*size)

    @property
    def aspect(self) -> float:
        return self.size[0] / self.size[1]

    def fit(self, points: Floats) -> None:
        """Show all of some points."""
        self.camera = self.camera.fitted(points, self.aspect)

    def image(self, moving: bool = False) -> QImage:
        """Render, with stand-ins while moving; what has not changed is not rendered again."""
        layers = (layer for layer, _ in self._actors.values())
        shown = (self.camera, self.size, moving, now(), *layers)
        made_of, image = self._rendered
        if len(shown) != len(made_of) or any(
            a is not b for a, b in zip(shown, made_of, strict=True)
        ):
            image = self._render(moving)
            self._rendered = (shown, image)
        return image

    def _render(self, moving: bool) -> QImage:
        for layer, actor in self._actors.values():
            data = layer.light if moving and layer.light is not None else layer.data
            if actor.GetMapper().GetInput() is not data:
                actor.GetMapper().SetInputData(data)
        self._renderers["in place"].SetUseFXAA(not moving)
        self._aim()
        ground = self._renderers["under"]
        ground.SetBackground(*rgb(now().stage_foot))
        ground.SetBackground2(*rgb(now().stage_top))
        self._window.Render()
        pixels = vtkUnsignedCharArray()
        width, height = self.size
        self._window.GetRGBACharPixelData(0, 0, width - 1, height - 1, 1, pixels, 0)
        rows = vtk_to_numpy(pixels).reshape(height, width, 4)[::-1].copy()
        return QImage(rows.data, width, height, 4 * width, QImage.Format.Format_RGBX8888).copy()

    def project(self, points: Floats) -> Floats:
        """Return pixel positions and depth along the sight, (n, 3)."""
        offset = np.atleast_2d(points) - self.camera.focus
        camera = self.camera
        depth = offset @ camera.sight
        x, y = offset @ camera.right, offset @ camera.up
        if not camera.true:
            shrink = camera.distance / np.maximum(depth + camera.distance, 1e-6)
            x, y = x * shrink, y * shrink
        scale = self.size[1] / camera.height
        return np.stack([self.size[0] / 2 + x * scale, self.size[1] / 2 - y * scale, depth], axis=1)

    def ray(self, x: float, y: float) -> tuple[Floats, Floats]:
        """Return origin and unit direction of the line of sight through a pixel."""
        camera = self.camera
        scale = camera.height / self.size[1]
        across = (x - self.size[0] / 2) * scale * camera.right
        upward = (self.size[1] / 2 - y) * scale * camera.up
        target = camera.focus + across + upward
        if camera.true:
            far = float(np.linalg.norm(np.ptp(self._box, axis=0))) + camera.distance
            return target - camera.sight * far * 2, camera.sight
        direction = target - camera.position
        return camera.position, direction / np.linalg.norm(direction)

    def level_with(self, x: float, y: float, place: Floats) -> Floats:
        """Return where a pixel's line of sight is as deep in the view as a place."""
        origin, direction = self.ray(x, y)
        share = float((place - origin) @ self.camera.sight) / float(direction @ self.camera.sight)
        return np.asarray(origin + share * direction)

    def along_line(self, x: float, y: float, place: Floats, way: Floats) -> Floats:
        """Return the place on a line, given by a place and a direction, nearest to a pixel's sight.

        Seen end on it is the place given.
        """
        origin, direction = self.ray(x, y)
        across = np.cross(way, direction)
        size = float(across @ across)
        if size < 1e-9:
            return place
        return np.asarray(place + float(np.cross(origin - place, direction) @ across) / size * way)

    def sight_lines(self, points: Floats) -> tuple[Floats, Floats, Floats]:
        """Return for points, (n, 3): origins and unit directions of their sights, and how far."""
        camera = self.camera
        if camera.true:
            far = float(np.linalg.norm(np.ptp(self._box, axis=0))) + camera.distance
            back = far * 2 + (points - camera.focus) @ camera.sight
            return points - back[:, None] * camera.sight, camera.sight[None], back
        away = points - camera.position
        distance = np.linalg.norm(away, axis=1)
        return camera.position[None], away / np.maximum(distance, 1e-12)[:, None], distance

    def mm_per_pixel(self, at: Floats) -> float:
        depth = 0.0 if self.camera.true else float((at - self.camera.focus) @ self.camera.sight)
        nearer = (depth + self.camera.distance) / self.camera.distance
        return self.camera.height / self.size[1] * max(nearer, 1e-6)

    def _new_actor(self) -> vtkActor:
        actor = vtkActor()
        actor.SetMapper(vtkPolyDataMapper())
        return actor

    def _dress(self, actor: vtkActor, layer: Layer) -> None:
        mapper, look = actor.GetMapper(), actor.GetProperty()
        mapper.SetInputData(layer.data)
        mapper.SetResolveCoincidentTopologyToPolygonOffset()
        mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(*layer.back)
        look.SetAmbient(0.22)
        look.SetDiffuse(0.82)
        look.SetSpecular(layer.gloss)
        look.SetSpecularPower(24)
        look.SetOpacity(layer.opacity)
        own = None if layer.spots is None else _texture(layer.spots[::-1], False)
        actor.SetTexture(own)  # type: ignore[arg-type]  # None takes the last one off
        if layer.picture is not None:
            actor.SetTexture(_texture(layer.picture, True))
            look.LightingOff()
            actor.ForceTranslucentOn()
        if layer.line is not None:
            look.SetColor(*rgb(layer.line))
            look.LightingOff()
            look.SetLineWidth(layer.width)
            mapper.SetRelativeCoincidentTopologyLineOffsetParameters(0.0, -layer.lift)

    def _aim(self) -> None:
        camera, vtk_camera = self.camera, self._renderers["in place"].GetActiveCamera()
        vtk_camera.SetParallelProjection(camera.true)
        vtk_camera.SetViewAngle(np.degrees(VIEW_ANGLE))
        vtk_camera.SetFocalPoint(*camera.focus)
        vtk_camera.SetPosition(*camera.position)
        vtk_camera.SetViewUp(*camera.up)
        vtk_camera.SetParallelScale(camera.height / 2)
        # One range for all that is shown, so that every depth is projected alike.
        box = self._box
        self._renderers["in place"].ResetCameraClippingRange(
            box[0, 0], box[1, 0], box[0, 1], box[1, 1], box[0, 2], box[1, 2]
        )


def _texture(pixels: np.ndarray, smooth: bool) -> vtkTexture:
    """Return pixels, (h, w, 4) bytes, as a texture; its rows go up."""
    height, width = pixels.shape[:2]
    image = vtkImageData()
    image.SetDimensions(width, height, 1)
    rows = np.ascontiguousarray(pixels[::-1]).reshape(-1, 4)
    image.GetPointData().SetScalars(numpy_to_vtk(rows, deep=True))
    texture = vtkTexture()
    texture.SetInputData(image)
    texture.SetInterpolate(smooth)
    texture.SetMipmap(smooth)
    texture.EdgeClampOn()
    return texture


def _joint_box(datas: Iterable[vtkPolyData]) -> Floats:
    boxes = [np.array(data.GetBounds()).reshape(3, 2).T for data in datas]
    if not boxes:
        return np.array([[-50.0, -50, -50], [50, 50, 50]])
    return np.stack([np.min(boxes, axis=0)[0], np.max(boxes, axis=0)[1]])
