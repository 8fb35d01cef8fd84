"""Write made-up scans as single-slice DICOM files, shuffled into nested folders as scanners and servers leave them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pydicom.dataset import FileDataset, FileMetaDataset
from pydicom.uid import CTImageStorage, ExplicitVRLittleEndian, generate_uid

from ..core.space import Space
from ..formats.dicom_series import FROM_DICOM_AXES


def write_series(folder: Path, values: np.ndarray, space: Space, subject: str, description: str, number: int,
                 seed: int = 1, date: str = "20310214") -> list[Path]:
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
    affine = FROM_DICOM_AXES @ space.affine
    spacing = space.spacing
    row, column = affine[:3, 0] / spacing[0], affine[:3, 1] / spacing[1]
    study_uid, frame_uid = (generate_uid(entropy_srcs=[subject, date, what]) for what in ("study", "frame"))
    series_uid = generate_uid(entropy_srcs=[subject, date, description, str(number)])
    names = rng.permutation(16**5)[:space.shape[2]]
    paths = []
    for k in range(space.shape[2]):
        meta = FileMetaDataset()
        meta.MediaStorageSOPClassUID = CTImageStorage
        meta.MediaStorageSOPInstanceUID = generate_uid(entropy_srcs=[series_uid, str(k)])
        meta.TransferSyntaxUID = ExplicitVRLittleEndian
        ds = FileDataset(None, {}, file_meta=meta, preamble=b"\0" * 128)
        ds.SOPClassUID, ds.SOPInstanceUID = meta.MediaStorageSOPClassUID, meta.MediaStorageSOPInstanceUID
        ds.StudyInstanceUID, ds.SeriesInstanceUID, ds.FrameOfReferenceUID = study_uid, series_uid, frame_uid
        ds.Modality, ds.Manufacturer, ds.InstitutionName = "CT", "Hollowmere Workshop", "Hollowmere Field Station"
        ds.StudyDate = ds.SeriesDate = ds.AcquisitionDate = date
        ds.StudyTime, ds.StudyDescription = "091500", "Overwintering, late winter"
        ds.PatientName, ds.PatientID, ds.PatientSex = f"Dormouse^{subject}", subject, "F"
        ds.PatientSpeciesDescription = "Muscardinus avellanarius"
        ds.SeriesDescription, ds.SeriesNumber, ds.InstanceNumber = description, number, k + 1
        ds.ImageType, ds.PatientPosition = ["ORIGINAL", "PRIMARY", "AXIAL"], "HFP"
        ds.KVP, ds.XRayTubeCurrent, ds.ExposureTime = "60", 160, 240
        ds.PixelSpacing = [f"{spacing[1]:.10g}", f"{spacing[0]:.10g}"]
        ds.SliceThickness = f"{spacing[2]:.10g}"
        ds.ImageOrientationPatient = [f"{v:.10g}" for v in (*row, *column)]
        ds.ImagePositionPatient = [f"{v:.10g}" for v in (affine @ [0, 0, k, 1])[:3]]
        ds.Rows, ds.Columns = space.shape[1], space.shape[0]
        ds.SamplesPerPixel, ds.PhotometricInterpretation = 1, "MONOCHROME2"
        ds.BitsAllocated, ds.BitsStored, ds.HighBit, ds.PixelRepresentation = 16, 16, 15, 0
        ds.RescaleIntercept, ds.RescaleSlope, ds.RescaleType = "-1024", "1", "HU"
        ds.PixelData = (values[:, :, k].T.astype(np.int32) + 1024).astype("<u2").tobytes()
        place = folder / f"{subject}" / f"{date}" / f"{int(rng.integers(16)):x}"
        place.mkdir(parents=True, exist_ok=True)
        path = place / f"{int(names[k]):05x}"
        ds.save_as(path, enforce_file_format=True)
        paths.append(path)
    return paths
