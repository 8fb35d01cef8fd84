"""How sure lengths on an image are, and where its scale comes from."""

from __future__ import annotations

import json
import math
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from .calibration import Calibration, coverage
from .caveat import AT_DETECTOR, SCALE_BY_HAND, SCALE_UNSURE, has_caveat

FACT = "Calibration"
"""The fact of an image that says which calibration it uses, as JSON."""


@dataclass(frozen=True)
class Scale:
    """Where the scale of an image comes from, and how sure it is.

    Parameters
    ----------
    unit : str
        Of lengths: "mm", or "px" where there is no scale.
    how : str
        In words: "by header", "by calibration “10× dry”", "set by hand", "no scale".
    sure : three numbers
        Relative standard uncertainties along the world's x, y and z; NaN where nothing is known of it.
    together : bool
        Whether those along x and y are one error.
    freedom : number
        Degrees of freedom of them.
    magnification, sure_magnification : number
        Of a projection, at the detector, and its relative standard uncertainty; 0 where none is said.
    calibration, version, hash : str, int, str
        Which calibration; "" where there is none.
    setup : dict
        With which optical set-up that was made, as plain values.
    """

    unit: str = "mm"
    how: str = "by header"
    sure: tuple[float, float, float] = (math.nan, math.nan, math.nan)
    together: bool = True
    freedom: float = math.inf
    magnification: float = 0.0
    sure_magnification: float = 0.0
    calibration: str = ""
    version: int = 0
    hash: str = ""
    setup: dict[str, Any] = field(default_factory=dict, hash=False)

    @property
    def known(self) -> bool:
        """Whether something is known of how sure it is."""
        return all(math.isfinite(one) for one in self.sure[:2])

    @property
    def words(self) -> str:
        """Where it comes from and how sure it is, in one line."""
        said = [self.how]
        if self.unit == "px":
            return "no scale: lengths are in pixels"
        if self.known:
            most = coverage(self.freedom) * max(one for one in self.sure if math.isfinite(one))
            said.append(f"± {100 * most:.2g} % (95 %)" if most > 0 else "taken as exact")
        else:
            said.append("its uncertainty is not known")
        if self.magnification:
            said.append(f"projection magnified {self.magnification:.4g} times")
        return ", ".join(said)

    @property
    def fact(self) -> str:
        """As the fact of an image says it."""
        facts = asdict(self) | {"freedom": self.freedom if math.isfinite(self.freedom) else None}
        facts["sure"] = [one if math.isfinite(one) else None for one in self.sure]
        return json.dumps(facts, ensure_ascii=False)

    @property
    def nameless(self) -> Scale:
        """The same without what somebody has typed: a calibration goes by the beginning of its hash."""
        if not self.calibration:
            return self
        short = self.hash[:8]
        return replace(self, how=f"by calibration {short}", calibration=short, setup={})

    @classmethod
    def by(cls, calibration: Calibration) -> Scale:
        """That of a calibration, for pictures whose columns run along x."""
        magnified = calibration.magnification
        return cls(
            "mm",
            f"by calibration {calibration.called}",
            (calibration.sure_right, calibration.sure_down, 0.0),
            not calibration.apart,
            calibration.freedom,
            magnified,
            max(calibration.sure_right, calibration.sure_down) if magnified else 0.0,
            calibration.name,
            calibration.version,
            calibration.content_hash(),
            asdict(calibration.setup),
        )

    @classmethod
    def from_fact(cls, text: str) -> Scale | None:
        """Read back from `fact`; None when it is none."""
        with suppress(ValueError, TypeError, KeyError):
            facts: dict[str, Any] = json.loads(text)
            facts["sure"] = tuple(math.nan if v is None else float(v) for v in facts["sure"])
            facts["freedom"] = math.inf if facts.get("freedom") is None else facts["freedom"]
            for name in ("freedom", "magnification", "sure_magnification"):
                facts[name] = float(facts[name])
            return cls(**facts)
        return None


def scale_of(image: Any) -> Scale:
    """How sure lengths on an image, or its row in a study, are: by its calibration, or by where its scale is from."""
    grid = getattr(image, "grid", None) or image.space
    kept = Scale.from_fact(image.facts.get(FACT, ""))
    if grid.unit == "px":
        return Scale("px", "no scale")
    if kept is not None:
        return replace(kept, unit=grid.unit)
    caveats = image.caveats
    if has_caveat(caveats, SCALE_BY_HAND):
        return Scale(grid.unit, "set by hand")
    if has_caveat(caveats, AT_DETECTOR):
        return Scale(grid.unit, "by header, at the detector")
    return Scale(grid.unit, "assumed" if has_caveat(caveats, SCALE_UNSURE) else "by header")
