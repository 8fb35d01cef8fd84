"""Stains separated, against amounts that are known, and against another library."""

import tracemalloc

import numpy as np
from skimage.color import separate_stains

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.core.space import picture_space
from kestrelmist.demo.stained import EOSIN, HAEMATOXYLIN, WHITE, stained
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.tiff_write import save_ome_tiff
from kestrelmist.prepare.stains.stain_vectors import KNOWN, known_vectors
from kestrelmist.prepare.stains.stains import stain_colours, stains
from kestrelmist.prepare.stains.unmixing import Unmixing
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls


def picture(colours: np.ndarray, name: str = "Section") -> Image:
    space = picture_space(colours.shape[1], colours.shape[0], (5e-4, 5e-4))
    return Image(np.ascontiguousarray(colours.transpose(1, 0, 2)[:, :, None, :]), space, name, "T-1", colour=True)


def rows(image: Image) -> np.ndarray:
    return image.data[:, :, 0].T


def together(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1])


class TruthTest(PlaceCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = stained(5, 384)

    def test_amounts_are_those_that_were_put_in(self):
        found = stains(picture(self.made.colours))
        self.assertEqual([one.name for one in found.stains], ["Section, haematoxylin", "Section, eosin"])
        self.assertEqual([one.unit for one in found.stains], ["OD", "OD"])
        for one, true in zip(found.stains, self.made.amounts):
            self.assertGreater(together(rows(one), true), 0.98)
            self.assertAlmostEqual(float(rows(one).mean() / true.mean()), 1, delta=0.06)
        self.assertLess(float(rows(found.residual).mean()), 0.03)
        white = found.vectors.rows[-1]
        np.testing.assert_allclose(white[1:4], WHITE, atol=1.5)

    def test_other_stains_and_colours_by_name_and_estimated(self):
        cases = [(known_vectors(name)[:2], name) for name in KNOWN if len(KNOWN[name][1]) == 2]
        cases.append(([("a", (0.60, 0.75, 0.30)), ("b", (0.15, 0.95, 0.25))], "estimate"))
        cases.append(([("a", (0.30, 0.50, 0.81)), ("b", (0.85, 0.45, 0.28))], "estimate"))
        for n, (vectors, name) in enumerate(cases):
            first, second = (vector for _, vector in vectors)
            made = stained(20 + n, 200, first, second, (236.0, 243.0, 229.0), (0.7, 0.4))
            image = picture(made.colours)
            for pair in {name, "estimate"}:
                found = stains(image, pair)
                best = [max(together(rows(one), true) for one in found.stains) for true in made.amounts]
                self.assertGreater(min(best), 0.98, f"{name} as {pair}")

    def test_from_areas_that_hold_one_stain_each(self):
        made = self.made
        colours = made.colours.copy()
        unmixing = Unmixing(np.array([HAEMATOXYLIN, EOSIN]), np.array(WHITE))
        for n, left in enumerate((0, 40)):
            amounts = np.zeros((2, 30, 30), np.float32)
            amounts[n] = 0.6
            colours[340:370, left : left + 30] = unmixing.colours(amounts)
        image = picture(colours)
        found = stains(image, "areas", first=(0, 340, 30, 30), second=(40, 340, 30, 30), white=WHITE)
        for row, vector in zip(found.vectors.rows, (HAEMATOXYLIN, EOSIN)):
            np.testing.assert_allclose(row[1:4], np.array(vector) / np.linalg.norm(vector), atol=0.01)
        found = stains(image, "areas", first=(0, 340, 30, 30), second=(40, 340, 30, 30), white_area=(2, 100, 30, 30))
        np.testing.assert_allclose(found.vectors.rows[-1][1:4], WHITE, atol=3)

    def test_as_another_library_has_it(self):
        image = picture(self.made.colours)
        found = stains(image, "haematoxylin, eosin and DAB", white=(255, 255, 255))
        vectors = np.array([v for _, v in known_vectors("haematoxylin, eosin and DAB")])
        theirs = separate_stains(self.made.colours, np.linalg.inv(vectors))
        for n, one in enumerate(found.stains):
            self.assertGreater(together(rows(one), theirs[..., n]), 0.9999)

    def test_back_to_colour(self):
        image = picture(self.made.colours)
        found = stains(image)
        again = stain_colours(found.stains[0], [found.stains[1]])
        back = again.rgb()[:, :, 0].transpose(1, 0, 2).astype(int)
        self.assertLess(np.abs(back - self.made.colours).mean(), 4)
        alone = stain_colours(found.stains[1]).rgb()[:, :, 0].transpose(1, 0, 2)
        tissue = rows(found.stains[1]) > 0.2
        self.assertGreater(float(alone[tissue][:, 0].mean()), 200)  # eosin lets red pass
        other = stain_colours(found.stains[0], [found.stains[1]], pair="haematoxylin and DAB")
        self.assertLess(float(other.rgb()[:, :, 0].transpose(1, 0, 2)[tissue][:, 2].mean()), 190)

    def test_a_stain_of_a_pair_by_its_name(self):
        found = stains(picture(self.made.colours))
        own = stain_colours(found.stains[1]).rgb().astype(int)
        save_ome_tiff(self.place / "eosin.ome.tif", found.stains[1])
        save_ome_tiff(self.place / "one.ome.tif", found.stains[0])
        eosin, one = open_image(self.place / "eosin.ome.tif"), open_image(self.place / "one.ome.tif")
        white = found.vectors.rows[-1][1:4]
        pair = "haematoxylin and eosin"
        self.assertLess(np.abs(stain_colours(eosin, pair=pair, white=white).rgb() - own).max(), 2)
        both = stain_colours(eosin, [one], pair=pair, white=white).rgb().astype(int)  # order does not count
        self.assertLess(np.abs(both - stain_colours(found.stains[0], [found.stains[1]]).rgb()).max(), 2)

    def test_by_vectors_that_are_typed(self):
        found = stains(picture(self.made.colours), "estimate")
        told = ", ".join(" ".join(f"{v:.4f}" for v in row[1:4]) for row in found.vectors.rows[:2])
        save_ome_tiff(self.place / "one.ome.tif", found.stains[0])
        bare = open_image(self.place / "one.ome.tif")  # the file does not know what stain it is
        white = found.vectors.rows[-1][1:4]
        a = stain_colours(bare, vectors=told.split(",")[0], white=white).rgb()
        self.assertLess(np.abs(a.astype(int) - stain_colours(found.stains[0]).rgb()).max(), 2)
        for wrong in ("1 2", "a b c", "0 0 0", told):
            with self.assertRaisesRegex(Trouble, "is not red, green and blue of 1"):
                stain_colours(bare, vectors=wrong)

    def test_amounts_that_are_exact_come_back_exactly(self):
        rng = np.random.default_rng(1)
        for names in KNOWN:
            vectors = np.array([v for _, v in known_vectors(names)])
            unmixing = Unmixing(vectors, np.array([250.0, 245.0, 240.0]))
            amounts = rng.uniform(0.05, 0.5, (len(vectors), 30, 40)).astype(np.float32)
            colours = unmixing.colours(amounts)
            packed = np.full((30, 40), 0xFF000000, np.uint32)
            for n, shift in enumerate((16, 8, 0)):
                packed |= colours[..., n].astype(np.uint32) << np.uint32(shift)
            found = unmixing.amounts(packed)
            self.assertLess(np.abs(found[:-1] - amounts).mean(), 0.03, names)


class LargeTest(PlaceCase):
    def test_part_by_part_as_at_once(self):
        made = stained(8, 512)
        colours = np.tile(made.colours, (5, 5, 1))
        save_ome_tiff(self.place / "large.ome.tif", picture(colours))
        image = open_image(self.place / "large.ome.tif")
        self.assertTrue(image.levels)
        found = stains(image)
        for one, true in zip(found.stains, made.amounts):
            part = one.part((), (512, 1024, 1024, 1536))
            self.assertEqual(part.shape, (512, 512, 1))
            self.assertGreater(together(part[:, :, 0].T, true), 0.98)
            self.assertEqual([level.space.shape for level in one.levels], [level.space.shape for level in image.levels])
        tracemalloc.start()
        save_ome_tiff(self.place / "eosin.ome.tif", found.stains[1])
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(peak, 3.5 * colours.shape[0] * colours.shape[1] * 4)
        written = open_image(self.place / "eosin.ome.tif")
        self.assertEqual(written.space.shape, image.space.shape)
        self.assertEqual(len(written.levels), len(image.levels))
        again = written.part((), (512, 1024, 1024, 1536))
        np.testing.assert_array_equal(again, found.stains[1].part((), (512, 1024, 1024, 1536)))
        coarse = written.levels[0].data[:, :, 0]
        fine = found.stains[1].part((), (0, 2560, 0, 2560))[:, :, 0]
        np.testing.assert_allclose(coarse, fine.reshape(1280, 2, 1280, 2).mean((1, 3)), atol=1e-5)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "large.ome.tif", copy=False)
            study.run("stains", image=1)
            kept = [r for r in study.records() if r.unit == "OD"]
            self.assertEqual(len(kept), 3)
            opened = study.image(kept[1].id)
            self.assertTrue(opened.levels)
            np.testing.assert_array_equal(opened.part((), (512, 1024, 1024, 1536)), again)
            back = stain_colours(study.image(kept[0].id), [opened])
            self.assertEqual(back.part((), (600, 700, 600, 650)).shape, (100, 50, 1, 3))


