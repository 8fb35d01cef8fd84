import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.slice_trial import ALONE, BY_THE_WHOLE, NUMBERS, tried_on_slice
from kestrelmist.study.recipes.text import as_yaml
from kestrelmist.study.recipes.units import Cohort
from tests.test_recipe_runs import balls
from tests.test_recipes import RecipeCase


class SliceTrialTest(RecipeCase):
    def test_the_slice_is_that_of_the_whole(self):
        with self.subjects("T-1") as study:
            recipe = editing.with_step(balls(), "align").running()
            recipe = editing.with_inputs(recipe, 4, "onto", ["$Scan"])
            seen = study.find("T-1/Head CT").id
            (unit,) = Cohort(study, recipe).of("T-1")
            space = study.image(seen).space
            before = len(study.logbook.entries())
            smooth, half, measured, aligned = tried_on_slice(study, recipe, unit, seen, space.centre)
            self.assertEqual((smooth.said, half.said, measured.said), ("", ALONE, NUMBERS))
            self.assertEqual(aligned.said, BY_THE_WHOLE)
            self.assertEqual(len(study.logbook.entries()), before)  # nothing is kept
            study.run("smooth", image=seen, fwhm=1.5)
            whole = study.image("T-1/Head CT, smooth 1.5 mm").data
            k = int(round(space.to_voxel(smooth.image.space.centre)[2]))
            own = smooth.image.data[:, :, smooth.image.space.shape[2] // 2]
            np.testing.assert_allclose(own, whole[:, :, k], atol=2e-3 * whole.max())
            inside = half.labels.data[:, :, half.labels.space.shape[2] // 2] > 0
            np.testing.assert_array_equal(inside, (own >= 550) & (own <= 5000))
            self.assertGreater(inside.sum(), 50)
            path = self.place / "balls.yaml"
            path.write_text(as_yaml(balls()))
            table = study.run("try-slice", recipe=path, image="T-1/Head CT")
            self.assertEqual(table.column("labelled")[:2], [None, int(inside.sum())])
            self.assertAlmostEqual(table.column("mean")[0], own.mean(), places=3)

    def test_what_cannot_be_tried_is_said(self):
        with self.subjects("T-1") as study:
            recipe = editing.with_step(balls(), "standardise", at=1)
            (unit,) = Cohort(study, recipe).of("T-1")
            seen = study.find("T-1/Head CT").id
            (one,) = tried_on_slice(study, recipe, unit, seen, np.zeros(3))
            self.assertEqual(one.said, BY_THE_WHOLE)
            study.run("scale", image=seen, low=0, high=1)
            with self.assertRaisesRegex(Trouble, "none of what this recipe works on: show one of: “Head CT”"):
                tried_on_slice(study, recipe, unit, study.records()[-1].id, np.zeros(3))
