# SPDX-License-Identifier: GPL-3.0-or-later
"""What is to be written: deliverables, their details, and the queue."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from pulizia.audio.markers import reels_of
from pulizia.audio.pop import BEFORE_S
from pulizia.delivery.deliverable import Deliverable, Kind
from pulizia.delivery.normalise import WAYS, State, Way
from pulizia.desktop.controls import ChoiceBox, FigureBox, Tick, button, label
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.errors import PuliziaError
from pulizia.media.write import Dither, SampleFormat
from pulizia.session.orders import Order, Stage
from pulizia.session.session import Session
from pulizia.session.subject import Subject
from pulizia.units import format_number
from pulizia.words import N_, tr, translated

USUAL_FRAME_S = 1 / 25  # of a recording, which has no picture rate
FORMATS: tuple[tuple[str, Kind, SampleFormat, int], ...] = (
    (N_("WAV, 24-bit"), "wav", "int24", 192), (N_("WAV, 16-bit"), "wav", "int16", 192), (N_("WAV, 32-bit float"), "wav", "float32", 192),
    (N_("FLAC, 24-bit"), "flac", "int24", 192), (N_("FLAC, 16-bit"), "flac", "int16", 192),
    (N_("MP3, 192 kbit/s"), "mp3", "int24", 192), (N_("MP3, 128 kbit/s"), "mp3", "int24", 128),
    (N_("Opus, 96 kbit/s"), "opus", "int24", 96), (N_("AAC, 192 kbit/s"), "m4a", "int24", 192),
    (N_("replace sound in the video"), "picture", "int24", 256),
)  # fmt: skip
RATES = ((N_("same rate"), None), ("48 kHz", 48_000), (N_("44.1 kHz"), 44_100), ("96 kHz", 96_000), ("32 kHz", 32_000))
LAYOUTS = ((N_("same channels"), "same"), ("mono", "mono"), ("stereo", "stereo"))
DITHERS: tuple[tuple[str, Dither], ...] = (
    (N_("dither: triangular"), "triangular"),
    (N_("dither: shaped"), "shaped"),
    (N_("no dither"), "none"),
)
REELS = ((N_("one file"), False), (N_("a file for each reel"), True))
ROW = 40


class OrderSheet(QWidget):
    """The controls of a deliverable, and the list of those that are made in one go."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.more: list[Deliverable] = []
        self._shown = ""  # the recording or programme whose deliverables are shown
        self._kept: dict[str, tuple[list[Deliverable], dict[str, int]]] = {}  # of the others that were looked at
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.way_box = _box(
            tr("Normalisation method"), [(words, way) for way, words in WAYS.items()], self.changed.emit
        )
        column.addWidget(self.way_box)
        self.dual_tick = QCheckBox(tr("Dual mono (+3 LU)"))
        self.dual_tick.setToolTip(
            tr("A mono programme is measured 3 LU louder, as it will sound from two loudspeakers")
        )
        self.dual_tick.clicked.connect(lambda _on: self.changed.emit())
        column.addWidget(self.dual_tick)
        column.addWidget(label(tr("Deliverables"), bold=True))
        self._list = QWidget()
        self._rows = QVBoxLayout(self._list)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(0)
        column.addWidget(self._list)
        self.format_box = _box(tr("File format"), [(row[0], n) for n, row in enumerate(FORMATS)], self.changed.emit)
        self.rate_box = _box(tr("Sample rate"), list(RATES), self.changed.emit)
        self.layout_box = _box(tr("Channels"), list(LAYOUTS), self.changed.emit)
        self.dither_box = _box(tr("Dither"), list(DITHERS), self.changed.emit)
        self.reels_box = _box(tr("Reels"), list(REELS), self.changed.emit)
        self._choices = (self.format_box, self.rate_box, self.layout_box, self.dither_box, self.reels_box)
        for box in self._choices:
            column.addWidget(box)
        edges = self._build_edges()
        row = FlowLayout()
        row.addWidget(
            button(
                tr("Head, tail, file name"),
                lambda: edges.setVisible(not edges.isVisible()),
                tip=tr("Silence, fades and the file name pattern"),
                quiet=True,
            )
        )
        self.add_button = button(
            tr("Add deliverable"), self._add, tip=tr("Write this deliverable and another one together"), quiet=True
        )
        row.addWidget(self.add_button)
        column.addLayout(row)
        column.addWidget(edges)

    def _build_edges(self) -> QWidget:
        """Silence and fades at both ends, and the pattern of the name; hidden until asked for."""
        made = QWidget()
        grid = QGridLayout(made)
        grid.setContentsMargins(0, 0, 0, 0)
        self.spins: dict[str, FigureBox] = {}
        for n, (name, words) in enumerate(
            (
                ("head_s", tr("silence before")),
                ("tail_s", tr("silence after")),
                ("fade_in_s", tr("fade in")),
                ("fade_out_s", tr("fade out")),
            )
        ):
            spin = FigureBox()
            spin.setRange(0.0, 60.0)
            spin.setSingleStep(0.1)
            spin.setSuffix(" s")
            spin.setAccessibleName(translated(words))
            spin.valueChanged.connect(lambda _v: self.changed.emit())
            self.spins[name] = spin
            grid.addWidget(label(words, 12, token="soft"), n, 0)
            grid.addWidget(spin, n, 1)
        self.pattern = QLineEdit("{name}-{target}")
        self.pattern.setAccessibleName(tr("Name pattern"))
        self.pattern.setToolTip("{name} {target} {kind} {rate} {steps} {date} {number}")
        self.pop = Tick(tr("2-pop two seconds before the start"))
        self.pop.toggled.connect(self._with_pop)
        grid.addWidget(self.pop, 4, 0, 1, 2)
        grid.addWidget(label(tr("name"), 12, token="soft"), 5, 0)
        grid.addWidget(self.pattern, 5, 1)
        made.hide()
        return made

    def _with_pop(self, on: bool) -> None:  # noqa: FBT001 - a signal of Qt
        if on and self.spins["head_s"].value() < BEFORE_S:
            self.spins["head_s"].setValue(BEFORE_S)
        self.changed.emit()

    def _pop_s(self) -> float:
        """One frame of the picture of what is delivered."""
        if not self.pop.isChecked():
            return 0.0
        wanted = self.session.subject.id if self.session.subject is not None else ""
        programme = next((p for p in self.session.document.project.programmes if p.id == wanted), None)
        return float(1 / programme.picture_rate) if programme is not None else USUAL_FRAME_S

    def deliverable(self) -> Deliverable:
        """What the controls say; DeliveryError when they contradict each other."""
        _, kind, bits, kbps = FORMATS[self.format_box.currentData()]
        return Deliverable(
            kind=kind, sample_format=bits, bitrate_kbps=kbps, rate_hz=self.rate_box.currentData(), layout=self.layout_box.currentData(),
            dither=self.dither_box.currentData(), pop_s=self._pop_s(), by_reel=self._by_reel(kind), head_s=self._edge_s("head_s"),
            tail_s=self._edge_s("tail_s"), fade_in_s=self._edge_s("fade_in_s"), fade_out_s=self._edge_s("fade_out_s"),
        )  # fmt: skip

    def _edge_s(self, name: str) -> float:
        return round(self.spins[name].value(), 2)

    def _by_reel(self, kind: Kind) -> bool:
        return bool(self.reels_box.currentData()) and kind != "picture" and self._has_reels(self.session.subject)

    @staticmethod
    def _has_reels(subject: Subject | None) -> bool:
        return subject is not None and bool(reels_of(subject.markers, subject.after.frames))

    def all(self) -> list[Deliverable]:
        """Everything that is made in one go."""
        return [*self.more, self.deliverable()]

    def of(self, subject: Subject) -> list[Deliverable]:
        """Everything that is made of a recording or programme: what was chosen for it, else what is shown."""
        if subject.id == self._shown or subject.id not in self._kept:
            return self.all()
        more, boxes = self._kept[subject.id]
        here = self._boxes()
        self._set_boxes(boxes)
        try:
            return [*more, self.deliverable()]
        finally:
            self._set_boxes(here)

    def _boxes(self) -> dict[str, int]:
        return {box.accessibleName(): box.currentIndex() for box in self._choices}

    def _set_boxes(self, places: dict[str, int]) -> None:
        for box in self._choices:
            box.setCurrentIndex(min(places[box.accessibleName()], box.count() - 1))

    def _change_subject(self, subject: Subject | None) -> None:
        """Each recording and programme has deliverables of its own, once they were chosen; a new one begins with these."""
        wanted = subject.id if subject is not None else ""
        if wanted == self._shown:
            return
        if self._shown:
            self._kept[self._shown] = (list(self.more), self._boxes())
        self._shown = wanted
        self._offer_video(there=subject is not None and subject.metadata.picture is not None)
        if wanted in self._kept:
            self.more, boxes = list(self._kept[wanted][0]), self._kept[wanted][1]
            self._set_boxes(boxes)
            self._fill()

    def _offer_video(self, *, there: bool) -> None:
        """The sound of a video can be replaced only where there is one."""
        last = len(FORMATS) - 1
        if there and self.format_box.count() == last:
            self.format_box.addItem(translated(FORMATS[last][0]), last)
        elif not there and self.format_box.count() > last:
            if self.format_box.currentIndex() == last:
                self.format_box.setCurrentIndex(0)
            self.format_box.removeItem(last)

    @property
    def way(self) -> Way:
        """How the programme is normalised."""
        chosen: Way = self.way_box.currentData()
        return chosen

    def refresh(self) -> None:
        """Show what applies."""
        self._change_subject(self.session.subject)
        _, kind, bits, _ = FORMATS[self.format_box.currentData()]
        self.dither_box.setVisible(kind in ("wav", "flac") and bits == "int16")
        subject = self.session.subject
        self.reels_box.setVisible(self._has_reels(subject) and kind != "picture")
        self.dual_tick.setVisible(
            subject is not None and (subject.channels == 1 or self.layout_box.currentData() == "mono")
        )

    def _add(self) -> None:
        try:
            self.more.append(self.deliverable())
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
        self._fill()

    def _fill(self) -> None:
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for wanted in self.more:
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(label(wanted.words, 12), 1)
            row.addWidget(
                button(
                    tr("Remove"),
                    partial(self._remove, wanted),
                    tip=tr("Remove {words}", words=wanted.words),
                    quiet=True,
                )
            )
            self._rows.addWidget(line)
        self.changed.emit()

    def _remove(self, wanted: Deliverable) -> None:
        if wanted in self.more:  # a row that was clicked twice is still there for a moment
            self.more.remove(wanted)
            self._fill()


