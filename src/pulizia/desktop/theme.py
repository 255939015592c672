# SPDX-License-Identifier: GPL-3.0-or-later
"""Colours, type and ramps: ink on linen, and its lamplight."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from pulizia.words import N_

FAMILY = "Source Sans 3"


@dataclass(frozen=True, slots=True)
class Theme:
    """Colour tokens by use; see the comments of the fields."""

    name: str
    paper: str  # window, columns
    panel: str  # plots, strips, selected cards, buttons
    line: str  # hairlines, grids
    strong: str  # outlines of strips and controls, ticks
    ink: str  # text, sound, play position
    soft: str  # second text, axis labels, peaks
    verd: str  # ours: acting, fills, lines
    verd_text: str
    verd_soft: str  # level of what is removed, area "removed"
    on_verd: str
    removed: str  # level of what the selected step removes
    ochre: str  # caution mark
    ochre_text: str
    madder: str  # over a limit, trouble
    plum: str  # selection
    track: str  # of meters, where nothing is shown
    rms_opacity: float
    ramp: tuple[tuple[float, str], ...]


LINEN = Theme(
    "linen", "#F5F1E8", "#FBF8F1", "#D9D1C0", "#A89D86", "#1B2E3C", "#55646C", "#2C7A73", "#226660",
    "#CFE3DC", "#FDFBF6", "#236A64", "#B9832A", "#855A12", "#A8433A", "#6C4A78", "#D9D1C0", 0.86,
    ((0, "#FBF8F1"), (0.16, "#EAF0E6"), (0.38, "#B9D6CA"), (0.60, "#5FA59A"), (0.78, "#256E70"), (1, "#10202F")),
)  # fmt: skip
LAMPLIGHT = Theme(
    "lamplight", "#1F1C19", "#27231F", "#423B33", "#6E6455", "#EFE6D2", "#B5AA95", "#7CC0B2", "#8CCBBE",
    "#2A4540", "#14211E", "#A3D8CC", "#DDB061", "#DDB061", "#E58C7E", "#C3A1D1", "#423B33", 0.74,
    ((0, "#27231F"), (0.16, "#263430"), (0.38, "#2C5A54"), (0.60, "#5E9F93"), (0.78, "#B7D8C9"), (1, "#FFF8E6")),
)  # fmt: skip
CONTRAST = Theme(
    "contrast", "#FFFFFF", "#FFFFFF", "#767676", "#3A3A3A", "#000000", "#2B2B2B", "#005A50", "#004A42",
    "#A9DCD1", "#FFFFFF", "#00352F", "#7A4A00", "#5E3900", "#9B0000", "#5A1470", "#E2E2E2", 0.94,
    ((0, "#FFFFFF"), (0.16, "#E2EFEB"), (0.38, "#9CCABF"), (0.60, "#3F8A7E"), (0.78, "#0B4C47"), (1, "#000000")),
)  # fmt: skip
THEMES = {theme.name: theme for theme in (LINEN, LAMPLIGHT, CONTRAST)}
TITLES = {"linen": N_("Linen (light)"), "lamplight": N_("Lamplight (dark)"), "contrast": N_("High contrast")}


class _Chosen(QObject):
    changing = Signal()  # about to: what is only kept ready is better dropped than styled anew
    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.theme = LINEN


_chosen: list[_Chosen] = []


def theme_notice() -> _Chosen:
    """The object whose ``changed`` signal tells of another theme."""
    if not _chosen:
        _chosen.append(_Chosen())
    return _chosen[0]


def theme() -> Theme:
    """The theme in use."""
    return theme_notice().theme


def colour(token: str, opacity: float = 1.0) -> QColor:
    """A colour of the theme in use, by the token's name."""
    return _colour(theme(), token, opacity)


@cache
def _colour(chosen: Theme, token: str, opacity: float) -> QColor:
    made = QColor(getattr(chosen, token))
    if opacity < 1.0:
        made.setAlphaF(opacity)
    return made


def load_fonts() -> None:
    """Make the shipped typeface known to Qt."""
    folder = files("pulizia.desktop").joinpath("fonts")
    for name in ("SourceSans3-Regular.ttf", "SourceSans3-Semibold.ttf"):
        QFontDatabase.addApplicationFontFromData(folder.joinpath(name).read_bytes())


