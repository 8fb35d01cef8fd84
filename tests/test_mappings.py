"""Mappings of every kind against closed forms and SimpleITK, files both ways, and the ways that a study finds."""

import random

import nibabel as nib
import numpy as np
import SimpleITK as sitk

from kestrelmist.align.transforms import open_transform
from kestrelmist.core.chain import Chain, PerVolume, joined
from kestrelmist.core.displacement import MANY, DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.mapping_kinds import mapping_from
from kestrelmist.core.space import Space
from kestrelmist.core.through import resampled_through, seen_through
from kestrelmist.core.transform import Transform
from kestrelmist.core.turned_round import TurnedRound
from kestrelmist.core.world import World
from kestrelmist.formats.format import format_of
from kestrelmist.formats.saving import save_thing
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sampling import sample_values
from kestrelmist.scene.view import AXIAL, CORONAL, plane_view
from kestrelmist.study.inputs import settle
from kestrelmist.study.keeping import keep
from kestrelmist.study.study import Study
from kestrelmist.study.task import compute
from kestrelmist.study.used import used
from tests.desk_case import DeskCase
from tests.making import PlaceCase, tilted_space

LPS = np.array([-1.0, -1.0, 1.0])
ONE, OTHER = World("one", "one"), World("other", "other")


def bent(space: Space | None = None, size: float = 1.2, **about) -> DisplacementField:
    """A smooth field that does not fold: waves of a given size in mm."""
    space = space or tilted_space((26, 24, 22), (0.8, 0.9, 1.0))
    p = space.to_world(np.indices(space.shape).reshape(3, -1).T) - space.centre
    waves = size * np.stack([np.sin(p[:, 1] / 4), np.cos(p[:, 2] / 5), np.sin(p[:, 0] / 6 + 1)], axis=1)
    return DisplacementField(waves.reshape(*space.shape, 3).astype(np.float32), space, **about)


def turned(degrees: float = 20.0, shift=(1.0, -2.0, 3.0)) -> Transform:
    a = np.radians(degrees)
    matrix = np.eye(4)
    matrix[:2, :2] = [[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]]
    matrix[:3, 3] = shift
    return Transform(matrix)


def inside(space: Space, count: int = 300) -> np.ndarray:
    rng = np.random.default_rng(5)
    return space.to_world(3 + rng.random((count, 3)) * (np.array(space.shape) - 7))


def blobs(space: Space, name: str = "Head") -> Image:
    """Smooth bright spots in the middle of a grid."""
    p = (space.to_world(np.indices(space.shape).reshape(3, -1).T) - space.centre).T
    values = 1000 * np.exp(-((p[0] - 2) ** 2 + p[1] ** 2 + p[2] ** 2) / 12)
    values += 700 * np.exp(-((p[0] + 3) ** 2 + (p[1] - 2) ** 2 + p[2] ** 2) / 8)
    return Image(values.astype(np.float32).reshape(space.shape), space, name, "T-1")


def of_library(transform, points: np.ndarray) -> np.ndarray:
    return np.array([transform.TransformPoint(tuple(p)) for p in (points * LPS).tolist()]) * LPS


