"""Everything that an image holds, written in every format and read again: what comes back, what is lost, and said."""

import json
import unittest

import numpy as np

from kestrelmist.checks.height_maps import heights_without_a_unit
from kestrelmist.checks.notice import Subject
from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.formats.beside_nifti import write_sidecar
from kestrelmist.formats.not_said import lost_in
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.own_words import own_words, take_in_words
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import facts_of
from kestrelmist.prepare.stains.channels import merge_channels
from tests.command import kestrelmist
from tests.making import PlaceCase, tilted_space

WHOLE = (".nii.gz", ".nii", ".nrrd", ".mha", ".ome.tif", ".tif", ".ome.zarr")
ALL = (*WHOLE, ".x3p", ".png", ".dicom")


def everything() -> dict[str, Image]:
    """An image of every kind that formats differ in."""
    rng = np.random.default_rng(3)
    flat, tilted = picture_space(9, 7, (0.0002, 0.0003)), tilted_space()
    fine = np.asfortranarray(rng.normal(0, 300, flat.shape), np.float32)
    many = [np.asfortranarray(rng.integers(0, 4000, tilted.shape), np.int16) for _ in range(3)]
    stacked = np.stack(many, -1)
    places = Axis("echo", 3, labels=("first", "“second”", "dritte µ"))
    found = {
        "heights": Image(fine, flat, unit="nm"),
        "heights in µm": Image(fine / 1000, flat, unit="µm"),
        "picture without a scale": Image(
            np.asfortranarray(rng.integers(0, 255, flat.shape), np.uint8), picture_space(9, 7, None)
        ),
        "CT": Image(many[0] - 1000, tilted, unit="HU"),
        "field": Image(many[0].astype(np.float32) / 7, tilted, unit="rad/s"),
        "series": Image(stacked, tilted, axes=(Axis.even("time", 3, 0.72, "s"),)),
        "series in ms": Image(stacked, tilted, unit="a.u.", axes=(Axis.even("time", 3, 25.0, "ms"),)),
        "echoes": Image(stacked.astype(np.float32), tilted, unit="Hz", axes=(places,)),
        "colour": Image(rng.integers(0, 255, (9, 7, 1, 3)).astype(np.uint8), flat, colour=True),
        "times and channels": Image(
            np.stack([stacked, stacked + 1], -1), tilted, axes=(Axis.even("time", 3, 2.0, "s"), Axis("channel", 2))
        ),
    }
    bytes_and_floats = [
        found["picture without a scale"].like(fine.astype(np.uint8)),
        found["heights"].like(fine, unit=""),
    ]
    same = [Image(i.data, flat, n) for n, i in zip(("one", "two"), bytes_and_floats)]
    found["channels of two number types"] = merge_channels(same[0], same[1:], names="one, two")
    for name, image in found.items():
        image.name = image.name or name
    return found


def differs(image: Image, read: Image) -> set[str]:
    """In what two images differ besides their values."""
    found = set()
    if read.unit != image.unit:
        found.add("unit")
    if read.space.sides_known != image.space.sides_known:
        found.add("sides")
    if read.space.unit != image.space.unit:
        found.add("scale")
    elif image.space.unit == "mm" and not np.allclose(read.space.spacing, image.space.spacing, rtol=1e-5):
        if image.space.shape[2] > 1 or not np.allclose(read.space.spacing[:2], image.space.spacing[:2], rtol=1e-5):
            found.add("scale")
    if len(read.axes) != len(image.axes) or not all(
        a.name == b.name
        and a.size == b.size
        and a.labels == b.labels
        and a.unit == b.unit
        and np.isclose(a.step or 0, b.step or 0, rtol=1e-5)
        for a, b in zip(sorted(read.axes, key=_name), sorted(image.axes, key=_name))
    ):
        found.add("axes")
    return found


def _name(axis: Axis) -> str:
    return axis.name


def by_place(space: Space, values: np.ndarray) -> np.ndarray:
    """Values in the order of where they lie, so that flipped axes compare alike."""
    places = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    return values.ravel()[np.lexsort(np.round(places.T, 3))]


