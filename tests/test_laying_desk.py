import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from scipy.spatial.transform import Rotation

from kestrelmist.align.lay import hand_matrix
from kestrelmist.core.progress import silent
from kestrelmist.scene.hand_ring import CORNER, ring_radius
from kestrelmist.study.inputs import settle
from kestrelmist.study.journal.history import Stale
from kestrelmist.study.keeping import keep
from kestrelmist.study.task import compute
from tests.desk_case import DeskCase
from tests.making import keep_thing

LEFT, SHIFT, ALT = (
    Qt.MouseButton.LeftButton,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)
NONE = Qt.KeyboardModifier.NoModifier


class LayingTest(DeskCase):
    """A layer moved over the image that leads, by mouse and keys."""

    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            balls = study.image("Two balls")
            self.lead = study.records()[0].id
            self.other = keep_thing(study, balls.like(np.asarray(balls.data) + 1, name="Other"))
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.set_stage("Align")
        self.desk.viewing.show_image(self.lead)
        self.settle(self.window)
        self.desk.viewing.go_to((0.0, 0.0, 0.0))
        self.canvas = self.window.table.slices[1].canvas  # axial

    def lay_over(self) -> None:
        self.desk.layers.lay_over(self.other)
        self.settle(self.window)
        self.window.bench.page("Align").groups["lay"].button.click()
        self.assertEqual(self.desk.hand.tool, "lay")

    @property
    def grid(self) -> np.ndarray:
        return self.desk.study.find(self.other).grid.affine

    def moved_by(self, before: np.ndarray) -> np.ndarray:
        return self.grid @ np.linalg.inv(before)

    def test_a_drag_shifts_what_lies_above_and_undo_takes_it_back(self):
        self.lay_over()
        before = self.grid
        start = self.canvas.current_view().to_world(*self.canvas.current_view().to_pixel((1, 1, 0)))
        self.drag(self.window, 1, start, start + (2, -1, 0))
        pixel = self.canvas.current_view().pixel
        np.testing.assert_allclose(self.moved_by(before)[:3, 3], (2, -1, 0), atol=1.01 * pixel)
        np.testing.assert_allclose(self.moved_by(before)[:3, :3], np.eye(3), atol=1e-9)
        # what is drawn lies there too, and the image that leads stays
        drawn = self.desk.layers.drawn()[0].thing
        np.testing.assert_allclose(drawn.space.affine, self.grid)
        after = self.grid
        self.desk.undoing.undo()
        self.settle(self.window)
        np.testing.assert_allclose(self.grid, before)
        np.testing.assert_allclose(self.desk.layers.drawn()[0].thing.space.affine, before)
        self.desk.undoing.redo()
        self.settle(self.window)
        np.testing.assert_allclose(self.grid, after)

    def ring(self, angle: float, share: float = 1.0) -> QPoint:
        view = self.canvas.current_view()
        x, y = view.to_pixel(self.desk.viewing.crosshair)
        radius = share * ring_radius(view.moved(width=self.canvas.width(), height=self.canvas.height()))
        return QPoint(round(x + radius * np.cos(np.radians(angle))), round(y + radius * np.sin(np.radians(angle))))

    def pull(self, start: QPoint, end: QPoint, modifier=NONE) -> None:
        QTest.mousePress(self.canvas, LEFT, modifier, start)
        QTest.mouseMove(self.canvas, (start + end) / 2)
        QTest.mouseMove(self.canvas, end)
        QTest.mouseRelease(self.canvas, LEFT, modifier, end)
        self.settle(self.window)

    def test_the_ring_turns_about_the_crosshair_and_a_corner_scales(self):
        self.lay_over()
        self.desk.viewing.go_to((1.0, 0.5, 0.0))
        self.settle(self.window)
        before, about = self.grid, self.desk.viewing.crosshair.copy()
        self.pull(self.ring(0), self.ring(30))
        moved = self.moved_by(before)
        vector = np.degrees(Rotation.from_matrix(moved[:3, :3]).as_rotvec())
        view = self.canvas.current_view()
        np.testing.assert_allclose(vector, 30 * np.cross(view.rightward, view.downward), atol=1.5)
        np.testing.assert_allclose(moved @ [*about, 1], [*about, 1], atol=1e-9)
        before = self.grid
        self.pull(self.ring(45, CORNER), self.ring(45, 1.2 * CORNER))
        moved = self.moved_by(before)
        np.testing.assert_allclose(moved[:3, :3], 1.2 * np.eye(3), atol=0.03)
        np.testing.assert_allclose(moved @ [*about, 1], [*about, 1], atol=1e-9)

    def test_keys(self):
        self.lay_over()
        self.canvas.setFocus()
        voxel = min(self.desk.viewing.record.grid.spacing)
        view = self.canvas.current_view()
        right, down = np.asarray(view.rightward), np.asarray(view.downward)
        for key, modifier, wanted in (
            (Qt.Key.Key_Right, NONE, voxel * right),
            (Qt.Key.Key_Up, SHIFT, -0.1 * voxel * down),
        ):
            before = self.grid
            QTest.keyClick(self.canvas, key, modifier)
            np.testing.assert_allclose(self.moved_by(before)[:3, 3], wanted, atol=1e-9)
        before = self.grid
        QTest.keyClick(self.canvas, Qt.Key.Key_Right, ALT)
        turned = Rotation.from_matrix(self.moved_by(before)[:3, :3]).as_rotvec(degrees=True)
        np.testing.assert_allclose(turned, np.cross(right, down), atol=1e-9)
        before = self.grid
        QTest.keyClick(self.canvas, Qt.Key.Key_Up, ALT)
        np.testing.assert_allclose(self.moved_by(before)[:3, :3], 1.01 * np.eye(3), atol=1e-9)
        for _ in range(4):
            self.desk.undoing.undo()
        self.settle(self.window)
        np.testing.assert_allclose(self.moved_by(self.desk.viewing.record.grid.affine), np.eye(4), atol=1e-9)

    def test_escape_and_other_interruptions(self):
        self.lay_over()
        before = self.grid
        QTest.mousePress(self.canvas, LEFT, NONE, QPoint(60, 60))
        QTest.mouseMove(self.canvas, QPoint(90, 60))
        self.assertGreater(np.abs(self.desk.layers.drawn()[0].thing.space.affine - before).max(), 0)
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        QTest.mouseRelease(self.canvas, LEFT, NONE, QPoint(90, 60))
        self.settle(self.window)
        np.testing.assert_allclose(self.grid, before)
        np.testing.assert_allclose(self.desk.layers.drawn()[0].thing.space.affine, before)
        # a stage that has no such tool ends the move, and keeps it
        QTest.mousePress(self.canvas, LEFT, NONE, QPoint(60, 60))
        QTest.mouseMove(self.canvas, QPoint(90, 60))
        self.desk.viewing.set_stage("Measure")
        self.settle(self.window)
        self.assertEqual(self.desk.hand.tool, "point")
        self.assertGreater(np.abs(self.grid - before).max(), 0)

    def test_buttons_and_numbers(self):
        group = self.window.bench.page("Align").groups["lay"]
        self.assertFalse(group.ways["middle"].isEnabled())
        self.assertIn("Drag the card", group.said.text())
        self.desk.hand.set_tool("lay")
        QTest.mouseClick(self.canvas, LEFT, NONE, QPoint(60, 60))
        self.assertIn("Nothing lies over this image", self.troubles[-1])
        self.lay_over() if self.desk.hand.tool != "lay" else self.desk.layers.lay_over(self.other)
        self.settle(self.window)
        self.assertIn("“Other” moves, “Two balls” stays", group.said.text())
        self.desk.run_now("lay-by-hand", {"image": self.other, "shift": (3, 0, 0), "turn": (0, 0, 20)})
        self.settle(self.window)
        self.press(group.ways["axes"])
        self.settle(self.window)
        np.testing.assert_allclose(self.grid, self.desk.viewing.record.grid.affine, atol=1e-9)
        # typed
        self.assertFalse(group.typed.isVisible())
        self.press(group.numbers)
        self.assertTrue(group.typed.isVisible())
        before = self.grid
        self.desk.viewing.go_to((1.0, 0.0, 0.0))
        for field, text in ((group.shift, "0.5 −1; 2"), (group.turn, "0, 0, 90"), (group.scale, "2")):
            field.setText(text)
        self.press(group.go)
        self.settle(self.window)
        wanted = hand_matrix((0.5, -1, 2), (0, 0, 90), 2, self.desk.viewing.crosshair)
        np.testing.assert_allclose(self.moved_by(before), wanted, atol=1e-9)
        for text in ("1, 2", "a, b, c", "nan, 0, 0"):
            group.shift.setText(text)
            self.press(group.go)
            self.assertIn("is no move: type three numbers", self.troubles[-1])

    def test_what_comes_between_does_not_lose_a_move(self):
        self.lay_over()
        before = self.grid
        QTest.mousePress(self.canvas, LEFT, NONE, QPoint(60, 60))
        QTest.mouseMove(self.canvas, QPoint(90, 60))
        dragged = self.desk.layers.drawn()[0].thing.space.affine
        self.desk.session.run_now("lay-by-hand", {"image": self.other, "shift": (0, 0, 1)})
        QTest.mouseRelease(self.canvas, LEFT, NONE, QPoint(90, 60))
        self.settle(self.window)
        wanted = dragged.copy()
        wanted[2, 3] += 1
        np.testing.assert_allclose(self.grid, wanted, atol=1e-9)
        self.assertGreater(np.abs(self.grid - before)[:, 3].max(), 0.5)
        # undone in the midst of the next one: what is drawn is where it lies
        QTest.mousePress(self.canvas, LEFT, NONE, QPoint(60, 60))
        QTest.mouseMove(self.canvas, QPoint(80, 70))
        self.desk.undoing.undo()
        QTest.mouseRelease(self.canvas, LEFT, NONE, QPoint(80, 70))
        self.settle(self.window)
        np.testing.assert_allclose(self.grid, wanted, atol=1e-9)
        np.testing.assert_allclose(self.desk.layers.drawn()[0].thing.space.affine, wanted, atol=1e-9)

    def test_a_place_that_was_worked_out_for_another_is_not_kept(self):
        study = self.desk.study
        task = settle(study, "lay-by-hand", {"image": self.other, "shift": (1, 0, 0)})
        made = compute(study, task, silent())
        self.desk.session.run_now("lay-by-hand", {"image": self.other, "shift": (0, 1, 0)})
        after = self.grid
        with self.assertRaisesRegex(Stale, "“Other” was moved meanwhile"):
            keep(study, task, made)
        np.testing.assert_allclose(self.grid, after)