class KindsTest(PlaceCase):
    def test_few_and_many_points_are_moved_alike(self):
        random = np.random.default_rng(3)
        space = Space((9, 8, 7), np.array([[1.5, 0.2, 0, -4], [0, 1, 0, 2], [0, 0, 3, -9], [0, 0, 0, 1.0]]))
        for shifts in (random.normal(size=(9, 8, 7, 3)), np.asfortranarray(random.normal(size=(9, 8, 7, 3)))):
            field = DisplacementField(shifts.astype(np.float32, order="K"), space)
            points = space.to_world(random.uniform(-1.5, 9.5, (MANY + 10, 3)))
            points[5] = np.nan
            many = field.to(points)
            few = np.concatenate([field.to(part) for part in np.array_split(points, 20)])
            np.testing.assert_allclose(many, few, atol=1e-5)

    def test_a_field_is_linear_between_voxels_and_none_beyond(self):
        field = bent()
        reference = sitk.DisplacementFieldTransform(_field_image(field))
        points = np.concatenate([inside(field.space), field.space.centre + 400 * np.eye(3)])
        np.testing.assert_allclose(field.to(points), of_library(reference, points), atol=2e-6)
        np.testing.assert_array_equal(field.to(points[-3:]), points[-3:])
        self.assertEqual(field.to((1.0, 2.0, 3.0)).shape, (3,))

    def test_the_way_back_is_found_to_a_tenth_of_a_voxel(self):
        field = bent()
        points = inside(field.space)
        back = field.back(field.to(points))
        self.assertLess(np.linalg.norm(back - points, axis=1).max(), 0.1 * min(field.space.spacing))
        turned_round = field.inverse()
        self.assertIsInstance(turned_round, TurnedRound)
        np.testing.assert_array_equal(turned_round.to(points), field.back(points))
        self.assertIs(turned_round.inverse(), field)
        folded = bent(size=6.0)
        found = folded.back(points)
        there = np.isfinite(found).all(axis=1)
        self.assertLess(there.mean(), 1.0)  # of some places nothing can be said
        self.assertLess(np.linalg.norm(folded.to(found[there]) - points[there], axis=1).max(), 0.1)

    def test_chains_do_their_steps_in_order_and_back(self):
        field, move = bent(), turned()
        chain = joined(joined(move, field), move)
        points = move.back(inside(field.space))
        np.testing.assert_allclose(chain.to(points), move.to(field.to(move.to(points))))
        np.testing.assert_allclose(chain.back(chain.to(points)), points, atol=0.05)
        np.testing.assert_allclose(chain.inverse().to(chain.to(points)), points, atol=0.05)
        self.assertEqual([part.words for part in chain.parts], ["affine", "displacement field", "affine"])
        self.assertIsInstance(joined(move, move), Transform)  # affine ones are one matrix
        self.assertEqual(len(joined(chain, move).parts), 3)
        with self.assertRaisesRegex(Trouble, "leads to one and .* starts from other"):
            joined(move.between(ONE, ONE), move.between(OTHER, ONE))

    def test_one_a_volume(self):
        moves = [turned(n, (n, 0, 0)) for n in range(4)]
        motion = PerVolume(np.array([m.matrix for m in moves]), name="Motion")
        points = np.random.default_rng(1).normal(size=(5, 3))
        for n, move in enumerate(moves):
            np.testing.assert_allclose(motion.at(n).to(points), move.to(points))
            np.testing.assert_allclose(motion.inverse().at(n).to(move.to(points)), points, atol=1e-12)
            np.testing.assert_allclose(joined(motion, moves[1]).at(n).to(points), moves[1].to(move.to(points)))
            np.testing.assert_allclose(joined(moves[1], motion).at(n).to(points), move.to(moves[1].to(points)))
        with self.assertRaisesRegex(Trouble, "one affine for each of 4 volumes, and one is wanted"):
            motion.to(points)
        with self.assertRaisesRegex(Trouble, "has 4 transforms, and none for volume 5"):
            motion.at(4)
        both = joined(bent(), motion)
        self.assertTrue(both.each_volume)
        for n, move in enumerate(moves):
            np.testing.assert_allclose(both.of_volume(n).to(points), move.to(bent().to(points)))
        with self.assertRaisesRegex(Trouble, "and one is wanted"):
            both.to(points)

    def test_each_kind_is_read_back_from_what_it_tells(self):
        for made in (turned(), bent(), bent().inverse(), joined(turned(), bent()), PerVolume(np.eye(4)[None])):
            made = made.between(ONE, OTHER).named("Mine", "T-1")
            facts, arrays = made.facts()
            again = mapping_from(facts, arrays, "Mine", "T-1")
            self.assertEqual((type(again), again.content_hash()), (type(made), made.content_hash()))
            self.assertEqual((again.source, again.target, again.subject), (ONE, OTHER, "T-1"))
        with self.assertRaisesRegex(Trouble, "does not know transforms of the kind “knot”"):
            mapping_from({"kind": "knot"}, [])

    def test_resampled_through_as_the_library_does(self):
        image = blobs(tilted_space((30, 28, 26), (0.6, 0.7, 0.8)))
        target = tilted_space((24, 22, 20), (0.8, 0.8, 0.9), degrees=5)
        for way in (turned(6, (0.5, -0.4, 0.3)), bent(target, 0.8), joined(turned(4), bent(target, 0.7))):
            ours = resampled_through(image.kji, image.space, target, way, "linear", 0.0)
            theirs = sitk.Resample(
                _library_image(image), _library_image(Image(np.zeros(target.shape, np.float32), target)),
                _library(way), sitk.sitkLinear, 0.0, sitk.sitkFloat32,
            )  # fmt: skip
            theirs = sitk.GetArrayFromImage(theirs)
            alike = np.abs(ours - theirs) < 0.05  # at the outer half voxel the library has nothing
            self.assertGreater(alike.mean(), 0.97, way.words)
            self.assertGreater(int((theirs > 500).sum()), 100)
        with self.assertRaisesRegex(Trouble, "bends space, and a sinc cannot follow it"):
            resampled_through(image.kji, image.space, target, bent(target), "sinc")