class WrongTest(PlaceCase):
    def test_sentences(self):
        made = stained(5, 128)
        image = picture(made.colours)
        grey = picture(np.repeat(made.colours[:, :, :1], 3, 2))
        pale = picture(np.full((64, 64, 3), (240, 238, 239), np.uint8) + np.eye(64, dtype=np.uint8)[..., None] * 9)
        one = stained(5, 128, HAEMATOXYLIN, HAEMATOXYLIN)
        for words, call in (
            ("no picture in colour", lambda: stains(two_balls())),
            ("is grey", lambda: stains(grey)),
            ("is grey|Too little", lambda: stains(pale, "estimate")),
            ("one colour", lambda: stains(picture(one.colours), "estimate")),
            ("no empty glass", lambda: stains(image, white_area=(60, 40, 20, 20))),
            ("is darker than the picture", lambda: stains(image, white=(200, 200, 200))),
            ("holds no amounts", lambda: stain_colours(two_balls(unit="nm"), pair="Giemsa")),
            ("outside", lambda: stains(image, white_area=(600, 400, 20, 20))),
            ("two or three areas", lambda: stains(image, "areas", first=(60, 40, 9, 9))),
            ("nearly no stain", lambda: stains(image, "areas", first=(1, 40, 9, 9), second=(1, 60, 9, 9))),
            ("same colour", lambda: stains(image, "areas", first=(60, 40, 30, 30), second=(60, 40, 30, 30))),
            ("Nothing tells", lambda: stain_colours(two_balls(unit="OD"))),
            (
                "has 2 stains",
                lambda: stain_colours(two_balls(unit="OD"), [two_balls(unit="OD")] * 2, pair="haematoxylin and eosin"),
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                call()

    def test_black_and_white_pixels(self):
        colours = stained(5, 128).colours.copy()
        colours[:20, :20], colours[20:40, :20] = 0, 255
        for one in (*stains(picture(colours)).stains, stains(picture(colours)).residual):
            self.assertTrue(np.isfinite(one.data).all())
            self.assertGreaterEqual(float(one.data.min()), 0)

    def test_on_the_command_line(self):
        made = stained(5, 256)
        save_ome_tiff(self.place / "section.ome.tif", picture(made.colours))
        out = self.place / "apart"
        kestrelmist("stains", self.place / "section.ome.tif", "--pair", "haematoxylin and eosin", "--out", out)
        names = sorted(p.name for p in out.iterdir())
        self.assertEqual(names, ["eosin.ome.tif", "haematoxylin.ome.tif", "residual.ome.tif", "vectors.csv"])
        found = open_image(out / "eosin.ome.tif")
        found.fetch(silent())
        self.assertGreater(together(rows(found), made.amounts[1]), 0.98)
        self.assertAlmostEqual(found.space.spacing[0], 5e-4)
        kestrelmist("stains", self.place / "section.ome.tif", "--pair", "estimate", "--out", self.place / "second")
        self.assertIn("stain 1.ome.tif", [p.name for p in (self.place / "second").iterdir()])
        kestrelmist("stains", self.place / "section.ome.tif", "--out", self.place / "one.ome.tif", code=1)
        self.assertFalse((self.place / "one.ome.tif").exists())
        failed = kestrelmist(
            "stains", self.place / "section.ome.tif", "--pair", "nothing", "--out", self.place / "n", code=1
        )
        self.assertIn("choose", failed.stderr)
