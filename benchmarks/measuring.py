"""Labels and cells with all their statistics, rulers, and many marks in a pane."""

from __future__ import annotations

import time

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space, picture_space

from .row import Row, best_of

LABELS, SIDE = 500, 512


def labels() -> Row:
    import SimpleITK as sitk

    from kestrelmist.measure.regions.measure_labels import measure_labels

    numbers, number, radius = np.zeros((SIDE,) * 3, np.uint16), 0, 26
    k, j, i = np.indices((2 * radius + 1,) * 3) - radius
    ball = k**2 + 1.3 * j**2 + i**2 <= radius**2
    places = np.linspace(30, SIDE - 32, 8).astype(int)
    for a, b, c in np.stack(np.meshgrid(places, places, places), -1).reshape(-1, 3)[:LABELS]:
        number += 1
        part = numbers[a - radius : a + radius + 1, b - radius : b + radius + 1, c - radius : c + radius + 1]
        part[ball] = number
    values = np.random.default_rng(1).normal(100, 10, numbers.shape).astype(np.float32)
    table = LabelTable()
    for n in range(LABELS):
        table, _ = table.with_new(f"L{n}")
    space = Space((SIDE,) * 3, np.diag([0.1, 0.1, 0.2, 1.0]))
    image, mapped = Image(values.T, space, "Made"), LabelMap(space, numbers.T, table)
    mine = best_of(lambda: measure_labels(image, mapped, "all"), 2)
    theirs, grey = sitk.GetImageFromArray(numbers), sitk.GetImageFromArray(values)
    for one in (theirs, grey):
        one.SetSpacing((0.1, 0.1, 0.2))
    found = sitk.LabelIntensityStatisticsImageFilter()
    found.ComputePerimeterOn()
    found.ComputeFeretDiameterOn()
    started = time.perf_counter()
    found.Execute(theirs, grey)
    other = time.perf_counter() - started
    mean = measure_labels(image, mapped).column("mean")[76]
    assert abs(mean - found.GetMean(77)) < 1e-3, mean
    return Row(
        "500 labels on 512³, all statistics", mine, other, "SimpleITK's, with perimeter and Feret", "ratio ≤ 0.5"
    )


