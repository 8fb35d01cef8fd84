"""Opening, bridging, forests, strokes, cells, the line that follows edges, and previews of one slice."""

from __future__ import annotations

import gc
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import silent
from kestrelmist.core.space import Space, picture_space

from .row import Row, best_of, in_turn


def mapped(mask: np.ndarray, step: float = 0.5) -> LabelMap:
    table, _ = LabelTable().with_new("Body")
    space = Space(mask.shape[::-1], np.diag([step, step, step, 1.0]))
    return LabelMap(space, mask.astype(np.uint16).T, table)


def blob(shape: tuple[int, int, int], width: float) -> np.ndarray:
    """Something large with a rough surface."""
    coarse = np.random.default_rng(1).standard_normal([max(4, int(n / width)) for n in shape])
    field = ndimage.zoom(coarse, [n / c for n, c in zip(shape, coarse.shape)], order=3)[
        : shape[0], : shape[1], : shape[2]
    ]
    away = sum(
        ((np.arange(n) - n / 2) / (0.42 * n)).reshape([-1 if a == b else 1 for b in range(3)]) ** 2
        for a, n in enumerate(shape)
    )
    return away + 0.25 * field < 1


def opening() -> Row:
    from kestrelmist.outline.shaping.grow_shrink import open_label

    mask = blob((400, 512, 512), 40)
    labels = mapped(mask)
    edit = open_label(labels, "Body", by=3.0)

    def theirs():
        inner = ndimage.distance_transform_edt(mask) > 6
        return ndimage.distance_transform_edt(~inner) <= 6

    mine = best_of(lambda: open_label(labels, "Body", by=3.0), 2)
    started = time.perf_counter()
    wanted = theirs() & mask
    other = time.perf_counter() - started
    after = labels.copied()
    edit.apply(after)
    apart = np.count_nonzero((after.kji == 1) != wanted) / mask.sum()  # theirs ends at the image's edge
    assert apart < 0.02, apart
    return Row("open by 3 mm, 400 × 512 × 512", mine, other, "two distance maps of scipy.ndimage", "ratio ≤ 0.3")


def bridging() -> Row:
    from kestrelmist.outline.slices.bridge import bridge_slices

    mask = blob((512, 512, 512), 60)
    drawn = np.zeros_like(mask)
    places = np.linspace(60, 450, 20).astype(int)
    drawn[places] = mask[places]
    labels = mapped(drawn)

    def theirs():
        made = drawn.copy()
        depth = [ndimage.distance_transform_edt(mask[k]) - ndimage.distance_transform_edt(~mask[k]) for k in places]
        for n, (a, b) in enumerate(zip(places, places[1:])):
            for k in range(a + 1, b):
                share = (k - a) / (b - a)
                made[k] = (1 - share) * depth[n] + share * depth[n + 1] > 0
        return made

    bridge_slices(labels, "Body")
    mine, other = in_turn(lambda: bridge_slices(labels, "Body"), theirs, 2)
    return Row("bridge 20 slices, 512³", mine, other, "a loop over distances of SciPy", "ratio ≤ 0.5")


def forest() -> list[Row]:
    from skimage.feature import multiscale_basic_features

    from kestrelmist.outline.forest.classify import classify
    from kestrelmist.outline.forest.train import train

    rng = np.random.default_rng(3)
    side = 900
    where = ndimage.gaussian_filter(rng.standard_normal((side, side)), 12) > 0
    values = np.where(
        where,
        20 * rng.standard_normal((side, side)),
        40 * ndimage.gaussian_filter(rng.standard_normal((side, side)), 2) * 5,
    )
    space = picture_space(side, side, (0.001, 0.001))
    image = Image(np.asfortranarray(values.astype(np.float32).T[:, :, None]), space, "Section")
    strokes = np.zeros((1, side, side), np.uint16)
    strokes[0, ::60] = np.where(where[::60], 1, 2)
    table = LabelTable().with_new("A")[0].with_new("B")[0]
    taught = train(image, LabelMap(space, strokes.T, table)).classifier
    model = taught.model
    model.n_jobs = 1  # as it comes

    def theirs():
        features = multiscale_basic_features(values.astype(np.float32), sigma_min=0.5, sigma_max=2)
        return model.predict(features.reshape(-1, features.shape[-1])).reshape(side, side)

    found = classify(image, taught)
    mine, other = in_turn(lambda: classify(image, taught), theirs, 2)
    same = float(np.mean(found.kji[0] == theirs() + 1))
    rate, base = side**2 / mine, side**2 / other
    return [
        Row(
            f"forest, pixels a second (same answer for {100 * same:.3f} %)",
            rate,
            base,
            "scikit-image features and predict of the same trees",
            "ratio ≥ 4",
            "px/s",
            lower_is_better=False,
            met=rate >= 4 * base and same > 0.9995,
        )
    ]


