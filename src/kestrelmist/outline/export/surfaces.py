"""Surfaces of labels as STL, OBJ, PLY and glTF (binary), in the world's millimetres."""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.label_boxes import boxes_of, wider
from ...core.labels import LabelMap
from ...core.progress import Progress
from ...core.safe_write import written_whole

EVEN = 0.8
"""Standard deviation of the blur that takes stairs away, in steps of the coarsest axis."""


@dataclass(frozen=True)
class Surface:
    """Corners (n, 3) in the world, triangles (m, 3) with the outside seen anticlockwise, name and colour."""

    corners: np.ndarray
    triangles: np.ndarray
    name: str
    colour: tuple[int, int, int]


def surfaces_of(labels: LabelMap, progress: Progress) -> list[Surface]:
    """The surface of each label that is drawn (marching cubes: T. Lewiner et al., J. Graphics Tools 8, 2003), of the
    label blurred by less than a step of the grid's coarsest axis, so that thick slices make no stairs."""
    from scipy import ndimage
    from skimage.measure import marching_cubes

    boxes, found = boxes_of(labels.kji), []
    coarse = max(labels.space.spacing)
    sigma = [EVEN * (coarse / s) if coarse > 1.5 * s else 0.5 for s in labels.space.spacing[::-1]]
    rows = [row for row in labels.table if labels.counts[row.number]]
    for row in progress.over(rows, what="Making surfaces"):
        box = wider(boxes[row.number], (3, 3, 3), labels.kji.shape)
        mask = np.pad(labels.kji[box] == row.number, 3).astype(np.float32)
        soft = ndimage.gaussian_filter(mask, sigma)
        corners, triangles, _, _ = marching_cubes(soft, _level(soft, int(mask.sum())))
        at = corners - 3 + [s.start for s in box]
        world = labels.space.to_world(at[:, ::-1])
        if _turned_in(world, triangles):
            triangles = triangles[:, ::-1]
        red, green, blue = (int(row.colour[n : n + 2], 16) for n in (1, 3, 5))
        found.append(Surface(world.astype(np.float32), triangles.astype(np.int32), row.name, (red, green, blue)))
    return found


def _level(soft: np.ndarray, count: int) -> float:
    """The level above which as many voxels lie as before, so that the volume stays."""
    flat = soft[soft > 1e-4]
    at = min(count, flat.size - 1)
    around = np.partition(flat, (flat.size - at - 1, min(flat.size - at, flat.size - 1)))
    level = float(around[flat.size - at - 1] + around[min(flat.size - at, flat.size - 1)]) / 2
    return min(max(level, 1e-3), 0.999 * float(soft.max()))


def _turned_in(corners: np.ndarray, triangles: np.ndarray) -> bool:
    """Whether triangles look inwards: the volume that they enclose comes out negative."""
    a, b, c = (corners[triangles[:, n]] - corners.mean(0) for n in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum()) < 0


def write_surfaces(to: Path, several: Sequence[Surface]) -> None:
    """Write surfaces in the format that the name ends in."""
    writers = {".stl": _stl, ".obj": _obj, ".ply": _ply, ".glb": _glb}
    with written_whole(to) as stream:
        stream.write(writers[to.suffix.lower()](several))


def _stl(several: Sequence[Surface]) -> bytes:
    parts = [b"surfaces in mm".ljust(80), struct.pack("<I", sum(len(s.triangles) for s in several))]
    kind = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
    for s in several:
        rows = np.zeros(len(s.triangles), kind)
        rows["corners"] = s.corners[s.triangles]
        across = np.cross(rows["corners"][:, 1] - rows["corners"][:, 0], rows["corners"][:, 2] - rows["corners"][:, 0])
        rows["normal"] = across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-30)
        parts.append(rows.tobytes())
    return b"".join(parts)


def _obj(several: Sequence[Surface]) -> bytes:
    lines, first = ["# mm"], 1
    for s in several:
        lines.append(f"o {' '.join(s.name.split()) or 'label'}")
        lines += [f"v {x:.6g} {y:.6g} {z:.6g}" for x, y, z in s.corners.tolist()]
        lines += [f"f {a + first} {b + first} {c + first}" for a, b, c in s.triangles.tolist()]
        first += len(s.corners)
    return ("\n".join(lines) + "\n").encode()


def _ply(several: Sequence[Surface]) -> bytes:
    corners = sum(len(s.corners) for s in several)
    faces = sum(len(s.triangles) for s in several)
    head = (
        "ply\nformat binary_little_endian 1.0\ncomment mm\n"
        f"element vertex {corners}\nproperty float x\nproperty float y\nproperty float z\n"
        "property uchar red\nproperty uchar green\nproperty uchar blue\n"
        f"element face {faces}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    points, triangles, first = [], [], 0
    for s in several:
        rows = np.zeros(len(s.corners), np.dtype([("at", "<f4", 3), ("colour", "u1", 3)]))
        rows["at"], rows["colour"] = s.corners, s.colour
        points.append(rows.tobytes())
        sides = np.zeros(len(s.triangles), np.dtype([("count", "u1"), ("of", "<i4", 3)]))
        sides["count"], sides["of"] = 3, s.triangles + first
        triangles.append(sides.tobytes())
        first += len(s.corners)
    return head.encode() + b"".join(points) + b"".join(triangles)


def _glb(several: Sequence[Surface]) -> bytes:
    """glTF 2.0, whose unit is the metre and whose y points up: a node turns and scales what is in mm, z up."""
    blob, views, accessors, meshes, materials, nodes = bytearray(), [], [], [], [], []
    for n, s in enumerate(several):
        for values, target in ((s.corners.astype("<f4"), 34962), (s.triangles.astype("<u4").ravel(), 34963)):
            views.append({"buffer": 0, "byteOffset": len(blob), "byteLength": values.nbytes, "target": target})
            blob += values.tobytes()
        low, high = (end.astype(float).tolist() for end in (s.corners.min(0), s.corners.max(0)))
        accessors.append(
            {
                "bufferView": 2 * n,
                "componentType": 5126,
                "count": len(s.corners),
                "type": "VEC3",
                "min": low,
                "max": high,
            }
        )
        accessors.append({"bufferView": 2 * n + 1, "componentType": 5125, "count": s.triangles.size, "type": "SCALAR"})
        materials.append(
            {
                "name": s.name,
                "pbrMetallicRoughness": {"baseColorFactor": [*(c / 255 for c in s.colour), 1.0], "metallicFactor": 0.0},
            }
        )
        primitive = {"attributes": {"POSITION": 2 * n}, "indices": 2 * n + 1, "material": n}
        meshes.append({"name": s.name, "primitives": [primitive]})
        nodes.append({"name": s.name, "mesh": n})
    turn = [0.001, 0, 0, 0, 0, 0, -0.001, 0, 0, 0.001, 0, 0, 0, 0, 0, 1]
    nodes.append({"name": "mm, z up", "children": list(range(len(several))), "matrix": turn})
    whole = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [len(several)]}],
        "nodes": nodes,
        "meshes": meshes,
        "materials": materials,
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": len(blob)}],
    }
    text = json.dumps(whole).encode()
    text += b" " * (-len(text) % 4)
    blob += b"\0" * (-len(blob) % 4)
    size = 12 + 8 + len(text) + 8 + len(blob)
    parts = [struct.pack("<4sII", b"glTF", 2, size), struct.pack("<I4s", len(text), b"JSON"), text]
    return b"".join([*parts, struct.pack("<I4s", len(blob), b"BIN\0"), bytes(blob)])
