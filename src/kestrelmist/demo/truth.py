"""What is true of the animal: volumes by fine sampling, and label maps on any grid."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..core.kernel import kernel
from ..core.space import Space
from .anatomy import BRAIN, CORD, EYE, HIPPOCAMPUS, JAW, SKULL, VENTRICLE, WHITE
from .animal import Animal
from .lattice import at

TISSUES = {
    "Skull": SKULL,
    "Lower jaw": JAW,
    "Brain": BRAIN,
    "Eyes": EYE,
    "Hippocampus": HIPPOCAMPUS,
    "Ventricles": VENTRICLE,
}


def true_volume(animal: Animal, tissue: str, space: Space, finer: int = 5) -> float:
    """Volume of a tissue inside a grid's field of view, mm³.

    Voxels cut by the surface are sampled at `finer`³ points each; the others are counted whole. Skull and lower jaw
    share a few thousandths of a mm³ where they touch, which are counted in both.
    """
    start, steps = animal.frame(space.affine)
    field = animal.fields[TISSUES[tissue]]
    nk = space.shape[2]
    with ThreadPoolExecutor(2) as pool:
        parts = pool.map(
            lambda k: _volume(
                field, start, steps, np.array(space.shape), k, min(k + 16, nk), finer, max(space.spacing)
            ),
            range(0, nk, 16),
        )
        return float(sum(parts) * space.voxel_volume)


def true_labels(animal: Animal, tissues: list[str], space: Space) -> np.ndarray:
    """Label numbers 1, 2, … for the tissues, in their order, where a voxel's centre lies inside; uint16 [i, j, k]."""
    start, steps = animal.frame(space.affine)
    out = np.zeros(space.shape[::-1], np.uint16)
    fields = animal.fields[[TISSUES[t] for t in tissues]]
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda k: _labels(fields, start, steps, out, k, min(k + 16, out.shape[0])), range(0, out.shape[0], 16)
            )
        )
    return out.T


def true_shares(animal: Animal, space: Space, finer: int = 3) -> np.ndarray:
    """Shares of grey matter, white matter and fluid in every voxel, float32 [i, j, k, 3], by `finer`³ points in each.

    Fluid is that of the ventricles and of the thin space round the brain and the cord; the cord counts as grey, as
    it is scanned.
    """
    start, steps = animal.frame(space.affine)
    out = np.zeros((*space.shape[::-1], 3), np.float32)
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda k: _shares(animal.fields, start, steps, out, k, finer), range(out.shape[0])))
    return out.transpose(2, 1, 0, 3)


@kernel
def _shares(fields, start, steps, out, k, finer):
    part = 1.0 / finer**3
    for j in range(out.shape[1]):
        for i in range(out.shape[2]):
            for point in range(finer**3):
                u = i + (point % finer + 0.5) / finer - 0.5
                v = j + (point // finer % finer + 0.5) / finer - 0.5
                w = k + (point // finer**2 + 0.5) / finer - 0.5
                x = start[0] + steps[0, 0] * u + steps[0, 1] * v + steps[0, 2] * w
                y = start[1] + steps[1, 0] * u + steps[1, 1] * v + steps[1, 2] * w
                z = start[2] + steps[2, 0] * u + steps[2, 1] * v + steps[2, 2] * w
                brain, cord = at(fields[BRAIN], z, y, x), at(fields[CORD], z, y, x)
                if min(brain, cord) - 0.24 > 0.0:
                    continue
                if min(brain, cord) > 0.0 or at(fields[VENTRICLE], z, y, x) <= 0.0:
                    out[k, j, i, 2] += part
                elif brain <= 0.0 and at(fields[HIPPOCAMPUS], z, y, x) > 0.0 and at(fields[WHITE], z, y, x) <= 0.0:
                    out[k, j, i, 1] += part
                else:
                    out[k, j, i, 0] += part


@kernel
def _volume(field, start, steps, shape, first, last, finer, voxel):
    whole = 0.0
    share = 1.0 / finer**3
    reach = voxel * 1.8 + 0.05  # half a diagonal, twice, since distances are approximate away from the surface
    for k in range(first, last):
        for j in range(shape[1]):
            for i in range(shape[0]):
                x = start[0] + steps[0, 0] * i + steps[0, 1] * j + steps[0, 2] * k
                y = start[1] + steps[1, 0] * i + steps[1, 1] * j + steps[1, 2] * k
                z = start[2] + steps[2, 0] * i + steps[2, 1] * j + steps[2, 2] * k
                d = at(field, z, y, x)
                if d > reach:
                    continue
                if d < -reach:
                    whole += 1.0
                    continue
                for c in range(finer):
                    w = k + (c + 0.5) / finer - 0.5
                    for b in range(finer):
                        v = j + (b + 0.5) / finer - 0.5
                        for a in range(finer):
                            u = i + (a + 0.5) / finer - 0.5
                            x = start[0] + steps[0, 0] * u + steps[0, 1] * v + steps[0, 2] * w
                            y = start[1] + steps[1, 0] * u + steps[1, 1] * v + steps[1, 2] * w
                            z = start[2] + steps[2, 0] * u + steps[2, 1] * v + steps[2, 2] * w
                            if at(field, z, y, x) <= 0.0:
                                whole += share
    return whole


@kernel
def _labels(fields, start, steps, out, first, last):
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = start[0] + steps[0, 0] * i + steps[0, 1] * j + steps[0, 2] * k
                y = start[1] + steps[1, 0] * i + steps[1, 1] * j + steps[1, 2] * k
                z = start[2] + steps[2, 0] * i + steps[2, 1] * j + steps[2, 2] * k
                for n in range(fields.shape[0]):
                    if at(fields[n], z, y, x) <= 0.0:
                        out[k, j, i] = n + 1
