import json

import numpy as np
import SimpleITK as sitk
from PySide6.QtWidgets import QMenu

from kestrelmist.core.chain import joined
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.formats.format import format_of
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image, save_thing
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, two_balls

FLIP = np.diag([-1.0, -1.0, 1.0])
"""From right, front, up to left, back, up and back again."""
GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}


def turned(degrees=(10, -20, 30), shift=(1.5, -2.5, 4.0), scale=1.1) -> Transform:
    euler = sitk.Euler3DTransform((0, 0, 0), *np.radians(degrees).tolist())
    matrix = np.eye(4)
    matrix[:3, :3] = scale * np.array(euler.GetMatrix()).reshape(3, 3)
    matrix[:3, 3] = shift
    return Transform(matrix, name="Turned")


def read(path) -> Transform:
    known = format_of(path, "transform")
    if known is None:
        raise Trouble("no format", "", path)
    return known.open(path)


class FilesTest(PlaceCase):
    def points(self):
        return np.random.default_rng(3).normal(0, 40, (20, 3))

    def assert_same_as(self, theirs: sitk.Transform, ours: Transform):
        for p in self.points():
            there = FLIP @ np.array(theirs.TransformPoint((FLIP @ p).tolist()))
            np.testing.assert_allclose(ours.to(p), there, atol=1e-9)

    def test_what_another_library_writes(self):
        affine = sitk.AffineTransform(3)
        affine.SetMatrix((1.1, 0.1, 0, -0.2, 0.9, 0.05, 0, 0.3, 1.2))
        affine.SetTranslation((3, -4, 5))
        affine.SetCenter((10, 20, -30))
        rigid = sitk.Euler3DTransform((5, 6, 7), 0.1, -0.2, 0.3, (1, 2, 3))
        both = sitk.CompositeTransform([affine, rigid])
        for n, made in enumerate((affine, rigid, sitk.TranslationTransform(3, (1, 2, 3)), both)):
            path = self.place / f"t{n}.tfm"
            sitk.WriteTransform(made, str(path))
            self.assert_same_as(made, read(path))
            text = self.place / f"t{n}.txt"  # some write the same under another ending
            text.write_bytes(path.read_bytes())
            self.assert_same_as(made, read(text))

    def test_what_we_write_another_library_reads(self):
        ours = turned()
        save_thing(self.place / "o.tfm", ours)
        self.assert_same_as(sitk.ReadTransform(str(self.place / "o.tfm")), ours)
        save_thing(self.place / "o.txt", ours)
        np.testing.assert_array_equal(np.loadtxt(self.place / "o.txt"), ours.matrix)
        for name in ("o.tfm", "o.txt"):
            np.testing.assert_allclose(read(self.place / name).matrix, ours.matrix, atol=1e-12)
            self.assertEqual(read(self.place / name).name, "o")

    def test_wrong_files_are_one_sentence(self):
        sitk.WriteTransform(sitk.Euler2DTransform((0, 0), 0.3, (1, 2)), str(self.place / "flat.tfm"))
        bent = sitk.BSplineTransform(3, 3)
        bent.SetTransformDomainMeshSize((2, 2, 2))
        bent.SetTransformDomainPhysicalDimensions((10, 10, 10))
        sitk.WriteTransform(bent, str(self.place / "bent.tfm"))
        good = self.place / "good.tfm"
        save_thing(good, turned())
        text = good.read_text()
        rows = ["1 0 0 0", "0 1 0 0", "0 0 1 0", "0 0 0 1"]
        for name, content, said in (
            ("flat.tfm", None, "not one of three dimensions|2 dimensions"),
            ("bent.tfm", None, "kind BSplineTransform cannot be opened"),
            ("cut.tfm", text[: len(text) // 2], "damaged"),
            ("empty.tfm", "#Insight Transform File V1.0\n", "damaged"),
            ("three.txt", "1 0 0\n0 1 0\n0 0 1\n", "3 rows, not four"),
            ("prose.txt", "Dear diary,\ntoday", "no transform"),
            ("singular.txt", "\n".join(rows[:2] + ["0 0 0 0"] + rows[3:]), "singular"),
            ("nearly.txt", "\n".join(["1 2 3 0", "2 4 6 0", *rows[2:]]), "singular"),
            ("nan.txt", "\n".join(["nan 0 0 0", *rows[1:]]), "matrix of numbers"),
            ("last.txt", "\n".join(rows[:3] + ["0 0 1 1"]), "last row"),
            ("none.txt", "", "no transform"),
        ):
            path = self.place / name
            if content is not None:
                path.write_text(content)
            with self.subTest(name), self.assertRaisesRegex(Trouble, f"({said}).*{name}|{name}.*({said})"):
                read(path)
        (self.place / "bytes.txt").write_bytes(bytes(range(256)) * 20)
        with self.assertRaises(Trouble):
            read(self.place / "bytes.txt")
        tiny = Transform(np.diag([1e-6, 1e-6, 1e-6, 1.0]))  # small is not flat
        np.testing.assert_allclose(tiny.inverse().to(tiny.to((1, 2, 3))), (1, 2, 3))


class JoiningTest(PlaceCase):
    def test_join_and_turn_round(self):
        a, b = turned(), turned((0, 5, 0), (0, 0, 9), 0.8)
        p = np.array([3.0, -7.0, 11.0])
        np.testing.assert_allclose(joined(a, b).to(p), b.to(a.to(p)), atol=1e-12)
        np.testing.assert_allclose(a.inverse().to(a.to(p)), p, atol=1e-12)
        one = Transform(a.matrix, World("x", "x"), World("y", "Why"), "one")
        other = Transform(b.matrix, World("z", "Zed"), World("w", "w"), "other")
        with self.assertRaisesRegex(Trouble, "“one” leads to y and “other” starts from z"):
            joined(one, other)
        self.assertEqual(one.inverse().source.id, "y")


class PlacingTest(PlaceCase):
    def test_in_a_study_from_a_file_to_a_place(self):
        move = turned()
        save_thing(self.place / "Move.tfm", move)
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            key = study.run("open-transform", file=self.place / "Move.tfm", subject="T-1")
            before, labels = study.image(1), study.labels(1)
            inside = np.array((-4.0, 1.0, 1.0))
            self.assertEqual(before.value_at(inside), 1000)
            values = before.data
            study.run("place-by", image=1, transform="T-1/Move")
            after = study.image(1)
            self.assertTrue(np.shares_memory(after.data, values))
            self.assertEqual(after.value_at(move.to(inside)), 1000)
            self.assertEqual(labels.at(move.to(inside)), 1)
            self.assertTrue(labels.space.same_grid(after.space))
            back = study.run("invert-transform", transform=key)
            study.run("place-by", image=1, transform=back)
            np.testing.assert_allclose(study.image(1).space.affine, two_balls().space.affine, atol=1e-9)
            study.history.undo()
            study.history.undo()  # the transform turned round goes from the Shelf
            study.history.undo()
            self.assertEqual(study.image(1).value_at(inside), 1000)
            self.assertEqual([r.name for r in study.items.of_kind("transform")], ["Move"])
            study.run("save-transform", transform=key, to=self.place / "again.txt")
            np.testing.assert_allclose(np.loadtxt(self.place / "again.txt"), move.matrix, atol=1e-12)
            with self.assertRaisesRegex(Trouble, "a file of this name"):
                study.run("save-transform", transform=key, to=self.place / "again.txt")
        with Study(self.place / "study") as study:
            np.testing.assert_allclose(study.thing(key).matrix, move.matrix, atol=1e-12)

    def test_worlds_must_meet(self):
        with self.study_with_balls() as study:
            save_thing(self.place / "m.tfm", turned())
            lies = study.find(1).space.world.id
            wrong = study.run("open-transform", file=self.place / "m.tfm", source="scanner of T-2")
            with self.assertRaisesRegex(Trouble, "lies in .*starts from scanner of T-2"):
                study.run("place-by", image=1, transform=wrong)
            right = study.run("open-transform", file=self.place / "m.tfm", source=lies, target="Field atlas")
            study.run("place-by", image=1, transform=right)
            self.assertEqual(study.image(1).space.world.id, "Field atlas")

    def test_on_the_command_line(self):
        path, move = self.nifti(two_balls()), turned()
        save_thing(self.place / "m.txt", move)
        kestrelmist("place-by", path, "--transform", self.place / "m.txt", "--out", self.place / "moved.nii.gz")
        moved = open_image(self.place / "moved.nii.gz")
        np.testing.assert_allclose(moved.space.affine, move.matrix @ two_balls().space.affine, atol=1e-5)
        np.testing.assert_array_equal(moved.data, two_balls().data)
        kestrelmist("invert-transform", self.place / "m.txt", "--out", self.place / "back.tfm")
        kestrelmist(
            "join-transforms", self.place / "m.txt", "--then", self.place / "back.tfm", "--out", self.place / "one.txt"
        )
        np.testing.assert_allclose(np.loadtxt(self.place / "one.txt"), np.eye(4), atol=1e-12)
        study = self.place / "study"
        self.study_with_balls().close()
        kestrelmist("open-transform", self.place / "m.txt", "--subject", "T-1", "--study", study)
        told = kestrelmist("place-by", "Two balls", "--transform", "T-1/m", "--study", study, "--json").stdout
        self.assertIn("Two balls", json.dumps(json.loads(told), ensure_ascii=False))
        with Study(study) as opened:
            np.testing.assert_allclose(opened.find(1).space.affine, move.matrix @ two_balls().space.affine, atol=1e-9)


class PlacementTest(PlaceCase):
    def test_the_origin_is_moved_without_a_copy(self):
        with self.study_with_balls() as study:
            values = study.image(1).data
            folder = {p.name: p.stat().st_mtime_ns for p in (study.folder / "images" / "1").rglob("*") if p.is_file()}
            study.run("set-origin", image=1, point=(-4, 0, 0))
            self.assertTrue(np.shares_memory(study.image(1).data, values))
            self.assertEqual(study.image(1).value_at((0, 0, 0)), 1000)
            self.assertEqual(len(study.records()), 1)
            after = {p.name: p.stat().st_mtime_ns for p in (study.folder / "images" / "1").rglob("*") if p.is_file()}
            self.assertEqual(folder, after)
        with Study(self.place / "study") as study:
            np.testing.assert_allclose(study.image(1).space.affine[:3, 3], two_balls().space.affine[:3, 3] + (4, 0, 0))
            study.history.undo()
            np.testing.assert_allclose(study.image(1).space.affine, two_balls().space.affine)

    def test_levels_of_a_large_picture_stay_and_follow(self):
        flat = np.random.default_rng(1).integers(0, 255, (2600, 5200)).astype(np.uint8)
        image = Image(flat.T[:, :, None], picture_space(5200, 2600, (0.0005, 0.0005)), "Section", "T-1")
        save_image(self.place / "section.ome.zarr", image)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "section.ome.zarr", subject="T-1")
            whole = study.image(1)
            sizes = [level.space.shape for level in whole.levels]
            study.run("set-spacing", image=1, spacing=(0.001, 0.001, 1.0))
            placed = study.image(1)
            self.assertEqual([level.space.shape for level in placed.levels], sizes)
            for n, level in enumerate(placed.levels, 1):
                np.testing.assert_allclose(level.space.spacing[:2], 0.001 * 2**n)
                np.testing.assert_allclose(level.space.corners(), placed.space.corners(), atol=1e-9)
            self.assertIn("set by hand", " ".join(c.sentence for c in study.find(1).caveats))
            study.history.undo()
            np.testing.assert_allclose(study.image(1).space.spacing[:2], 0.0005)
            np.testing.assert_allclose(study.image(1).levels[0].space.spacing[:2], 0.001)

    def test_labels_are_measured_in_the_new_size(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            before = study.run("measure-labels").column("volume")[0]
            study.run("set-spacing", image=1, spacing=(1.0, 1.0, 1.0))
            self.assertAlmostEqual(study.run("measure-labels").column("volume")[0], before * 8)
            study.history.undo()
            self.assertAlmostEqual(study.run("measure-labels").column("volume")[0], before)

    def test_as_a_file(self):
        path = self.nifti(two_balls())
        kestrelmist("set-origin", path, "--point", "-4,0,0", "--out", self.place / "o.nii.gz")
        kestrelmist("set-spacing", path, "--spacing", "1,1,2", "--out", self.place / "s.nii.gz")
        moved, sized = open_image(self.place / "o.nii.gz"), open_image(self.place / "s.nii.gz")
        np.testing.assert_array_equal(moved.data, two_balls().data)
        self.assertEqual(moved.value_at((0, 0, 0)), 1000)
        np.testing.assert_allclose(sized.space.spacing, (1, 1, 2))


class TransformDeskTest(DeskCase):
    def test_on_the_shelf_and_in_a_form(self):
        save_thing(self.place / "Move.tfm", turned())
        with self.study_with_balls() as study:
            study.run("open-transform", file=self.place / "Move.tfm", subject="T-1")
        window = self.open(self.place / "study")
        cards = [c for c in window.shelf.cards.values() if c.record.kind == "transform"]
        self.assertEqual([c.record.name for c in cards], ["Move"])
        window.desk.viewing.set_stage("Align")
        from kestrelmist.core.operation import find_operation

        window.bench.open_operation(find_operation("place-by"))
        form = window.bench.page("Align").form
        self.assertEqual(form.fields["transform"].currentText(), "T-1/Move")
        before = window.desk.viewing.record.space
        form.apply.click()
        self.settle(window)
        self.assertEqual(self.troubles, [])
        np.testing.assert_allclose(window.desk.viewing.record.space.affine, turned().matrix @ before.affine, atol=1e-9)
        window.desk.session.undo()
        self.settle(window)
        self.assertEqual(window.desk.viewing.record.space, before)
        # the menu of its card goes both ways
        for words, matrix in (
            ("Place “Two balls” by it", turned().matrix),
            ("Place “Two balls” by its way back", np.linalg.inv(turned().matrix)),
        ):
            menu = QMenu(window)
            (card,) = (c for c in window.shelf.cards.values() if c.record.kind == "transform")
            card.actions(menu)
            next(action for action in menu.actions() if action.text() == words).trigger()
            self.settle(window)
            np.testing.assert_allclose(window.desk.viewing.record.space.affine, matrix @ before.affine, atol=1e-9)
            window.desk.session.undo()
            self.settle(window)
        self.assertEqual(self.troubles, [])
