"""Every field for a number keeps every digit that is typed, and a form shows what it will use."""

import math

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDoubleSpinBox, QLineEdit

from kestrelmist.core.digits import plain
from kestrelmist.core.operation import STAGES, all_operations, find_operation
from kestrelmist.desk.widgets.number_field import NumberField, number
from tests.desk_case import DeskCase

TYPED = (1.2345e-7, 12345678.9, 0.00246, 0.00051)


class FieldTest(DeskCase):
    def setUp(self):
        super().setUp()
        from kestrelmist.desk.app import application

        application()

    def typed(self, field, text: str) -> None:
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)

    def test_what_is_typed_is_held_and_shown(self):
        field = number(-1e9, 1e9, 3, "s", "Time")
        for text, value in (
            ("0.00246", 0.00246), ("0.00051", 0.00051), ("1.2345e-7", 1.2345e-7), ("12345678.9", 12345678.9),
            ("-3.25", -3.25), ("1,5", 1.5), ("7", 7.0), (".5", 0.5), ("123456.7890123", 123456.7890123),
        ):  # fmt: skip
            self.typed(field, text)
            self.assertEqual(field.value(), value, text)
            shown = field.text().removesuffix(" s")
            self.assertEqual(float(shown), value, shown)
        self.assertEqual(field.text(), "123456.7890123 s")
        field.setValue(1.5)
        self.assertEqual(field.text(), "1.500 s")
        field.setValue(0.00246)  # a default
        self.assertEqual(field.text(), "0.00246 s")
        for wrong in ("x", "1e", "2e9", "--3", "1.2.3"):
            self.typed(field, wrong)
            self.assertTrue(-1e9 <= field.value() <= 1e9)
        self.assertIn(field.value(), (0.00246, 1.0, -3.0, 1.23, 2e9 / 1e9, 3.0, 2.0))

    def test_whole_numbers(self):
        field = number(-1000, 1e9, 0, "", "Count", whole=True)
        self.typed(field, "12345678")
        self.assertEqual((field.value(), field.text()), (12345678.0, "12345678"))
        self.typed(field, "2.7")
        self.assertEqual(field.value(), int(field.value()))

    def test_what_follows_a_hand_is_shown_rounded_and_known_exactly(self):
        field = number(-1e9, 1e9, 2, "", "Low", follows=True)
        field.setValue(math.pi)
        self.assertEqual((field.text(), field.value()), ("3.14", math.pi))
        QTest.keyClick(field, Qt.Key.Key_Return)  # nothing was typed: nothing changes
        self.assertEqual(field.value(), math.pi)
        self.typed(field, "0.000001")
        self.assertEqual((field.value(), field.text()), (1e-6, "0.000001"))
        field.setValue(1e-6)  # the model tells it what it was told
        self.assertEqual(field.text(), "0.000001")
        field.setValue(2 / 3)
        self.assertEqual(field.text(), "0.67")

    def test_steps(self):
        field = number(-1e9, 1e9, 3, "s", "Time")
        for start, up, wanted in ((0.0, 1, 0.001), (0.0024, 1, 0.0034), (100.0, 1, 110.0), (1.0, -1, 0.9), (37, 2, 39)):
            field.setValue(start)
            field.stepBy(up)
            self.assertAlmostEqual(field.value(), wanted, places=12)
            self.assertEqual(float(field.text().removesuffix(" s")), field.value())


class FormsTest(DeskCase):
    """All fields of all forms."""

    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            study.run("smooth", fwhm=1.0)
        self.window = self.open(self.place / "study")
        self.window.desk.viewing.show_image(1)
        self.settle(self.window)

    def test_each_keeps_each_digit(self):
        walked = 0
        for stage in STAGES:
            self.window.desk.viewing.set_stage(stage.capitalize())
            page = self.window.bench.page(stage.capitalize())
            for operation in all_operations().values():
                if operation.stage != stage or not hasattr(page, "open"):
                    continue
                form = page.open(operation)
                for name, field in form.fields.items():
                    p = next(p for p in operation.parameters if p.name == name)
                    if p.kind.field != "number" or p.many:
                        continue
                    walked += 1
                    self.walk(operation, form, p, field)
        self.assertGreater(walked, 80)

    def walk(self, operation, form, p, field) -> None:
        kept = form.kept[p.name].value
        for value in TYPED:
            value = float(round(value)) if p.kind.type is int else value
            if not max(p.low, -1e15) <= value <= min(p.high, 1e15):
                continue
            target = field if isinstance(field, QLineEdit) else field.lineEdit()
            target.selectAll()
            QTest.keyClicks(target, plain(value) if p.kind.type is not int else str(int(value)))
            QTest.keyClick(target, Qt.Key.Key_Return)
            with self.subTest(f"{operation.name} {p.name}"):
                left = p.left_out is not None and p.left_out.means_left(value)
                self.assertEqual(p.checked(kept()), None if left else value)
                if isinstance(field, NumberField):
                    shown = field.text().removesuffix(field.suffix()).removeprefix(field.prefix())
                    self.assertEqual(float(shown), value)

    def test_defaults_are_shown_as_they_are_used(self):
        for name in ("undistort", "field-map", "smooth", "carpet", "step-height"):
            operation = find_operation(name)
            form = self.window.bench.page(operation.stage.capitalize()).open(operation)
            for p in operation.settings:
                field = form.fields.get(p.name)
                if isinstance(field, NumberField) and not p.required:
                    shown = float(field.text().removesuffix(field.suffix()))
                    self.assertEqual(shown, field.value(), p.name)

    def test_no_field_of_the_window_rounds(self):
        """Those beside the forms, too: none is a plain box that cuts digits off, but where whole pixels are meant."""
        for stage in STAGES:
            self.window.desk.viewing.set_stage(stage.capitalize())
            self.settle(self.window)
        for page in ("courses", "sections"):
            self.window.drawer.open_page(page)
            self.settle(self.window)
        plain = [w for w in self.window.findChildren(QDoubleSpinBox) if not isinstance(w, NumberField)]
        self.assertEqual({w.accessibleName() for w in plain}, {"Width of the crosshair"})
