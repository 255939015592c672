# SPDX-License-Identifier: GPL-3.0-or-later
"""The picture under the playhead, docked above the sheet or in a window of its own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QCloseEvent, QContextMenuEvent, QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import QFileDialog, QVBoxLayout, QWidget

from pulizia.audio.timecode import timecode
from pulizia.desktop.controls import label
from pulizia.desktop.menu import Menu
from pulizia.desktop.theme import colour
from pulizia.media import suffixes
from pulizia.session.session import Session
from pulizia.words import tr

HEIGHT = 176
VIDEO_FILES = suffixes.pattern(suffixes.VIDEO)


class FilmPane(QWidget):
    """A picture with its timecode beneath; a right click has what can be done with the video."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("manual", "assembly#" + tr("Video"))
        self.setAccessibleName(tr("Video"))
        self.setWindowTitle(tr("Video"))
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 4)
        column.setSpacing(4)
        self.picture = _Picture(session)
        self.picture.setMinimumHeight(HEIGHT)
        column.addWidget(self.picture, 1)
        self.words = label("", 12, token="soft")
        column.addWidget(self.words)
        self.home: QVBoxLayout | None = None  # where it is docked
        self._own: FilmWindow | None = None
        session.events.film.connect(self._show)

    def switch(self) -> None:
        """Show the video, or put it away."""
        film = self.session.film
        film.is_shown = not film.is_shown
        if not film.is_shown and self._own is not None:
            self._own.close()
        self.setVisible(film.is_shown)
        if film.is_shown:
            self.follow()

    def alone(self) -> None:
        """Give the video a window of its own, or dock it again."""
        if not self.session.film.is_shown:
            self.switch()
        if self._own is not None and self._own.isVisible():
            self._own.close()
        elif self.home is not None:
            self._own = FilmWindow(self, self.window(), self.home)
            self._own.show()

    def _show(self) -> None:
        self.picture.take()
        self._say()

    def follow(self) -> None:
        """Be at the playhead."""
        self.session.film.follow()
        self._say()

    def _say(self) -> None:
        programme = self.session.assembly.programme
        if programme is None or not self.session.film.is_shown:
            return
        frame = programme.start_frame + int(self.session.transport.position * programme.picture_rate / programme.rate)
        words = timecode(frame, programme.picture_rate, drop=programme.drop_frame)
        if programme.film:
            words += f"   {Path(programme.film).name}, {self.session.film.offset_words(programme)}"
        if words != self.words.text():
            self.words.setText(words)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        film, programme = self.session.film, self.session.assembly.programme
        menu = Menu(self)
        menu.addAction(tr("Choose a video…")).triggered.connect(self.ask)
        if programme is not None and programme.film:
            for words, quarters in (
                (tr("A quarter of a frame earlier"), 1), (tr("A quarter of a frame later"), -1),
                (tr("A frame earlier"), 4), (tr("A frame later"), -4),
            ):  # fmt: skip
                menu.addAction(words).triggered.connect(lambda _on=False, q=quarters: film.shift(q))
            menu.addAction(tr("Remove the video")).triggered.connect(film.remove)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def ask(self) -> None:
        """Choose a video for the programme."""
        name, _ = QFileDialog.getOpenFileName(
            self, tr("Choose a video"), "", tr("Video ({kinds});;All files (*)", kinds=VIDEO_FILES)
        )
        if name:
            self.session.film.choose(Path(name))


class _Picture(QWidget):
    """The picture as large as it fits, in its own shape."""

    accessible_role = "picture"

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._image: QImage | None = None

    def take(self) -> None:
        """Show what was decoded last."""
        still = self.session.film.still
        if still is None:
            self._image = None
        else:
            height, width, _ = still.pixels.shape
            self._image = QImage(still.pixels.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("panel"))
        if self._image is None:
            painter.setPen(colour("soft"))
            words = self.session.film.trouble or tr("No video here. A right click chooses one.")
            painter.drawText(
                self.rect().adjusted(8, 8, -8, -8), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words
            )
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        scale = min(self.width() / self._image.width(), self.height() / self._image.height())
        width, height = self._image.width() * scale, self._image.height() * scale
        painter.drawImage(QRectF((self.width() - width) / 2, (self.height() - height) / 2, width, height), self._image)


class FilmWindow(QWidget):
    """A window of its own for the pane; closing it gives the pane back."""

    def __init__(self, pane: FilmPane, parent: QWidget, home: QVBoxLayout) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self._pane, self._home = pane, home
        self.setWindowTitle(tr("Video"))
        self.resize(720, 460)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(pane)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._home.insertWidget(0, self._pane)
        self._pane.window().activateWindow()  # its keys act again at once
        super().closeEvent(event)
