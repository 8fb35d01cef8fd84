"""Find words burned into pictures: still strokes of even brightness that stand in lines."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table

LOOKED_AT = 12
"""Pictures of a series that are compared to tell what stands still."""
STROKE = 9
"""Strokes wider than this many pixels belong to things, not to letters."""
SMALL = 11
"""Letters up to this many pixels high are mostly made of softened edges."""
LETTERS = 4
"""Letters in a row that make a word, when they stand still in several pictures; in one picture by itself one more is
asked for."""


@dataclass(frozen=True)
class TextBox:
    """Where words seem to stand: first column and row, columns, rows, in pixels; and how many letters."""

    column: int
    row: int
    columns: int
    rows: int
    letters: int


def span_of(frames: np.ndarray) -> tuple[float, float]:
    """Darkest and brightest value of pictures, without the outermost few."""
    finite = frames[np.isfinite(frames)]
    if finite.size == 0:
        return 0.0, 0.0
    low, high = (float(v) for v in np.percentile(finite[:: max(1, finite.size // 200_000)], (0.5, 99.9)))
    most = float(finite.max())
    return low, 0.9 * most if high < 0.9 * most < 1.35 * high else high


def text_boxes(frames: np.ndarray, span: tuple[float, float] | None = None) -> list[TextBox]:
    """Boxes around words that stand still in all of some pictures.

    Letters are strokes narrower than `STROKE` pixels that differ from what surrounds them (white or black top-hat, J.
    Serra, Image Analysis and Mathematical Morphology, 1982), of one brightness, as high as their neighbours and on one
    line with them.

    Parameters
    ----------
    frames : array [picture, row, column]
        One or several pictures of one series.
    span : darkest and brightest value, optional
        Those of the whole series, so that a dark picture of it is not stretched to noise.
    """
    frames = np.asarray(frames, np.float32)
    low, high = span or span_of(frames)
    if not high > low:
        return []
    frames = np.clip((np.nan_to_num(frames, nan=low) - low) / (high - low), 0, 1)
    middle = np.median(frames, 0)
    still = np.ptp(frames, axis=0) < 0.12 if len(frames) > 1 else np.ones(middle.shape, bool)
    found: list[TextBox] = []
    for bright in (True, False):
        found += _lines(middle if bright else 1 - middle, still, LETTERS if len(frames) > 1 else LETTERS + 1)
    return _merged(found)


def _lines(picture: np.ndarray, still: np.ndarray, least: int) -> list[TextBox]:
    from scipy import ndimage

    strokes = picture - ndimage.grey_opening(picture, (STROKE, STROKE))
    marks, count = ndimage.label((strokes > 0.3) & still, np.ones((3, 3)))
    if not count or count > 60_000:
        return []
    letters = []
    for number, box in enumerate(ndimage.find_objects(marks), 1):
        rows, columns = (s.stop - s.start for s in box)
        if not 5 <= rows <= 64 or columns > 3 * rows or columns < 1:
            continue
        inside = marks[box] == number
        area = int(inside.sum())
        values = picture[box][inside]
        core = values[values > 0.7 * values.max()]
        small = rows <= SMALL
        if (
            area < 5
            or area / (rows * columns) > 0.93
            or core.size < (0.25 if small else 0.5) * area
            or core.std() > 0.10
        ):
            continue
        around = picture[max(box[0].start - 2, 0) : box[0].stop + 2, max(box[1].start - 2, 0) : box[1].stop + 2]
        near = around[around < 0.5 * values.max()]
        if near.size < 8 or near.std() > 0.14:
            continue
        ink, ground = float(core.mean()), float(near.mean())
        between = np.mean((around > ground + 0.3 * (ink - ground)) & (around < ground + 0.75 * (ink - ground)))
        if between > (0.35 if small else 0.28):  # letters have sharp edges, blobs of noise have slopes
            continue
        letters.append((box[0].start, box[1].start, rows, columns, area / (rows * columns), ink, ground))
    return _rows_of(letters, least)


def _rows_of(letters: list[tuple], least: int) -> list[TextBox]:
    """Letters of like height that stand on one line, close enough to each other."""
    letters = sorted(letters, key=lambda b: (b[1], b[0]))
    lines: list[list[tuple]] = []
    for letter in letters:
        top, left, rows, columns = letter[:4]
        for line in lines:
            last = line[-1]
            height = max(rows, max(b[2] for b in line[-3:]))
            on_line = (
                abs((top + rows) - (last[0] + last[2])) <= 0.18 * height + 1 or abs(top - last[0]) <= 0.18 * height + 1
            )
            gap = left - (last[1] + last[3])
            if on_line and -0.3 * height <= gap <= 1.25 * height and 0.55 <= rows / max(b[2] for b in line[-3:]) <= 1.8:
                line.append(letter)
                break
        else:
            lines.append([letter])
    found = []
    for line in lines:
        heights = np.array([b[2] for b in line])
        fills = np.array([b[4] for b in line])
        widths = np.array([b[3] for b in line])
        usual = np.median(heights)
        even = np.mean(np.abs(heights - usual) <= 0.2 * usual + 1)
        like = (
            np.std([b[5] for b in line]) < (0.07 if usual <= SMALL else 0.06) and np.std([b[6] for b in line]) < 0.09
        )  # one ink on one ground
        enough = len(line) >= least + (1 if usual <= SMALL else 0)
        # discs and dots fill their boxes alike; letters do not
        varied = np.median(fills) < 0.72 and (fills.std() > 0.04 or widths.std() > 0.5)
        if enough and like and even >= 0.7 and varied:
            top, left = min(b[0] for b in line), min(b[1] for b in line)
            bottom, right = max(b[0] + b[2] for b in line), max(b[1] + b[3] for b in line)
            found.append(TextBox(int(left), int(top), int(right - left), int(bottom - top), len(line)))
    return found


def _merged(boxes: list[TextBox]) -> list[TextBox]:
    """Boxes on one line that touch become one."""
    boxes = sorted(boxes, key=lambda b: (b.row, b.column))
    result: list[TextBox] = []
    for box in boxes:
        for n, other in enumerate(result):
            same_line = min(box.row + box.rows, other.row + other.rows) - max(box.row, other.row) > 0.5 * min(
                box.rows, other.rows
            )
            apart = max(box.column, other.column) - min(box.column + box.columns, other.column + other.columns)
            if same_line and apart < 2 * max(box.rows, other.rows):
                left, top = min(box.column, other.column), min(box.row, other.row)
                right, bottom = (
                    max(box.column + box.columns, other.column + other.columns),
                    max(box.row + box.rows, other.row + other.rows),
                )
                result[n] = TextBox(left, top, right - left, bottom - top, box.letters + other.letters)
                break
        else:
            result.append(box)
    return result


def text_in(image: Image, progress: Progress = silent(), most: int | None = None) -> dict[int, list[TextBox]]:
    """Pictures of an image that seem to hold words, by their number over all volumes and slices, with the boxes.

    What stands still is told over pictures of a series (the same slice at other times, or all slices of a stack); words
    in one picture only are looked for in each picture by itself.

    Parameters
    ----------
    most : int, optional
        Look at no more than this many pictures, spread evenly.
    """
    grey = image.grey()
    depth, count = grey.space.shape[2], grey.image_planes
    wanted = (
        list(range(count))
        if most is None or count <= most
        else sorted({int(n) for n in np.linspace(0, count - 1, most)})
    )
    indices = list(grey.indices())

    def plane(n: int) -> np.ndarray:
        return (
            np.asarray(grey.stored(indices[n // depth]).exact()[:, :, n % depth]).T
            if grey.axes
            else np.asarray(grey.data[:, :, n % depth]).T
        )

    sample = sorted({int(n) for n in np.linspace(0, count - 1, min(LOOKED_AT, count))})
    looked_at = np.stack([plane(n) for n in sample])
    span = span_of(looked_at)
    still = text_boxes(looked_at, span) if count > 1 else []
    found: dict[int, list[TextBox]] = {}
    for n in progress.over(wanted, what="Looking for words"):
        own = text_boxes(plane(n)[None], span if span[1] > span[0] else None)
        boxes = _merged([*own, *still]) if still else own
        if boxes:
            found[n] = boxes
    return found


@operation(
    "gather",
    "Find burned-in text",
    name="find-text",
    keywords="identity words pixels annotation ultrasound ocr burned in",
    takes="series colour",
    group="Identity",
)
def find_text(image: Image, progress: Progress = silent()) -> Table:
    """List the pictures of an image that likely still hold words burned into their pixels, and where."""
    table = Table(
        f"Text in {image.name}",
        [
            Column("picture"),
            Column("column", "px"),
            Column("row", "px"),
            Column("columns", "px"),
            Column("rows", "px"),
            Column("letters"),
        ],
    )
    for n, boxes in text_in(image, progress).items():
        table.rows += [(n + 1, b.column, b.row, b.columns, b.rows, b.letters) for b in boxes]
    return table
