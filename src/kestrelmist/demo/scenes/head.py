"""Scans of the head: CT, a positioning scan, T1-weighted MR, and the truth of both grids."""

from __future__ import annotations

import numpy as np

from ...core.labels import LabelMap, LabelTable
from ...core.space import Space
from ...formats.label_files import write_label_map
from ...formats.nifti import write_nifti
from ..dicom_files import write_series
from ..scans import coil, scan_ct, scan_mr
from ..scene import Station, scene
from ..truth import true_labels, true_volume


def positioning_space() -> Space:
    """Grid of the positioning scan: 24 thick sagittal slices, from right to left."""
    affine = np.array([[0, 0, -1.2, 13.8], [0.225, 0, 0, -14.3], [0, -0.225, 0, 12.8], [0, 0, 0, 1.0]])
    return Space((128, 128, 24), affine)


@scene("Head CT", 10)
def head_ct(station: Station) -> None:
    write_series(station.incoming, station.head_ct, station.ct_space, station.animal.name, "Head CT", 2)
    _truth(station, "ct", ["Lower jaw", "Skull"], ("Skull", "Lower jaw"), station.ct_space)


@scene("Positioning scan", 20)
def positioning_scan(station: Station) -> None:
    space, subject = positioning_space(), station.animal.name
    write_series(station.incoming, scan_ct(station.animal, space, 60.0), space, subject, "Positioning scan", 1)
    (station.incoming / "scan notes.txt").write_text("Animal HM-07, asleep, 4 degrees Celsius. Prone in the cradle.\n")


@scene("Head T1", 30)
def head_t1(station: Station) -> None:
    space = station.mr_space
    write_nifti(station.folder / "head T1.nii", scan_mr(station.animal, space), space, "Head T1, made up")
    write_nifti(station.folder / "truth" / "head T1, brightness of the coil.nii.gz", coil(space).T, space, "Brightness")
    _truth(station, "t1", ["Hippocampus", "Ventricles"], ("Brain", "Hippocampus", "Ventricles"), space)


def _truth(station: Station, scan: str, labelled: list[str], measured: tuple[str, ...], space: Space) -> None:
    """True labels on the grid of a scan, and true volumes in mm³."""
    numbers, table = true_labels(station.animal, labelled, space), LabelTable()
    for tissue in labelled:
        table, _ = table.with_new(tissue)
    write_label_map(station.folder / "truth" / f"{scan} labels.nii.gz", LabelMap(space, numbers, table))
    station.truth["volumes_mm3"] |= {t: true_volume(station.animal, t, space) for t in measured}
