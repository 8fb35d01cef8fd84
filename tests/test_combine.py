import json
from dataclasses import replace
from unittest import mock

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import Space
from kestrelmist.core.world import World
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.prepare.intensity import combine as room
from kestrelmist.prepare.intensity.combine import combine
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.recipes.text import read_recipe
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, straight_space, tilted_space

RNG = np.random.default_rng(7)
SPACE = straight_space((7, 6, 5), 2.0)


def noise(name: str, space: Space = SPACE, unit: str = "", subject: str = "T-1") -> Image:
    return Image(RNG.normal(10, 3, space.shape).astype(np.float32), space, name, subject, "MR", unit)


def ramp(space: Space, name: str) -> Image:
    """Values that are a linear function of world position: linear interpolation gives them back exactly."""
    world = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    values = (world @ (1.0, -2.0, 0.5) + 3.0).reshape(space.shape)
    return Image(values.astype(np.float64), space, name, "T-1")


class CombineTest(PlaceCase):
    def test_each_choice_against_numpy(self):
        images = [noise(n) for n in "abcd"]
        stack = np.stack([i.data for i in images]).astype(float)
        for how, truth in (
            ("mean", stack.mean(0)),
            ("sd", stack.std(0, ddof=1)),
            ("maximum", stack.max(0)),
            ("sum", stack.sum(0)),
        ):
            with mock.patch.object(room, "SLAB", 60):  # a slab is one or two slices: the parts must fit together
                made = combine(images[0], images[1:], how)
            np.testing.assert_allclose(made.image.data, truth, rtol=1e-5, err_msg=how)
        made = combine(images[0], images[1:2], "difference")
        np.testing.assert_allclose(made.image.data, stack[0] - stack[1], atol=1e-5)
        row = dict(zip([c.name for c in made.values.columns], made.values.rows[1]))
        self.assertEqual((row["image"], row["voxels"]), ("b", stack[1].size))
        for name, truth in (
            ("mean", stack[1].mean()),
            ("sd", stack[1].std(ddof=1)),
            ("lowest", stack[1].min()),
            ("highest", stack[1].max()),
        ):
            self.assertAlmostEqual(row[name], truth, places=5)

    def test_another_grid_is_brought_onto_the_first(self):
        turned = tilted_space((40, 30, 20), (0.6, 0.5, 0.5)).affine.copy()
        turned[:3, 3] = (-9.0, 3.0, -4.0)
        first, other = ramp(SPACE, "a"), ramp(Space((40, 30, 20), turned), "b")
        made = combine(first, [other], "difference").image.data
        there = np.isfinite(made)
        self.assertGreater(there.sum(), 40)
        self.assertLess(np.abs(made[there]).max(), 1e-5)
        reached = other.space.to_voxel(first.space.to_world(np.indices(SPACE.shape).reshape(3, -1).T))
        inside = ((reached >= 0) & (reached <= (39, 29, 19))).all(1).reshape(SPACE.shape)
        np.testing.assert_array_equal(there, inside)
        mean = combine(first, [other], "mean").image.data  # where the other does not reach, the first stands alone
        np.testing.assert_allclose(mean, first.data, atol=1e-5)

    def test_holes_and_masks(self):
        a, b = noise("a"), noise("b")
        a.data[0, 0, 0] = b.data[1, 1, 1] = np.nan
        a.data[2, 2, 2] = b.data[2, 2, 2] = np.inf
        mean = combine(a, [b], "mean").image.data
        self.assertEqual((mean[0, 0, 0], mean[1, 1, 1]), (b.data[0, 0, 0], a.data[1, 1, 1]))
        self.assertTrue(np.isnan(mean[2, 2, 2]))
        self.assertTrue(np.isnan(combine(a, [b], "difference").image.data[0, 0, 0]))
        numbers = np.zeros(SPACE.shape, np.uint16)
        numbers[3:5, 1:4, 2] = 1
        mask = LabelMap(SPACE, numbers)
        made = combine(a, [b], "sum", mask=mask)
        np.testing.assert_array_equal(np.isfinite(made.image.data), numbers > 0)
        self.assertEqual(made.values.column("voxels"), [6, 6])
        finer = LabelMap(
            Space((14, 12, 10), SPACE.affine @ np.diag([0.5, 0.5, 0.5, 1])), np.zeros((14, 12, 10), np.uint16)
        )
        finer.data[6, 2, 4] = 1  # the voxel that lies at (3, 1, 2) of the image
        self.assertEqual(combine(a, [b], mask=finer).values.column("voxels"), [1, 1])

    def test_wrong_input_is_said(self):
        a = noise("a")
        far = replace(SPACE, affine=SPACE.affine + np.array([[0, 0, 0, 900.0]] + [[0, 0, 0, 0]] * 3))
        elsewhere = replace(tilted_space(), world=World("scanner of T-2"))
        here = replace(SPACE, world=World("scanner of T-1"))
        for image, others, how, said in (
            (a, [], "mean", "nothing to combine with"),
            (a, [noise("b"), noise("c")], "difference", "and 3 were given"),
            (a, [noise("b", unit="HU")], "mean", "different units: “a” in no unit, “b” in HU"),
            (a, [noise("b", far)], "mean", "“b” has no values where “a” lies"),
            (noise("a", here), [noise("b", elsewhere)], "mean", "another space .scanner of T-2. than “a”"),
            (a, [noise("b", replace(far, unit="px"))], "mean", "no scale in common"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                find_operation("combine")(image=image, others=others, how=how)

    def test_command_line_python_and_recipe(self):
        study = self.place / "study"
        truth = {}
        for subject in ("T-1", "T-2"):
            made = [noise(n, subject=subject) for n in ("rest", "task", "after")]
            truth[subject] = np.mean([i.data for i in made], 0)
            (self.place / subject).mkdir()
            for image in made:
                write_nifti(self.place / subject / f"{image.name}.nii.gz", image.data, image.space)
            kestrelmist("gather", self.place / subject, "--study", study, "--subject", subject)
        out = self.place / "mean.nii.gz"
        files = [self.place / "T-1" / f"{n}.nii.gz" for n in ("rest", "task", "after")]
        kestrelmist("combine", files[0], "--others", files[1], "--others", files[2], "--out", out)
        from kestrelmist import open_image

        np.testing.assert_allclose(open_image(out).data, truth["T-1"], rtol=1e-5)
        ran = kestrelmist(
            "combine", "T-1/rest", "--others", "T-1/task", "--others", "T-1/after", "--study", study, "--json"
        )
        self.assertEqual(len(json.loads(ran.stdout)["rows"]), 3)
        recipe = self.place / "mean.yaml"
        kestrelmist("logbook", "--study", study, "--to", recipe, "--subject", "T-1")
        with Study(study) as opened:
            done = run_recipe(opened, read_recipe(recipe), "T-2")
            self.assertEqual([d.found for d in done], [False])
            (made,) = [r for r in opened.records() if r.subject == "T-2" and r.name == "rest, mean"]
            np.testing.assert_allclose(opened.image(made.id).data, truth["T-2"], rtol=1e-5)


class CombineDeskTest(DeskCase):
    def test_in_the_window(self):
        study = Study(self.place / "study", create=True)
        for name in "abc":
            image = noise(name)
            write_nifti(self.place / f"{name}.nii", image.data, image.space)
            study.run("gather", folder=self.place / f"{name}.nii", subject="T-1")
        study.close()
        window = self.open(self.place / "study")
        window.bench.open_operation(find_operation("combine"))
        form = window.bench.page("Prepare").form
        for record in window.desk.study.records()[1:]:
            form.fields["others"].tick(record.id)
        form.fields["how"].setCurrentText("maximum")
        form.apply.click()
        self.settle(window)
        self.assertEqual(self.troubles, [])
        opened = window.desk.study
        (made,) = [r for r in opened.records() if r.name == "a, maximum"]
        truth = np.max([opened.image(r.id).data for r in opened.records() if len(r.name) == 1], 0)
        np.testing.assert_allclose(opened.image(made.id).data, truth, rtol=1e-6)
        self.assertEqual(window.desk.viewing.record.id, made.id)
        self.assertEqual(len(opened.table(opened.tables()[-1].id).rows), 3)
