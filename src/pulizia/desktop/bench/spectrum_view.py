# SPDX-License-Identifier: GPL-3.0-or-later
"""The spectrum of the selection, or of the moment: average and maximum, read-out, compare, export."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import QBuffer, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QPainter, QShowEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pulizia.audio.source import Source
from pulizia.desktop.bench.spectrum_plot import Lines, SpectrumPlot
from pulizia.desktop.controls import button, label
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.folders import proposed_folder
from pulizia.desktop.menu import Menu
from pulizia.errors import PuliziaError
from pulizia.measure.spectrum import (
    SIZES,
    WINDOWS,
    Peak,
    Spectrum,
    mains_harmonic,
    nearest_peak,
    peaks,
    spectrum,
)
from pulizia.media.write import write_bytes
from pulizia.session.jobs import SOON, Job
from pulizia.session.session import Session
from pulizia.units import format_number, format_time
from pulizia.words import N_, tr, translated

MOMENT_S = 0.4
LIVE_MS = 20
SMOOTHINGS = (0, 24, 12, 6, 3)
TILTS = (0.0, 3.0, 4.5)
MOST_PEAKS = 16
READ_EVERY = 12  # live pictures between two sets of figures
REFERENCES = {"": N_("none"), "speech": N_("long-term average speech"), "pink": N_("pink noise")}


class SpectrumView(QWidget):
    """The plot with its head, its read-out and its menu."""

    enlarge = Signal()
    slot = "spectrum"
    margins = (16, 4, 16, 10)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.plot = SpectrumPlot()
        self.plot.pointed.connect(self._point)
        self._frozen = False
        self._turns = 0
        self._key: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(*self.margins)
        column.setSpacing(4)
        head = QHBoxLayout()
        self._title = label(tr("Spectrum"), bold=True)
        self._place = label("", 12, token="soft")
        head.addWidget(self._title)
        head.addStretch(1)
        head.addWidget(self._place)
        column.addLayout(head)
        self._middle = QHBoxLayout()
        self._middle.addWidget(self.plot, 1)
        column.addLayout(self._middle, 1)
        self.read_out = label("", 12)
        self.read_out.setFixedHeight(18)
        column.addWidget(self.read_out)
        row = FlowLayout(gap=0)
        self.freeze_button = button(
            tr("Freeze"), self.freeze, tip=tr("Freeze the display while sound goes on (F)"), quiet=True
        )
        self.keep_button = button(
            tr("Compare"), self._keep, tip=tr("Keep this curve and draw the next ones over it"), quiet=True
        )
        row.addWidget(self.freeze_button)
        row.addWidget(self.keep_button)
        self.enlarge_button = button(
            tr("Enlarge"), self.enlarge.emit, tip=tr("Over the sonogram, with a list of peaks (S)"), quiet=True
        )
        row.addWidget(self.enlarge_button)
        self._options = button(
            tr("Display"),
            self._show_menu,
            tip=tr("Size, window, smoothing, bands, tilt, reference, export"),
            quiet=True,
        )
        row.addWidget(self._options)
        column.addLayout(row)
        self._timer = QTimer(self)
        self._timer.setInterval(LIVE_MS)
        self._timer.timeout.connect(self._live)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(80)
        self._later.timeout.connect(self._want)
        for event in (
            session.events.selection,
            session.events.current,
            session.events.document,
            session.events.listening,
        ):
            event.connect(self._later.start)
        session.events.playing.connect(self._playing)
        session.events.current.connect(self._forget)
        self._later.start()

    # -- what is shown

    def _forget(self) -> None:
        """Another recording comes: nothing of the last one stays."""
        if not self._frozen:
            self._key = None
            self._place.setText("")
            self.read_out.setText("")
            self.plot.show_spectrum(None, "")

    def _playing(self) -> None:
        playing = self.session.transport.is_playing
        self._timer.start() if playing else self._timer.stop()
        if not playing:
            self._later.start()

    def _live(self) -> None:
        if not self._frozen and self.isVisible():
            self._want(live=True)

    def _want(self, *, live: bool = False) -> None:
        source = self.session.heard_source
        if not self.isVisible():
            return
        for part in (self.freeze_button, self.keep_button, self.enlarge_button):
            part.setEnabled(source is not None)
        if source is None:
            self._key = None
            self._title.setText(tr("Spectrum"))
            self._place.setText("")
            self.read_out.setText("")
            self.plot.show_spectrum(None, "")
        if self._frozen or source is None:
            return
        marked = self.session.marked
        size = self.plot.options.size
        if marked is not None and not live:
            start, stop = marked.start, marked.stop
            self._title.setText(tr("Spectrum of the selection"))
            self._place.setText(f"{format_time(start / source.rate, 2)}\u2013{format_time(stop / source.rate, 2)}")
        else:
            middle = self.session.transport.position
            half = max(size, round(MOMENT_S * source.rate)) // 2
            start = min(max(0, middle - half), max(0, source.frames - 2 * half))
            stop = min(start + 2 * half, source.frames)
            self._title.setText(tr("Spectrum at playhead"))
            self._place.setText(format_time(middle / source.rate, 2))
        options = self.plot.options
        key = (source.key, start, stop, options.size, options.window)
        if key == self._key:
            return
        self._key = key
        work = Want(source, start, stop, options.size, options.window)
        show = lambda found: self._show(found, live=live)  # noqa: E731
        self.session.pool.submit(
            work,
            title=tr("Spectrum"),
            priority=SOON,
            slot=self.slot,
            on_done=show,
            on_error=lambda text: self.plot.show_spectrum(None, text),
        )

    def _show(self, found: Spectrum | None, *, live: bool) -> None:
        message = (
            ""
            if found
            else tr("Select at least {size} samples, or choose a shorter transform.", size=self.plot.options.size)
        )
        self.plot.show_spectrum(found, message, live=live)
        self._turns = (self._turns + 1) % READ_EVERY if live else 0
        if self._turns == 0:  # figures that change 50 times a second cannot be read
            self._point(0.0)

    def _point(self, hz: float) -> None:
        found = self.plot.found
        lines = self.plot.lines()
        if found is None or lines is None:
            self.read_out.setText("")
            return
        if hz <= 0.0:
            tops = peaks(found, most=1)
            self.read_out.setText(
                translated(tr("Peak {peak_words}", peak_words=_peak_words(tops[0], found)) if tops else "")
            )
            return
        level = float(np.interp(hz, lines.hz, lines.average_db))
        near = nearest_peak(found, hz)
        self.read_out.setText(
            tr(
                "{hz} Hz, {level}   peak {peak_words}",
                hz=format_number(hz, 1 if hz < 1000 else 0),
                level=format_number(level),
                peak_words=_peak_words(near, found),
            )
        )

    # -- choices

    def freeze(self) -> None:
        """Keep the picture, or let it go on."""
        self._frozen = not self._frozen
        self.freeze_button.setText(tr("Resume") if self._frozen else tr("Freeze"))
        if not self._frozen:
            self._key = None
            self._later.start()

    def _keep(self) -> None:
        self.plot.keep()
        self.keep_button.setText(tr("Drop") if self.plot.kept is not None else tr("Compare"))

    def choose(self, **changes: object) -> None:
        """Change options by name."""
        for name, value in changes.items():
            setattr(self.plot.options, name, value)
        self._key = None
        self.plot.refresh()
        self._later.start()

    def _show_menu(self) -> None:
        menu = self.menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self._options.mapToGlobal(self._options.rect().topLeft()))

    def menu(self) -> Menu:
        """Everything that can be chosen."""
        options = self.plot.options
        menu = Menu(self)
        groups: tuple[tuple[str, str, list[tuple[str, object]]], ...] = (
            (tr("Transform size"), "size", [(str(s), s) for s in SIZES]),
            (tr("Window"), "window", [(translated(text), name) for name, text in WINDOWS.items()]),
            (
                tr("Smoothing"),
                "per_octave",
                [(tr("none") if n == 0 else tr("1/{n} octave", n=n), n) for n in SMOOTHINGS],
            ),
            (tr("Show"), "bands", [(tr("lines"), 0), (tr("third octaves"), 3), (tr("octaves"), 1)]),
            (tr("Frequency axis"), "linear", [(tr("logarithmic"), False), (tr("linear"), True)]),
            (tr("Peak hold"), "hold", [(tr("decaying"), False), (tr("infinite"), True)]),
            (tr("Tilt"), "tilt_db", [(tr("{t} dB per octave", t=format_number(t)), t) for t in TILTS]),
            (tr("Reference"), "reference", [(translated(text), name) for name, text in REFERENCES.items()]),
        )
        for title, name, choices in groups:
            part = menu.submenu(title)
            for text, value in choices:
                action = part.addAction(text)
                action.setCheckable(True)
                action.setChecked(getattr(options, name) == value)
                action.triggered.connect(lambda _on=False, n=name, v=value: self.choose(**{n: v}))
        menu.addSeparator()
        menu.addAction(tr("Export as PNG…")).triggered.connect(lambda: self._ask("png"))
        menu.addAction(tr("Export as SVG…")).triggered.connect(lambda: self._ask("svg"))
        menu.addAction(tr("Export as CSV…")).triggered.connect(lambda: self._ask("csv"))
        return menu

    # -- export

    def _ask(self, kind: str) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Export the spectrum"), str(proposed_folder(self.session) / f"spectrum.{kind}"), f"*.{kind}"
        )
        if name:
            self.export(Path(name))

    def export(self, path: Path) -> None:
        """Write the picture (.png), the drawing (.svg) or the curves (.csv)."""
        lines = self.plot.lines()
        if lines is None:
            self.session.say(tr("There is no spectrum to export yet. Select a section first."), bad=True)
            return
        kind = path.suffix.lower()
        try:
            write_bytes(
                path,
                self._picture() if kind == ".png" else self._drawing() if kind == ".svg" else _table(lines).encode(),
            )
        except PuliziaError as error:
            self.session.say(str(error), bad=True)

    def _picture(self) -> bytes:
        memory = QBuffer()
        memory.open(QBuffer.OpenModeFlag.WriteOnly)
        self.plot.grab().save(memory, "PNG")
        return bytes(memory.data().data())

    def _drawing(self) -> bytes:
        from PySide6.QtSvg import QSvgGenerator

        memory = QBuffer()
        drawing = QSvgGenerator()
        drawing.setOutputDevice(memory)
        drawing.setSize(self.plot.size())
        drawing.setViewBox(self.plot.rect())
        drawing.setTitle(tr("Spectrum"))
        painter = QPainter(drawing)
        self.plot.render(painter, QPoint())
        painter.end()
        return bytes(memory.data().data())

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._key = None
        self._later.start()


def _table(lines: Lines) -> str:
    rows = [f"{f:.4f},{a:.3f},{m:.3f}" for f, a, m in zip(lines.hz, lines.average_db, lines.maximum_db, strict=True)]
    return "\n".join(["frequency_hz,average_dbfs,maximum_dbfs", *rows]) + "\n"


class LargeSpectrum(SpectrumView):
    """The spectrum over the sonogram, with a list of its peaks."""

    closed = Signal()
    slot = N_("large spectrum")
    margins = (40, 4, 40, 4)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.setAutoFillBackground(True)
        self.plot.options.size = 16_384
        self.enlarge_button.setText(tr("Close"))
        self.enlarge_button.setToolTip(tr("Back to the sonogram (S)"))
        self.enlarge.connect(self.closed)
        self.peak_list = QTableWidget(0, 3)
        self.peak_list.setHorizontalHeaderLabels(["Hz", "dBFS", tr("mains")])
        self.peak_list.verticalHeader().hide()
        self.peak_list.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.peak_list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.peak_list.verticalHeader().setDefaultSectionSize(22)
        self.peak_list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.peak_list.setFixedWidth(212)
        self.peak_list.setAccessibleName(tr("Peaks"))
        for column, width in enumerate((70, 52, 76)):
            self.peak_list.setColumnWidth(column, width)
        self._middle.addWidget(self.peak_list)
        self.peaks: list[Peak] = []

    def _show(self, found: Spectrum | None, *, live: bool) -> None:
        super()._show(found, live=live)
        if self._turns:
            return
        self.peaks = peaks(found, most=MOST_PEAKS) if found is not None else []
        self.peak_list.setRowCount(len(self.peaks))
        for row, peak in enumerate(self.peaks):
            for column, text in enumerate(
                (format_number(peak.hz, 2), format_number(peak.level_db), mains_harmonic(peak.hz, found))
            ):
                item = QTableWidgetItem(text)
                side = Qt.AlignmentFlag.AlignLeft if column == 2 else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.peak_list.setItem(row, column, item)


@dataclass(frozen=True, slots=True)
class Want:
    """A spectrum that was asked for."""

    source: Source
    start: int
    stop: int
    size: int
    window: str

    def __call__(self, job: Job) -> Spectrum | None:
        """Make it (in a worker)."""
        return spectrum(
            self.source, self.start, self.stop, size=self.size, window_name=self.window, progress=job.progress
        )


def _peak_words(peak: Peak, found: Spectrum) -> str:
    mains = mains_harmonic(peak.hz, found)
    return tr("{hz} Hz, {level_db} dBFS", hz=format_number(peak.hz, 2), level_db=format_number(peak.level_db)) + (
        f", {mains}" if mains else ""
    )
