"""The picture of a pane: where it looks, and how it is drawn."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QWidget

from ...scene import pieces
from ...scene.compare import Comparison
from ...scene.crop_box import Ends, in_plane
from ...scene.drawing import draw
from ...scene.layer_type import Drawn
from ...scene.primitives import Primitive, paint
from ...scene.view import Plane, View, fitted, is_tilted, plane_axes, through
from ..models.desk_model import Desk
from ..models.sight import Sight
from ..theme.theme import Theme, words
from ..tool import tool_named
from .picture import Picture
from .qt_painter import QtPainter, width_of


class Canvas(QWidget):
    """Draws what a sight sees in one plane. Its view keeps zoom and centre; the slice follows the crosshair."""

    pointed = Signal(object, object)
    """World position under the pointer, or None, and the sight that it is of."""
    view_moved = Signal()
    """The hand has zoomed or moved the picture."""
    wants_scale = Signal(float)
    wants_float = Signal()

    def __init__(self, desk: Desk, plane: Plane, sight: Sight):
        super().__init__()
        self.desk, self.viewing, self.hand, self.sight = desk, desk.viewing, desk.hand, sight
        self.plane, self.lead = plane, False
        self.view: View | None = None
        self.following = True
        self.picture = Picture()
        self.previewed = False
        """Whether what is seen is a preview."""
        self._live = False
        self._how = Comparison()
        self._drawn: list[Drawn] = []
        self.pointer: np.ndarray | None = None
        self._mouse: QPointF | None = None
        self._whole: tuple | None = None
        self._seen: dict[int, tuple[View, bool]] = {}
        self._shown: int | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(80, 60)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(f"{plane.name} pane")
        viewing, hand = self.viewing, self.hand
        if sight.key is None:
            viewing.lead_changed.connect(self._other_image)
        viewing.crosshair_moved.connect(self._follow_slice)
        for signal in (sight.changed, viewing.lead_ready, viewing.maps.changed, viewing.maps.chosen):
            signal.connect(self._redraw)
        for signal in (
            viewing.crosshair_moved,
            viewing.looks_changed,
            viewing.arrangement_changed,
            viewing.stage_changed,
            hand.settings_changed,
            hand.gesture_moved,
            desk.tiles.arrived,
            desk.previewing.changed,
            desk.live.arrived,
            desk.sections.changed,
            desk.marks.changed,
        ):
            signal.connect(self.refresh)

    # where it looks

    def _other_image(self) -> None:
        """Another image leads: what is seen of each is remembered."""
        record = self.sight.record
        if self._shown is not None and self.view is not None:
            self._seen[self._shown] = (self.view, self.following)
        self._shown = None if record is None else record.id
        self.view, self.following = self._seen.get(self._shown, (None, True)) if record is not None else (None, True)
        self.refresh()

    def seen_of_images(self) -> dict[int, tuple[View, bool]]:
        """What was seen of each image, by its id: the view, and whether it shows the whole."""
        own = {} if self._shown is None or self.view is None else {self._shown: (self.view, self.following)}
        return self._seen | own

    def see_again(self, places: dict[int, tuple[tuple[float, float, float], float]]) -> None:
        """Look at parts of images that were looked at before, by their ids: centre and mm a pixel."""
        across, down = plane_axes(self.plane)
        for key, (centre, pixel) in places.items():
            self._seen[key] = View(centre, across, down, pixel, 1, 1), False  # type: ignore[arg-type]
        if self._shown in places:
            self.view, self.following = self._seen[self._shown]
            self.refresh()

    def fit(self) -> None:
        """Show the whole image."""
        self.following, self.view = True, None
        self.refresh()
        self.view_moved.emit()

    @property
    def along(self):
        """The grid whose own axes the plane runs along; None for the world's."""
        record = self.sight.record
        wanted = record is not None and self.viewing.arrangement.own_axes and is_tilted(record.grid)
        return record.grid if wanted and record is not None else None

    def current_view(self) -> View | None:
        """The view for the pane's present size, on the crosshair's slice."""
        record = self.sight.record
        if record is None:
            return None
        scale = self.devicePixelRatioF()
        width, height = max(1, int(self.width() * scale)), max(1, int(self.height() * scale))
        view, known, along = self.view, record.grid.sides_known, self.along
        if view is None or self.following:
            view = fitted(self.plane, record.grid, width, height, along=along)
        across, down = plane_axes(self.plane, self.viewing.left_on_left or not known, along)
        view = View(view.centre, across, down, view.pixel, width, height, known)  # type: ignore[arg-type]
        self.view = through(view, self.plane, self.sight.crosshair, along)
        return self.view

    def look_at(self, view: View) -> None:
        """Look at another part; the slice stays that of the crosshair."""
        self.following, self.view = False, view
        self.refresh()

    def world_at(self, point: QPointF) -> np.ndarray | None:
        """World position under a point of the canvas, on the slice shown."""
        view, scale = self.current_view(), self.devicePixelRatioF()
        return None if view is None else view.to_world(point.x() * scale - 0.5, point.y() * scale - 0.5)

    def zoom(self, factor: float, about: QPointF | None = None) -> None:
        """Zoom, keeping the point under `about` where it is."""
        view = self.current_view()
        if view is not None:
            self._zoom_to(view.pixel / factor, about)

    def _zoom_to(self, pixel: float, about: QPointF | None = None) -> None:
        view, record = self.current_view(), self.sight.record
        if view is None or record is None:
            return
        about = about or QPointF(self.width() / 2, self.height() / 2)
        fixed = self.world_at(about)
        self.following = False
        extent = float(np.ptp(record.grid.corners(), axis=0).max())
        pixel = float(np.clip(pixel, 1e-3 * min(record.grid.spacing), 10 * extent))
        self.view = view.moved(pixel=pixel)
        shift = fixed - self.world_at(about)
        self.view = self.view.moved(centre=tuple(np.asarray(self.view.centre) + shift))
        self.refresh()
        self.view_moved.emit()

    def set_scale(self, pixel: float) -> None:
        """Show so many mm in each pixel, about the middle."""
        if pixel > 0:
            self._zoom_to(pixel)

    def one_to_one(self) -> None:
        """A pixel of the screen for each voxel of the finest axis in this plane."""
        record = self.sight.record
        if record is not None:
            grid = record.grid
            self.set_scale(min(grid.spacing[grid.world_axis_of.index(a)] for a in (self.plane.right, self.plane.up)))

    def pan(self, dx: float, dy: float) -> None:
        view = self.current_view()
        if view is None:
            return
        scale = self.devicePixelRatioF()
        self.following = False
        self.view = view.moved(centre=tuple(np.asarray(view.centre) - view.right * dx * scale - view.down * dy * scale))
        self.refresh()
        self.view_moved.emit()

    def _follow_slice(self) -> None:
        """The slice has changed under a resting pointer: it points at another place now."""
        if self._mouse is not None:
            self.pointer = self.world_at(self._mouse)
            self.pointed.emit(self.pointer, self.sight)

    # drawing

    def refresh(self) -> None:
        """Something may have changed: draw what is not the same."""
        self.picture.stale = True
        self.update()

    def _redraw(self) -> None:
        """Labels or the image are others now."""
        self.picture.touched = True
        self.refresh()

    def render_pixels(self) -> np.ndarray | None:
        """The picture as packed colours, drawn anew when something has changed."""
        view, viewing = self.current_view(), self.viewing
        if view is None or not self.sight.ready:
            return None
        tint = None
        if self.hand.settings.show_range and viewing.stage == "Outline" and self.sight.leads:
            tint = (self.hand.settings.low, self.hand.settings.high)
        parts = plain = self.sight.parts(tint)
        if self.sight.leads:
            parts = self.desk.previewing.laid_over(plain, view)
        self.previewed, self._how = parts is not plain, parts.how
        self._live = self.sight.leads and self.desk.live.showing
        if self._live:
            parts = self.desk.live.laid_over(parts)
        self._drawn = [*parts.lower, *parts.upper]
        self.desk.tiles.want([one.thing for one in self._drawn], view)
        return self.picture.pixels(view, parts)

    def paintEvent(self, event) -> None:
        pixels = self.render_pixels()  # before the painter: what runs here may load and compile
        small = self._small_picture() if pixels is not None else None
        with QPainter(self) as painter:
            record = self.sight.record
            if pixels is None or record is None or self.view is None:
                painter.fillRect(self.rect(), QColor(Theme.tokens.night))
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(14))
                text = "" if not self.lead else f"Reading {record.name} …" if record else "Gather an image to begin"
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text)
                return
            height, width = pixels.shape
            painter.drawImage(self.rect(), QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32))
            scale, view, arrangement = self.devicePixelRatioF(), self.view, self.viewing.arrangement
            painter.scale(1 / scale, 1 / scale)
            brush = QtPainter(painter)
            if arrangement.crosshair_width:
                gap, colour, wide = 12 if self.lead else 6, arrangement.crosshair, arrangement.crosshair_width
                paint(brush, pieces.crosshair(view, self.sight.crosshair, gap, colour, wide))
            painter.resetTransform()
            flat = view.moved(pixel=view.pixel * scale, width=self.width(), height=self.height())
            paint(brush, self._over(flat, small))

    def _over(self, flat: View, small: np.ndarray | None) -> list[Primitive]:
        """What stands over the picture, from the lowest: layers that are no pixels, then what tells where one is."""
        record, hand, sections = self.sight.record, self.hand, self.desk.sections
        assert record is not None
        over = self.desk.marks.drawn(flat, sections.drawn_here) if self.sight.leads else []
        over += [*pieces.letters(flat), *pieces.length_bar(flat, record.grid.unit)]
        over += pieces.slabs(flat, self._drawn, record.grid.unit)
        if self._how.way == "swipe":
            over += pieces.swipe_line(flat, self._how.share)
        said = f"Preview: {self.desk.previewing.title}" if self.previewed else "Live" if self._live else ""
        if said:
            over += pieces.tag(said, width_of(said))
        if self.viewing.arrangement.bars and self.lead:
            frame = pieces.navigator_frame(flat, record.grid)
            right = pieces.SIDE + pieces.MARGIN if frame is not None else 0.0
            over += pieces.bars_of_colour(flat, self.sight.bars(), right)
        if (crop := self.crop) is not None:
            over += in_plane(flat, crop)
        over += pieces.navigator(flat, record.grid, small)
        if not self.sight.leads:
            return over
        if sections.watched and sections.lies_in(flat):
            over += sections.drawn(flat)
        if hand.gesture is not None:
            over += hand.gesture.over(flat)
        tool = tool_named(hand.tool)
        if tool.hover is not None and self.pointer is not None:
            over += tool.hover(flat, self.desk, self.pointer)
        return over

    @property
    def crop(self) -> Ends | None:
        """The box that the Solid view is cropped to, while that is in view beside this pane."""
        solid = self.desk.solid
        return solid.shown.crop if self.sight.leads and solid.in_view else None

    def _small_picture(self) -> np.ndarray | None:
        """The whole slice for the navigator; drawn anew when the slice or the look is another one."""
        record, view = self.sight.record, self.view
        if record is None or view is None:
            return None
        scale = self.devicePixelRatioF()
        frame = pieces.navigator_frame(
            view.moved(pixel=view.pixel * scale, width=self.width(), height=self.height()), record.grid
        )
        if frame is None:
            return None
        width, height = (max(1, round(v * scale)) for v in frame[0][2:])
        lower = self.sight.parts().lower
        whole = fitted(self.plane, record.grid, width, height, margin=0.0, along=self.along)
        whole = whole.moved(rightward=view.rightward, downward=view.downward)
        whole = through(whole, self.plane, self.sight.crosshair, self.along)
        known = (whole, tuple(lower))
        if self._whole is None or self._whole[0] != known:
            self._whole = (known, draw(whole, lower))
        return self._whole[1]

    def resizeEvent(self, event) -> None:
        self.refresh()
