"""A CT series of 300 × 512 × 512 into memory."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import SimpleITK as sitk

from kestrelmist.core.space import Space
from kestrelmist.demo.dicom_files import write_series
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image

from .row import Row, in_turn


def rows() -> list[Row]:
    space = Space((512, 512, 300), np.diag([0.5, 0.5, 0.5, 1.0]))
    rng = np.random.default_rng(1)
    slab = rng.integers(-1000, 2000, (512, 512, 8), np.int16)
    with tempfile.TemporaryDirectory() as place:
        values = np.concatenate([slab] * 38, 2)[:, :, :300]
        folder = Path(place) / "flat"  # that reader does not look into nested folders
        folder.mkdir()
        for path in write_series(Path(place) / "nested", values, space, "BENCH", "Bench CT", 1):
            path.rename(folder / path.name)
        files: dict[str, Any] = {}

        def ours():
            files["ours"] = series_image(scan_folder(folder)[0]).data

        def baseline():
            reader = sitk.ImageSeriesReader()
            found = reader.GetGDCMSeriesFileNames(str(folder), reader.GetGDCMSeriesIDs(str(folder))[0])
            reader.SetFileNames(found)
            files["theirs"] = reader.Execute()

        mine, theirs = in_turn(ours, baseline, 3)
        assert np.array_equal(files["ours"].T, sitk.GetArrayFromImage(files["theirs"]))
    return [
        Row(
            "CT series 300 × 512 × 512 into memory",
            mine,
            theirs,
            "SimpleITK series reader",
            "ratio ≤ 0.7",
            met=mine <= 0.7 * theirs,
        )
    ]