def _box(name: str, rows: list[tuple[str, object]], call: object) -> ChoiceBox:
    made = ChoiceBox()
    made.setAccessibleName(translated(name))
    made.setToolTip(translated(name))
    for words, value in rows:
        made.addItem(translated(words), value)
    made.activated.connect(lambda _index: call())  # type: ignore[operator]
    return made


class QueueView(QWidget):
    """The orders with their progress, as rows."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 6)
        column.setSpacing(2)
        head = QHBoxLayout()
        self._head = label(tr("Queue"), bold=True, wrap=True)
        head.addWidget(self._head, 1)
        self.stop_button = button(tr("Stop"), session.queue.stop, tip=tr("Stop; no partial file is left"), quiet=True)
        self.again_button = button(
            tr("Retry"), session.queue.again, tip=tr("Write failed and stopped files again"), quiet=True
        )
        self.clear_button = button(tr("Clear"), session.queue.clear, tip=tr("Clear finished entries"), quiet=True)
        for made in (self.stop_button, self.again_button, self.clear_button):
            head.addWidget(made)
        column.addLayout(head)
        self.rows = QueueRows(session)
        column.addWidget(self.rows)
        session.events.queue.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the queue as it is now."""
        queue = self.session.queue
        ended = [o for o in queue.orders if o.stage in (Stage.DONE, Stage.FAILED, Stage.STOPPED)]
        self.setVisible(bool(queue.orders))
        self.stop_button.setVisible(queue.is_working)
        self.again_button.setVisible(any(o.stage in (Stage.FAILED, Stage.STOPPED) for o in ended))
        self.clear_button.setVisible(bool(ended) and not queue.is_working)
        self._head.setText(
            tr(
                "Queue  {done} of {count}",
                done=len([o for o in ended if o.stage is Stage.DONE]),
                count=len(queue.orders),
            )
        )
        self.rows.setFixedHeight(max(1, len(queue.orders)) * ROW)
        self.rows.update()


