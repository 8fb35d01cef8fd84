"""Write an image in the format that a file's name asks for."""

from __future__ import annotations

from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent

WORDS = "end the name in .nii.gz, .nii, .nrrd, .mha, .ome.tif, .ome.zarr, .x3p, .png, or name a folder ending in .dicom"


def save_image(path: str | Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image, values exactly as they are, in the format of the name's ending.

    Raises
    ------
    Trouble
        When the ending is not known, the format cannot say what the image holds, or the place cannot be written.
    """
    path, progress = Path(path), progress or silent()
    save = writer_for(path)
    if image.levels and path.suffix.lower() not in (".tif", ".tiff", ".zarr"):
        from ..core.memory import require_room

        require_room(4 * image.count * int(image.space.shape[0]) * image.space.shape[1] * image.space.shape[2], f"“{image.name}”", path)
    save(path, image, progress)


def writer_for(path: Path):
    """The function that writes a format, by the name's ending; raises Trouble for unknown ones."""
    name = path.name.lower()
    if name.endswith((".nii", ".nii.gz")):
        from .nifti_write import save_nifti as save
    elif name.endswith(".nrrd"):
        from .nrrd_files import save_nrrd as save
    elif name.endswith(".mha"):
        from .metaimage import save_metaimage as save
    elif name.endswith((".tif", ".tiff")):
        from .tiff_write import save_ome_tiff as save
    elif name.endswith(".zarr"):
        from .ome_zarr_write import save_ome_zarr as save
    elif name.endswith(".x3p"):
        from .x3p import save_x3p as save
    elif name.endswith(".png"):
        from .pictures import save_png as save
    elif name.endswith(".dicom"):
        from .dicom_write import save_dicom as save
    else:
        raise Trouble("Images cannot be written under this name", WORDS, path)
    return save
