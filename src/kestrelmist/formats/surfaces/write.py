"""Surfaces written as STL, OBJ, PLY and binary glTF."""

from __future__ import annotations

import json
import struct

import numpy as np

from ...core.surface.smoothing import across
from ...core.surface.surface import Surfaces
from .told import lines, offsets, one_line, rgb

Y_UP = ((1, 0, 0), (0, 0, 1), (0, -1, 0))
"""Right, front, up as glTF has them: x right, y up, z towards who looks."""


def stl(several: Surfaces) -> bytes:
    """Binary STL, which has triangles alone: parts and colours are not told in it."""
    # a header that begins with “solid” would be taken for one of text
    head = "; ".join(["surfaces", *lines(several.unit)]).encode()[:80].ljust(80)
    parts = [head, struct.pack("<I", several.triangles)]
    kind = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
    for one in several.parts:
        rows = np.zeros(len(one.triangles), kind)
        rows["corners"] = one.corners[one.triangles]
        normals = across(one.corners, one.triangles)
        rows["normal"] = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
        parts.append(rows.tobytes())
    return b"".join(parts)


def obj(several: Surfaces) -> bytes:
    """OBJ, an object a part; colours behind the corners, as many programs read them."""
    rows = [f"# {line}" for line in lines(several.unit)]
    for one, first in offsets(several.parts):
        red, green, blue = (f"{v / 255:.4g}" for v in rgb(one.colour))
        rows.append(f"o {one_line(one.name)}")
        rows += [f"v {x:.9g} {y:.9g} {z:.9g} {red} {green} {blue}" for x, y, z in one.corners.tolist()]
        rows += [f"f {a} {b} {c}" for a, b, c in (one.triangles + first + 1).tolist()]
    return ("\n".join(rows) + "\n").encode()


def ply(several: Surfaces) -> bytes:
    """Binary PLY; which part a corner is of stands in its colour, and the parts' names in comments."""
    corners = sum(len(one.corners) for one in several.parts)
    comments = [f"comment {line}\n" for line in lines(several.unit)]
    comments += [
        f"comment part {first} {len(one.corners)} {one_line(one.name)}\n" for one, first in offsets(several.parts)
    ]
    head = (
        f"ply\nformat binary_little_endian 1.0\n{''.join(comments)}"
        f"element vertex {corners}\nproperty double x\nproperty double y\nproperty double z\n"
        "property uchar red\nproperty uchar green\nproperty uchar blue\n"
        f"element face {several.triangles}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    points, sides = [], []
    for one, first in offsets(several.parts):
        rows = np.zeros(len(one.corners), np.dtype([("at", "<f8", 3), ("colour", "u1", 3)]))
        rows["at"], rows["colour"] = one.corners, rgb(one.colour)
        points.append(rows.tobytes())
        faces = np.zeros(len(one.triangles), np.dtype([("count", "u1"), ("of", "<i4", 3)]))
        faces["count"], faces["of"] = 3, one.triangles + first
        sides.append(faces.tobytes())
    return head.encode() + b"".join(points) + b"".join(sides)


def glb(several: Surfaces) -> bytes:
    """Binary glTF 2.0, whose unit is the metre and whose y points up. Positions are told from the middle of all, whose
    place a node gives: they are single numbers, and a small thing may lie far from the origin."""
    low, high = several.ends
    middle = (low + high) / 2
    scale = 1e-3 if several.unit == "mm" else 1.0
    turned = np.array(Y_UP, float)
    blob, views, accessors, meshes, materials, nodes = bytearray(), [], [], [], [], []
    for n, one in enumerate(several.parts):
        places = ((one.corners - middle) @ turned.T * scale).astype("<f4")
        for values, target in ((places, 34962), (one.triangles.astype("<u4").ravel(), 34963)):
            views.append({"buffer": 0, "byteOffset": len(blob), "byteLength": values.nbytes, "target": target})
            blob += values.tobytes()
        ends = {"min": places.min(0).tolist(), "max": places.max(0).tolist()}
        accessors.append({"bufferView": 2 * n, "componentType": 5126, "count": len(places), "type": "VEC3", **ends})
        accessors.append(
            {"bufferView": 2 * n + 1, "componentType": 5125, "count": one.triangles.size, "type": "SCALAR"}
        )
        shown = {"baseColorFactor": [*(v / 255 for v in rgb(one.colour)), 1.0], "metallicFactor": 0.0}
        materials.append({"name": one.name, "pbrMetallicRoughness": shown})
        primitive = {"attributes": {"POSITION": 2 * n}, "indices": 2 * n + 1, "material": n}
        meshes.append({"name": one.name, "primitives": [primitive]})
        nodes.append({"name": one.name, "mesh": n, "translation": (turned @ middle * scale).tolist()})
    whole = {
        "asset": {"version": "2.0", "extras": {"told": lines(several.unit) + ["written as metres, y up"]}},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(nodes)))}],
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