def cells() -> Row:
    from skimage.measure import regionprops_table

    from kestrelmist.measure.regions.measure_cells import measure_cells

    across, down, gap = 400, 250, 12
    tile = (np.hypot(*(np.indices((gap, gap)) - 5.5)) < 4.5).astype(np.uint32)
    order = np.arange(1, across * down + 1, dtype=np.uint32).reshape(down, across)
    # numbers of label maps end at 65,535: two halves
    halves = [np.where(np.kron(part > 0, tile > 0), np.kron(part, np.ones((gap, gap), np.uint32)), 0)
              for part in (order[: down // 2], order[down // 2 :] - order[down // 2, 0] + 1)]  # fmt: skip
    rng = np.random.default_rng(2)
    mine = 0.0
    pictures = []
    for half in halves:
        space = picture_space(half.shape[1], half.shape[0], (0.0005, 0.0005))
        colours = rng.integers(0, 255, (*half.shape, 3)).astype(np.uint8)
        pictures.append(colours)
        image = Image(np.ascontiguousarray(colours.transpose(1, 0, 2)[:, :, None]), space, "Made", colour=True)
        mapped = LabelMap(space, np.asfortranarray(half.astype(np.uint16).T[:, :, None]))
        mine += best_of(lambda image=image, mapped=mapped: measure_cells(image, mapped), 2)
    names = ("label", "area", "centroid", "intensity_mean", "intensity_std", "perimeter_crofton", "eccentricity",
             "axis_major_length", "axis_minor_length", "feret_diameter_max")  # fmt: skip
    some = halves[0][: 10 * gap]  # 4,000 of them: all would take minutes
    started = time.perf_counter()
    regionprops_table(some.astype(np.int32), pictures[0][: 10 * gap], properties=names)
    other = (time.perf_counter() - started) * across * down / (10 * across)
    return Row(
        "100,000 cells, shape and three channels", mine, other, "regionprops_table, from 4,000 of them", "ratio ≤ 0.3"
    )


def ruler() -> Row:
    from kestrelmist.demo.stage_ruler import ruler_picture
    from kestrelmist.measure.calibrating.ruler import read_ruler

    picture = ruler_picture(0.0005, size=(2560, 1950), turn=0.05).astype(np.uint8)
    mine = best_of(lambda: read_ruler(picture), 3)
    plain = best_of(lambda: np.fft.rfft2(picture.astype(np.float32)), 2)
    assert abs(read_ruler(picture).period - 20) < 0.001
    return Row("stage ruler of 5 megapixels, all marks", mine, plain, "numpy's transform of it alone", "≤ 0.3 s")


def marks() -> Row:
    from kestrelmist.core.geometry.hits import hit
    from kestrelmist.core.geometry.mark import Mark
    from kestrelmist.core.geometry.marks import Marks
    from kestrelmist.core.scale import Scale
    from kestrelmist.scene.layer import MarkLook
    from kestrelmist.scene.layer_type import Drawn, type_of_thing
    from kestrelmist.scene.layer_types.marks import slice_of, under
    from kestrelmist.scene.view import AXIAL, fitted

    space = picture_space(4000, 3000, (0.001, 0.001))
    rng = np.random.default_rng(3)
    starts = np.column_stack((rng.uniform(-2, 2, 3000), rng.uniform(-1.5, 1.5, 3000), np.zeros(3000)))
    made = Marks.numbered(
        [Mark("line", (tuple(a), tuple(a + (0.02, 0.01, 0)))) for a in starts.tolist() for a in [np.array(a)]],
        world=space.world,
    )
    view, look = fitted(AXIAL, space, 1000, 750), MarkLook(scale=Scale().fact, placed=0.0003)
    draws = type_of_thing(made).primitives
    assert draws is not None
    mine = best_of(lambda: draws(view, Drawn(made, look)), 5)
    at = view.to_page(starts[1500][None])[0]
    place = float(at[0]), float(at[1])
    hits = best_of(lambda: hit(under(view, made, look, starts[1500]), place, view.to_page, slice=slice_of(view)), 5)
    loop = best_of(lambda: [view.to_page(mark.array) for mark in made], 3)
    what = f"3,000 marks in a pane (hit test {1000 * hits:.1f} ms)"
    return Row(what, mine, loop, "to page positions alone", "≤ 16 ms; hit ≤ 2 ms")


def frames() -> Row:
    """A frame of a live camera: packed as colours and drawn in a pane."""
    from kestrelmist.core.kernel import used_here
    from kestrelmist.core.values import packed_colours
    from kestrelmist.measure.camera.take_pictures import across
    from kestrelmist.scene.drawing import draw
    from kestrelmist.scene.first_look import first_look
    from kestrelmist.scene.layer_type import Drawn
    from kestrelmist.scene.view import AXIAL, fitted

    frame = np.random.default_rng(4).integers(0, 255, (960, 1280, 3)).astype(np.uint8)
    space = picture_space(1280, 960, (0.0003, 0.0003))
    view = fitted(AXIAL, space, 1000, 750)
    look = first_look(Image(packed_colours(across(frame)[:, :, None]), space, colour=True))

    def seen() -> None:
        image = Image(packed_colours(across(frame)[:, :, None]), space, "Live", colour=True)
        draw(view, [Drawn(image, look)])

    with used_here():
        mine = best_of(seen, 8)
    plain = best_of(frame.copy, 8)
    return Row("a frame of 1280 × 960, live in a pane", mine, plain, "copying it", "≤ 0.04 s", met=mine <= 0.04)


def rows() -> list[Row]:
    return [labels(), cells(), ruler(), marks(), frames()]
