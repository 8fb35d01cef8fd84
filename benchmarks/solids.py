"""Surfaces, volumes by rays, scenes of many labels, sheets and films."""

from __future__ import annotations

import tempfile
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.kernel import used_here
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.surface.blocks import SIDE, block_surface, changed_blocks, states_of
from kestrelmist.core.surface.of_label import smooth_faces, surfaces_of
from kestrelmist.scene.first_look import first_look, over_look
from kestrelmist.scene.layer import LabelLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.painting import write_page
from kestrelmist.scene.primitives import Page
from kestrelmist.scene.sheet.page import sheet_page
from kestrelmist.scene.sheet.plan import SheetPlan, SheetStack
from kestrelmist.scene.solid.eye import Camera
from kestrelmist.scene.solid.scene import bodies_of_labels
from kestrelmist.scene.solid.stage import SolidScene
from kestrelmist.scene.solid.volume import levels_of
from kestrelmist.scene.solid.volume_look import VolumeLook

from .row import Row, best_of, in_turn

SIZE = (700, 600)


def knob(side: int, share: float = 0.05) -> np.ndarray:
    """A rough ball that fills a share of a cube: uint8."""
    coarse = np.random.default_rng(1).normal(size=(16, 16, 16)).astype(np.float32)
    rough = ndimage.zoom(coarse, side / 16, order=1)
    z, y, x = np.ogrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j, -1 : 1 : side * 1j]
    away = (np.sqrt(x * x + 1.2 * y * y + 0.8 * z * z) + 0.06 * rough).astype(np.float32)
    return (away < np.quantile(away[::8, ::8, ::8], share)).astype(np.uint8)


def surface() -> Row:
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonDataModel import vtkImageData
    from vtkmodules.vtkFiltersCore import vtkWindowedSincPolyDataFilter
    from vtkmodules.vtkFiltersGeneral import vtkDiscreteFlyingEdges3D

    mask = knob(512)
    space = Space((512, 512, 512), np.eye(4))
    labels = LabelMap(space, mask.T.astype(np.uint16), LabelTable([Label(1, "Body", "#E0A24B")]))

    def theirs() -> None:
        grid, edges, smooth = vtkImageData(), vtkDiscreteFlyingEdges3D(), vtkWindowedSincPolyDataFilter()
        grid.SetDimensions(512, 512, 512)
        grid.GetPointData().SetScalars(numpy_to_vtk(mask.ravel(), deep=False))
        edges.SetInputData(grid)
        edges.SetValue(0, 1)
        edges.ComputeNormalsOff()
        edges.ComputeGradientsOff()
        smooth.SetInputConnection(edges.GetOutputPort())
        smooth.SetNumberOfIterations(20)
        smooth.SetPassBand(0.1)
        smooth.NormalizeCoordinatesOn()
        smooth.Update()

    surfaces_of(labels)
    mine, other = in_turn(lambda: surfaces_of(labels), theirs, 3)
    return Row(
        "surface of a label, 512³, 5 % filled", mine, other, "flying edges and windowed sinc of VTK", "ratio ≤ 1.5"
    )


def brushed() -> Row:
    """From a stroke that changed a label to the picture."""
    mask = knob(400, 0.08)[:300]
    space = Space((400, 400, 300), np.diag([0.5, 0.5, 0.5, 1]))
    labels = LabelMap(space, mask.T.astype(np.uint16), LabelTable([Label(1, "Body", "#E0A24B")]))
    scene, body = SolidScene(), bodies_of_labels(1, labels)[0]
    one = surfaces_of(labels).parts[0]
    scene.set_mesh(body.key, one.corners, one.triangles, body.finish, (space.inverse, SIDE))
    eye = scene.eye(Camera(), 600, 500)
    scene.picture(eye, moving=True)
    before, took = states_of(labels, 1), []
    for n in range(9):
        at = (150, 120 + 6 * n, 200)
        started = time.perf_counter()
        labels.kji[at[0] - 4 : at[0] + 4, at[1] - 4 : at[1] + 4, at[2] - 4 : at[2] + 4] = n % 2
        after = states_of(labels, 1)
        blocks = {block: block_surface(labels, 1, block) for block in changed_blocks(before, after)}
        scene.patch_mesh(body.key, blocks)
        scene.picture(eye, moving=True)
        took.append(time.perf_counter() - started)
        before = after
    taken = float(np.median(took[1:]))
    return Row("Solid view follows a brush, 400 × 400 × 300", taken, None, "", "≤ 0.15 s", met=taken <= 0.15)