class QueueRows(QWidget):
    """One row per order: name, state, and a bar while it is written."""

    accessible_role = "list"

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Queue"))
        theme_notice().changed.connect(self.update)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        for n, order in enumerate(self.session.queue.orders):
            self._paint_order(painter, QRectF(0, n * ROW, self.width(), ROW - 2), order)

    def _paint_order(self, painter: QPainter, box: QRectF, order: Order) -> None:
        painter.setFont(font(12, bold=order.stage is Stage.WORKING))
        painter.setPen(colour("ink"))
        name = painter.fontMetrics().elidedText(order.path.name, Qt.TextElideMode.ElideMiddle, int(box.width()))
        painter.drawText(box.adjusted(0, 2, 0, 0), Qt.AlignmentFlag.AlignTop, translated(name))
        painter.setFont(font(11))
        words, token = self._words(order)
        painter.setPen(colour(token))
        shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box.adjusted(0, 18, 0, 0), Qt.AlignmentFlag.AlignTop, translated(shown))
        painter.fillRect(QRectF(0, box.bottom() - 2, box.width(), 2), colour("line"))
        if order.stage is Stage.WORKING:
            painter.fillRect(QRectF(0, box.bottom() - 2, box.width() * order.share, 2), colour("verd"))

    @staticmethod
    def _words(order: Order) -> tuple[str, str]:
        if order.stage is Stage.WORKING:
            return tr("{doing}, {share:.0f} %", doing=order.doing or tr("beginning"), share=100 * order.share), "soft"
        if order.stage in (Stage.FAILED, Stage.STOPPED):
            return order.message, "madder"
        if order.delivered is None:
            return translated(order.stage.value), "soft"
        bad = next((v for v in order.delivered.verdicts if v.state is not State.WITHIN), None)
        figure = f"{format_number(order.delivered.verified.integrated_lufs)} {order.target.scale}"
        return (
            (f"{figure}, {bad.name} {bad.words}", "madder")
            if bad
            else (tr("{figure}, within every limit", figure=figure), "verd_text")
        )
