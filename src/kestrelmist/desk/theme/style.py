"""The style sheet, made from the tokens."""

from __future__ import annotations

from importlib import resources

from .tokens import DUSK, Tokens


def style_sheet(t: Tokens) -> str:
    """Qt style sheet of a theme. Names in #hash are set with setObjectName; `kind` and `level` are properties."""
    name = "dusk" if t is DUSK else "mist"
    chevron, tick = (
        resources.files(__package__).joinpath("icons", f"{what}-{name}.svg") for what in ("chevron", "tick")
    )
    return f"""
* {{ outline: 0; }}
QWidget {{ color: {t.ink}; font-size: 14px; }}
QMainWindow, #ground {{ background: {t.ground}; }}
#panel, #path {{ background: {t.panel}; }}
#path, #strip {{ background: {t.panel}; border-bottom: 1px solid {t.hairline}; }}
#shelf {{ background: {t.panel}; border-right: 1px solid {t.hairline}; }}
#bench {{ background: {t.panel}; border-left: 1px solid {t.hairline}; }}
#drawer {{ background: {t.panel}; border-top: 1px solid {t.hairline}; }}
#readout {{ background: {t.bar}; }}
#readout QLabel, #readout QToolButton {{ color: {t.bar_ink}; font-size: 13px; background: transparent; }}
#readout QLabel[kind="name"] {{ color: {t.bar_soft}; }}
QLabel[kind="title"] {{ font-size: 16px; font-weight: 700; }}
QLabel[kind="section"] {{ font-size: 13px; font-weight: 600; color: {t.soft}; }}
QLabel[kind="soft"] {{ font-size: 13px; color: {t.soft}; }}
QLabel[kind="small"] {{ font-size: 12px; color: {t.soft}; }}
QLabel[kind="wrong"] {{ font-size: 13px; color: {t.red}; }}
QLabel[kind="figures"], QLineEdit[kind="figures"], QTableView {{ font-family: "Atkinson Hyperlegible Mono";
    font-size: 13px; }}
QToolTip {{ background: {t.field}; color: {t.ink}; border: 1px solid {t.hairline}; padding: 4px; }}
QPushButton, QToolButton[kind="button"] {{ background: {t.field}; border: 1px solid {t.edge};
    border-radius: 5px; padding: 4px 10px; min-height: 18px; }}
QPushButton:hover, QToolButton[kind="button"]:hover {{ border-color: {t.ink}; }}
QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus, QAbstractSpinBox:focus, QListView:focus,
    QTableView:focus {{ border: 1px solid {t.rust}; }}
QPushButton:disabled {{ color: {t.soft}; background: {t.panel}; border-color: {t.hairline}; }}
QPushButton[kind="primary"] {{ background: {t.rust}; border-color: {t.rust}; color: {t.on_rust}; font-weight: 600; }}
QPushButton[kind="primary"]:focus {{ border: 2px solid {t.ink}; padding: 3px 9px; }}
QPushButton[kind="primary"]:disabled {{ background: {t.hairline}; border-color: {t.hairline}; color: {t.soft}; }}
QPushButton[kind="link"] {{ background: transparent; border: 1px solid transparent; color: {t.rust};
    text-align: left; padding: 2px 4px; }}
QPushButton[kind="heading"] {{ background: transparent; border: 1px solid transparent; color: {t.soft};
    font-size: 13px; font-weight: 600; text-align: left; padding: 1px 0; }}
QPushButton[kind="heading"]:hover {{ color: {t.ink}; }}
QPushButton[kind="link"]:hover {{ text-decoration: underline; }}
QPushButton[kind="card"] {{ background: {t.panel}; border: 1px solid {t.hairline}; padding: 0; }}
QPushButton[kind="card"][off="true"] {{ border-style: dashed; border-color: {t.soft}; }}
QPushButton:checked {{ background: {t.rust_tint}; border-color: {t.rust}; }}
QPushButton[kind="small"] {{ padding: 1px 8px; font-size: 13px; }}
QToolButton {{ background: transparent; border: 1px solid transparent; border-radius: 5px; padding: 3px; }}
QToolButton::menu-indicator {{ image: none; width: 0; }}
QToolButton:hover {{ background: {t.ground}; }}
QToolButton[kind="tool"] {{ padding: 4px 3px; font-size: 13px; }}
QToolButton[kind="tool"]:checked {{ background: {t.rust_tint}; border: 1px solid {t.rust}; }}
QLineEdit, QComboBox, QAbstractSpinBox {{ background: {t.field}; border: 1px solid {t.edge};
    border-radius: 4px; padding: 2px 6px; min-height: 20px; selection-background-color: {t.rust};
    selection-color: {t.on_rust}; }}
QAbstractSpinBox {{ font-family: "Atkinson Hyperlegible Mono"; font-size: 13px; padding-right: 2px; }}
QAbstractSpinBox QLineEdit {{ border: 0; padding: 0 4px; min-height: 0; background: transparent; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; height: 0; border: 0; }}
QComboBox::drop-down {{ border: 0; width: 22px; }}
QComboBox::down-arrow {{ image: url({chevron}); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {t.field}; border: 1px solid {t.hairline};
    selection-background-color: {t.rust_tint}; selection-color: {t.ink}; }}
QCheckBox {{ spacing: 7px; }}
QCheckBox::indicator {{ width: 15px; height: 15px; border: 1px solid {t.soft}; border-radius: 3px;
    background: {t.field}; }}
QCheckBox::indicator:checked {{ background: {t.rust}; border-color: {t.rust}; image: url({tick}); }}
QCheckBox::indicator:focus {{ border: 2px solid {t.rust}; }}
QTableView::indicator, QListWidget::indicator {{
    width: 15px; height: 15px; border: 1px solid {t.soft}; border-radius: 3px;
    background: {t.field}; }}
QTableView::indicator:checked, QListWidget::indicator:checked {{
    background: {t.rust}; border-color: {t.rust}; image: url({tick}); }}
QTableView::indicator:disabled {{ border-color: {t.hairline}; background: {t.panel}; }}
QTableView::item {{ padding: 0 3px; }}
QSlider::groove:horizontal {{ height: 4px; border-radius: 2px; background: {t.edge}; }}
QSlider::sub-page:horizontal {{ border-radius: 2px; background: {t.rust}; }}
QSlider::handle:horizontal {{ width: 12px; height: 12px; margin: -5px 0; border-radius: 6px;
    border: 1px solid {t.rust}; background: {t.field}; }}
QSlider::handle:horizontal:focus {{ border: 2px solid {t.ink}; }}
QScrollArea, QScrollArea > QWidget > QWidget[kind="scrolled"] {{ background: transparent; border: 0; }}
QScrollBar:vertical {{ width: 9px; background: transparent; }}
QScrollBar:horizontal {{ height: 9px; background: transparent; }}
QScrollBar::handle {{ background: {t.edge}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent;
    width: 0; height: 0; }}
QTableView {{ background: {t.field}; border: 1px solid {t.hairline}; gridline-color: {t.hairline};
    selection-background-color: {t.rust_tint}; selection-color: {t.ink}; alternate-background-color: {t.panel}; }}
QHeaderView::section {{ background: {t.panel}; border: 0; border-bottom: 1px solid {t.hairline};
    border-right: 1px solid {t.hairline}; padding: 3px 6px; font-size: 13px; font-weight: 600;
    font-family: "Atkinson Hyperlegible Next"; }}
QListView {{ background: {t.field}; border: 1px solid {t.hairline}; }}
QListWidget {{ border-radius: 4px; padding: 3px; }}
QListWidget::item {{ padding: 2px; color: {t.ink}; }}
QListWidget::item:disabled {{ color: {t.soft}; }}
QListWidget::item:selected {{ background: {t.rust_tint}; color: {t.ink}; }}
QMenu {{ background: {t.field}; border: 1px solid {t.hairline}; padding: 4px; }}
QMenu::item {{ padding: 4px 18px; border-radius: 3px; }}
QMenu::item:selected {{ background: {t.rust_tint}; color: {t.ink}; }}
QProgressBar {{ background: {t.ground}; border: 0; border-radius: 3px; max-height: 6px; min-height: 6px; }}
QProgressBar::chunk {{ background: {t.rust}; border-radius: 3px; }}
#finder {{ background: {t.panel}; border: 1px solid {t.rust}; border-radius: 8px; }}
#finder QLineEdit {{ font-size: 16px; min-height: 28px; }}
#finder QListView {{ border: 0; background: transparent; }}
#finder QListView::item {{ padding: 5px 8px; border-radius: 4px; }}
#finder QListView::item:selected {{ background: {t.rust_tint}; color: {t.ink}; }}
#row[chosen="true"] {{ background: {t.rust_tint}; border-radius: 5px; }}
#card {{ background: {t.field}; border: 1px solid {t.hairline}; border-radius: 6px; }}
#cardplain {{ border: 1px solid transparent; border-radius: 6px; }}
#cardchosen {{ background: {t.rust_tint}; border: 1px solid {t.rust}; border-radius: 6px; }}
#trouble {{ background: {t.field}; border: 1px solid {t.red}; border-radius: 6px; }}
#paneheader {{ background: #131A1E; }}
#paneheader QLabel {{ color: #E8EDEE; font-size: 13px; }}
#paneheader QLabel[kind="figures"] {{ color: #B9C6CC; }}
"""
