"""Radiographs of many made-up dormice from above, with boxes round what is on them: heart, transponder, and in some a
stone in the bladder. Rays run in parallel through ellipsoids, so that each is projected by a formula."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy import ndimage

from ..core.progress import Progress, silent
from ..core.safe_write import written_whole
from ..core.workers import worker_pool

WATER = 0.05
"""Attenuation of tissue, 1/mm."""
HEADS = ("file", "animal", "class", "xmin", "ymin", "xmax", "ymax", "image_width", "image_height")


@dataclass(frozen=True)
class Shot:
    """What was stored (rows, columns), whether dense bone is dark, and boxes: class, left, top, right, bottom."""

    values: np.ndarray
    turned: bool
    boxes: tuple[tuple[str, float, float, float, float], ...]


class _Film:
    """What rays pass on their way to the film, mm of water."""

    def __init__(self, rows: int, columns: int, pixel: float):
        self.depth = np.zeros((rows, columns), np.float32)
        self.pixel = pixel

    def ellipsoid(self, at, radii, times: float, turn: float = 0.0) -> tuple[float, float, float, float]:
        """Add one at a place (mm from the middle of the film, x to the right, y down) with three radii (mm), `times` as
        dense as water; gives its box in pixels."""
        rows, columns = self.depth.shape
        a, b, c = radii
        cos, sin = np.cos(turn), np.sin(turn)
        reach = np.hypot(a * cos, b * sin), np.hypot(a * sin, b * cos)
        x, y = at[0] / self.pixel + columns / 2, at[1] / self.pixel + rows / 2
        left, right = (int(np.clip(x + s * reach[0] / self.pixel + s, 0, columns)) for s in (-1, 1))
        top, bottom = (int(np.clip(y + s * reach[1] / self.pixel + s, 0, rows)) for s in (-1, 1))
        if right > left and bottom > top:
            v, u = np.mgrid[top:bottom, left:right].astype(np.float32)
            u, v = (u + 0.5 - x) * self.pixel, (v + 0.5 - y) * self.pixel
            away = ((u * cos + v * sin) / a) ** 2 + ((v * cos - u * sin) / b) ** 2
            self.depth[top:bottom, left:right] += 2 * c * times * np.sqrt(np.clip(1 - away, 0, None))
        ends = (s * r / self.pixel for s in (-1, 1) for r in reach)
        one, two, three, four = ends
        return x + one, y + two, x + three, y + four

    def limb(self, path, radius: float, times: float) -> None:
        """A row of balls along points (mm)."""
        path = np.asarray(path, float)
        for start, end in zip(path, path[1:]):
            count = max(2, int(np.hypot(*(end - start)) / radius))
            for n in range(count):
                self.ellipsoid(start + (end - start) * n / count, (radius, radius, radius * 0.8), times)


def shot(animal: int, seed: int = 0) -> Shot:
    """A radiograph of one animal; its number and the seed say all about it."""
    rng = np.random.default_rng([seed, animal])
    columns, rows = ((560, 760), (640, 820), (720, 720))[int(rng.integers(3))]
    film = _Film(rows, columns, float(rng.uniform(0.13, 0.16)))
    size, bend = rng.uniform(0.85, 1.1), rng.normal(0, 2.5)

    def place(x: float, y: float) -> tuple[float, float]:
        """In the animal: x to its side, y from the middle of its body to the tail, mm; bodies bend."""
        return (x + bend * (y / 30) ** 2) * size + shift[0], y * size + shift[1]

    shift = rng.normal(0, 2.5, 2)
    fat = rng.uniform(0.9, 1.25)
    film.ellipsoid(place(0, 2), (14 * fat * size, 30 * size, 9 * size), 1.0)
    film.ellipsoid(place(0, -30), (9 * size, 12 * size, 8 * size), 1.0)
    for side in (-1, 1):
        film.ellipsoid(place(side * 5.2, -13), (4.4 * size, 8.5 * size, 4.5 * size), -0.62)  # lungs
        film.ellipsoid(place(side * 5.2, -33), (2.2 * size, 3.0 * size, 2.2 * size), 1.3)  # ears' bones
        for n in range(11):
            y = -20 + 2.1 * n
            rib = [
                place(side * 10.5 * np.sin(t) * (0.6 + 0.04 * n), y + 3.2 * (1 - np.cos(t)))
                for t in np.linspace(0, 1.5, 7)
            ]
            film.limb(rib, 0.42 * size, 1.7)
        swing = rng.normal(0, 1.5)
        for upper, lower, y in ((8.5, 13, -18), (9.5, 15, 22)):
            leg = [place(side * 7, y), place(side * (upper + 4), y + swing), place(side * lower, y + 8 + swing)]
            film.limb(leg, 0.95 * size, 2.0)
    film.ellipsoid(place(0, -31), (6.2 * size, 8.6 * size, 1.1 * size), 4.0)  # skull
    film.ellipsoid(place(0, -40), (3.0 * size, 5.0 * size, 1.2 * size), 3.0)
    for n in range(34):
        y, wide = -23 + 2.3 * n, 1.7 if n < 24 else 1.4 - 0.1 * (n - 24)
        film.ellipsoid(place(0, y), (max(wide, 0.4) * size, 0.95 * size, max(wide, 0.4) * size), 2.4)
    film.ellipsoid(place(0, 24), (6.5 * size, 3.2 * size, 1.0 * size), 2.2)  # pelvis
    boxes = []
    heart = place(rng.normal(1.0, 0.6), -12 + rng.normal(0, 1))
    boxes.append(("heart", *film.ellipsoid(heart, (4.0 * size, 4.9 * size, 4.2 * size), 0.9, rng.normal(0.4, 0.2))))
    if rng.random() < 0.7:
        chip = place(rng.normal(0, 4), -16 + rng.normal(0, 4))
        boxes.append(("transponder", *film.ellipsoid(chip, (0.55, 3.1, 0.9), 14.0, rng.uniform(0, np.pi))))
    if rng.random() < 0.3:
        stone = place(rng.normal(0, 1.2), 17 + rng.normal(0, 1.2))
        radius = rng.uniform(0.8, 1.9)
        boxes.append(
            ("stone", *film.ellipsoid(stone, (radius, radius * rng.uniform(0.7, 1.0), radius), 3.2, rng.uniform(0, 3)))
        )
    grain = ndimage.gaussian_filter(rng.standard_normal(film.depth.shape), 9).astype(np.float32)
    depth = ndimage.gaussian_filter(np.clip(film.depth, 0, None) * (1 + 0.35 * grain), 0.7)
    dose = float(np.exp(rng.normal(np.log(2500), 0.35)))
    counts = rng.poisson(dose * np.exp(-WATER * depth))
    density = -np.log(np.maximum(counts, 1) / dose)
    stored = np.clip(density / rng.uniform(1.9, 2.5), 0, 1) * 4000 + 40
    turned = bool(rng.random() < 0.3)
    values = np.rint(4095 - stored if turned else stored).astype(np.uint16)
    return Shot(values, turned, tuple(boxes))


def write_radiographs(
    folder: Path, count: int = 500, seed: int = 0, workers: int = 2, progress: Progress | None = None
) -> Path:
    """Radiographs as DICOM below `folder`/pictures, and boxes.csv beside, a row a box; every tenth animal was taken
    twice. Returns the table. What is there already is not made again."""
    progress = progress or silent()
    jobs = [(animal, view) for animal in range(1, count + 1) for view in range(2 if animal % 10 == 0 else 1)]
    chunks = [jobs[n : n + 20] for n in range(0, len(jobs), 20)]
    rows: list[tuple] = []
    (folder / "pictures").mkdir(parents=True, exist_ok=True)
    if workers < 2 or len(jobs) <= 40:
        found = (_write(chunk, seed, folder) for chunk in chunks)
        for n, some in enumerate(found):
            rows += some
            progress.at((n + 1) / len(chunks), "Taking radiographs")
    else:
        with worker_pool(workers) as pool:
            for n, one in enumerate([pool.submit(_write, chunk, seed, folder) for chunk in chunks]):
                rows += one.result()
                progress.at((n + 1) / len(chunks), "Taking radiographs")
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(HEADS)
    writer.writerows(rows)
    with written_whole(folder / "boxes.csv") as stream:
        stream.write(text.getvalue().encode())
    return folder / "boxes.csv"


def _write(jobs: list[tuple[int, int]], seed: int, folder: Path) -> list[tuple]:
    from pydicom.uid import DigitalXRayImageStorageForPresentation

    from .dicom_files import dataset_for, put_pixels

    rows: list[tuple] = []
    for animal, view in jobs:
        made = shot(animal, seed + 1000 * view)
        name = f"GX-{animal:03d} {'ab'[view]}.dcm"
        path = folder / "pictures" / f"round {1 + animal % 4}" / name
        height, width = made.values.shape
        for label, left, top, right, bottom in made.boxes:
            ends = (round(v, 1) for v in (left, top, right, bottom))
            rows.append((name, f"GX-{animal:03d}", label, *ends, width, height))
        if path.exists():
            continue
        ds = dataset_for(
            DigitalXRayImageStorageForPresentation, f"GX-{animal:03d}", "Whole body from above", 1 + view, 1
        )
        ds.Modality, ds.ImageType, ds.BodyPartExamined, ds.BurnedInAnnotation = (
            "DX",
            ["ORIGINAL", "PRIMARY"],
            "WHOLEBODY",
            "NO",
        )
        put_pixels(ds, made.values, "MONOCHROME1" if made.turned else "MONOCHROME2")
        ds.BitsStored, ds.HighBit = 12, 11
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".{path.name}.part")
        ds.save_as(beside, enforce_file_format=True)
        beside.replace(path)
    return rows