def head(side: int) -> Image:
    """Shells of several values with noise."""
    z, y, x = np.ogrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j, -1 : 1 : side * 1j]
    away = np.sqrt(x * x + 1.2 * y * y + 0.8 * z * z).astype(np.float32)
    values = np.clip(1 - np.abs(away - 0.8) * 10, 0, 1) * 150 + np.clip(1 - np.abs(away - 0.4) * 6, 0, 1) * 90
    values += np.random.default_rng(0).normal(0, 4, values.shape).astype(np.float32)
    space = Space((side, side, side), np.eye(4) * 51.2 / side + np.diag([0, 0, 0, 1 - 51.2 / side]))
    return Image(np.asfortranarray(values.astype(np.float32).T), space, "Head")


def volumes() -> list[Row]:
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonDataModel import vtkImageData, vtkPiecewiseFunction
    from vtkmodules.vtkRenderingCore import (
        vtkColorTransferFunction,
        vtkRenderer,
        vtkRenderWindow,
        vtkVolume,
        vtkVolumeProperty,
    )

    mapper_class: Any = None
    with suppress(ImportError):  # it is not among what the program needs, and may have been taken out
        from vtkmodules.vtkRenderingVolume import vtkFixedPointVolumeRayCastMapper

        mapper_class = vtkFixedPointVolumeRayCastMapper

    points = ((60.0, "#000000", 0.0), (110.0, "#D0B090", 0.4), (255.0, "#FFE6CC", 0.9))
    found = []
    for side, fast, slow in ((256, 12.0, 1.0), (512, 8.0, 3.0)):
        image = head(side)
        scene = SolidScene()
        scene.set_volume(1, levels_of(image), VolumeLook(points))
        eye = scene.eye(Camera(), *SIZE)
        other = None
        if mapper_class is not None:
            grid = vtkImageData()
            grid.SetDimensions(side, side, side)
            grid.GetPointData().SetScalars(numpy_to_vtk(np.clip(image.kji, 0, 255).astype(np.uint8).ravel(), deep=True))
            mapper, volume, look = mapper_class(), vtkVolume(), vtkVolumeProperty()
            mapper.SetInputData(grid)
            mapper.AutoAdjustSampleDistancesOff()
            mapper.SetImageSampleDistance(1)
            mapper.SetSampleDistance(0.7)
            opacity, colour = vtkPiecewiseFunction(), vtkColorTransferFunction()
            for value, hexed, alpha in points:
                opacity.AddPoint(value, alpha)
                colour.AddRGBPoint(value, *(int(hexed[n : n + 2], 16) / 255 for n in (1, 3, 5)))
            look.SetScalarOpacity(opacity)
            look.SetColor(colour)
            look.ShadeOn()
            look.SetInterpolationTypeToLinear()
            volume.SetMapper(mapper)
            volume.SetProperty(look)
            renderer, window = vtkRenderer(), vtkRenderWindow()
            renderer.AddVolume(volume)
            window.SetOffScreenRendering(1)
            window.AddRenderer(renderer)
            window.SetSize(*SIZE)
            window.Render()

            def theirs(renderer=renderer, window=window) -> None:
                renderer.GetActiveCamera().Azimuth(10)
                window.Render()

            other = best_of(theirs, 3)
        scene.picture(eye)
        fine = best_of(lambda scene=scene, eye=eye: scene.picture(eye), 3)
        name = "the fixed-point mapper of VTK, whole volume" if other is not None else ""
        found.append(Row(f"volume, {side}³, fine picture", fine, other, name, f"≤ {slow} s", met=fine <= slow))
        scene.picture(eye, moving=True)
        quick = best_of(lambda scene=scene, eye=eye: scene.picture(eye, moving=True), 7)
        found.append(_rate(f"volume, {side}³, while turning", 1 / quick, fast))
    return found


def _rate(name: str, rate: float, least: float) -> Row:
    return Row(name, rate, None, "", f"≥ {least:g} pictures/s", "pictures/s", False, met=rate >= least)


def labels_turn() -> Row:
    rng = np.random.default_rng(0)
    scene = SolidScene()
    k, j, i = np.ogrid[:24, :24, :24]
    ball = (((k - 11.5) ** 2 + (j - 11.5) ** 2 + (i - 11.5) ** 2) < 100).astype(np.uint8)
    corners, triangles = smooth_faces(ball, Space((24, 24, 24), np.eye(4)))
    for n in range(100):
        ink = tuple(float(v) for v in rng.uniform(0.2, 1, 3))
        shifted = corners + rng.uniform(0, 100, 3)
        scene.set_mesh(n, shifted, triangles, (ink, 0.5 if n % 4 == 0 else 1.0, True, (0.0, 0.0, 0.0)))
    eye = scene.eye(Camera(), *SIZE)
    scene.picture(eye, moving=True)
    quick = best_of(lambda: scene.picture(eye, moving=True), 7)
    return _rate(f"scene of 100 labels turns, {100 * len(triangles)} triangles", 1 / quick, 20)


