"""Made-up heads with folded cortex, thin noise and voxels of 1 mm, with the shares of every tissue known."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from tests.making import straight_space


def soft(rng, shape, width: float) -> np.ndarray:
    """Smooth noise of standard deviation 1."""
    coarse = ndimage.gaussian_filter(rng.standard_normal([int(3 * n / width) + 8 for n in shape]), 3)
    fine = ndimage.zoom(coarse, [n / m for n, m in zip(shape, coarse.shape)], order=1)
    return fine / fine.std()


@dataclass
class Head:
    """Shares (3, i, j, k) of fluid, grey and white matter, and of deep grey matter, which is a little brighter."""

    shares: np.ndarray
    deep: np.ndarray
    inside: np.ndarray

    @property
    def mask(self) -> LabelMap:
        labels = LabelMap(straight_space(self.inside.shape, 1.0), table=LabelTable().with_new("Brain")[0])
        labels.data[self.inside] = 1
        labels.recount()
        return labels

    def averaged(self, inner: float = 0.7, outer: float = 1.6, rim: float = 12.0) -> Head:
        """As the mean of many heads that were brought together, which fit worse the nearer to the surface."""
        depth = np.clip(ndimage.distance_transform_edt(self.inside) / rim, 0, 1)

        def both(values):
            return depth * ndimage.gaussian_filter(values, inner) + (1 - depth) * ndimage.gaussian_filter(values, outer)

        return replace(self, shares=np.stack([both(s) for s in self.shares]), deep=both(self.deep))

    def scan(self, seed: int, means=(0.25, 0.68, 1.0), noise: float = 0.02, uneven: float = 0.1, coil=False) -> Image:
        """Seen by a scanner, brightness of white matter 1000."""
        rng, shape = np.random.default_rng(seed), self.inside.shape
        values = np.tensordot(means, self.shares, 1) + self.deep * 0.45 * (means[2] - means[1])
        values *= 1 + 0.02 * soft(rng, shape, 12) * (self.shares[1] + self.shares[2])
        x, y, z = np.meshgrid(*(np.linspace(-1, 1, n) for n in shape), indexing="ij", sparse=True)
        values *= 0.6 + 0.9 * np.exp(-1.2 * ((z - 1) ** 2 + 0.6 * x**2)) if coil else 1 + uneven * (x - 0.6 * y * y)
        values += noise * rng.standard_normal(shape)
        return Image(np.asfortranarray(1000 * values, np.float32), straight_space(shape, 1.0), "Head", "T-1")


def folded_head(seed: int, radius: float = 38, thick: float = 2.4, fold: float = 7, wide: float = 6) -> Head:
    """A head whose cortex, so thick (mm), goes down into furrows of so many millimetres, so far apart."""
    rng, finer = np.random.default_rng(seed), 2
    shape = tuple(int(2 * (radius + 3) * s) for s in (0.82, 1, 0.8))
    fine = tuple(finer * n for n in shape)
    x, y, z = np.meshgrid(*((np.arange(n) - (n - 1) / 2) / finer for n in fine), indexing="ij", sparse=True)
    away = np.sqrt((x / 0.8) ** 2 + y**2 + (z / 0.78) ** 2)
    furrows = (np.abs(soft(rng, fine, wide * finer)) < 0.12) & (away > radius - 2 - 3 * fold) & (fold > 0)
    solid = (away < radius - 2) & ~furrows
    depth = ndimage.distance_transform_edt(solid) / finer
    kinds = np.where(solid, np.where(depth > thick * (1 + 0.15 * soft(rng, fine, 8 * finer)), 2, 1), 0)
    kinds[(np.abs(x) < 0.1 * radius) & (np.abs(y) < 0.3 * radius) & (np.abs(z) < 0.12 * radius)] = 0
    deep = np.zeros(fine, bool)
    for side in (-1, 1):
        deep |= ((x / radius - 0.22 * side) / 0.1) ** 2 + (y / radius / 0.2) ** 2 + (z / radius / 0.13) ** 2 < 1
    deep &= solid
    kinds[deep] = 1

    def coarse(values):
        return values.reshape(shape[0], finer, shape[1], finer, shape[2], finer).mean((1, 3, 5))

    shares = np.stack([coarse(kinds == n) for n in range(3)])
    return Head(shares, coarse(deep), coarse(away < radius) > 0.5)


def plain_mixture(values: np.ndarray) -> np.ndarray:
    """Which of three normal distributions, fitted by expectation and maximisation, every value most likely is of."""
    counts, edges = np.histogram(values, 600, np.percentile(values, (0.1, 99.9)))
    middles = (edges[1:] + edges[:-1]) / 2
    means, spreads, shares = np.percentile(values, (10, 50, 90)), np.full(3, values.std() / 3), np.full(3, 1 / 3)

    def likely(of):
        return shares * np.exp(-0.5 * ((of[:, None] - means) / spreads) ** 2) / spreads

    for _ in range(300):
        found = likely(middles)
        found *= (counts / (found.sum(1) + 1e-300))[:, None]
        total = found.sum(0)
        means = middles @ found / total
        spreads = np.sqrt((found * (middles[:, None] - means) ** 2).sum(0) / total)
        shares = total / total.sum()
    return np.argsort(np.argsort(means))[likely(values.astype(float)).argmax(1)]