@cache
def font(pixels: int, *, bold: bool = False) -> QFont:
    """The typeface at one of the five sizes 11, 12, 13, 15, 20; bold means weight 600."""
    made = QFont(FAMILY)
    made.setPixelSize(pixels)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    return made


def use_theme(name: str) -> None:
    """Switch the whole application to a theme."""
    chosen = theme_notice()
    wanted = THEMES.get(name, LINEN)
    application = QApplication.instance()
    if chosen.theme is wanted and isinstance(application, QApplication) and application.styleSheet():
        return  # Qt would style every widget anew
    chosen.changing.emit()
    chosen.theme = wanted
    if isinstance(application, QApplication):
        _set_style_sheet(application, "")  # from one sheet to the next takes five times as long as without one between
        application.setPalette(_palette(chosen.theme))
        _set_style_sheet(application, style_sheet(chosen.theme))
    chosen.changed.emit()


@contextmanager
def styled_at_the_end() -> Iterator[None]:
    """Make many widgets quickly: Qt styles all of a part anew each time it is put into a larger one."""
    application = QApplication.instance()
    if not isinstance(application, QApplication):
        yield
        return
    _set_style_sheet(application, "")
    try:
        yield
    finally:
        _set_style_sheet(application, style_sheet(theme()))


def _set_style_sheet(application: QApplication, rules: str) -> None:
    collecting = gc.isenabled()
    gc.disable()  # Qt goes through all widgets here: none of them may be taken away by a collection meanwhile
    try:
        application.setStyleSheet(rules)
    finally:
        if collecting:
            gc.enable()


def _palette(t: Theme) -> QPalette:
    palette = QPalette()
    role = QPalette.ColorRole
    pairs = (
        (role.Window, t.paper), (role.Base, t.panel), (role.AlternateBase, t.paper),
        (role.Button, t.panel), (role.Text, t.ink), (role.WindowText, t.ink),
        (role.ButtonText, t.ink), (role.Highlight, t.verd), (role.HighlightedText, t.on_verd),
        (role.ToolTipBase, t.panel), (role.ToolTipText, t.ink), (role.PlaceholderText, t.soft),
        (role.Link, t.verd_text),
    )  # fmt: skip
    for which, value in pairs:
        palette.setColor(which, QColor(value))
    for which in (role.Text, role.WindowText, role.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, which, QColor(t.strong))
    return palette


