"""What people say of alignments, and the way between spaces as a row of steps."""

import numpy as np

from kestrelmist.align.lay import hand_matrix
from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.study.study import Study
from kestrelmist.study.ways import missing_link, reached
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, straight_space

WORLDS = [World(name, name) for name in ("part", "whole", "head", "standard")]
STEPS = [hand_matrix((n + 1.0, -n, 0.5), (0, 0, 5 * n), 1, (0, 0, 0)) for n in range(3)]


def four_spaces(study: Study, missing: int | None = None) -> dict[str, int]:
    """An image in each of four spaces, and transforms from one to the next; the middle one is kept the other way."""
    ids = {}
    for n, world in enumerate(WORLDS):
        values = np.random.default_rng(n).normal(size=(12, 12, 12)).astype(np.float32)
        subject = "Mean" if world.id == "standard" else "HM-1"
        space = straight_space((12, 12, 12)).in_world(world)
        ids[world.id] = keep_thing(study, Image(values, space, f"In {world.id}", subject=subject))
    for n, matrix in enumerate(STEPS):
        if n != missing:
            way = Transform(matrix, WORLDS[n], WORLDS[n + 1], f"Step {n + 1}", "HM-1")
            keep_thing(study, way.inverse().named("Step 2") if n == 1 else way)
    return ids


class WayTest(PlaceCase):
    def test_the_chain_is_told_step_by_step(self):
        with Study(self.place / "study", create=True) as study:
            four_spaces(study)
            told = study.run("way-between", image="In part", onto="In standard")
            wanted = [(1, "Step 1", "no", "whole"), (2, "Step 2", "yes", "head"), (3, "Step 3", "no", "standard")]
            self.assertEqual([(row[0], row[2], row[4], row[5]) for row in told.rows], wanted)
            found = study.way(WORLDS[0], WORLDS[3]).mapping.to((1.0, 2.0, 3.0))
            wanted = STEPS[2] @ STEPS[1] @ STEPS[0] @ [1, 2, 3, 1]
            np.testing.assert_allclose(found, wanted[:3], atol=1e-9)

    def test_what_is_missing_is_said(self):
        with Study(self.place / "study", create=True) as study:
            ids = four_spaces(study, missing=1)
            self.assertEqual(reached(study, "part"), {"part", "whole"})
            one, other = missing_link(study, study.find(ids["part"]), study.find(ids["standard"]))
            # of what is reached on either side, two of one subject
            self.assertEqual((one.subject, other.name), ("HM-1", "In head"))
            with self.assertRaisesRegex(
                Trouble, "No transform leads from .*part.*align “In part” of HM-1 with “In head”"
            ):
                study.run("way-between", image="In part", onto="In standard")

    def test_verdicts_stand_with_the_alignment_and_are_undone(self):
        with Study(self.place / "study", create=True) as study:
            four_spaces(study)
            study.run("say-alignment", transform="Step 1", verdict="bad", note="slipped by a fold")
            rows = {row[1]: row[3:5] for row in study.run("list-alignments").rows}
            self.assertEqual(rows["Step 1"], ("bad", "slipped by a fold"))
            self.assertEqual(rows["Step 3"], ("not judged", ""))
            image = study.image("In part")
            transforms = study.items.of_kind("transform")
            notices = run_checks(Subject(image, transforms=transforms), "align")
            self.assertEqual([n.level for n in notices], ["wrong", "look", "look"])
            self.assertIn("is said to be a bad alignment: slipped by a fold", notices[0].sentence)
            self.assertEqual(notices[1].mend.settings["transform"], transforms[1].id)
            study.history.undo()
            self.assertEqual({row[3] for row in study.run("list-alignments").rows}, {"not judged"})
        with Study(self.place / "study") as study:
            study.history.redo()
            self.assertEqual(study.run("list-alignments").rows[0][3], "bad")


class VerdictDeskTest(DeskCase):
    def test_an_alignment_is_shown_again_and_judged(self):
        with Study(self.place / "study", create=True) as study:
            ids = four_spaces(study, missing=1)
            step = study.items.of_kind("transform")[0].id
        window = self.open(self.place / "study")
        desk, panel = window.desk, window.bench.under_way
        desk.viewing.set_stage("Align")
        desk.alignment.look_at(step)
        self.settle(window)
        self.assertTrue(desk.viewing.leads(ids["part"]))  # it leads from there to the one that moves
        self.assertIsNotNone(desk.layers.stack.of(ids["whole"]))
        self.assertEqual(panel.said.text(), "“In whole” onto “In part”")
        self.assertFalse(panel.curve.isVisible())
        self.press(panel.verdicts["doubtful"])
        self.settle(window)
        self.assertEqual((desk.alignment.verdict(), panel.verdicts["doubtful"].isChecked()), ("doubtful", True))
        desk.undoing.undo()
        self.settle(window)
        self.assertEqual((desk.alignment.verdict(), panel.verdicts["doubtful"].isChecked()), ("", False))
        # the way is told, and a gap can be closed from there
        group = window.bench.page("Align").groups["way"]
        group.onto.setCurrentIndex(group.onto.findData(ids["whole"]))
        group.onto.activated.emit(group.onto.currentIndex())
        self.assertEqual(group.said.text().splitlines()[1:], ["→ “Step 1”", "→ In whole of HM-1"])
        group.onto.setCurrentIndex(group.onto.findData(ids["standard"]))
        group.onto.activated.emit(group.onto.currentIndex())
        self.assertIn("A step is missing", group.said.text())
        self.press(group.close_gap)
        self.settle(window)
        form = window.bench.page("Align").form
        self.assertEqual((form.operation.title, form.fields["onto"].value()), ("Align two images", ids["head"]))
