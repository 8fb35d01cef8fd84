"""Write made-up scans as DICOM files, shuffled into nested folders as scanners and servers leave them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.dataset import FileDataset, FileMetaDataset
from pydicom.uid import CTImageStorage, ExplicitVRLittleEndian, generate_uid

from ..core.space import Space
from ..formats.dicom.header import FROM_DICOM_AXES


def dataset_for(
    sop: str, subject: str, description: str, number: int, instance: int, date: str = "20310214"
) -> FileDataset:
    """The elements that all files of the made-up study share. The same words give the same identifiers."""
    series_uid = generate_uid(entropy_srcs=[subject, date, description, str(number)])
    meta = FileMetaDataset()
    meta.MediaStorageSOPClassUID = sop
    meta.MediaStorageSOPInstanceUID = generate_uid(entropy_srcs=[series_uid, str(instance)])
    meta.TransferSyntaxUID = ExplicitVRLittleEndian
    ds = FileDataset(None, {}, file_meta=meta, preamble=b"\0" * 128)
    ds.SOPClassUID, ds.SOPInstanceUID = sop, meta.MediaStorageSOPInstanceUID
    ds.StudyInstanceUID, ds.FrameOfReferenceUID = (
        generate_uid(entropy_srcs=[subject, date, what]) for what in ("study", "frame")
    )
    ds.SeriesInstanceUID = series_uid
    ds.Manufacturer, ds.InstitutionName = "Hollowmere Workshop", "Hollowmere Field Station"
    ds.StudyDate = ds.SeriesDate = ds.AcquisitionDate = date
    ds.StudyTime, ds.StudyDescription = "091500", "Overwintering, late winter"
    ds.PatientName, ds.PatientID, ds.PatientSex = f"Dormouse^{subject}", subject, "F"
    ds.PatientSpeciesDescription = "Muscardinus avellanarius"
    ds.SeriesDescription, ds.SeriesNumber, ds.InstanceNumber = description, number, instance
    return ds


def place_on(ds, space: Space, k: int) -> None:
    """Position, orientation and pixel size of slice `k` of a grid."""
    affine, spacing = FROM_DICOM_AXES @ space.affine, space.spacing
    ds.PixelSpacing = [f"{spacing[1]:.10g}", f"{spacing[0]:.10g}"]
    ds.SliceThickness = f"{spacing[2]:.10g}"
    ds.ImageOrientationPatient = [f"{v:.10g}" for v in (*(affine[:3, 0] / spacing[0]), *(affine[:3, 1] / spacing[1]))]
    ds.ImagePositionPatient = [f"{v:.10g}" for v in (affine @ [0, 0, k, 1])[:3]]


def put_pixels(ds, pixels: np.ndarray, photometric: str = "MONOCHROME2") -> None:
    """Pixels [row, column], [frame, row, column] or with colours last, stored as they are."""
    colour = pixels.shape[-1] == 3 and pixels.ndim > 2
    rows, columns = pixels.shape[-3:-1] if colour else pixels.shape[-2:]
    ds.Rows, ds.Columns, bits = rows, columns, 8 * pixels.dtype.itemsize
    ds.SamplesPerPixel, ds.PhotometricInterpretation = 3 if colour else 1, photometric
    if colour:
        ds.PlanarConfiguration = 0
    if pixels.ndim - colour > 2:
        ds.NumberOfFrames = pixels.shape[0]
    ds.BitsAllocated, ds.BitsStored, ds.HighBit, ds.PixelRepresentation = (
        bits,
        bits,
        bits - 1,
        int(pixels.dtype.kind == "i"),
    )
    data = np.ascontiguousarray(pixels, pixels.dtype.newbyteorder("<")).tobytes()
    ds.PixelData = data + b"\0" * (len(data) % 2)
    ds["PixelData"].VR = "OB" if bits == 8 else "OW"


def write_series(
    folder: Path,
    values: np.ndarray,
    space: Space,
    subject: str,
    description: str,
    number: int,
    seed: int = 1,
    date: str = "20310214",
) -> list[Path]:
    """Write CT numbers as one file a slice.

    Parameters
    ----------
    values : int16 array [i, j, k], HU
    space : Space
    number : int
        Series number.
    seed : int
        Decides names and nesting; slices come in no order.
    """
    rng = np.random.default_rng(seed + number)
    names = rng.permutation(16**5)[: space.shape[2]]
    paths = []
    for k in range(space.shape[2]):
        ds = dataset_for(CTImageStorage, subject, description, number, k + 1, date)
        ds.Modality, ds.ImageType, ds.PatientPosition = "CT", ["ORIGINAL", "PRIMARY", "AXIAL"], "HFP"
        ds.KVP, ds.XRayTubeCurrent, ds.ExposureTime = "60", 160, 240
        place_on(ds, space, k)
        put_pixels(ds, (values[:, :, k].T.astype(np.int32) + 1024).astype("<u2"))
        ds.RescaleIntercept, ds.RescaleSlope, ds.RescaleType = "-1024", "1", "HU"
        paths.append(shuffled(ds, folder, rng, f"{int(names[k]):05x}"))
    return paths


def shuffled(ds, folder: Path, rng, name: str) -> Path:
    """Save into one of sixteen folders below subject and date."""
    place = folder / str(ds.PatientID) / str(ds.StudyDate) / f"{int(rng.integers(16)):x}"
    place.mkdir(parents=True, exist_ok=True)
    ds.save_as(place / name, enforce_file_format=True)
    return place / name