def style_sheet(t: Theme) -> str:
    """Rules for Qt's own widgets. Text and its colour come from the palette: a rule for all would burden each."""
    signs = files("pulizia.desktop").joinpath("signs")  # scripts/draw_signs.py makes them
    tick, arrow = (Path(str(signs.joinpath(f"{t.name}-{sign}.png"))).as_posix() for sign in ("tick", "arrow"))
    tones = ("soft", "verd_text", "madder", "ochre_text", "plum", "strong")
    labels = "\n".join(
        [f'QLabel[tone="{tone}"] {{ color: {getattr(t, tone)}; }}' for tone in tones]
        + [f'QLabel[pixels="{size}"] {{ font-size: {size}px; }}' for size in (11, 12, 15, 20)]
        + ['QLabel[heavy="true"] { font-weight: 600; }']
    )
    return f"""
    QLabel {{ background: transparent; }}
    {labels}
    QFrame[hair="true"] {{ background: {t.line}; border: none; }}
    QMainWindow, QDialog, QMessageBox, QFileDialog {{ background: {t.paper}; }}
    QToolTip {{ background: {t.panel}; color: {t.ink}; border: 1px solid {t.strong}; padding: 3px 6px; }}
    QPushButton {{ background: {t.panel}; border: 1px solid {t.strong}; border-radius: 6px;
        min-height: 26px; padding: 0 12px; outline: none; }}
    QPushButton:hover {{ border-color: {t.ink}; }}
    QPushButton:pressed {{ background: {t.verd_soft}; }}
    QPushButton:focus {{ border: 2px solid {t.verd}; padding: 0 11px; min-height: 24px; }}
    QPushButton:disabled {{ color: {t.strong}; border-color: {t.line}; background: {t.paper}; }}
    QPushButton[main="true"] {{ background: {t.verd}; color: {t.on_verd}; border: none;
        min-height: 34px; font-size: 15px; font-weight: 600; }}
    QPushButton[main="true"]:hover {{ background: {t.removed if t.name == "linen" else t.verd_text}; }}
    QPushButton[main="true"]:disabled {{ background: {t.line}; color: {t.soft}; }}
    QPushButton[main="true"]:focus {{ border: 2px solid {t.ink}; min-height: 30px; }}
    QPushButton[quiet="true"] {{ background: transparent; border: none; color: {t.ink}; padding: 0 6px; }}
    QPushButton[quiet="true"]:hover {{ color: {t.verd_text}; }}
    QPushButton[quiet="true"]:focus {{ border: 1px solid {t.verd}; }}
    QPushButton[quiet="true"]:disabled {{ color: {t.strong}; }}
    QLineEdit, QComboBox, QDoubleSpinBox {{ background: {t.panel}; border: 1px solid {t.strong}; border-radius: 6px;
        min-height: 24px; padding: 0 6px; selection-background-color: {t.verd}; selection-color: {t.on_verd}; }}
    QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{ width: 0; border: none; }}
    QLineEdit:focus, QComboBox:focus, QDoubleSpinBox:focus {{ border: 2px solid {t.verd};
        min-height: 22px; padding: 0 5px; }}
    QLineEdit[figure="true"] {{ border: none; border-bottom: 1px solid {t.line}; border-radius: 0;
        background: transparent; font-weight: 600; padding: 0; min-height: 20px; }}
    QLineEdit[figure="true"]:focus {{ border-bottom: 2px solid {t.verd}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url("{arrow}"); width: 10px; height: 10px; }}
    QPushButton::menu-indicator {{ image: url("{arrow}"); width: 9px; height: 9px; subcontrol-position: right center; right: 6px; }}
    QSplitter::handle {{ background: transparent; }}
    QScrollBar::handle:disabled {{ background: transparent; }}
    QComboBox QAbstractItemView {{ background: {t.panel}; border: 1px solid {t.strong};
        selection-background-color: {t.verd_soft}; selection-color: {t.ink}; outline: none; }}
    QMenu {{ background: {t.panel}; border: 1px solid {t.strong}; padding: 4px; }}
    QMenu::item {{ padding: 4px 24px 4px 12px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {t.verd_soft}; }}
    QMenu::item:disabled {{ color: {t.strong}; }}
    QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 8px; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; margin: 0; }}
    QScrollBar::handle {{ background: {t.strong}; border-radius: 4px; min-width: 24px; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QCheckBox {{ spacing: 7px; }}
    QCheckBox::indicator {{ width: 12px; height: 12px; border: 1px solid {t.strong}; border-radius: 3px;
        background: {t.panel}; }}
    QCheckBox::indicator:checked {{ background: {t.panel}; image: url("{tick}"); }}
    QCheckBox::indicator:disabled {{ border-color: {t.line}; }}
    QCheckBox:focus {{ color: {t.verd_text}; }}
    QCheckBox::indicator:focus {{ border: 2px solid {t.verd}; width: 10px; height: 10px; }}
    QTextBrowser, QPlainTextEdit {{ background: {t.panel}; border: 1px solid {t.line}; padding: 1px; }}
    QTableView, QTreeView, QListView {{ background: {t.panel}; border: 1px solid {t.line}; padding: 1px;
        gridline-color: {t.line}; selection-background-color: {t.verd_soft}; selection-color: {t.ink}; }}
    QListView:focus, QTableView:focus, QTreeView:focus, QTextBrowser:focus, QPlainTextEdit:focus {{
        border: 2px solid {t.verd}; padding: 0; }}
    QTableView {{ outline: 0; }}
    QTableView::item {{ padding: 0 3px; border: none; }}
    QTableView::item:selected {{ background: {t.verd_soft}; color: {t.ink}; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.soft}; border: none;
        border-bottom: 1px solid {t.line}; padding: 3px 6px; }}
    QProgressBar {{ background: {t.line}; border: none; border-radius: 2px; max-height: 4px; }}
    QProgressBar::chunk {{ background: {t.verd}; border-radius: 2px; }}
    """
