# SPDX-License-Identifier: GPL-3.0-or-later
"""A number of a setting: a track to drag, a box to type in, and a way back to what is usual."""

from __future__ import annotations

import math

from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QWidget,
)

from pulizia.desktop.controls import ArrowKeys, setting_name
from pulizia.desktop.theme import colour
from pulizia.settings.declare import Number
from pulizia.units import Unit, with_minus
from pulizia.words import tr, translated

TRACK_WIDTH = 86
RETURN = (Qt.Key.Key_Return, Qt.Key.Key_Enter)


class Track(ArrowKeys):
    """The track of a slider: drag, click, wheel and arrow keys; a tick marks the default."""

    accessible_role = "slider"

    moved = Signal(float)
    let_go = Signal()
    asked_to_type = Signal()

    def __init__(self, declared: Number, default: float, value: float) -> None:
        super().__init__()
        self._declared, self._default, self._value = declared, default, value
        self.setMinimumWidth(TRACK_WIDTH)
        self.setFixedHeight(24)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(translated(declared.label))

    def accessible_words(self) -> str:
        """The value with its unit."""
        return self._declared.text(self._value)

    def set_value(self, value: float) -> None:
        """Show a value without telling anybody."""
        if value != self._value:
            self._value = value
            self.update()

    def _share(self, value: float) -> float:
        d = self._declared
        if d.scale == "log":
            return math.log(max(value, d.low) / d.low) / math.log(d.high / d.low)
        return (value - d.low) / (d.high - d.low)

    def _value_at(self, share: float) -> float:
        d = self._declared
        share = min(max(share, 0.0), 1.0)
        value = d.low * (d.high / d.low) ** share if d.scale == "log" else d.low + share * (d.high - d.low)
        return min(max(round(value / d.step) * d.step, d.low), d.high)

    def _move_to(self, value: float) -> None:
        value = round(min(max(value, self._declared.low), self._declared.high), 6)
        if value != self._value:
            self._value = value
            self.update()
            self.moved.emit(value)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._move_to(self._value_at((event.position().x() - 6) / (self.width() - 12)))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._move_to(self._value_at((event.position().x() - 6) / (self.width() - 12)))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self.let_go.emit()

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self._move_to(self._default)
        self.let_go.emit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            self.step(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            event.ignore()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys = {Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1}
        if (direction := keys.get(Qt.Key(event.key()))) is not None:
            self.step(direction)
        elif event.key() in RETURN:
            self.asked_to_type.emit()
        else:
            super().keyPressEvent(event)

    def step(self, direction: int) -> None:
        """Go one step of the setting up (1) or down (-1)."""
        if self._declared.scale == "log":
            self._move_to(self._value_at(self._share(self._value) + direction * 0.02))
        else:
            self._move_to(self._value + direction * self._declared.step)
        self.let_go.emit()

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        y, left, right = 11.0, 6.0, self.width() - 6.0
        on = self.isEnabled()
        at = left + self._share(self._value) * (right - left)
        tick = left + self._share(self._default) * (right - left)
        painter.setPen(QPen(colour("strong"), 1.5))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        painter.drawLine(QPointF(tick, y + 8), QPointF(tick, y + 11))
        verd = colour("verd" if on else "strong")
        painter.setPen(QPen(verd, 2.5))
        painter.drawLine(QPointF(left, y), QPointF(at, y))
        painter.setBrush(colour("panel"))
        painter.setPen(QPen(verd, 2.6 if self.hasFocus() else 1.8))
        painter.drawEllipse(QPointF(at, y), 5.5, 5.5)


class ValueBox(QLineEdit):
    """The value of a slider, to be typed; Up and Down step it, Return takes it, Escape leaves it as it was."""

    stepped = Signal(int)
    left = Signal()  # the slider takes the keys again

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._is_own(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self._is_own(event):
            super().keyPressEvent(event)
            if event.key() in RETURN:
                self.left.emit()
                event.accept()  # else it would press the button of a dialog as well
        elif event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.left.emit()
        else:
            self.stepped.emit(1 if event.key() == Qt.Key.Key_Up else -1)

    @staticmethod
    def _is_own(event: QKeyEvent) -> bool:
        plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        return plain and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Escape)


class SliderRow(QWidget):
    """A labelled slider whose value can be typed."""

    changed = Signal(object)
    let_go = Signal()
    refused = Signal(str)

    def __init__(self, declared: Number, default: float, value: float | None) -> None:
        super().__init__()
        self._declared, self._shown = declared, value
        self.track = Track(declared, default, declared.low if value is None else value)
        self.edit = ValueBox()
        self.edit.setProperty("figure", True)
        self.edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.edit.setFixedWidth(66)
        self.edit.setAccessibleName(tr("{label}, value", label=translated(declared.label)))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        name = setting_name(declared.label)
        row.addWidget(name)
        row.addWidget(self.track, 1)
        row.addSpacing(5)
        row.addWidget(self.edit)
        self.setFixedHeight(max(28, name.height()))
        unit = f" {declared.unit.symbol}" if declared.unit.symbol else ""
        usual = declared.text(default) if declared.unit is Unit.SHARE else tr("{value:g}", value=float(default)) + unit
        reach = (
            tr("0 to 100 %")
            if declared.unit is Unit.SHARE
            else tr("{low:g} to {high:g}{unit}", low=declared.low, high=declared.high, unit=unit)
        )
        self._reach = with_minus(reach)
        self.setToolTip(
            tr(
                "{help}\n{reach}; double-click for {usual}",
                help=translated(declared.help), reach=self._reach, usual=with_minus(usual),
            )
        )  # fmt: skip
        self.track.moved.connect(self._tell)
        self.track.let_go.connect(self.let_go)
        self.track.asked_to_type.connect(self._begin_typing)
        self.edit.editingFinished.connect(self._typed)
        self.edit.stepped.connect(self._step)
        self.edit.left.connect(self._end_typing)
        self.show_value(value)

    def show_value(self, value: float | None) -> None:
        """Show a value without telling anybody."""
        self._shown = value
        self.track.set_value(self._declared.low if value is None else value)
        if not self.edit.hasFocus() or not self.edit.isModified():
            self.edit.setText(translated(self._declared.text(value)))

    def _tell(self, value: float | None) -> None:
        if self._declared.optional and value is not None and value <= self._declared.low:
            value = None  # the left end of an optional setting: let the program find it
        self._shown = value
        self.edit.setText(translated(self._declared.text(value)))
        self.changed.emit(value)

    def _begin_typing(self) -> None:
        self.edit.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.edit.selectAll()

    def _end_typing(self) -> None:
        self.show_value(self._shown)
        self.track.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _step(self, direction: int) -> None:
        self._typed()
        self.track.step(direction)
        self.edit.selectAll()

    def _typed(self) -> None:
        if not self.edit.isModified():
            return
        self.edit.setModified(False)
        try:
            value = self._declared.typed(self.edit.text())
        except ValueError:
            self.refused.emit(
                tr(
                    "{setting}: “{typed}” is not a number. Type a value of {reach}.",
                    setting=translated(self._declared.label), typed=self.edit.text().strip(), reach=self._reach,
                )
            )  # fmt: skip
            self.show_value(self._shown)
            return
        self.track.set_value(self._declared.low if value is None else value)
        self._tell(value)
        self.let_go.emit()
