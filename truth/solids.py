"""Surfaces, clicks and pictures of solid scenes against closed forms and independent readers."""

from __future__ import annotations

import tempfile
from pathlib import Path

import meshio
import numpy as np
import pypdf
import tifffile
import trimesh
from PIL import Image as Picture

from kestrelmist.core.image import Image
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.surface.of_label import surfaces_of
from kestrelmist.formats.saving import save_thing
from kestrelmist.report.sheet import sheet
from kestrelmist.scene.solid.eye import Camera
from kestrelmist.scene.solid.making import made
from kestrelmist.scene.solid.scene import bodies_of_labels
from kestrelmist.scene.solid.stage import SolidScene
from kestrelmist.scene.solid.volume import levels_of
from kestrelmist.scene.solid.volume_look import VolumeLook

from .row import Row

RADII = (5, 8, 12, 20, 35, 50)
TIMES = 12


def rows(seed: int) -> list[Row]:
    return [*_volumes(seed), *_clicks(seed), _silhouette(seed), *_files()]


def _ellipsoid(rng, spacing, radii) -> tuple[LabelMap, np.ndarray]:
    shape = tuple(int(2 * r / s + 10) for r, s in zip(radii, spacing))
    space = Space(shape, np.diag([*spacing, 1.0]))
    middle = space.to_world((np.array(shape) - 1) / 2 + rng.uniform(-0.5, 0.5, 3))
    world = space.to_world(np.moveaxis(np.indices(shape), 0, -1).reshape(-1, 3)).reshape(*shape, 3)
    inside = (((world - middle) / radii) ** 2).sum(-1) < 1
    return LabelMap(space, inside.astype(np.uint16), LabelTable([Label(1, "Ball", "#E0A24B")])), middle


def _volumes(seed: int) -> list[Row]:
    found = []
    for spacing, name in (((1.0, 1.0, 1.0), "1 : 1 : 1"), ((1.0, 1.0, 5.0), "1 : 1 : 5")):
        voxels, closed = [], []
        for n, radius in enumerate(RADII):
            rng = np.random.default_rng([seed, n])
            times = 1.0 if spacing[2] == 1 else 2.5  # of thick slices, several lie in the ball
            radii = np.array((1.0, 1.15, 0.9)) * radius * times
            labels, _ = _ellipsoid(rng, spacing, radii)
            one = surfaces_of(labels).parts[0]
            voxels.append(abs(one.volume / (labels.counts[1] * labels.space.voxel_volume) - 1))
            closed.append(abs(one.volume / (4 / 3 * np.pi * np.prod(radii)) - 1))
        found.append(Row(f"surfaces of ellipsoids, {name}: volume", float(max(voxels)), None, 0.01, "", "the voxels"))
        large = float(max(closed[3:]))
        found.append(Row(f"surfaces of ellipsoids of 20 to 50, {name}: volume", large, None, 0.01, "", "closed form"))
    return found


def _clicks(seed: int) -> list[Row]:
    """Clicks on the skull of a made head: a shell of high values in lower ones."""
    space = Space((90, 90, 90), np.array([[0.3, 0.02, 0, -13], [0, 0.3, 0, -12], [0, 0, 0.35, 8], [0, 0, 0, 1]]))
    away = np.linalg.norm(np.moveaxis(np.indices(space.shape), 0, -1) - 44.5, axis=-1)
    values = np.where(away < 40, 40.0, -1000.0) + 1200 * np.clip(3.5 - np.abs(away - 32), 0, 1)
    image = Image(np.asfortranarray(values.astype(np.float32)), space, "Head", unit="HU")
    look = VolumeLook(((300.0, "#9C7B57", 0.0), (640.0, "#FBF6EA", 1.0)))
    scene = SolidScene()
    scene.set_volume(1, levels_of(image), look)
    rng, off = np.random.default_rng(seed), []
    for n in range(TIMES):
        camera = Camera(float(rng.uniform(0, 360)), float(rng.uniform(-80, 80)), 1.0, parallel=n % 2 == 0)
        eye = scene.eye(camera, 500, 400)
        for _ in range(6):
            x, y = 250 + rng.uniform(-60, 60), 200 + rng.uniform(-60, 60)
            met = scene.place_at(eye, float(x), float(y))
            # the outside of the skull is where the curve is half opaque: 470 HU, 35.14 voxels from the middle
            off.append(9.0 if met is None else abs(float(np.linalg.norm(space.to_voxel(met) - 44.5)) - 35.14))
    return [Row("clicks on the visible skull, 72", float(max(off)), None, 1.0, "voxels", "where it is")]


