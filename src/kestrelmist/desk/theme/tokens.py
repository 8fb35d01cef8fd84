"""Colours by role, in a light and a dark theme."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Tokens:
    """`hairline` parts things that are apart anyhow; `edge` is round what can be worked; `lit` is amber on `night`."""

    ground: str
    panel: str
    field: str
    hairline: str
    edge: str
    ink: str
    soft: str
    rust: str
    rust_tint: str
    on_rust: str
    amber: str
    moss: str
    red: str
    night: str
    lit: str
    chip: str
    bar: str
    bar_ink: str
    bar_soft: str


MIST = Tokens(
    ground="#E4E9EA",
    panel="#F4F6F5",
    field="#FCFCFA",
    hairline="#CDD5D7",
    edge="#6E818C",
    ink="#1F2C35",
    soft="#55656E",
    rust="#9D4B26",
    rust_tint="#F0DDD1",
    on_rust="#FFFFFF",
    amber="#845A0C",
    moss="#446C48",
    red="#A9271F",
    night="#0B1013",
    lit="#E0A83A",
    chip="#E3B48D",
    bar="#1F2C35",
    bar_ink="#F4F6F5",
    bar_soft="#A9B7BE",
)

DUSK = Tokens(
    ground="#12181C",
    panel="#1C252B",
    field="#26323A",
    hairline="#3A4852",
    edge="#6A7D8A",
    ink="#E8EDEE",
    soft="#A3B2BA",
    rust="#DA8E64",
    rust_tint="#4A3126",
    on_rust="#1A120D",
    amber="#E0A83A",
    moss="#83B588",
    red="#EE8279",
    night="#0B1013",
    lit="#E0A83A",
    chip="#E3B48D",
    bar="#0D1216",
    bar_ink="#E8EDEE",
    bar_soft="#A3B2BA",
)

THEMES = {"mist": MIST, "dusk": DUSK}


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours, 1 to 21 (WCAG 2.1)."""

    def light(colour: str) -> float:
        parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
        r, g, b = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
        return 0.2126 * r + 0.7152 * g + 0.0722 * b

    a, b = sorted((light(one), light(other)), reverse=True)
    return (a + 0.05) / (b + 0.05)
