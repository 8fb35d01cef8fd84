"""More of the look of the chosen layer: limits that hide, colours below zero, opacity, interpolation."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QSlider, QVBoxLayout, QWidget

from ...core.image import Image
from ...scene.colours import MAPS, colour_table
from ...scene.layer import ImageLook
from ...scene.showing import display_range
from ...scene.side_light import steepness
from ...scene.slab import WAYS
from ..models.desk_model import Desk
from ..widgets.number_field import NumberField, number
from .rows import quietly, row

SAME = "The same colours"


def swatch(name: str) -> QIcon:
    """A colour map as a small strip."""
    table = colour_table(name)[::4].copy()
    image = QImage(table.data, len(table), 1, 4 * len(table), QImage.Format.Format_RGB32)
    return QIcon(QPixmap.fromImage(image.scaled(44, 12)))


def map_box(name: str, first: str | None = None) -> QComboBox:
    """A list of the colour maps, each with its strip."""
    box = QComboBox()
    box.setAccessibleName(name)
    box.setIconSize(QSize(44, 12))
    if first is not None:
        box.addItem(first)
    for one in MAPS:
        box.addItem(swatch(one), one)
    box.setMinimumContentsLength(10)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    return box


class ColoursPanel(QWidget):
    """What is wanted seldom."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing, self.layers = desk.viewing, desk.layers
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        self.hide_below, self.least = QCheckBox("Hide below"), self._field("Lowest value that is drawn")
        self.hide_above, self.most = QCheckBox("Hide above"), self._field("Highest value that is drawn")
        limits = QGridLayout()
        limits.setSpacing(5)
        for n, (box, field) in enumerate(((self.hide_below, self.least), (self.hide_above, self.most))):
            limits.addWidget(box, n, 0)
            limits.addWidget(field, n, 1)
        column.addLayout(limits)
        self.below = map_box("Colours below zero", SAME)
        column.addLayout(row("Below 0", self.below, width=56))
        self.common = QCheckBox("Same limits on both sides")
        column.addWidget(self.common)
        self.apart = QWidget()
        line = QHBoxLayout(self.apart)
        line.setContentsMargins(0, 0, 0, 0)
        self.below_low, self.below_high = self._field("Below zero, from"), self._field("Below zero, to")
        line.addLayout(row("From −", self.below_low, self.below_high, width=56))
        column.addWidget(self.apart)
        self.opacity = QSlider(Qt.Orientation.Horizontal)
        self.opacity.setRange(0, 100)
        self.opacity.setAccessibleName("Opacity of the chosen layer")
        column.addLayout(row("Opacity", self.opacity, width=56))
        self.light = QSlider(Qt.Orientation.Horizontal)
        self.light.setRange(0, 100)
        self.light.setAccessibleName("Strength of the light from the side")
        self.lit = QWidget()
        self.lit.setLayout(row("Light", self.light, width=56))
        self.lit.layout().setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.lit)
        self.slab, self.slab_way = number(0, 1e6, 2, "", "Thickness of the slab that panes show"), QComboBox()
        self.slab.setSpecialValueText("one slice")
        self.slab_way.setAccessibleName("Which values of the slab")
        for way in WAYS:
            self.slab_way.addItem(way)
        self.slabbed = QWidget()
        self.slabbed.setLayout(row("Slab", self.slab, self.slab_way, width=56))
        self.slabbed.layout().setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.slabbed)
        self.smooth, self.inverted = QCheckBox("Smooth between voxels"), QCheckBox("Turned round")
        self.bars = QCheckBox("Colour bars")
        column.addWidget(self.smooth)
        two = QHBoxLayout()
        two.addWidget(self.inverted)
        two.addWidget(self.bars)
        two.addStretch(1)
        column.addLayout(two)
        self._connect()

    def _field(self, name: str) -> NumberField:
        return number(-1e12, 1e12, 3, "", name, follows=True)

    def _connect(self) -> None:
        layers = self.layers
        self.hide_below.toggled.connect(lambda on: layers.set_look(hide_below=self.least.value() if on else None))
        self.hide_above.toggled.connect(lambda on: layers.set_look(hide_above=self.most.value() if on else None))
        self.least.valueChanged.connect(lambda v: layers.set_look(hide_below=v))
        self.most.valueChanged.connect(lambda v: layers.set_look(hide_above=v))
        self.below.activated.connect(self._set_below)
        self.common.toggled.connect(self._set_common)
        self.below_low.valueChanged.connect(lambda v: layers.set_look(below_low=v))
        self.below_high.valueChanged.connect(lambda v: layers.set_look(below_high=v))
        self.opacity.valueChanged.connect(self._set_opacity)
        self.light.valueChanged.connect(self._set_light)
        self.slab.valueChanged.connect(lambda v: layers.set_look(slab=v))
        self.slab_way.textActivated.connect(lambda way: layers.set_look(slab_way=way))
        self.smooth.toggled.connect(lambda on: layers.set_look(smooth=on))
        self.inverted.toggled.connect(lambda on: layers.set_look(inverted=on))
        self.bars.toggled.connect(lambda on: self.viewing.arrange(bars=on))
        for signal in (layers.changed, self.viewing.looks_changed, self.viewing.arrangement_changed):
            signal.connect(self._follow)
        self.viewing.lead_ready.connect(self._follow)

    def _set_opacity(self, value: int) -> None:
        if self.layers.chosen is not None:
            self.layers.set_opacity(self.layers.chosen, value / 100)

    def _set_light(self, value: int) -> None:
        look, image = self.layers.look, self._image
        if look is not None and image is not None:
            self.layers.set_look(light=value / 100, steep=look.steep or steepness(image))

    @property
    def _image(self) -> Image | None:
        """The chosen layer's image, when its values are there."""
        image = self.layers.image(self.layers.chosen) if self.layers.chosen is not None else None
        return image if image is not None and image.in_memory and not image.colour else None

    def _set_below(self, n: int) -> None:
        look = self.layers.look
        name = None if n == 0 else self.below.itemText(n)
        changes: dict = {"below_map": name}
        if look is not None and name is not None and look.low <= 0:  # two sides begin at a distance from zero
            most = max(abs(look.low), abs(look.high)) or 1.0
            changes |= {"low": 0.3 * most, "high": most, "hide_below": None}
        if name is None:
            changes |= {"below_low": None, "below_high": None}
        self.layers.set_look(**changes)

    def _set_common(self, on: bool) -> None:
        look = self.layers.look
        if look is not None:
            limits = (None, None) if on else (look.low, look.high)
            self.layers.set_look(below_low=limits[0], below_high=limits[1])

    def _follow(self) -> None:
        look, layers = self.layers.look, self.layers
        if look is None:
            return
        image = self._image
        layer = layers.stack.of(layers.chosen) if layers.chosen is not None else None
        every = [self.hide_below, self.least, self.hide_above, self.most, self.below, self.common, self.below_low]
        self.lit.setVisible(image is not None and image.space.shape[2] == 1)
        self.slabbed.setVisible(image is None or image.space.flat_axis is None)
        every += [self.below_high, self.opacity, self.smooth, self.inverted, self.bars, self.light]
        with quietly(*every, self.slab, self.slab_way):
            if image is not None:
                for field in (self.least, self.most, self.below_low, self.below_high):
                    field.suit_values(*display_range(image))
            self._show(look)
            self.opacity.setValue(round(100 * (layer.opacity if layer is not None else 1.0)))
            self.bars.setChecked(self.viewing.arrangement.bars)

    def _show(self, look: ImageLook) -> None:
        self.hide_below.setChecked(look.hide_below is not None)
        self.hide_above.setChecked(look.hide_above is not None)
        self.least.setEnabled(look.hide_below is not None)
        self.most.setEnabled(look.hide_above is not None)
        self.least.setValue(look.low if look.hide_below is None else look.hide_below)
        self.most.setValue(look.high if look.hide_above is None else look.hide_above)
        self.below.setCurrentText(look.below_map or SAME)
        two = look.below_map is not None
        common = look.below_low is None and look.below_high is None
        self.common.setVisible(two)
        self.common.setChecked(common)
        self.apart.setVisible(two and not common)
        self.below_low.setValue(look.low if look.below_low is None else look.below_low)
        self.below_high.setValue(look.high if look.below_high is None else look.below_high)
        self.light.setValue(round(100 * look.light))
        self.smooth.setChecked(look.smooth)
        self.inverted.setChecked(look.inverted)
        image = self._image
        self.slab.setSuffix(f" {image.space.unit}" if image is not None else "")
        self.slab.setValue(look.slab)
        self.slab_way.setCurrentText(look.slab_way)
