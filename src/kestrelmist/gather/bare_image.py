"""An image of any format without text that somebody may have typed: what is left is what has a meaning of its own."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from typing import Any

from ..core.axis import Axis
from ..core.caveat import NOTED
from ..core.image import Image
from ..core.scale import FACT, Scale
from ..core.world import World
from ..formats.measured_facts import measured_facts
from ..formats.sidecar import KEY
from .defined_terms import is_term

UNITS = frozenset(
    """
HU m cm mm um µm nm s ms us µs Hz kHz MHz % 1 px count counts T mT K °C degC g/ml Bq/ml Bq/mL kBq/ml kBq/mL MBq/ml rad/s
BQML CNTS SUV ppm rad deg ° Pa kPa V mV A mA Gy mGy OD mm2/s mm^2/s um2/ms µm2/ms 1/s 1/mm s/mm2 ml mm3 cm3 a.u.
""".split()
)
"""Units of values and axes that mean something by themselves."""
AXES = frozenset(
    "time channel detector echo phase component direction energy angle axis frequency shift frame page".split()
)
PLACES = frozenset(("front", "back", "magnitude", "phase", "real", "imaginary"))

STRENGTH = re.compile(r"b \d{1,5}(\.\d{1,3})?")
"""What a volume of a diffusion series is called."""


def bare_facts(image: Image) -> dict[str, Any]:
    """What is to be changed about an image so that no text of its file is left; its values, place and scale stay."""
    world = image.space.world
    plain = World("", "scanner" if world.sides_known else "picture", world.sides_known)
    facts = {KEY: json.dumps(taken)} if (taken := measured_facts(image)) else {}
    scale = Scale.from_fact(image.facts.get(FACT, ""))
    facts |= {FACT: scale.nameless.fact} if scale is not None else {}
    return {
        "facts": facts,
        "space": replace(image.space, world=plain),
        "axes": tuple(bare_axis(axis) for axis in image.axes),
        "unit": image.unit if image.unit in UNITS else "",
        "modality": image.modality if is_term(image.modality) else "",
        # what stands in quotes was in the file
        "caveats": [
            replace(c, sentence=re.sub("“[^”]*”", "“…”", c.sentence)) for c in image.caveats if c.code != NOTED
        ],
    }


def bare_axis(axis: Axis) -> Axis:
    """An axis without names that somebody has given."""
    known = all(label in PLACES or STRENGTH.fullmatch(label) for label in axis.labels)
    return replace(
        axis,
        name=axis.name if axis.name in AXES else "axis",
        unit=axis.unit if axis.unit in UNITS else "",
        labels=axis.labels if known else (),
    )
