"""Identity removed from a diffusion series that is no DICOM: what was measured stays, what somebody typed goes."""

import json

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.formats.beside_nifti import write_sidecar
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.own_words import own_words
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import facts_of
from kestrelmist.gather.remove_identity import deidentify_image
from tests.command import kestrelmist
from tests.making import PlaceCase, tilted_space

STAYS = {
    "RepetitionTime": 2.5,
    "EchoTime": 0.031,
    "PhaseEncodingDirection": "j-",
    "bValues": [0.0, 1000.0, 1000.0],
    "bVectors": [[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.6, 0.8]],
}
GOES = {
    "ProtocolName": "Alder, Waldemar",
    "SeriesDescription": "Alder 4711",
    "InversionTime": 19710824,  # a birthday
    "FlipAngle": 471181.5,
    "InstitutionName": "Field station",
    "TotalReadoutTime": "Alder",
}


def diffusion(facts: dict) -> Image:
    space = tilted_space()
    values = np.random.default_rng(4).integers(0, 900, (*space.shape, 3)).astype(np.int16)
    axis = Axis("direction", 3, labels=("b 0", "b 1000", "b 1000"))
    return Image(
        np.asfortranarray(values), space, "Alder diffusion", "Alder", axes=(axis,), modality="MR",
        facts={"Acquisition": json.dumps(facts), "Artist": "Alder"},
    )  # fmt: skip


class MeasuredTest(PlaceCase):
    def test_numbers_stay_and_words_go(self):
        image = diffusion(STAYS | GOES)
        made, report = deidentify_image(image, LabelMap(image.space), subject="P-1")
        self.assertEqual(facts_of(made), STAYS)
        self.assertEqual(list(made.facts), ["Acquisition"])
        self.assertEqual(made.axes, image.axes)
        kept = [row for row in report.rows if "kept" in row]
        self.assertIn("Numbers of EchoTime, PhaseEncodingDirection, RepetitionTime, bValues, bVectors", str(kept))
        for ending in (".nrrd", ".mha", ".ome.tif", ".nii.gz"):
            path = self.place / f"clean{ending}"
            save_image(path, made)
            for word in ("Alder", "4711", "19710824", "station"):
                self.assertNotIn(word.encode(), path.read_bytes())

    def test_words_within_a_file_hold_numbers_only(self):
        words = own_words(diffusion(STAYS | GOES))
        self.assertEqual(json.loads(words)["taken"]["facts"], STAYS)
        for word in ("Alder", "4711", "19710824", "station"):
            self.assertNotIn(word, words)

    def test_a_folder_keeps_gradients_beside(self):
        source = self.place / "scans"
        source.mkdir()
        image = diffusion(STAYS | GOES)
        for ending in (".nii.gz", ".mha"):
            save_image(source / f"Alder{ending}", image)
        write_sidecar(source / "Alder.nii.gz", image)
        kestrelmist("deidentify", source, "--to", self.place / "clean")
        names = sorted(p.name for p in (self.place / "clean").iterdir())
        clean = [open_image(self.place / "clean" / n) for n in names if n.endswith((".nii.gz", ".mha"))]
        self.assertEqual(len(clean), 2, (self.place / "clean" / "identity-report.csv").read_text())
        for made in clean:
            facts = facts_of(made)
            self.assertEqual(facts["bValues"], STAYS["bValues"])
            np.testing.assert_allclose(facts["bVectors"], STAYS["bVectors"])
            self.assertEqual({k: v for k, v in facts.items() if not k.startswith("b")},
                             {k: v for k, v in STAYS.items() if not k.startswith("b")})  # fmt: skip
        for path in (self.place / "clean").iterdir():
            data = path.read_bytes()
            for word in ("Alder", "4711", "19710824", "station"):
                self.assertNotIn(word.encode(), data, path.name)
        self.assertIn("numbers of EchoTime", (self.place / "clean" / "identity-report.csv").read_text())
