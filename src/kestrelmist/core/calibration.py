"""A calibration: how large a pixel is, how sure that is, how it was found and with which optical set-up."""

from __future__ import annotations

import hashlib
import json
import math
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

from .errors import Trouble
from .names import plain_name
from .quantity import pretty_unit, suited_unit

FEW_COUNTED = 1e6
"""Degrees of freedom from which on more make no difference."""
SIDES = (1e-9, 1e6)
"""Shortest and longest side of a pixel, mm."""


@dataclass(frozen=True)
class Setup:
    """What a picture was taken with.

    Parameters
    ----------
    objective, camera, adapter, zoom, immersion : str
        As a person calls them; "" where nothing is said.
    nominal : number
        The magnification that is engraved, with adapter and zoom; 0 where nothing is said.
    camera_pixel : mm
        Side of a pixel of the camera; 0 where nothing is said.
    binning : number
        Pixels of the camera along a side of one of the picture; 0 where nothing is said.
    """

    objective: str = ""
    camera: str = ""
    adapter: str = ""
    zoom: str = ""
    immersion: str = ""
    nominal: float = 0.0
    camera_pixel: float = 0.0
    binning: float = 0.0

    @classmethod
    def from_dict(cls, facts: dict[str, Any]) -> Setup:
        """Read back from plain values; what is unknown is passed over. Raises TypeError or ValueError for others."""
        known = {one.name for one in fields(cls)}
        said: dict[str, Any] = {k: v for k, v in facts.items() if k in known}
        told: dict[str, Any] = {k: float(v) if k in NUMBERS else str(v) for k, v in said.items()}
        return cls(**told)

    @property
    def words(self) -> str:
        """All that is said of it, in one line; "" when nothing is."""
        said = [self.objective, f"{self.nominal:g}×" if self.nominal else "", self.immersion, self.adapter, self.zoom]
        said += [self.camera, f"binned {self.binning:g}×" if self.binning > 1 else ""]
        return ", ".join(filter(None, said))

    def fits(self, other: Setup) -> bool:
        """Whether nothing that is said of both differs."""
        pairs = ((getattr(self, one.name), getattr(other, one.name)) for one in fields(self))
        return all(_same(a, b) for a, b in pairs if a and b)


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, str):
        return one.strip().casefold() == str(other).strip().casefold()
    return math.isclose(one, other, rel_tol=1e-6)


