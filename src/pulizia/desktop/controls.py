# SPDX-License-Identifier: GPL-3.0-or-later
"""Small hand-painted controls: a slider with a typed value, a segmented switch, labels."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
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
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QWidget,
)

from pulizia.desktop.theme import colour, font
from pulizia.settings.declare import Number
from pulizia.units import Unit
from pulizia.words import tr, translated

TRACK_WIDTH = 86
NAME_WIDTH = 112  # of a setting, at the left of its control; a test measures all of them
ARROWS = {Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down}
ENTER = {Qt.Key.Key_Return, Qt.Key.Key_Enter}


def takes_arrow(event: QEvent) -> bool:
    """Claim an arrow key for the control that has the focus, before the window uses it."""
    if event.type() != QEvent.Type.ShortcutOverride or not isinstance(event, QKeyEvent):
        return False
    plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
    if not plain or event.key() not in ARROWS:
        return False
    event.accept()
    return True


class ArrowKeys(QWidget):
    """A control that takes the arrow keys while it has the focus."""

    def event(self, event: QEvent) -> bool:
        return takes_arrow(event) or super().event(event)


class ChoiceBox(QComboBox):
    """A choice between a few words; it takes the room that there is."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(6)

    def event(self, event: QEvent) -> bool:
        return takes_arrow(event) or super().event(event)


class FigureBox(QDoubleSpinBox):
    """A figure with its unit, typed or turned with the wheel."""

    def __init__(self) -> None:
        super().__init__()
        self.lineEdit().setTextMargins(5, 0, 0, 0)


class Button(QPushButton):
    """A push button that Enter presses: the space bar always plays. In a dialog, Return elsewhere presses the main one."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self.setAutoDefault(False)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in ENTER:
            self.click()
        else:
            super().keyPressEvent(event)


def label(text: str, pixels: int = 13, *, bold: bool = False, token: str = "ink", wrap: bool = False) -> QLabel:
    """A text in one of the sizes and colours of the theme."""
    made = QLabel(translated(text))
    made.setTextFormat(Qt.TextFormat.PlainText)  # names of files may look like markup
    made.setProperty("pixels", pixels)
    made.setProperty("tone", token)
    made.setProperty("heavy", bold)
    made.setWordWrap(wrap)
    if wrap:
        made.setMinimumWidth(60)  # else its longest comfortable line would widen the panel
    return made


class Tick(QCheckBox):
    """A switch with its words; long words go on in a second line."""

    def __init__(self, words: str, width: int = 230) -> None:
        super().__init__()
        lines = [""]
        for word in translated(words).split(" "):
            longer = f"{lines[-1]} {word}".strip()
            if lines[-1] and self.fontMetrics().horizontalAdvance(longer) > width:
                lines.append(word)
            else:
                lines[-1] = longer
        self.setText("\n".join(lines))


def setting_name(words: str) -> QLabel:
    """The name of a setting in the column of names; a long one takes two lines."""
    made = label(words)
    made.setFixedSize(NAME_WIDTH, 28)
    if made.fontMetrics().horizontalAdvance(made.text()) > NAME_WIDTH - 4:
        made.setProperty("pixels", 12)
        made.setWordWrap(True)
        made.setFixedHeight(34)
    return made


def retone(made: QLabel, token: str) -> None:
    """Give a label another colour of the theme."""
    if made.property("tone") != token:
        made.setProperty("tone", token)
        made.style().unpolish(made)
        made.style().polish(made)


def scrolled(inner: QWidget) -> QScrollArea:
    """A widget in an area that scrolls up and down only."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(inner)
    return area


def hairline() -> QFrame:
    """A horizontal line of one pixel."""
    line = QFrame()
    line.setFixedHeight(1)
    line.setProperty("hair", True)
    return line


def button(
    text: str, call: Callable[[], None], *, tip: str = "", main: bool = False, quiet: bool = False
) -> QPushButton:
    """A push button; ``main`` is the one filled button of a place, ``quiet`` has no outline."""
    made = Button(translated(text))
    made.setProperty("main", main)
    made.setDefault(main)
    made.setProperty("quiet", quiet)
    made.setToolTip(translated(tip or text))
    made.setAccessibleName(translated(text))
    made.clicked.connect(lambda _on=False: call())
    return made


