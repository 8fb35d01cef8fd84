"""How often stated uncertainties hold what is true, over a thousand made cases of every kind of noise: 92 to 98 of a
hundred is right."""

from __future__ import annotations

import numpy as np

from kestrelmist.demo.enamel import enamel
from kestrelmist.measure.plateaus import step_in
from kestrelmist.measure.trace_noise import of_difference
from tests.test_trace_noise import together, turned

from .row import Row, coverage

CASES = 1000


def rows(seed: int) -> list[Row]:
    return [*_cursors(seed), *_steps(seed), *_enamel(seed)]


def _cursors(seed: int) -> list[Row]:
    found = []
    for name, make, widths in (
        ("white", lambda rng, shape: together(rng, shape, 0), (3, 31)),
        ("over one and a half points", lambda rng, shape: together(rng, shape, 1.5), (5, 31)),
        ("over two points", lambda rng, shape: together(rng, shape, 2), (5, 31)),
        ("turned lines", turned, (5, 31)),
    ):
        for width in widths:
            inside, long = 0, 160
            for case in range(CASES):
                noise = make(np.random.default_rng([seed, width, case]), (long, width))
                lines = noise + np.linspace(0, 5, width)
                lines[long // 2 :] += 40
                first, second = long // 4, 3 * long // 4
                sure = of_difference(lines, first, second)
                assert sure is not None
                inside += abs(lines[second].mean() - lines[first].mean() - 40) <= sure.expanded()
            found.append(coverage(f"height between two cursors, {width} lines, noise {name}", inside / CASES))
    return found


def _steps(seed: int) -> list[Row]:
    """Of steps that are not called too short to tell."""
    found = []
    kinds = ((0, 60, 1.0), (0, 60, 1e-6), (2, 120, 1.0), (2, 120, 1e6), (8, 240, 1.0), (8, 400, 1.0))
    for reach, long, scale in kinds:
        inside = told = 0
        for case in range(CASES):
            along = np.arange(float(long))
            noise = together(np.random.default_rng([seed, long, case]), (long,), reach)
            step = step_in(along, scale * (50 * (along > 0.55 * long) + noise)[:, None], "made up")
            if not step.too_short:
                told += 1
                inside += abs(step.height - 50 * scale) <= step.expanded()
        found.append(coverage(f"step height, {long} points, noise over {reach}, scale {scale:g}", inside / told))
    return found


def _enamel(seed: int) -> list[Row]:
    """Bands of one map lie on the same prisms and jumps of lines, so many maps stand beside each other."""
    inside = tried = 0
    for case in range(seed, seed + 120):
        made = enamel(case, 256, scale=0.0)
        for start in (20, 100, 180):
            strip = np.where(made.dust, np.nan, made.heights)[start : start + 40].T.astype(float)
            step = step_in(np.arange(256) * 0.1, strip, "enamel")
            tried += 1
            inside += abs(abs(step.height) - made.depth) <= step.expanded()
    return [coverage("depth of a window etched into enamel", inside / tried, at_least=0.9)]
