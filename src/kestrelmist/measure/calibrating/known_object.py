"""The size in pixels of a disc, a ball that X-rays go through, or a square: a model is fitted to the pixels themselves.

Each is blurred by a Gaussian, which is fitted too. A ball weakens rays by the way they go through it, 2 √(R² − r²);
a disc and a square do so evenly. Uncertainties are those of least squares, larger where residuals of neighbouring
pixels go together.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ...core.errors import Trouble
from .plane import PixelPlane
from .residuals import gone_together

KnownShape = Literal["disc", "ball", "square"]
RAYS = 120
AROUND = 1.6
"""How much further than it reaches a thing is looked at."""
FINEST = 160
"""Pixels along a side that a model is fitted to at most; larger pictures of it are made coarser."""
NOT_FOUND = "No {} was found there"


@dataclass(frozen=True)
class ObjectRead:
    """What was found.

    Parameters
    ----------
    middle : array (2,)
        Columns and rows.
    right, down : pixels
        Diameter or side, along columns and rows; of a square both are the side as it lies.
    sure_right, sure_down : pixels
        Their standard uncertainties.
    blur : pixels
        Standard deviation of the Gaussian that blurs it.
    turned : radians
        Of a square, its first side off the columns.
    fits : number
        Share of the variance that the model tells.
    """

    middle: np.ndarray
    right: float
    down: float
    sure_right: float
    sure_down: float
    blur: float
    turned: float
    fits: float


def read_object(plane: PixelPlane, place, shape: KnownShape, apart: bool = False) -> ObjectRead:
    """Fit a thing of known shape that lies round a place.

    Parameters
    ----------
    place : (2,)
        Columns and rows within it.
    apart : bool
        Fit its extents along columns and rows apart.

    Raises
    ------
    Trouble
        When nothing stands out there, or what does so is of another shape.
    """
    middle, radius = _first_guess(plane, np.asarray(place, float), shape)
    low, high = np.floor(middle - AROUND * radius - 3), np.ceil(middle + AROUND * radius + 4)
    values, u0, v0 = plane.values(low, high)
    coarse = max(1, math.ceil(max(values.shape) / FINEST))
    rows, columns = (n // coarse for n in values.shape)
    small = values[: rows * coarse, : columns * coarse].reshape(rows, coarse, columns, coarse).mean((1, 3))
    at = (middle - (u0, v0) - (coarse - 1) / 2) / coarse
    start, found, sure, fits = _fit(small, at, radius / coarse, shape, plane.aspect, apart)
    if fits < 0.6 or not np.isfinite(sure[:4]).all():
        raise Trouble(NOT_FOUND.format(shape), "click inside one that stands out from what is round it")
    right, down, sure_right, sure_down = (float(2 * coarse * n) for n in (*found[2:4], *sure[2:4]))
    return ObjectRead(
        (found[:2] + start) * coarse + (coarse - 1) / 2 + (u0, v0),
        right,
        down,
        sure_right,
        sure_down,
        blur=coarse * math.exp(found[6]),
        turned=float(found[7]),
        fits=fits,
    )


def _first_guess(plane: PixelPlane, place: np.ndarray, shape: str) -> tuple[np.ndarray, float]:
    """Middle and radius by the strongest edges along rays, twice."""
    from scipy.ndimage import gaussian_filter, gaussian_filter1d, map_coordinates

    columns, rows = plane.size
    reach = min(max(columns, rows) / 2, 1500.0)
    low, high = place - reach, place + reach
    values, u0, v0 = plane.values(np.floor(low), np.ceil(high) + 1)
    if min(values.shape) < 8:
        raise Trouble(NOT_FOUND.format(shape), "click inside one that lies whole in the picture")
    known = np.isfinite(values)
    if not known.any():
        raise Trouble(NOT_FOUND.format(shape), "choose a picture that has values there")
    values = np.where(known, values, np.median(values[known]))
    coarse = max(1, int(reach / 200))
    smooth = gaussian_filter(values, 1.0 + coarse / 2)
    middle, radius = place, 0.0
    for turn in range(3):
        far = reach if turn == 0 else 1.8 * radius
        steps = np.arange(1.0, far, max(0.5, coarse / 2))
        if len(steps) < 6:
            break
        angles = np.arange(RAYS) * 2 * np.pi / RAYS
        rays = np.stack((np.cos(angles), np.sin(angles)), 1)
        at = middle + rays[:, None] * steps[None, :, None]
        inside = ((at >= 0) & (at <= (columns - 1, rows - 1))).all(-1)
        seen = map_coordinates(smooth, (at[..., 1] - v0, at[..., 0] - u0), order=1, mode="nearest")
        rise = gaussian_filter1d(seen, 2, axis=1, order=1) * inside
        # one way for all rays: what stands out is brighter or darker all round
        sign = 1 if np.median(rise.max(1)) > np.median(-rise.min(1)) else -1
        best = (sign * rise).argmax(1)
        far_out = steps[best]
        edges = middle + rays * far_out[:, None]
        middle = np.median((edges[: RAYS // 2] + edges[RAYS // 2 :]) / 2, 0)
        radius = float(np.median(np.hypot(*(edges - middle).T)))
    if radius < 2:
        raise Trouble(NOT_FOUND.format(shape), "click inside one that is at least five pixels wide")
    return middle, radius


def _fit(values, at, radius: float, shape: str, aspect: float, apart: bool):
    """Least squares of a shape: offset, the eight values found, their standard uncertainties, and how well it fits."""
    from scipy.optimize import least_squares

    v, u = np.indices(values.shape).astype(float)
    known = np.isfinite(values)
    near = known & (np.hypot(u - at[0], (v - at[1])) <= AROUND * radius + 2)
    inner = values[near & (np.hypot(u - at[0], v - at[1]) < 0.6 * radius)]
    outer = values[near & (np.hypot(u - at[0], v - at[1]) > 1.3 * radius)]
    if inner.size < 4 or outer.size < 4:
        raise Trouble(NOT_FOUND.format(shape), "click inside one that lies whole in the picture")
    ground, height = float(np.median(outer)), float(np.median(inner)) - float(np.median(outer))
    scale = abs(height) or 1.0
    target = (values[near] - ground) / scale
    du, dv = u[near] - at[0], v[near] - at[1]

    def model(p):
        x, y, right, down, tall, base, blur, turn, tilt_u, tilt_v = p
        down = down if apart else right / aspect
        drawn = _drawn(shape, du - x, dv - y, right, down, math.exp(blur), turn, aspect)
        return tall * drawn + base + (tilt_u * du + tilt_v * dv) / radius

    free = [0, 1, 2, 4, 5, 6, 8, 9] + ([3] if apart else []) + ([7] if shape == "square" else [])
    free = sorted(free)
    best = None
    for turn in (0.0, 0.4, 0.8, 1.2) if shape == "square" else (0.0,):
        begin = np.array([0, 0, radius, radius / aspect, height / scale, 0, math.log(0.8), turn, 0, 0], float)

        def residual(q, begin=begin):
            p = begin.copy()
            p[free] = q
            return model(p) - target

        low = np.array([-radius, -radius, 0.3 * radius, 0.3 * radius / aspect, -9, -9, math.log(0.2), -9, -9, -9])
        high = np.array([radius, radius, 2 * radius, 2 * radius / aspect, 9, 9, math.log(radius), 9, 9, 9])
        found = least_squares(residual, begin[free], bounds=(low[free], high[free]), x_scale="jac", max_nfev=60)
        if best is None or found.cost < best[0].cost:
            best = found, begin
    assert best is not None
    found, begin = best
    values_found = begin.copy()
    values_found[free] = found.x
    if not apart:
        values_found[3] = values_found[2] / aspect
    freedom = max(1, found.fun.size - len(free))
    noise = float(found.fun @ found.fun) / freedom
    left = np.zeros(values.shape)
    left[near] = found.fun
    try:
        covariance = np.linalg.inv(found.jac.T @ found.jac) * noise * gone_together(left, near)
    except np.linalg.LinAlgError:
        covariance = np.full((len(free),) * 2, np.nan)
    sure = np.zeros(10)
    sure[free] = np.sqrt(np.abs(np.diag(covariance)))
    if not apart:
        sure[3] = sure[2] / aspect
    fits = 1 - noise / max(float(target.var()), 1e-30)
    return at, values_found, sure, fits


def _drawn(shape: str, x, y, right: float, down: float, blur: float, turn: float, aspect: float):
    """A shape of height 1 with a half extent along columns and rows, blurred."""
    from scipy.special import ndtr

    if shape == "square":
        a, b = x, y * aspect  # as long down as across
        along, beside = a * math.cos(turn) + b * math.sin(turn), -a * math.sin(turn) + b * math.cos(turn)
        high = down * aspect
        one = ndtr((along + right) / blur) - ndtr((along - right) / blur)
        return one * (ndtr((beside + high) / blur) - ndtr((beside - high) / blur))
    mean = math.sqrt(right * down)
    away = np.hypot(x / right, y / down) * mean
    if shape == "disc":
        return ndtr((mean - away) / blur - blur / (2 * mean))
    return _ball(away / mean, blur / mean)


def _ball(away: np.ndarray, blur: float) -> np.ndarray:
    """Ways through a ball of radius 1, its middle 1, blurred: the integral over rings (the kernel of a ring under a
    Gaussian is that of Rice)."""
    from scipy.interpolate import CubicSpline
    from scipy.special import ive

    count = int(min(2000, max(150, 5 / blur)))
    turn = (np.arange(count) + 0.5) * (np.pi / 2 / count)
    ring = np.sin(turn)
    weights = np.cos(turn) ** 2 * ring * (np.pi / 2 / count) / blur**2
    rim = 1 + np.linspace(-1, 1, 161) ** 3 * min(1.0, 8 * blur)  # finer where it changes fast
    at = np.union1d(np.linspace(0, 1.0 + 8 * blur, 80), rim)
    kernel = np.exp(-((at[:, None] - ring) ** 2) / (2 * blur**2)) * ive(0, at[:, None] * ring / blur**2)
    return CubicSpline(at, kernel @ weights)(np.minimum(away, at[-1]))
