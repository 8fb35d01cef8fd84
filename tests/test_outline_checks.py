"""Checks of outlines, and the buttons that mend or show what they say."""

import unittest

import numpy as np
from PySide6.QtWidgets import QPushButton

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.geometry.sound import crossing
from kestrelmist.core.image import Image
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import Space
from kestrelmist.outline.contours.mend_contours import mend_contours
from kestrelmist.outline.renumber import renumber
from kestrelmist.outline.slices.bridge import bridge_slices
from tests.desk_case import DeskCase, pause
from tests.making import straight_space, two_balls
from tests.test_bridge import ellipsoid, every
from tests.test_shaping import after, mapped


class OutlineChecksTest(unittest.TestCase):
    def setUp(self):
        self.space = straight_space((30, 28, 26), 0.5)
        self.body = ellipsoid(self.space, (0, 0, 0), (5, 5, 5))
        values = np.where(self.body, 300, 100) + np.random.default_rng(0).normal(0, 5, self.body.shape)
        self.image = Image(values.T.astype(np.float32), self.space)

    def found(self, labels):
        return {n.check: n for n in run_checks(Subject(self.image, labels), "outline")}

    def mended(self, labels, notice):
        operation = find_operation(notice.mend.operation)
        made = operation(None, labels=labels, **operation.checked(notice.mend.settings))
        return after(labels, made["label edit"])

    def test_a_sound_label_has_nothing_to_mend(self):
        self.assertEqual(list(self.found(mapped(self.space, Eye=self.body)).values())[0].level, "fine")

    def test_bridged_slices_wait(self):
        labels = mapped(self.space, Eye=every(self.body, 6, 1))
        labels = after(labels, bridge_slices(labels, "Eye", ends="as drawn"))
        notice = self.found(labels)["bridged_slices"]
        self.assertEqual(notice.sentence, "Eye: 10 bridged slices wait to be looked at.")
        self.assertEqual(labels.at(notice.place), 1)
        self.assertNotIn("bridged_slices", self.found(self.mended(labels, notice)))

    def test_holes_are_shown_and_filled(self):
        holed = self.body.copy()
        holed[12:14, 13:15, 14:16] = False
        labels = mapped(self.space, Eye=holed)
        notice = self.found(labels)["holes"]
        self.assertEqual(notice.sentence, "Eye has holes, 1 mm³.")
        self.assertEqual(labels.at(notice.place), 0)
        self.assertNotIn("holes", self.found(self.mended(labels, notice)))

    def test_one_slice_empty_and_odd_values(self):
        one = np.zeros_like(self.body)
        one[13] = self.body[13]
        labels = mapped(self.space, Eye=one, Nose=np.zeros_like(one))
        found = self.found(labels)
        self.assertEqual(found["one_slice_only"].sentence, "Eye is drawn in one slice only.")
        self.assertNotIn("empty_labels", found)  # while one outlines, labels wait to be drawn
        found = {n.check: n for n in run_checks(Subject(self.image, labels), "measure")}
        self.assertEqual(found["empty_labels"].sentence, "Nose is empty.")
        strayed = self.body.copy()
        strayed[2:6, 2:6, 2:6] = True
        notice = self.found(mapped(self.space, Eye=strayed))["values_that_do_not_fit"]
        self.assertRegex(notice.sentence, r"Eye: \d[\d.]* % of its voxels")
        self.assertLess(float(self.image.value_at(notice.place)), 150)

    def test_contours_that_cross_themselves_or_reach_beyond(self):
        z = (0.0, 0.0, 1.0)
        bow = Mark("polygon", ((-4, -4, 0), (4, 3, 0), (4, -3, 0), (-4, 4, 0)), 1, z, name="Bow")
        out = Mark("polygon", ((0, 0, 0), (30, 0, 0), (30, 5, 0), (0, 5, 0)), 2, z, name="Out")
        far = Mark("ellipse", ((50, 50, 0), (54, 50, 0), (54, 53, 0), (50, 53, 0)), 3, z, name="Far")
        fine = Mark("polygon", ((-1, -1, 0), (1, -1, 0), (0, 1, 0)), 4, z)
        marks = Marks({m.id: m for m in (bow, out, far, fine)}, self.space.world, "mm")
        found = {n.check: n for n in run_checks(Subject(self.image, marks=marks), "outline")}
        notice = found["crossing_contours"]
        self.assertEqual(notice.sentence, "The polygon “Bow” crosses itself.")
        self.assertLess(float(np.abs(np.array(notice.place) - (0.57, 0.0, 0.0)).max()), 0.6)
        beyond = found["beyond_the_image"]
        self.assertEqual(beyond.sentence, "The polygon “Out” reaches beyond “”, and 1 more.")
        self.assertEqual(beyond.mend.settings, {"which": "2"})
        mended = mend_contours(self.image, marks, "1, 2")
        whole = dict(mended.after)
        self.assertIsNone(crossing(whole[1]))
        edge = self.space.to_world((29.5, 0, 0))[0]
        self.assertAlmostEqual(float(whole[2].array[:, 0].max()), float(edge))
        self.assertAlmostEqual(float(np.ptp(whole[2].array[:, 1])), 5.0)
        with self.assertRaisesRegex(Trouble, "nothing is to be mended"):
            mend_contours(self.image, marks, "4")
        wholly = Marks({1: out.shifted((40, 0, 0))}, self.space.world, "mm")
        with self.assertRaisesRegex(Trouble, "wholly beyond"):
            mend_contours(self.image, wholly)

    def test_maps_that_overlap_and_labels_of_somebody_else(self):
        mine = mapped(self.space, Eye=self.body)
        beside = self.body.copy()
        beside[:11] = False
        other = mapped(self.space, Bone=beside)
        other.name = "Anna"
        found = {n.check: n for n in run_checks(Subject(self.image, mine, other_maps=[other]), "outline")}
        volume = float(beside.sum()) * 0.125
        self.assertEqual(found["overlapping_maps"].sentence, f"Eye overlaps Bone of “Anna”, {volume:.0f} mm³.")
        self.assertEqual(mine.at(found["overlapping_maps"].place), 1)
        same = mapped(self.space, Eye=beside)
        told = {n.check for n in run_checks(Subject(self.image, mine, other_maps=[same]), "outline")}
        self.assertNotIn("overlapping_maps", told)
        mine.subject, self.image.subject = "S-1", "S-2"
        self.assertIn("is of S-1, and", self.found(mine)["of_another_subject"].sentence)

    def test_labels_beyond_the_image(self):
        shift = self.space.affine.copy()
        shift[0, 3] += 9.0
        moved = mapped(Space(self.space.shape, shift), Eye=self.body)
        self.assertEqual(self.found(moved)["beyond_the_image"].sentence, "Eye reaches beyond “”.")

    def test_renumbering_tells_what_became_of_what(self):
        labels = mapped(self.space, A=self.body, B=np.zeros_like(self.body), C=np.zeros_like(self.body))
        labels.table = labels.table.without(2)
        made = renumber(self.image, labels)
        self.assertEqual(made.labels.title, "Renumber labels: 3 → 2")
        self.assertEqual(made.numbers.rows, [("A", 1, 1), ("C", 3, 2)])