class Track(ArrowKeys):
    """The track of a slider: drag, click, wheel and arrow keys; a tick marks the default."""

    accessible_role = "slider"

    moved = Signal(float)
    let_go = Signal()

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
            self._step(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            event.ignore()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys = {Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1}
        if (direction := keys.get(Qt.Key(event.key()))) is not None:
            self._step(direction)
        else:
            super().keyPressEvent(event)

    def _step(self, direction: int) -> None:
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


class SliderRow(QWidget):
    """A labelled slider whose value can be typed."""

    changed = Signal(object)
    let_go = Signal()

    def __init__(self, declared: Number, default: float, value: float | None) -> None:
        super().__init__()
        self._declared, self._shown = declared, value
        self.track = Track(declared, default, declared.low if value is None else value)
        self.edit = QLineEdit()
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
        usual = declared.text(default) if declared.unit is Unit.SHARE else f"{default:g}{unit}"
        reach = (
            tr("0 to 100 %")
            if declared.unit is Unit.SHARE
            else tr("{low:g} to {high:g}{unit}", low=declared.low, high=declared.high, unit=unit)
        )
        self.setToolTip(
            tr("{help}\n{reach}; double-click for {usual}", help=translated(declared.help), reach=reach, usual=usual)
        )
        self.track.moved.connect(self._tell)
        self.track.let_go.connect(self.let_go)
        self.edit.editingFinished.connect(self._typed)
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

    def _typed(self) -> None:
        if not self.edit.isModified():
            return
        self.edit.setModified(False)
        try:
            value = self._declared.typed(self.edit.text())
        except ValueError:
            self.show_value(self._shown)
            return
        self.track.set_value(self._declared.low if value is None else value)
        self._tell(value)
        self.let_go.emit()


SEGMENT_PADDING, LEAST_PADDING = 24.0, 8.0


class SegmentSwitch(ArrowKeys):
    """A few words of which one is chosen; arrow keys move the choice."""

    accessible_role = "choice"

    chosen = Signal(int)

    def __init__(self, words: Sequence[str], tips: Sequence[str], name: str, most: int = 0) -> None:
        """``most`` is how wide it may be in pixels, 0 for as wide as it likes: longer words stand closer then."""
        super().__init__()
        self._words, self._tips, self._index = [translated(word) for word in words], list(tips), 0
        self._pixels, self._padding = 13, SEGMENT_PADDING
        if most and sum(self._widths()) + 2 > most:
            self._pixels = (
                13 if sum(self._widths()) - len(words) * (SEGMENT_PADDING - LEAST_PADDING) + 2 <= most else 12
            )
            bare = sum(self._widths()) - len(words) * SEGMENT_PADDING
            self._padding = max(LEAST_PADDING, (most - 2 - bare) / len(words))
        self._hover = -1
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(translated(name))
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        return QSize(round(sum(self._widths())) + 2, 28)

    def set_index(self, index: int) -> None:
        """Show a choice without telling anybody."""
        if index == self._index and self.accessibleDescription():
            return
        self._index = index
        self.setAccessibleDescription(self._words[index])
        self.update()

    def _widths(self) -> list[float]:
        from PySide6.QtGui import QFontMetricsF

        metrics = QFontMetricsF(font(self._pixels, bold=True))
        return [metrics.horizontalAdvance(word) + self._padding for word in self._words]

    def _at(self, x: float) -> int:
        edge = 1.0
        for index, width in enumerate(self._widths()):
            edge += width
            if x < edge:
                return index
        return len(self._words) - 1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(self._at(event.position().x()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        index = self._at(event.position().x())
        if index != self._hover:
            self._hover = index
            self.setToolTip(translated(self._tips[index]))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Right:
            self._choose(min(self._index + 1, len(self._words) - 1))
        elif event.key() == Qt.Key.Key_Left:
            self._choose(max(self._index - 1, 0))
        else:
            super().keyPressEvent(event)

    def _choose(self, index: int) -> None:
        if index != self._index:
            self.set_index(index)
            self.chosen.emit(index)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(colour("verd" if self.hasFocus() else "strong"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(frame, 6, 6)
        ink = "ink" if self.isEnabled() else "strong"
        x = 1.0
        for index, (word, width) in enumerate(zip(self._words, self._widths(), strict=True)):
            box = QRectF(x, 1, width, 26)
            on = index == self._index
            if on:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour(ink))
                painter.drawRoundedRect(box, 5, 5)
            painter.setPen(colour("panel" if on else ink))
            painter.setFont(font(self._pixels, bold=on))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, translated(word))
            x += width
