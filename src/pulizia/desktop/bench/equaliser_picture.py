# SPDX-License-Identifier: GPL-3.0-or-later
"""The equaliser's picture: the filter's own curve over the spectrum, bands to drag, and the sweep."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QEnterEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)

from pulizia.desktop.controls import ENTER, ArrowKeys
from pulizia.desktop.menu import Menu
from pulizia.desktop.strokes import polygon, stroke
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.settings.bands import KINDS, NARROWEST_Q, SLOPES, WIDEST_Q, Band
from pulizia.tools.base import Curve, Picture
from pulizia.tools.equaliser import EqualiserSettings, bands_db, output_db
from pulizia.units import format_number
from pulizia.words import tr, translated

LOW_HZ, HIGH_HZ = 20.0, 20_000.0
MOST_DB = 18.0
TICKS = ((100.0, "100"), (1000.0, "1k"), (10_000.0, "10k Hz"))
GUTTER_RIGHT, GUTTER_BOTTOM = 28, 18
NEAR_PX = 10.0
SWEEP_GAIN_DB, SWEEP_Q = 10.0, 9.0
AFTER_SWEEP_GAIN_DB, AFTER_SWEEP_Q = -4.0, 4.0
SHOWN_OUTPUT_DB = 0.05
KEY_GAIN_DB, KEY_PLACES_HZ = 0.5, (1000.0, 250.0, 4000.0, 500.0, 2000.0, 125.0, 8000.0, 63.0, 16_000.0)
MOVING = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
CHOOSING = {Qt.Key.Key_PageUp: -1, Qt.Key.Key_PageDown: 1}
OWN_KEYS = {*CHOOSING, Qt.Key.Key_Delete, Qt.Key.Key_Backspace}
LETTERS = {"high-pass": "HP", "low-pass": "LP", "low shelf": "LS", "high shelf": "HS", "bell": "", "notch": "N"}


class EqualiserPicture(ArrowKeys):
    """Drag a dot; the wheel sets its width; a double click adds or removes; hold Q to sweep.

    By keys: Enter adds a bell, Page up and Page down choose a band, the arrows move it, Del removes it.
    """

    accessible_role = "chart"
    heights = 180, 130  # and where there is little room

    changed = Signal(tuple)
    let_go = Signal()
    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.bands: tuple[Band, ...] = ()
        self.output_db = 0.0
        self._rate = 48_000
        self.selected = -1
        self._picture: Picture | None = None
        self._message = ""
        self._dragged = False
        self._sweeping: tuple[Band, ...] | None = None  # the bands without the sweep
        self._mouse = QPointF()
        self.setFixedHeight(self.heights[0])
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Picture of the equaliser"))
        self.setToolTip(
            tr(
                "Drag a dot; the wheel over it sets its width. Double-click adds or removes a bell.\nHold Q and move the mouse: a narrow boost follows it; let go and it becomes a moderate cut.\nKeys: Enter adds a bell, Page up and Page down choose a band, the arrows move it, Del removes it."
            )
        )
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # else all that lies behind is painted as well
        theme_notice().changed.connect(self.update)

    def show_picture(self, picture: Picture | None, message: str = "") -> None:
        """Show curves, or a sentence instead."""
        self._picture, self._message = picture, message
        update_in_turn(self)

    def show_settings(self, settings: EqualiserSettings, rate: int) -> None:
        """Show the bands, and the gain behind them, at a sample rate."""
        output = output_db(settings, rate)
        if (settings.bands, rate, output) != (self.bands, self._rate, self.output_db):
            self.bands, self._rate, self.output_db = settings.bands, rate, output
            self.selected = min(self.selected, len(self.bands) - 1)
            self.update()

    def curve_at(self, hz: NDArray[np.float64]) -> NDArray[np.float64]:
        """The curve of all bands in dB, as it is drawn and as it follows a drag."""
        return bands_db(self.bands, hz, self._rate)

    # -- geometry

    @property
    def _plot(self) -> QRectF:
        return QRectF(0, 0, self.width() - GUTTER_RIGHT, self.height() - GUTTER_BOTTOM)

    def x_of(self, hz: float) -> float:
        """Pixel of a frequency."""
        return self._plot.width() * math.log(max(hz, 1.0) / LOW_HZ) / math.log(HIGH_HZ / LOW_HZ)

    def hz_of(self, x: float) -> float:
        """Frequency of a pixel, inside the plot."""
        share = min(max(x / self._plot.width(), 0.0), 1.0)
        return float(LOW_HZ * (HIGH_HZ / LOW_HZ) ** share)

    def y_of(self, db: float) -> float:
        """Pixel of a gain."""
        return float((MOST_DB - db) / (2 * MOST_DB) * self._plot.height())

    def db_of(self, y: float) -> float:
        """Gain of a pixel, inside the plot."""
        return float(min(max(MOST_DB - y / self._plot.height() * 2 * MOST_DB, -MOST_DB), MOST_DB))

    def place_of(self, band: Band) -> QPointF:
        """Where a band's dot lies: on the curve; that of a notch on the line of 0 dB."""
        gain = 0.0 if band[0] == "notch" else float(self.curve_at(np.array([band[1]]))[0])
        return QPointF(self.x_of(band[1]), self.y_of(min(max(gain, -MOST_DB), MOST_DB)))

    def _own_gain(self, band: Band, hz: float, curve_db: float) -> float:
        """The gain with which a band brings the curve to a level at its frequency."""
        others = [b for n, b in enumerate(self.bands) if n != self.selected]
        share = 1.0
        if "shelf" in band[0]:  # at its frequency a shelf has half its gain
            share = float(bands_db([(band[0], hz, 6.0, band[3])], np.array([hz]), self._rate)[0]) / 6.0
        own = (curve_db - float(bands_db(others, np.array([hz]), self._rate)[0])) / max(share, 0.1)
        return round(min(max(own, -MOST_DB), MOST_DB), 1)

    def _under(self, place: QPointF) -> int:
        reach = [(QPointF(self.place_of(b) - place).manhattanLength(), n) for n, b in enumerate(self.bands)]
        best = min(reach, default=(99.0, -1))
        return best[1] if best[0] <= NEAR_PX + 4 else -1

    # -- mouse and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        self._select(self._under(event.position()))
        self._dragged = False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._mouse = event.position()
        if self._sweeping is not None:
            self._tell((*self._sweeping, self._sweep_band()))
        elif event.buttons() & Qt.MouseButton.LeftButton and self.selected >= 0:
            self._dragged = True
            band = self.bands[self.selected]
            kind, _, gain, width = band
            hz = round(self.hz_of(event.position().x()), 1)
            if kind in ("bell", "low shelf", "high shelf"):
                gain = self._own_gain(band, hz, self.db_of(event.position().y()))
            self._replace((kind, hz, gain, width))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._dragged:
            self.let_go.emit()
        self._dragged = False

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        under = self._under(event.position())
        if under >= 0:
            self.remove(under)
            return
        place = event.position()
        self._tell((*self.bands, ("bell", round(self.hz_of(place.x()), 1), round(self.db_of(place.y()), 1), 1.4)))
        self._select(len(self.bands) - 1)
        self.let_go.emit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        under = self._under(event.position())
        if under < 0:
            event.ignore()
            return
        self._select(under)
        kind, hz, gain, width = self.bands[under]
        up = event.angleDelta().y() > 0
        if kind in ("high-pass", "low-pass"):
            at = SLOPES.index(int(width)) + (1 if up else -1)
            width = float(SLOPES[min(max(at, 0), len(SLOPES) - 1)])
        else:
            width = round(min(max(width * (1.15 if up else 1 / 1.15), WIDEST_Q), NARROWEST_Q), 3)
        self._replace((kind, hz, gain, width))
        self.let_go.emit()
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = self.menu_at(QPointF(event.pos()))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def menu_at(self, place: QPointF) -> Menu:
        """New bands of each kind here, or another kind for the band under the pointer."""
        menu, under = Menu(self), self._under(place)
        hz = round(self.hz_of(place.x()), 1)
        for kind in KINDS:
            width = 12.0 if "pass" in kind else 0.707 if "shelf" in kind else 8.0 if kind == "notch" else 1.4
            if under >= 0:
                _, at, gain, _ = self.bands[under]
                made: Band = (kind, at, gain, width)
                menu.addAction(tr("Make it a {kind}", kind=translated(kind))).triggered.connect(
                    lambda _on=False, b=made: self._exchange(under, b)
                )
            else:
                made = (kind, hz, 0.0 if "pass" in kind or kind == "notch" else round(self.db_of(place.y()), 1), width)
                menu.addAction(tr("New {kind}", kind=translated(kind))).triggered.connect(
                    lambda _on=False, b=made: self._add(b)
                )
        if under >= 0:
            menu.addSeparator()
            menu.addAction(tr("Remove")).triggered.connect(lambda: self.remove(under))
        return menu

    def event(self, event: QEvent) -> bool:
        if (
            event.type() == QEvent.Type.ShortcutOverride
            and isinstance(event, QKeyEvent)
            and not event.modifiers()
            and event.key() in OWN_KEYS
            and self.bands
        ):
            event.accept()  # before the window takes it
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        if key in ENTER:
            self._add(("bell", self._roomiest_hz(), 0.0, 1.4))
        elif key in CHOOSING and self.bands:
            self._select((max(self.selected, 0) + CHOOSING[key]) % len(self.bands) if self.selected >= 0 else 0)
        elif key in MOVING and self.selected >= 0:
            self._move(*MOVING[key])
        elif event.key() == Qt.Key.Key_Q and not event.isAutoRepeat() and self._sweeping is None:
            self._sweeping = self.bands
            self._tell((*self._sweeping, self._sweep_band()))
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.selected >= 0:
            self.remove(self.selected)
        elif event.key() != Qt.Key.Key_Q:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() != Qt.Key.Key_Q or event.isAutoRepeat() or self._sweeping is None:
            return
        before, self._sweeping = self._sweeping, None
        cut: Band = ("bell", round(self.hz_of(self._mouse.x()), 1), AFTER_SWEEP_GAIN_DB, AFTER_SWEEP_Q)
        self._tell((*before, cut))
        self._select(len(before))
        self.let_go.emit()

    def _roomiest_hz(self) -> float:
        """A frequency an octave from the bands that there are, or as far as there is room; 1 kHz for the first."""

        def room(hz: float) -> float:
            return min((abs(math.log2(hz / band[1])) for band in self.bands), default=1.0)

        return max(KEY_PLACES_HZ, key=lambda hz: min(room(hz), 1.0))

    def _move(self, steps: int, gains: int) -> None:
        """The chosen band by twelfths of an octave and by half decibels."""
        kind, hz, gain, width = self.bands[self.selected]
        hz = round(min(max(hz * 2.0 ** (steps / 12.0), LOW_HZ), HIGH_HZ), 1)
        if kind in ("bell", "low shelf", "high shelf"):
            gain = min(max(gain + KEY_GAIN_DB * gains, -MOST_DB), MOST_DB)
        self._replace((kind, hz, gain, width))
        self.let_go.emit()

    def enterEvent(self, event: QEnterEvent) -> None:
        super().enterEvent(event)
        self.setFocus()

    def remove(self, index: int) -> None:
        """Take a band away."""
        self._tell(tuple(b for n, b in enumerate(self.bands) if n != index))
        self.let_go.emit()

    def _sweep_band(self) -> Band:
        return ("bell", round(self.hz_of(self._mouse.x()), 1), SWEEP_GAIN_DB, SWEEP_Q)

    def _add(self, band: Band) -> None:
        self._tell((*self.bands, band))
        self._select(len(self.bands) - 1)
        self.let_go.emit()

    def _exchange(self, index: int, band: Band) -> None:
        self._tell(tuple(band if n == index else b for n, b in enumerate(self.bands)))
        self.let_go.emit()

    def exchange_selected(self, band: Band) -> None:
        """Another band in the place of the chosen one, as one edit."""
        if 0 <= self.selected < len(self.bands):
            self._exchange(self.selected, band)

    def _replace(self, band: Band) -> None:
        self._tell(tuple(band if n == self.selected else b for n, b in enumerate(self.bands)))

    def _select(self, index: int) -> None:
        self.selected = index
        self.chosen.emit(index)
        self.update()

    def _tell(self, bands: tuple[Band, ...]) -> None:
        self.bands = bands
        self.changed.emit(bands)
        self.update()

    # -- painting

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter, plot = QPainter(self), self._plot
        painter.fillRect(self.rect(), colour("paper"))
        painter.fillRect(plot, colour("panel"))
        painter.setFont(font(11))
        self._paint_grid(painter, plot)
        painter.save()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        curves = {c.name: c for c in self._picture.curves} if self._picture else {}
        for name, token in (("maximum", "plum"), ("passage", "soft")):
            if name in curves:
                self._paint_spectrum(painter, plot, curves[name], token)
        self._paint_response(painter)
        for n, band in enumerate(self.bands):
            self._paint_dot(painter, n, band)
        painter.restore()
        if self.hasFocus():
            painter.setPen(QPen(colour("verd"), 1))
            painter.drawRect(plot.adjusted(0.5, 0.5, -0.5, -0.5))
        if not self.bands:
            painter.setPen(colour("soft"))
            text = self._message or tr("Double-click or Enter adds a bell,\na right click other kinds")
            painter.drawText(
                plot.adjusted(8, 0, -8, -6),
                Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap,
                translated(text),
            )

    def _paint_grid(self, painter: QPainter, plot: QRectF) -> None:
        for db in (-12, -6, 0, 6, 12):
            y = int(self.y_of(db)) + 0.5
            painter.setPen(QPen(colour("strong" if db == 0 else "line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(plot.right() + 3, y - 8, GUTTER_RIGHT, 16),
                Qt.AlignmentFlag.AlignVCenter,
                format_number(db, 0, plus=True),
            )
        for hz, text in TICKS:
            x = int(self.x_of(hz)) + 0.5
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setPen(colour("soft"))
            painter.drawText(QRectF(x - 30, plot.bottom() + 2, 60, 15), Qt.AlignmentFlag.AlignCenter, translated(text))

    def _paint_spectrum(self, painter: QPainter, plot: QRectF, curve: Curve, token: str) -> None:
        """The spectrum on its own scale of 90 dB, its highest part at the top."""
        hz = np.geomspace(LOW_HZ, HIGH_HZ, int(plot.width() / 2))
        level = np.interp(hz, curve.hz, curve.level_db)
        top = float(level.max()) + 6
        painter.setPen(QPen(colour(token, 0.6), 1))
        painter.drawPolyline(polygon(self._xs_of(hz), plot.height() * (top - level) / 90.0))

    def _paint_response(self, painter: QPainter) -> None:
        hz = np.geomspace(LOW_HZ, min(HIGH_HZ, 0.49 * self._rate), 400)
        shown = np.clip(self.curve_at(hz), -40, 40)
        line = polygon(self._xs_of(hz), (MOST_DB - shown) / (2 * MOST_DB) * self._plot.height())
        stroke(painter, line, colour("verd"))
        if abs(self.output_db) >= SHOWN_OUTPUT_DB:
            painter.setPen(colour("soft"))
            words = tr("behind the bands {gain} dB", gain=format_number(self.output_db, 1, plus=True))
            painter.drawText(self._plot.adjusted(6, 0, 0, -3), Qt.AlignmentFlag.AlignBottom, words)

    def _xs_of(self, hz: NDArray[np.floating]) -> NDArray[np.float64]:
        return np.asarray(self._plot.width() * np.log(np.maximum(hz, 1.0) / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ))

    def _paint_dot(self, painter: QPainter, number: int, band: Band) -> None:
        place, chosen = self.place_of(band), number == self.selected
        painter.setPen(QPen(colour("verd"), 1.0))
        painter.setBrush(colour("verd") if chosen else colour("panel"))
        painter.drawEllipse(place, 6.0, 6.0)
        letters = LETTERS[band[0]]
        painter.setPen(colour("on_verd" if chosen else "ink"))
        if letters:
            painter.setPen(colour("ink"))
            painter.drawText(
                QRectF(place.x() - 14, place.y() - 21, 28, 14), Qt.AlignmentFlag.AlignCenter, translated(letters)
            )
