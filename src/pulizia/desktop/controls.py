# SPDX-License-Identifier: GPL-3.0-or-later
"""Small hand-painted controls: a slider with a typed value, a segmented switch, labels."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QPoint, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QValidator,
)
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QLabel,
    QPushButton,
    QScrollArea,
    QWidget,
)

from pulizia.desktop.theme import colour, font
from pulizia.units import MINUS
from pulizia.words import tr, translated

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
    """A figure with its unit, typed or turned with the wheel. It may stand for several that differ."""

    confirmed = Signal(float)  # typed where several differ: it may be the one that is kept inside

    def __init__(self) -> None:
        super().__init__()
        self._several = self._typed = False
        self._unit = ""
        self.lineEdit().setTextMargins(5, 0, 0, 0)
        self.lineEdit().textEdited.connect(self._note_typing)
        self.editingFinished.connect(self._end_typing)

    def show_value(self, value: float, *, several: bool = False) -> None:
        """Show a value; ``several`` shows a word in its place until somebody types or turns one."""
        self._tell(several=several)
        self.setValue(value)

    def _tell(self, *, several: bool) -> None:
        self._typed = False
        if several != self._several:
            if several:
                self._unit = self.suffix()
            self._several = several
            self.setSuffix("" if several else self._unit)  # the text is made anew

    def textFromValue(self, value: float) -> str:
        return tr("several") if self._several else super().textFromValue(value).replace("-", MINUS)

    def valueFromText(self, text: str) -> float:
        return self.value() if text == tr("several") else super().valueFromText(text.replace(MINUS, "-"))

    def validate(self, text: str, place: int) -> tuple[QValidator.State, str, int]:
        if self._several and text == tr("several"):
            return QValidator.State.Acceptable, text, place
        state, _, at = super().validate(text.replace(MINUS, "-"), place)
        return state, text, at

    def stepBy(self, steps: int) -> None:
        self._tell(several=False)
        super().stepBy(steps)

    def _note_typing(self, _text: str) -> None:
        self._typed = True

    def _end_typing(self) -> None:
        if self._several and self._typed:
            self._tell(several=False)
            self.confirmed.emit(self.value())


class Button(QPushButton):
    """A push button that Enter presses: the space bar always plays. In a dialog, Return elsewhere presses the main one."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self.setAutoDefault(False)
        self._clicked = False

    @property
    def has_keys(self) -> bool:
        """Whether it has the focus, and had not got it by a click."""
        return self.hasFocus() and not self._clicked

    def focusInEvent(self, event: QFocusEvent) -> None:
        self._clicked = event.reason() == Qt.FocusReason.MouseFocusReason
        super().focusInEvent(event)

    def focusNextPrevChild(self, next_: bool) -> bool:  # noqa: FBT001 - Qt's
        """On to the next control; not to just any one when a button that was clicked can do no more or is gone."""
        if self._clicked and not (self.isEnabled() and self.isVisible()):
            self.clearFocus()
            return False
        return super().focusNextPrevChild(next_)

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


class _UpAndDown(QScrollArea):
    """Going on by Tab, or bringing a widget into view, does not scroll sideways what is a little too wide."""

    def __init__(self) -> None:
        super().__init__()
        self.horizontalScrollBar().valueChanged.connect(self._stay)

    def _stay(self) -> None:
        self.horizontalScrollBar().setValue(0)


def scrolled(inner: QWidget) -> QScrollArea:
    """A widget in an area that scrolls up and down only."""
    area = _UpAndDown()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(inner)
    return area


def _area_around(widget: QWidget) -> QScrollArea | None:
    parent = widget.parentWidget()
    while parent is not None and not isinstance(parent, QScrollArea):
        parent = parent.parentWidget()
    return parent


def bring_into_view(widget: QWidget) -> None:
    """Scroll what a widget lies in until it can be seen, as soon as it has its place."""

    def scroll() -> None:
        if (area := _area_around(widget)) is not None:
            area.ensureWidgetVisible(widget, 0, 12)

    QTimer.singleShot(0, widget, scroll)


def show_part(widget: QWidget, top: int, height: int) -> None:
    """Scroll what a widget lies in until a part of its height can be seen, in pixels."""
    area = _area_around(widget)
    if area is not None and (inner := area.widget()) is not None:
        middle = widget.mapTo(inner, QPoint(0, top + height // 2))
        area.ensureVisible(middle.x(), middle.y(), 0, height)


def centred(text: str) -> QLabel:
    """An explanation in the middle of an empty place, in as many lines as it takes."""
    made = label(text, 13, token="soft", wrap=True)
    made.setAlignment(Qt.AlignmentFlag.AlignHCenter)
    made.setContentsMargins(24, 0, 24, 0)
    return made


def hairline() -> QFrame:
    """A horizontal line of one pixel."""
    line = QFrame()
    line.setFixedHeight(1)
    line.setProperty("hair", True)
    return line


def button(text: str, call: Callable[[], None], *, tip: str = "", main: bool = False, quiet: bool = False) -> Button:
    """A push button; ``main`` is the one filled button of a place, ``quiet`` has no outline."""
    made = Button(translated(text))
    made.setProperty("main", main)
    made.setDefault(main)
    made.setProperty("quiet", quiet)
    made.setToolTip(translated(tip or text))
    made.setAccessibleName(translated(text))
    made.clicked.connect(lambda _on=False: call())
    return made


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
