"""What new DICOM objects are put together from: data sets, sequences, identifiers, references, colours, files."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ...core.safe_write import written_whole
from .write import EXPLICIT_LITTLE


def dataset() -> Any:
    """An empty data set."""
    from pydicom.dataset import Dataset

    return Dataset()


def sequence(items) -> Any:
    """Data sets one after another."""
    from pydicom.sequence import Sequence

    return Sequence(list(items))


def new_uid() -> str:
    """An identifier that nothing else has."""
    from pydicom.uid import generate_uid

    return generate_uid()


def decimal(value: float) -> str:
    """A number as elements of decimals hold it."""
    return f"{value:.10g}"[:16]


def rgb(colour: str) -> list[int]:
    """Red, green and blue of "#RRGGBB", 0 to 255."""
    return [int(colour[n : n + 2], 16) for n in (1, 3, 5)]


def cielab(colour: str) -> list[int]:
    """A colour as DICOM's scaled CIELab (PS3.3 C.10.7.1.1)."""
    from skimage.color import rgb2lab

    light, a, b = rgb2lab(np.array(rgb(colour), float).reshape(1, 1, 3) / 255).ravel()
    return [round(light * 65535 / 100), round((a + 128) * 65535 / 255), round((b + 128) * 65535 / 255)]


def referenced(reference: tuple[str, str]) -> Any:
    """A reference to an object, by its class and identifier."""
    found = dataset()
    found.ReferencedSOPClassUID, found.ReferencedSOPInstanceUID = reference
    return found


def save_object(ds: Any, path: Path) -> None:
    """Write an object whole. Raises Trouble when the place cannot be written."""
    from pydicom import dcmwrite
    from pydicom.dataset import FileMetaDataset

    ds.file_meta = FileMetaDataset()
    ds.file_meta.MediaStorageSOPClassUID, ds.file_meta.MediaStorageSOPInstanceUID = ds.SOPClassUID, ds.SOPInstanceUID
    ds.file_meta.TransferSyntaxUID = EXPLICIT_LITTLE
    with written_whole(path) as stream:
        dcmwrite(stream, ds, enforce_file_format=True, implicit_vr=False, little_endian=True)
