"""MetaImage (.mha, and .mhd with its values in a file beside it): read lazily, written plain."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import SIDES_UNKNOWN, Caveat
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.progress import Progress, silent
from ..core.space import Space
from .detached import millimetres_of, text_values, values_beside
from .dicom.header import FROM_DICOM_AXES
from .exact_planes import exact_planes, number_type
from .format import Format, image_name, register
from .layout import Layout
from .own_words import KEY, own_words, take_in_words
from .raw_values import RawValues

TYPES = {
    "MET_CHAR": "i1",
    "MET_UCHAR": "u1",
    "MET_SHORT": "i2",
    "MET_USHORT": "u2",
    "MET_INT": "i4",
    "MET_UINT": "u4",
    "MET_LONG": "i4",
    "MET_ULONG": "u4",
    "MET_LONG_LONG": "i8",
    "MET_ULONG_LONG": "u8",
    "MET_FLOAT": "f4",
    "MET_DOUBLE": "f8",
}
MOST_HEADER = 1 << 16


def read_metaimage(path: Path) -> Image:
    """A MetaImage of two to four dimensions. Its physical axes run left, back, up, as in DICOM.

    Raises
    ------
    Trouble
        When the header is damaged, the values are missing or cut short, or lie in a list of files.
    """
    header, end = _header(path)
    sizes = [int(v) for v in header["DimSize"].split()]
    rank = int(header.get("NDims", len(sizes)))
    if rank != len(sizes) or not 2 <= rank <= 4:
        raise Trouble(f"A MetaImage of {rank} dimensions cannot be shown", "convert it to two, three or four", path)
    channels = int(header.get("ElementNumberOfChannels", 1))
    big = _yes(header, "BinaryDataByteOrderMSB") or _yes(header, "ElementByteOrderMSB")
    dtype = np.dtype(TYPES[header["ElementType"].replace("_ARRAY", "")]).newbyteorder(">" if big else "<")
    where = header["ElementDataFile"]
    if where.upper().startswith("LIST") or "%" in where:
        raise Trouble(
            "The values of this MetaImage lie in a list of files", "write it again with all values in one file", path
        )
    data = path if where.upper() == "LOCAL" else values_beside(path, where)
    start = end if data == path else int(header.get("HeaderSize", 0) or 0)
    packed = _yes(header, "CompressedData")
    shape = ((channels,) if channels > 1 else ()) + tuple(sizes)
    if start == -1 and data.is_file():
        start = data.stat().st_size - RawValues(data, 0, dtype, shape).bytes_needed
    if header.get("BinaryData", "True").lower() in ("false", "0", "no"):
        if not data.is_file():
            raise Trouble("The file that holds the values is missing", "put it beside its header", data)
        raw = text_values(data, start, dtype, shape)
    else:
        raw = RawValues(data, 0 if packed else start, dtype, shape, "zlib" if packed else "", start if packed else 0)
        raw.require_whole()
    shift = int(channels > 1)
    colour = channels in (3, 4) and dtype == np.uint8 and rank <= 3
    axes, along = [], []
    if rank == 4 and sizes[3] > 1:
        step = float(header.get("ElementSpacing", "1 1 1 1").split()[3])
        axes, along = [Axis.even("time", sizes[3], step, "s")], [3 + shift]
    if channels > 1 and not colour:
        axes, along = [*axes, Axis("channel", channels)], [*along, 0]
    layout = Layout(raw, (shift, 1 + shift, 2 + shift if rank > 2 else -1), tuple(along), 0 if colour else None)
    space, caveats = _space(header, (sizes + [1])[:3], rank)
    words = header.pop(KEY, "")
    image = Image(
        layout.fetch,
        space,
        image_name(path),
        facts=header,
        axes=axes,
        colour=colour,
        origin=Origin("MetaImage", [path] if data == path else [path, data], layout=layout),
        caveats=caveats,
    )
    take_in_words(image, words)
    return image


def _header(path: Path) -> tuple[dict[str, str], int]:
    with open(path, "rb") as stream:
        start = stream.read(MOST_HEADER)
    header: dict[str, str] = {}
    at = 0
    while True:
        end = start.find(b"\n", at)
        if end < 0:
            end = len(start)
        key, is_pair, value = start[at:end].decode("latin-1").partition("=")
        if not is_pair:
            raise Trouble("The header of this MetaImage is damaged", "copy it again or convert it anew", path)
        header[key.strip()] = value.strip()
        at = end + 1
        if key.strip() == "ElementDataFile":
            return header, at
        if at >= len(start):
            raise Trouble(
                "The header of this MetaImage does not say where its values are",
                "copy it again or convert it anew",
                path,
            )


def _yes(header: dict[str, str], key: str) -> bool:
    return header.get(key, "").lower() in ("true", "1", "yes")


def _space(header: dict[str, str], shape, rank: int) -> tuple[Space, list[Caveat]]:
    def numbers(*keys):
        text = next((header[k] for k in keys if k in header), None)
        return None if text is None else [float(v) for v in text.split()]

    spacing = numbers("ElementSpacing", "ElementSize") or [1.0] * rank
    place = numbers("Offset", "Position", "Origin") or [0.0] * rank
    turn = np.array(numbers("TransformMatrix", "Rotation", "Orientation") or np.eye(rank).ravel()).reshape(rank, rank)
    affine = np.eye(4)
    n = min(rank, 3)
    affine[:n, :n] = turn[:n, :n].T * np.array(spacing[:n])  # row after row, each the direction of one axis
    affine[:n, 3] = place[:n]
    if rank == 2:
        affine[2, 2] = min(spacing[:2])
    (factor,), caveats = millimetres_of([header.get("DistanceUnits", "")], 1)
    affine[:3] *= factor
    known = "TransformMatrix" in header or "Offset" in header or "Position" in header
    if not known:
        caveats.append(Caveat(SIDES_UNKNOWN, "The file gives a voxel size but no position, so sides are unknown"))
    return Space(tuple(shape), FROM_DICOM_AXES @ affine), caveats


def save_metaimage(path: Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image as .mha, values exactly as they are. Axes beyond the first become channels in turn.

    Raises
    ------
    Trouble
        When the image has more than one axis beyond space, or cannot be written.
    """
    from ..core.safe_write import written_whole

    if len(image.axes) > 1:
        raise Trouble(
            f"“{image.name}” has more than one axis beyond space, which MetaImage cannot say", "choose NIfTI", path
        )
    progress = progress or silent()
    dtype = np.dtype(np.uint8) if image.colour else number_type(image, progress.part(0.0, 0.4))
    affine = FROM_DICOM_AXES @ image.space.affine
    turn = affine[:3, :3] / np.array(image.space.spacing)
    sizes, spacing, place = list(image.shape), list(image.space.spacing), list(affine[:3, 3])
    if image.axes:
        step = image.axes[0].step or 1.0
        spacing, place, turn = (
            [*spacing, step],
            [*place, 0.0],
            np.block([[turn, np.zeros((3, 1))], [np.zeros((1, 3)), np.ones((1, 1))]]),
        )
    text = [
        ("ObjectType", "Image"),
        ("NDims", len(sizes)),
        ("BinaryData", "True"),
        ("BinaryDataByteOrderMSB", "False"),
        ("CompressedData", "False"),
        ("TransformMatrix", _row(turn.T.ravel())),
        ("Offset", _row(place)),
        ("CenterOfRotation", _row([0.0] * len(sizes))),
        ("AnatomicalOrientation", "RAI"),
        ("ElementSpacing", _row(spacing)),
        ("DimSize", " ".join(map(str, sizes))),
        *([("ElementNumberOfChannels", 3)] if image.colour else []),
        ("ElementType", next(k for k, v in TYPES.items() if v == f"{dtype.kind}{dtype.itemsize}")),
        *([(KEY, words)] if (words := own_words(image, place=False, most=MOST_HEADER // 2)) else []),
        ("ElementDataFile", "LOCAL"),
    ]
    with written_whole(path) as stream:
        stream.write("".join(f"{key} = {value}\n" for key, value in text).encode())
        total = image.image_planes
        for n, plane in enumerate(exact_planes(image, dtype, progress)):
            progress.at(0.4 + 0.6 * n / total, f"Writing {path.name}")
            stream.write(plane)


def _row(values) -> str:
    return " ".join(f"{v:.17g}" for v in values)


register(Format("MetaImage", (".mha", ".mhd"), read_metaimage, save_metaimage, (".mha",)))
