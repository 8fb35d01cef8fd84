"""Tissues of whole heads: people's, animals', means of many, by coils of many kinds."""

from __future__ import annotations

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.scans import head_mr_space, scan_mr
from kestrelmist.demo.truth import true_shares
from kestrelmist.prepare.tissue.brain import take_out_brain
from kestrelmist.prepare.tissue.tissues import split_tissues
from tests.test_tissues import Onion

from .heads import Head, folded_head, plain_mixture
from .row import Row

NAMES = {1: "grey", 2: "white"}


def rows(seed: int) -> list[Row]:
    found: list[Row] = []
    for n in (seed, seed + 10):
        head = folded_head(n).averaged()
        found += _of(f"mean of many heads ({n})", head, head.scan(n, noise=0.004, uneven=0.03), 0.95, 0.85, 0.02)
    head = folded_head(seed + 1, 32)
    for name, how, than_plain in (
        ("even", {"uneven": 0.0}, -0.01),
        ("noise of 3 of 100", {"noise": 0.03}, 0.0),
        ("noise of 6 of 100", {"noise": 0.06}, -0.01),
        ("a coil on one side", {"coil": True}, 0.1),
        ("little contrast", {"means": (0.4, 0.8, 1.0)}, 0.0),
    ):
        least = 0.93 if name == "little contrast" or "6" in name else 0.96
        found += _of(name, head, head.scan(seed + 1, **how), least, least - 0.05, than_plain)
    for n, (name, how) in enumerate(
        (
            ("small and smooth", {"radius": 20, "thick": 4, "fold": 0}),
            ("thick cortex", {"radius": 30, "thick": 3.6}),
            ("thin cortex", {"radius": 30, "thick": 1.8}),
            ("deep furrows", {"radius": 34, "fold": 11}),
        )
    ):
        head = folded_head(seed + 2 + n, **how)
        found += _of(name, head, head.scan(seed + 2), 0.93, 0.88, -0.01)
    return found + _of_any_size() + _of_an_animal(seed + 30)


def dice(a: np.ndarray, b: np.ndarray) -> float:
    return 2 * np.count_nonzero(a & b) / (np.count_nonzero(a) + np.count_nonzero(b))


def _of(name: str, head: Head, image: Image, white: float, grey: float, than_plain: float) -> list[Row]:
    """A head whose shares are known; no worse than a plain mixture of three classes in the same mask, and far better
    where the brightness is uneven."""
    made = split_tissues(image, head.mask)
    shares = np.stack([made.fluid.data, made.grey.data, made.white.data])
    found, true = shares.argmax(0)[head.inside], head.shares.argmax(0)[head.inside]
    plain = plain_mixture(image.data[head.inside])
    volume = float(shares[2][head.inside].sum() / head.shares[2][head.inside].sum())
    rows = [Row(f"{name}: volume of white matter", volume, 0.94, 1.06, "of the true", "shares of its voxels")]
    for n, least in ((1, grey), (2, white)):
        reached, before = dice(found == n, true == n), dice(plain == n, true == n)
        rows.append(
            Row(f"{name}: {NAMES[n]} matter", reached, max(least, before + than_plain), against="true voxels (overlap)")
        )
    return rows


def _of_any_size() -> list[Row]:
    volumes = []
    for scale, step in ((1.0, 1.0), (1e-5, 1e3), (1e6, 1e-6)):
        onion = Onion(step=step)
        made = split_tissues(onion.image(0.3, 0.7, 1.0, 1000 * scale), onion.mask())
        volumes.append(float(made.white.data.sum()))
    worst = max(abs(v / volumes[0] - 1) for v in volumes)
    return [Row("white matter at values and voxels of any size", worst, at_most=0.01, against="that at 1000 and 1 mm")]


def _of_an_animal(seed: int) -> list[Row]:
    animal, space = make_animal(f"HM-{seed}", seed), head_mr_space()
    image = Image(scan_mr(animal, space), space, "T1", animal.name)
    shares, mask = true_shares(animal, space), LabelMap(space)
    take_out_brain(image, mask).apply(mask)
    brain = mask.data > 0
    made = split_tissues(image, mask)
    found = np.stack([made.grey.data, made.white.data], -1)
    most = np.argmax(np.concatenate([found, made.fluid.data[..., None]], -1), -1)
    rows = []
    for n, name in enumerate(("grey", "white")):
        true = brain & (shares[..., n] > 0.5)
        limits = range(200, 1100, 20)
        best = max(max(dice(brain & (image.data > t), true), dice(brain & (image.data < t), true)) for t in limits)
        reached = dice(brain & (most == n), true)
        volume = np.count_nonzero(most[brain] == n) / shares[..., n][brain].sum()
        alike = float(np.corrcoef(found[..., n][brain], shares[..., n][brain])[0, 1])
        rows += [
            Row(
                f"{name} matter of {animal.name}", reached, best + (0.03 if n else 0.005), against="the best threshold"
            ),
            Row(f"its volume of {name} matter", float(volume), 0.9, 1.1, "of the true", "its shares"),
            Row(f"its shares of {name} matter", alike, 0.85, against="the true ones (correlation)"),
        ]
    return rows
