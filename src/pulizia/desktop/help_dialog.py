# SPDX-License-Identifier: GPL-3.0-or-later
"""The manual in the window: the page of what one is looking at, and all others."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor, QTextLength, QTextTable
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.controls import button
from pulizia.report.manual import PLACES, place_page, tool_page
from pulizia.tools.registry import ALL
from pulizia.words import tr, translated


def page_text(name: str) -> str:
    """A page as Markdown."""
    return place_page(name) if name in PLACES else tool_page(name)


class HelpDialog(QDialog):
    """Pages at the left, the chosen one at the right."""

    def __init__(self, page: str, parent: QWidget, section: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Manual"))
        self.resize(860, 620)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        row = QHBoxLayout()
        self.list = QListWidget()
        self.list.setFixedWidth(250)
        self.list.setAccessibleName(tr("Pages"))
        titles = [*PLACES.items(), *((tool.id, tool.title) for tool in sorted(ALL, key=lambda t: t.title))]
        for name, title in titles:
            item = QListWidgetItem(translated(title))
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.list.addItem(item)
        self.text = QTextBrowser()
        self.text.setAccessibleName(tr("Page"))
        row.addWidget(self.list)
        row.addWidget(self.text, 1)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search the manual"))
        self.search.setAccessibleName(tr("Search the manual"))
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._find)
        column = QVBoxLayout(self)
        column.addWidget(self.search)
        column.addLayout(row, 1)
        foot = QHBoxLayout()
        foot.addWidget(button(tr("Previous page"), lambda: self._turn(-1), quiet=True))
        foot.addWidget(button(tr("Next page"), lambda: self._turn(1), quiet=True))
        foot.addStretch(1)
        foot.addWidget(button(tr("Close"), self.accept))
        column.addLayout(foot)
        self.list.currentItemChanged.connect(lambda item, _old: self._show(item))
        names = [name for name, _ in titles]
        self.list.setCurrentRow(names.index(page) if page in names else 0)
        if section:
            self._go_to(section)

    def _find(self, words: str) -> None:
        """Keep the pages that hold these words, and go to the first place of the first one."""
        wanted = words.strip().lower()
        for n in range(self.list.count()):
            item = self.list.item(n)
            text = f"{item.text()}\n{page_text(str(item.data(Qt.ItemDataRole.UserRole)))}"
            item.setHidden(wanted not in text.lower())
        if self.list.currentRow() < 0 or self.list.currentItem().isHidden():
            self._turn(1, first=True)
        if wanted:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
            self.text.find(words.strip())

    def _turn(self, step: int, *, first: bool = False) -> None:
        """Go to the next or previous page that is listed."""
        shown = [n for n in range(self.list.count()) if not self.list.item(n).isHidden()]
        if not shown:
            return
        here = self.list.currentRow()
        at = 0 if first or here not in shown else min(max(shown.index(here) + step, 0), len(shown) - 1)
        self.list.setCurrentRow(shown[at])

    def _go_to(self, section: str) -> None:
        """Bring the heading of a section to the top."""
        block = self.text.document().begin()
        while block.isValid():
            if block.blockFormat().headingLevel() == 2 and block.text() == section:
                cursor = QTextCursor(block)
                self.text.moveCursor(
                    QTextCursor.MoveOperation.End
                )  # then the heading comes to the top, not to the bottom
                self.text.setTextCursor(cursor)
                self.text.ensureCursorVisible()
                return
            block = block.next()

    def _show(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            name = str(item.data(Qt.ItemDataRole.UserRole))
            self.text.setMarkdown(page_text(name))
            self._space()

    def _space(self) -> None:
        """Room around the text, and between its paragraphs."""
        document = self.text.document()
        document.setDocumentMargin(18.0)
        for frame in document.rootFrame().childFrames():
            if isinstance(frame, QTextTable):  # no lines around cells: the page looks like the rest of the window
                look = frame.format().toTableFormat()
                look.setBorder(0.0)
                look.setCellPadding(5.0)
                look.setCellSpacing(0.0)
                look.setWidth(QTextLength(QTextLength.Type.PercentageLength, 98.0))
                frame.setFormat(look)
        cursor = QTextCursor(document)
        block = document.begin()
        while block.isValid():
            cursor.setPosition(block.position())
            spaced = block.blockFormat()
            if cursor.currentTable() is None:
                spaced.setBottomMargin(9.0)
            cursor.setBlockFormat(spaced)
            block = block.next()