class BridgedDeskTest(DeskCase):
    def test_slices_that_were_looked_at_are_listed_no_more(self):
        self.study_with_balls().close()
        window = self.open(self.place / "study")
        desk = window.desk
        desk.viewing.set_stage("Outline")
        desk.run_now("add-label", {"label": "Ball"})
        self.settle(window)
        image = two_balls()
        ball = (image.data > 500).T
        sparse = np.zeros_like(ball)
        sparse[8:25:8] = ball[8:25:8]
        for k in (8, 16, 24):
            at = np.argwhere(ball[k])
            if len(at):
                points = "; ".join(
                    ",".join(f"{v:.3f}" for v in image.space.to_world((i, j, k)))
                    for j, i in ((18 + dj, 12 + di) for dj, di in ((-3, -3), (-3, 3), (3, 3), (3, -3)))
                )
                desk.run_now("draw", {"label": "Ball", "points": points})
        self.settle(window)
        desk.run("fill-marks", {"marks": desk.marks.key, "onto": desk.viewing.record.id})
        self.settle(window)
        desk.run("bridge-slices", {"label": "Ball"})
        self.settle(window)
        checks = window.bench.checks
        self.assertIn("bridged_slices", [n.check for n in checks.notices])
        shows = [b for b in checks.findChildren(QPushButton) if b.text() == "Show"]
        self.press(shows[0])
        labels = desk.viewing.maps.labels
        x, y, _ = desk.viewing.crosshair
        desk.bridged_seen._soon.setInterval(10)
        for k in range(labels.space.shape[2]):
            desk.viewing.go_to((x, y, float(labels.space.to_world((0, 0, k))[2])))
        pause(200)
        self.settle(window)
        self.assertEqual(desk.viewing.maps.labels.table.named("Ball").bridged, "")
        self.assertNotIn("bridged_slices", [n.check for n in checks.notices])
        self.assertEqual(self.troubles, [])


if __name__ == "__main__":
    unittest.main()