def _field_image(field: DisplacementField):
    from kestrelmist.formats.itk_transforms import field_image

    return field_image(field)


def _library(way):
    from kestrelmist.formats.itk_transforms import library_transform

    return library_transform(way)


def _library_image(image: Image):
    made = sitk.GetImageFromArray(np.ascontiguousarray(image.kji.astype(np.float32)))
    affine = np.diag([*LPS, 1]) @ image.space.affine
    made.SetOrigin(affine[:3, 3].tolist())
    made.SetSpacing(image.space.spacing)
    made.SetDirection((affine[:3, :3] / np.array(image.space.spacing)).ravel().tolist())
    return made


class FilesTest(PlaceCase):
    def read(self, name: str):
        path = self.place / name
        return format_of(path, "transform").open(path)

    def test_ours_is_read_by_the_library(self):
        field, move = bent(), turned()
        points = inside(field.space, 60)
        for name, mapping in (
            ("a.tfm", move), ("a.h5", move), ("a.mat", move), ("f.h5", field), ("f.tfm", field),
            ("c.h5", joined(move, field)), ("c.tfm", joined(field, move)),
        ):  # fmt: skip
            save_thing(self.place / name, mapping)
            found = sitk.ReadTransform(str(self.place / name))
            np.testing.assert_allclose(of_library(found, points), mapping.to(points), atol=1e-5, err_msg=name)
            again = self.read(name)
            np.testing.assert_allclose(again.to(points), mapping.to(points), atol=1e-5, err_msg=name)
            self.assertEqual(again.words, mapping.words, name)
        save_thing(self.place / "field.nii.gz", field)
        found = sitk.DisplacementFieldTransform(
            sitk.ReadImage(str(self.place / "field.nii.gz"), sitk.sitkVectorFloat64)
        )
        np.testing.assert_allclose(of_library(found, points), field.to(points), atol=1e-5)
        self.assertEqual(sorted(p.name for p in self.place.iterdir() if "part" in p.name), [])

    def test_the_library_s_is_read_by_us(self):
        field, move = bent(), turned()
        points = inside(field.space, 60)
        for name, mapping in (("c.h5", joined(move, field)), ("c.tfm", joined(move, field)), ("f.h5", field)):
            sitk.WriteTransform(_library(mapping), str(self.place / name))
            np.testing.assert_allclose(self.read(name).to(points), mapping.to(points), atol=1e-5, err_msg=name)
        sitk.WriteImage(_field_image(field), str(self.place / "f.nii.gz"))
        self.assertEqual(int(nib.load(self.place / "f.nii.gz").header["intent_code"]), 1007)
        np.testing.assert_allclose(self.read("f.nii.gz").to(points), field.to(points), atol=1e-5)
        euler = sitk.Euler3DTransform((1, 2, 3), 0.1, 0.2, 0.3, (4, 5, 6))
        sitk.WriteTransform(euler, str(self.place / "e.h5"))
        np.testing.assert_allclose(self.read("e.h5").to(points), of_library(euler, points), atol=1e-9)

    def test_displacements_by_the_standard_run_right_front_and_up(self):
        field = bent()
        file = nib.Nifti1Image(field.shifts[:, :, :, None], field.space.affine)
        file.header.set_intent(1006)
        nib.save(file, self.place / "d.nii")
        points = inside(field.space, 20)
        np.testing.assert_allclose(self.read("d.nii").to(points), field.to(points), atol=1e-5)

    def test_kinds_and_numbers_that_would_end_the_library(self):
        grid = "1 1 1 1 0 0 0 1 0 0 0 1"
        for kind, fixed, said in (
            ("BSplineTransform_double_3_3", f"100000 100000 100000 0 0 0 {grid}", "kind BSplineTransform cannot be"),
            ("BSplineTransform_double_3_3", f"-5 4 4 0 0 0 {grid}", "kind BSplineTransform cannot be"),
            ("DisplacementFieldTransform_double_3_3", f"100000 100000 9 0 0 0 {grid}", "other numbers than its grid"),
            ("DisplacementFieldTransform_double_3_3", f"-1 1 1 0 0 0 {grid}", "other numbers than its grid"),
            ("DisplacementFieldTransform_double_3_3", "1 1 1 0 0 0 0 1 1 1 0 0 0 1 0 0 0 1", "no directions in space"),
            ("AffineTransform_double_3_3", "nan 0 0", "numbers of this transform are none"),
            ("AffineTransform_double_3_3", "0 0", "is damaged"),
            ("AffineTransform_double_2_2", "0 0", "not one of three dimensions"),
        ):
            text = f"#Insight Transform File V1.0\n#Transform 0\nTransform: {kind}\n"
            (self.place / "t.tfm").write_text(f"{text}Parameters: 0 0 0\nFixedParameters: {fixed}\n")
            with self.subTest(kind, fixed=fixed), self.assertRaisesRegex(Trouble, f"{said}.*t.tfm"):
                self.read("t.tfm")

    def test_damaged_copies_are_a_sentence_or_open(self):
        rng = random.Random(5)
        field, move = bent(), turned()
        whole = 0
        for name in ("a.tfm", "a.mat", "a.h5", "f.h5", "f.nii.gz", "c.tfm"):
            thing = move if name.startswith("a") else field if name.startswith("f") else joined(field, move)
            save_thing(self.place / name, thing)
            raw = (self.place / name).read_bytes()
            for n in range(25):
                damaged = bytearray(raw if n % 4 else raw[: rng.randrange(len(raw))])
                for _ in range(rng.choice((1, 3, 20))):
                    if damaged:
                        damaged[rng.randrange(min(len(damaged), 400 if n % 2 else len(damaged)))] = rng.randrange(256)
                path = self.place / f"x{n}{name}"
                path.write_bytes(damaged)
                try:
                    open_transform(file=path).to(np.zeros((2, 3)))
                    whole += 1
                except Trouble as trouble:
                    self.assertIn(path.name, str(trouble))
        self.assertGreater(whole, 5)

    def test_wrong_files_are_one_sentence(self):
        field = bent()
        shifts = field.shifts[:, :, :, None].copy()
        for name, values, intent, said in (
            ("nan.nii", np.where(np.arange(3) == 1, np.nan, shifts), 1007, "no numbers .NaN."),
            ("intent.nii", shifts, 1005, "intent of this file is 1005"),
            ("micron.nii", shifts, 1007, "are in micron, and shifts are read in mm"),
            ("time.nii", np.repeat(shifts, 2, axis=3), 1007, "i × j × k × 1 × 3"),
        ):
            file = nib.Nifti1Image(values.astype(np.float32), field.space.affine)
            file.header.set_intent(intent)
            file.header.set_xyzt_units("micron" if "micron" in name else "mm")
            nib.save(file, self.place / name)
            with self.subTest(name), self.assertRaisesRegex(Trouble, f"{said}.*{name}"):
                self.read(name)
        (self.place / "half.h5").write_bytes(b"\x89HDF\r\n\x1a\n" + bytes(50))
        with self.assertRaisesRegex(Trouble, "holds no transform, or is damaged"):
            self.read("half.h5")
        for name, said in (("x.txt", "holds affine ones alone"), ("x.mat", "holds affine ones alone")):
            with self.subTest(name), self.assertRaisesRegex(Trouble, said):
                save_thing(self.place / name, field)
        with self.assertRaisesRegex(Trouble, "holds displacement fields alone"):
            save_thing(self.place / "x.nii.gz", turned())
        self.assertFalse(any((self.place / n).exists() for n in ("x.txt", "x.mat", "x.h5", "x.nii.gz")))

    def test_the_way_back_of_a_field_is_written_worked_out(self):
        field, points = bent(), inside(tilted_space((26, 24, 22), (0.8, 0.9, 1.0)))
        away = joined(Transform(turned(0, (40.0, 0, 0)).matrix), field.inverse())  # it begins elsewhere
        for name, way, places in (
            ("back.nii.gz", field.inverse(), field.to(points)),
            ("back.h5", field.inverse(), field.to(points)),
            ("away.nii.gz", away, field.to(points) - (40.0, 0, 0)),
        ):
            save_thing(self.place / name, way)
            found = self.read(name).to(places)
            with self.subTest(name):
                self.assertLess(np.linalg.norm(found - points, axis=1).max(), 0.08)  # a tenth of a voxel
                itk = sitk.ReadTransform(str(self.place / name)) if name.endswith("h5") else None
                if itk is not None:
                    theirs = np.array([itk.TransformPoint((LPS * p).tolist()) for p in places]) * LPS
                    np.testing.assert_allclose(theirs, found, atol=1e-4)


