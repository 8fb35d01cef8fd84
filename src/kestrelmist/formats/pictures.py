"""PNG, JPEG and BMP pictures."""

from __future__ import annotations

import struct
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NO_SCALE, NOTED, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.space import picture_space
from ..core.values import colour_channels
from .colour_models import rgb_of_inks
from .format import Format, image_name, register
from .planes import deep_enough
from .turned import SAID, exif_orientation, turned


def read_picture(path: Path, palette: bool = True, turn: bool = True) -> Image:
    """A picture of brightness or colours. Its file says nothing of the scale that can be trusted.

    Parameters
    ----------
    palette : bool
        Whether numbers that stand for colours of a palette become these colours.
    turn : bool
        Whether the picture is turned as its EXIF facts say.

    Raises
    ------
    Trouble
        When the picture is damaged, cut short, or promises more than its file can hold.
    """
    with open(path, "rb") as stream:
        start = stream.read(1 << 20)
    columns, rows = size_of(start, path)
    deep_enough((rows, columns), path.stat().st_size, np.dtype(np.uint8), path)
    cell: list[np.ndarray] = []
    orientation = exif_orientation(start) if turn else 1

    def decoded() -> np.ndarray:
        if not cell:
            cell.append(turned(_decoded(path, columns, rows, palette), orientation))
        return cell[0]

    first = decoded()  # the header does not tell all; pictures are small beside volumes
    rows, columns = first.shape[:2]
    space = picture_space(columns, rows, None)
    common: dict[str, Any] = {
        "name": image_name(path),
        "facts": {"Size": f"{columns} × {rows}", "Number type": str(first.dtype)},
        "origin": Origin("picture", [path]),
        "caveats": [
            Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing"),
            *_said_of(start),
            *([SAID] if orientation != 1 else []),
        ],
    }
    if first.ndim == 2:
        return Image(lambda index, progress: decoded().T[:, :, None], space, **common)
    if first.dtype == np.uint8 and first.shape[2] in (3, 4):
        return Image(lambda index, progress: decoded().transpose(1, 0, 2)[:, :, None, :3], space, colour=True, **common)
    labels = (("red", "green", "blue", "opacity") if first.shape[2] > 2 else ("brightness", "opacity"))[
        : first.shape[2]
    ]
    return Image(
        lambda index, progress: decoded()[:, :, index[0]].T[:, :, None],
        space,
        axes=[Axis("channel", first.shape[2], labels=labels)],
        **common,
    )


def _said_of(start: bytes) -> list[Caveat]:
    """What else a file holds that is not taken, and what its colours were made from."""
    said = []
    at = start.find(b"acTL", 8, 1 << 16)
    if start[:4] == b"\x89PNG" and 0 < at < (start.find(b"IDAT") % (1 << 62)):
        (frames,) = struct.unpack(">I", start[at + 4 : at + 8])
        said += [f"The file is a film of {frames} pictures; only the first is taken"] if frames > 1 else []
    if start[:2] == b"\xff\xd8":
        if b"MPF\0" in start[: 1 << 16]:
            said.append("The file holds further pictures, which are left")
        if _jpeg_samples(start) == 4:
            said.append("Its colours are those of inks (CMYK), turned into red, green and blue without a profile")
    return [Caveat(NOTED, sentence) for sentence in said]


def size_of(start: bytes, path: Path) -> tuple[int, int]:
    """Columns and rows that a picture's first bytes promise."""
    columns = rows = 0
    if start[:4] == b"\x89PNG" and len(start) > 24:
        columns, rows = struct.unpack(">II", start[16:24])
    elif start[:2] == b"BM" and len(start) > 26:
        columns, rows = struct.unpack("<ii", start[18:26])
        rows = abs(rows)
    elif start[:2] == b"\xff\xd8":
        columns, rows = _jpeg_size(start)
    if not 0 < columns < 1 << 20 or not 0 < rows < 1 << 20:
        raise Trouble("This is no picture, or it is damaged", "copy it again or convert it anew", path)
    return columns, rows


def _jpeg_size(start: bytes) -> tuple[int, int]:
    at = _jpeg_frame(start)
    if not at:
        return 0, 0
    rows, columns = struct.unpack(">HH", start[at + 5 : at + 9])
    return columns, rows


