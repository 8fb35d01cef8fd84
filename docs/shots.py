"""Remake the pictures in docs/screenshots from the demo study: `./kestrel shots`.

Walks through the interface as a person does, from the waiting folder to the table, and keeps a picture at each view.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from form_shots import aligned, heights, pictures
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from walk import HOME, Walk

from kestrelmist.core.operation import find_operation
from kestrelmist.demo.overwintering import demo_study

JOINTS = ((-4.60, -3.28, -2.02), (4.77, -3.27, -1.85))
IN_THE_SKULL = (-0.6, 3.45, -1.8)


def cells(walk: Walk) -> None:
    """Cells of a section measured, plotted and gated, in the dusk theme."""
    window, desk = walk.window, walk.window.desk
    desk.viewing.set_stage("Measure")
    walk.show("brown fat, haematoxylin and eosin")
    desk.run("find-cells", {"diameter": 7.0})
    walk.settle()
    desk.run("measure-cells", {})
    walk.settle()
    drawer = window.drawer
    drawer.plot.setChecked(True)
    drawer.tables.gating.plot(x="area", y="mean_red")
    turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    area, red = (np.array(drawer.results.table.column(name)) for name in ("area", "mean_red"))
    wide, high = np.percentile(area, 97) - np.percentile(area, 60), 1.6 * red.std()
    middle = np.percentile(area, 85), np.median(red)
    drawer.tables.gating.draw(np.column_stack((middle[0] + wide * np.cos(turn), middle[1] + high * np.sin(turn))))
    desk.viewing.go_to(desk.viewing.record.grid.centre)
    walk.settle()
    window.table.working.canvas.zoom(2.0)


def gather_views(walk: Walk) -> None:
    """The plan, a section with its stains apart, and identity taken off a clip."""
    window, desk, gather = walk.window, walk.window.desk, walk.window.bench.gather
    walk.press(gather.waiting)
    walk.keep("gather")
    for line in gather.lines:
        line.take = line.name != "Positioning scan"
    for line in gather.lines:
        line.subject = "HM-07" if line.subject.startswith("Unnamed") else line.subject
    walk.press(gather.take)
    walk.show("Odour run")
    desk.viewing.go_along(0, 14)
    desk.viewing.go_to((1.4, 2.4, 2.4))
    walk.press(gather.facts)
    window.drawer.hide()
    walk.show("brown fat, haematoxylin and eosin")
    section = desk.viewing.record.id
    desk.session.run("stains", {"image": section})
    walk.settle()
    window.drawer.hide()
    desk.viewing.set_stage("Prepare")
    apart = [desk.study.find(f"brown fat, haematoxylin and eosin, {name}").id for name in ("haematoxylin", "eosin")]
    desk.viewing.show_image(section)
    walk.settle()
    desk.beside.show([section, *apart])
    walk.settle()
    window.table.working.canvas.zoom(2.2)
    window.bench.open_operation(find_operation("stains"))
    walk.press(window.bench.page("Prepare").form.preview.box)
    walk.keep("stains")
    walk.press(window.bench.page("Prepare").form.preview.box)
    window.bench.page("Prepare").close_form()
    desk.beside.show(())
    desk.viewing.set_stage("Gather")
    walk.show("Heart clip")
    desk.viewing.go_along(0, 9)
    gather.open(find_operation("deidentify-image"))
    form = gather.form
    walk.press(form.fields["area"].button)
    space, canvas = desk.viewing.record.space, window.table.lead.canvas
    start, end = (QPointF(*canvas.current_view().to_pixel(space.to_world(v))) for v in ((0, 55, 0), (466, 359, 0)))
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start.toPoint())
    QApplication.sendEvent(
        canvas,
        QMouseEvent(
            QMouseEvent.Type.MouseMove,
            end,
            canvas.mapToGlobal(end),
            Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        ),
    )
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end.toPoint())
    form.fields["subject"].setText("Animal 7")
    form.fields["pixels"].setCurrentText("keep the area")
    QApplication.sendEvent(canvas, QEvent(QEvent.Type.Leave))
    walk.keep("identity")
    gather.close_form()


def layers(walk: Walk) -> None:
    """The response of one animal over the T1 of another, and every value read."""
    window, desk = walk.window, walk.window.desk
    desk.viewing.set_stage("Align")
    walk.show("HM-07/Head T1")
    desk.layers.lay_over(desk.study.find("HM-08/Response map").id)
    walk.settle()
    desk.layers.set_look(low=2.3, high=6.0)
    desk.viewing.maps.show_others(True)
    window.table.bring_to_lead(window.table.slices[1])
    desk.viewing.go_to((3.2, -4.3, 1.4))
    walk.keep("layers")
    window.table.set_sheet(True)
    desk.sheet.change(planes=("axial",), count=15, columns=5)
    walk.keep("sheet")
    window.table.set_sheet(False)
    desk.viewing.maps.show_others(False)
    desk.layers.take_all_away()
    window.table.bring_to_lead(window.table.slices[0])
    window.fit_all()


def through_time(walk: Walk) -> None:
    """A run made ready: steady, still, without what the motion and the drift did; two courses held, and a seed map."""
    window, desk = walk.window, walk.window.desk
    run = desk.study.find("HM-07/Odour run").id
    desk.session.run("drop-volumes", {"image": run, "first": 4})
    walk.settle()
    steady = max(r.id for r in desk.study.records())
    desk.session.run("correct-motion", {"image": steady})
    walk.settle()
    six = [(key, c) for key, c in desk.courses.held() if c.values.size == 36 and c.unit in ("mm", "rad")]
    moved = [key for key, c in six if "displacement" not in c.name]
    still = max(r.id for r in desk.study.records())
    desk.session.run("clean-courses", {"image": still, "slower": 60.0, "without": moved})
    walk.settle()
    for key, _ in desk.courses.held():
        desk.courses.let_go(key)
        walk.settle()
    desk.viewing.set_stage("Measure")
    window.table.bring_to_lead(window.table.slices[1])
    desk.viewing.go_to((2.4, 0.8, 2.8))
    window.drawer.open_page("courses")
    desk.courses.set_place("ball", 1.5)
    desk.courses.set_mode("percent")
    walk.settle()
    for name, place in (("Front of the cortex", (2.4, 0.8, 2.8)), ("Hindbrain", (0.4, -8.2, 2.0))):
        desk.viewing.go_to(place)
        desk.courses.hold()
        walk.settle()
        desk.courses.rename(desk.courses.held()[-1][0], name)
        walk.settle()
    desk.courses.correlate(desk.courses.held()[-2][0])
    walk.settle()
    desk.layers.set_look(low=0.3, high=0.7)
    desk.viewing.go_along(0, 14)
    desk.viewing.go_to((-2.4, 0.8, 2.8))
    walk.keep("courses")
    window.drawer.hide()
    desk.layers.take_all_away()
    window.table.bring_to_lead(window.table.slices[0])


def still_and_straight(walk: Walk) -> None:
    """Motion found against the single volume, and its plot; the field, and the volume before and after."""
    window, desk, bench = walk.window, walk.window.desk, walk.window.bench
    walk.show("Odour run")
    desk.viewing.set_stage("Prepare")
    window.table.bring_to_lead(window.table.slices[1])
    desk.viewing.go_to((0.2, 4.1, 1.2))
    bench.open_operation(find_operation("correct-motion"))
    form = bench.page("Prepare").form
    separate = form.fields["separate"]
    separate.setCurrentIndex(separate.findText("HM-07/Odour run, single volume"))
    walk.press(form.apply)
    window.drawer.open_page("courses")
    desk.viewing.go_along(0, 13)
    walk.settle()
    window.drawer.hide()
    names = "HM-07/Field map, phase difference", "HM-07/Field map", "HM-07/Odour run, single volume"
    phase, magnitude, single = (desk.study.find(name).id for name in names)
    desk.session.run("field-map", {"image": phase, "magnitude": magnitude})
    walk.settle()
    field = desk.study.find(f"{names[0]}, field").id
    desk.session.run("undistort", {"image": single, "field": field, "magnitude": magnitude, "direction": "j"})
    walk.settle()
    window.drawer.hide()
    straight = desk.study.find(f"{names[2]}, undistorted").id
    desk.viewing.show_image(single)
    walk.settle()
    desk.beside.show([single, field, straight])
    desk.viewing.go_to((0.2, 3.6, 1.2))
    walk.settle()
    bench.open_operation(find_operation("undistort"))
    walk.keep("field")
    bench.page("Prepare").close_form()
    desk.beside.show(())
    window.table.bring_to_lead(window.table.slices[0])
    window.fit_all()


def marks(walk: Walk) -> None:
    """Marks of every shape on a head, one of them chosen, and their list."""
    window, desk = walk.window, walk.window.desk
    walk.show("HM-07/Head T1")
    desk.viewing.set_stage("Measure")
    desk.viewing.go_to((0.9, -2.0, 2.4))
    walk.settle()
    canvas = window.table.lead.canvas

    def at(x: float, z: float) -> QPoint:
        return QPoint(*(round(v) for v in canvas.current_view().to_pixel((x, -2.0, z))))

    def move(place: QPoint) -> None:
        no, left = Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton
        where = QPointF(canvas.mapToGlobal(place))
        event = QMouseEvent(QEvent.Type.MouseMove, QPointF(place), where, Qt.MouseButton.NoButton, left, no)
        QApplication.sendEvent(canvas, event)

    def draw(tool: str, name: str, *places: tuple[float, float]) -> None:
        desk.hand.set_tool(f"mark-{tool}")
        if tool in ("polygon", "point"):
            for place in places:
                QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(*place))
            if tool == "polygon":
                QTest.keyClick(canvas, Qt.Key.Key_Return)
        else:
            QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(*places[0]))
            move(at(*places[1]))
            QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at(*places[1]))
        desk.marks.change_chosen("Rename", name=name)
        walk.settle()

    draw("line", "width of the brain", (-4.6, 1.4), (4.6, 1.4))
    draw("polygon", "", (-1.2, -3.2), (1.2, -3.2), (1.6, -5.0), (-1.6, -5.0))
    draw("point", "crown", (0.0, 6.4))
    draw("ellipse", "left half", (-3.9, 4.2), (-1.0, 2.2))
    desk.hand.set_tool("mark-rectangle")
    QApplication.sendEvent(canvas, QEvent(QEvent.Type.Leave))
    window.drawer.open_page("marks")
    walk.keep("marks")
    desk.hand.set_tool("point")
    window.drawer.hide()


def large_section(walk: Walk) -> None:
    """A section that is larger than the screen by far, at full resolution."""
    window, desk = walk.window, walk.window.desk
    walk.show("Brown fat, whole section")
    desk.viewing.go_to((0.545, -0.03, 0.0))
    canvas = window.table.working.canvas
    canvas.look_at(canvas.current_view().moved(centre=(0.5, 0.0, 0.0)))
    canvas.set_scale(0.001)
    walk.keep("navigator")
    canvas.fit()


def recipe(walk: Walk) -> None:
    """A ready recipe on everybody of the study, one of its steps looked at."""
    window, model = walk.window, walk.window.desk.recipes
    window.viewing.set_stage("Report")
    model.open("Functional series to standard space")
    walk.settle()
    model.choose(5)
    walk.keep("recipe")
    model.close()


def main() -> None:
    HOME.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        walk = Walk(demo_study(Path(place) / "Overwintering"))
        window, desk, bench = walk.window, walk.window.desk, walk.window.bench
        gather_views(walk)
        layers(walk)
        still_and_straight(walk)
        through_time(walk)
        marks(walk)
        large_section(walk)
        walk.show("HM-07/Head CT")
        desk.viewing.set_stage("Outline")
        outline = bench.outline
        QTest.keyClicks(outline.groups["labels"].new, "Skull")
        QTest.keyClick(outline.groups["labels"].new, Qt.Key.Key_Return)
        outline.groups["range"].ready.setCurrentIndex(outline.groups["range"].ready.findText("Bone"))
        outline.groups["range"].ready.activated.emit(outline.groups["range"].ready.currentIndex())
        walk.press(outline.groups["range"].half_way)
        walk.press(outline.groups["tools"].buttons["grow"])
        walk.click(IN_THE_SKULL)
        walk.press(outline.groups["tools"].buttons["eraser"])
        desk.hand.set_settings(size=1.5)
        for joint in JOINTS:
            walk.click(joint)
        walk.press(outline.groups["tools"].buttons["grow"])
        walk.click(IN_THE_SKULL)
        QTest.keyClicks(outline.groups["labels"].new, "Lower jaw")
        QTest.keyClick(outline.groups["labels"].new, Qt.Key.Key_Return)
        walk.press(outline.groups["labels"].rows[1].lock)
        walk.click((2.4, 0.4, -5.4))
        desk.viewing.go_to((2.2, 0.4, -1.6))
        desk.hand.set_settings(show_range=False)
        walk.keep("outline")
        window.table.bring_to_lead(window.table.solid)
        desk.solid.set_ready("Glass")
        desk.solid.set_camera(desk.solid.camera.turned(15, -4))
        walk.keep("solid")
        desk.solid.change(image="outline")
        window.table.bring_to_lead(window.table.slices[0])
        walk.press(bench.go_measure)
        walk.keep("measure")
        window.drawer.hide()
        heights(walk)
        pictures(walk, Path(place))
        aligned(walk)
        recipe(walk)
        window.fit_all()
        window.set_theme("dusk")
        cells(walk)
        walk.keep("dusk")
        window.set_theme("mist")
        window.close()


if __name__ == "__main__":
    main()
