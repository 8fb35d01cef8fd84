"""The scans to be aligned, against the mappings that stand beside them."""

import csv

import numpy as np

from kestrelmist.align.align_block import align_block
from kestrelmist.align.align_boundary import align_boundary
from kestrelmist.core.errors import Trouble
from kestrelmist.demo.alignment_files import SECTIONS, write_alignments
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.transform_files import read_itk_transform
from tests.making import PlaceCase


class AlignmentFilesTest(PlaceCase):
    def test_what_is_written_can_be_aligned_to_its_truth(self):
        (place,) = write_alignments(self.place, range(52, 53))
        truth = place / "truth"
        t1 = open_image(place / "head T1.nii.gz")
        places = np.random.default_rng(1).uniform(-3, 3, (60, 3)) + (0, -1.5, 1.5)
        part = open_image(place / "partial view EP.nii.gz")
        size = float(np.cbrt(part.space.voxel_volume))
        given = part, t1, open_image(truth / "white matter.nii.gz"), open_image(place / "field map.nii.gz")
        found = align_boundary(*given).transform
        wanted = read_itk_transform(truth / "partial view to head T1.tfm").to(places)
        self.assertLess(np.linalg.norm(found.to(places) - wanted, axis=1).mean(), 0.3 * size)
        ct = read_itk_transform(truth / "head CT to head T1.tfm").matrix
        self.assertAlmostEqual(np.linalg.det(ct[:3, :3]) ** (1 / 3), 1.12, 6)
        sections = [open_image(place / f"section {n:02d}.ome.tif") for n in range(1, SECTIONS + 1)]
        block = align_block(sections[0], sections[1:])
        flat = places * (1, 1, 0)
        off = []
        for n, way in enumerate(block.transforms, 1):
            wanted = read_itk_transform(truth / f"section {n:02d} to section 05.tfm").to(flat)
            off.append(np.linalg.norm(way.to(flat) - wanted, axis=1).mean())
        self.assertLess(max(off), 0.1)  # mm; a pixel is 0.05
        rows = list(csv.DictReader((truth / "sections.csv").read_text().splitlines()))
        self.assertEqual(len(rows), SECTIONS)
        self.assertAlmostEqual(float(rows[4]["turn"]), 0.0)
        with self.assertRaisesRegex(Trouble, "There is something of this name already"):
            write_alignments(self.place, range(52, 53))