@dataclass(frozen=True)
class Calibration:
    """How large a pixel is.

    Parameters
    ----------
    right, down : mm
        From one pixel to the next, to the right and down.
    sure_right, sure_down : number
        Relative standard uncertainties of these.
    freedom : number
        Degrees of freedom of both, for intervals.
    apart : bool
        Whether the two were measured apart; else one error is that of both.
    name, subject : str
    setup : Setup
    how : str
        "line", "ruler", "disc", "ball", "square" or "typed".
    known : str
        The known length, as it was given.
    on : str
        The image it was measured on.
    pixels : two whole numbers
        Columns and rows of that image.
    made, by : str
        Day (ISO 8601), and who.
    version : int
        1 for the first of its name.
    before : str
        Hash of the version that it follows; "" of the first.
    detector_pixel : mm
        Of a projection: from pixel to pixel at the detector, of both sides the geometric mean, than which `right` and
        `down` are smaller by the magnification; 0 where nothing is projected, or it is not known.
    notes : tuple of str
        Sentences on what was done by itself.

    Raises
    ------
    Trouble
        When a size or an uncertainty is none.
    """

    right: float
    down: float
    sure_right: float = 0.0
    sure_down: float = 0.0
    freedom: float = math.inf
    apart: bool = False
    name: str = "Calibration"
    subject: str = ""
    setup: Setup = field(default_factory=Setup)
    how: str = "typed"
    known: str = ""
    on: str = ""
    pixels: tuple[int, int] = (0, 0)
    made: str = ""
    by: str = ""
    version: int = 1
    before: str = ""
    detector_pixel: float = 0.0
    notes: tuple[str, ...] = ()

    def __post_init__(self):
        if not all(math.isfinite(side) and SIDES[0] <= side <= SIDES[1] for side in (self.right, self.down)):
            raise Trouble("A calibration gives the size of a pixel in mm", "see that the known length is right")
        if not all(math.isfinite(one) and 0 <= one < 1 for one in (self.sure_right, self.sure_down)):
            raise Trouble("The uncertainty of this calibration is as large as the size itself", "measure it again")
        if not self.freedom > 0:
            raise Trouble("The degrees of freedom of a calibration are above 0", "measure it again")
        object.__setattr__(self, "name", plain_name(self.name) or "Calibration")
        object.__setattr__(self, "subject", plain_name(self.subject))

    @property
    def cover(self) -> float:
        """By what a standard uncertainty is taken to hold the true value 95 times of 100 (Student's t)."""
        return coverage(self.freedom)

    @property
    def magnification(self) -> float:
        """Of a projection: of the plane that was measured in, at the detector; 0 where it is not known."""
        return self.detector_pixel / math.sqrt(self.right * self.down) if self.detector_pixel else 0.0

    @property
    def measured_magnification(self) -> float:
        """Of an optical set-up whose camera pixels are known; 0 where it cannot be told."""
        side = self.setup.camera_pixel * (self.setup.binning or 1.0)
        return side / math.sqrt(self.right * self.down) if side else 0.0

    @property
    def words(self) -> str:
        """The size of a pixel with its uncertainty (95 %), as in 0.6452 ± 0.0012 µm."""
        sizes = [(self.right, self.sure_right)]
        if self.apart or not math.isclose(self.right, self.down, rel_tol=1e-9):
            sizes.append((self.down, self.sure_down))
        unit, factor = suited_unit(self.right, "mm")
        said = []
        for side, sure in sizes:
            spread = self.cover * sure * side * factor
            digits = max(0, 1 - math.floor(math.log10(spread))) if spread > 0 else None
            alone = f"{side * factor:.6g}" if digits is None else f"{side * factor:.{digits}f} ± {spread:.{digits}f}"
            said.append(alone)
        return f"{' × '.join(said)} {pretty_unit(unit)}"

    @property
    def called(self) -> str:
        """Its name and version, for sentences."""
        return f"“{self.name}”" if self.version == 1 else f"“{self.name}”, version {self.version}"

    def content_hash(self) -> str:
        """SHA-256 of what was measured; name, version, day and person are no part of that."""
        facts = self.as_dict()
        for name in ("name", "version", "before", "made", "by"):
            facts.pop(name)
        return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        facts = asdict(self)
        facts.pop("subject")
        facts["freedom"] = None if self.freedom >= FEW_COUNTED else self.freedom
        return facts

    @classmethod
    def from_dict(cls, facts: dict[str, Any], name: str = "", subject: str = "") -> Calibration:
        """Read back from `as_dict`; what is unknown is passed over. Raises Trouble when it is no calibration."""
        try:
            known = {one.name for one in fields(cls)}
            given = {key: value for key, value in facts.items() if key in known}
            given["setup"] = Setup.from_dict(dict(given.get("setup") or {}))
            given["freedom"] = math.inf if given.get("freedom") is None else float(given["freedom"])
            columns, rows = given.get("pixels") or (0, 0)
            given["pixels"] = int(columns), int(rows)
            given["notes"] = tuple(map(str, given.get("notes") or ()))
            for key in ("right", "down", "sure_right", "sure_down", "detector_pixel"):
                given[key] = float(given.get(key, 0.0))
            given["version"] = int(given.get("version", 1))
            made = cls(**given)
            return replace(made, name=name or made.name, subject=subject or made.subject)
        except (TypeError, ValueError, AttributeError) as error:
            raise Trouble("This is no calibration", "choose one that was made here") from error


NUMBERS = ("nominal", "camera_pixel", "binning")


def coverage(freedom: float) -> float:
    """Student's t for 95 of 100 and so many degrees of freedom.

    >>> round(coverage(4), 3), round(coverage(float("inf")), 3)
    (2.776, 1.96)
    """
    from scipy.special import ndtri, stdtrit

    return float(ndtri(0.975)) if freedom >= FEW_COUNTED else float(stdtrit(max(freedom, 1.0), 0.975))


def together(*parts: tuple[float, float]) -> tuple[float, float]:
    """Standard uncertainties with their degrees of freedom, put together (Welch–Satterthwaite; JCGM 100:2008, G.4).

    >>> together((3.0, float("inf")), (4.0, float("inf")))
    (5.0, inf)
    """
    whole = math.fsum(u * u for u, _ in parts)
    low = math.fsum(u**4 / freedom for u, freedom in parts if math.isfinite(freedom))
    return math.sqrt(whole), (whole * whole / low if low > 0 else math.inf)
