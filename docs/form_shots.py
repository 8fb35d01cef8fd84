"""Pictures of forms at work: heights levelled, a set of radiographs, a brain, two animals aligned."""

from __future__ import annotations

from pathlib import Path

from walk import Walk

from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.operation import find_operation
from kestrelmist.demo.many_radiographs import write_radiographs


def heights(walk: Walk) -> None:
    """A height map while it is levelled, and sections of it."""
    window, desk, bench = walk.window, walk.window.desk, walk.window.bench
    walk.show("HM-07/Enamel, etched window")
    desk.viewing.set_stage("Prepare")
    desk.session.run("level", {"image": desk.viewing.record.id, "how": "plane", "robust": True})
    walk.settle()
    window.drawer.hide()
    bench.open_operation(find_operation("level"))
    fields = bench.page("Prepare").form.fields
    fields["order"].setValue(2)
    fields["each_line"].setChecked(True)
    fields["limit_below"].setText("-90")
    fields["limit_above"].setText("90")
    walk.keep("level")
    walk.press(bench.page("Prepare").form.apply)
    bench.page("Prepare").close_form()
    desk.viewing.set_stage("Measure")
    window.drawer.open_page("sections")
    walk.settle()
    record, sections = desk.viewing.record, desk.sections

    def draw(first: tuple[int, int], last: tuple[int, int]) -> None:
        ends = tuple(tuple(record.grid.to_world((*at, 0)).tolist()) for at in (first, last))
        kept = 0 if sections.mark is None else sections.mark.id
        line = Mark("section", ends, kept, across=sections.width)
        sections.keep_line("Draw a section", line, desk.marks.key, record.id)
        walk.settle()

    for first, last, width in (((30, 380), (480, 380), 0.004), ((40, 300), (470, 240), 0.002)):
        sections.set_width(width)
        draw(first, last)
        sections.keep()
        walk.settle()
    sections.set_width(0.006)
    draw((30, 180), (480, 200))
    sections.set_cursor(0, 0.008)
    sections.set_cursor(1, 0.023)
    walk.keep("profile")
    sections.clear()
    window.drawer.hide()


def pictures(walk: Walk, place: Path) -> None:
    """Radiographs of many animals with the boxes of a table, before a set is made of them."""
    table = write_radiographs(place / "radiographs", 60)
    window, desk, bench = walk.window, walk.window.desk, walk.window.bench
    desk.viewing.set_stage("Prepare")
    bench.open_operation(find_operation("picture-set"))
    form = bench.page("Prepare").form
    for name, value in (("table", table), ("folder", table.parent / "pictures"), ("to", place / "set")):
        form.fields[name].field.setText(str(value))
    walk.press(form.companion.button)
    for name, value in (("table", "boxes.csv"), ("folder", "pictures"), ("to", "set of 224")):
        form.fields[name].field.setText(value)
    walk.keep("pictures")
    desk.collection.close()
    bench.page("Prepare").close_form()
    window.drawer.hide()


def aligned(walk: Walk) -> None:
    """A layer turned by hand; one animal bent onto another, and laid over it through that; the standard space."""
    window, desk, bench = walk.window, walk.window.desk, walk.window.bench
    walk.show("HM-08/Head T1")
    together = desk.study.transforms()[0]  # says that both animals lie alike
    desk.session.run("take-off", {"thing": together.id})
    walk.settle()
    bench.open_operation(find_operation("align"))
    form = bench.page("Align").form
    for name, choice in (("onto", "HM-07/Head T1"), ("freedom", "warp")):
        form.fields[name].setCurrentIndex(form.fields[name].findText(choice))
    walk.press(form.apply)
    walk.show("HM-07/Head T1")
    desk.viewing.go_to((0.9, -2.0, 2.4))
    desk.layers.lay_over(desk.study.find("HM-08/Head T1").id)
    walk.settle()
    desk.layers.compare_by(way="edges")
    walk.keep("align")
    desk.layers.compare_by(way="over")
    desk.layers.take_away(desk.study.find("HM-08/Head T1").id)
    bench.page("Align").close_form()
    window.drawer.hide()
    desk.alignment.forget()
    in_standard_space(walk)


def in_standard_space(walk: Walk) -> None:
    """The regions of the mean dormouse where they lie in an animal, and the standard place under the crosshair."""
    desk = walk.window.desk
    desk.session.run("open-pack", {})
    walk.settle()
    head, mean = (desk.study.find(name).id for name in ("HM-07/Head T1", "Hollowmere mean dormouse/T1"))
    desk.session.run("align", {"image": head, "onto": mean, "freedom": "warp"})
    walk.settle()
    walk.window.drawer.hide()
    walk.show("HM-07/Head T1")
    desk.layers.lay_over(mean)
    walk.settle()
    desk.layers.set_opacity(mean, 0.0)
    desk.viewing.go_to((2.0, -4.0, 2.0))
    walk.keep("standard")
    desk.layers.take_away(mean)
    desk.alignment.forget()
    walk.settle()
