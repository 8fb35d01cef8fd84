"""Marks as a grayscale softcopy presentation state beside a series (PS3.3 A.33.1): the original is not touched."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.image import Image
from ...core.names import printable
from .marks_on_files import Drawn, beside, drawn_on, headers_of
from .objects import cielab, dataset, referenced, save_object, sequence

PRESENTATION = "1.2.840.10008.5.1.4.1.1.11.1"
LETTERS, LINES = 1024, 16
"""Letters of a text, and layers by colour, that are written."""


def write_presentation(
    path: Path,
    marks: Marks,
    image: Image,
    window: tuple[float, float] | None,
    colour_of: Callable[[Mark], str],
    said_of: Callable[[Mark], str],
) -> tuple[list[Drawn], list[Mark]]:
    """Write marks as graphics and words over the files of a series; returns what was drawn, and what lies in no slice.

    Parameters
    ----------
    window : two numbers, optional
        Centre and width of the range that is shown, in the values of the image.
    colour_of, said_of : callables
        The colour of a mark, and the words at it.

    Raises
    ------
    Trouble
        When the image does not come from DICOM files of a slice each, or the file cannot be written.
    """
    headers = headers_of(image)
    drawn, outside = drawn_on(marks, image, headers)
    ds = beside(image, headers, "PR", PRESENTATION, marks.name)
    ds.ContentLabel, ds.ContentDescription, ds.ContentCreatorName = "MARKS", ds.SeriesDescription, ""
    ds.PresentationCreationDate, ds.PresentationCreationTime = ds.ContentDate, ds.ContentTime
    series = dataset()
    series.SeriesInstanceUID = headers[0].SeriesInstanceUID
    series.ReferencedImageSequence = sequence(_reference(one) for one in headers)
    ds.ReferencedSeriesSequence = sequence([series])
    area = dataset()
    area.ReferencedImageSequence = sequence(_reference(one) for one in headers)
    area.DisplayedAreaTopLeftHandCorner = [1, 1]
    area.DisplayedAreaBottomRightHandCorner = [int(headers[0].Columns), int(headers[0].Rows)]
    area.PresentationSizeMode = "SCALE TO FIT"
    if image.space.unit != "mm":
        area.PresentationPixelAspectRatio = [1, 1]
    else:
        area.PresentationPixelSpacing = [f"{image.space.spacing[1]:.10g}"[:16], f"{image.space.spacing[0]:.10g}"[:16]]
    ds.DisplayedAreaSelectionSequence = sequence([area])
    if window is not None:
        values = dataset()
        values.WindowCenter, values.WindowWidth = (f"{v:.8g}" for v in window)
        ds.SoftcopyVOILUTSequence = sequence([values])
    ds.PresentationLUTShape = "IDENTITY"
    colours = list(dict.fromkeys(colour_of(one.mark) for one in drawn))[:LINES]
    layers = {colour: f"MARKS{n}" for n, colour in enumerate(colours, 1)}
    ds.GraphicLayerSequence = sequence(_layer(name, n, colour) for n, (colour, name) in enumerate(layers.items(), 1))
    ds.GraphicAnnotationSequence = sequence(
        _annotation(one, layers.get(colour_of(one[0].mark), f"MARKS{len(layers)}"), said_of) for one in _by_mark(drawn)
    )
    save_object(ds, path)
    return drawn, outside


def _reference(header: Any) -> Any:
    return referenced((str(header.SOPClassUID), str(header.SOPInstanceUID)))


def _layer(name: str, order: int, colour: str) -> Any:
    layer = dataset()
    layer.GraphicLayer, layer.GraphicLayerOrder = name, order
    layer.GraphicLayerRecommendedDisplayCIELabValue = cielab(colour)
    return layer


def _by_mark(drawn: list[Drawn]) -> list[list[Drawn]]:
    """The parts of each mark together."""
    found: dict[int, list[Drawn]] = {}
    for one in drawn:
        found.setdefault(one.mark.id, []).append(one)
    return list(found.values())


def _annotation(parts: list[Drawn], layer: str, said_of: Callable[[Mark], str]) -> Any:
    annotation, mark = dataset(), parts[0].mark
    annotation.ReferencedImageSequence = sequence([_reference(parts[0].file)])
    annotation.GraphicLayer = layer
    if said := printable(said_of(mark))[:LETTERS]:
        text = dataset()
        text.UnformattedTextValue = said
        text.AnchorPointAnnotationUnits, text.AnchorPointVisibility = "PIXEL", "N"
        right = max((tuple(p) for one in parts for p in one.points.tolist()), key=lambda p: p[0])
        text.AnchorPoint = [float(right[0]), float(right[1])]
        annotation.TextObjectSequence = sequence([text])
    if mark.shape != "text":
        annotation.GraphicObjectSequence = sequence(map(_graphic, parts))
    return annotation


def _graphic(one: Drawn) -> Any:
    graphic = dataset()
    graphic.GraphicAnnotationUnits, graphic.GraphicDimensions = "PIXEL", 2
    graphic.NumberOfGraphicPoints = len(one.points)
    graphic.GraphicData = [float(v) for v in one.points.ravel()]
    graphic.GraphicType = one.kind
    if one.closed:
        graphic.GraphicFilled = "N"
    return graphic
