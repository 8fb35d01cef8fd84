"""Calibrations and measures: how often what is stated holds the truth, and surfaces against closed forms."""

from __future__ import annotations

import math

import numpy as np
from scipy.ndimage import gaussian_filter
from scipy.special import ellipeinc, ellipkinc

from kestrelmist.core.camera import CameraSettings
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.geometry.measured import measured
from kestrelmist.core.image import Image
from kestrelmist.core.scale import Scale
from kestrelmist.core.space import picture_space
from kestrelmist.demo.stage_ruler import ruler_picture
from kestrelmist.measure.calibrating.calibrate import calibrate
from kestrelmist.measure.calibrating.calibrate_object import calibrate_object
from kestrelmist.measure.calibrating.calibrate_ruler import calibrate_ruler
from kestrelmist.measure.profiles.profile_marks import profile_marks
from kestrelmist.measure.regions.sums import region_sums
from kestrelmist.measure.regions.surface import surfaces
from kestrelmist.standins.microscope import BEST_FOCUS, OBJECTIVES, RULER, Microscope

from .row import Row

TIMES = 100
SIZE = (400, 300)
STATED = "of 100, the true one lies within what is stated"


def rows(seed: int) -> list[Row]:
    return [*_calibrated(seed), *_camera(), *_marks(seed), *_profiles(seed), *_surfaces(seed)]


def _picture(values: np.ndarray) -> Image:
    rows, columns = values.shape
    return Image(np.asfortranarray(values.T[:, :, None].astype(np.float32)), picture_space(columns, rows, None), "Made")


def _within(made, pixel: float) -> bool:
    return abs(made.right - pixel) <= made.cover * made.sure_right * made.right


def _calibrated(seed: int) -> list[Row]:
    held = {"by one line": 0, "by four lines": 0, "by five lines as drawn": 0, "by a ruler": 0, "by a disc": 0}
    for n in range(TIMES):
        rng = np.random.default_rng([seed, n])
        pixel, turn = rng.uniform(0.00035, 0.0005), rng.uniform(-0.1, 0.1)
        ruler = _picture(ruler_picture(pixel, mark=0.002, size=SIZE, turn=turn, noise=4, seed=seed * 1000 + n))
        hand = rng, ruler, pixel, turn
        for name, drawn, ends in (
            ("by one line", _lines(hand, 1, 1.2, 25), "same side"),
            ("by four lines", _lines(hand, 4, 1.2, 25), "same side"),
            ("by five lines as drawn", _lines(hand, 5, 0.5, 0), "as drawn"),
        ):
            repeat = "; ".join(f"{x!r},{y!r}" for line in drawn[1:] for x, y, _ in line)
            given = drawn[0][0], drawn[0][1]
            held[name] += _within(calibrate(ruler, *given, length=0.1, repeat=repeat, ends=ends).calibration, pixel)
        held["by a ruler"] += _within(calibrate_ruler(ruler, 0.01).calibration, pixel)
        radius, at = rng.uniform(10, 60), rng.uniform(75, 85, 2) + (20, 0)
        image = _picture(_disc(radius, at) + rng.normal(0, 4, (160, 200)))
        inside = tuple(image.space.to_world((*(at + radius / 3), 0)).tolist())
        held["by a disc"] += _within(calibrate_object(image, inside, 1.0).calibration, 0.5 / radius)
    return [
        Row(f"pixels {name}", float(count), at_least=90, at_most=100, against=STATED) for name, count in held.items()
    ]


def _lines(hand: tuple, count: int, off: float, apart: float) -> list[list[tuple]]:
    """Drawn by hand over ten marks, on rows so far apart, their ends off by so many pixels."""
    rng, ruler, pixel, turn = hand
    way, beside = np.array((math.cos(turn), math.sin(turn))), np.array((-math.sin(turn), math.cos(turn)))
    found = []
    for _ in range(count):
        row = (np.array(SIZE) - 1) / 2 + beside * rng.uniform(-apart, apart)
        ends = [row + way * (side * 0.05 - 0.001) / pixel + rng.normal(0, off, 2) for side in (-1, 1)]
        found.append([tuple(map(float, ruler.space.to_world((*end, 0)))) for end in ends])
    return found


def _disc(radius: float, at) -> np.ndarray:
    """A bright disc, as a camera sees it: from five samples a pixel a side, blurred."""
    fine = 5
    v, u = (np.indices((160 * fine, 200 * fine)) + 0.5) / fine - 0.5
    drawn = (np.hypot(u - at[0], v - at[1]) <= radius).astype(np.float32)
    return 60 + 90 * gaussian_filter(drawn, 0.9 * fine).reshape(160, fine, 200, fine).mean((1, 3))


def _camera() -> list[Row]:
    microscope, worst = Microscope(0), 0.0
    for name, objective in OBJECTIVES.items():
        microscope.set(CameraSettings(name, specimen=RULER, focus=BEST_FOCUS[RULER]))
        grey = microscope.picture().mean(2)
        made = calibrate_ruler(_picture(grey), 0.01).calibration
        worst = max(worst, abs(made.right / microscope.true_pixel - 1))
        assert abs(objective.true / objective.nominal - 1) > 0.01
    return [Row("pixels of five objectives by one picture of a ruler (off)", worst, at_most=2e-4,
                against="what they truly magnify")]  # fmt: skip


