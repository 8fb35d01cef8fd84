"""Volumes of a scene as a picture: what the kernel of rays needs, put together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...core.halves import in_halves
from .eye import Eye
from .rays import HIGHEST, LOWEST, MEAN, NONE, SHADES, cast, facts_of
from .rays_of_one import cast_projected, cast_shaded
from .volume import DrawnVolume

WAYS = {"shaded": SHADES, "highest": HIGHEST, "lowest": LOWEST, "mean": MEAN}


@dataclass(frozen=True)
class Quality:
    """How finely rays are cast: the length of a step, in sides of a voxel."""

    step: float = 0.7


TURNING = Quality(1.6)
FINENESS = {"quick": Quality(1.2), "usual": Quality(), "finest": Quality(0.35)}
"""Of pictures at rest, in plain words."""


class Bundle:
    """Volumes that are drawn together, as the kernel takes them; made anew when they or their looks change."""

    def __init__(self, volumes: Sequence[DrawnVolume]):
        self.volumes = list(volumes)
        flat = [one.levels.voxels.reshape(-1) for one in self.volumes]
        self.voxels = flat[0] if len(flat) == 1 else np.concatenate(flat)
        starts = np.cumsum([0, *(len(one) for one in flat)])
        seen = [one.seen().reshape(-1) for one in self.volumes]
        self.blocks = np.concatenate(seen)
        firsts = np.cumsum([0, *(len(one) for one in seen)])
        self.facts = np.stack(
            [
                facts_of(
                    np.linalg.inv(one.levels.affine),
                    one.levels.voxels.shape,
                    int(start),
                    int(first),
                    (one.look.lit, one.look.edges, one.look.glow),
                )
                for one, start, first in zip(self.volumes, starts, firsts)
            ]
        )
        self.step = min(one.levels.step for one in self.volumes)
        self.holes = any(not one.ends[..., 0].all() for one in self.volumes)
        self.way = WAYS[self.volumes[0].look.way]

    def cast(
        self,
        eye: Eye,
        quality: Quality,
        planes: np.ndarray,
        backs: np.ndarray | None = None,
        part: tuple[int, int, int, int] | None = None,
    ) -> tuple[np.ndarray, np.ndarray]:
        """Premultiplied colours with opacity, float32 (rows, columns, 4), and how far along each ray half of it is met,
        mm, float32 (rows, columns).

        Parameters
        ----------
        planes : array (n, 4)
            What is seen has n·p ≥ d for each.
        backs : float32 array (rows, columns), optional
            How far along each ray something opaque stands.
        part : (left, top, width, height), optional
            The pixels of the eye's picture that are wanted.
        """
        left, top, width, height = part or (0, 0, eye.width, eye.height)
        size = (height, width)
        colours, reached = np.empty((*size, 4), np.float32), np.empty(size, np.float32)
        if backs is None:
            backs = np.full(size, NONE, np.float32)
        steps = self.step * quality.step
        tables = np.stack([one.table(steps) for one in self.volumes])
        rays = eye.rays()
        shift = (float(left), float(top), 0.0 if eye.camera.parallel else 1.0)
        cuts = np.ascontiguousarray(planes, np.float64).reshape(-1, 4)

        if len(self.volumes) == 1 and self.way == SHADES:
            one = self.volumes[0]
            holes, soft = int(self.holes), int(quality.step < 1)

            def shade(a: int, b: int) -> None:
                cast_shaded(
                    *(one.levels.voxels, self.blocks.reshape(one.ends.shape[:3]), self.facts[0], tables[0], holes),
                    *(rays, cuts, backs, shift, steps, soft, a, b, colours, reached),
                )

            in_halves(size[0], shade, colours.size * 20)
            return colours, reached

        if len(self.volumes) == 1:
            one = self.volumes[0]

            def project(a: int, b: int) -> None:
                cast_projected(
                    *(one.levels.voxels, one.ends, self.facts[0], tables[0], self.way, rays, cuts, backs, shift, steps),
                    *(a, b, colours, reached),
                )

            in_halves(size[0], project, colours.size * 20)
            return colours, reached

        def work(a: int, b: int) -> None:
            cast(
                *(self.voxels, self.blocks, self.facts, tables, self.way, rays, cuts, backs, shift, steps),
                *(a, b, colours, reached),
            )

        in_halves(size[0], work, colours.size * 20)
        return colours, reached
