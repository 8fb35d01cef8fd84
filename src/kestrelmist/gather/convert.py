"""Write an image as a file of another format, with what was known of its acquisition beside it."""

from __future__ import annotations

import json
from pathlib import Path

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import NewPath
from ..core.progress import Progress, silent
from ..core.safe_write import written_whole
from ..core.table import Column, Table
from ..formats.acquisition import KEY
from ..formats.format import writer_for
from ..formats.saving import save_image

HIDDEN = ("bValues", "bVectors", "EchoTimes")
"""Facts that go into files of their own or that no sidecar has a name for."""


@operation(
    "gather",
    "Convert",
    name="convert",
    keywords="export save as nifti nrrd metaimage tiff zarr dicom json sidecar bids",
    takes="series colour",
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
    if to.exists() and not replace:
        raise Trouble("There is a file of this name already", "name another, or say that it may be replaced", to)
    save_image(to, image, progress)
    written = [to]
    if sidecar and to.name.lower().endswith((".nii", ".nii.gz")):
        written += write_sidecar(to, image)
    table = Table(f"{image.name} converted", [Column("image"), Column("file"), Column("bytes")])
    table.rows = [
        (
            image.name,
            str(p),
            sum(f.stat().st_size for f in p.rglob("*") if f.is_file()) if p.is_dir() else p.stat().st_size,
        )
        for p in written
    ]
    return table


def base_of(path: Path) -> Path:
    """The path without .nii or .nii.gz."""
    name = path.name
    return path.with_name(name[:-7] if name.lower().endswith(".nii.gz") else name[:-4])


def acquisition_of(image: Image) -> dict:
    """Acquisition facts of an image, {} when nothing is known."""
    try:
        found = json.loads(image.facts.get(KEY, "{}"))
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def write_sidecar(nifti: Path, image: Image) -> list[Path]:
    """Write what is known beside a NIfTI file: .json, and for diffusion series .bval and .bvec. Returns what was
    written."""
    facts = acquisition_of(image)
    texts = {}
    shown = {k: v for k, v in facts.items() if k not in HIDDEN}
    if image.unit:
        shown["Units"] = image.unit
    if shown:
        texts[".json"] = json.dumps(shown, indent=2, ensure_ascii=False) + "\n"
    if "bValues" in facts:
        texts[".bval"] = " ".join(f"{b:g}" for b in facts["bValues"]) + "\n"
        texts[".bvec"] = "".join(" ".join(f"{v[n]:.8g}" for v in facts["bVectors"]) + "\n" for n in range(3))
    written = []
    for ending, text in texts.items():
        path = base_of(nifti).with_name(base_of(nifti).name + ending)
        with written_whole(path) as stream:
            stream.write(text.encode())
        written.append(path)
    return written
