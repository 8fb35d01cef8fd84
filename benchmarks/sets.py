"""A set of 2,000 radiographs, and a long table of boxes matched to as many files."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

import numpy as np

from .row import Row

PICTURES, SIDE, DISTINCT, LONG = 2000, 1024, 40, 30_000


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as place:
        return [_set(Path(place)), _matching(Path(place)), _scrolling(Path(place))]


def _set(place: Path) -> Row:
    import pydicom
    from PIL import Image as Pillow
    from pydicom.uid import DigitalXRayImageStorageForPresentation

    from kestrelmist.demo.dicom_files import dataset_for, put_pixels
    from kestrelmist.prepare.sets.picture_set import picture_set

    rng, folder, out = np.random.default_rng(1), place / "pictures", place / "plain"
    folder.mkdir()
    out.mkdir()
    lines = ["file,animal,x,y,w,h"]
    for n in range(PICTURES):
        path = folder / f"{n:04d}.dcm"
        if n < DISTINCT:
            ds = dataset_for(DigitalXRayImageStorageForPresentation, "X", "Radiograph", 1, 1)
            put_pixels(ds, rng.integers(0, 4000, (SIDE, SIDE)).astype(np.uint16), "MONOCHROME2")
            ds.save_as(path, enforce_file_format=True)
        else:
            # one pixel of its own: the same content would have to be in one part of the set
            path.write_bytes((folder / f"{n % DISTINCT:04d}.dcm").read_bytes()[:-4] + n.to_bytes(4, "little"))
        lines.append(f"{path.name},A{n // 2},{n % 700},{n % 500},90,120")
    (place / "boxes.csv").write_text("\n".join(lines))
    started = time.perf_counter()
    for path in sorted(folder.iterdir()):
        values = pydicom.dcmread(path).pixel_array.astype(np.float32) / 4095
        small = Pillow.fromarray(values).resize((224, 224), Pillow.Resampling.BILINEAR)
        np.save(out / f"{path.stem}.npy", np.asarray(small).astype(np.float16))
    plain = time.perf_counter() - started
    started = time.perf_counter()
    picture_set(place / "boxes.csv", folder, place / "set", rule="stretch")
    ours = time.perf_counter() - started
    name = f"a set of {PICTURES} radiographs of {SIDE}² to 224² float16"
    return Row(name, ours, plain, "a plain loop of pydicom, Pillow and numpy", "≤ 0.6")


def _matching(place: Path) -> Row:
    from kestrelmist.prepare.sets.box_table import read_boxes
    from kestrelmist.prepare.sets.picture_match import files_below, matched

    folder = place / "many"
    for n in range(100):
        (folder / f"{n:03d}").mkdir(parents=True)
    lines = ["file;left;top;right;bottom;class;animal"]
    for n in range(LONG):
        (folder / f"{n % 100:03d}" / f"P{n:06d}.dcm").touch()
        lines.append(f"P{n:06d};{n % 900};{n % 700};{n % 900 + 50};{n % 700 + 60};stone;A{n % 7000}")
    (place / "long.csv").write_text("\n".join(lines))
    started = time.perf_counter()
    table = read_boxes(place / "long.csv")
    found = matched((row.picture for row in table.rows), files_below(folder), folder)
    spent = time.perf_counter() - started
    assert len(found.files) == LONG
    return Row(f"a table of {LONG} boxes matched to {LONG} files", spent, 5.0, "goal", "≤ 5 s", met=spent <= 5)


def _scrolling(place: Path) -> Row:
    """Steps through the grid of 30,000 pictures while small ones come in behind."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from kestrelmist.desk.app import application
    from kestrelmist.desk.models.collection import Collection
    from kestrelmist.desk.models.session import Session
    from kestrelmist.desk.pictures.page import PicturesPage
    from kestrelmist.prepare.sets.box_table import read_boxes
    from kestrelmist.prepare.sets.picture_match import files_below, matched
    from kestrelmist.study.study import Study

    application()
    folder, lines = place / "pictures", ["file,animal,x,y,w,h"]
    lines += [f"{n % PICTURES:04d}.dcm,A{n},{n % 700},{n % 500},90,120" for n in range(PICTURES)]
    lines += [f"other {n}.dcm,A{n},1,2,3,4" for n in range(LONG - PICTURES)]
    (place / "grid.csv").write_text("\n".join(lines))
    session = Session(Study(place / "study", create=True))
    collection = Collection(session)
    page = PicturesPage(collection)
    page.resize(820, 620)
    page.show()
    table = read_boxes(place / "grid.csv")
    files = matched((row.picture for row in table.rows), files_below(folder), folder)
    collection._put(place / "grid.csv", folder, "", table, files)
    bar, spent = page.grid.verticalScrollBar(), []
    for _ in range(240):
        started = time.perf_counter()
        bar.setValue((bar.value() + 14) % max(1, bar.maximum()))
        QApplication.processEvents()
        page.grid.viewport().grab()
        spent.append(time.perf_counter() - started)
    page.reader.close()
    session.close()
    frame = float(np.median(spent)) * 1000
    return Row("a step through the grid of pictures", frame, 12.0, "12 ms", "ratio ≤ 1", "ms", met=frame <= 12.0)
