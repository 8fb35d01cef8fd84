"""What calibrations have in common: the set-up they are of, and how a result is told."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Annotated, NamedTuple

from ...core.calibration import Calibration, Setup
from ...core.camera import setup_of
from ...core.image import Image
from ...core.parameter import Between, Unit
from ...core.signature import Settings
from ...core.table import Column, Table

GROUP = "Calibration"
WORDS = "calibrate scale pixel size spatial calibration micrometer objective magnification um per pixel"
RARE = "adapter zoom immersion nominal camera_pixel binning by"
CALLED = {
    "nominal": "Engraved",
    "camera_pixel": "Camera pixel",
    "binning": "Binned",
    "by": "Made by",
    "name": "Called",
}
OFF = 0.2
"""By what share of it the measured magnification may be off the nominal one until that is said as something odd."""


@dataclass(frozen=True)
class TakenWith(Settings):
    """The optical set-up.

    Parameters
    ----------
    name : text
        What the calibration is called; after its set-up when left out.
    objective : text
        As you call it: "10× dry".
    camera : text
        As you call it.
    adapter : text
        Between microscope and camera: "0.5×".
    zoom : text
        Its position.
    immersion : text
        Air, water, oil.
    nominal : number
        What is engraved, times adapter and zoom; 0 when it is not known. It is held against what was measured.
    camera_pixel : mm
        Side of a pixel of the camera's chip; 0 when it is not known. Needed to tell a magnification.
    binning : number
        Pixels of the camera along a side of one of the picture; 0 when nothing is said.
    by : text
        Who measured it.
    """

    name: str = ""
    objective: str = ""
    camera: str = ""
    adapter: str = ""
    zoom: str = ""
    immersion: str = ""
    nominal: Annotated[float, Between(0, 1e6)] = 0.0
    camera_pixel: Annotated[float, Unit("mm"), Between(0, 10)] = 0.0
    binning: Annotated[float, Between(0, 64)] = 0.0
    by: str = ""

    def setup_of(self, image: Image) -> Setup:
        """The set-up alone; what is not said here is as the image says that it was taken."""
        known = setup_of(image)
        words = {name: getattr(self, name).strip() for name in ("objective", "camera", "adapter", "zoom", "immersion")}
        said = {name: text or getattr(known, name) for name, text in words.items()}
        pixel, nominal = self.camera_pixel or known.camera_pixel, self.nominal or known.nominal
        return Setup(**said, nominal=nominal, camera_pixel=pixel, binning=self.binning or known.binning)

    def facts_of(self, image: Image) -> dict:
        """What of a calibration on an image is said here, or by the image."""
        setup = self.setup_of(image)
        name = self.name or setup.words or "Calibration"
        return {"name": name, "setup": setup, "by": self.by.strip(), "made": date.today().isoformat()}


NOTHING_SAID = TakenWith()


class Calibrated(NamedTuple):
    """What calibrating gives."""

    calibration: Calibration
    readings: Table


def magnification_notes(calibration: Calibration) -> list[str]:
    """What the measured magnification says of the nominal one."""
    measured, nominal = calibration.measured_magnification, calibration.setup.nominal
    if not measured or not nominal:
        return []
    off = measured / nominal - 1
    said = f"The magnification measured is {measured:.4g}×, {abs(100 * off):.1f} % {'above' if off > 0 else 'below'}"
    odd = "; see that length, camera pixel and binning are right" if abs(off) > OFF else ""
    return [f"{said} the {nominal:g}× that is engraved{odd}"]


def summary(calibration: Calibration, table: Table) -> Table:
    """The table of readings with a last row that tells what came of them."""
    table.title = f"{calibration.name}: {calibration.words} a pixel"
    table.columns.append(Column("note"))
    table.rows = [(*row, "") for row in table.rows]
    blank = (None,) * (len(table.columns) - 2)
    table.rows.append(("pixel", *blank, f"{calibration.words} (95 %)"))
    table.rows += [("", *blank, note) for note in calibration.notes]
    return table
