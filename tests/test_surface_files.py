"""Files of surfaces: written, read back by other libraries and by ourselves; what is wrong with them in a sentence."""

from __future__ import annotations

import unittest
from pathlib import Path

import meshio
import numpy as np
import trimesh

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.surface.of_label import surfaces_of
from kestrelmist.core.surface.surface import Surface, Surfaces
from kestrelmist.formats.format import format_of
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.saving import save_thing
from kestrelmist.outline.surfaces.labels_of_surface import labels_of_surface, placed
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, keep_thing

ENDINGS = (".stl", ".obj", ".ply", ".glb", ".vtp")
NAMES = ("Skull <b>", "Ear, left")


def two_parts() -> LabelMap:
    """Two balls on a grid that is turned, mirrored, and far from the origin."""
    affine = np.array([[0, 0.5, 0, 100.0], [0.5, 0, 0, -40.0], [0, 0, -0.8, 30.0], [0, 0, 0, 1]])
    space = Space((40, 44, 30), affine)
    at = np.moveaxis(np.indices(space.shape), 0, -1)
    a = (((at - (14, 16, 14)) / (9, 10, 7)) ** 2).sum(-1) < 1
    b = (((at - (29, 30, 16)) / (6, 7, 7)) ** 2).sum(-1) < 1
    table = LabelTable([Label(1, NAMES[0], "#E0A24B"), Label(3, NAMES[1], "#56A8C7")])
    return LabelMap(space, (a + 3 * b).astype(np.uint16), table, "Parts")


class SurfaceFilesTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.labels = two_parts()
        self.image = Image(np.asfortranarray(np.zeros(self.labels.space.shape, np.float32)), self.labels.space, "Head")
        self.made = surfaces_of(self.labels)

    def written(self, ending: str, surfaces: Surfaces | None = None) -> Path:
        path = self.place / f"parts{ending}"
        save_thing(path, surfaces or self.made)
        return path

    def read(self, path: Path) -> Surfaces:
        known = format_of(path, "surfaces")
        assert known is not None
        return known.open(path)

    def test_other_libraries_read_places_volumes_and_sides(self):
        whole = sum(one.volume for one in self.made.parts)
        low, high = self.made.ends
        for ending in ENDINGS[:4]:
            scene = trimesh.load_scene(self.written(ending), process=False)
            mesh = scene.to_mesh()
            mesh.merge_vertices()
            if ending == ".glb":  # metres, y up
                mesh.apply_transform(np.array([[1e3, 0, 0, 0], [0, 0, -1e3, 0], [0, 1e3, 0, 0], [0, 0, 0, 1]]))
            with self.subTest(ending=ending):
                self.assertTrue(mesh.is_watertight and mesh.is_winding_consistent)
                self.assertAlmostEqual(mesh.volume / whole, 1, delta=1e-4)
                np.testing.assert_allclose(mesh.bounds, (low, high), atol=2e-5)
        for ending in (".stl", ".obj", ".ply"):
            mesh = meshio.read(self.written(ending))
            self.assertEqual(len(mesh.cells_dict["triangle"]), self.made.triangles)
        text = (self.place / "parts.ply").read_bytes()[:400].decode("latin-1")
        self.assertIn("comment unit mm\ncomment axes right front up", text)
        self.assertIn("unit mm; axes right front up", (self.place / "parts.stl").read_bytes()[:80].decode())
        self.assertIn("# unit mm", (self.place / "parts.obj").read_text()[:60])
        self.assertIn(b'"unit mm"', (self.place / "parts.glb").read_bytes()[:9000])

    def test_what_one_step_writes_the_next_reads(self):
        for ending in ENDINGS:
            back = self.read(self.written(ending))
            with self.subTest(ending=ending):
                self.assertEqual(back.unit, "mm")
                self.assertAlmostEqual(sum(p.volume for p in back.parts) / sum(p.volume for p in self.made.parts), 1, 4)
                if ending != ".stl":  # which knows neither parts nor colours
                    self.assertEqual([p.name for p in back.parts], list(NAMES))
                    self.assertEqual([p.colour for p in back.parts], ["#E0A24B", "#56A8C7"])
                labels = labels_of_surface(back, self.image)
                self.assertLess(
                    np.count_nonzero((labels.kji > 0) != (self.labels.kji > 0)), 0.02 * np.sum(self.labels.kji > 0)
                )

    def test_by_every_door(self):
        place = self.place
        save_thing(place / "L.nii.gz", self.labels)
        save_thing(place / "I.nii.gz", self.image)
        for ending in ENDINGS:
            file, back = place / f"F{ending}", place / f"B{ending[1:]}.nii.gz"
            ran = kestrelmist("surface", place / "L.nii.gz", "--label", "Ear, left", "--share", "0.4", "--out", file)
            self.assertEqual(ran.returncode, 0, ran.stderr)
            ran = kestrelmist("labels-of-surface", file, "--onto", place / "I.nii.gz", "--out", back)
            self.assertEqual(ran.returncode, 0, ran.stderr)
            found = read_label_map(back)
            self.assertAlmostEqual(found.counts[1] / self.labels.counts[3], 1, delta=0.02)
        ran = kestrelmist("surface", place / "L.nii.gz", "--out", place / "F.xyz", code=1)
        self.assertIn("Surfaces cannot be written under this name", ran.stderr)
        with Study(place / "S", create=True) as study:
            key = keep_thing(study, self.image)
            study.run("open-labels", image=key, file=place / "L.nii.gz")
            kept = study.run("surface", labels=study.in_hand(key), label=NAMES[0])
            record = study.items.of_kind("surfaces")[0]
            self.assertEqual((record.of, record.name), (key, NAMES[0]))
            self.assertEqual(record.id, kept)
            laid = study.thing(study.run("lay-surface", file=place / "F.ply", onto=key))
            np.testing.assert_allclose(laid.ends, self.read(place / "F.ply").ends)
        with Study(place / "S") as study:  # and after a restart
            self.assertEqual(study.thing(record.id).parts[0].colour, "#E0A24B")

    def test_units_and_axes_of_files_from_elsewhere(self):
        bare = Surfaces(tuple(self.made.parts[:1]), "Bone", unit="")
        for unit, factor in (("um", 1e3), ("cm", 0.1), ("m", 1e-3), ("inch", 1 / 25.4)):
            scaled = bare.carried(np.diag([factor, factor, factor, 1.0]))
            laid = placed(scaled, self.image, unit, "right front up")
            self.assertAlmostEqual(laid.parts[0].volume / bare.parts[0].volume, 1, 6)
        turned = bare.carried(np.diag([-1.0, -1, 1, 1]))
        np.testing.assert_allclose(placed(turned, self.image, None, "left back up").ends, bare.ends)
        with self.assertRaisesRegex(Trouble, "lies round .* mm, outside “Head”: say in which unit it is"):
            placed(bare.carried(np.diag([1e3, 1e3, 1e3, 1.0])), self.image, None, "right front up")
        with self.assertRaisesRegex(Trouble, "“Parts” says that it is in mm: leave the unit out"):
            placed(self.made, self.image, "cm", "right front up")

    def test_what_does_not_close_or_holds_nothing(self):
        one = self.made.parts[0]
        torn = Surfaces((Surface(one.corners, one.triangles[5:], "Torn"),), "Torn")
        with self.assertRaisesRegex(Trouble, "“Torn” does not close: it has .* open edges: close it"):
            labels_of_surface(torn, self.image)
        tiny = Surfaces(
            (Surface(one.corners.mean(0) + 1e-6 * (one.corners - one.corners.mean(0)), one.triangles, "Dot"),)
        )
        moved = tiny.carried(np.array([[1, 0, 0, 0.2], [0, 1, 0, 0.2], [0, 0, 1, 0.2], [0, 0, 0, 1.0]]))
        with self.assertRaisesRegex(Trouble, "encloses the middle of no voxel"):
            labels_of_surface(moved, self.image)

    def test_damaged_and_hostile_files(self):
        for name, content, said in (
            ("empty.stl", b"", "damaged|no triangles"),
            ("huge.stl", b"x" * 80 + b"\xff\xff\xff\x7f" + b"\0" * 50, "damaged|no triangles"),
            ("gone.obj", b"v 0 0 0\nv 1 0 0\nf 1 2 9\n", "names a corner that is not there"),
            ("nan.obj", b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "corners that are nowhere"),
            ("none.obj", b"v 0 0 0\n", "holds no triangles"),
            (
                "count.ply",
                b"ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nend_header\n",
                "damaged|no tri",
            ),
            (
                "bomb.vtp",
                b'<!DOCTYPE a [<!ENTITY b "bbbb">]><VTKFile type="PolyData">&b;</VTKFile>',
                "entities of its own",
            ),
            ("other.vtp", b'<VTKFile type="ImageData"/>', "holds no polygons"),
            ("short.glb", b"glTF\x02\0\0\0\xff\xff\xff\x7f", "damaged|no triangles"),
        ):
            path = self.place / name
            path.write_bytes(content)
            with self.subTest(name=name), self.assertRaisesRegex(Trouble, said):
                self.read(path)
        for ending in ENDINGS:
            whole = self.written(ending).read_bytes()
            for cut in (len(whole) // 3, len(whole) - 7):
                path = self.place / f"cut{ending}"
                path.write_bytes(whole[:cut])
                try:
                    found = self.read(path)
                except Trouble:
                    continue
                self.assertLessEqual(found.triangles, self.made.triangles)


if __name__ == "__main__":
    unittest.main()