def _marks(seed: int) -> list[Row]:
    true = {
        "line": ([(0, 0), (3, 4)], "length"),
        "polygon": ([(0, 0), (4, 0), (5, 3), (1, 4)], "area"),
        "angle": ([(3, 0), (0, 0), (2, 3)], "angle"),
        "circle": ([(2, 0), (0, 2), (-2, 0)], "diameter"),
        "ellipse": ([(0, 2), (3, 0), (0, -2), (-3, 0)], "area"),
    }
    found = []
    for shape, (points, name) in true.items():
        exact = _value(shape, points, name, Scale("mm", "", (0, 0, 0)), 0.0).value
        rng, inside = np.random.default_rng([seed, len(points)]), 0
        for _ in range(TIMES):
            drawn = np.array(points, float) * (1 + rng.normal(0, 0.01)) + rng.normal(0, 0.02, (len(points), 2))
            got = _value(shape, drawn, name, Scale("mm", "", (0.01, 0.01, 0)), 0.02)
            inside += abs(got.value - exact) <= got.expanded
        found.append(Row(f"{name} of one {shape}", float(inside), at_least=90, at_most=100, against=STATED))
    return found


def _profiles(seed: int) -> list[Row]:
    """Peaks of lines across a ridge: where they are, and how wide at half of their height."""
    space = picture_space(140, 140, (0.01, 0.01))
    i, j = np.indices((140, 140))
    world = space.to_world(np.stack((i.ravel(), j.ravel(), 0 * i.ravel()), 1))
    found: list[Row] = []
    for name, together in (("white noise", 0.0), ("noise over three pixels", 1.2)):
        held = {"place": 0, "half width": 0}
        for n in range(TIMES):
            rng = np.random.default_rng([seed, 7, n])
            turn, at, sigma = rng.uniform(0, 1.5), rng.uniform(-0.05, 0.05), rng.uniform(0.02, 0.04)
            way = np.array((math.cos(turn), math.sin(turn), 0.0))
            noise = rng.normal(0, 1, (140, 140))
            noise = gaussian_filter(noise, together) if together else noise
            values = 50 + 100 * np.exp(-((world @ way - at) ** 2) / 2 / sigma**2) + 5 * (noise / noise.std()).ravel()
            image = Image(np.asfortranarray(values.reshape(140, 140, 1).astype(np.float32)), space, "Made")
            line = Mark("line", (tuple(-0.45 * way), tuple(0.45 * way)), normal=(0.0, 0.0, 1.0))
            peaks = profile_marks(Marks.numbered([line], world=space.world), image, 0.03).peaks.as_records()
            peak = max(peaks, key=lambda one: one["height"])
            held["place"] += abs(peak["at"] - 0.45 - at) <= peak["sure_at"]
            held["half width"] += abs(peak["width"] - 2.35482 * sigma) <= peak["sure_width"]
        found += [Row(f"{what} of a peak in {name}", float(n), at_least=88, at_most=100, against=STATED)
                  for what, n in held.items()]  # fmt: skip
    return found


def _value(shape: str, points, name: str, scale: Scale, placed: float):
    mark = Mark(shape, tuple((float(x), float(y), 0.0) for x, y in points))
    return next(one for one in measured(mark, scale, placed) if one.name == name)


def _surfaces(seed: int) -> list[Row]:
    rng, worst = np.random.default_rng(seed), {}
    for radii in ((5, 5, 5), (10, 10, 10), (20, 20, 20), (50, 50, 50), (10, 7, 6), (20, 10, 10), (40, 25, 15)):
        off = []
        for _ in range(8 if max(radii) < 15 else 2):
            shift = rng.uniform(-0.5, 0.5, 3)
            shape = [2 * max(radii) + 6] * 3
            places = [n - (s - 1) / 2 + d for n, s, d in zip(np.indices(shape), shape, shift)]
            inside = sum((at / r) ** 2 for at, r in zip(places, radii)) <= 1
            off.append(surfaces(region_sums(inside.astype(np.uint16), np.array([1])), np.eye(3), None)[0])
        worst[radii] = abs(float(np.mean(off)) / _area(*radii) - 1)
    named = {" × ".join(map(str, radii)): off for radii, off in worst.items()}
    return [
        Row(f"surface of radii {n} voxels (off)", off, at_most=0.01, against="closed form") for n, off in named.items()
    ]


def _area(*radii: float) -> float:
    a, b, c = sorted(radii, reverse=True)
    if a - c < 1e-9:
        return 4 * math.pi * a * a
    turn, part = math.acos(c / a), a * a * (b * b - c * c) / (b * b * (a * a - c * c))
    sine, cosine = math.sin(turn), math.cos(turn)
    both = ellipeinc(turn, part) * sine**2 + ellipkinc(turn, part) * cosine**2
    return 2 * math.pi * (c * c + a * b / sine * both)