def sheet() -> Row:
    image, over = head(192), head(96)
    numbers = (over.data > 60).astype(np.uint16)
    labels = LabelMap(over.space, numbers, LabelTable([Label(1, "Shell", "#56A8C7")]))
    layers = [Drawn(image, first_look(image)), Drawn(over, over_look(over), 0.6), Drawn(labels, LabelLook())]
    plan, scale = SheetPlan(count=48, columns=8), 300 / 25.4 * 0.2352
    width = round(180 / 25.4 * 300)

    def ours() -> None:
        with tempfile.TemporaryDirectory() as place, used_here():
            page, _ = sheet_page([[SheetStack(layers, labels)]], plan, width, scale)
            write_page(page, Path(place) / "s.png")

    ours()
    taken = best_of(ours, 3)
    return Row("sheet of 48 slices, two layers and labels, 180 mm, 300 dpi", taken, None, "", "≤ 2 s", met=taken <= 2)


def slabs() -> list[Row]:
    """A slab of 4 mm of a 256³ volume in a pane of 700 × 600: along the grid, and tilted in it."""
    from itertools import count

    from kestrelmist.scene.slab import slab_values
    from kestrelmist.scene.view import View

    image = head(256)
    spacing, middle, thick = image.space.spacing[1], image.space.centre, 4.0
    pixel, places, found = 256 * spacing / 600, count(), []
    for name, turn in (("along the grid", 0.0), ("tilted by 7°", np.radians(7.0))):
        view = View(tuple(middle), (float(np.cos(turn)), float(np.sin(turn)), 0.0), (0.0, 0.0, -1.0), pixel, 700, 600)
        first = round(128 - thick / 2 / spacing), round(128 + thick / 2 / spacing)

        def ours(view=view) -> None:
            at = middle + view.normal * spacing * (next(places) % 9)  # what was made just now is not made again
            slab_values(view.moved(centre=tuple(at)), image, thick, "highest", True)

        def flat(first=first) -> None:
            ndimage.zoom(image.kji[:, slice(*first)].max(1), 600 / 256, order=1)

        def tilted(view=view) -> None:
            rows, columns = np.mgrid[0:300, 0:350] * 2.0
            best = None
            for at in np.arange(-thick / 2, thick / 2, spacing):
                first = image.space.to_voxel(view.corner + view.normal * at)
                turned = image.space.inverse[:3, :3]
                right, down = turned @ view.right, turned @ view.down
                where = [first[n] + right[n] * columns + down[n] * rows for n in (2, 1, 0)]
                values = ndimage.map_coordinates(image.kji, where, order=0)
                best = values if best is None else np.maximum(best, values)

        with used_here():
            ours()
            mine, other = in_turn(ours, tilted if turn else flat, 3)
        what = "SciPy at every second pixel" if turn else "NumPy's maximum of the slices, enlarged by SciPy"
        found.append(Row(f"slab of 4 mm {name}, 256³ at 700 × 600", mine, other, what, "ratio ≤ 1.0"))
    return found


def film() -> Row:
    from kestrelmist.report.film_files import film_file
    from kestrelmist.report.plane_page import PlaneLayers
    from kestrelmist.scene.painters.raster import drawn
    from kestrelmist.scene.view import AXIAL, fitted

    image, over = head(192), head(96)
    layers = PlaneLayers([Drawn(image, first_look(image))], [Drawn(over, over_look(over), 0.6)])
    view = fitted(AXIAL, image.space, 1280, 720)

    def pages():
        for n in range(120):
            yield layers.page(view.moved(centre=(*view.centre[:2], 5 + 0.3 * n)))

    def frames() -> list[Page]:
        return [drawn(page) for page in pages()]  # type: ignore[misc]

    def ours() -> None:
        with tempfile.TemporaryDirectory() as place:
            with film_file(Path(place) / "f.mp4", (1280, 720), 25, False, "", "") as add:
                for page in pages():
                    add(drawn(page))

    with used_here():
        ours()
        mine, other = in_turn(ours, frames, 2)
    return Row("film of 120 frames, 1280 × 720", mine, other, "drawing the frames alone", "ratio ≤ 1.3")


def rows() -> list[Row]:
    return [surface(), brushed(), *volumes(), labels_turn(), *slabs(), sheet(), film()]