def _silhouette(seed: int) -> Row:
    least = 1.0
    for n in range(TIMES):
        rng = np.random.default_rng([seed, n])
        radii = rng.uniform(9, 15, 3)
        labels, middle = _ellipsoid(rng, (1.0, 1.0, 1.0), radii)
        scene = SolidScene()
        scene.set_mesh(*made(bodies_of_labels(1, labels)[0], labels, dict)[1:])
        camera = Camera(float(rng.uniform(0, 360)), float(rng.uniform(-80, 80)), parallel=True)
        eye = scene.eye(camera, 400, 320)
        mask = scene.picture(eye, clear=True)[..., 3] > 127
        right, up, _ = eye.axes
        cx, cy, _ = eye.to_page(middle)
        y, x = np.indices(mask.shape) + 0.5
        # the shadow of an ellipsoid is an ellipse, of the matrix P diag(r²) Pᵀ
        shadow = np.array([[a @ (radii**2 * b) for b in (right, up)] for a in (right, up)]) / eye.pixel**2
        away = np.stack((x - cx, cy - y), -1)
        true = np.einsum("...i,ij,...j->...", away, np.linalg.inv(shadow), away) < 1
        least = min(least, 2 * float((mask & true).sum()) / float(mask.sum() + true.sum()))
    return Row("silhouettes of labels, 12: overlap", least, 0.98, None, "", "their projection")


def _files() -> list[Row]:
    labels, _ = _ellipsoid(np.random.default_rng(0), (1.0, 1.0, 1.0), np.array((12.0, 9.0, 10.0)))
    surfaces = surfaces_of(labels)
    whole, off, paper = surfaces.parts[0].volume, 0.0, 0.0
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        for ending in ("stl", "obj", "ply", "glb"):
            save_thing(place / f"s.{ending}", surfaces)
            mesh = trimesh.load(place / f"s.{ending}", force="mesh")
            mesh.merge_vertices()
            times = 1e9 if ending == "glb" else 1.0
            off = max(off, abs(mesh.volume * times / whole - 1), 0.0 if mesh.is_watertight else 1.0)
        for ending in ("stl", "obj", "ply"):
            read = meshio.read(place / f"s.{ending}")
            off = max(off, abs(len(read.cells_dict["triangle"]) / surfaces.triangles - 1))
        image = Image(np.asfortranarray(labels.data.astype(np.float32)), labels.space, "Ball")
        for ending in ("png", "tif", "pdf"):
            sheet(image, to=place / f"p.{ending}", count=6, width=120.0, dpi=200.0)
        with Picture.open(place / "p.png") as picture:
            paper = max(paper, abs(picture.width / picture.info["dpi"][0] * 25.4 / 120 - 1))
        with tifffile.TiffFile(place / "p.tif") as file:
            page = file.pages[0]
            a, b = page.tags["XResolution"].value
            paper = max(paper, abs(page.shape[1] / (a / b) * 10 / 120 - 1))
        width = float(pypdf.PdfReader(place / "p.pdf").pages[0].mediabox.width)
        paper = max(paper, abs(width / 72 * 25.4 / 120 - 1))
    return [
        Row("surfaces in STL, OBJ, PLY, glTF: volume and triangles", float(off), None, 1e-3, "", "trimesh, meshio"),
        Row("width of a sheet on paper", float(paper), None, 0.002, "", "Pillow, tifffile, pypdf"),
    ]