def _jpeg_samples(start: bytes) -> int:
    at = _jpeg_frame(start)
    return start[at + 9] if at else 0


def _jpeg_frame(start: bytes) -> int:
    """Where the frame header of a JPEG stands; 0 when there is none."""
    at = 2
    while at + 9 < len(start):
        if start[at] != 0xFF:
            at += 1
            continue
        mark = start[at + 1]
        if 0xC0 <= mark <= 0xCF and mark not in (0xC4, 0xC8, 0xCC):
            return at
        at += 2 if 0xD0 <= mark <= 0xD9 or mark in (0x01, 0xFF) else 2 + struct.unpack(">H", start[at + 2 : at + 4])[0]
    return 0


def _decoded(path: Path, columns: int, rows: int, palette: bool) -> np.ndarray:
    import imagecodecs

    data = path.read_bytes()
    decode = _png if data[:4] == b"\x89PNG" else _bmp if data[:2] == b"BM" else imagecodecs.jpeg_decode
    try:
        picture = np.asarray(_numbers(data) if not palette and data[:4] == b"\x89PNG" else decode(data))
    except MemoryError:
        raise
    except BaseException as error:  # each decoder has errors of its own
        let_through(error)
        raise Trouble("This picture is damaged or cut short", "copy it again", path) from error
    if picture.ndim == 3 and picture.shape[2] == 1:
        picture = picture[..., 0]
    if picture.shape[:2] != (rows, columns) or picture.ndim not in (2, 3):
        raise Trouble("This picture is damaged", "copy it again", path)
    if picture.ndim == 3 and picture.shape[2] == 4 and data[:2] == b"\xff\xd8":
        # programs that write inks into JPEG write what they leave of the light, and mark it as Adobe's
        picture = rgb_of_inks(255 - picture if b"Adobe" in data[: 1 << 16] else picture)
    if (
        data[:2] == b"BM"
        and picture.ndim == 3
        and picture.shape[2] == 3
        and not np.any(picture[..., 0] != picture[..., 1])
        and not np.any(picture[..., 1] != picture[..., 2])
    ):
        picture = picture[..., 0]  # brightness that the format can only write as colours
    return picture


def _png(data: bytes) -> np.ndarray:
    import imagecodecs

    return imagecodecs.png_decode(data)


def _numbers(data: bytes) -> np.ndarray:
    """The numbers of a PNG with a palette as they are stored; any other as it is."""
    if data[25] != 3:
        return _png(data)
    import io

    from PIL import Image as Opened

    with Opened.open(io.BytesIO(data), formats=["PNG"]) as opened:
        return np.asarray(opened)


def _bmp(data: bytes) -> np.ndarray:
    import io

    from PIL import Image as Opened

    with Opened.open(io.BytesIO(data), formats=["BMP"]) as opened:
        return np.asarray(opened.convert("RGB" if opened.mode in ("P", "1", "RGBA") else opened.mode))


def save_png(path: Path, image: Image, progress: Progress | None = None) -> None:
    """Write a picture of one slice as PNG: 8 or 16 bits, or colours, exactly.

    Raises
    ------
    Trouble
        When the image is a volume or a series, or its numbers do not fit a PNG.
    """
    import imagecodecs

    if image.axes or image.space.shape[2] != 1:
        raise Trouble(
            f"“{image.name}” is more than one picture, which PNG cannot hold", "choose .ome.tif or .nii.gz", path
        )
    got = image.stored((), progress)
    values = colour_channels(got.values)[:, :, 0].transpose(1, 0, 2) if image.colour else got.exact()[:, :, 0].T
    if values.dtype == bool:
        values = values.astype(np.uint8)
    if values.dtype not in (np.uint8, np.uint16):
        raise Trouble(
            f"The numbers of “{image.name}” do not fit a PNG", "choose .ome.tif, or scale the intensities first", path
        )
    with written_whole(path) as stream:
        stream.write(imagecodecs.png_encode(np.ascontiguousarray(values)))


register(
    Format(
        "picture",
        (".png", ".jpg", ".jpeg", ".bmp"),
        read_picture,
        save_png,
        (".png",),
        (b"\x89PNG", b"\xff\xd8\xff"),
        sequenced=True,
        read_numbers=partial(read_picture, palette=False),
        read_before=partial(read_picture, turn=False),
    )
)
