import io
import pickle
import zipfile
from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.formats.classifier_files import read_classifier, write_classifier
from kestrelmist.formats.saving import save_thing
from kestrelmist.outline.channels import channels_of
from kestrelmist.outline.forest.classify import class_shares, classify
from kestrelmist.outline.forest.features import features_of
from kestrelmist.outline.forest.forest_kernel import shares_of
from kestrelmist.outline.forest.looked_at import spread_of
from kestrelmist.outline.forest.train import train
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space
from tests.test_shaping import blobs, mapped, voxels


def picture_space(width=160, height=140, pixel=0.001) -> Space:
    return Space((width, height, 1), np.diag([pixel, pixel, 1.0, 1.0]))


def textured(space: Space, seed: int, factor=1.0, shift=0.0):
    """Regions that differ by texture and a little by brightness, and which is where [k, j, i]."""
    rng = np.random.default_rng(seed)
    where = blobs(space.shape, seed, (0, 9, 9) if space.shape[2] == 1 else 5, 0.5)
    fine = rng.standard_normal(where.shape)
    coarse = ndimage.gaussian_filter(rng.standard_normal(where.shape), (0, 2, 2) if space.shape[2] == 1 else 1.5)
    values = 100 + np.where(where, 14 * fine, 30 * coarse / coarse.std() + 12)
    return Image((factor * values + shift).T.astype(np.float32), space, f"Section {seed}", "T-1"), where


def strokes_on(where: np.ndarray, space: Space, **names):
    """Short strokes well inside of both."""
    masks = {}
    for n, name in enumerate(("Fat", "Gland")):
        side = where if n == 0 else ~where
        deep = ndimage.distance_transform_edt(side) > 4
        rows = np.zeros_like(deep)
        rows[:, 10::30] = True
        masks[name] = deep & rows
    return mapped(space, **masks)


class FeaturesTest(PlaceCase):
    """Value for value against an independent library."""

    def test_a_picture_and_a_volume(self):
        from skimage.feature import multiscale_basic_features

        rng = np.random.default_rng(0)
        picture = (rng.random((57, 71)) * 200).astype(np.float32)
        wanted = multiscale_basic_features(picture, sigma_min=1, sigma_max=8)
        found = features_of([picture[None]], [(0, s, s) for s in (1, 2, 4, 8)], True)[0]
        np.testing.assert_allclose(found, wanted, atol=2e-4)
        volume = (rng.random((15, 18, 21)) * 200).astype(np.float32)
        wanted = multiscale_basic_features(volume, sigma_min=1, sigma_max=4)
        found = features_of([volume], [(s, s, s) for s in (1, 2, 4)], False)
        np.testing.assert_allclose(found, wanted, atol=4e-4)

    def test_one_row_and_one_pixel(self):
        for shape in ((1, 1, 1), (1, 1, 9), (1, 9, 1), (3, 1, 1)):
            for flat in (True, False):
                found = features_of([np.ones(shape, np.float32)], [(0 if flat else 1, 1, 1)], flat)
                self.assertTrue(np.isfinite(found).all())
                np.testing.assert_allclose(found[..., 0], 1, rtol=1e-6)
                np.testing.assert_allclose(found[..., 1:], 0, atol=1e-6)


class ForestTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.space = picture_space()
        self.image, self.where = textured(self.space, 1)
        self.strokes = strokes_on(self.where, self.space)
        self.taught = train(self.image, self.strokes)
        self.classifier = self.taught.classifier

    def agreement(self, image, where, classifier=None) -> float:
        found = classify(image, classifier or self.classifier)
        return float(np.mean((found.kji == 1) == where))

    def test_another_section_is_told_apart(self):
        self.assertGreater(self.agreement(self.image, self.where), 0.87)
        self.assertGreater(self.agreement(*textured(self.space, 7)), 0.85)
        table = self.taught.counts
        self.assertEqual(table.count, 12)
        self.assertAlmostEqual(sum(row[1] for row in table.rows), 1.0, places=6)
        found = classify(self.image, self.classifier)
        self.assertEqual([row.name for row in found.table], ["Fat", "Gland"])

    def test_the_same_as_the_library_that_grew_the_trees(self):
        looked = features_of([self.image.kji], [(0, s, s) for s in (0.5, 1, 2)], True).reshape(-1, 12)
        ours, theirs = shares_of(self.classifier.trees, looked), self.classifier.model.predict_proba(looked)
        np.testing.assert_allclose(ours, theirs, atol=2e-6)
        led = np.sort(theirs, 1)
        clear = led[:, -1] - led[:, -2] > 1e-5  # where the lead is more than what sums are rounded by
        early = shares_of(self.classifier.trees, looked, largest=True)
        np.testing.assert_array_equal(early.argmax(1)[clear], theirs.argmax(1)[clear])
        self.assertLess(float(early.sum(1).mean()), 0.95)  # and not all trees were asked

    def test_blocks_leave_no_seam(self):
        from unittest import mock

        whole = classify(self.image, self.classifier).kji
        with mock.patch("kestrelmist.outline.forest.looked_at.BLOCK", 1500):
            np.testing.assert_array_equal(classify(self.image, self.classifier).kji, whole)
            again = train(self.image, self.strokes).classifier
        self.assertGreater(self.agreement(self.image, self.where, again), 0.87)

    def test_one_seed_gives_one_forest(self):
        self.assertEqual(train(self.image, self.strokes).classifier.content_hash(), self.classifier.content_hash())
        self.assertNotEqual(
            train(self.image, self.strokes, seed=1).classifier.content_hash(), self.classifier.content_hash()
        )

    def test_shares_add_up_and_unsure_voxels_may_stay_free(self):
        one, other = class_shares(self.image, self.classifier)
        np.testing.assert_allclose(one.data + other.data, 1, atol=1e-5)
        self.assertEqual(one.name, "Section 1, Fat")
        sure = classify(self.image, self.classifier, least=0.8)
        np.testing.assert_array_equal(sure.data == 1, one.data > 0.8)

    def test_images_of_other_brightness_by_percentile(self):
        spread = train(self.image, self.strokes, spread=True).classifier
        image, where = textured(self.space, 7, factor=3.7, shift=900)
        self.assertGreater(self.agreement(image, where, spread), 0.9)
        self.assertLess(self.agreement(image, where), 0.8)

    def test_another_pixel_size(self):
        fine = picture_space(320, 280, 0.0005)
        image, where = textured(self.space, 7)
        twice = Image(np.asfortranarray(np.kron(image.data[:, :, 0], np.ones((2, 2), np.float32))[:, :, None]), fine)
        self.assertGreater(self.agreement(twice, np.kron(where[0], np.ones((2, 2), bool))[None]), 0.8)
        with self.assertRaisesRegex(Trouble, "too large for what was learnt"):
            classify(Image(self.image.data, picture_space(pixel=0.02)), self.classifier)
        with self.assertRaisesRegex(Trouble, "give the image a scale"):
            classify(Image(self.image.data, Space(self.space.shape, np.eye(4), "px")), self.classifier)

    def test_channels_colours_and_contrasts(self):
        other, _ = textured(self.space, 2)
        taught = train(self.image, self.strokes, [other]).classifier
        self.assertEqual(taught.learnt.channels, ("", "Section 2"))
        with self.assertRaisesRegex(Trouble, "has 1 channel, and “Classifier” was taught with 2"):
            classify(self.image, taught)
        self.assertGreater(float(np.mean((classify(self.image, taught, [other]).kji == 1) == self.where)), 0.87)
        rgb = np.clip(np.repeat(self.image.data[..., None], 3, -1), 0, 255).astype(np.uint8)
        colour = Image(np.asfortranarray(rgb), self.space, "Stained", colour=True)
        taught = train(colour, self.strokes).classifier
        self.assertEqual(taught.learnt.channels, ("red", "green", "blue"))
        self.assertGreater(float(np.mean((classify(colour, taught).kji == 1) == self.where)), 0.85)

    def test_a_picture_larger_than_memory_is_read_in_parts(self):
        rgb = np.clip(np.repeat(self.image.data[..., None], 3, -1), 0, 255).astype(np.uint8)
        rgb[..., 1] //= 2
        plain = Image(np.asfortranarray(rgb), self.space, "Stained", colour=True)
        shown = Image(lambda index, progress: self.fail("all of it was read"), self.space, "Stained", colour=True)
        shown.part = lambda index, box: rgb[box[0] : box[1], box[2] : box[3]]
        want, found = train(plain, self.strokes), train(shown, self.strokes)
        self.assertEqual(found.counts.rows, want.counts.rows)
        self.assertIn("µm", found.counts.rows[0][0])
        np.testing.assert_array_equal(classify(shown, found.classifier).kji, classify(plain, want.classifier).kji)
        channel = channels_of(shown, Progress())[1]
        whole = spread_of(channel)
        with mock.patch("kestrelmist.outline.forest.looked_at.WHOLE", 100):
            np.testing.assert_allclose(spread_of(channel), whole, atol=6)

    def test_a_volume_in_three_dimensions_and_thick_slices_one_by_one(self):
        space = straight_space((36, 34, 30), 0.5)
        image, where = textured(space, 3)
        strokes = strokes_on(where, space)
        solid = train(image, strokes, scales=3).classifier
        self.assertFalse(solid.learnt.flat)
        self.assertGreater(self.agreement(image, where, solid), 0.78)
        thick = Image(image.data, Space(space.shape, np.diag([0.5, 0.5, 2.0, 1.0])))
        labels = mapped(thick.space, Fat=voxels(strokes, "Fat"), Gland=voxels(strokes, "Gland"))
        self.assertTrue(train(thick, labels, scales=3).classifier.learnt.flat)
        with self.assertRaisesRegex(Trouble, "looks at volumes"):
            classify(Image(self.image.data, Space(self.space.shape, np.diag([0.5, 0.5, 0.5, 1]))), solid)

    def test_the_place_counts_when_asked(self):
        even = Image(np.zeros(self.space.shape, np.float32), self.space)
        left = np.zeros(self.where.shape, bool)
        left[:, :, :80] = True
        rows = np.indices(left.shape)[1] % 20 == 0
        strokes = mapped(self.space, Left=left & rows, Right=~left & rows)
        found = classify(even, train(even, strokes, position=True).classifier)
        self.assertGreater(np.mean((found.kji == 1) == left), 0.98)

    def test_files_say_the_same_and_run_nothing(self):
        path = self.place / "fat.skops"
        write_classifier(path, self.classifier)
        back = read_classifier(path)
        self.assertEqual(back.content_hash(), self.classifier.content_hash())
        self.assertEqual(back.learnt, self.classifier.learnt)
        np.testing.assert_array_equal(classify(self.image, back).kji, classify(self.image, self.classifier).kji)

        class Sly:
            def __reduce__(self):
                return (io.open, (str(PlaceCase), "w"))

        sound = path.read_bytes()
        wrong = {
            "a pickle": pickle.dumps(Sly()),
            "empty": b"",
            "cut": sound[: len(sound) // 2],
            "noise": bytes(np.random.default_rng(1).integers(0, 256, 5000, np.uint8)),
        }
        with zipfile.ZipFile(path) as whole:
            schema = whole.read("schema.json")
            names = whole.namelist()
            sly = schema.replace(b"RandomForestClassifier", b"Popen", 1)
            sly = sly.replace(b"sklearn.ensemble._forest", b"subprocess", 1)
            for title, changed in (
                ("code", sly),
                ("no schema", b"{}"),
            ):
                stream = io.BytesIO()
                with zipfile.ZipFile(stream, "w") as made:
                    for name in names:
                        made.writestr(name, changed if name == "schema.json" else whole.read(name))
                wrong[title] = stream.getvalue()
        for title, blob in wrong.items():
            path.write_bytes(blob)
            with self.subTest(title), self.assertRaisesRegex(Trouble, "damaged|may run code"):
                read_classifier(path)

    def test_wrong_input(self):
        one, small = mapped(self.space, Fat=voxels(self.strokes, "Fat")), picture_space(20, 20)
        other = Image(np.zeros((5, 5, 1), np.float32), picture_space(5, 5), "Other")
        for strokes, given, words in (
            (one, {}, "All strokes are of “Fat”"),
            (mapped(self.space), {}, "has no strokes"),
            (mapped(small, A=np.eye(20, dtype=bool)[None], B=np.eye(20, dtype=bool)[None, ::-1]), {}, "another grid"),
            (self.strokes, {"others": [other]}, "another grid"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                train(self.image, strokes, **given)
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            classify(self.image, self.classifier, progress=progress)

    def test_from_files_and_in_a_study_by_every_door(self):
        save_thing(self.place / "image.ome.tif", self.image)
        save_thing(self.place / "strokes.nii.gz", self.strokes)
        image = str(self.place / "image.ome.tif")
        kestrelmist("train", image, "--strokes", self.place / "strokes.nii.gz", "--out", self.place / "c.skops")
        kestrelmist("classify", image, "--by", self.place / "c.skops", "--out", self.place / "l.nii.gz")
        study = Study(self.place / "study", create=True)
        self.addCleanup(study.close)
        study.run("gather", folder=self.place / "image.ome.tif")
        key = study.records()[0].id
        study.run("open-labels", image=key, file=self.place / "strokes.nii.gz")
        study.run("train", image=key, name="Fat finder")
        kept = next(r for r in study.items.of_kind("classifier"))
        self.assertEqual(kept.name, "Fat finder")
        study.run("classify", image=key, by=kept.id)
        found = study.label_map(study.in_hand(key))
        wanted = classify(self.image, read_classifier(self.place / "c.skops"))
        self.assertGreater(float(np.mean(found.kji == wanted.kji)), 0.999)
