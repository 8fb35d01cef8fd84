"""A classifier: what a random forest has learnt of an image, and what it has to be given."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from .names import plain_name


@dataclass(frozen=True)
class Trees:
    """The trees of a forest, one after another.

    `roots` (int32) are the first nodes of the trees. A node asks whether feature `feature` is at most `threshold`
    (float32) and goes on to `left` or `right`; where `feature` is −1 it ends, and `shares` (float32 [node, class]) are
    what it says.
    """

    roots: np.ndarray
    feature: np.ndarray
    threshold: np.ndarray
    left: np.ndarray
    right: np.ndarray
    shares: np.ndarray

    @cached_property
    def packed(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The same for kernels that go down all levels without asking whether they have ended. A node is four numbers
        (uint32) in a row: its feature (0 in a leaf), its threshold as an `ordered` number, and where in the row its two
        children begin, of a leaf itself. And where each tree begins, and how deep it is."""
        leaf = self.feature < 0
        own = np.arange(self.feature.size)
        onwards = np.stack((np.where(leaf, own, self.left), np.where(leaf, own, self.right)), 1)
        nodes = np.stack((np.where(leaf, 0, self.feature), ordered(self.threshold), *(4 * onwards.T)), 1)
        ends = np.append(self.roots[1:], self.feature.size)
        depth = np.zeros(self.feature.size, np.uint32)
        for node in np.flatnonzero(~leaf):  # children stand behind their parents
            depth[onwards[node]] = depth[node] + 1
        depths = np.array([depth[a:b].max(initial=0) for a, b in zip(self.roots, ends)], np.int64)
        return nodes.astype(np.uint32).ravel(), (4 * self.roots).astype(np.uint32), depths


def ordered(values: np.ndarray) -> np.ndarray:
    """Whole numbers (uint32) in the order of float32 values, so that they lie in one table with whole numbers."""
    bits = np.ascontiguousarray(values, np.float32).view(np.uint32)
    return np.where(bits >> 31, ~bits, bits | np.uint32(0x80000000))


@dataclass(frozen=True)
class Learnt:
    """What a classifier was taught with.

    Parameters
    ----------
    classes : tuple of (number, name, colour)
        In the order of the forest's shares.
    channels : tuple of str
        Names of the channels it looks at; ("",) for an image of one.
    scales : tuple of float
        Standard deviations of its Gaussians, in `unit`.
    unit : str
        "mm" or "px".
    flat : bool
        Whether it looks at slices one by one.
    position : bool
        Whether the place counts, in shares of the image's extent.
    spread : bool
        Whether values are counted from the 1st percentile of an image (0) to its 99th (1).
    """

    classes: tuple[tuple[int, str, str], ...]
    channels: tuple[str, ...]
    scales: tuple[float, ...]
    unit: str = "mm"
    flat: bool = True
    position: bool = False
    spread: bool = False

    @property
    def features(self) -> int:
        """How many numbers a voxel is told by."""
        return len(self.channels) * len(self.scales) * (4 if self.flat else 5) + 3 * self.position

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, facts: dict[str, Any]) -> Learnt:
        """Read back from `as_dict`; raises KeyError, TypeError or ValueError when it is none."""
        classes = tuple((int(n), str(name), str(colour)) for n, name, colour in facts["classes"])
        scales = tuple(float(s) for s in facts["scales"])
        if not scales or not all(np.isfinite(s) and s > 0 for s in scales) or not classes:
            raise ValueError("no scales or classes")
        flags = {name: bool(facts[name]) for name in ("flat", "position", "spread")}
        return cls(classes, tuple(map(str, facts["channels"])), scales, str(facts["unit"]), **flags)


@dataclass(frozen=True, eq=False)
class Classifier:
    """A forest that tells what each voxel of an image is.

    Parameters
    ----------
    learnt : Learnt
    model : sklearn.ensemble.RandomForestClassifier
        Whose classes are 0, 1, 2 … in the order of `learnt.classes`.
    name, subject : str
    notes : dict
        How it was taught: from which images, with how many voxels of each class.
    """

    learnt: Learnt
    model: Any
    name: str = "Classifier"
    subject: str = ""
    notes: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self):
        object.__setattr__(self, "name", plain_name(self.name) or "Classifier")
        object.__setattr__(self, "subject", plain_name(self.subject))

    @cached_property
    def trees(self) -> Trees:
        """The forest as arrays, for kernels."""
        roots, parts, at = [], [], 0
        for one in self.model.estimators_:
            tree = one.tree_
            leaf = tree.children_left < 0
            shares = tree.value[:, 0, :]
            shares = shares / np.maximum(shares.sum(1, keepdims=True), 1e-30)
            parts.append(
                (
                    np.where(leaf, -1, tree.feature),
                    tree.threshold,
                    np.where(leaf, 0, tree.children_left + at),
                    np.where(leaf, 0, tree.children_right + at),
                    shares,
                )
            )
            roots.append(at)
            at += tree.node_count
        feature, threshold, left, right, shares = (np.concatenate(p) for p in zip(*parts))
        # thresholds lie between float32 values: rounded down, the same values are at most as large
        below = threshold.astype(np.float32)
        below = np.where(below > threshold, np.nextafter(below, np.float32(-np.inf)), below)
        whole = (feature.astype(np.int32), below.astype(np.float32), left.astype(np.int32), right.astype(np.int32))
        return Trees(np.array(roots, np.int32), *whole, np.ascontiguousarray(shares, np.float32))

    def content_hash(self) -> str:
        """SHA-256 of what it has learnt."""
        digest = hashlib.sha256(json.dumps(self.learnt.as_dict(), sort_keys=True).encode())
        trees = self.trees
        for array in (trees.roots, trees.feature, trees.threshold, trees.left, trees.right, trees.shares):
            digest.update(np.ascontiguousarray(array).tobytes())
        return digest.hexdigest()