class EveryFormatTest(PlaceCase):
    def test_everything_in_every_format(self):
        refused, lost = set(), {}
        for name, image in everything().items():
            for ending in ALL:
                path = self.place / f"{name}{ending}"
                with self.subTest(image=name, format=ending):
                    try:
                        save_image(path, image)
                    except Trouble as trouble:
                        refused.add((name, ending))
                        self.assertFalse(path.exists())
                        self.assertNotIn("None", str(trouble))
                        continue
                    said = lost_in(path, image)
                    read = open_image(path)
                    for index in image.indices():
                        want = np.asarray(image.frame(index).data, float)
                        factor = 1000.0 if image.unit == "µm" and read.unit == "nm" else 1.0
                        names = [a.name for a in image.axes]
                        at = tuple(
                            index[names.index(a.name)] if a.name in names else index[n] for n, a in enumerate(read.axes)
                        )
                        got = np.asarray(read.frame(at).data, float)
                        if ending == ".dicom" and image.space.sides_known:  # slices may be turned, with their places
                            got, want = by_place(read.space, got), by_place(image.space, want)
                        np.testing.assert_allclose(got, factor * want, rtol=2e-6, atol=1e-9)
                    wrong = differs(image, read) - ({"unit"} if ending == ".x3p" else set())
                    if ending in WHOLE:
                        self.assertEqual((wrong, said), (set(), []))
                    self.assertEqual(bool(wrong), bool(said), f"{wrong}, said: {said}")
                    if said:
                        lost[name, ending] = said
        self.assertFalse([r for r in refused if r[1] in (".nii.gz", ".nii")])
        self.assertEqual({n for n, e in refused if e == ".ome.tif"}, set())
        self.assertTrue({("heights", ".png"), ("series", ".png"), ("field", ".x3p")} <= refused)
        self.assertIn(("picture without a scale", ".png"), {(n, ".png") for n in everything()} - refused)

    def test_units_through_the_command_line(self):
        save_image(self.place / "plain.nii.gz", everything()["field"])
        made = self.place / "made.ome.tif"
        kestrelmist("calculate", self.place / "plain.nii.gz", "--formula", "a * 2", "--unit", "nm", "--out", made)
        self.assertEqual(open_image(made).unit, "nm")
        for ending in (".mha", ".nrrd", ".ome.zarr"):
            kestrelmist("convert", made, "--to", self.place / f"again{ending}")
            again = open_image(self.place / f"again{ending}")
            self.assertEqual((again.unit, again.space.sides_known), ("nm", True))

    def test_what_is_not_said_is_told(self):
        picture = everything()["picture without a scale"]
        image = Image(picture.data, picture_space(9, 7, (0.01, 0.01)), "Plate", unit="a.u.")
        save_image(self.place / "plate.nii.gz", image)
        (row,) = json.loads(
            kestrelmist("convert", self.place / "plate.nii.gz", "--to", self.place / "plate.png", "--json").stdout
        )["rows"]
        self.assertEqual(row["not said"], "the unit a.u., the scale")
        said = kestrelmist("turn", self.place / "plate.nii.gz", "--flip", "--out", self.place / "turned.png").stdout
        self.assertIn("turned.png does not say the unit a.u., the scale.", said)

    def test_how_it_was_taken_and_gradients_in_every_format(self):
        rng, space = np.random.default_rng(8), tilted_space()
        vectors = rng.normal(size=(5, 3))
        vectors[1:] /= np.linalg.norm(vectors[1:], axis=1, keepdims=True)
        vectors[0] = 0
        strengths = [0.0, 1000.0, 1000.0, 0.0, 2500.0]
        vectors[3] = 0
        facts = {"EchoTime": 0.0123, "RepetitionTime": 2.5, "FlipAngle": 77.0}
        facts |= {"SliceTiming": [0.1 * k for k in range(space.shape[2])]}
        facts |= {"bValues": strengths, "bVectors": vectors.tolist()}
        axis = Axis("direction", 5, labels=tuple(f"b {b:g}" for b in strengths))
        values = rng.integers(0, 900, (*space.shape, 5)).astype(np.int16)
        image = Image(
            np.asfortranarray(values), space, "Diffusion", modality="MR", axes=(axis,),
            facts={"Acquisition": json.dumps(facts)},
        )  # fmt: skip
        want = _in_the_world(image)
        for ending in (*WHOLE, ".dicom"):
            path = self.place / f"diffusion{ending}"
            (row, *_) = json.loads(kestrelmist("convert", self._kept(image), "--to", path, "--json").stdout)["rows"]
            read, lost = open_image(path), {".dicom": "how it was taken (SliceTiming)"}.get(ending)
            self.assertEqual(row["not said"], lost, ending)
            self.assertEqual([(a.name, a.size, a.labels) for a in read.axes], [("direction", 5, axis.labels)], ending)
            np.testing.assert_allclose(_in_the_world(read), want, atol=2e-4, err_msg=ending)
            got = facts_of(read)
            self.assertEqual(got["bValues"], strengths)
            for name in ("EchoTime", "RepetitionTime", "FlipAngle"):
                self.assertAlmostEqual(got[name], facts[name], places=7, msg=f"{ending}: {name}")
            for n in range(5):
                got, true = read.frame((n,)).data, values[..., n]
                if ending == ".dicom":
                    got, true = by_place(read.space, got), by_place(space, true)
                np.testing.assert_array_equal(got, true, ending)
        plain = self.place / "without.nii.gz"
        (row,) = json.loads(kestrelmist("convert", self._kept(image), "--to", plain, "--no-sidecar", "--json").stdout)[
            "rows"
        ]
        self.assertEqual(row["not said"], "the gradients, "
                         "how it was taken (EchoTime, FlipAngle, RepetitionTime, SliceTiming)")  # fmt: skip

    def _kept(self, image: Image):
        path = self.place / "source" / "source.nii.gz"
        if not path.exists():
            path.parent.mkdir()
            save_image(path, image)
            write_sidecar(path, image)
        return path

    def test_words_of_how_it_was_taken_count_on_the_same_grid_only(self):
        image = everything()["CT"]
        image.facts = {"Acquisition": json.dumps({"EchoTime": 0.02, "SliceTiming": [0.0, 0.1]})}
        words = own_words(image, place=False)
        for space, kept in (
            (image.space, True),
            (Space(image.space.shape, image.space.affine @ np.diag([-1.0, 1, 1, 1])), False),
            (Space((*image.space.shape[:2], image.space.shape[2] + 1), image.space.affine), False),
        ):
            other = Image(np.zeros(space.shape, np.int16, order="F"), space)
            take_in_words(other, words)
            self.assertEqual(facts_of(other), json.loads(image.facts["Acquisition"]) if kept else {})
        taken = json.loads(words)["taken"]
        for wrong in (
            {"facts": {"EchoTime": float("inf"), "SliceTiming": ["a"], "bVectors": [[1, 2]], "bValues": "x"}},
            {"facts": {"EchoTime": 10**400, "bVectors": [5], "PhaseEncodingDirection": "up"}},
            {"facts": 7}, {"directions": "x"}, {"directions": [[float("nan")] * 3] * 3}, {"shape": 5},
        ):  # fmt: skip
            other = Image(image.data, image.space)
            take_in_words(other, json.dumps({"taken": taken | wrong}))
            self.assertEqual(facts_of(other), {}, wrong)

    def test_a_float_tiff_that_says_nothing_is_asked_about(self):
        import tifffile

        tifffile.imwrite(self.place / "bare.tif", np.random.default_rng(1).normal(size=(40, 50)).astype(np.float32))
        notices = heights_without_a_unit(Subject(open_image(self.place / "bare.tif")))
        self.assertEqual((notices[0].mend.operation, notices[0].mend.settings["unit"]), ("calculate", "nm"))
        self.assertEqual(heights_without_a_unit(Subject(everything()["heights"])), [])
        save_image(self.place / "said.ome.tif", everything()["heights"])
        self.assertEqual(heights_without_a_unit(Subject(open_image(self.place / "said.ome.tif"))), [])

    def test_units_of_any_letters(self):
        image = everything()["field"]
        for unit in ("<b>", "=1+1", "'\"", "µm²·s⁻¹", "日本", "a]]>b", "a" * 300, "a\nb"):
            image.unit = unit
            for ending in (*WHOLE, ".dicom"):
                path = self.place / f"{abs(hash(unit))}{ending}"
                save_image(path, image)
                kept = open_image(path).unit == unit
                self.assertTrue(kept or ending in (".dicom", ".nrrd"), (unit, ending))
                self.assertEqual(bool(lost_in(path, image)), not kept)

    def test_words_that_are_none_leave_a_sound_file(self):
        deep = '{"axes":' + "[" * 3000 + "]" * 3000 + "}"
        affine = json.dumps(np.eye(4).tolist())
        for words in ("{", "[]", "null", "7", deep, '{"unit": 5, "axes": 7}', '{"axes": [{"name": "time"}]}',
                      '{"shape": ["a"], "space": "scanner", "affine": ' + affine + "}",
                      '{"shape": [1, 2, 3], "affine": [[1e999]], "space": {"name": 1}}'):  # fmt: skip
            image = everything()["series"]
            take_in_words(image, words)
            self.assertEqual(([a.name for a in image.axes], image.space), (["time"], everything()["series"].space))

    def test_words_of_another_size_or_scale_are_passed_over(self):
        import tifffile

        path = self.place / "cut.ome.tif"
        image = everything()["echoes"]
        save_image(path, image)
        with tifffile.TiffFile(path) as file:
            values, words = file.asarray(), file.ome_metadata
        self.assertIn("rad/s" if image.unit == "rad/s" else "Hz", words)
        shorter = values[:, :, :-1]
        tifffile.imwrite(
            path, shorter, ome=True, metadata={"axes": "CZYX", "MapAnnotation": {"kestrelmist": _words_of(words)}}
        )
        read = open_image(path)
        self.assertEqual(read.unit, "Hz")
        self.assertFalse(read.space.sides_known)


def _in_the_world(image: Image) -> np.ndarray:
    """Gradients in the world's axes, whatever those of the image are."""
    vectors = np.array(facts_of(image)["bVectors"], float)
    directions = image.space.affine[:3, :3] / np.array(image.space.spacing)
    if np.linalg.det(directions) > 0:
        vectors = vectors * [-1, 1, 1]
    return vectors @ directions.T


def _words_of(xml: str) -> str:
    from xml.etree import ElementTree

    return next(e.text for e in ElementTree.fromstring(xml).iter() if e.tag.endswith("}M"))


if __name__ == "__main__":
    unittest.main()
