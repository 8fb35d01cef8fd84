"""Write an image as a file of another format, with what was known of its acquisition beside it."""

from __future__ import annotations

from pathlib import Path

from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import NewPath
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..formats.beside_nifti import write_sidecar
from ..formats.format import writer_for
from ..formats.not_said import lost_in
from ..formats.saving import save_image


@operation(
    "gather",
    "Convert",
    name="convert",
    keywords=(
        "export nifti save as nifti nrrd metaimage tiff zarr dicom json sidecar bids bval bvec gradients save image "
        "write file format"
    ),
    takes="series colour",
    called={"sidecar": "Facts beside"},
    group="Into files",
)
def convert(
    image: Image, to: NewPath, sidecar: bool = True, replace: bool = False, progress: Progress = silent()
) -> Table:
    """Write an image in the format that a file name asks for, values, place and sides exactly as they are.

    Parameters
    ----------
    to : path
        .nii.gz, .nii, .nrrd, .mha, .ome.tif, .ome.zarr, .x3p, .png, or a new folder ending in .dicom.
    sidecar : bool
        Write the acquisition facts of a NIfTI file beside it as JSON, and .bval and .bvec for diffusion series.
    replace : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is a file of that name, or the format cannot hold the image.
    """
    to = Path(to)
    writer_for(to)
    require_new(to, replace)
    save_image(to, image, progress)
    written = [to]
    if sidecar and to.name.lower().endswith((".nii", ".nii.gz")):
        written += write_sidecar(to, image)
    table = Table(f"{image.name} converted", [Column("image"), Column("file"), Column("bytes"), Column("not said")])
    table.rows = [
        (
            image.name,
            str(p),
            sum(f.stat().st_size for f in p.rglob("*") if f.is_file()) if p.is_dir() else p.stat().st_size,
            ", ".join(lost_in(to, image)) or None if p == to else None,
        )
        for p in written
    ]
    return table
