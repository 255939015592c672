"""The manual in the window: the page of what one is looking at, and all others."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.controls import button
from pulizia.desktop.words import translated
from pulizia.report.manual import PLACES, place_page, tool_page
from pulizia.tools.registry import ALL


class HelpDialog(QDialog):
    """Pages at the left, the chosen one at the right."""

    def __init__(self, page: str, parent: QWidget, section: str = "") -> None:
        super().__init__(parent)
        self.setWindowTitle(translated("Manual"))
        self.resize(860, 620)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        row = QHBoxLayout()
        self.list = QListWidget()
        self.list.setFixedWidth(250)
        self.list.setAccessibleName(translated("Pages"))
        titles = [*PLACES.items(), *((tool.id, tool.title) for tool in sorted(ALL, key=lambda t: t.title))]
        for name, title in titles:
            item = QListWidgetItem(translated(title))
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.list.addItem(item)
        self.text = QTextBrowser()
        self.text.setAccessibleName(translated("Page"))
        row.addWidget(self.list)
        row.addWidget(self.text, 1)
        column = QVBoxLayout(self)
        column.addLayout(row, 1)
        column.addWidget(button("Close", self.accept), alignment=Qt.AlignmentFlag.AlignRight)
        self.list.currentItemChanged.connect(lambda item, _old: self._show(item))
        names = [name for name, _ in titles]
        self.list.setCurrentRow(names.index(page) if page in names else 0)
        if section:
            self._go_to(section)

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
            self.text.setMarkdown(place_page(name) if name in PLACES else tool_page(name))
            self._space()

    def _space(self) -> None:
        """Room around the text, and between its paragraphs."""
        document = self.text.document()
        document.setDocumentMargin(18.0)
        cursor = QTextCursor(document)
        block = document.begin()
        while block.isValid():
            cursor.setPosition(block.position())
            spaced = block.blockFormat()
            if cursor.currentTable() is None:
                spaced.setBottomMargin(9.0)
            cursor.setBlockFormat(spaced)
            block = block.next()
