"""One number of all units as a row of dots, as SVG: what is out of the usual is told by shape and name, too."""

from __future__ import annotations

from html import escape

import numpy as np

from .content import RunReport

WIDE, TALL, EDGE = 340.0, 44.0, 10.0


def dots(report: RunReport, name: str) -> str:
    """A number of all units along a line, as SVG; those out of the usual are squares with their names."""
    told = [(unit.words, n) for unit in report.units for n in unit.numbers if n.name == name]
    if not told:
        return ""
    values = np.array([n.value for _, n in told])
    low, high = float(values.min()), float(values.max())
    span = high - low or 1.0
    drawn = [f'<line x1="{EDGE}" y1="22" x2="{WIDE - EDGE}" y2="22" stroke="#CDD5D7"/>']
    for words, number in told:
        x = EDGE + (number.value - low) / span * (WIDE - 2 * EDGE)
        tip = f"<title>{escape(words)}: {number.value:.5g} {escape(number.unit)}</title>"
        if number.out:
            drawn.append(f'<rect x="{x - 5:.1f}" y="17" width="10" height="10" fill="#A9271F">{tip}</rect>')
            anchor = "start" if x < WIDE / 2 else "end"
            drawn.append(f'<text x="{x:.1f}" y="12" font-size="11" text-anchor="{anchor}">{escape(words)}</text>')
        else:
            drawn.append(f'<circle cx="{x:.1f}" cy="22" r="4" fill="#4B7750" fill-opacity="0.6">{tip}</circle>')
    unit = f" {told[0][1].unit}" if told[0][1].unit else ""
    ends = ((EDGE, "start", low), (WIDE - EDGE, "end", high))
    for x, anchor, value in ends if high > low else ends[:1]:
        drawn.append(f'<text x="{x}" y="41" font-size="11" text-anchor="{anchor}">{value:.4g}{escape(unit)}</text>')
    label = f'role="img" aria-label="{escape(name)} of everybody"'
    return f'<svg viewBox="0 0 {WIDE:g} {TALL:g}" width="{WIDE:g}" height="{TALL:g}" {label}>{"".join(drawn)}</svg>'