class WaysTest(DeskCase):
    """Two images in two worlds, and transforms between."""

    def setUp(self):
        super().setUp()
        self.own = blobs(tilted_space((30, 28, 26), (0.6, 0.7, 0.8)))
        self.atlas_space = tilted_space((26, 24, 22), (0.8, 0.9, 1.0), degrees=0).in_world(OTHER)
        self.way = turned(8, (0.4, -0.3, 0.5)).between(OTHER, ONE).named("To the head", "T-1")
        self.folder = self.place / "study"
        with Study(self.folder, create=True) as study:
            own = Image(self.own.data, self.own.space.in_world(ONE), "Head", "T-1")
            atlas = Image(np.ones(self.atlas_space.shape, np.float32), self.atlas_space, "Atlas", "Standard")
            for image in (own, atlas):
                self.take(study, image)

    def take(self, study: Study, thing) -> int:
        """Put something into a study as an operation would that has made it."""
        name = "clip" if isinstance(thing, Image) else "invert-transform"
        given = {"image": thing, "high": 1e9} if isinstance(thing, Image) else {"transform": thing.inverse()}
        task = settle(study, name, given)
        made = compute(study, task, progress=_silent())
        return keep(study, task, made)["image" if isinstance(thing, Image) else "transform"]

    def study(self) -> Study:
        study = Study(self.folder)
        self.addCleanup(study.close)
        return study

    def keys(self, study: Study) -> tuple[int, int]:
        """The head and the atlas."""
        by_world = {r.grid.world.id: r.id for r in study.records()[:2]}
        return by_world["one"], by_world["other"]

    def test_two_worlds_without_a_way_are_refused_everywhere_in_one_sentence(self):
        study = self.study()
        head, atlas = self.keys(study)
        sentence = "lies in another space .other. than .* .one., and no transform leads from one to the other"
        back = "lies in another space .one. than .* .other., and no transform leads from one to the other"
        study.run("threshold", image=atlas, label="All", low=0.5, high=1.5)
        for operation, given in (
            ("calculate", {"image": head, "formula": "a + b", "others": [atlas]}),
            ("combine", {"image": head, "others": [atlas]}),
            ("resample", {"image": head, "onto": atlas}),
            ("bring-labels", {"image": head, "source": study.in_hand(atlas)}),
            ("picture", {"image": head, "over": [atlas], "to": self.place / "x.png"}),
        ):
            with self.subTest(operation), self.assertRaisesRegex(Trouble, f"{sentence}|{back}"):
                study.run(operation, **given)

    def test_the_way_is_found_told_and_taken(self):
        study = self.study()
        head, atlas = self.keys(study)
        self.take(study, self.way)
        task = settle(study, "resample", {"image": head, "onto": atlas, "how": "linear"})
        rows = {row.name: (row.value, row.whence) for row in used(study, task)}
        name = study.items.of_kind("transform")[0].name
        self.assertEqual(rows["through"][1], f"found by “{name}”")
        made = study.image(study.run("resample", image=head, onto=atlas, how="linear", soften=False)[0])
        self.assertTrue(made.space.same_grid(self.atlas_space))
        self.assertEqual(made.space.world.id, "other")
        expected = resampled_through(self.own.kji, self.own.space, self.atlas_space, self.way, "linear")
        np.testing.assert_allclose(made.kji, expected, atol=1e-3)
        self.assertEqual(study.logbook.entries()[-1].found["through"][1], f"found by “{name}”")
        applied = study.run("apply-transform", image=head, transform=name, onto=atlas, how="linear")
        soft = study.image(study.run("resample", image=head, onto=atlas, how="linear")[0])
        np.testing.assert_array_equal(study.image(applied[0]).kji, soft.kji)
        back = study.run("invert-transform", transform=name)
        again = study.run("apply-transform", image=head, transform=back, onto=atlas, how="linear")
        np.testing.assert_allclose(study.image(again[0]).kji, soft.kji, atol=1e-2)

    def test_chains_of_the_study_and_ways_that_disagree(self):
        study = self.study()
        middle = World("middle", "middle")
        self.take(study, turned(3).between(OTHER, middle).named("First"))
        self.assertIsNone(study.way(OTHER, ONE))
        self.take(study, turned(5).between(ONE, middle).named("Second"))
        way = study.way(OTHER, ONE)
        points = np.random.default_rng(2).normal(size=(6, 3)) * 10
        np.testing.assert_allclose(way.mapping.to(points), turned(5).back(turned(3).to(points)), atol=1e-9)
        self.assertEqual(len(way.made_of), 2)
        self.take(study, self.way)  # a shorter one goes before
        self.assertEqual([r.name for r in study.way(OTHER, ONE).made_of], [study.items.of_kind("transform")[-1].name])
        self.take(study, turned(9).between(OTHER, ONE).named("Another"))
        with self.assertRaisesRegex(Trouble, "Two ways lead from other to one, by .* and by .*disagree by [0-9.]+ mm"):
            study.way(OTHER, ONE)
        study.set_removed(study.items.of_kind("transform")[-1].id, True)
        self.assertIsNotNone(study.way(OTHER, ONE))

    def test_fields_are_kept_and_opened_again(self):
        with Study(self.folder) as study:
            field = bent(self.atlas_space, 0.8).between(OTHER, ONE).named("Warp", "T-1")
            save_thing(self.place / "Warp.h5", field)
            head, atlas = self.keys(study)
            key = study.run("open-transform", file=self.place / "Warp.h5", from_image=atlas, to_image=head)
        with Study(self.folder) as study:
            points = inside(self.atlas_space, 50)
            found = study.thing(key)
            self.assertEqual((found.source.id, found.target.id, found.name), ("other", "one", "Warp"))
            np.testing.assert_allclose(found.to(points), field.to(points), atol=1e-5)
            turned_round = study.run("invert-transform", transform=key)
            done = study.run("field-of-transform", transform=turned_round, grid=head)
            made, report = done["transform"], done["report"]
            self.assertLess(report.column("filled in")[0], 0.2 * report.column("voxels")[0])
            there = study.thing(made)
            near = self.own.space.centre + np.random.default_rng(4).uniform(-3, 3, (30, 3))
            np.testing.assert_allclose(there.to(near), field.back(near), atol=0.1)
            study.delete(made, study.items.get(made).name)
            self.assertEqual(list((self.folder / "transforms").glob(f"{made}*")), [])

    def test_said_to_lie_together(self):
        study = self.study()
        head, atlas = self.keys(study)
        study.run("together", image=head, others=[atlas])
        self.assertEqual(study.way(OTHER, ONE).mapping.to((1, 2, 3)).tolist(), [1, 2, 3])
        study.run("resample", image=head, onto=atlas)
        with self.assertRaisesRegex(Trouble, "lie in one space already"):
            study.run("together", image=head, others=[head])
        study.history.undo()
        study.history.undo()
        self.assertIsNone(study.way(OTHER, ONE))

    def test_a_layer_is_seen_through_what_leads_to_it(self):
        window = self.open(self.folder)
        desk = window.desk
        head, atlas = self.keys(desk.study)
        desk.viewing.show_image(atlas)
        self.settle(window)
        desk.layers.lay_over(head)
        self.assertIn("no transform leads from one to the other", self.troubles[-1])
        self.assertEqual(len(desk.layers.rows), 1)
        field = bent(self.atlas_space, 0.8).between(OTHER, ONE).named("Warp", "T-1")
        save_thing(self.place / "Warp.h5", field)
        desk.study.run("open-transform", file=self.place / "Warp.h5", from_image=atlas, to_image=head)
        desk.layers.lay_over(head)
        self.settle(window)
        image = desk.layers.image(head)
        self.assertIsNotNone(image.through)
        view = plane_view(AXIAL, tuple(self.atlas_space.centre), 0.5, 40, 40)
        seen = sample_values(view, image, True)
        for x, y in ((20, 20), (11, 25), (28, 14)):
            place = field.to(view.to_world(x, y))
            expected = resampled_through(
                self.own.kji, self.own.space, Space((1, 1, 1), _at(place)), Transform(np.eye(4)), "linear"
            )
            self.assertAlmostEqual(float(seen[y, x]), float(expected[0, 0, 0]), delta=1.0)
            self.assertEqual(image.voxel_at(view.to_world(x, y)), self.own.space.nearest_voxel(place))
        told = window.table.lead.canvas.render_pixels()
        self.assertGreater(len(np.unique(told)), 5)
        transform = desk.study.items.of_kind("transform")[0]
        desk.study.set_removed(transform.id, True)  # nothing leads there any more
        desk.session.following.moved((transform.id,))
        self.settle(window)
        self.assertIn("no transform leads from one to the other", self.troubles[-1])

    def test_affine_ways_move_the_grid_and_copy_nothing(self):
        image = Image(self.own.data, self.own.space.in_world(ONE), "Head")
        seen = seen_through(image, self.way.inverse())
        self.assertIsNone(seen.through)
        self.assertTrue(np.shares_memory(seen.data, image.data))
        view = plane_view(CORONAL, tuple(self.atlas_space.centre), 0.4, 50, 50)
        by_grid = draw(view, [Drawn(seen, ImageLook(0, 1000, smooth=False))])
        chain = Chain((self.way.inverse(), bent(self.own.space, 0.0).between(OTHER, OTHER)))
        by_place = draw(view, [Drawn(seen_through(image, chain), ImageLook(0, 1000, smooth=False))])
        self.assertGreater((by_grid == by_place).mean(), 0.95)  # voxels that a pixel lies between


def _at(place) -> np.ndarray:
    affine = np.eye(4)
    affine[:3, 3] = place
    return affine


def _silent():
    from kestrelmist.core.progress import silent

    return silent()