def strokes() -> list[Row]:
    from skimage.segmentation import random_walker

    from kestrelmist.outline.strokes.object_from_strokes import objects_in

    def made(n: int):
        z, y, x = np.indices((n, n, n))
        body = (x - n / 2) ** 2 + (y - n / 2) ** 2 + (z - n / 2) ** 2 < (0.31 * n) ** 2
        values = (np.where(body, 300, 100) + np.random.default_rng(0).normal(0, 40, body.shape)).astype(np.float32)
        marked = np.zeros(body.shape, np.uint8)
        marked[n // 2, n // 2, n // 3 : 2 * n // 3] = 1
        marked[n // 20] = marked[-n // 20] = marked[:, n // 20] = 255
        return values, marked

    values, marked = made(128)
    seeds = np.where(marked == 255, 2, marked).astype(int)
    objects_in(values, marked, 1, (1, 1, 1), silent())
    mine = best_of(lambda: objects_in(values, marked, 1, (1, 1, 1), silent()), 2)
    started = time.perf_counter()
    random_walker(values / 100, seeds, beta=130, mode="cg_j")
    other = time.perf_counter() - started
    small = made(48)
    first = best_of(lambda: objects_in(small[0], small[1], 1, (1, 1, 1), silent()), 3)
    return [
        Row("strokes to object, 128³", mine, other, "random_walker of scikit-image (cg_j)", "ratio ≤ 0.1"),
        Row("strokes to object, 48³, first answer", first, None, "", "≤ 0.2 s", met=first <= 0.2),
    ]


def most_memory() -> float:
    """Bytes that this process has held at most; what the one that started it held counts not, as it does in rusage."""
    status = Path("/proc/self/status").read_text()
    return 1024 * float(status.partition("VmHWM:")[2].split()[0])


def cells() -> list[Row]:
    from kestrelmist.demo.nuclei import nuclei

    tile = nuclei(1, 500, 14.0).fluorescence

    def theirs():
        from skimage.feature import peak_local_max
        from skimage.filters import gaussian, threshold_otsu
        from skimage.measure import regionprops_table
        from skimage.segmentation import watershed

        values = np.tile(tile, (6, 6)).astype(np.float32)
        soft = gaussian(values, 1)
        mask = soft > threshold_otsu(soft)
        depth = ndimage.distance_transform_edt(mask)
        peaks = peak_local_max(gaussian(depth, 1.5), min_distance=4, labels=ndimage.label(mask)[0])
        seeds = np.zeros(values.shape, np.int32)
        seeds[tuple(peaks.T)] = np.arange(1, len(peaks) + 1)
        found = watershed(-depth, seeds, mask=mask)
        return regionprops_table(found, values, properties=("label", "area", "centroid", "mean_intensity"))

    started = time.perf_counter()
    theirs()
    other = (time.perf_counter() - started) / 9  # of nine megapixels
    ran = subprocess.run([sys.executable, "-m", "benchmarks.outlining"], capture_output=True, text=True, check=True)
    seconds, peak = map(float, ran.stdout.split())
    return [
        Row("find cells, a megapixel of 100", seconds / 100, other, "watershed of scikit-image", "ratio ≤ 0.7"),
        Row("find cells, peak memory above the image", peak, 3.0, "3 bytes a pixel", "ratio ≤ 1", "bytes a pixel"),
    ]


def edge_line() -> Row:
    from kestrelmist.outline.contours.edge_line import REACH, EdgeLine, Tile

    side = 2 * REACH + 1
    y, x = np.mgrid[0:side, 0:side]
    values = np.where(np.hypot(x - REACH, y - REACH) < 120, 900.0, 100.0) + np.random.default_rng(0).normal(
        0, 40, (side, side)
    )
    tile = Tile(values.astype(np.float32), np.zeros(3), np.array((1.0, 0, 0)), np.array((0.0, 1.0, 0)))
    line = EdgeLine(tile, (REACH - 120.0, float(REACH), 0.0))
    took = []
    for turn in np.linspace(0, 3, 400):
        place = np.array((REACH - 120 * np.cos(turn), REACH - 120 * np.sin(turn), 0))
        started = time.perf_counter()
        line.to(place)
        took.append(time.perf_counter() - started)
    slow = float(np.percentile(took, 95))
    return Row("edge line, 95 of 100 moves", slow, None, "", "≤ 0.016 s", met=slow <= 0.016)


def preview_of_a_slice() -> Row:
    from kestrelmist.outline.shaping.grow_shrink import dilate

    labels = mapped(blob((13, 512, 512), 40))
    work = lambda: dilate(labels, "Body", by=3.0)  # noqa: E731
    work()
    took = best_of(work, 3)
    return Row("preview of growing by 3 mm on a slice of 512²", took, None, "", "≤ 0.05 s", met=took <= 0.05)


def rows() -> list[Row]:
    return [opening(), bridging(), *forest(), *strokes(), *cells(), edge_line(), preview_of_a_slice()]


def _hundred_megapixels() -> None:
    """Seconds, and bytes a pixel that finding cells takes above the image."""
    from kestrelmist.demo.nuclei import nuclei
    from kestrelmist.outline.cells.find_cells import find_cells

    tile = nuclei(1, 500, 14.0).fluorescence
    small = Image(np.asfortranarray(tile.T[:, :, None]), picture_space(500, 500, (0.0005, 0.0005)))
    find_cells(small, 7.0)
    values = np.asfortranarray(np.tile(tile, (20, 20)).T[:, :, None])
    image = Image(values, picture_space(10_000, 10_000, (0.0005, 0.0005)))
    gc.collect()
    before = most_memory()
    started = time.perf_counter()
    find_cells(image, 7.0, as_one=True)
    took = time.perf_counter() - started
    print(took, (most_memory() - before) / values.size)


if __name__ == "__main__":
    _hundred_megapixels()
